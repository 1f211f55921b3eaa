//! The stages: which there are on a card, what the user has said of them, and the search that the
//! core and the memory stage are.

use std::fmt;

use crate::card::description::CardDescription;
use crate::climb::search::axis::Axis;
use crate::climb::search::belief::EdgeBelief;
use crate::climb::search::score::{Bend, Gain, ScoreLine, decide, scatter};
use crate::climb::search::{Bracket, Search, SearchStep, Tried};
use crate::climb::stages::undervolt::depth_on;
use crate::climb::{Climb, ClimbError, Next, Purpose, Stage, TrialRecord};
use crate::judge::verdict::{Meaning, Verdict};
use crate::load::artifact::Domain;
use crate::plan::Policy;
use crate::units::{MhzOffset, Seconds};

/// What the user wants of a stage.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum StageOrder {
    /// End it with what is known.
    End,
    /// Leave it out: what it would move stays at stock.
    Skip,
    /// Begin it again; its earlier trials stay in the ledger, but it learns nothing from them.
    Repeat,
}

impl StageOrder {
    const ALL: [(Self, &'static str); 3] =
        [(Self::End, "end"), (Self::Skip, "skip"), (Self::Repeat, "repeat")];

    /// The order in a word.
    #[must_use]
    pub fn label(self) -> &'static str {
        Self::ALL.into_iter().find(|(order, _)| *order == self).map_or("", |(_, label)| label)
    }
}

/// One such wish, and how many trials there were when it was said.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Directive {
    /// The stage.
    pub stage: Stage,
    /// What is wanted of it.
    pub order: StageOrder,
    /// Trials there were by then.
    pub after: u32,
}

impl fmt::Display for Directive {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}:{}@{}", self.stage.label(), self.order.label(), self.after)
    }
}

impl Directive {
    /// Reads what [`Display`](fmt::Display) wrote; a stage's name alone is one that was ended.
    #[must_use]
    pub fn from_text(text: &str) -> Option<Self> {
        let Some((stage, rest)) = text.split_once(':') else {
            let stage = Stage::from_label(text)?;
            return Some(Self { stage, order: StageOrder::End, after: 0 });
        };
        let (order, after) = rest.split_once('@')?;
        let found = StageOrder::ALL.into_iter().find(|(_, label)| *label == order);
        let (stage, order) = (Stage::from_label(stage)?, found?.0);
        Some(Self { stage, order, after: after.parse().ok()? })
    }
}

/// The stages without doubles, each after what it builds on, each possible on the card.
pub(in crate::climb) fn checked(
    card: &CardDescription,
    stages: &[Stage],
) -> Result<Vec<Stage>, ClimbError> {
    let first = stages.first().ok_or(ClimbError::NoStage)?;
    if *first != Stage::Baseline {
        return Err(ClimbError::NoBaseline(*first));
    }
    let mut distinct: Vec<Stage> = Vec::new();
    for stage in stages {
        if distinct.contains(stage) {
            continue;
        }
        if let Some(domain) = stage.domain()
            && Axis::of(card, domain).is_none()
        {
            let setting = match domain {
                Domain::Core => "core clock",
                Domain::Memory => "memory clock offset",
            };
            let card = card.name.clone();
            return Err(ClimbError::NotOffered { stage: *stage, setting, card });
        }
        if *stage == Stage::Power && !Climb::can_raise_power(card) {
            let card = card.name.clone();
            let setting = "power limit above stock";
            return Err(ClimbError::NotOffered { stage: *stage, setting, card });
        }
        let has_both = distinct.contains(&Stage::Core) && distinct.contains(&Stage::Memory);
        if *stage == Stage::Together && !has_both {
            return Err(ClimbError::NothingToCombine);
        }
        if *stage == Stage::Balanced && !distinct.contains(&Stage::Core) {
            return Err(ClimbError::NothingToShare);
        }
        if let Some(setting) = missing_for(card, *stage) {
            let card = card.name.clone();
            return Err(ClimbError::NotOffered { stage: *stage, setting, card });
        }
        distinct.push(*stage);
    }
    Ok(distinct)
}

