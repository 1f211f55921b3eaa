//! What the kernel's log says of a card.

use std::fs::OpenOptions;
use std::io::Read;
use std::os::unix::fs::OpenOptionsExt;

use nix::time::{ClockId, clock_gettime};

use super::tree::brief_line;

/// Where the kernel's log is read; root may.
const LOG: &str = "/dev/kmsg";
/// Most records that are read: the whole of a large log.
const MOST_RECORDS: usize = 50_000;
/// Longest record, bytes.
const LONGEST: usize = 8 << 10;
/// Lines that are told.
const MOST_LINES: usize = 8;

/// The newest lines of the last so many seconds that name a card by its address on the bus, oldest first; none where the
/// log may not be read.
pub(crate) fn kernel_log(address: &str, seconds: f64) -> Vec<String> {
    let opened = OpenOptions::new().read(true).custom_flags(nix::libc::O_NONBLOCK).open(LOG);
    let Ok(mut log) = opened else { return Vec::new() };
    let mut records = Vec::new();
    let mut record = vec![0; LONGEST];
    for _ in 0..MOST_RECORDS {
        // Each read is one record; at the end it would wait. One that was overwritten meanwhile is skipped.
        match log.read(&mut record) {
            Ok(0) => break,
            Ok(length) => records.push(String::from_utf8_lossy(&record[..length]).into_owned()),
            Err(error) if error.raw_os_error() == Some(nix::libc::EPIPE) => {}
            Err(_) => break,
        }
    }
    let now = clock_gettime(ClockId::CLOCK_MONOTONIC);
    let now = now.map_or(0.0, |now| now.tv_sec() as f64);
    lines_of(&records, address, now - seconds)
}

/// The newest of the records from a time on, seconds since the machine was started, that name an address.
fn lines_of(records: &[String], address: &str, since: f64) -> Vec<String> {
    // A record is "priority,number,microseconds,...;text", and lines of details follow.
    let texts = records.iter().filter_map(|record| {
        let (head, text) = record.split_once(';')?;
        let at: f64 = head.split(',').nth(2)?.parse().ok()?;
        text.lines().next().filter(|_| at / 1e6 >= since)
    });
    let mut found: Vec<String> =
        texts.filter(|text| text.contains(address)).map(brief_line).collect();
    found.drain(..found.len().saturating_sub(MOST_LINES));
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_newest_lines_that_name_the_card_are_told() {
        let record = |number: usize, text: &str| {
            format!("6,{number},{number}000000,-;{text}\n SUBSYSTEM=pci\n")
        };
        let mut records: Vec<String> = (0..20)
            .map(|number| record(number, &format!("moor 0000:03:00.0: step {number}")))
            .collect();
        records.push(record(20, "moor 0000:04:00.0: another card"));
        records.push("6,21".into());
        records.push(record(22, "moor 0000:03:00.0: \u{1b}[31mGPU reset"));
        assert_eq!(lines_of(&records, "0000:03:00.0", 19.0).len(), 2, "of the last seconds");
        let lines = lines_of(&records, "0000:03:00.0", 0.0);
        assert_eq!(lines.len(), MOST_LINES);
        assert_eq!(lines[0], "moor 0000:03:00.0: step 13");
        assert_eq!(lines[7], "moor 0000:03:00.0: [31mGPU reset");
    }
}
