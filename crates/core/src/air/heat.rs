//! How warm a card becomes: a model of its cooler, learnt from its runs.
//!
//! ```text
//!   T = T_room + a + P · ( R + 1 / (g + h · n^x) )
//! ```
//!
//! | | what | unit |
//! |---|---|---|
//! | `T` | core temperature at the plateau | °C |
//! | `P` | power of the whole board | W |
//! | `n` | fan speed, 0 to 1 | |
//! | `R` | from the chip to the cooler, and what the case adds | K/W |
//! | `g` | what the cooler gives to still air | W/K |
//! | `h` | what the fan adds at full speed | W/K |
//! | `x` | how that grows with the speed: 0.8 for turbulent air over plates, 0.5 for laminar | |
//! | `a` | by how much the room is warmer than the user said, or than was assumed | K |
//!
//! Two resistances in a row, the second of them convection with Nu ∝ Re^x (Incropera et al., *Heat and Mass Transfer*,
//! ch. 3 and 7). The logarithms of `R`, `g` and `h`, and `x` and `a`, have normal priors that are wide enough for coolers
//! of every size; the fit is the most likely set (Gauss and Newton), its errors are the curvature there (Laplace's
//! method: Gelman et al., *Bayesian Data Analysis*, ch. 4). What no run has shown stays as uncertain as it was before.

use crate::card::description::CardDescription;
use crate::card::settings::Settings;
use crate::machine::room::{Case, Room};
use crate::measure::monitor::Seen;
use crate::statistics::{Uncertain, inverse, mean};
use crate::units::{Celsius, Mhz, Percent, Seconds, Watt};

/// Parameters of the model.
const PARAMETERS: usize = 5;
/// Their priors: ln R, ln g, ln h, x, each with its spread. Assumption: a cooler that leaves a card of 250 W some 45 K above
/// the room at full speed; half or twice of each is likely.
const PRIOR: [(f64, f64); 4] = [(-2.5, 0.7), (0.2, 0.8), (1.7, 0.8), (0.75, 0.12)];
/// By how much the room may be off, K: where the user said how warm it is, and where he did not.
const ROOM_SAID: f64 = 1.0;
const ROOM_ASSUMED: f64 = 4.0;
/// Error of one plateau, K: sensors count in degrees, and most plateaus are foreseen, not reached.
const PLATEAU: f64 = 1.0;
/// What a warmer card loses of its clock, in shares of the clock for each K, before anything was seen: mean and spread.
/// Assumption: boards give up a bin of 15 MHz every few degrees.
const CLOCK_BY_HEAT: (f64, f64) = (0.0008, 0.0008);
/// Scatter of the average clock from run to run, in shares. Assumption.
const CLOCK_SCATTER: f64 = 0.001;
/// What a fan draws at full speed, in shares of the power of the board: mean and spread. Assumption.
const FAN_POWER: (f64, f64) = (0.025, 0.02);
/// What a hotter chip draws more, in shares of the power of the board for each K: mean and spread. Assumption.
const POWER_BY_HEAT: (f64, f64) = (0.0, 0.000_6);
/// Scatter of the average power from run to run, in shares. Assumption.
const POWER_SCATTER: f64 = 0.003;
/// A card nearer than this to its temperature target or its ceiling is held back by it, K: it loses far more clock there.
const HELD_BACK: f64 = 3.0;
/// Fan speed taken for none at all, percent.
const STILL: f64 = 1.0;

/// What a run tells of heat.
#[derive(Debug, Clone, PartialEq)]
pub struct HeatRun {
    /// What ran.
    pub load: String,
    /// Settings it ran at, the fan aside: runs alike in these differ in heat alone.
    pub settings: Settings,
    /// Average fan speed.
    pub fan: Percent,
    /// Average power of the board.
    pub power: Watt,
    /// Core temperature it was going to.
    pub plateau: Celsius,
    /// Time in which the distance to that fell to 37 %.
    pub settles_in: Option<Seconds>,
    /// Average clock.
    pub clock: Option<Mhz>,
    /// The room, where the user had said.
    pub room: Option<Room>,
}

impl HeatRun {
    /// What was seen of a load at some settings tells of heat; `None` where the run was too short for a plateau, or a reading
    /// is missing.
    #[must_use]
    pub fn of(load: String, settings: &Settings, seen: &Seen, room: Option<Room>) -> Option<Self> {
        Some(Self {
            load,
            settings: Settings { fan: None, ..*settings },
            fan: seen.fan?,
            power: seen.average_power?,
            plateau: seen.plateau?,
            settles_in: seen.settles_in,
            clock: seen.effective_clock.or_else(|| seen.average_clock()),
            room,
        })
    }

