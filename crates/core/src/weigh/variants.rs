//! Before and after: settings side by side under several loads, each figure with its error, each change against stock with
//! what chance may bring.
//!
//! | quantity | formula | source |
//! |---|---|---|
//! | scatter of a run | pooled standard deviation of the scores of all cells with two runs or more, relative to their means | analysis of variance within groups |
//! | error of a mean | scatter / √runs | standard error |
//! | a change is clear | beyond twice its standard error | about 95 % of a normal distribution |

use crate::air::fan::Fan;
use crate::card::settings::Settings;
use crate::keep::profile::RunAt;
use crate::statistics::mean;
use crate::units::{Celsius, Mhz, Percent, Watt};
use crate::weigh::scatter;

/// Most variants that are compared.
pub const MOST_VARIANTS: usize = 6;
/// Most loads.
pub const MOST_VARIANT_LOADS: usize = 6;
/// An error below which a change that is not clear is shown to be absent, percent.
const ABSENT: f64 = 0.25;
/// Runs of settings under a load after which a change that is not clear is left at that.
const MOST_RUNS: usize = 8;
/// Runs shorter than this have no figures worth comparing, s.
const LEAST_SECONDS: f64 = 20.0;

/// Settings that are compared.
#[derive(Debug, Clone, PartialEq)]
pub struct Variant {
    /// What they are called.
    pub name: String,
    /// The settings.
    pub settings: Settings,
    /// Everything they move from stock, in words.
    pub what: String,
    /// Whether they may be recommended: nothing failed at them.
    pub failed: bool,
}

/// What settings did under a load, averaged over the runs that count.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct VariantCell {
    /// Runs.
    pub runs: usize,
    /// Score, and its standard error.
    pub score: Option<(f64, f64)>,
    /// Average frames per second, and the rate below which one sample in a hundred lies.
    pub frame_rates: Option<(f64, f64)>,
    /// Average core clock.
    pub clock: Option<Mhz>,
    /// Average power of the board.
    pub power: Option<Watt>,
    /// Highest core temperature.
    pub core: Option<Celsius>,
    /// Highest hot spot.
    pub hot_spot: Option<Celsius>,
    /// Average fan speed.
    pub fan: Option<Percent>,
}

impl VariantCell {
    /// Score for each watt.
    #[must_use]
    pub fn per_watt(&self) -> Option<f64> {
        Some(self.score?.0 / self.power.filter(|power| power.value() > 0.0)?.value())
    }
}

/// A change against stock.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct VariantChange {
    /// Percent of stock.
    pub percent: f64,
    /// Its standard error, percent.
    pub error: f64,
}

impl VariantChange {
    /// Whether it is more than chance.
    #[must_use]
    pub fn is_clear(self) -> bool {
        self.percent.abs() > scatter::CLEAR * self.error
    }
}

/// Settings side by side.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct VariantTable {
    /// The settings, stock first.
    pub variants: Vec<Variant>,
    /// The loads, those with most in common first.
    pub loads: Vec<String>,
    /// For each of the settings, what they did under each load; none where nothing counts.
    pub cells: Vec<Vec<Option<VariantCell>>>,
    /// Loads under which the fan was not driven alike: what that changes is no merit of the settings.
    pub unlike_fans: Vec<String>,
    /// Scatter of a run, percent of the score.
    pub scatter_percent: f64,
}

