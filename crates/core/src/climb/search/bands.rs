//! Bands of memory clock that gain nothing, because timings relax there.
//!
//! Such a band costs less than the scatter of a whole run's score. But a run slows down or speeds up
//! as a whole: what moves memory and what does not scatter alike. So the frame rate of a section that
//! hangs on the memory is held against one that does not, and the scatter cancels.
//!
//! ```text
//!   ln(rate of one section / rate of another)
//!        │            ╱
//!        │      ┌────╱   the same slope again: timings had relaxed in between
//!        │     ╱
//!        │    ╱
//!        └───┴──────────► memory clock
//! ```

use std::collections::BTreeMap;

use crate::climb::Climb;
use crate::load::artifact::Domain;
use crate::measure::monitor::SectionSeen;
use crate::statistics::{mean, median};
use crate::units::MhzOffset;

/// Different values of a clock below which nothing is said.
const LEAST_VALUES: usize = 4;
/// Scatter of a section's frame rate against the others' up to which it is of use, as a share.
const STEADY: f64 = 0.002;
/// Scatter of a ratio that is assumed at least, as a share.
const LEAST_SCATTER: f64 = 0.0008;
/// By how many times its scatter the ratio must rise in all, to be one of memory.
const LEAST_RISE: f64 = 12.0;
/// By how many times its scatter the gain must stay behind.
const SURE: f64 = 4.0;
/// Clock that must be missing, MHz.
const LEAST_LOSS: f64 = 6.0;
/// Share of a stretch that must be lost for all of it to bring nothing.
const NEARLY_ALL: f64 = 0.75;

/// A stretch of clock in which some of it brings nothing.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct TimingBand {
    /// The tried value below it.
    pub from: MhzOffset,
    /// The tried value above it, or inside.
    pub to: MhzOffset,
    /// Clock between the two that brings nothing, MHz.
    pub lost: MhzOffset,
}

impl TimingBand {
    /// Whether nothing of the clock between its ends brings anything.
    #[must_use]
    pub fn is_whole(self) -> bool {
        f64::from(self.lost.0) >= NEARLY_ALL * f64::from((self.to - self.from).0)
    }

    /// Whether a value lies in it.
    #[must_use]
    pub fn holds(self, value: MhzOffset) -> bool {
        self.from < value && value <= self.to
    }
}

impl Climb {
    /// The bands of memory clock in which timings relax, as far as the trials with the core at stock
    /// tell.
    #[must_use]
    pub fn timing_bands(&self) -> Vec<TimingBand> {
        let runs = self.runs_along(Domain::Memory).into_iter();
        find_bands(runs.map(|(value, run)| (value, run.seen.sections.as_slice())))
    }

    /// A value of the memory that brings as much as `value` with less clock: the beginning of the
    /// band that it lies in, where all of that brings nothing.
    pub(in crate::climb) fn out_of_band(&self, value: MhzOffset) -> MhzOffset {
        let bands = self.timing_bands();
        // Two bands may touch.
        let step = |value: MhzOffset, band: &TimingBand| {
            if band.is_whole() && band.holds(value) { band.from } else { value }
        };
        bands.iter().rev().fold(value, step)
    }
}

/// Logarithms of the frame rates of a run, by section.
type Rates = BTreeMap<usize, f64>;

/// Finds bands in the frame rates by section of runs at different values.
fn find_bands<'a>(runs: impl Iterator<Item = (MhzOffset, &'a [SectionSeen])>) -> Vec<TimingBand> {
    let mut by_value: BTreeMap<MhzOffset, Vec<Rates>> = BTreeMap::new();
    for (value, sections) in runs {
        let rates = sections.iter().filter(|section| section.frame_rate > 0.0);
        let rates: Rates =
            rates.map(|section| (section.section, section.frame_rate.ln())).collect();
        if rates.len() > 1 {
            by_value.entry(value).or_default().push(rates);
        }
    }
    if by_value.len() < LEAST_VALUES {
        return Vec::new();
    }
    let groups: Vec<(MhzOffset, Vec<Rates>)> = by_value.into_iter().collect();
    let steady = steady_sections(&groups);
    // Which section hangs on the memory, nobody says: the one that rises most with its clock.
    let best = steady
        .iter()
        .filter_map(|one| {
            let others: Vec<usize> = steady.iter().copied().filter(|s| s != one).collect();
            Ratio::of(&groups, *one, &others)
        })
        .max_by(|a, b| a.rise().total_cmp(&b.rise()));
    best.filter(|ratio| ratio.rise() > LEAST_RISE).map_or(Vec::new(), |ratio| ratio.bands())
}