    /// Core temperature above the room, or above one that is assumed, K.
    fn above_room(&self) -> f64 {
        self.plateau.value() - self.room.unwrap_or_default().ambient.value()
    }
}

/// What a card does under one load, by the runs of it.
#[derive(Debug, Clone, PartialEq)]
pub struct LoadHeat {
    /// The load.
    pub load: String,
    /// Mean power of the board at the newest run's settings, as it is with the fan at full speed.
    pub power: Watt,
    /// Clock of the newest run.
    pub clock: Option<Mhz>,
    /// Fan speed and plateau of each run: where the card really was.
    pub seen: Vec<(Percent, Celsius)>,
    /// The plateau that the model gives for the newest run, in its own room.
    pub newest_foretold: Celsius,
    /// Mean time in which the distance to the plateau falls to 37 %; none where no run told.
    pub settles_in: Option<Seconds>,
}

/// A cooler, as its runs show it.
#[derive(Debug, Clone, PartialEq)]
pub struct HeatModel {
    parameters: [f64; PARAMETERS],
    covariance: [[f64; PARAMETERS]; PARAMETERS],
    /// Runs it is fitted to.
    pub runs: usize,
    /// Lowest and highest fan speed of these runs.
    pub speeds: (Percent, Percent),
    /// The case of these runs: another case is another cooler.
    pub case: Case,
    /// Root mean square distance of the plateaus from the fit, K.
    pub residual: f64,
    /// What the card loses of its clock for each K, MHz, as long as neither its target nor its ceiling holds it back.
    pub clock_by_heat: Uncertain,
    /// How the power changes with fan and heat.
    power_by: PowerBy,
    /// Each load that ran, the hottest first.
    pub loads: Vec<LoadHeat>,
}

impl HeatModel {
    /// The cooler of a card, as runs of it show it: those in the newest run's case. `None` without any.
    #[must_use]
    pub fn of(runs: &[HeatRun], card: &CardDescription) -> Option<Self> {
        let case = runs.last()?.room.unwrap_or_default().case;
        let runs: Vec<&HeatRun> =
            runs.iter().filter(|run| run.room.unwrap_or_default().case == case).collect();
        let free = not_held_back(&runs, card);
        let power_by = power_by(&free);
        let points: Vec<Point> = runs.iter().map(|run| Point::of(run)).collect();
        let room_known = runs.iter().any(|run| run.room.is_some());
        let (parameters, covariance) =
            fit(&points, if room_known { ROOM_SAID } else { ROOM_ASSUMED })?;
        let squares = points.iter().map(|point| (point.rise - rise(&parameters, point)).powi(2));
        let residual = (squares.sum::<f64>() / points.len() as f64).sqrt();
        let speeds = runs.iter().map(|run| run.fan.value());
        let lowest = speeds.clone().fold(f64::INFINITY, f64::min);
        let highest = speeds.fold(0.0, f64::max);
        Some(Self {
            parameters,
            covariance,
            runs: points.len(),
            speeds: (Percent(lowest), Percent(highest)),
            case,
            residual,
            clock_by_heat: clock_by_heat(&free, card.limits.boost_clock),
            power_by,
            loads: loads(&runs, &parameters, power_by),
        })
    }

    /// Core temperature at the plateau of a load in a room of `ambient`, with its standard error, at one fan speed.
    /// `power` is what the board draws with the fan at full speed.
    #[must_use]
    pub fn plateau(&self, power: Watt, fan: Percent, ambient: Celsius) -> Uncertain {
        let point = self.settled(power.value(), fan);
        let slopes = slopes(&self.parameters, &point);
        let mut variance = 0.0;
        for (row, one) in self.covariance.iter().zip(&slopes) {
            for (entry, other) in row.iter().zip(&slopes) {
                variance += one * entry * other;
            }
        }
        Uncertain {
            value: ambient.value() + rise(&self.parameters, &point),
            error: variance.max(0.0).sqrt(),
        }
    }

    /// Where a load settles that draws `power` with the fan at full speed: heat and power decide on one another.
    fn settled(&self, power: f64, fan: Percent) -> Point {
        let at = |power, fan: Percent| Point { power, fan: fan.value(), rise: 0.0 };
        let coolest = rise(&self.parameters, &at(power, Percent(100.0)));
        let mut point = at(power, fan);
        for _ in 0..8 {
            let hotter = rise(&self.parameters, &point) - coolest;
            point.power = (power + self.power_by.more(fan, hotter)).max(0.0);
        }
        point
    }