/// What a card would have to offer for a stage after the two clocks, and does not.
fn missing_for(card: &CardDescription, stage: Stage) -> Option<&'static str> {
    if stage.is_undervolting() && depth_on(card, stage, 1, i32::MAX).is_none() {
        return Some("core voltage");
    }
    if !stage.is_round() || Climb::can_round(card, stage) {
        return None;
    }
    Some(match stage {
        Stage::Window => "lowest and highest clock",
        Stage::Timing => "memory timing level",
        _ => "memory clock offset",
    })
}

impl Climb {
    /// Whether a card offers what a stage moves, whatever stages come before it.
    #[must_use]
    pub fn is_offered(card: &CardDescription, stage: Stage) -> bool {
        let has = |domain| Axis::of(card, domain).is_some();
        match stage {
            Stage::Baseline => true,
            Stage::Power => Self::can_raise_power(card),
            Stage::Core => has(Domain::Core),
            Stage::Memory => has(Domain::Memory),
            Stage::Together => has(Domain::Core) && has(Domain::Memory),
            Stage::Balanced | Stage::MaxClock => {
                has(Domain::Core) && missing_for(card, stage).is_none()
            }
            Stage::UndervoltClock
            | Stage::UndervoltQuiet
            | Stage::Window
            | Stage::Timing
            | Stage::MemoryForCore => missing_for(card, stage).is_none(),
            Stage::Own => false,
        }
    }

    /// The stages of this climb with another one behind them; the same where it has that already.
    ///
    /// # Errors
    /// The card does not offer what the stage moves, or it builds on a stage that is not there.
    pub fn with_stage(&self, stage: Stage) -> Result<Vec<Stage>, ClimbError> {
        let stages: Vec<Stage> = self.stages.iter().copied().chain([stage]).collect();
        checked(&self.card, &stages)
    }

    /// The stages of a climb that nobody chose stages for, as far as a card can climb them.
    #[must_use]
    pub fn stages_on(card: &CardDescription) -> Vec<Stage> {
        Stage::USUAL.into_iter().filter(|stage| Self::is_offered(card, *stage)).collect()
    }

    /// What the user has said of the stages, in order.
    #[must_use]
    pub fn directives(&self) -> &[Directive] {
        &self.directives
    }

    fn last_order(&self, stage: Stage) -> Option<Directive> {
        self.directives.iter().rev().find(|said| said.stage == stage).copied()
    }

    /// Whether the user has ended or skipped a stage.
    pub(in crate::climb) fn is_over(&self, stage: Stage) -> bool {
        self.last_order(stage).is_some_and(|said| said.order != StageOrder::Repeat)
    }

    /// Whether the user has left a stage out.
    #[must_use]
    pub fn is_skipped(&self, stage: Stage) -> bool {
        self.last_order(stage).is_some_and(|said| said.order == StageOrder::Skip)
    }

    /// Whether a stage wants nothing more.
    #[must_use]
    pub fn is_done(&self, stage: Stage) -> bool {
        self.next_of(stage).is_none()
    }

    /// Whether a trial of a stage was made since it was last begun anew.
    #[must_use]
    pub fn has_begun(&self, stage: Stage) -> bool {
        self.counted_of(stage).next().is_some()
    }

    /// Trials of a stage since it was last begun anew.
    pub(in crate::climb) fn counted_of(
        &self,
        stage: Stage,
    ) -> impl DoubleEndedIterator<Item = &TrialRecord> {
        let since = self
            .directives
            .iter()
            .filter(|said| said.stage == stage && said.order == StageOrder::Repeat)
            .map(|said| said.after)
            .max()
            .unwrap_or(0);
        self.trials_of(stage).filter(move |trial| trial.number > since)
    }

    /// The newest trials of a stage that prove nothing, without one between them that does.
    pub(in crate::climb) fn in_vain(&self, stage: Stage) -> Vec<&TrialRecord> {
        self.counted_of(stage)
            .rev()
            .take_while(|run| run.number as usize > self.taken_up_after)
            .filter(|run| !run.was_stopped())
            .take_while(|run| run.verdict().meaning() == Meaning::ProvesNothing)
            .collect()
    }