impl VariantTable {
    /// Puts settings side by side. `runs` are those at each of them, whatever their fan did.
    #[must_use]
    pub fn of(variants: Vec<Variant>, runs: &[Vec<RunAt>]) -> Self {
        let runs: Vec<Vec<&RunAt>> =
            runs.iter().map(|runs| runs.iter().filter(|run| counts(run)).collect()).collect();
        let mut loads: Vec<(String, usize)> = Vec::new();
        for load in runs.iter().flatten().map(|run| &run.load) {
            if !loads.iter().any(|(known, _)| known == load) {
                let has = |of: &&Vec<&RunAt>| of.iter().any(|run| run.load == *load);
                loads.push((load.clone(), runs.iter().filter(has).count()));
            }
        }
        loads.sort_by_key(|(_, shared)| std::cmp::Reverse(*shared));
        loads.truncate(MOST_VARIANT_LOADS);
        let loads: Vec<String> = loads.into_iter().map(|(load, _)| load).collect();
        let mut unlike_fans = Vec::new();
        let mut groups: Vec<Vec<Vec<&RunAt>>> = vec![Vec::new(); runs.len()];
        for load in &loads {
            let under: Vec<Vec<&RunAt>> = runs
                .iter()
                .map(|runs| runs.iter().copied().filter(|run| run.load == *load).collect())
                .collect();
            let common = common_fan(&under);
            if common.is_none() && under.iter().filter(|runs| !runs.is_empty()).count() > 1 {
                unlike_fans.push(load.clone());
            }
            for (group, under) in groups.iter_mut().zip(under) {
                let alike = |run: &&RunAt| common.is_none_or(|fan| fan_of(run) == fan);
                let with_common: Vec<&RunAt> = under.iter().copied().filter(alike).collect();
                group.push(if with_common.is_empty() { under } else { with_common });
            }
        }
        let scores = |runs: &Vec<&RunAt>| runs.iter().filter_map(|run| run.score).collect();
        let scatter = scatter::pooled(groups.iter().flatten().map(scores));
        let cells = groups
            .iter()
            .map(|of_loads| of_loads.iter().map(|runs| cell(runs, scatter)).collect())
            .collect();
        Self { variants, loads, cells, unlike_fans, scatter_percent: scatter * 100.0 }
    }

    /// What settings did under a load.
    #[must_use]
    pub fn cell(&self, variant: usize, load: usize) -> Option<&VariantCell> {
        self.cells.get(variant)?.get(load)?.as_ref()
    }

    /// By how much the score of settings differs from stock under a load.
    #[must_use]
    pub fn change(&self, variant: usize, load: usize) -> Option<VariantChange> {
        let (score, error) = self.cell(variant, load)?.score?;
        let (stock, stock_error) = self.cell(0, load)?.score?;
        let ratio = score / stock;
        // Errors of a ratio of independent means, to first order.
        let relative = ((error / score).powi(2) + (stock_error / stock).powi(2)).sqrt();
        Some(VariantChange { percent: (ratio - 1.0) * 100.0, error: ratio * relative * 100.0 })
    }

    /// The runs that would fill what is missing and make clear what is not, in an order in which warming and drift favour
    /// none: the settings by turns, and back again under the next load. Settings that failed are left out.
    #[must_use]
    pub fn wanted(&self) -> Vec<(usize, usize)> {
        self.by_turns(|usable, load| {
            // What is missing is run beside the others, so that all of them have one fan in common.
            usable.iter().any(|variant| self.cell(*variant, load).is_none())
                || self.loads.get(load).is_some_and(|name| self.unlike_fans.contains(name))
        })
    }

    /// The runs that would make clear what has run and is not clear yet, in such an order.
    #[must_use]
    pub fn unclear(&self) -> Vec<(usize, usize)> {
        self.by_turns(|_, _| false)
    }

    /// The settings by turns under each load where all of them are to `fill` it, or a change is not clear.
    fn by_turns(&self, fill: impl Fn(&[usize], usize) -> bool) -> Vec<(usize, usize)> {
        let usable: Vec<usize> =
            (0..self.variants.len()).filter(|variant| !self.variants[*variant].failed).collect();
        let is_unclear = |variant: usize, load: usize| {
            let runs = self.cell(variant, load).map_or(0, |cell| cell.runs);
            let change = self.change(variant, load).filter(|_| variant > 0 && runs < MOST_RUNS);
            change.is_some_and(|of| !of.is_clear() && of.error > ABSENT)
        };
        let mut wanted = Vec::new();
        for load in 0..self.loads.len() {
            let unclear = usable.iter().any(|variant| is_unclear(*variant, load));
            let fill = fill(&usable, load);
            let mut turn: Vec<(usize, usize)> = usable
                .iter()
                .copied()
                .filter(|variant| fill || is_unclear(*variant, load) || (*variant == 0 && unclear))
                .map(|variant| (variant, load))
                .collect();
            if load % 2 == 1 {
                turn.reverse();
            }
            wanted.extend(turn);
        }
        wanted
    }

