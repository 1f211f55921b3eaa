//! The order of the stages: which a card can climb, and what the user has said of them.

use std::fmt;

use crate::card::description::CardDescription;
use crate::climb::{Climb, ClimbError, Stage, TrialRecord};
use crate::judge::verdict::Meaning;

/// What the user wants of a stage.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, Hash, strum::Display, strum::IntoStaticStr, strum::EnumString,
)]
#[strum(serialize_all = "lowercase")]
pub enum StageOrder {
    /// End it with what is known.
    End,
    /// Leave it out: what it would move stays at stock.
    Skip,
    /// Begin it again; its earlier trials stay in the ledger, but it learns nothing from them.
    Repeat,
}

impl StageOrder {
    /// The order in a word.
    #[must_use]
    pub fn label(self) -> &'static str {
        self.into()
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
        let (stage, order) = (Stage::from_label(stage)?, order.parse().ok()?);
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
    for stage in stages.iter().copied() {
        if distinct.contains(&stage) {
            continue;
        }
        let rules = stage.rules();
        if let Some(setting) = rules.missing(card) {
            return Err(ClimbError::NotOffered { stage, setting, card: card.name.clone() });
        }
        rules.builds_on(&distinct)?;
        distinct.push(stage);
    }
    // Whatever is found is cross-checked in the end.
    distinct.sort_by_key(|stage| *stage == Stage::CrossCheck);
    Ok(distinct)
}

impl Climb {
    /// Whether a card offers what a stage moves, whatever stages come before it.
    #[must_use]
    pub fn is_offered(card: &CardDescription, stage: Stage) -> bool {
        stage.rules().missing(card).is_none()
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

    /// Whether what a stage finds counts: it has begun, and is not left out.
    pub(in crate::climb) fn counts(&self, stage: Stage) -> bool {
        !self.is_skipped(stage) && self.has_begun(stage)
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
}
