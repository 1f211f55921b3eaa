//! The metrics blob (`gpu_metrics`): a snapshot of all sensors in a layout that its header names by two revisions. The
//! layouts are those of the kernel's public header (`kgd_pp_interface.h`); all numbers in them are little-endian.

use thiserror::Error;
use yard_step_core::{Channel, Limiter, Sample};

/// Bytes of the header: the size of all (two), format and content revision.
const HEADER: usize = 4;
/// Largest blob that is read, bytes.
pub(super) const LARGEST: u64 = 8 << 10;
/// What stands for "not measured", whatever the width.
const NONE_16: u16 = u16::MAX;

/// Why a blob tells nothing.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
pub enum MetricsError {
    /// It is shorter than it says, or than its layout.
    #[error("the metrics have {found} bytes, and {wanted} are needed")]
    TooShort {
        /// Bytes that are there.
        found: usize,
        /// Bytes that are needed.
        wanted: usize,
    },
    /// Its layout is not known.
    #[error("metrics of format {format}.{content} are not known")]
    Unknown {
        /// Format revision.
        format: u8,
        /// Content revision.
        content: u8,
    },
}

/// What a blob tells; none where it was not measured.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Metrics {
    /// Temperature at the edge of the chip, °C.
    pub edge: Option<f64>,
    /// Hot spot, °C.
    pub hot_spot: Option<f64>,
    /// Memory, °C.
    pub memory: Option<f64>,
    /// Voltage regulator of the chip, °C.
    pub regulator: Option<f64>,
    /// Busy share of the chip, percent.
    pub busy: Option<f64>,
    /// Power, W.
    pub power: Option<f64>,
    /// Average core clock, MHz.
    pub average_clock: Option<f64>,
    /// What throttles, a bit a reason; none where the blob has no reasons that mean the same on every chip.
    pub throttle: Option<u64>,
}

/// Places of the values of a layout, from the blob's beginning.
struct Layout {
    edge: usize,
    busy: usize,
    power: usize,
    average_clock: usize,
    throttle: Option<usize>,
    size: usize,
}

impl Layout {
    /// The layout of cards by its content revision.
    fn of(content: u8) -> Option<Self> {
        // Six temperatures, three activities and the power come one after the other; in the first
        // layout a time stands before them, and in the later ones a wider energy and a time behind.
        let (edge, average_clock, throttle, size) = match content {
            0 => (16, 40, None, 80),
            1 => (4, 40, None, 96),
            2 => (4, 40, None, 104),
            3 => (4, 40, Some(112), 120),
            _ => return None,
        };
        Some(Self { edge, busy: edge + 12, power: edge + 18, average_clock, throttle, size })
    }
}

impl Metrics {
    /// Reads a blob, no further than its header says.
    ///
    /// # Errors
    /// It is too short, or of a layout that is not known.
    pub fn parse(bytes: &[u8]) -> Result<Self, MetricsError> {
        let short = |wanted| MetricsError::TooShort { found: bytes.len(), wanted };
        let header = bytes.first_chunk::<HEADER>().ok_or(short(HEADER))?;
        let [low, high, format, content] = *header;
        let stated = usize::from(u16::from_le_bytes([low, high]));
        let layout = (format == 1).then(|| Layout::of(content)).flatten();
        let layout = layout.ok_or(MetricsError::Unknown { format, content })?;
        if stated < layout.size {
            return Err(MetricsError::TooShort { found: stated, wanted: layout.size });
        }
        let bytes = bytes.get(..stated).ok_or(short(stated))?;
        let value = |at: usize| {
            let pair: [u8; 2] = bytes.get(at..at + 2)?.try_into().ok()?;
            Some(u16::from_le_bytes(pair)).filter(|value| *value != NONE_16).map(f64::from)
        };
        let wide = |at: usize| {
            let all: [u8; 8] = bytes.get(at..at + 8)?.try_into().ok()?;
            Some(u64::from_le_bytes(all)).filter(|value| *value != u64::MAX)
        };
        Ok(Self {
            edge: value(layout.edge),
            hot_spot: value(layout.edge + 2),
            memory: value(layout.edge + 4),
            regulator: value(layout.edge + 6),
            busy: value(layout.busy),
            power: value(layout.power),
            average_clock: value(layout.average_clock),
            throttle: layout.throttle.and_then(wide),
        })
    }

    /// What it tells by channel.
    pub fn readings(&self) -> [(Channel, Option<f64>); 7] {
        [
            (Channel::EffectiveClock, self.average_clock),
            (Channel::RegulatorTemperature, self.regulator),
            (Channel::CoreTemperature, self.edge),
            (Channel::HotSpot, self.hot_spot),
            (Channel::MemoryTemperature, self.memory),
            (Channel::BoardPower, self.power),
            (Channel::Load, self.busy),
        ]
    }

    /// Adds what a sample does not tell yet.
    pub fn fill(&self, sample: &mut Sample) {
        for (channel, value) in self.readings() {
            if sample.get(channel).is_none() {
                sample.set(channel, value);
            }
        }
    }

