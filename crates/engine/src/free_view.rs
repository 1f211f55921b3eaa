//! What there is to see of a free run: its segments, and the present one beside the one before.

use yard_step_core::{
    Advice, Limiter, Risk, Sample, Seconds, Seen, Settings, StepChange, Suggestion, TimedReading,
    Trace, Verdict, statistics,
};

/// Seconds of a segment next to a change that are compared.
const COMPARED: usize = 180;

/// A free run as it stands, or as it ended.
#[derive(Debug, Clone, PartialEq)]
pub struct FreeView {
    /// The load.
    pub load: String,
    /// Time since it began.
    pub at: Seconds,
    /// All samples, over all segments.
    pub trace: Trace,
    /// When the settings were changed.
    pub changes: Vec<Seconds>,
    /// The segments, the present one last.
    pub segments: Vec<SegmentView>,
    /// The present segment against the one before, figure by figure.
    pub comparison: Vec<FigureChange>,
    /// What would help now, the most promising first.
    pub advice: Vec<Advice>,
    /// The next move, where there is one.
    pub suggestion: Option<Suggestion>,
    /// Settings that were asked for and need an explicit yes, and why.
    pub asks: Option<(Settings, Risk)>,
    /// What there is to say of the newest change: clamps, and what was asked twice.
    pub told: Vec<String>,
    /// How it ended; none while it goes on.
    pub ended: Option<FreeEnd>,
}

/// How a free run ended.
#[derive(Debug, Clone, PartialEq)]
pub struct FreeEnd {
    /// Verdict of its last segment.
    pub verdict: Verdict,
    /// The reason of that.
    pub reason: String,
    /// Number of its last segment.
    pub trial: u32,
    /// The segment that the card went back to, with its settings; none where it holds the last one, went to
    /// stock, or back to what was kept.
    pub back_to: Option<(u32, Settings)>,
}

/// A stretch between two changes.
#[derive(Debug, Clone, PartialEq)]
pub struct SegmentView {
    /// Its number among the trials of the climb.
    pub number: u32,
    /// What it changed from the segment before, or what the first one moves from stock.
    pub changed: Vec<String>,
    /// Settings asked.
    pub asked: Settings,
    /// Settings taken; none where the card did not answer.
    pub taken: Option<Settings>,
    /// Its length so far.
    pub seconds: Seconds,
    /// What is seen of it so far.
    pub seen: Seen,
    /// Its score so far.
    pub score: Option<f64>,
    /// Its verdict; none while it goes on.
    pub verdict: Option<Verdict>,
}

impl SegmentView {
    /// Share of its time under a limiter, 0 to 1.
    #[must_use]
    pub fn share(&self, limiter: Limiter) -> f64 {
        self.seen.limiter_share(limiter)
    }
}

/// A figure in which two segments are compared.
#[derive(Debug, Clone, Copy, PartialEq, Eq, strum::EnumCount, strum::IntoStaticStr)]
pub enum Figure {
    /// Core clock, MHz.
    #[strum(to_string = "core clock")]
    Clock,
    /// Power of the whole board, W.
    #[strum(to_string = "board power")]
    Power,
    /// Core temperature, °C.
    #[strum(to_string = "core temp.")]
    CoreTemperature,
    /// Hot spot, °C.
    #[strum(to_string = "hot spot")]
    HotSpot,
    /// Frames a second.
    #[strum(to_string = "frame rate")]
    FrameRate,
    /// Work done, units a second.
    #[strum(to_string = "score")]
    Score,
}

impl Figure {
    /// All figures, in the order in which they are shown.
    pub const ALL: [Self; <Self as strum::EnumCount>::COUNT] = [
        Self::Clock,
        Self::Power,
        Self::CoreTemperature,
        Self::HotSpot,
        Self::FrameRate,
        Self::Score,
    ];

    /// Its name.
    #[must_use]
    pub fn label(self) -> &'static str {
        self.into()
    }

    /// Its unit; empty for the score.
    #[must_use]
    pub const fn unit(self) -> &'static str {
        match self {
            Self::Clock => "MHz",
            Self::Power => "W",
            Self::CoreTemperature | Self::HotSpot => "°C",
            Self::FrameRate => "fps",
            Self::Score => "",
        }
    }

    /// Whether a change of it is told in percent.
    #[must_use]
    pub const fn is_in_percent(self) -> bool {
        matches!(self, Self::FrameRate | Self::Score)
    }
}

/// One figure of the present segment beside that of the one before.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct FigureChange {
    /// Which.
    pub figure: Figure,
    /// Its mean in the segment before; none where there is none.
    pub before: Option<f64>,
    /// Its mean in the present one.
    pub now: Option<f64>,
    /// What the change brought, apart from what drifts by itself; none while it cannot be told.
    pub change: Option<StepChange>,
}

/// Readings of a segment, each the mean of a second.
#[derive(Debug, Clone, Default)]
pub(crate) struct Series {
    seconds: Vec<Means>,
    second: Second,
}

/// The means of a second.
#[derive(Debug, Clone, Copy)]
struct Means {
    at: f64,
    /// The section of the load it lies in; none where it lies in two.
    section: Option<usize>,
    figures: [Option<f64>; <Figure as strum::EnumCount>::COUNT],
}

