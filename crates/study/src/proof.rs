//! Soaks on many stand-ins of many families: what is believed of settings after a night, and after as long as it takes to
//! call them proven, held against what the cards truly do.
//!
//! ```text
//!   climb ─► settings kept ─► soak, a night ─► chance stated ──┐
//!                              └─ on, until proven ─► stated ──┴─► true chance of a day of the same loads
//! ```

use serde::Serialize;
use yard_step_card::{BriefCard, CardChoice, Family};
use yard_step_core::{
    Climb, ClimbEvent, Demand, Exposure, Goal, LoadKind, Margin, Next, OnFault, Plan, SPANS,
    Settings, Soak, SoakLoad, Soaked, Stage,
};
use yard_step_scenes::Scene;

use crate::climbing::{climb, try_out};
use crate::truth::LEAST_CHANCE;
use crate::{StudyError, on_cards, scene_of};

/// Length of a night, hours.
const NIGHT: f64 = 10.0;
/// Longest soak to a proof, hours.
const LONGEST: f64 = 2_500.0;
/// Runs after which a soak is taken to have no end.
const MOST_RUNS: usize = 20_000;
/// A kind of load whose mean time to a fault is below this, hours, while that of all others is a hundred times as long, is
/// a weakness that only it shows.
const WEAK_HOURS: f64 = 1.0;
const OTHERS_HOLD: f64 = 100.0;

type AnyDemand = Box<dyn Fn(u64) -> Demand>;

/// What is to be studied.
#[derive(Debug, Clone)]
pub struct ProofStudy {
    /// The first seed; the others follow it.
    pub first_seed: u64,
    /// Cards, over all kinds and families in turn.
    pub cards: usize,
    /// The kinds.
    pub kinds: Vec<CardChoice>,
    /// The families, each with its name.
    pub families: Vec<(String, Family)>,
    /// The plan of the climbs.
    pub plan: Plan,
    /// Fine steps by which a soak that proves runs bolder settings than it proves.
    pub reserve: u8,
    /// Cards worked on at a time.
    pub threads: usize,
}

/// What a soak came to.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Stated {
    /// Chance of a day that is stated of the settings that stand, 0 to 1.
    pub stated: f64,
    /// The true one.
    pub truth: f64,
    /// Hours spent.
    pub hours: f64,
    /// Faults on the way.
    pub faults: usize,
}

/// One card.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct ProofRow {
    /// Family of the card.
    pub family: String,
    /// Kind of the card.
    pub kind: String,
    /// Its seed.
    pub seed: u64,
    /// What is stated before a soak begins.
    pub before: Stated,
    /// After a night.
    pub night: Stated,
    /// When it was called proven for daily use; none where that never came.
    pub proven: Option<Stated>,
    /// Whether only menus, or only load changes, provoke faults at the settings of a climb under a steady load, and
    /// whether a night found that; none where there is no such fault.
    pub weakness_found: Option<bool>,
}

/// A card under each of the scenes.
struct Cards {
    cards: Vec<(Scene, BriefCard<AnyDemand>)>,
}

impl Cards {
    fn open(kind: &CardChoice, seed: u64, family: &Family) -> Result<Self, StudyError> {
        let scenes = Scene::ALL.into_iter();
        let cards = scenes.map(|scene| {
            let card = kind.open_of_family(seed, 0, Some(family))?;
            let demand: AnyDemand = Box::new(move |frame| scene.demand(frame));
            // Every scene meets a course of chance of its own.
            Ok((scene, BriefCard::new(card, demand, scene.period(), 100 + scene as u64)))
        });
        Ok(Self { cards: cards.collect::<Result<_, StudyError>>()? })
    }

    fn under(&mut self, load: &str) -> Option<(Scene, &mut BriefCard<AnyDemand>)> {
        let found = self.cards.iter_mut().find(|(scene, _)| scene.name() == load);
        found.map(|(scene, card)| (*scene, card))
    }

    /// True chance of a day made of these loads, 0 to 1.
    fn chance(&mut self, settings: &Settings, loads: &[SoakLoad]) -> f64 {
        let whole: f64 = loads.iter().map(|load| load.share).sum();
        let mut chance = 1.0;
        for load in loads {
            if let Some((_, card)) = self.under(&load.load) {
                chance *= card.chance_of_a_day(settings).powf(load.share / whole);
            }
        }
        chance
    }

