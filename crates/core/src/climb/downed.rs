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
            is_same: self.held.is_but_for_fan(settings),
            moved: self.held.moved_but_fan(card),
        }
    }
}

impl Climb {
    /// What took the machine down on this card and was not seen to hold since, with the number of
    /// its climb where that is another one.
    fn downed(&self) -> &[(Option<i64>, Downed)] {
        self.known.downed.get_or_init(|| {
            let own = self.trials.iter().filter(|trial| trial.verdict() == Verdict::MachineDown);
            let own = own.map(|trial| {
                let (asked, held) = (trial.asked, trial.held());
                let downed = Downed { climb: 0, trial: trial.number, asked, held };
                (None, downed, trial.number as usize)
            });
            let others = self.remembered.iter();
            let others = others.map(|downed| (Some(downed.climb), *downed, self.remembered_after));
            let bars_still = |(climb, downed, after): (Option<i64>, Downed, usize)| {
                let since = self.trials.iter().filter(|trial| trial.number as usize > after);
                let mut held = since.filter(|trial| trial.verdict().is_without_fault());
                let holds_now = held.any(|trial| downed.bars(&trial.held(), &self.card));
                (!holds_now).then_some((climb, downed))
            };
            own.chain(others).filter_map(bars_still).collect()
        })
    }

    /// What took the machine down that settings are at least as bold as.
    fn barring(&self, settings: &Settings) -> impl Iterator<Item = &(Option<i64>, Downed)> {
        self.downed().iter().filter(|(_, downed)| downed.bars(settings, &self.card))
    }

    /// What might happen under settings at least as bold as some that took the machine down; `None`
    /// where there are no such.
    #[must_use]
    pub fn risk_of(&self, settings: &Settings) -> Option<Risk> {
        let (climb, downed) = self.barring(settings).next()?;
        Some(downed.risk(*climb, settings, &self.card))
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
        let bin = axis.in_bins(1.0);
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
        let is_barred = |value: &V| self.is_barred(&write(*value));
        if self.downed().is_empty() { None } else { values.find(is_barred) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::air::fan::Fan;
    use crate::climb::{ClimbEvent, Stage, TrialRecord};
    use crate::fixtures::{card, record};
    use crate::plan::Plan;
    use crate::units::{Percent, Watt};
    use rstest::rstest;

    fn at(mhz: i32) -> Settings {
        Settings { core_offset: Some(MhzOffset(mhz)), ..Settings::stock(&card()) }
    }

    fn climb() -> Climb {
        Climb::new(card(), Plan::default(), &[Stage::Baseline, Stage::Core]).unwrap()
    }

    fn ended(climb: &mut Climb, settings: Settings, verdict: Verdict) {
        let number = climb.trials().len() as u32 + 1;
        let trial = TrialRecord {
            asked: settings,
            taken: Some(settings),
            judged: verdict,
            ..record(number)
        };
        climb.handle(ClimbEvent::TrialEnded(Box::new(trial)));
    }

    fn elsewhere(mhz: i32) -> Downed {
        Downed { climb: 3, trial: 8, asked: at(mhz), held: at(mhz) }
    }

    #[rstest]
    #[case::the_same(at(120), true)]
    #[case::bolder(at(135), true)]
    #[case::milder(at(105), false)]
    #[case::with_another_fan(Settings { fan: Some(Fan::Fixed(Percent(100.0))), ..at(120) }, true)]
    #[case::with_less_power(Settings { power_limit: Some(Watt(150.0)), ..at(120) }, true)]
    #[case::stock(at(0), false)]
    fn what_is_at_least_as_bold_as_a_machine_down_is_barred(
        #[case] settings: Settings,
        #[case] barred: bool,
    ) {
        let mut climb = climb();
        ended(&mut climb, at(120), Verdict::MachineDown);
        assert_eq!(climb.risk_of(&settings).is_some(), barred);
        assert_eq!(climb.is_barred(&settings), barred);
        assert!(!climb.is_barred_by_others(&settings), "it was this climb's own");
    }

    #[test]
    fn a_risk_names_the_trial_and_another_climb_and_whether_it_is_the_very_same() {
        let mut climb = climb();
        climb.handle(ClimbEvent::Remembered(vec![elsewhere(90)]));
        let faster = Settings { fan: Some(Fan::Fixed(Percent(100.0))), ..at(90) };
        let expected = |is_same| Risk::MachineDown {
            trial: 8,
            climb: Some(3),
            is_same,
            moved: vec!["core clock offset +90 MHz".into()],
        };
        assert_eq!(climb.risk_of(&faster), Some(expected(true)), "the fan aside");
        assert_eq!(climb.risk_of(&at(105)), Some(expected(false)));
        assert!(climb.is_barred_by_others(&at(105)));
    }

    #[rstest]
    #[case::clean(Verdict::Clean, true)]
    #[case::slower(Verdict::Slower, true)]
    #[case::void(Verdict::Void, false)]
    #[case::artifacts(Verdict::Artifacts, false)]
    fn only_settings_that_held_since_lift_it(#[case] since: Verdict, #[case] lifted: bool) {
        let mut climb = climb();
        ended(&mut climb, at(90), Verdict::MachineDown);
        ended(&mut climb, at(105), since);
        assert_eq!(climb.risk_of(&at(90)).is_none(), lifted);
    }

    #[test]
    fn what_held_before_another_climb_went_down_lifts_nothing() {
        let mut climb = climb();
        ended(&mut climb, at(120), Verdict::Clean);
        climb.handle(ClimbEvent::Remembered(vec![elsewhere(90)]));
        assert!(climb.risk_of(&at(90)).is_some(), "it went down after that");
        ended(&mut climb, at(90), Verdict::Clean);
        assert!(climb.risk_of(&at(90)).is_none());
    }

    #[test]
    fn the_lowest_barred_value_of_an_axis_is_found_in_its_bins() {
        let mut climb = climb();
        let axis = Axis::of(&card(), crate::load::artifact::Domain::Core).unwrap();
        assert_eq!(climb.barred_from(&axis, &at(0)), None);
        climb.handle(ClimbEvent::Remembered(vec![elsewhere(100)]));
        assert_eq!(
            climb.barred_from(&axis, &at(0)),
            Some(MhzOffset(105)),
            "the first bin above 100"
        );
    }
}