/// A second that is not over.
#[derive(Debug, Clone, Copy, Default)]
struct Second {
    ticks: u32,
    sums: [(f64, u32); <Figure as strum::EnumCount>::COUNT],
    work: Option<f64>,
    /// The section it began in, and whether it left that.
    section: (Option<usize>, bool),
}

impl Series {
    /// Takes in a tick at a time of the whole run, in a section of the load; `work` is what its frames come to.
    pub(crate) fn take(&mut self, at: Seconds, sample: &Sample, section: usize, work: Option<f64>) {
        let readings = [
            sample.core_clock.map(|clock| clock.value()),
            sample.board_power.map(|power| power.value()),
            sample.core_temperature.map(|at| at.value()),
            sample.hot_spot.map(|at| at.value()),
            sample.frame_rate,
        ];
        let second = &mut self.second;
        for (sum, reading) in second.sums.iter_mut().zip(readings) {
            if let Some(reading) = reading {
                *sum = (sum.0 + reading, sum.1 + 1);
            }
        }
        if let Some(work) = work {
            second.work = Some(second.work.unwrap_or(0.0) + work);
        }
        let began_in = *second.section.0.get_or_insert(section);
        second.section.1 |= began_in != section;
        second.ticks += 1;
        if second.ticks == 10 {
            let mut figures =
                second.sums.map(|(sum, count)| (count > 0).then(|| sum / f64::from(count)));
            figures[Figure::Score as usize] = second.work;
            let section = second.section.0.filter(|_| !second.section.1);
            self.seconds.push(Means { at: at.value(), section, figures });
            self.second = Second::default();
        }
    }

    /// The readings of a figure in some seconds, as far as these lie in one section.
    fn of(seconds: &[Means], figure: Figure) -> Vec<TimedReading> {
        let reading = |second: &Means| {
            let value = second.figures[figure as usize]?;
            Some(TimedReading { at: second.at, section: second.section?, value })
        };
        seconds.iter().filter_map(reading).collect()
    }

    fn mean(&self, figure: Figure) -> Option<f64> {
        let values: Vec<f64> =
            self.seconds.iter().filter_map(|second| second.figures[figure as usize]).collect();
        statistics::mean(&values)
    }
}

/// The figures of two segments side by side: of each the seconds next to the change.
pub(crate) fn changes(before: &Series, now: &Series) -> Vec<FigureChange> {
    let near = &before.seconds[before.seconds.len().saturating_sub(COMPARED)..];
    let fresh = &now.seconds[..now.seconds.len().min(COMPARED)];
    let change = |figure| FigureChange {
        figure,
        before: before.mean(figure),
        now: now.mean(figure),
        change: StepChange::between(&Series::of(near, figure), &Series::of(fresh, figure)),
    };
    Figure::ALL.into_iter().map(change).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use yard_step_core::{Celsius, Mhz, Watt};

    fn series(from: f64, seconds: usize, clock: f64, work: Option<f64>) -> Series {
        let mut series = Series::default();
        for tick in 1..=seconds * 10 {
            let at = Seconds(from + tick as f64 / 10.0);
            let sample = Sample {
                core_clock: Some(Mhz(clock + (tick % 3) as f64)),
                board_power: Some(Watt(200.0)),
                core_temperature: Some(Celsius(60.0)),
                ..Sample::default()
            };
            series.take(at, &sample, tick / 70 % 2, work.map(|work| work / 10.0));
        }
        series
    }

    #[test]
    fn a_change_is_told_figure_by_figure_and_a_missing_sensor_is_a_gap() {
        let (before, now) =
            (series(0.0, 20, 1_950.0, Some(900.0)), series(20.0, 20, 1_980.0, Some(918.0)));
        let all = changes(&before, &now);
        let of = |figure| *all.iter().find(|change| change.figure == figure).unwrap();
        let clock = of(Figure::Clock);
        assert!((clock.change.unwrap().by - 30.0).abs() < 0.5, "{clock:?}");
        assert!(clock.change.unwrap().is_clear());
        let score = of(Figure::Score);
        assert!(
            (score.now.unwrap() - 918.0).abs() < 1e-6
                && (score.before.unwrap() - 900.0).abs() < 1e-6
        );
        assert!(!of(Figure::Power).change.unwrap().is_clear());
        let hot_spot = of(Figure::HotSpot);
        assert_eq!((hot_spot.before, hot_spot.now, hot_spot.change), (None, None, None));
    }

    #[test]
    fn the_first_segment_has_nothing_to_be_compared_with() {
        let all = changes(&Series::default(), &series(0.0, 20, 1_950.0, None));
        assert!(all.iter().all(|change| change.before.is_none() && change.change.is_none()));
        assert!(all[0].now.is_some());
        assert_eq!(all[Figure::Score as usize].now, None, "a load without frames has no score");
    }

    #[test]
    fn seconds_far_from_the_change_do_not_count() {
        let mut before = series(0.0, 200, 1_500.0, None);
        let near = series(200.0, 180, 1_950.0, None);
        before.seconds.extend(near.seconds);
        let now = series(380.0, 30, 1_980.0, None);
        let clock = changes(&before, &now)[0].change.unwrap();
        assert!((clock.by - 30.0).abs() < 1.0, "{clock:?}");
    }
}
