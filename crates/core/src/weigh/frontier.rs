//! The frontier of work against what it costs: watts, degrees or decibels, from every run made.
//!
//! ```text
//!   work ▲              ┌────●      what nothing else beats in both
//!        │        ┌─────● •         • dominated: as much work for less, or more for as much
//!        │    ┌───◉ •  •            ◉ the knee
//!        │ ●──┘  •
//!        └──────────────────► cost
//! ```

use crate::air::fan::Fan;
use crate::air::noise::fan_law;
use crate::card::description::{CardDescription, SettingKind};
use crate::card::settings::Settings;
use crate::judge::verdict::{Verdict, gain_percent};
use crate::plan::LEAST_LONG_RUN;
use crate::shape::VfCurve;
use crate::statistics::mean;
use crate::units::{Celsius, Decibel, Percent, Seconds, Watt};
use crate::weigh::scatter;
use std::collections::HashMap;

/// How far above the chord of the frontier, in shares of both its ranges, a knee must stand: below
/// that the frontier is as good as straight.
const LEAST_BEND: f64 = 0.06;

/// What work is held against.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    Default,
    strum::Display,
    strum::EnumCount,
    strum::IntoStaticStr,
    strum::EnumString,
)]
#[strum(serialize_all = "lowercase")]
pub enum Cost {
    /// Average power of the whole board.
    #[default]
    Watts,
    /// Highest hot spot.
    Degrees,
    /// Noise of the fan.
    Decibels,
}

impl Cost {
    /// All of them.
    pub const ALL: [Self; <Self as strum::EnumCount>::COUNT] =
        [Self::Watts, Self::Degrees, Self::Decibels];

    /// It in a word.
    #[must_use]
    pub fn label(self) -> &'static str {
        self.into()
    }

    /// The cost of that name.
    #[must_use]
    pub fn from_label(label: &str) -> Option<Self> {
        label.parse().ok()
    }

    /// Its unit.
    #[must_use]
    pub const fn unit(self) -> &'static str {
        match self {
            Self::Watts => "W",
            Self::Degrees => "°C",
            Self::Decibels => "dB",
        }
    }

    /// What it is of.
    #[must_use]
    pub const fn what(self) -> &'static str {
        match self {
            Self::Watts => "board power",
            Self::Degrees => "hot spot",
            Self::Decibels => "fan noise",
        }
    }

    /// What a run cost; none where it was not measured. `full_fan` is the noise at full fan, 0 where
    /// it is not known: decibels are then told against that.
    #[must_use]
    pub fn of(self, run: &Weighed, full_fan: Option<Decibel>) -> Option<f64> {
        match self {
            Self::Watts => run.watts.map(Watt::value),
            Self::Degrees => run.hot_spot.map(Celsius::value),
            Self::Decibels => {
                run.fan.map(|fan| fan_noise(fan, full_fan.unwrap_or_default()).value())
            }
        }
    }
}

/// Noise of a fan at a speed in percent of its highest: `L = L_full + 50 · log10(n / n_full)`.
///
/// The sound power of a fan goes with the fifth power of its speed; the fan laws, as in the ASHRAE
/// Handbook, HVAC Applications, "Noise and Vibration Control". Below 5 % it is taken as 5 %. To tenths of
/// a decibel.
#[must_use]
pub fn fan_noise(fan: Percent, full: Decibel) -> Decibel {
    // No ear, and no meter at hand, tells more than a tenth; and a fan never stands quite still.
    let tenths = (10.0 * fan_law(full.value(), fan.value().max(5.0))).round();
    Decibel((tenths + 0.0) / 10.0)
}

/// One run, as far as it is weighed.
#[derive(Debug, Clone, PartialEq)]
pub struct Weighed {
    /// Its climb.
    pub climb: i64,
    /// Its number there.
    pub trial: u32,
    /// Settings asked for.
    pub asked: Settings,
    /// What ran.
    pub load: String,
    /// How long.
    pub seconds: Seconds,
    /// The verdict that counts.
    pub verdict: Verdict,
    /// Work units per second.
    pub score: Option<f64>,
    /// Average power of the whole board.
    pub watts: Option<Watt>,
    /// Highest hot spot.
    pub hot_spot: Option<Celsius>,
    /// Average fan speed.
    pub fan: Option<Percent>,
}