    /// Trials that are evidence for one domain with the other at stock.
    pub(in crate::climb) fn tried_alone(&self, domain: Domain) -> Vec<Tried<'_>> {
        let Some(axis) = self.axis(domain) else { return Vec::new() };
        let stage = match domain {
            Domain::Core => Stage::Core,
            Domain::Memory => Stage::Memory,
        };
        let other = self.axis(crate::climb::isolation::other(domain));
        let is_alone = |trial: &&TrialRecord| {
            other.is_none_or(|other| trial.value_on(&other) == MhzOffset::STOCK)
        };
        // A belief takes what it can get; the steps by hand are those of their own stage.
        let beside = (self.plan.policy == Policy::Bayesian).then_some(Stage::Together);
        self.counted_of(stage)
            .chain(beside.into_iter().flat_map(|stage| self.counted_of(stage)))
            .filter(is_alone)
            .map(|record| Tried { value: record.value_on(&axis), record })
            .collect()
    }

    /// The search of a domain by itself.
    pub(in crate::climb) fn search<'a>(
        &'a self,
        axis: &'a Axis,
        tried: &'a [Tried<'a>],
    ) -> Search<'a> {
        let usual = match axis.domain {
            Domain::Core => 0.75 / axis.clock,
            Domain::Memory => 0.12 / axis.clock,
        };
        let (line, bend) = self.score_lines(axis.domain);
        let slope =
            line.as_ref().map_or(usual, |line| line.slope().clamp(usual * 0.2, usual * 2.0));
        Search {
            axis,
            plan: &self.plan,
            tried,
            cap: self.cap(axis, tried, bend),
            slope,
            barred: self.barred_from(axis, &self.powered_settings()),
            taken_up_after: self.taken_up_after,
            is_followed: self.goes_together(),
        }
    }

    /// Runs along a domain's axis that say how fast the card is there, the other at stock, with those
    /// of stock.
    pub(in crate::climb) fn runs_along(&self, domain: Domain) -> Vec<(MhzOffset, &TrialRecord)> {
        let at_stock = if self.powered_settings() == self.held_settings() {
            self.counted_baseline_runs().collect()
        } else {
            self.power_runs()
        };
        let stock = at_stock.into_iter().map(|run| (MhzOffset::STOCK, run));
        let tried = self.tried_alone(domain);
        let raised = tried
            .iter()
            .filter(|trial| matches!(trial.verdict(), Verdict::Clean | Verdict::Slower))
            .map(|trial| (trial.value, trial.record));
        stock.chain(raised).collect()
    }

    /// Scores along a domain's axis with the other at stock, with those of stock.
    fn score_points(&self, domain: Domain) -> Vec<(f64, f64)> {
        let runs = self.runs_along(domain).into_iter();
        runs.filter_map(|(value, run)| Some((f64::from(value.0), run.score?))).collect()
    }

    /// Scatter of single runs on this machine, in shares of their score.
    #[must_use]
    pub fn scatter(&self) -> f64 {
        scatter(&self.counted_baseline_runs().filter_map(|run| run.score).collect::<Vec<_>>())
    }

    /// Score against the clock of one domain, the other at stock, as far up as it rises; and where
    /// more clock brings no more, if it does not.
    fn score_lines(&self, domain: Domain) -> (Option<ScoreLine>, Option<Bend>) {
        let (mut points, scatter) = (self.score_points(domain), self.scatter());
        let mut bend = None;
        loop {
            let line = ScoreLine::fit(&points, scatter);
            // What lies beyond a bend falls ever faster, and must not bend the rest.
            let Some(found) = line.as_ref().and_then(ScoreLine::bend) else { return (line, bend) };
            bend = Some(found);
            points.retain(|(value, _)| *value <= f64::from(found.at.0));
        }
    }

    /// Score against the clock of one domain, the other at stock, as far up as it rises.
    #[must_use]
    pub fn score_line(&self, domain: Domain) -> Option<ScoreLine> {
        self.score_lines(domain).0
    }

    /// Where more clock of a domain brings no more score.
    #[must_use]
    pub fn bend(&self, domain: Domain) -> Option<Bend> {
        self.score_lines(domain).1
    }

    /// The highest value worth keeping, where the score told.
    pub(in crate::climb) fn search_cap(&self, domain: Domain) -> Option<MhzOffset> {
        self.cap(&self.axis(domain)?, &self.tried_alone(domain), self.bend(domain))
    }

    /// The same, for a search that knows its trials and its bend already.
    fn cap(&self, axis: &Axis, tried: &[Tried<'_>], bend: Option<Bend>) -> Option<MhzOffset> {
        let fine = axis.in_bins(self.plan.axis(axis.domain).fine_step_mhz);
        let slow = tried
            .iter()
            .filter(|trial| matches!(trial.verdict(), Verdict::Slower | Verdict::Throttled))
            .map(|trial| trial.value - fine)
            .min();
        [slow, bend.map(|bend| bend.at)].into_iter().flatten().min()
    }

    /// Gain of a value of one domain over stock, the other at stock: share of the score, standard
    /// error, and whether it is one.
    #[must_use]
    pub fn gain_alone(&self, domain: Domain, value: MhzOffset) -> Option<(f64, f64, Gain)> {
        let (gain, error) = self.score_line(domain)?.gain(f64::from(value.0));
        let rules = &self.plan.score;
        let (least, alarm) = (rules.least_gain_percent, rules.false_alarm_percent);
        Some((gain, error, decide(gain, error, least / 100.0, alarm / 100.0)))
    }

    /// What a domain comes to by itself, as far as is known: no higher than it holds, and stock
    /// where its gain was proven not to be one.
    pub(in crate::climb) fn kept_alone(&self, domain: Domain) -> MhzOffset {
        let Some(axis) = self.axis(domain) else { return MhzOffset::STOCK };
        let tried = self.tried_alone(domain);
        let kept = self.search(&axis, &tried).next(true).kept().unwrap_or_default();
        let kept = if domain == Domain::Memory { self.out_of_band(kept) } else { kept };
        match self.gain_alone(domain, kept) {
            Some((_, _, Gain::NotThere)) => MhzOffset::STOCK,
            _ => kept,
        }
    }

    /// What the core or the memory stage wants next; `None` when it is over.
    pub(in crate::climb) fn next_of_axis(&self, stage: Stage) -> Option<Next> {
        let domain = stage.domain()?;
        let axis = self.axis(domain)?;
        if self.is_over(stage) {
            return None;
        }
        let tried = self.tried_alone(domain);
        let search = self.search(&axis, &tried);
        let step = match search.next(false) {
            SearchStep::Kept(value) => self.repeat(&search, value)?,
            step => step,
        };
        match step {
            SearchStep::Kept(_) => None,
            SearchStep::Stuck(why) => Some(Next::Stuck(why)),
            SearchStep::Try { value, purpose, seconds, reason } => {
                let mut asked = self.powered_settings();
                axis.write(&mut asked, value);
                let warm_up = Seconds(search.steps().warm_up_seconds);
                let proposal = self.proposal_after(warm_up, stage, purpose, asked, seconds, reason);
                Some(Next::Trial(Box::new(proposal)))
            }
        }
    }

    /// The same value again, where it is not clear yet whether its gain is one.
    fn repeat(&self, search: &Search<'_>, value: MhzOffset) -> Option<SearchStep> {
        let (gain, error, known) = self.gain_alone(search.axis.domain, value)?;
        let made = search
            .tried
            .iter()
            .filter(|trial| trial.record.purpose == Purpose::Repeat)
            .filter(|trial| trial.meaning() != Meaning::ProvesNothing)
            .count();
        let rules = &self.plan.score;
        if value == MhzOffset::STOCK || known != Gain::Open || made >= rules.most_repeats as usize {
            return None;
        }
        Some(search.unless_stuck(SearchStep::Try {
            value,
            purpose: Purpose::Repeat,
            seconds: Seconds(search.steps().seconds),
            reason: format!(
                "{} brings {:+.1} ± {:.1} %: not clear yet whether that is a gain of {:.1} % or \
                 chance, so once more.",
                search.axis.show(value),
                gain * 100.0,
                error * 100.0,
                rules.least_gain_percent
            ),
        }))
    }

    /// Where the edge of a stage's clock is seen to lie; `None` for a stage that looks for none.
    #[must_use]
    pub fn bracket(&self, stage: Stage) -> Option<Bracket> {
        let domain = stage.domain().filter(|_| self.stages.contains(&stage))?;
        let axis = self.axis(domain)?;
        let tried = self.tried_alone(domain);
        Some(self.search(&axis, &tried).bracket())
    }

    /// What is believed of the edge of a domain by itself.
    #[must_use]
    pub fn belief(&self, domain: Domain) -> Option<EdgeBelief> {
        let axis = self.axis(domain)?;
        let tried = self.tried_alone(domain);
        Some(self.search(&axis, &tried).belief())
    }
}
