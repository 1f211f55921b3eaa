//! All samples of a run, however long, with the lowest and highest of any stretch at hand.
//!
//! ```text
//!   chunk     chunk     chunk     tail
//!  ├─────────┼─────────┼─────────┼───╴        600 samples each, never changed once full
//!      ▲ lowest, highest, mean of each channel and the shares of each limiter, for the whole of it
//!        and for each part of 30 samples
//! ```
//!
//! Full chunks are shared, so that a clone of a day's trace costs about a thousand counters, and a
//! clone taken while the trace grows stays as it is.

use std::sync::Arc;

use crate::card::description::Channel;
use crate::measure::limiter::{Limiter, LimiterShares};
use crate::measure::sample::Sample;
use crate::measure::strip::{Bucket, Merge};
use crate::units::Seconds;

/// Samples in a chunk: a minute at ten a second.
pub const CHUNK_SAMPLES: usize = 600;
/// Samples in a part of a full chunk.
const PART_SAMPLES: usize = 30;
/// A step of this many usual ones is a gap.
const GAP_STEPS: f64 = 3.5;

const CHANNELS: usize = Channel::ALL.len();

/// Samples column by column, as they are stored; a gap is NaN.
#[derive(Debug, Clone, PartialEq)]
pub struct Columns {
    at: Vec<f32>,
    values: [Vec<f32>; CHANNELS],
}

impl Columns {
    fn empty() -> Self {
        Self { at: Vec::new(), values: std::array::from_fn(|_| Vec::new()) }
    }

    /// Times in seconds, and the readings of [`Channel::ALL`] in order. Columns that are missing
    /// or short are filled with gaps, surplus ones left out.
    #[must_use]
    pub fn new(at: Vec<f32>, columns: Vec<Vec<f32>>) -> Self {
        let mut columns = columns.into_iter();
        let values = std::array::from_fn(|_| {
            let mut column = columns.next().unwrap_or_default();
            column.resize(at.len(), f32::NAN);
            column
        });
        Self { at, values }
    }

    /// Number of samples.
    #[must_use]
    pub fn len(&self) -> usize {
        self.at.len()
    }

    /// Whether there is none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.at.is_empty()
    }

    /// One sample; an empty one beyond the end.
    #[must_use]
    pub fn sample(&self, row: usize) -> Sample {
        let at = self.at.get(row).copied().unwrap_or_default();
        let mut sample = Sample { at: Seconds(f64::from(at)), ..Sample::default() };
        for (index, channel) in Channel::ALL.into_iter().enumerate() {
            let value = self.values[index].get(row).copied().filter(|value| !value.is_nan());
            sample.set(channel, value.map(f64::from));
        }
        sample
    }
}

/// A stretch of samples with its summary.
#[derive(Debug, Clone, PartialEq)]
struct Chunk {
    columns: Columns,
    limiters: Vec<Limiter>,
    extents: [Option<Bucket>; CHANNELS],
    /// Summaries of the parts; none before the chunk is full.
    parts: [Vec<Option<Bucket>>; CHANNELS],
    shares: LimiterShares,
}

impl Chunk {
    fn new() -> Self {
        Self {
            columns: Columns::empty(),
            limiters: Vec::new(),
            extents: [None; CHANNELS],
            parts: std::array::from_fn(|_| Vec::new()),
            shares: LimiterShares::default(),
        }
    }

    /// Lowest, mean and highest of a channel in some rows, by whole parts where they are there.
    fn over(&self, column: usize, first: usize, end: usize) -> Option<Bucket> {
        let values = |from: usize, to: usize| {
            self.columns.values[column].get(from..to).and_then(Bucket::of_all)
        };
        let (from, to) = (first.div_ceil(PART_SAMPLES), end / PART_SAMPLES);
        match self.parts[column].get(from..to) {
            Some(parts) if from < to => {
                let whole = parts.iter().flatten().copied().reduce(Bucket::merge);
                let before = joined(values(first, from * PART_SAMPLES), whole);
                joined(before, values(to * PART_SAMPLES, end))
            }
            _ => values(first, end),
        }
    }

    /// Sums up the parts of a chunk that is full.
    fn filled(mut self) -> Self {
        self.parts = std::array::from_fn(|index| {
            self.columns.values[index].chunks(PART_SAMPLES).map(Bucket::of_all).collect()
        });
        self
    }