    /// The same where the fan is driven in any way that depends on the temperature: the plateau that holds itself. `speed`
    /// must not fall with the temperature.
    #[must_use]
    pub fn plateau_under(
        &self,
        power: Watt,
        ambient: Celsius,
        speed: impl Fn(Celsius) -> Percent,
    ) -> (Uncertain, Percent) {
        // Below it the fan is too slow to keep the card there, above it too fast.
        let (mut low, mut high) = (ambient.value(), 200.0);
        for _ in 0..40 {
            let middle = f64::midpoint(low, high);
            match self.plateau(power, speed(Celsius(middle)), ambient).value > middle {
                true => low = middle,
                false => high = middle,
            }
        }
        // A fan that starts at a temperature goes on and off about it.
        let at = f64::midpoint(low, high);
        let fan = speed(Celsius(at));
        let error = self.plateau(power, fan, ambient).error;
        (Uncertain { value: at, error }, fan)
    }

    /// Thermal resistance from the core to the room at a fan speed, K/W.
    #[must_use]
    pub fn resistance(&self, fan: Percent) -> Uncertain {
        let per_watt = |watt: f64| self.plateau(Watt(watt), fan, Celsius(0.0));
        let (one, other) = (per_watt(1_000.0), per_watt(0.0));
        Uncertain { value: (one.value - other.value) / 1_000.0, error: one.error / 1_000.0 }
    }
}

/// Where a run was.
#[derive(Debug, Clone, Copy)]
struct Point {
    power: f64,
    fan: f64,
    rise: f64,
}

impl Point {
    fn of(run: &HeatRun) -> Self {
        Self { power: run.power.value(), fan: run.fan.value(), rise: run.above_room() }
    }

    fn speed(&self) -> f64 {
        self.fan.max(STILL) / 100.0
    }
}

/// Rise above the room by the model, K.
fn rise(parameters: &[f64; PARAMETERS], point: &Point) -> f64 {
    let [r, g, h, x, a] = *parameters;
    a + point.power * (r.exp() + 1.0 / (g.exp() + h.exp() * point.speed().powf(x)))
}

/// How that changes with each parameter.
fn slopes(parameters: &[f64; PARAMETERS], point: &Point) -> [f64; PARAMETERS] {
    let [r, g, h, x, _] = *parameters;
    let (still, blown) = (g.exp(), h.exp() * point.speed().powf(x));
    let falls = -point.power / (still + blown).powi(2);
    [point.power * r.exp(), falls * still, falls * blown, falls * blown * point.speed().ln(), 1.0]
}

/// The most likely parameters, and their covariance.
fn fit(
    points: &[Point],
    room: f64,
) -> Option<([f64; PARAMETERS], [[f64; PARAMETERS]; PARAMETERS])> {
    let [r, g, h, x] = PRIOR;
    let prior: [(f64, f64); PARAMETERS] = [r, g, h, x, (0.0, room)];
    let mut parameters = prior.map(|(mean, _)| mean);
    let mut covariance = [[0.0; PARAMETERS]; PARAMETERS];
    for _ in 0..30 {
        let mut curvature = [[0.0; PARAMETERS]; PARAMETERS];
        let mut downhill = [0.0; PARAMETERS];
        for (at, (mean, spread)) in prior.iter().enumerate() {
            curvature[at][at] += spread.powi(-2);
            downhill[at] += (mean - parameters[at]) / spread.powi(2);
        }
        for point in points {
            let off = (point.rise - rise(&parameters, point)) / PLATEAU.powi(2);
            let slopes = slopes(&parameters, point);
            for one in 0..PARAMETERS {
                downhill[one] += slopes[one] * off;
                for other in 0..PARAMETERS {
                    curvature[one][other] += slopes[one] * slopes[other] / PLATEAU.powi(2);
                }
            }
        }
        covariance = inverse(curvature)?;
        let mut largest: f64 = 0.0;
        for one in 0..PARAMETERS {
            let step: f64 =
                (0..PARAMETERS).map(|other| covariance[one][other] * downhill[other]).sum();
            // Logarithms no further than half of one at a time, or it overshoots.
            let most = if one == PARAMETERS - 1 { 5.0 } else { 0.5 };
            let step = step.clamp(-most, most);
            parameters[one] += step;
            largest = largest.max(step.abs());
        }
        if largest < 1e-6 {
            break;
        }
    }
    parameters.iter().all(|value| value.is_finite()).then_some((parameters, covariance))
}