    /// Whether one kind of load among light load and load changes fails soon at settings while all others hold long.
    fn weakness(&mut self, settings: &Settings, loads: &[SoakLoad]) -> bool {
        let mut rate = |load: &SoakLoad| {
            let (_, card) = self.under(&load.load)?;
            Some((load.kind?, card.steady(settings).faults_per_hour))
        };
        let rates: Vec<(LoadKind, f64)> = loads.iter().filter_map(&mut rate).collect();
        let weak =
            |kind: LoadKind| matches!(kind, LoadKind::Light | LoadKind::Changes | LoadKind::Cold);
        let soon = rates.iter().any(|(kind, rate)| weak(*kind) && *rate > 1.0 / WEAK_HOURS);
        let others = rates.iter().filter(|(kind, _)| !weak(*kind));
        soon && others.map(|(_, rate)| *rate).fold(0.0, f64::max) < 1.0 / OTHERS_HOLD
    }
}

impl ProofStudy {
    /// Makes the study. `done` is called from any thread after each card, with how many are done.
    ///
    /// # Errors
    /// A card cannot be opened, a climb cannot be laid out, or the plan's scene is none of ours.
    pub fn run(&self, done: &(dyn Fn(usize) + Sync)) -> Result<Vec<ProofRow>, StudyError> {
        scene_of(&self.plan)?;
        let numbers: Vec<usize> = (0..self.cards).collect();
        let mut rows = on_cards(&numbers, self.threads, done, |number| self.on_card(number))?;
        rows.sort_by_key(|row: &ProofRow| row.seed);
        Ok(rows)
    }

    fn on_card(&self, number: usize) -> Result<Vec<ProofRow>, StudyError> {
        let kinds = self.kinds.len().max(1);
        let (Some(kind), Some((name, family))) = (
            self.kinds.get(number % kinds),
            self.families.get(number / kinds % self.families.len().max(1)),
        ) else {
            return Ok(Vec::new());
        };
        let seed = self.first_seed + number as u64;
        let mut cards = Cards::open(kind, seed, family)?;
        let climbed = self.climb(&mut cards, &self.plan)?;
        let Some((settings, claim)) = climbed else { return Ok(Vec::new()) };
        let soak = soak_of(settings, claim, Goal::Hours(NIGHT));
        let before = self.soak(&mut cards, &Soak { ended: true, ..soak.clone() })?;
        let night = self.soak(&mut cards, &soak)?;
        let goal = Goal::Proven(SPANS[0].1);
        let (long, is_proven) =
            self.soaked(&mut cards, &Soak { goal, reserve: self.reserve, ..soak })?;
        let proven = is_proven.then_some(long);
        Ok(vec![ProofRow {
            family: name.clone(),
            kind: kind.to_string().replace("standin:", ""),
            seed,
            before,
            night,
            proven,
            weakness_found: self.weakness(&mut cards)?,
        }])
    }

    /// What a climb keeps, and claims for a day; none where it keeps stock.
    fn climb(
        &self,
        cards: &mut Cards,
        plan: &Plan,
    ) -> Result<Option<(Settings, Option<f64>)>, StudyError> {
        let Some((scene, card)) = cards.under(&plan.scene) else { return Ok(None) };
        card.set_course(0);
        let description = card.description().clone();
        let stages = Climb::stages_on(&description);
        let laid_out = Climb::new(description, plan.clone(), &stages)?;
        let climbed = climb(card, laid_out, scene.mean_load(), false);
        let outcome = climbed.outcome;
        let kept = !outcome.moved.is_empty();
        Ok(kept.then(|| (outcome.settings, outcome.claim.map(|claim| claim.chance))))
    }

    /// Whether a night finds what only menus or load changes provoke, at settings found under a steady load.
    fn weakness(&self, cards: &mut Cards) -> Result<Option<bool>, StudyError> {
        let steady = Plan { scene: Scene::Lantern.name().into(), ..self.plan.clone() };
        let Some((settings, claim)) = self.climb(cards, &steady)? else { return Ok(None) };
        if !cards.weakness(&settings, &Soak::usual_loads()) {
            return Ok(None);
        }
        let soak = Soak { on_fault: OnFault::Stop, ..soak_of(settings, claim, Goal::Hours(NIGHT)) };
        Ok(Some(self.soak(cards, &soak)?.faults > 0))
    }

    /// Runs a soak to its end.
    fn soak(&self, cards: &mut Cards, soak: &Soak) -> Result<Stated, StudyError> {
        self.soaked(cards, soak).map(|(stated, _)| stated)
    }

