//! What took the machine down, and what is therefore not tried again without a yes: neither by the
//! plan nor by hand, neither in this climb nor in any other on the same card.

use crate::card::description::CardDescription;
use crate::card::settings::Settings;
use crate::climb::search::axis::Axis;
use crate::climb::{Climb, Risk};
use crate::judge::verdict::Verdict;
use crate::units::MhzOffset;

/// A trial that took the machine down, or has no outcome.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Downed {
    /// Its climb.
    pub climb: i64,
    /// Its number there.
    pub trial: u32,
    /// What was asked.
    pub asked: Settings,
    /// What the card held.
    pub held: Settings,
}

impl Downed {
    /// Whether settings are at least as bold as these.
    #[must_use]
    pub fn bars(&self, settings: &Settings, card: &CardDescription) -> bool {
        settings.is_at_least_as_bold_as(&self.held, card)
    }

    /// The risk of settings that are at least as bold as these. `climb` is named where it is given.
    #[must_use]
    pub fn risk(&self, climb: Option<i64>, settings: &Settings, card: &CardDescription) -> Risk {
        Risk::MachineDown {
            trial: self.trial,
            climb,
            is_same: Settings { fan: None, ..self.held } == Settings { fan: None, ..*settings },
            moved: self.held.moved_but_fan(card),
        }
    }
}

impl Climb {
    /// What took the machine down on this card and was not seen to hold since, with the number of
    /// its climb where that is another one.
    fn downed(&self) -> impl Iterator<Item = (Option<i64>, Downed)> {
        let own = self.trials.iter().filter(|trial| trial.verdict() == Verdict::MachineDown);
        let own = own.map(|trial| {
            let (asked, held) = (trial.asked, trial.held());
            let downed = Downed { climb: 0, trial: trial.number, asked, held };
            (None, downed, trial.number as usize)
        });
        let others = self.remembered.iter();
        let others = others.map(|downed| (Some(downed.climb), *downed, self.remembered_after));
        own.chain(others).filter_map(|(climb, downed, after)| {
            let since = self.trials.iter().filter(|trial| trial.number as usize > after);
            let mut held = since.filter(|trial| trial.verdict().is_without_fault());
            let holds_now = held.any(|trial| downed.bars(&trial.held(), &self.card));
            (!holds_now).then_some((climb, downed))
        })
    }

    /// What took the machine down that settings are at least as bold as.
    fn barring(&self, settings: &Settings) -> impl Iterator<Item = (Option<i64>, Downed)> {
        self.downed().filter(|(_, downed)| downed.bars(settings, &self.card))
    }

    /// What might happen under settings at least as bold as some that took the machine down; `None`
    /// where there are no such.
    #[must_use]
    pub fn risk_of(&self, settings: &Settings) -> Option<Risk> {
        let (climb, downed) = self.barring(settings).next()?;
        Some(downed.risk(climb, settings, &self.card))
    }

    /// Whether settings are at least as bold as some that took the machine down.
    pub(in crate::climb) fn is_barred(&self, settings: &Settings) -> bool {
        self.barring(settings).next().is_some()
    }

    /// The same, by what other climbs on this card remember.
    pub(in crate::climb) fn is_barred_by_others(&self, settings: &Settings) -> bool {
        self.barring(settings).any(|(climb, _)| climb.is_some())
    }

    /// The lowest value of an axis at which `base` would be as bold as what took the machine down.
    pub(in crate::climb) fn barred_from(&self, axis: &Axis, base: &Settings) -> Option<MhzOffset> {
        let bin = axis.in_bins(1);
        let up = |value: &MhzOffset| Some(*value + bin);
        let values = std::iter::successors(Some(MhzOffset::STOCK), up);
        self.barred_among(values.take_while(|value| *value <= axis.highest()), |value| {
            let mut settings = *base;
            axis.write(&mut settings, value);
            settings
        })
    }

    /// The first of some values, of which `write` makes settings, at which these are as bold as what took
    /// the machine down.
    pub(in crate::climb) fn barred_among<V: Copy>(
        &self,
        mut values: impl Iterator<Item = V>,
        write: impl Fn(V) -> Settings,
    ) -> Option<V> {
        let barred: Vec<Downed> = self.downed().map(|(_, downed)| downed).collect();
        let is_barred = |value: &V| {
            let settings = write(*value);
            barred.iter().any(|downed| downed.bars(&settings, &self.card))
        };
        if barred.is_empty() { None } else { values.find(is_barred) }
    }
}