    /// How often settings run at most before every change is clear or shown to be absent: twice the square of the scatter over
    /// the largest error of an absent change, the scatter as it was seen so far.
    #[must_use]
    pub fn rounds_at_most(&self) -> usize {
        let runs = 2.0 * (self.scatter_percent / ABSENT).powi(2);
        (runs.ceil() as usize).clamp(1, MOST_RUNS)
    }

    /// The cells in which nothing counts yet, as places of settings and loads.
    #[must_use]
    pub fn missing(&self) -> Vec<(usize, usize)> {
        let all = (0..self.variants.len())
            .flat_map(|variant| (0..self.loads.len()).map(move |load| (variant, load)));
        all.filter(|(variant, load)| self.cell(*variant, *load).is_none()).collect()
    }
}

fn counts(run: &RunAt) -> bool {
    run.verdict.is_without_fault()
        && !run.is_cold
        && run.seconds.value() >= LEAST_SECONDS
        && run.score.is_some_and(|score| score > 0.0)
}

fn fan_of(run: &RunAt) -> Fan {
    run.fan.unwrap_or(Fan::Automatic)
}

/// The fan that most settings ran with under a load, where all that ran have it in common.
fn common_fan(under: &[Vec<&RunAt>]) -> Option<Fan> {
    let ran: Vec<&Vec<&RunAt>> = under.iter().filter(|runs| !runs.is_empty()).collect();
    let first = ran.first()?;
    let shared = |fan: &Fan| ran.iter().all(|runs| runs.iter().any(|run| fan_of(run) == *fan));
    first.iter().map(|run| fan_of(run)).find(shared)
}