/// Runs alike in load and settings.
fn groups<'a>(runs: &[&'a HeatRun]) -> Vec<Vec<&'a HeatRun>> {
    let mut groups: Vec<Vec<&HeatRun>> = Vec::new();
    for run in runs {
        let is_alike = |group: &&mut Vec<&HeatRun>| {
            group.first().is_some_and(|one| one.load == run.load && one.settings == run.settings)
        };
        match groups.iter_mut().find(is_alike) {
            Some(group) => group.push(run),
            None => groups.push(vec![run]),
        }
    }
    groups
}

/// The slopes of one figure of runs over others, by runs alike in load and settings, each compared with the others of its
/// kind; together with what was believed of them before (a conjugate normal regression: Gelman et al., ch. 14). `of` gives
/// the others and the figure.
fn regression<const N: usize>(
    runs: &[&HeatRun],
    before: [(f64, f64); N],
    scatter: f64,
    of: impl Fn(&HeatRun) -> ([f64; N], f64),
) -> [Uncertain; N] {
    let mut curvature = [[0.0; N]; N];
    let mut sums = [0.0; N];
    for (at, (mean, spread)) in before.iter().enumerate() {
        curvature[at][at] = spread.powi(-2);
        sums[at] = mean * spread.powi(-2);
    }
    for alike in groups(runs) {
        let (others, figures): (Vec<[f64; N]>, Vec<f64>) = alike.iter().map(|run| of(run)).unzip();
        let middle = |values: &[f64]| mean(values).unwrap_or_default();
        let means: [f64; N] = std::array::from_fn(|at| {
            middle(&others.iter().map(|terms| terms[at]).collect::<Vec<_>>())
        });
        let figure = middle(&figures);
        for (terms, value) in others.iter().zip(&figures) {
            let off: [f64; N] = std::array::from_fn(|at| terms[at] - means[at]);
            for one in 0..N {
                sums[one] += off[one] * (value - figure) / scatter.powi(2);
                for other in 0..N {
                    curvature[one][other] += off[one] * off[other] / scatter.powi(2);
                }
            }
        }
    }
    // What was believed before keeps it from being singular.
    let covariance = inverse(curvature).unwrap_or([[0.0; N]; N]);
    std::array::from_fn(|one| Uncertain {
        value: (0..N).map(|at| covariance[one][at] * sums[at]).sum(),
        error: covariance[one][one].sqrt(),
    })
}

/// Runs in which neither the temperature target nor the ceiling held the card back.
fn not_held_back<'a>(runs: &[&'a HeatRun], card: &CardDescription) -> Vec<&'a HeatRun> {
    let is_free = |run: &&HeatRun| {
        let bound = card.limits.held_back_at(run.settings.temperature_target);
        run.plateau < bound - Celsius(HELD_BACK)
    };
    runs.iter().copied().filter(is_free).collect()
}

/// What is lost of the clock for each K.
fn clock_by_heat(runs: &[&HeatRun], clock: Mhz) -> Uncertain {
    let clock = clock.value().max(1.0);
    let runs: Vec<&HeatRun> = runs.iter().copied().filter(|run| run.clock.is_some()).collect();
    let (before, spread) = CLOCK_BY_HEAT;
    let [found] = regression(&runs, [(-before, spread)], CLOCK_SCATTER, |run| {
        ([run.plateau.value()], run.clock.map_or(0.0, Mhz::value) / clock)
    });
    Uncertain { value: -found.value * clock, error: found.error * clock }
}

/// How the power of the board changes with the fan and with the heat.
fn power_by(runs: &[&HeatRun]) -> PowerBy {
    let usual = mean(&runs.iter().map(|run| run.power.value()).collect::<Vec<_>>());
    let usual = usual.unwrap_or_default().max(1.0);
    let [fan, heat] = regression(runs, [FAN_POWER, POWER_BY_HEAT], POWER_SCATTER, |run| {
        ([cubed(run.fan), run.plateau.value()], run.power.value() / usual)
    });
    PowerBy { fan: fan.value * usual, heat: heat.value * usual }
}

fn cubed(fan: Percent) -> f64 {
    (fan.value() / 100.0).clamp(0.0, 1.0).powi(3)
}