/// The loads of runs, that with the most runs first.
#[must_use]
pub fn loads(runs: &[Weighed]) -> Vec<String> {
    let mut counts: Vec<(&str, usize)> = Vec::new();
    for run in runs {
        match counts.iter_mut().find(|(load, _)| *load == run.load) {
            Some((_, count)) => *count += 1,
            None => counts.push((&run.load, 1)),
        }
    }
    counts.sort_by(|a, b| b.1.cmp(&a.1).then(a.0.cmp(b.0)));
    counts.into_iter().map(|(load, _)| load.to_owned()).collect()
}

/// All runs at the same settings.
#[derive(Debug, Clone, PartialEq)]
pub struct FrontierPoint {
    /// The settings.
    pub settings: Settings,
    /// They in a few words.
    pub what: String,
    /// The newest run at them: climb and trial.
    pub newest: (i64, u32),
    /// Runs that were weighed.
    pub runs: usize,
    /// Time under load in all of them.
    pub seconds: Seconds,
    /// Average score, work units per second.
    pub score: f64,
    /// Average cost, in the unit of what is weighed.
    pub cost: f64,
    /// The gravest failure at these settings, if there was one.
    pub failed: Option<Verdict>,
    /// Whether everything but the fan is at stock.
    pub is_stock: bool,
    /// Whether nothing that held gives more work for as little.
    pub is_on_frontier: bool,
    /// Standard error of the score, by how much runs scatter.
    pub error: f64,
    /// Whether something that held gives more work for as little, beyond what chance may bring.
    pub is_dominated: bool,
}

/// Work against what it costs.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Frontier {
    /// What is weighed.
    pub cost: Cost,
    /// All settings that were run, the cheapest first.
    pub points: Vec<FrontierPoint>,
    /// Places of those on the frontier, the cheapest first.
    pub frontier: Vec<usize>,
    /// Place of the knee, where there is one.
    pub knee: Option<usize>,
    /// Place of stock: of several, the one with most runs.
    pub stock: Option<usize>,
}

/// A point beside stock.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct BesideStock {
    /// More work, percent.
    pub work_percent: f64,
    /// More cost, in its unit.
    pub cost: f64,
    /// More cost, percent; it says nothing of degrees and decibels, which have no zero.
    pub cost_percent: f64,
    /// More work for each unit of cost, percent; the same holds of it.
    pub per_cost_percent: f64,
}

impl Frontier {
    /// Weighs the runs of one load on one card.
    ///
    /// Runs at the same settings are one point; one failure at settings keeps them off the frontier,
    /// however fast they were. The knee is the point of the frontier that stands farthest above the
    /// straight line between its ends, both axes taken from 0 to 1: V. Satopää and others, "Finding a
    /// 'Kneedle' in a Haystack", ICDCS workshops 2011.
    #[must_use]
    pub fn of(
        runs: &[Weighed],
        card: &CardDescription,
        cost: Cost,
        full_fan: Option<Decibel>,
    ) -> Self {
        let mut points = points(runs, card, cost, full_fan);
        points.sort_by(|a, b| a.cost.total_cmp(&b.cost).then(b.score.total_cmp(&a.score)));
        let mut frontier = Vec::new();
        let mut best = f64::NEG_INFINITY;
        for (place, point) in points.iter_mut().enumerate() {
            if point.failed.is_none() && point.score > best {
                best = point.score;
                point.is_on_frontier = true;
                frontier.push(place);
            }
        }
        mark_dominated(&mut points);
        let stock = (0..points.len())
            .filter(|place| points[*place].is_stock)
            .max_by_key(|place| points[*place].runs);
        let knee = knee(&points, &frontier);
        Self { cost, points, frontier, knee, stock }
    }

    /// The point at a place.
    #[must_use]
    pub fn point(&self, place: usize) -> Option<&FrontierPoint> {
        self.points.get(place)
    }

    /// Score of stock, which work is told against; none where it was never run.
    #[must_use]
    pub fn stock_score(&self) -> Option<f64> {
        Some(self.point(self.stock?)?.score)
    }

    /// A point beside stock; none without stock, and for stock itself.
    #[must_use]
    pub fn beside_stock(&self, place: usize) -> Option<BesideStock> {
        let (point, stock) = (self.point(place)?, self.point(self.stock?)?);
        (Some(place) != self.stock).then(|| BesideStock {
            work_percent: gain_percent(point.score, stock.score),
            cost: point.cost - stock.cost,
            cost_percent: gain_percent(point.cost, stock.cost),
            per_cost_percent: gain_percent(point.score / point.cost, stock.score / stock.cost),
        })
    }