    fn whole(block: Columns, limiter: impl Fn(&Sample) -> Limiter) -> Self {
        let limiters: Vec<Limiter> =
            (0..block.len()).map(|row| limiter(&block.sample(row))).collect();
        let mut shares = LimiterShares::default();
        limiters.iter().for_each(|limiter| shares.push(*limiter));
        let mut chunk = Self { columns: block, limiters, shares, ..Self::new() }.filled();
        let whole =
            |parts: &Vec<Option<Bucket>>| parts.iter().flatten().copied().reduce(Bucket::merge);
        chunk.extents = std::array::from_fn(|index| whole(&chunk.parts[index]));
        chunk
    }

    fn push(&mut self, sample: &Sample, limiter: Limiter) {
        self.columns.at.push(sample.at.value() as f32);
        for (index, channel) in Channel::ALL.into_iter().enumerate() {
            let value = sample.get(channel).filter(|value| value.is_finite());
            self.columns.values[index].push(value.map_or(f32::NAN, |value| value as f32));
            let bucket = value.map(|value| Bucket::of(value as f32));
            self.extents[index] = joined(self.extents[index], bucket);
        }
        self.limiters.push(limiter);
        self.shares.push(limiter);
    }
}

fn joined<B: Merge>(one: Option<B>, other: Option<B>) -> Option<B> {
    one.into_iter().chain(other).reduce(B::merge)
}

/// Samples in order of time.
///
/// ```
/// use yard_step_core::{Channel, Limiter, Mhz, Sample, Seconds, Trace};
///
/// let mut trace = Trace::new();
/// for tick in 0..100_000 {
///     let clock = if tick == 77_777 { 900.0 } else { 2_000.0 };
///     let at = Seconds(f64::from(tick) / 10.0);
///     trace.push(&Sample { at, core_clock: Some(Mhz(clock)), ..Sample::default() }, Limiter::Power);
/// }
/// let whole = trace.over(Channel::CoreClock, 0.0, trace.seconds()).unwrap();
/// assert_eq!((whole.lowest, whole.highest), (900.0, 2_000.0));
/// ```
#[derive(Debug, Clone, PartialEq)]
pub struct Trace {
    full: Vec<Arc<Chunk>>,
    /// Time of the last sample of each full chunk: looked through far more often than the chunks.
    ends: Vec<f32>,
    tail: Chunk,
    /// Usual time between two samples: that of the first two.
    step: f64,
}

impl Default for Trace {
    fn default() -> Self {
        Self::new()
    }
}

impl Trace {
    /// No samples yet.
    #[must_use]
    pub fn new() -> Self {
        Self { full: Vec::new(), ends: Vec::new(), tail: Chunk::new(), step: 0.1 }
    }

    /// Takes a sample in, with what limited the clock in it. One that is not later than the last
    /// is passed over: time does not go back.
    pub fn push(&mut self, sample: &Sample, limiter: Limiter) {
        let last = self.last_at();
        let at = sample.at.value();
        if !at.is_finite() || last.is_some_and(|last| at <= last) {
            return;
        }
        if let (1, Some(first)) = (self.len(), last) {
            self.step = at - first;
        }
        self.tail.push(sample, limiter);
        if self.tail.columns.at.len() == CHUNK_SAMPLES {
            let full = std::mem::replace(&mut self.tail, Chunk::new());
            self.ends.extend(full.columns.at.last());
            self.full.push(Arc::new(full.filled()));
        }
    }

    /// Takes in a block of samples as it was stored; `limiter` names what limited the clock in
    /// each. A block that fills a chunk exactly, as stored blocks do, is taken over whole.
    pub fn push_columns(&mut self, block: Columns, limiter: impl Fn(&Sample) -> Limiter) {
        let rows = block.len();
        let follows = block
            .at
            .first()
            .is_some_and(|first| self.last_at().is_none_or(|last| f64::from(*first) > last));
        let whole = rows == CHUNK_SAMPLES
            && self.tail.columns.at.is_empty()
            && follows
            && block.at.is_sorted_by(|a, b| a < b);
        if !whole {
            for row in 0..rows {
                let sample = block.sample(row);
                self.push(&sample, limiter(&sample));
            }
            return;
        }
        if self.full.is_empty() {
            self.step = f64::from(block.at[1]) - f64::from(block.at[0]);
        }
        self.ends.extend(block.at.last());
        self.full.push(Arc::new(Chunk::whole(block, limiter)));
    }

