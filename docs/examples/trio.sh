#!/bin/sh
# A benchmark of three short scenes, each with a score of its own, that tells them in plain lines:
# "kiln: 61.20 fps". It ends by itself. See docs/load-protocol.md.
program=${YARD_STEP:-yard-step}

for scene in kiln sluice lantern; do
  # The frames of the scene come as JSON, a line each; its score is the rate of frames 10 to 40.
  "$program" load --scene "$scene" --slot "$YARD_STEP_SLOT" | awk -v name="$scene" '
    function field(key) {
      if (!match($0, "\"" key "\":[0-9.]+")) return 0
      return substr($0, RSTART + length(key) + 3, RLENGTH - length(key) - 3)
    }
    !/"type":"frame"/ { next }
    field("wrong_pixels") > 0 { print name ": mismatch"; told = 1; exit }
    field("number") == 10 { from = field("at_s") }
    field("number") == 40 { printf "%s: %.2f fps\n", name, 30 / (field("at_s") - from); told = 1; exit }
    END { exit !told }' || exit 1
done