    /// The cheapest point of the frontier and the dearest; the same where there is only one.
    #[must_use]
    pub fn ends(&self) -> Option<(&FrontierPoint, &FrontierPoint)> {
        let on = |place: &usize| self.point(*place);
        self.frontier.first().and_then(on).zip(self.frontier.last().and_then(on))
    }
}

impl FrontierPoint {
    /// Whether it ran too briefly to be recommended, or failed.
    #[must_use]
    pub fn is_unproven(&self) -> bool {
        self.failed.is_some() || self.seconds < LEAST_LONG_RUN
    }

    /// Work by which another differs for each unit of cost, percent of this one's.
    #[must_use]
    pub fn slope_to(&self, other: &Self) -> f64 {
        gain_percent(other.score, self.score) / (other.cost - self.cost).max(1e-9)
    }
}

/// The place that stands farthest above the straight line between the ends of the frontier.
fn knee(points: &[FrontierPoint], frontier: &[usize]) -> Option<usize> {
    let (first, last) = (points.get(*frontier.first()?)?, points.get(*frontier.last()?)?);
    let (width, height) = (last.cost - first.cost, last.score - first.score);
    if width <= 0.0 || height <= 0.0 {
        return None;
    }
    let above = |place: &usize| {
        let point = &points[*place];
        (point.score - first.score) / height - (point.cost - first.cost) / width
    };
    // What is recommended has stood for a while.
    let inner = frontier.get(1..frontier.len() - 1)?;
    let inner = inner.iter().filter(|place| !points[**place].is_unproven());
    let best = inner.max_by(|a, b| above(a).total_cmp(&above(b)))?;
    (above(best) >= LEAST_BEND).then_some(*best)
}

/// Marks what is beaten beyond chance. Points are sorted by cost.
fn mark_dominated(points: &mut [FrontierPoint]) {
    let held: Vec<(f64, f64, f64)> = points
        .iter()
        .filter(|point| point.failed.is_none())
        .map(|point| (point.cost, point.score, point.error))
        .collect();
    for point in points {
        point.is_dominated = held.iter().any(|(cost, score, error)| {
            *cost <= point.cost && score - point.score > scatter::CLEAR * error.hypot(point.error)
        });
    }
}

/// Settings as they are told apart: what the card counts, not how it was written.
#[derive(PartialEq, Eq, Hash)]
struct Key {
    numbers: Vec<Option<i64>>,
    curve: Option<VfCurve>,
    fan: Vec<i64>,
}

impl Key {
    /// The settings without their fan: who failed at one speed is not trusted at another.
    fn without_fan(settings: &Settings) -> Self {
        Self::of(&Settings { fan: None, ..*settings })
    }

    fn of(settings: &Settings) -> Self {
        let tenths = |value: f64| (value * 10.0).round() as i64;
        let fan = settings.fan.unwrap_or(Fan::Automatic).numbers();
        Self {
            numbers: SettingKind::ALL.map(|kind| settings.get(kind).map(tenths)).to_vec(),
            curve: settings.curve,
            fan: fan.into_iter().map(tenths).collect(),
        }
    }
}

fn points(
    runs: &[Weighed],
    card: &CardDescription,
    cost: Cost,
    full_fan: Option<Decibel>,
) -> Vec<FrontierPoint> {
    let mut failed: HashMap<Key, Verdict> = HashMap::new();
    for run in runs.iter().filter(|run| run.verdict.is_fault()) {
        let gravest = failed.entry(Key::without_fan(&run.asked)).or_insert(run.verdict);
        *gravest = run.verdict.min(*gravest);
    }
    let mut groups: HashMap<Key, Vec<&Weighed>> = HashMap::new();
    for run in runs {
        groups.entry(Key::of(&run.asked)).or_default().push(run);
    }
    let scatter = scatter::pooled(groups.values().map(|runs| {
        let usable = runs.iter().filter(|run| run.verdict.is_without_fault());
        usable.filter_map(|run| run.score).collect()
    }));
    let is_weighed = |run: &&&Weighed| {
        !matches!(run.verdict, Verdict::Void | Verdict::NotTaken)
            && run.score.is_some()
            && cost.of(run, full_fan).is_some()
    };
    let mut all = Vec::new();
    for group in groups.into_values() {
        let weighed: Vec<&Weighed> = group.iter().filter(is_weighed).copied().collect();
        let average = |of: &dyn Fn(&Weighed) -> Option<f64>| {
            mean(&weighed.iter().filter_map(|run| of(run)).collect::<Vec<_>>())
        };
        let (Some(score), Some(cost), Some(newest)) = (
            average(&|run| run.score),
            average(&|run| cost.of(run, full_fan)),
            weighed.iter().max_by_key(|run| (run.climb, run.trial)),
        ) else {
            continue;
        };
        let settings = newest.asked;
        let what = crate::climb::in_short(&settings, card);
        all.push(FrontierPoint {
            settings,
            newest: (newest.climb, newest.trial),
            runs: weighed.len(),
            seconds: Seconds(weighed.iter().map(|run| run.seconds.value()).sum()),
            score,
            cost,
            failed: failed.get(&Key::without_fan(&settings)).copied(),
            is_stock: is_stock(&settings, card),
            is_on_frontier: false,
            error: score * scatter / (weighed.len() as f64).sqrt(),
            is_dominated: false,
            what,
        });
    }
    all
}