    /// Number of samples.
    #[must_use]
    pub fn len(&self) -> usize {
        self.full.len() * CHUNK_SAMPLES + self.tail.columns.at.len()
    }

    /// Whether there is none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// Time of the last sample, in seconds; 0 while there is none.
    #[must_use]
    pub fn seconds(&self) -> f64 {
        self.last_at().unwrap_or(0.0)
    }

    fn last_at(&self) -> Option<f64> {
        let last = self.tail.columns.at.last().or_else(|| self.ends.last());
        last.map(|at| f64::from(*at))
    }

    fn chunks(&self) -> impl Iterator<Item = &Chunk> {
        self.full
            .iter()
            .map(Arc::as_ref)
            .chain((!self.tail.columns.at.is_empty()).then_some(&self.tail))
    }

    fn chunk(&self, index: usize) -> Option<&Chunk> {
        let tail = (index == self.full.len()).then_some(&self.tail);
        self.full.get(index).map(Arc::as_ref).or(tail).filter(|chunk| !chunk.columns.at.is_empty())
    }

    /// Lowest, mean and highest reading of a channel from `from` to `to` seconds. A sample stands
    /// for the time since the one before it, unless that is a gap; a stretch shorter than a step
    /// shows the sample it lies in.
    #[must_use]
    pub fn over(&self, channel: Channel, from: f64, to: f64) -> Option<Bucket> {
        let column = channel as usize;
        let mut found = None;
        self.visit(from, to, |chunk, rows| {
            let part = match rows {
                None => chunk.extents[column],
                Some((first, end)) => chunk.over(column, first, end),
            };
            found = joined(found, part);
        });
        found
    }

    /// Share of samples per limiter from `from` to `to` seconds.
    #[must_use]
    pub fn limiters(&self, from: f64, to: f64) -> LimiterShares {
        let mut shares = LimiterShares::default();
        self.visit(from, to, |chunk, rows| match rows {
            None => shares = shares.merge(chunk.shares),
            Some((first, end)) => {
                for limiter in chunk.limiters.get(first..end).unwrap_or_default() {
                    shares.push(*limiter);
                }
            }
        });
        shares
    }

    /// The sample at a time: the first one not before it.
    #[must_use]
    pub fn at(&self, time: f64) -> Option<(Sample, Limiter)> {
        let (index, row) = self.first_from(time)?;
        let chunk = self.chunk(index)?;
        Some((chunk.columns.sample(row), *chunk.limiters.get(row)?))
    }

    /// All samples from `from` to `to` seconds, both included.
    pub fn samples(&self, from: f64, to: f64) -> impl Iterator<Item = Sample> {
        self.chunks()
            .filter(move |chunk| chunk.columns.at.last().is_some_and(|at| f64::from(*at) >= from))
            .flat_map(|chunk| (0..chunk.columns.at.len()).map(|row| chunk.columns.sample(row)))
            .skip_while(move |sample| sample.at.value() < from)
            .take_while(move |sample| sample.at.value() <= to)
    }

    /// Chunk and row of the first sample at or after a time.
    fn first_from(&self, time: f64) -> Option<(usize, usize)> {
        let index = self.ends.partition_point(|end| f64::from(*end) < time);
        let chunk = self.chunk(index)?;
        let row = chunk.columns.at.partition_point(|at| f64::from(*at) < time);
        (row < chunk.columns.at.len()).then_some((index, row))
    }

    /// Shows `visitor` every chunk that has a part in a stretch of time: whole (`None`), or the
    /// rows of it that lie inside.
    fn visit(&self, from: f64, to: f64, mut visitor: impl FnMut(&Chunk, Option<(usize, usize)>)) {
        // A sample exactly at `from` stands for the time before it.
        let Some((mut index, mut first)) = self.first_from(from + 1e-4) else { return };
        while let Some(chunk) = self.chunk(index) {
            let count = chunk.columns.at.len();
            let is_whole = self.ends.get(index).is_some_and(|end| f64::from(*end) <= to);
            let mut end = if is_whole {
                count
            } else {
                chunk.columns.at.partition_point(|at| f64::from(*at) <= to).max(first)
            };
            // The sample after the end reaches back into the stretch.
            if end < count && self.begins(index, end) < to - 1e-4 {
                end += 1;
            }
            if end <= first {
                return;
            }
            visitor(chunk, (first > 0 || end < count).then_some((first, end)));
            if end < count {
                return;
            }
            (index, first) = (index + 1, 0);
        }
    }