    /// The same, and whether a day is proven then.
    fn soaked(&self, cards: &mut Cards, soak: &Soak) -> Result<(Stated, bool), StudyError> {
        let Some((_, card)) = cards.under(&self.plan.scene) else {
            return Err(StudyError::Scene(self.plan.scene.clone()));
        };
        let description = card.description().clone();
        let stages = Climb::stages_on(&description);
        let mut climb = Climb::new(description, self.plan.clone(), &stages)?;
        climb.handle(ClimbEvent::Soak(Some(Box::new(soak.clone()))));
        let (mut hours, mut runs) = (0.0, 0);
        while hours < LONGEST && runs < MOST_RUNS {
            let Next::Trial(proposal) = climb.next() else { break };
            let request = &proposal.request;
            let Some((scene, card)) =
                cards.under(&request.load).filter(|_| request.stage == Stage::Proof)
            else {
                break;
            };
            let record = try_out(card, &climb, request, scene.mean_load());
            hours += (record.seconds + request.rest).value() / 3_600.0;
            runs += 1;
            climb.handle(ClimbEvent::TrialEnded(Box::new(record)));
        }
        let Some(soaked) = climb.soaked() else { return Err(StudyError::ManyLoads) };
        let Soaked { stands, assurance, spent, faults, .. } = soaked;
        let day = SPANS[0].1;
        let stated = Stated {
            stated: assurance.chances(day).believed,
            truth: cards.chance(&stands, &soak.loads),
            hours: spent.value() / 3_600.0,
            faults: faults.len(),
        };
        Ok((stated, assurance.is_proven(day)))
    }
}

fn soak_of(settings: Settings, claim: Option<f64>, goal: Goal) -> Soak {
    Soak {
        settings,
        of: "what the climb kept".into(),
        loads: Soak::usual_loads(),
        goal,
        on_fault: OnFault::StepBack,
        reserve: 0,
        after: 0,
        before: Exposure::default(),
        claim: claim.map(|chance| (Margin::Daily, chance)),
        ended: false,
        check: None,
    }
}

/// Soaks of which so much was stated.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Tenth {
    /// Stated chances from here on, percent.
    pub from_percent: f64,
    /// Up to here.
    pub to_percent: f64,
    /// How many there are.
    pub soaks: usize,
    /// Mean of what was stated, percent.
    pub stated_percent: f64,
    /// Mean of what is true, percent.
    pub true_percent: f64,
}

/// What a study of proofs came to.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct ProofSummary {
    /// Cards whose climb kept something.
    pub cards: usize,
    /// Those that were called proven for daily use.
    pub proven: usize,
    /// Those of them that do not hold a day with 99 %, in truth.
    pub not_holding: usize,
    /// Hours it took to call them proven: median.
    pub hours_median: f64,
    /// Mean chance stated after a night, and that is true, percent.
    pub night_percent: (f64, f64),
    /// Weaknesses that only menus or load changes show, and those that a night found.
    pub weak: (usize, usize),
    /// What was stated before, after a night and at the end, in tenths.
    pub tenths: Vec<Tenth>,
}

