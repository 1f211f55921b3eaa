//! Samples as blobs: column by column, so that one channel can be read without the others.
//!
//! Layout, little-endian: number of samples (u32), number of columns (u32), then for each column
//! its samples as f32. The first column is the time in seconds, then come [`Channel::ALL`] in
//! order. A gap is NaN. Columns that a later version appends are passed over.

use yard_step_core::{Channel, Columns, Sample};

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
    let columns = unpack_columns(bytes)?;
    Ok((0..columns.len()).map(|row| columns.sample(row)).collect())
}

/// Reads a blob back column by column.
pub(crate) fn unpack_columns(bytes: &[u8]) -> Result<Columns, String> {
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
    let mut values = body.chunks_exact(4).map(|four| match four {
        [a, b, c, d] => f32::from_le_bytes([*a, *b, *c, *d]),
        _ => f32::NAN,
    });
    let mut column = || values.by_ref().take(count).collect::<Vec<f32>>();
    let at = column();
    let known = (1..columns).map(|_| column()).take(Channel::ALL.len()).collect();
    Ok(Columns::new(at, known))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use yard_step_core::{Mhz, Seconds};

    #[test]
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
