//! What every stage has to say, and what those that search down in voltage or try a few settings say
//! besides.

use crate::card::description::{CardDescription, SettingKind};
use crate::card::settings::Settings;
use crate::climb::search::Tried;
use crate::climb::search::bayesian::Surprise;
use crate::climb::search::depth::Depth;
use crate::climb::{Claim, Climb, ClimbError, Next, OtherLimit, Pair, Stage, TrialRecord};
use crate::load::artifact::Domain;
use crate::units::Mhz;

/// Share by which the score follows the clock, as long as nothing better is known.
pub(super) const SCORE_BY_CLOCK: f64 = 0.75;
/// The same for the memory clock.
pub(super) const SCORE_BY_MEMORY: f64 = 0.12;

/// Trials that a stage still takes if none is spoilt, and the measured length of each, s.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(in crate::climb) struct ToGo {
    pub trials: f64,
    pub seconds: f64,
}

/// What a nudge of a stage's next trial moves.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(in crate::climb) enum NudgeBy {
    /// The clock of a domain.
    Clock(Domain),
    /// Both clocks in their ratio.
    Rungs,
    /// Clock and voltage by turns.
    Turns,
    /// Millivolts taken off.
    Depth,
    /// A setting as the card offers it.
    Setting(SettingKind),
}

/// A stage of a climb.
pub(in crate::climb) trait StageRules: Sync {
    /// What the card would have to offer for it, and does not.
    fn missing(&self, card: &CardDescription) -> Option<&'static str>;

    /// Whether the stages before it found what it builds on.
    ///
    /// # Errors
    /// One it builds on is not among `before`.
    fn builds_on(&self, _before: &[Stage]) -> Result<(), ClimbError> {
        Ok(())
    }

    /// What it wants next; `None` when it is over.
    fn next(&self, climb: &Climb) -> Option<Next>;

    /// The settings it found; none where it found nothing better, or finds no settings by itself.
    fn found(&self, _climb: &Climb) -> Option<Settings> {
        None
    }

    /// Whether it gives score up on purpose, for less noise and heat.
    fn gives_score_up(&self) -> bool {
        false
    }

    /// Length of a clean run that confirms what it found, s.
    fn long_run(&self, climb: &Climb) -> f64 {
        climb.plan.rounds.seconds
    }

    /// Whether clean runs long enough stand behind what it found, `at_kept` being those at these settings.
    fn is_confirmed(&self, climb: &Climb, at_kept: &[&TrialRecord]) -> bool {
        let long = self.long_run(climb);
        at_kept.iter().any(|trial| trial.seconds.value() >= long)
    }

    /// What is claimed of what it found, which lies at `pair` on the map; none where nothing is claimed beyond
    /// its runs.
    fn claim(&self, _climb: &Climb, _pair: Pair) -> Option<Claim> {
        None
    }

    /// The trial of its search that was not to be expected, if there is one.
    fn surprise(&self, _climb: &Climb) -> Option<Surprise> {
        None
    }

    /// What is left of it, after `done` trials.
    fn to_go(&self, climb: &Climb, done: f64) -> ToGo;

    /// What a nudge moves; none where there is nothing to nudge.
    fn nudge_by(&self) -> Option<NudgeBy>;

    /// How it searches down in voltage, where it does.
    fn strategy(&self) -> Option<&'static dyn Strategy> {
        None
    }

    /// What it tries in turn, where it does.
    fn round(&self) -> Option<&'static dyn Round> {
        None
    }
}

/// A trial on the way down.
#[derive(Debug, Clone, Copy)]
pub(in crate::climb) struct Walked<'a> {
    pub tried: Tried<'a, i32>,
    /// Highest clock it held.
    pub top: Mhz,
}

/// How a stage searches down in voltage.
pub(in crate::climb) trait Strategy: Sync {
    /// Whose voltage it moves.
    fn domain(&self) -> Domain {
        Domain::Core
    }

    /// Whether the card must offer its clock, too.
    fn needs_clock(&self) -> bool {
        false
    }

    /// See [`StageRules::builds_on`].
    ///
    /// # Errors
    /// A stage it builds on is not among `before`.
    fn builds_on(&self, _before: &[Stage]) -> Result<(), ClimbError> {
        Ok(())
    }

    /// The scale it goes down on; none where the card offers none.
    fn depth(&self, card: &CardDescription, fine: i32, most: i32) -> Option<Depth> {
        Depth::from_stock(card, fine, most)
    }

    /// What is held in every trial, its voltage aside: what the stages before it keep, with its domain at stock.
    fn base(&self, climb: &Climb, stage: Stage) -> Option<Settings> {
        Some(climb.with_stock(self.domain(), stage))
    }

    /// See [`StageRules::gives_score_up`].
    fn gives_score_up(&self) -> bool {
        false
    }

    /// Millivolts given back of the most that hold.
    fn eased_by(&self, _climb: &Climb) -> i32 {
        0
    }

    /// Whether it holds a highest clock of its own choice.
    fn holds_clock(&self) -> bool {
        false
    }

    /// The highest clock it holds.
    fn top(&self, _climb: &Climb, _depth: &Depth, _walked: &[Walked<'_>]) -> Option<Mhz> {
        None
    }

    /// No deeper than this is worth having, where the trials told.
    fn cap(&self, _climb: &Climb, _walked: &[Walked<'_>], _step: i32) -> Option<i32> {
        None
    }

    /// Depth that a stepwise search begins with; none for its coarse step.
    fn first(&self, _climb: &Climb, _depth: &Depth) -> Option<i32> {
        None
    }

    /// What a share of the voltage is worth, in shares of the score or the watts.
    fn worth(&self) -> f64 {
        SCORE_BY_CLOCK
    }

    /// What it wants before the voltage goes down; `None` once that is found.
    fn first_of_all(&self, _climb: &Climb) -> Option<Next> {
        None
    }

    /// Searches it makes in all.
    fn searches(&self) -> f64 {
        1.0
    }

    /// Whether its reasons name the clock it holds.
    fn says_clock(&self) -> bool {
        false
    }

    /// Whether its clock is worth keeping though no voltage can be taken off.
    fn keeps_its_clock(&self) -> bool {
        false
    }

    /// Whether what it comes to is measured though no voltage can be taken off.
    fn measures_without_depth(&self) -> bool {
        false
    }

    /// The same settings with another power limit, and why that should be measured, too.
    fn other_limit(&self, _climb: &Climb, _settings: &Settings) -> Option<(Settings, OtherLimit)> {
        None
    }
}

/// One of the settings a stage tries.
#[derive(Debug, Clone, PartialEq)]
pub(in crate::climb) struct Candidate {
    pub what: String,
    pub settings: Settings,
}

/// What such a stage tries.
pub(in crate::climb) trait Round: Sync {
    /// The settings it moves, the one that a nudge moves last; the card must offer all of them.
    fn moves(&self) -> &'static [SettingKind];

    /// The same in words.
    fn moved_in_words(&self) -> &'static str;

    /// What it tries, beginning with what that is compared with, as far as the runs so far tell. `base`
    /// is what the stages before it found.
    fn candidates(&self, climb: &Climb, base: Settings) -> Vec<Candidate>;
}
