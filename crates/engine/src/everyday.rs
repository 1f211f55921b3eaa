//! A card watched in everyday use: no load of ours, and hours that count.
//!
//! Each stretch of use is a trial in a record of its own, which is no climb and is never taken up as one. Time in which
//! the card idles is no part of a stretch.

use yard_step_core::{EVERYDAY, Plan, Profile, Seconds, Settings, Stage, Told, Verdict};
use yard_step_ledger::{ClimbState, Ledger};

use crate::engine::{Engine, Unfinished};
use crate::error::EngineError;
use crate::overseer::{LiveRun, Overseer, Steer};
use crate::profiles::{needs_no_limits, needs_no_yes};
use crate::rig::Rig;
use crate::view::RunView;

/// Longest stretch: what a crash takes with it is no more than that.
const STRETCH: Seconds = Seconds(600.0);
/// Stretches in one record.
const MOST_STRETCHES: usize = 200;

/// What a stretch of everyday use came to.
#[derive(Debug, Clone)]
pub struct Stretch {
    /// The run, without the time in which the card idled.
    pub run: RunView,
    /// How often the card went from idle to busy and back.
    pub changes: u32,
}

/// A card that is watched while its user's own programs run.
pub struct Everyday {
    engine: Engine,
    settings: Settings,
}

impl Everyday {
    /// Begins to watch a card, at a profile or at what it holds now. Words about the stretch before, where that has no
    /// outcome, come with it.
    ///
    /// # Errors
    /// The profile is as bold as what took the machine down and `yes` is not said, or card or ledger fail.
    pub fn begin(
        rig: Rig,
        ledger: &Ledger,
        profile: Option<&Profile>,
        yes: bool,
    ) -> Result<(Self, Vec<String>), EngineError> {
        let card = rig.card.description().clone();
        if let Some(profile) = profile {
            needs_no_limits(&card, profile)?;
            needs_no_yes(ledger, &card, &profile.settings, yes)?;
        }
        let newest = ledger.climbs_on(&card)?.into_iter().max();
        let record = newest.map(|id| ledger.climb(id)).transpose()?.filter(|entry| {
            entry.state == ClimbState::Everyday && entry.trials.len() < MOST_STRETCHES
        });
        let mut told = Vec::new();
        let mut engine = match record {
            Some(entry) => {
                let (engine, words) =
                    Engine::resume(rig, ledger.clone(), entry, Unfinished::MachineDown)?;
                told.extend(words);
                engine
            }
            None => {
                let engine = Engine::begin(rig, ledger.clone(), plan(), &[Stage::Baseline])?;
                ledger.set_climb_state(engine.climb_id(), ClimbState::Everyday, &[])?;
                engine
            }
        };
        told.extend(engine.told_at_start().map(str::to_owned));
        let settings = match profile {
            Some(profile) => profile.settings.clamped(&card).settings,
            None => engine.card_now().0.ok_or(EngineError::IsDown)?,
        };
        Ok((Self { engine, settings }, told))
    }

    /// What the card holds while it is used.
    #[must_use]
    pub fn settings(&self) -> &Settings {
        &self.settings
    }

    /// Number of the record in the ledger.
    #[must_use]
    pub fn record(&self) -> i64 {
        self.engine.climb_id()
    }

    /// Watches a stretch: until `goes_on` says no, something fails, or the card was busy for ten minutes. `goes_on`
    /// is called ten times for each second of it, and waits as long as it takes.
    ///
    /// # Errors
    /// The card went down or does not take the settings, or the ledger fails.
    pub fn stretch(&mut self, goes_on: &mut dyn FnMut() -> bool) -> Result<Stretch, EngineError> {
        self.engine.wish(&self.settings);
        let mut watcher = Watcher { goes_on, was_at_work: false, changes: 0 };
        // What may happen was told, and agreed to, before it began.
        let run = self.engine.carry_out(true, &mut watcher)?;
        let changes = watcher.changes;
        let ledger = &self.engine.ledger;
        if let Some(row) = ledger.row_of(self.engine.climb_id(), run.number)? {
            ledger.note_trial(row, &format!("load changes: {changes}"))?;
        }
        Ok(Stretch { run, changes })
    }

    /// Puts the card back until the next stretch.
    ///
    /// # Errors
    /// It was not seen to be back.
    pub fn let_go(&mut self) -> Result<(), EngineError> {
        Ok(self.engine.cards.put_back()?)
    }

    /// Lets time pass in which nothing is watched.
    pub fn idle(&mut self, span: Seconds) {
        self.engine.idle(span);
    }

    /// Puts the card back and lets it go.
    ///
    /// # Errors
    /// It was not seen to be back; its guard goes on trying.
    pub fn end(mut self) -> Result<(), EngineError> {
        self.engine.leave()
    }
}

/// Everyday use is judged by its faults alone: the card is never cold, nor are other programs in the way.
fn plan() -> Plan {
    let mut plan = Plan { scene: EVERYDAY.into(), full_load: None, ..Plan::default() };
    plan.rules.most_background_percent = 100.0;
    plan.rules.most_warming_k = 50.0;
    plan
}

struct Watcher<'a> {
    goes_on: &'a mut dyn FnMut() -> bool,
    was_at_work: bool,
    changes: u32,
}

impl Overseer for Watcher<'_> {
    fn tick(&mut self, live: &LiveRun<'_>) -> Steer {
        if live.is_at_work() != self.was_at_work {
            self.was_at_work = live.is_at_work();
            self.changes += 1;
        }
        let ends = !(self.goes_on)() || live.at() >= STRETCH;
        if ends {
            Steer::Told { verdict: Verdict::Clean, told: Told::default() }
        } else {
            Steer::GoOn
        }
    }
}