    /// From when on a sample stands for the time.
    fn begins(&self, index: usize, row: usize) -> f64 {
        let Some(chunk) = self.chunk(index) else { return f64::INFINITY };
        let at = f64::from(chunk.columns.at[row]);
        let before = match row.checked_sub(1) {
            Some(row) => Some(f64::from(chunk.columns.at[row])),
            None => index
                .checked_sub(1)
                .and_then(|index| self.chunk(index)?.columns.at.last())
                .map(|at| f64::from(*at)),
        };
        match before {
            Some(before) if at - before <= self.step * GAP_STEPS => before,
            _ => at - self.step,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::units::{Mhz, Watt};
    use rstest::rstest;

    fn trace(samples: usize, clock: impl Fn(usize) -> Option<f64>) -> Trace {
        let mut trace = Trace::new();
        for tick in 0..samples {
            let limiter = if tick % 4 == 0 { Limiter::Voltage } else { Limiter::Power };
            let sample = Sample {
                at: Seconds((tick + 1) as f64 / 10.0),
                core_clock: clock(tick).map(Mhz),
                board_power: Some(Watt(tick as f64)),
                ..Sample::default()
            };
            trace.push(&sample, limiter);
        }
        trace
    }

    fn columns(trace: &Trace, from: f64, to: f64, count: usize) -> Vec<Option<Bucket>> {
        let width = (to - from) / count as f64;
        (0..count)
            .map(|i| from + width * i as f64)
            .map(|at| trace.over(Channel::CoreClock, at, at + width))
            .collect()
    }

    #[rstest]
    #[case(1, 0)]
    #[case(599, 300)]
    #[case(600, 599)]
    #[case(601, 600)]
    #[case(5_000, 1_234)]
    #[case(864_000, 500_123)]
    fn a_dip_of_one_sample_is_in_exactly_one_column_or_two_at_every_zoom(
        #[case] samples: usize,
        #[case] dip: usize,
    ) {
        let trace = trace(samples, |tick| Some(if tick == dip { 55.0 } else { 2_000.0 }));
        let at = (dip + 1) as f64 / 10.0;
        for zoom in 0..12 {
            let span = trace.seconds() / f64::from(1 << zoom);
            if span < 0.5 && zoom > 0 {
                break;
            }
            let from = (at - span / 2.0).max(0.0);
            let low = columns(&trace, from, from + span, 150)
                .into_iter()
                .flatten()
                .filter(|bucket| bucket.lowest == 55.0)
                .count();
            let most = (0.1 / (span / 150.0)).ceil() as usize + 1;
            assert!((1..=most).contains(&low), "zoom {zoom}: {low} columns of at most {most}");
        }
    }

    #[test]
    fn a_stretch_is_summed_up_as_its_samples_are() {
        let trace = trace(3_000, |tick| Some(tick as f64));
        for (from, to) in [(0.0, 300.0), (12.3, 250.0), (59.9, 60.1), (100.0, 100.1), (0.0, 0.1)] {
            let inside: Vec<f64> = (0..3_000)
                .map(|tick| (f64::from(tick + 1) / 10.0, f64::from(tick)))
                .filter(|(at, _)| *at > from + 0.01 && *at <= to + 0.01)
                .map(|(_, value)| value)
                .collect();
            let bucket = trace.over(Channel::CoreClock, from, to).unwrap();
            assert_eq!(f64::from(bucket.lowest), inside[0], "{from} to {to}");
            assert_eq!(f64::from(bucket.highest), *inside.last().unwrap(), "{from} to {to}");
            let mean = inside.iter().sum::<f64>() / inside.len() as f64;
            assert!((f64::from(bucket.mean()) - mean).abs() < 0.5, "{from} to {to}");
        }
    }

    #[test]
    fn a_gap_stays_a_gap_at_every_zoom() {
        let mut trace = trace(100, |_| Some(1.0));
        let late = Sample { at: Seconds(60.0), core_clock: Some(Mhz(1.0)), ..Sample::default() };
        trace.push(&late, Limiter::Unknown);
        assert_eq!(trace.over(Channel::CoreClock, 20.0, 50.0), None);
        assert_eq!(trace.over(Channel::CoreClock, 10.01, 59.8), None);
        assert!(trace.over(Channel::CoreClock, 59.93, 59.95).is_some(), "its own step");
        assert_eq!(trace.over(Channel::Voltage, 0.0, 60.0), None, "never measured");
        assert_eq!(trace.over(Channel::CoreClock, 60.5, 70.0), None, "after the end");
    }

    #[test]
    fn missing_readings_leave_the_others_alone() {
        let trace = trace(1_000, |tick| (tick % 2 == 0).then_some(5.0));
        let bucket = trace.over(Channel::CoreClock, 0.0, 100.0).unwrap();
        assert_eq!((bucket.lowest, bucket.highest, bucket.mean()), (5.0, 5.0, 5.0));
        let (sample, limiter) = trace.at(0.15).unwrap();
        assert_eq!((sample.core_clock, sample.board_power), (None, Some(Watt(1.0))));
        assert_eq!(limiter, Limiter::Power);
        assert_eq!(trace.at(100.2), None);
    }

    #[test]
    fn limiters_are_shared_out() {
        let trace = trace(2_400, |_| Some(1.0));
        assert_eq!(trace.limiters(0.0, 240.0).share(Limiter::Voltage), 0.25);
        assert_eq!(trace.limiters(30.0, 110.0).share(Limiter::Voltage), 0.25);
        assert_eq!(trace.limiters(0.0, 0.1).largest(), Some(Limiter::Voltage));
    }

    #[test]
    fn a_clone_stays_as_it_was_while_the_trace_goes_on() {
        let mut growing = trace(650, |_| Some(1.0));
        let frozen = growing.clone();
        let next = Sample { at: Seconds(66.0), core_clock: Some(Mhz(9.0)), ..Sample::default() };
        growing.push(&next, Limiter::Power);
        assert_eq!((frozen.len(), growing.len()), (650, 651));
        assert_eq!(frozen.over(Channel::CoreClock, 0.0, 99.0).unwrap().highest, 1.0);
    }

    #[rstest]
    #[case(0)]
    #[case(7)]
    fn stored_blocks_make_the_same_trace_as_single_samples(#[case] before: usize) {
        let single = trace(before + 1_500, |tick| (tick != 800).then_some(tick as f64));
        let samples: Vec<Sample> = single.samples(0.0, 1e9).collect();
        let mut blocks = Trace::new();
        let limiter = |sample: &Sample| {
            let tick = (sample.at.value() * 10.0).round() as usize - 1;
            if tick.is_multiple_of(4) { Limiter::Voltage } else { Limiter::Power }
        };
        let sizes = [before, 600, 600, 300];
        let mut rest = samples.as_slice();
        for size in sizes {
            let (block, left) = rest.split_at(size);
            let at = block.iter().map(|sample| sample.at.value() as f32).collect();
            let column = |channel: Channel| {
                let value = |s: &Sample| s.get(channel).map_or(f32::NAN, |value| value as f32);
                block.iter().map(value).collect::<Vec<f32>>()
            };
            let columns = Columns::new(at, Channel::ALL.map(column).to_vec());
            blocks.push_columns(columns, limiter);
            rest = left;
        }
        assert_eq!(blocks.len(), single.len());
        assert!(blocks.samples(0.0, 1e9).eq(single.samples(0.0, 1e9)));
        for (from, to) in [(0.0, 160.0), (30.0, 90.0), (79.9, 80.2)] {
            let over = |trace: &Trace| trace.over(Channel::CoreClock, from, to);
            let extremes = |trace: &Trace| over(trace).map(|b| (b.lowest, b.highest));
            assert_eq!(extremes(&blocks), extremes(&single));
            assert_eq!(blocks.limiters(from, to), single.limiters(from, to));
        }
    }

    #[test]
    fn time_does_not_go_back() {
        let mut trace = trace(10, |_| Some(1.0));
        for at in [0.5, 1.0, f64::NAN] {
            trace.push(&Sample { at: Seconds(at), ..Sample::default() }, Limiter::Power);
        }
        assert_eq!(trace.len(), 10);
        assert_eq!(trace.samples(0.25, 0.55).count(), 3);
    }
}
