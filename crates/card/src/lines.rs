//! Messages of one line each, bounded in their length, and what the two ends of a socket share besides.

use std::io::{self, BufRead, BufReader, ErrorKind, Read, Write};
use std::os::fd::AsFd;
use std::os::unix::net::{UnixListener, UnixStream};
use std::time::Duration;

use nix::poll::{PollFd, PollFlags, PollTimeout, poll};
use serde::Serialize;
use serde::de::DeserializeOwned;

/// Reads on until a line is whole, and no further than `most` bytes; whether it is whole. What has
/// come so far stays in `line` where reading is interrupted.
///
/// # Errors
/// The stream fails, ends in the middle of a line, or the line is too long.
pub(crate) fn read_line(
    reader: &mut impl BufRead,
    line: &mut Vec<u8>,
    most: usize,
) -> io::Result<bool> {
    let room = most.saturating_sub(line.len()) as u64;
    // Goes on after a signal: on a socket with a time limit the system does not.
    reader.by_ref().take(room).read_until(b'\n', line)?;
    if line.ends_with(b"\n") {
        return Ok(true);
    }
    if line.len() >= most {
        let text = format!("a message is longer than {most} bytes");
        return Err(io::Error::new(io::ErrorKind::InvalidData, text));
    }
    match line.is_empty() {
        true => Ok(false),
        false => Err(io::ErrorKind::UnexpectedEof.into()),
    }
}

/// Sends a message as a line of JSON.
pub(crate) fn send(stream: &mut UnixStream, message: &impl Serialize) -> io::Result<()> {
    let mut text = serde_json::to_vec(message)?;
    text.push(b'\n');
    stream.write_all(&text)
}

/// Sends a request and waits for its answer, no longer than `wait` and no more than `most` bytes of it.
pub(crate) fn exchange<T: DeserializeOwned>(
    line: &mut BufReader<UnixStream>,
    request: &impl Serialize,
    (wait, most): (Duration, usize),
) -> io::Result<T> {
    line.get_ref().set_read_timeout(Some(wait))?;
    match send(line.get_mut(), request) {
        // Whoever has turned us away at the door has said why before, and did not wait for the request.
        Err(error) if error.kind() == ErrorKind::BrokenPipe => {}
        sent => sent?,
    }
    let mut answer = Vec::new();
    if !read_line(line, &mut answer, most)? {
        return Err(io::Error::new(ErrorKind::UnexpectedEof, "the connection was closed"));
    }
    Ok(serde_json::from_slice(&answer)?)
}

/// Whether an answer did not come in time.
pub(crate) fn is_late(error: &io::Error) -> bool {
    matches!(error.kind(), ErrorKind::WouldBlock | ErrorKind::TimedOut)
}

/// Whether reading was interrupted and can go on.
pub(crate) fn is_a_pause(error: &io::Error) -> bool {
    is_late(error) || error.kind() == ErrorKind::Interrupted
}

/// Waits until somebody comes, but no longer than `most`.
pub(crate) fn wait_for_visitor(listener: &UnixListener, most: Duration) {
    let mut watched = [PollFd::new(listener.as_fd(), PollFlags::POLLIN)];
    let most = PollTimeout::try_from(most).unwrap_or(PollTimeout::ZERO);
    // Where it cannot be waited for, it is looked for at once.
    let _ = poll(&mut watched, most);
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A stream that a signal interrupts before every byte.
    struct Interrupted<'a> {
        bytes: &'a [u8],
        is_next: bool,
    }

    impl Read for Interrupted<'_> {
        fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
            self.is_next = !self.is_next;
            if self.is_next {
                return Err(io::ErrorKind::Interrupted.into());
            }
            self.bytes.read(&mut buffer[..1])
        }
    }

    #[test]
    fn who_is_turned_away_before_the_request_reads_why() {
        let (ours, mut theirs) = UnixStream::pair().unwrap();
        send(&mut theirs, &"not you").unwrap();
        drop(theirs);
        let mut line = BufReader::new(ours);
        let long = (Duration::from_secs(60), 64);
        assert_eq!(exchange::<String>(&mut line, &"let me in", long).unwrap(), "not you");
        let again = exchange::<String>(&mut line, &"please", long).unwrap_err();
        assert_eq!(again.kind(), ErrorKind::UnexpectedEof, "and nothing after it");
    }

    #[test]
    fn a_signal_does_not_end_a_message() {
        let stream = Interrupted { bytes: b"one\ntwo", is_next: false };
        let mut reader = BufReader::new(stream);
        let mut line = Vec::new();
        assert!(read_line(&mut reader, &mut line, 10).unwrap());
        assert_eq!(line, b"one\n");
        line.clear();
        let broken_off = read_line(&mut reader, &mut line, 10).unwrap_err();
        assert_eq!(broken_off.kind(), io::ErrorKind::UnexpectedEof);
    }
}