/// What changes the power of the board beside its settings.
#[derive(Debug, Clone, Copy, PartialEq)]
struct PowerBy {
    /// What the fan draws at full speed, W: it goes with the third power of the speed (fan laws). A card at its power limit
    /// gives the chip what the fan leaves.
    fan: f64,
    /// By each K that the core is hotter, W: less clock against more leakage.
    heat: f64,
}

impl PowerBy {
    /// By how much more the board draws at a fan speed, with the core so many K hotter, than with the fan at full speed, W.
    fn more(&self, fan: Percent, hotter: f64) -> f64 {
        self.heat * hotter - self.fan * (1.0 - cubed(fan))
    }
}

fn loads(runs: &[&HeatRun], parameters: &[f64; PARAMETERS], power_by: PowerBy) -> Vec<LoadHeat> {
    let at_full_speed = |run: &HeatRun| {
        let point = Point { fan: 100.0, ..Point::of(run) };
        let hotter = run.above_room() - rise(parameters, &point);
        run.power.value() - power_by.more(run.fan, hotter)
    };
    let mut loads: Vec<LoadHeat> = Vec::new();
    for run in runs {
        if loads.iter().any(|load| load.load == run.load) {
            continue;
        }
        let of: Vec<&&HeatRun> = runs.iter().filter(|other| other.load == run.load).collect();
        let newest = of.last().map_or(run, |newest| *newest);
        let powers: Vec<f64> = of
            .iter()
            .filter(|run| run.settings == newest.settings)
            .map(|run| at_full_speed(run))
            .collect();
        let average = |value: fn(&HeatRun) -> Option<f64>| {
            mean(&of.iter().filter_map(|run| value(run)).collect::<Vec<_>>())
        };
        loads.push(LoadHeat {
            load: run.load.clone(),
            power: Watt(mean(&powers).unwrap_or_default()),
            clock: newest.clock,
            newest_foretold: Celsius(
                rise(parameters, &Point::of(newest))
                    + newest.room.unwrap_or_default().ambient.value(),
            ),
            seen: of.iter().map(|run| (run.fan, run.plateau)).collect(),
            settles_in: average(|run| run.settles_in.map(Seconds::value)).map(Seconds),
        });
    }
    loads.sort_by(|a, b| b.power.value().total_cmp(&a.power.value()));
    loads
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fixtures::card;
    use rstest::rstest;

    /// A cooler unlike the one that is assumed: `shrink` of it.
    fn truth(shrink: f64, power: f64, fan: f64, ambient: f64) -> f64 {
        let speed: f64 = fan / 100.0;
        ambient + power * (0.09 / shrink + 1.0 / (shrink * (1.3 + 5.0 * speed.powf(0.8))))
    }

    fn run(fan: f64, power: f64, plateau: f64, ambient: Option<f64>) -> HeatRun {
        let room = ambient.map(|at| Room { ambient: Celsius(at), case: Case::Open });
        HeatRun {
            load: "medley".into(),
            settings: Settings::default(),
            fan: Percent(fan),
            power: Watt(power),
            plateau: Celsius(plateau),
            settles_in: Some(Seconds(130.0)),
            clock: Some(Mhz(2_000.0 - 2.0 * (plateau - 60.0))),
            room,
        }
    }

    #[rstest]
    #[case::as_assumed(1.0, 250.0)]
    #[case::a_small_card(0.33, 80.0)]
    #[case::a_large_cooler(2.5, 400.0)]
    fn three_speeds_tell_the_plateau_at_others_and_in_another_room(
        #[case] shrink: f64,
        #[case] power: f64,
    ) {
        let runs: Vec<HeatRun> = [(100.0, 0.4), (75.0, -0.5), (50.0, 0.3)]
            .into_iter()
            .map(|(fan, off)| run(fan, power, truth(shrink, power, fan, 21.0) + off, Some(21.0)))
            .collect();
        let model = HeatModel::of(&runs, &card()).unwrap();
        for (fan, ambient, bound) in [(60.0, 21.0, 1.5), (90.0, 30.0, 1.5), (35.0, 21.0, 4.0)] {
            let told = model.plateau(Watt(power), Percent(fan), Celsius(ambient));
            let off = told.value - truth(shrink, power, fan, ambient);
            assert!(off.abs() < bound && off.abs() < 3.0 * told.error, "{fan} %: {off} {told:?}");
        }
        assert!(model.residual < 1.0, "{}", model.residual);
    }

    #[test]
    fn what_no_run_has_shown_stays_uncertain() {
        let one = [run(100.0, 250.0, 62.0, Some(22.0))];
        let three = [
            one[0].clone(),
            run(70.0, 250.0, 69.0, Some(22.0)),
            run(45.0, 250.0, 80.0, Some(22.0)),
        ];
        let error = |runs: &[HeatRun], fan| {
            let model = HeatModel::of(runs, &card()).unwrap();
            model.plateau(Watt(250.0), Percent(fan), Celsius(22.0)).error
        };
        assert!(error(&one, 100.0) < 1.2, "where it ran");
        assert!(error(&one, 40.0) > 4.0, "where it never ran");
        assert!(error(&three, 40.0) < error(&one, 40.0) / 2.0);
        let unsaid = [HeatRun { room: None, ..one[0].clone() }];
        assert!(error(&unsaid, 100.0) <= error(&one, 100.0) + 0.3, "in its own room it is as sure");
        assert_eq!(HeatModel::of(&[], &card()), None);
    }

    #[test]
    fn a_case_is_a_cooler_of_its_own() {
        let closed = |run: HeatRun| HeatRun {
            room: Some(Room { ambient: Celsius(22.0), case: Case::Closed }),
            ..run
        };
        let runs =
            [run(100.0, 250.0, 90.0, Some(22.0)), closed(run(100.0, 250.0, 62.0, Some(22.0)))];
        let model = HeatModel::of(&runs, &card()).unwrap();
        assert_eq!((model.runs, model.case), (1, Case::Closed));
        assert!(model.plateau(Watt(250.0), Percent(100.0), Celsius(22.0)).value < 66.0);
    }

    #[test]
    fn the_clock_that_heat_costs_is_read_off_runs_that_differ_in_heat_alone() {
        let runs = [(100.0, 60.0), (70.0, 68.0), (50.0, 78.0)]
            .map(|(fan, plateau)| run(fan, 250.0, plateau, Some(22.0)));
        let slope = HeatModel::of(&runs, &card()).unwrap().clock_by_heat;
        assert!((slope.value - 2.0).abs() < 0.15 && slope.error < 0.3, "{slope:?}");
        let mut other = runs.clone();
        other.iter_mut().zip([0, 1, 2]).for_each(|(run, at)| run.load = at.to_string());
        let slope = HeatModel::of(&other, &card()).unwrap().clock_by_heat;
        assert!(slope.error > 1.0, "other loads have other clocks: {slope:?}");
    }

    #[test]
    fn under_a_curve_the_plateau_is_where_the_fan_holds_it() {
        let runs = [(100.0, 60.0), (60.0, 70.0), (40.0, 79.0)]
            .map(|(fan, plateau)| run(fan, 250.0, plateau, Some(22.0)));
        let model = HeatModel::of(&runs, &card()).unwrap();
        let curve = crate::FanCurve::new(&[(50.0, 30.0), (80.0, 90.0)]).unwrap();
        let (at, fan) = model.plateau_under(Watt(250.0), Celsius(22.0), |at| curve.speed_at(at));
        let back = model.plateau(Watt(250.0), fan, Celsius(22.0)).value;
        assert!((at.value - back).abs() < 0.1, "{at:?} {back}");
        let (summer, faster) =
            model.plateau_under(Watt(250.0), Celsius(30.0), |at| curve.speed_at(at));
        assert!(summer.value > at.value + 2.0 && summer.value < at.value + 8.0 && faster > fan);
    }

    #[test]
    fn resistance_falls_with_the_fan_and_loads_are_told_with_the_hottest_first() {
        let mut runs = vec![run(100.0, 250.0, 60.0, None), run(50.0, 250.0, 75.0, None)];
        runs.push(HeatRun { load: "doldrums".into(), ..run(50.0, 90.0, 41.0, None) });
        let model = HeatModel::of(&runs, &card()).unwrap();
        assert!(model.resistance(Percent(50.0)).value > model.resistance(Percent(100.0)).value);
        let names: Vec<&str> = model.loads.iter().map(|load| load.load.as_str()).collect();
        assert_eq!(names, ["medley", "doldrums"]);
        assert_eq!(model.loads[0].seen.len(), 2);
        let off = model.loads[0].newest_foretold.value() - 75.0;
        assert!(off.abs() < 2.0, "{off}");
        assert_eq!(model.loads[0].settles_in, Some(Seconds(130.0)));
    }
}
