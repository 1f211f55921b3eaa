//! Two trials side by side: what was asked otherwise, what came out otherwise, and whether the
//! difference in score is more than chance.

use statrs::distribution::{ContinuousCDF, StudentsT};

use crate::card::description::{CardDescription, SettingKind};
use crate::climb::TrialRecord;
use crate::judge::verdict::{Meaning, Verdict, gain_percent};
use crate::statistics::{mean, standard_deviation};
use crate::units::{Celsius, Mhz, Percent, Watt};

/// One of the two.
#[derive(Debug, Clone, Copy)]
pub struct Side<'a> {
    /// The card it ran on.
    pub card: &'a CardDescription,
    /// The trial.
    pub record: &'a TrialRecord,
    /// Scores of the runs at stock of its climb under the same load: their spread is the noise.
    pub baseline: &'a [f64],
}

/// Whether more of a figure is better.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Better {
    /// More is.
    More,
    /// Less is.
    Less,
    /// Neither by itself.
    Neither,
}

/// A figure of both.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Compared {
    /// What it is.
    pub label: &'static str,
    /// Its unit; empty for a plain number.
    pub unit: &'static str,
    /// Digits after the point.
    pub digits: usize,
    /// Of the first.
    pub one: Option<f64>,
    /// Of the second.
    pub other: Option<f64>,
    /// What is better.
    pub better: Better,
    /// Whether a difference is told in percent.
    pub in_percent: bool,
    /// Whether it may be held against each other at all: not across cards or loads.
    pub is_comparable: bool,
}

impl Compared {
    /// By how much the second is above the first; none where they are not comparable.
    #[must_use]
    pub fn difference(&self) -> Option<f64> {
        let (one, other) = self.both()?;
        Some(other - one)
    }

    fn both(&self) -> Option<(f64, f64)> {
        self.one.zip(self.other).filter(|_| self.is_comparable)
    }

    /// By how much the second is above the first, in percent of it; none of a first of zero.
    #[must_use]
    pub fn percent(&self) -> Option<f64> {
        let (one, other) = self.both()?;
        (one > 0.0).then(|| gain_percent(other, one))
    }

    /// The figure of the first, and that of the second, with their unit; a dash for what is not
    /// known.
    #[must_use]
    pub fn shown(&self) -> (String, String) {
        let show = |value: Option<f64>| {
            let text = value.map(|value| format!("{value:.*} {}", self.digits, self.unit));
            text.map_or("–".to_owned(), |text| text.trim_end().to_owned())
        };
        (show(self.one), show(self.other))
    }

    /// By how much the second is above the first: in percent where that says more than the
    /// difference itself. Empty where it is not known.
    #[must_use]
    pub fn difference_shown(&self) -> String {
        let (value, digits, unit) = match (self.percent(), self.difference()) {
            (Some(percent), _) if self.in_percent => (percent, 1, "%"),
            (_, Some(apart)) => (apart, self.digits, self.unit),
            _ => return String::new(),
        };
        let nothing = value.abs() < 0.5 * 10.0_f64.powi(-(digits as i32));
        let text = if nothing {
            format!("±{:.digits$} {unit}", 0.0)
        } else {
            format!("{value:+.digits$} {unit}")
        };
        text.trim_end().to_owned()
    }

    /// Whether the second is better, as far as the figure alone tells; none where both are equal as
    /// they are shown, or neither way is better.
    #[must_use]
    pub fn is_better(&self) -> Option<bool> {
        let apart = self.difference()?;
        let shown = apart.abs() >= 0.5 * 10.0_f64.powi(-(self.digits as i32));
        match self.better {
            Better::More if shown => Some(apart > 0.0),
            Better::Less if shown => Some(apart < 0.0),
            _ => None,
        }
    }
}

/// Two trials side by side.
#[derive(Debug, Clone, PartialEq)]
pub struct Comparison {
    /// Settings that were asked otherwise: of the first, and of the second.
    pub asked: Vec<(SettingKind, String, String)>,
    /// What came out.
    pub figures: Vec<Compared>,
    /// What it comes to.
    pub finding: Finding,
}