fn is_stock(settings: &Settings, card: &CardDescription) -> bool {
    let fan = SettingKind::Fan.label();
    settings.moved_from_stock(card).iter().all(|moved| moved.starts_with(fan))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fixtures::card;
    use crate::units::MhzOffset;
    use proptest::prelude::{ProptestConfig, prop_assert, proptest};
    use rstest::rstest;

    fn run(offset: i32, score: f64, watts: f64, verdict: Verdict) -> Weighed {
        Weighed {
            climb: 1,
            trial: offset.unsigned_abs(),
            asked: Settings {
                core_offset: Some(MhzOffset(offset)),
                fan: Some(Fan::Fixed(Percent(100.0))),
                ..Settings::stock(&card())
            },
            load: "medley".into(),
            seconds: Seconds(720.0),
            verdict,
            score: Some(score),
            watts: Some(Watt(watts)),
            hot_spot: Some(Celsius(watts / 3.0)),
            fan: Some(Percent(100.0)),
        }
    }

    fn of(runs: &[Weighed], cost: Cost) -> Frontier {
        Frontier::of(runs, &card(), cost, None)
    }

    fn bent() -> Vec<Weighed> {
        vec![
            run(-60, 900.0, 150.0, Verdict::Slower),
            run(-30, 980.0, 170.0, Verdict::Clean),
            run(0, 1_000.0, 200.0, Verdict::Clean),
            run(30, 990.0, 205.0, Verdict::Clean),
            run(60, 1_010.0, 230.0, Verdict::Clean),
            run(90, 1_060.0, 210.0, Verdict::Artifacts),
        ]
    }

    #[test]
    fn what_is_beaten_in_both_or_failed_is_not_on_the_frontier_and_the_knee_is_told() {
        let frontier = of(&bent(), Cost::Watts);
        let on: Vec<f64> =
            frontier.frontier.iter().map(|place| frontier.points[*place].cost).collect();
        assert_eq!(on, [150.0, 170.0, 200.0, 230.0]);
        let knee = frontier.point(frontier.knee.unwrap()).unwrap();
        assert_eq!(knee.cost, 170.0);
        let (first, _) = frontier.ends().unwrap();
        assert!((first.slope_to(knee) - 0.44).abs() < 0.005, "{}", first.slope_to(knee));
        assert_eq!(
            frontier.points.iter().find(|p| p.cost == 210.0).unwrap().failed,
            Some(Verdict::Artifacts)
        );
        let stock = frontier.point(frontier.stock.unwrap()).unwrap();
        assert!(stock.is_stock && stock.cost == 200.0);
        let beside = frontier.beside_stock(frontier.knee.unwrap()).unwrap();
        let figures =
            [beside.work_percent, beside.cost_percent, beside.cost, beside.per_cost_percent];
        let expected = [-2.0, -15.0, -30.0, 15.294];
        let apart = figures.into_iter().zip(expected).map(|(figure, right)| figure - right);
        assert!(apart.into_iter().all(|apart| apart.abs() < 0.001), "{beside:?}");
        assert_eq!(frontier.beside_stock(frontier.stock.unwrap()), None);
    }

    #[test]
    fn what_chance_may_have_beaten_is_not_dominated_and_what_ran_briefly_is_not_recommended() {
        let runs = [
            run(0, 1_000.0, 200.0, Verdict::Clean),
            run(15, 995.0, 205.0, Verdict::Clean),
            run(30, 940.0, 210.0, Verdict::Clean),
        ];
        let frontier = of(&runs, Cost::Watts);
        let dominated: Vec<bool> = frontier.points.iter().map(|point| point.is_dominated).collect();
        assert_eq!(dominated, [false, false, true], "{:?}", frontier.points);
        // The scatter of runs at the same settings widens the errors.
        let wide = [runs.to_vec(), vec![run(0, 900.0, 200.0, Verdict::Clean)]].concat();
        let wide = of(&wide, Cost::Watts);
        assert!(wide.points[1].error > 3.0 * frontier.points[1].error);
        let brief: Vec<Weighed> =
            bent().into_iter().map(|run| Weighed { seconds: Seconds(60.0), ..run }).collect();
        let brief = of(&brief, Cost::Watts);
        assert!(brief.points.iter().all(FrontierPoint::is_unproven));
        assert_eq!(brief.knee, None, "nothing of it is recommended");
        assert!(of(&bent(), Cost::Watts).knee.is_some());
    }

    #[test]
    fn runs_at_the_same_settings_are_one_point_and_one_failure_among_them_counts() {
        let mut runs = bent();
        runs.push(run(-30, 960.0, 174.0, Verdict::Clean));
        let frontier = of(&runs, Cost::Watts);
        let point = frontier.points.iter().find(|point| point.runs == 2).unwrap();
        assert_eq!((point.score, point.cost, point.seconds), (970.0, 172.0, Seconds(1_440.0)));
        // At another speed of the fan, and void: of these the failure alone tells of them.
        let mut failed = run(-30, 0.0, 0.0, Verdict::DriverReset);
        (failed.score, failed.asked.fan) = (None, Some(Fan::Fixed(Percent(60.0))));
        runs.push(failed);
        let frontier = of(&runs, Cost::Watts);
        let point = frontier.points.iter().find(|point| point.runs == 2).unwrap();
        assert_eq!(point.failed, Some(Verdict::DriverReset));
        assert!(!point.is_on_frontier);
    }

    #[rstest]
    #[case(&[], None)]
    #[case(&[(0, 1_000.0, 200.0)], Some((200.0, 200.0)))]
    #[case(&[(0, 1_000.0, 200.0), (30, 1_010.0, 210.0), (60, 1_020.0, 220.0)], Some((200.0, 220.0)))]
    fn a_frontier_without_a_bend_has_ends_and_no_knee(
        #[case] runs: &[(i32, f64, f64)],
        #[case] ends: Option<(f64, f64)>,
    ) {
        let runs: Vec<Weighed> = runs
            .iter()
            .map(|(at, score, watts)| run(*at, *score, *watts, Verdict::Clean))
            .collect();
        let frontier = of(&runs, Cost::Watts);
        assert_eq!(frontier.knee, None);
        assert_eq!(frontier.ends().map(|(first, last)| (first.cost, last.cost)), ends);
    }

    #[test]
    fn half_the_speed_is_fifteen_decibels_less() {
        assert_eq!(fan_noise(Percent(50.0), Decibel(44.0)), Decibel(28.9));
        assert_eq!(fan_noise(Percent(99.99), Decibel(0.0)).to_string(), "0.0 dB");
        assert_eq!(fan_noise(Percent(100.0), Decibel(44.0)), Decibel(44.0));
        assert_eq!(fan_noise(Percent(0.0), Decibel(44.0)), fan_noise(Percent(5.0), Decibel(44.0)));
    }

    #[test]
    fn what_was_not_measured_is_not_weighed() {
        let mut runs = bent();
        runs.iter_mut().for_each(|run| run.hot_spot = None);
        assert_eq!(of(&runs, Cost::Degrees).points, []);
        assert_eq!(of(&runs, Cost::Decibels).frontier.len(), 1, "all at one speed of the fan");
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(64))]
        #[test]
        fn no_point_that_held_beats_one_of_the_frontier(
            places in proptest::collection::vec((0_i32..40, 500.0..1_500.0_f64, 80.0..300.0_f64), 1..40),
        ) {
            let runs: Vec<Weighed> = places
                .iter()
                .map(|(at, score, watts)| run(at * 15, *score, *watts, Verdict::Clean))
                .collect();
            let frontier = of(&runs, Cost::Watts);
            prop_assert!(!frontier.frontier.is_empty());
            for point in &frontier.points {
                let beaten = frontier.points.iter().any(|other| {
                    other.score >= point.score && other.cost <= point.cost
                        && (other.score > point.score || other.cost < point.cost)
                });
                prop_assert!(point.is_on_frontier != beaten
                    || frontier.points.iter().any(|other| other.score == point.score && other.cost == point.cost));
            }
        }
    }
}