fn cell(runs: &[&RunAt], scatter: f64) -> Option<VariantCell> {
    if runs.is_empty() {
        return None;
    }
    let average = |of: &dyn Fn(&RunAt) -> Option<f64>| {
        mean(&runs.iter().filter_map(|run| of(run)).collect::<Vec<_>>())
    };
    let score = average(&|run| run.score)?;
    let low = average(&|run| run.frame_rates.map(|rates| rates.1));
    Some(VariantCell {
        runs: runs.len(),
        score: Some((score, score * scatter / (runs.len() as f64).sqrt())),
        frame_rates: average(&|run| run.frame_rates.map(|rates| rates.0)).zip(low),
        clock: average(&|run| run.clock.map(Mhz::value)).map(Mhz),
        power: average(&|run| run.power.map(Watt::value)).map(Watt),
        core: average(&|run| run.core_temperature.map(Celsius::value)).map(Celsius),
        hot_spot: average(&|run| run.hot_spot.map(Celsius::value)).map(Celsius),
        fan: average(&|run| run.fan_speed.map(Percent::value)).map(Percent),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::judge::verdict::Verdict;
    use crate::units::Seconds;

    fn run(load: &str, score: f64, fan: Option<Fan>) -> RunAt {
        RunAt {
            climb: 1,
            trial: 1,
            row: 1,
            load: load.into(),
            seconds: Seconds(180.0),
            verdict: Verdict::Clean,
            score: Some(score),
            power: Some(Watt(200.0)),
            clock: Some(Mhz(1_950.0)),
            driver: None,
            fan,
            core_temperature: Some(Celsius(68.0)),
            hot_spot: Some(Celsius(80.0)),
            memory_temperature: None,
            began: 0,
            ambient: None,
            mean_load: None,
            is_cold: false,
            fan_speed: Some(Percent(100.0)),
            frame_rates: None,
        }
    }

    fn variant(name: &str) -> Variant {
        Variant {
            name: name.into(),
            settings: Settings::default(),
            what: String::new(),
            failed: false,
        }
    }

    const FULL: Option<Fan> = Some(Fan::Fixed(Percent(100.0)));

    #[test]
    fn a_change_beyond_chance_is_clear_and_a_small_one_is_not() {
        let stock =
            vec![run("kiln", 1_000.0, FULL), run("kiln", 1_004.0, FULL), run("kiln", 996.0, FULL)];
        let tuned = vec![run("kiln", 1_050.0, FULL), run("loom", 900.0, FULL)];
        let same = vec![run("kiln", 1_003.0, FULL)];
        let variants = vec![variant("stock"), variant("tuned"), variant("same")];
        let table = VariantTable::of(variants, &[stock, tuned, same]);
        assert_eq!(table.loads[0], "kiln", "what all ran comes first");
        let change = table.change(1, 0).unwrap();
        assert!((change.percent - 5.0).abs() < 1e-9 && change.is_clear(), "{change:?}");
        assert!(!table.change(2, 0).unwrap().is_clear());
        assert_eq!(table.change(1, 1), None, "stock did not run it");
        assert_eq!(table.missing(), [(0, 1), (2, 1)]);
        // What is unclear is run again beside stock, what is missing beside all, the other way round.
        assert_eq!(table.wanted(), [(0, 0), (2, 0), (2, 1), (1, 1), (0, 1)]);
        assert!((0.3..0.8).contains(&table.scatter_percent), "{}", table.scatter_percent);
    }

    #[test]
    fn what_is_not_clear_is_run_again_until_it_is_shown_to_be_absent_or_has_run_often() {
        let runs = |scores: &[f64]| -> Vec<RunAt> {
            scores.iter().map(|score| run("kiln", *score, FULL)).collect()
        };
        let table = |stock: &[f64], tuned: &[f64]| {
            let variants = vec![variant("stock"), variant("tuned")];
            VariantTable::of(variants, &[runs(stock), runs(tuned)])
        };
        let few = table(&[1_000.0, 1_008.0, 992.0], &[1_003.0]);
        assert_eq!(few.unclear(), [(0, 0), (1, 0)]);
        assert_eq!(few.rounds_at_most(), MOST_RUNS, "{}", few.scatter_percent);
        let quiet = table(&[1_000.0; 6], &[1_001.0; 6]);
        assert!(quiet.unclear().is_empty(), "shown to be absent: {:?}", quiet.change(1, 0));
        assert_eq!(quiet.rounds_at_most(), 2);
        let loud: Vec<f64> = (0..8).map(|at| 1_000.0 + 40.0 * f64::from(at % 2)).collect();
        let often = table(&loud, &loud);
        assert!(often.unclear().is_empty() && !often.change(1, 0).unwrap().is_clear());
        let missing =
            VariantTable::of(vec![variant("stock"), variant("tuned")], &[runs(&[1_000.0]), vec![]]);
        assert_eq!(missing.wanted(), [(0, 0), (1, 0)]);
        assert!(missing.unclear().is_empty());
    }

    #[test]
    fn runs_with_the_same_fan_are_compared_where_there_are_any() {
        let quiet = Some(Fan::Fixed(Percent(40.0)));
        let stock = vec![run("kiln", 1_000.0, FULL), run("kiln", 900.0, quiet)];
        let tuned = vec![run("kiln", 950.0, quiet)];
        let variants = || vec![variant("stock"), variant("tuned")];
        let table = VariantTable::of(variants(), &[stock.clone(), tuned]);
        assert_eq!(table.cell(0, 0).unwrap().score.unwrap().0, 900.0);
        assert!(table.unlike_fans.is_empty());
        let table = VariantTable::of(variants(), &[stock, vec![run("kiln", 950.0, None)]]);
        assert_eq!(table.unlike_fans, ["kiln"]);
    }

    #[test]
    fn what_failed_or_was_too_short_has_no_figures() {
        let short = RunAt { seconds: Seconds(5.0), ..run("kiln", 1_000.0, FULL) };
        let failed = RunAt { verdict: Verdict::Artifacts, ..run("kiln", 1_000.0, FULL) };
        let table = VariantTable::of(vec![variant("stock")], &[vec![short, failed]]);
        assert!(table.loads.is_empty() && table.missing().is_empty());
    }
}