/// What two trials come to side by side.
#[derive(Debug, Clone, PartialEq)]
pub enum Finding {
    /// They ran on two cards.
    TwoCards,
    /// They ran under different loads.
    TwoLoads {
        /// Of the first.
        one: String,
        /// Of the second.
        other: String,
    },
    /// One of them proves nothing.
    ProvesNothing {
        /// Whether it is the second.
        is_second: bool,
        /// Its verdict.
        verdict: Verdict,
    },
    /// One of them has no score.
    NoScore,
    /// Their scores.
    Scores {
        /// By how much the second is faster, percent.
        gain_percent: f64,
        /// By how much they may lie apart by chance; none without two runs at stock.
        by_chance: Option<Percent>,
        /// Whether the room was another one.
        room_differs: bool,
        /// Whether the fans ran at clearly different speeds.
        fans_differ: bool,
    },
}

/// Holds the second trial against the first.
#[must_use]
pub fn compare(one: Side<'_>, other: Side<'_>) -> Comparison {
    let asked = SettingKind::ALL
        .into_iter()
        .map(|kind| (kind, one.record.asked.show(kind), other.record.asked.show(kind)))
        .filter(|(_, first, second)| first != second)
        .collect();
    Comparison { asked, figures: figures(one, other), finding: finding(one, other) }
}

fn figures(one: Side<'_>, other: Side<'_>) -> Vec<Compared> {
    type Read = fn(&TrialRecord) -> Option<f64>;
    let figure = |label, unit, digits, better, read: Read| Compared {
        label,
        unit,
        digits,
        one: read(one.record),
        other: read(other.record),
        better,
        in_percent: matches!(unit, "MHz" | "W" | "/W" | "fps") || label == "score",
        is_comparable: one.card.key() == other.card.key() && one.record.scene == other.record.scene,
    };
    let work_per_watt: Read = |record| {
        let power = record.seen.average_power.map(Watt::value).filter(|power| *power > 0.0)?;
        Some(record.score? / power)
    };
    use Better::{Less, More, Neither};
    vec![
        figure("score", "", 0, More, |r| r.score),
        figure("work per watt", "/W", 2, More, work_per_watt),
        figure("frame rate", "fps", 1, More, |r| r.seen.frame_rate),
        figure("1 % low", "fps", 1, More, |r| r.seen.frame_rate_low),
        figure("board power", "W", 0, Less, |r| r.seen.average_power.map(Watt::value)),
        figure("hot spot", "°C", 0, Less, |r| r.seen.hot_spot_max.map(Celsius::value)),
        figure("average clock", "MHz", 0, More, |r| r.seen.average_clock().map(Mhz::value)),
        figure("effective clock", "MHz", 0, More, |r| r.seen.effective_clock.map(Mhz::value)),
        figure("flat", "%", 0, More, |r| {
            r.seen.clock_line.as_ref().map(|line| line.flatness.value())
        }),
        figure("dips", "", 0, Less, |r| {
            r.seen.clock_line.as_ref().map(|line| line.dips.len() as f64)
        }),
        figure("core temperature", "°C", 0, Less, |r| {
            r.seen.core_temperature_max.map(Celsius::value)
        }),
        figure("fan", "%", 0, Less, |r| r.seen.fan.map(Percent::value)),
        figure("wrong frames", "", 0, Less, |r| Some(r.seen.wrong_frames as f64)),
        figure("minutes", "", 1, Neither, |r| Some(r.seconds.value() / 60.0)),
    ]
}

/// By how many percent the scores of two single runs at the same settings may lie apart by chance,
/// 95 of 100 times: `t · s · √2`, with Student's t of n − 1 degrees of freedom and s the standard
/// deviation of `scores` (Montgomery, *Design and Analysis of Experiments*, ch. 2). None for fewer
/// than two scores.
#[must_use]
pub fn apart_by_chance(scores: &[f64]) -> Option<Percent> {
    let spread = standard_deviation(scores)?;
    let middle = mean(scores).filter(|middle| *middle > 0.0)?;
    let student = StudentsT::new(0.0, 1.0, scores.len() as f64 - 1.0).ok()?;
    let bound = student.inverse_cdf(0.975) * spread * std::f64::consts::SQRT_2;
    Some(Percent(bound / middle * 100.0))
}