/// Sections whose frame rate, in runs at the same value, goes up and down with that of the others. A
/// section that leaves the card idle now and then has its own chance in it.
fn steady_sections(groups: &[(MhzOffset, Vec<Rates>)]) -> Vec<usize> {
    let mut runs = groups.iter().flat_map(|(_, runs)| runs);
    let Some(first) = runs.next() else { return Vec::new() };
    let everywhere =
        |section: &usize| groups.iter().flat_map(|(_, runs)| runs).all(|r| r.contains_key(section));
    let sections: Vec<usize> = first.keys().copied().filter(everywhere).collect();
    let apart = |rates: &Rates, section: usize| {
        let all: Vec<f64> = sections.iter().filter_map(|s| rates.get(s).copied()).collect();
        Some(rates.get(&section)? - median(&all)?)
    };
    let is_steady = |section: &usize| {
        let ratios = groups
            .iter()
            .map(|(_, runs)| runs.iter().filter_map(|rates| apart(rates, *section)).collect());
        scatter_within(&ratios.collect::<Vec<Vec<f64>>>()) < STEADY
    };
    sections.iter().copied().filter(is_steady).collect()
}

/// Standard deviation of single values about the mean of their group, pooled over all groups; zero
/// where no group has two.
fn scatter_within(groups: &[Vec<f64>]) -> f64 {
    let (mut squares, mut degrees) = (0.0, 0.0);
    for group in groups {
        let middle = mean(group).unwrap_or_default();
        squares += group.iter().map(|value| (value - middle).powi(2)).sum::<f64>();
        degrees += group.len().saturating_sub(1) as f64;
    }
    if degrees > 0.0 { (squares / degrees).sqrt() } else { 0.0 }
}

/// How the frame rate of a section, held against that of others, goes with the clock.
struct Ratio {
    /// Values, rising, each with the mean logarithm of the ratio.
    points: Vec<(MhzOffset, f64)>,
    /// Standard deviation of a single run's.
    scatter: f64,
}

impl Ratio {
    fn of(groups: &[(MhzOffset, Vec<Rates>)], one: usize, others: &[usize]) -> Option<Self> {
        let ratio = |rates: &Rates| {
            let others: Option<Vec<f64>> = others.iter().map(|o| rates.get(o).copied()).collect();
            Some(rates.get(&one)? - mean(&others?)?)
        };
        let (mut points, mut all) = (Vec::new(), Vec::new());
        for (value, runs) in groups {
            let ratios: Vec<f64> = runs.iter().map(ratio).collect::<Option<_>>()?;
            points.push((*value, mean(&ratios)?));
            all.push(ratios);
        }
        Some(Self { points, scatter: scatter_within(&all).max(LEAST_SCATTER) })
    }

    /// By how many times its scatter it rises from the lowest to the highest point.
    fn rise(&self) -> f64 {
        let lowest = self.points.first().map_or(0.0, |(_, lowest)| *lowest);
        let highest = self.points.iter().map(|(_, ratio)| *ratio).fold(lowest, f64::max);
        (highest - lowest) / self.scatter
    }

    fn bands(&self) -> Vec<TimingBand> {
        let stretches: Vec<Stretch> = self
            .points
            .windows(2)
            .filter_map(|pair| match pair {
                [(from, before), (to, after)] => {
                    Some(Stretch { from: *from, to: *to, gained: after - before })
                }
                _ => None,
            })
            .collect();
        let steepest = |stretches: &[Stretch]| {
            stretches.iter().map(Stretch::slope).fold(f64::NEG_INFINITY, f64::max)
        };
        let mut bands: Vec<TimingBand> = Vec::new();
        // Of the first stretch it cannot be told what it should bring.
        for (index, stretch) in stretches.iter().enumerate().skip(1) {
            // Errors that are corrected take ever more: only what comes back was no such thing.
            let after = steepest(stretches.get(index + 1..).unwrap_or_default());
            let before = steepest(stretches.get(..index).unwrap_or_default());
            let usual = before.min(after);
            let missing = usual * stretch.length() - stretch.gained;
            if usual <= 0.0 || missing < SURE * self.scatter {
                continue;
            }
            let lost = (missing / usual).min(stretch.length());
            if lost < LEAST_LOSS {
                continue;
            }
            let lost = MhzOffset(lost.round() as i32);
            match bands.last_mut().filter(|last| last.to == stretch.from) {
                Some(last) => (last.to, last.lost) = (stretch.to, last.lost + lost),
                None => bands.push(TimingBand { from: stretch.from, to: stretch.to, lost }),
            }
        }
        bands
    }
}