/// The summary of rows.
#[must_use]
pub fn proof_summary(rows: &[ProofRow]) -> ProofSummary {
    let mean =
        |values: &[f64]| yard_step_core::statistics::mean(values).unwrap_or_default() * 100.0;
    let proven: Vec<Stated> = rows.iter().filter_map(|row| row.proven).collect();
    let hours: Vec<f64> = proven.iter().map(|stated| stated.hours).collect();
    let nights =
        |of: fn(&Stated) -> f64| mean(&rows.iter().map(|row| of(&row.night)).collect::<Vec<_>>());
    let all: Vec<Stated> = rows
        .iter()
        .flat_map(|row| [Some(row.before), Some(row.night), row.proven])
        .flatten()
        .collect();
    let tenth = |place: usize| {
        let (from, to) = (place as f64 / 10.0, (place + 1) as f64 / 10.0);
        let is_last = place == 9;
        let within: Vec<&Stated> =
            all.iter().filter(|of| of.stated >= from && (of.stated < to || is_last)).collect();
        let of = |of: fn(&Stated) -> f64| mean(&within.iter().map(|s| of(s)).collect::<Vec<_>>());
        (!within.is_empty()).then(|| Tenth {
            from_percent: from * 100.0,
            to_percent: to * 100.0,
            soaks: within.len(),
            stated_percent: of(|s| s.stated),
            true_percent: of(|s| s.truth),
        })
    };
    let weak = rows.iter().filter_map(|row| row.weakness_found);
    ProofSummary {
        cards: rows.len(),
        proven: proven.len(),
        not_holding: proven.iter().filter(|stated| stated.truth < LEAST_CHANCE).count(),
        hours_median: yard_step_core::statistics::median(&hours).unwrap_or_default(),
        night_percent: (nights(|s| s.stated), nights(|s| s.truth)),
        weak: (weak.clone().count(), weak.filter(|found| *found).count()),
        tenths: (0..10).filter_map(tenth).collect(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use yard_step_core::{Mhz, MhzOffset, RunAt, Seconds, Variant, VariantTable, Verdict, Watt};

    use crate::families::{family_names, shipped_family};

    fn families() -> Vec<(String, Family)> {
        let named = family_names().map(|name| (name.to_owned(), shipped_family(name)));
        named.map(|(name, family)| (name, family.unwrap().unwrap())).collect()
    }

    #[test]
    fn what_is_called_proven_holds_and_what_is_stated_is_about_true() {
        let study = ProofStudy {
            first_seed: 1_000,
            cards: 36,
            kinds: CardChoice::all(),
            families: families(),
            plan: Plan::default(),
            reserve: 2,
            threads: 2,
        };
        let rows = study.run(&|_| {}).unwrap();
        let of = proof_summary(&rows);
        assert!(of.cards > 20 && of.proven > 5, "{of:?}");
        assert_eq!(of.not_holding, 0, "{of:?}");
        let (stated, truth) = of.night_percent;
        assert!((stated - truth).abs() < 6.0, "{stated} % stated, {truth} % true");
        let sure = of.tenths.last().unwrap();
        assert!((sure.stated_percent - sure.true_percent).abs() < 4.0, "{sure:?}");
    }

    /// A run of settings as the ledger would tell of it.
    fn run_at(load: &str, brief: &yard_step_card::Brief) -> RunAt {
        RunAt {
            climb: 1,
            trial: 1,
            row: 1,
            load: load.into(),
            seconds: brief.seconds,
            verdict: Verdict::Clean,
            score: brief.score,
            power: brief.seen.average_power.map(|power| Watt(power.value())),
            clock: brief.seen.average_clock().map(|clock| Mhz(clock.value())),
            driver: None,
            fan: brief.taken.fan,
            core_temperature: None,
            hot_spot: None,
            memory_temperature: None,
            ambient: None,
            began: 0,
            mean_load: None,
            is_cold: false,
            fan_speed: None,
            frame_rates: None,
        }
    }

    #[test]
    fn before_and_after_rank_settings_as_they_truly_are_wherever_they_claim_a_difference() {
        let (mut claims, mut wrong) = (0, 0);
        for seed in 0..67 {
            let kind = &CardChoice::all()[seed as usize % 3];
            let mut cards = Cards::open(kind, 7_000 + seed, &Family::default()).unwrap();
            let loads = ["kiln", "lantern", "sluice"];
            let description = cards.under("kiln").unwrap().1.description().clone();
            let stock = Settings::stock(&description);
            let climb =
                Climb::new(description.clone(), Plan::default(), &Climb::stages_on(&description))
                    .unwrap();
            let at = |core: i32, memory: i32| {
                let mut settings = stock;
                for (domain, mhz) in
                    [(yard_step_core::Domain::Core, core), (yard_step_core::Domain::Memory, memory)]
                {
                    if let Some(axis) = climb.axis(domain) {
                        axis.write(&mut settings, axis.bin(f64::from(mhz)).min(MhzOffset(200)));
                    }
                }
                settings
            };
            let tried = [stock, at(15, 0), at(30, 0), at(0, 40)];
            let variants: Vec<Variant> = tried
                .iter()
                .map(|settings| Variant {
                    name: String::new(),
                    settings: *settings,
                    what: String::new(),
                    failed: false,
                })
                .collect();
            let mut runs: Vec<Vec<RunAt>> = vec![Vec::new(); tried.len()];
            for load in loads {
                let (_, card) = cards.under(load).unwrap();
                for _ in 0..2 {
                    for (runs, settings) in runs.iter_mut().zip(&tried) {
                        let brief = card.run(settings, Seconds(200.0), Seconds(20.0));
                        let is_whole = brief.ending == yard_step_card::BriefEnding::Finished
                            && brief.seen.background.is_none_or(|busy| busy.value() < 1.0)
                            && brief.seen.load.is_none_or(|load| load.value() > 90.0);
                        runs.extend(is_whole.then(|| run_at(load, &brief)));
                    }
                }
            }
            let table = VariantTable::of(variants, &runs);
            for (place, load) in table.loads.iter().enumerate() {
                let (_, card) = cards.under(load).unwrap();
                let base = card.steady(&stock).score;
                for (variant, settings) in tried.iter().enumerate().skip(1) {
                    let Some(change) = table.change(variant, place).filter(|of| of.is_clear())
                    else {
                        continue;
                    };
                    let truth = card.steady(settings).score / base - 1.0;
                    claims += 1;
                    wrong += usize::from((truth > 0.0) != (change.percent > 0.0));
                }
            }
        }
        assert!(claims > 80, "{claims} claims");
        assert!(wrong * 20 <= claims, "{wrong} of {claims} claims are wrong");
    }
}