fn finding(one: Side<'_>, other: Side<'_>) -> Finding {
    /// Fans whose speeds lie further apart differ, points of percent.
    const FANS_APART: f64 = 5.0;
    if one.card.key() != other.card.key() {
        return Finding::TwoCards;
    }
    if one.record.scene != other.record.scene {
        let (one, other) = (one.record.scene.clone(), other.record.scene.clone());
        return Finding::TwoLoads { one, other };
    }
    for (is_second, side) in [(false, one), (true, other)] {
        let verdict = side.record.verdict();
        if verdict.meaning() == Meaning::ProvesNothing {
            return Finding::ProvesNothing { is_second, verdict };
        }
    }
    let (Some(first), Some(second)) = (one.record.score, other.record.score) else {
        return Finding::NoScore;
    };
    let noise = [one.baseline, other.baseline].into_iter().filter_map(apart_by_chance);
    let fans = one.record.seen.fan.zip(other.record.seen.fan);
    Finding::Scores {
        gain_percent: gain_percent(second, first),
        by_chance: noise.max_by(|a, b| a.value().total_cmp(&b.value())),
        room_differs: one.record.room != other.record.room,
        fans_differ: fans.is_some_and(|(a, b)| (a.value() - b.value()).abs() > FANS_APART),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fixtures::{card, record};
    use crate::units::MhzOffset;
    use rstest::rstest;

    fn trial(score: Option<f64>) -> TrialRecord {
        TrialRecord { score, ..record(1) }
    }

    #[rstest]
    // t(0.975, 2) = 4.303, s = 1, √2
    #[case(&[99.0, 100.0, 101.0], Some(6.085))]
    #[case(&[100.0, 100.0], Some(0.0))]
    #[case(&[100.0], None)]
    #[case(&[], None)]
    fn chance_is_told_from_the_spread_at_stock(
        #[case] scores: &[f64],
        #[case] expected: Option<f64>,
    ) {
        let bound = apart_by_chance(scores).map(Percent::value);
        assert_eq!(bound.is_some(), expected.is_some());
        if let (Some(bound), Some(expected)) = (bound, expected) {
            assert!((bound - expected).abs() < 0.002, "{bound}");
        }
    }

    #[rstest]
    #[case(&[1_000.0, 1_001.0, 999.0], 1_020.0, Some(true))]
    #[case(&[1_000.0, 1_010.0, 990.0], 1_020.0, Some(false))]
    #[case(&[1_000.0], 980.0, None)]
    fn a_difference_is_held_against_the_noise(
        #[case] baseline: &[f64],
        #[case] score: f64,
        #[case] is_more_than_chance: Option<bool>,
    ) {
        let (card, first, second) = (card(), trial(Some(1_000.0)), trial(Some(score)));
        let side = |record| Side { card: &card, record, baseline };
        let compared = compare(side(&first), side(&second));
        let Finding::Scores { gain_percent, by_chance, room_differs, fans_differ } =
            compared.finding
        else {
            panic!("{:?}", compared.finding)
        };
        let is_more = by_chance.map(|bound| gain_percent.abs() > bound.value());
        assert_eq!((is_more, room_differs, fans_differ), (is_more_than_chance, false, false));
        assert!((compared.figures[0].percent().unwrap() - (score / 10.0 - 100.0)).abs() < 1e-9);
        assert_eq!(compared.figures[0].is_better(), Some(score > 1_000.0));
    }

    #[test]
    fn what_cannot_be_compared_is_said_and_no_number_made_up() {
        let (here, there) = (card(), CardDescription { serial: "other".into(), ..card() });
        let (one, mut other) = (trial(Some(1_000.0)), trial(None));
        fn side<'a>(card: &'a CardDescription, record: &'a TrialRecord) -> Side<'a> {
            Side { card, record, baseline: &[] }
        }
        let found = |a, b| compare(a, b).finding;
        assert_eq!(found(side(&here, &one), side(&there, &one)), Finding::TwoCards);
        let nothing = compare(side(&here, &one), side(&here, &other));
        assert_eq!(nothing.finding, Finding::NoScore);
        assert_eq!(nothing.figures[0].difference(), None);
        assert_eq!(nothing.figures[0].percent(), None);
        other.judged = Verdict::Void;
        let void = TrialRecord { judged: Verdict::Void, ..other.clone() };
        let void = found(side(&here, &one), side(&here, &void));
        let verdict = Verdict::Void;
        assert_eq!(void, Finding::ProvesNothing { is_second: true, verdict });
        other.scene = "kiln".into();
        let apart = compare(side(&here, &one), side(&here, &other));
        assert!(matches!(apart.finding, Finding::TwoLoads { .. }), "{:?}", apart.finding);
        let shown = |figure: &Compared| (figure.difference_shown(), figure.is_better());
        assert!(apart.figures.iter().all(|figure| shown(figure) == (String::new(), None)));
    }

    #[test]
    fn settings_asked_otherwise_are_listed_and_less_heat_is_better() {
        let (card, one) = (card(), trial(Some(1_000.0)));
        let mut other = one.clone();
        other.asked.core_offset = Some(MhzOffset(75));
        other.seen.hot_spot_max = Some(Celsius(90.0));
        let side = |record| Side { card: &card, record, baseline: &[] };
        let compared = compare(side(&one), side(&other));
        let kinds: Vec<SettingKind> = compared.asked.iter().map(|(kind, ..)| *kind).collect();
        assert_eq!(kinds, [SettingKind::CoreOffset]);
        assert_eq!(compared.asked[0].2, "+75 MHz");
        let hot = compared.figures.iter().find(|figure| figure.label == "hot spot").unwrap();
        let hotter = one.seen.hot_spot_max.map(|before| before.value() < 90.0);
        assert_eq!(hot.is_better(), hotter.map(|hotter| !hotter));
    }

    #[rstest]
    #[case(Some(1.0), Some(1.4), None)]
    #[case(Some(1.0), Some(1.6), Some(true))]
    #[case(Some(0.0), Some(3.0), Some(true))]
    #[case(None, Some(3.0), None)]
    fn what_is_not_seen_apart_is_neither_better_nor_worse(
        #[case] one: Option<f64>,
        #[case] other: Option<f64>,
        #[case] better: Option<bool>,
    ) {
        let figure = Compared {
            label: "dips",
            unit: "",
            digits: 0,
            one,
            other,
            better: Better::More,
            in_percent: false,
            is_comparable: true,
        };
        assert_eq!(figure.is_better(), better);
        assert_eq!(figure.percent().is_none(), one.is_none_or(|one| one == 0.0));
    }

    #[rstest]
    #[case(Some(200.0), Some(190.0), true, ("200 W", "190 W"), "-5.0 %")]
    #[case(Some(200.0), Some(190.0), false, ("200 W", "190 W"), "-10 W")]
    #[case(Some(0.0), Some(3.0), true, ("0 W", "3 W"), "+3 W")]
    #[case(Some(200.0), Some(200.01), true, ("200 W", "200 W"), "±0.0 %")]
    #[case(Some(200.0), Some(199.9), false, ("200 W", "200 W"), "±0 W")]
    #[case(None, Some(190.0), true, ("–", "190 W"), "")]
    fn a_figure_is_shown_with_its_unit_and_what_is_not_known_is_a_dash(
        #[case] one: Option<f64>,
        #[case] other: Option<f64>,
        #[case] in_percent: bool,
        #[case] shown: (&str, &str),
        #[case] difference: &str,
    ) {
        let (label, unit, better) = ("board power", "W", Better::Less);
        let figure = Compared {
            label,
            unit,
            digits: 0,
            one,
            other,
            better,
            in_percent,
            is_comparable: true,
        };
        assert_eq!(figure.shown(), (shown.0.to_owned(), shown.1.to_owned()));
        assert_eq!(figure.difference_shown(), difference);
    }
}