    /// What limits the clock, as the card tells it; none where it does not tell, or nothing throttles.
    #[must_use]
    pub fn limiter(&self) -> Option<Limiter> {
        let throttle = self.throttle?;
        // Power, current and temperature have a range of bits each.
        let within =
            |bits: std::ops::Range<u32>| bits.into_iter().any(|bit| throttle >> bit & 1 == 1);
        if within(32..48) {
            Some(Limiter::Heat)
        } else if within(16..24) {
            Some(Limiter::Current)
        } else if within(0..8) {
            Some(Limiter::Power)
        } else {
            None
        }
    }
}

#[cfg(test)]
pub(super) mod tests {
    use super::*;
    use rand::{RngExt, SeedableRng};
    use rand_chacha::ChaCha8Rng;
    use rstest::rstest;

    /// A blob of the newest layout of cards.
    pub(in crate::kernel) fn blob(content: u8, throttle: u64) -> Vec<u8> {
        let layout = Layout::of(content).unwrap();
        let mut bytes = vec![0xff; layout.size];
        bytes[..2].copy_from_slice(&(layout.size as u16).to_le_bytes());
        bytes[2..4].copy_from_slice(&[1, content]);
        let mut put =
            |at: usize, value: u16| bytes[at..at + 2].copy_from_slice(&value.to_le_bytes());
        for (index, degrees) in [61, 78, 70, 66].into_iter().enumerate() {
            put(layout.edge + 2 * index, degrees);
        }
        put(layout.busy, 99);
        put(layout.power, 187);
        put(layout.average_clock, 2_310);
        if let Some(at) = layout.throttle {
            bytes[at..at + 8].copy_from_slice(&throttle.to_le_bytes());
        }
        bytes
    }

    #[rstest]
    #[case(0)]
    #[case(1)]
    #[case(2)]
    #[case(3)]
    fn each_layout_is_read(#[case] content: u8) {
        let metrics = Metrics::parse(&blob(content, 0)).unwrap();
        let degrees = [metrics.edge, metrics.hot_spot, metrics.memory, metrics.regulator];
        assert_eq!(degrees, [61.0, 78.0, 70.0, 66.0].map(Some));
        assert_eq!((metrics.busy, metrics.power), (Some(99.0), Some(187.0)));
        assert_eq!(metrics.average_clock, Some(2_310.0));
        assert_eq!(metrics.throttle, (content == 3).then_some(0));
    }

    #[rstest]
    #[case(0, None)]
    #[case(1 << 2, Some(Limiter::Power))]
    #[case(1 << 17, Some(Limiter::Current))]
    #[case(1 << 36 | 1, Some(Limiter::Heat))]
    #[case(1 << 56, None)]
    #[case(u64::MAX, None)]
    fn what_throttles_is_told_by_its_bits(#[case] throttle: u64, #[case] limiter: Option<Limiter>) {
        assert_eq!(Metrics::parse(&blob(3, throttle)).unwrap().limiter(), limiter);
        assert_eq!(Metrics::parse(&blob(1, throttle)).unwrap().limiter(), None);
    }

    #[test]
    fn what_is_not_measured_is_none() {
        let mut bytes = blob(3, 0);
        bytes[4..6].copy_from_slice(&NONE_16.to_le_bytes());
        assert_eq!(Metrics::parse(&bytes).unwrap().edge, None);
    }

    #[rstest]
    #[case(&[], MetricsError::TooShort { found: 0, wanted: 4 })]
    #[case(&[4, 0, 1, 3], MetricsError::TooShort { found: 4, wanted: 120 })]
    #[case(&[120, 0, 1, 3, 0], MetricsError::TooShort { found: 5, wanted: 120 })]
    #[case(&[120, 0, 9, 3], MetricsError::Unknown { format: 9, content: 3 })]
    #[case(&[120, 0, 1, 7], MetricsError::Unknown { format: 1, content: 7 })]
    fn what_is_too_short_or_not_known_is_refused(#[case] bytes: &[u8], #[case] why: MetricsError) {
        assert_eq!(Metrics::parse(bytes), Err(why));
    }

    #[test]
    fn nothing_behind_the_stated_size_is_read() {
        let mut random = ChaCha8Rng::seed_from_u64(3);
        for content in 0..4 {
            let whole = blob(content, 5);
            let mut longer = whole.clone();
            longer.extend((0..200).map(|_| random.random::<u8>()));
            assert_eq!(Metrics::parse(&longer), Metrics::parse(&whole));
            for cut in 0..whole.len() {
                assert!(Metrics::parse(&whole[..cut]).is_err(), "{cut} of {}", whole.len());
            }
        }
        for _ in 0..4_000 {
            let bytes: Vec<u8> =
                (0..random.random_range(0..160)).map(|_| random.random()).collect();
            // Whatever it is: no panic.
            let _ = Metrics::parse(&bytes);
        }
    }
}
