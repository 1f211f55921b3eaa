#!/bin/sh
# A load in shell that speaks the load protocol: it computes one checksum again and again. A frame
# whose checksum is not what it should be counts as wrong. See docs/load-protocol.md.
say() { printf '%s\n' "$1"; }

say '{"type":"hello","protocol":1,"name":"tide"}'
expected=$(seq 1 2000 | cksum)

# The word to stop, or the end of the input: both end this load. (A shell gives what it runs in the
# background no input of its own, so it is handed over by number.)
exec 3<&0
{ read -r _ <&3; kill -TERM $$; } &
listener=$!
trap 'say "{\"type\":\"bye\",\"reason\":\"stopped\"}"; kill $listener 2>/dev/null; exit 0' TERM

number=0
while :; do
  if [ "$(seq 1 2000 | cksum)" = "$expected" ]; then wrong=0; else wrong=1; fi
  say "{\"type\":\"frame\",\"number\":$number,\"wrong_pixels\":$wrong}"
  number=$((number + 1))
  # A score after every fifty frames; frames are signs of life, so no heartbeat is needed.
  if [ $((number % 50)) -eq 0 ]; then
    say "{\"type\":\"score\",\"score\":$number,\"seconds\":1,\"frames\":50,\"average_fps\":50,\"low_fps\":50,\"sections\":[]}"
  fi
done