/// From one value that was tried to the next.
struct Stretch {
    from: MhzOffset,
    to: MhzOffset,
    gained: f64,
}

impl Stretch {
    /// MHz.
    fn length(&self) -> f64 {
        f64::from((self.to - self.from).0)
    }

    fn slope(&self) -> f64 {
        self.gained / self.length()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    /// Frame rates of two sections, of which the first hangs on the memory, at an effective clock;
    /// `whole` is by how much the run as a whole was faster.
    fn rates(effective: f64, whole: f64) -> Vec<SectionSeen> {
        let section = |section, frame_rate| SectionSeen {
            section,
            frame_rate,
            frame_rate_low: 1.0,
            band: None,
        };
        vec![
            section(0, 30.0 * (1.0 + 0.9 * effective / 1_750.0) * whole),
            section(1, 20.0 * whole),
            section(2, 10.0 * (1.0 + 0.1 * effective / 1_750.0) * whole),
        ]
    }

    /// Bands in runs at these values, where the clock from 60 to 80 MHz brings nothing and beyond
    /// `errors` transfers are sent again.
    fn found(values: &[i32], errors: f64) -> Vec<TimingBand> {
        let runs: Vec<(MhzOffset, Vec<SectionSeen>)> = values
            .iter()
            .enumerate()
            .map(|(index, value)| {
                let clock = f64::from(*value);
                let relaxed = (clock - 60.0).clamp(0.0, 20.0);
                let resent = 2.0 * (clock - errors).max(0.0);
                // Runs scatter by half a percent, as a whole.
                let whole = 1.0 + 0.005 * f64::from([0, 1, -1, 1, 0, -1][index % 6]);
                (MhzOffset(*value), rates(clock - relaxed - resent, whole))
            })
            .collect();
        find_bands(runs.iter().map(|(value, sections)| (*value, sections.as_slice())))
    }

    fn band(from: i32, to: i32, lost: i32) -> TimingBand {
        TimingBand { from: MhzOffset(from), to: MhzOffset(to), lost: MhzOffset(lost) }
    }

    #[rstest]
    #[case::on_its_ends(&[0, 0, 40, 60, 80, 100, 120], &[band(60, 80, 20)])]
    #[case::from_afar(&[0, 50, 100, 150], &[band(50, 100, 20)])]
    #[case::in_two_pieces(&[0, 60, 70, 80, 120], &[band(60, 80, 20)])]
    #[case::begun_before(&[0, 30, 70, 90, 110], &[band(30, 90, 20)])]
    #[case::below_it(&[0, 20, 40, 60], &[])]
    #[case::above_it(&[80, 100, 120, 140], &[])]
    #[case::too_few(&[0, 60, 80], &[])]
    #[case::none_at_all(&[], &[])]
    fn a_band_is_found_between_the_values_that_were_tried(
        #[case] values: &[i32],
        #[case] bands: &[TimingBand],
    ) {
        let seen = found(values, 1_000.0);
        assert_eq!(seen.len(), bands.len(), "{seen:?}");
        for (seen, band) in seen.iter().zip(bands) {
            assert_eq!((seen.from, seen.to), (band.from, band.to));
            assert!((seen.lost.0 - band.lost.0).abs() <= 2, "{seen:?}");
        }
    }

    #[test]
    fn where_the_gain_never_comes_back_errors_are_corrected_and_there_is_no_band() {
        assert_eq!(found(&[0, 20, 40, 50, 55], 30.0), []);
        assert_eq!(found(&[80, 100, 120, 140, 160], 110.0), []);
    }

    #[rstest]
    #[case::all_of_it(band(60, 80, 20), true)]
    #[case::nearly(band(60, 80, 15), true)]
    #[case::a_part(band(60, 120, 20), false)]
    fn only_a_band_that_is_lost_as_a_whole_is_stepped_out_of(
        #[case] band: TimingBand,
        #[case] whole: bool,
    ) {
        assert_eq!(band.is_whole(), whole);
        assert!(!band.holds(band.from) && band.holds(band.to));
    }

    #[test]
    fn sections_that_hang_on_the_memory_alike_tell_nothing() {
        let runs: Vec<(MhzOffset, Vec<SectionSeen>)> = (0..6)
            .map(|step| {
                let faster = 1.0 + 0.01 * f64::from(step);
                let section = |section| SectionSeen {
                    section,
                    frame_rate: 30.0 * faster,
                    frame_rate_low: 1.0,
                    band: None,
                };
                (MhzOffset(20 * step), vec![section(0), section(1)])
            })
            .collect();
        assert_eq!(find_bands(runs.iter().map(|(value, s)| (*value, s.as_slice()))), []);
    }
}
