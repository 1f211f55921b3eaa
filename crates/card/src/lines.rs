//! Messages of one line each, bounded in their length.

use std::io::{self, BufRead, Read};

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

#[cfg(test)]
mod tests {
    use std::io::BufReader;

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
