//! Samples as blobs: column by column, so that one channel can be read without the others.
//!
//! Layout, little-endian: number of samples (u32), number of columns (u32), then for each column
//! its samples as f32. The first column is the time in seconds, then come [`Channel::ALL`] in
//! order. A gap is NaN. Columns that a later version appends are passed over.

use yard_step_core::{Channel, Sample, Seconds};

/// Most samples in one blob: a minute at ten a second.
pub(crate) const MOST_SAMPLES: usize = 600;

pub(crate) fn pack(samples: &[Sample]) -> Vec<u8> {
    let columns = 1 + Channel::ALL.len();
    let mut bytes = Vec::with_capacity(8 + samples.len() * columns * 4);
    bytes.extend((samples.len() as u32).to_le_bytes());
    bytes.extend((columns as u32).to_le_bytes());
    bytes.extend(samples.iter().flat_map(|s| (s.at.value() as f32).to_le_bytes()));
    for channel in Channel::ALL {
        bytes.extend(
            samples
                .iter()
                .flat_map(|s| s.get(channel).map_or(f32::NAN, |v| v as f32).to_le_bytes()),
        );
    }
    bytes
}

/// Reads a blob back; says what is wrong with one that is cut or garbled.
pub(crate) fn unpack(bytes: &[u8]) -> Result<Vec<Sample>, String> {
    let (head, body) = bytes.split_first_chunk::<8>().ok_or("a block of samples is cut short")?;
    let word = |at: usize| u32::from_le_bytes([head[at], head[at + 1], head[at + 2], head[at + 3]]);
    let (count, columns) = (word(0) as usize, word(4) as usize);
    let expected = count.checked_mul(columns).and_then(|values| values.checked_mul(4));
    if columns == 0 || expected != Some(body.len()) {
        return Err(format!(
            "a block says {count} samples in {columns} columns but has {} bytes",
            body.len()
        ));
    }
    let value = |column: usize, row: usize| {
        let at = (column * count + row) * 4;
        let four = body.get(at..at + 4).and_then(|slice| slice.try_into().ok());
        four.map(f32::from_le_bytes).filter(|value| !value.is_nan()).map(f64::from)
    };
    Ok((0..count)
        .map(|row| {
            let mut sample =
                Sample { at: Seconds(value(0, row).unwrap_or(0.0)), ..Sample::default() };
            for (index, channel) in Channel::ALL.into_iter().enumerate().take(columns - 1) {
                sample.set(channel, value(index + 1, row));
            }
            sample
        })
        .collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use yard_step_core::Mhz;

    #[rstest]
    fn samples_come_back_with_their_gaps() {
        let samples: Vec<Sample> = (0..7)
            .map(|i| Sample {
                at: Seconds(f64::from(i)),
                core_clock: (i != 3).then_some(Mhz(2_000.0 + f64::from(i))),
                frame_rate: Some(20.0),
                ..Sample::default()
            })
            .collect();
        assert_eq!(unpack(&pack(&samples)).unwrap(), samples);
    }

    #[rstest]
    #[case(vec![])]
    #[case(vec![1, 2, 3])]
    #[case(vec![0; 8])]
    #[case([1, 0, 0, 0, 12, 0, 0, 0, 9].to_vec())]
    #[case(vec![255; 64])]
    fn a_garbled_block_is_an_error_and_no_panic(#[case] bytes: Vec<u8>) {
        assert!(unpack(&bytes).is_err());
    }
}
