//! What should be looked at before the first change, as a checked list.

use strum::IntoStaticStr;

use crate::card::description::{CardDescription, Channel};
use crate::keep::profile::{Backing, Proof};
use crate::machine::room::Room;
use crate::machine::supply::{Machine, SupplyHeadroom};
use crate::measure::sample::Sample;
use crate::units::Percent;

/// How a prerequisite stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Standing {
    /// As it should be.
    Met,
    /// The user must say something first.
    Open,
    /// Not as it should be.
    Concern,
}

/// One line of the list: what it is about, and what was found.
#[derive(Debug, Clone, PartialEq, IntoStaticStr)]
pub enum Prerequisite {
    /// Whether a copy of the factory state is in the ledger.
    #[strum(to_string = "factory state")]
    FactoryState {
        /// Whether there is one.
        copied: bool,
    },
    /// The room, where the user has described it.
    #[strum(to_string = "room")]
    Room(Option<Room>),
    /// What the power supply has left over, where it is known.
    #[strum(to_string = "power supply")]
    PowerSupply(Option<SupplyHeadroom>),
    /// The sensors.
    #[strum(to_string = "sensors")]
    Sensors {
        /// Those the card does not have.
        missing: Vec<Channel>,
        /// Those it has and that give no reading.
        silent: Vec<Channel>,
    },
    /// Whether other programs load the card.
    #[strum(to_string = "other programs")]
    OtherPrograms(OtherPrograms),
    /// An earlier climb on this card that is not finished.
    #[strum(to_string = "earlier climbs")]
    EarlierClimb(Option<i64>),
    /// The profile in use.
    #[strum(to_string = "profile")]
    Profile(Option<ProfileInUse>),
}

/// What other programs do to an idle card.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum OtherPrograms {
    /// Not known: the card is under a load of ours.
    Unchecked,
    /// Not known: the card does not report it.
    NotReported,
    /// Share of its time they take.
    Take(Percent),
}

/// A profile in use, with what stands behind it.
#[derive(Debug, Clone, PartialEq)]
pub struct ProfileInUse {
    /// Its name.
    pub name: String,
    /// Whether it is proven.
    pub proof: Proof,
    /// The runs made at its settings.
    pub backing: Backing,
}

impl Prerequisite {
    /// What it is about, in a word or two.
    #[must_use]
    pub fn label(&self) -> &'static str {
        self.into()
    }

    /// How it stands.
    #[must_use]
    pub fn standing(&self) -> Standing {
        match self {
            Self::FactoryState { copied: true }
            | Self::Room(Some(_))
            | Self::EarlierClimb(None)
            | Self::Profile(None)
            | Self::OtherPrograms(OtherPrograms::Unchecked) => Standing::Met,
            Self::FactoryState { copied: false } => Standing::Concern,
            Self::Room(None)
            | Self::PowerSupply(None)
            | Self::EarlierClimb(Some(_))
            | Self::OtherPrograms(OtherPrograms::NotReported) => Standing::Open,
            Self::PowerSupply(Some(headroom)) => met_if(headroom.is_enough()),
            Self::Sensors { missing, silent } => {
                met_if(silent.is_empty() && !missing.iter().any(|channel| steers(*channel)))
            }
            Self::OtherPrograms(OtherPrograms::Take(busy)) => met_if(*busy <= MOST_IDLE_LOAD),
            Self::Profile(Some(profile)) => met_if(profile.proof.is_proven()),
        }
    }
}

fn met_if(is_met: bool) -> Standing {
    if is_met { Standing::Met } else { Standing::Concern }
}

/// All that the list is made from.
#[derive(Debug, Clone)]
pub struct Facts<'a> {
    /// The card.
    pub card: &'a CardDescription,
    /// All cards of the machine, this one included.
    pub cards: &'a [&'a CardDescription],
    /// What the user said of the machine.
    pub machine: &'a Machine,
    /// Whether a copy of the factory state is in the ledger.
    pub factory_copied: bool,
    /// The idle card's sensors; none while it cannot be asked, or under load.
    pub idle: Option<&'a Sample>,
    /// An earlier climb on this card that is not finished.
    pub unfinished_climb: Option<i64>,
    /// The profile in use.
    pub profile: Option<ProfileInUse>,
}

/// Above this share of its time spent on other programs, an idle card is not free.
const MOST_IDLE_LOAD: Percent = Percent(1.0);

/// Whether a climb steers by a sensor; the others are merely good to have.
#[must_use]
pub const fn steers(channel: Channel) -> bool {
    matches!(
        channel,
        Channel::CoreClock
            | Channel::BoardPower
            | Channel::CoreTemperature
            | Channel::HotSpot
            | Channel::Load
    )
}

/// The list, in the order in which it is worked through.
#[must_use]
pub fn prerequisites(facts: Facts<'_>) -> Vec<Prerequisite> {
    vec![
        Prerequisite::FactoryState { copied: facts.factory_copied },
        Prerequisite::Room(facts.machine.room),
        Prerequisite::PowerSupply(facts.machine.headroom(facts.cards)),
        sensors(facts.card, facts.idle),
        Prerequisite::OtherPrograms(other_programs(facts.idle)),
        Prerequisite::EarlierClimb(facts.unfinished_climb),
        Prerequisite::Profile(facts.profile),
    ]
}

fn sensors(card: &CardDescription, idle: Option<&Sample>) -> Prerequisite {
    let (there, missing) = Channel::ALL.into_iter().partition(|channel| card.senses(*channel));
    // An idle card draws no frames.
    let is_silent = |channel: &Channel| {
        *channel != Channel::FrameRate && idle.is_some_and(|idle| idle.get(*channel).is_none())
    };
    let there: Vec<Channel> = there;
    Prerequisite::Sensors { missing, silent: there.into_iter().filter(is_silent).collect() }
}

fn other_programs(idle: Option<&Sample>) -> OtherPrograms {
    match idle.map(|sample| sample.background) {
        None => OtherPrograms::Unchecked,
        Some(None) => OtherPrograms::NotReported,
        Some(Some(busy)) => OtherPrograms::Take(busy),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fixtures::{card, sample};
    use crate::keep::profile::Grounds;
    use crate::units::{Seconds, Watt};
    use rstest::rstest;

    struct Desk {
        card: CardDescription,
        machine: Machine,
        idle: Sample,
    }

    impl Desk {
        fn new() -> Self {
            let machine = Machine {
                room: Some(Room::default()),
                supply: Some(Watt(750.0)),
                rest: Some(Watt(150.0)),
                full_fan: None,
                alarms: vec![],
                changes: vec![],
                memories: vec![],
                connectors: vec![],
            };
            let idle = sample();
            let mut card = card();
            card.sensors.retain(|sensor| idle.get(*sensor).is_some());
            Self { card, machine, idle }
        }

        fn facts(&self) -> Facts<'_> {
            Facts {
                card: &self.card,
                cards: &[],
                machine: &self.machine,
                factory_copied: true,
                idle: Some(&self.idle),
                unfinished_climb: None,
                profile: None,
            }
        }
    }

    fn line_of(what: &str, facts: Facts<'_>) -> Prerequisite {
        prerequisites(facts).into_iter().find(|line| line.label() == what).unwrap()
    }

    #[rstest]
    #[case("room", |desk: &mut Desk| desk.machine.room = None, Standing::Open)]
    #[case("room", |_: &mut Desk| (), Standing::Met)]
    #[case("power supply", |desk: &mut Desk| desk.machine.rest = None, Standing::Open)]
    #[case("power supply", |desk: &mut Desk| desk.machine.supply = Some(Watt(450.0)), Standing::Concern)]
    #[case("power supply", |_: &mut Desk| (), Standing::Met)]
    #[case("sensors", |desk: &mut Desk| desk.card.sensors.retain(|s| *s != Channel::HotSpot), Standing::Concern)]
    #[case("sensors", |desk: &mut Desk| desk.card.sensors.retain(|s| *s != Channel::ChipPower), Standing::Met)]
    #[case("sensors", |desk: &mut Desk| desk.idle.voltage = None, Standing::Concern)]
    #[case("other programs", |desk: &mut Desk| desk.idle.background = Some(Percent(4.0)), Standing::Concern)]
    #[case("other programs", |desk: &mut Desk| desk.idle.background = Some(Percent(1.0)), Standing::Met)]
    #[case("other programs", |desk: &mut Desk| desk.idle.background = None, Standing::Open)]
    fn each_line_is_checked(
        #[case] what: &str,
        #[case] change: fn(&mut Desk),
        #[case] expected: Standing,
    ) {
        let mut desk = Desk::new();
        change(&mut desk);
        let cards = [&desk.card];
        let line = line_of(what, Facts { cards: &cards, ..desk.facts() });
        assert_eq!(line.standing(), expected, "{line:?}");
    }

    #[test]
    fn the_sensors_that_are_missing_or_silent_are_named() {
        let mut desk = Desk::new();
        desk.card.sensors.retain(|sensor| *sensor != Channel::ChipPower);
        desk.idle.voltage = None;
        desk.idle.frame_rate = None;
        let Prerequisite::Sensors { missing, silent } = line_of("sensors", desk.facts()) else {
            panic!("not the line of the sensors");
        };
        assert!(missing.contains(&Channel::ChipPower), "{missing:?}");
        assert_eq!(silent, [Channel::Voltage], "an idle card draws no frames");
    }

    #[test]
    fn under_a_load_of_ours_nothing_is_said_of_other_programs_and_silent_sensors() {
        let mut desk = Desk::new();
        desk.idle.voltage = None;
        let busy = Facts { idle: None, ..desk.facts() };
        assert_eq!(
            line_of("other programs", busy.clone()),
            Prerequisite::OtherPrograms(OtherPrograms::Unchecked)
        );
        assert_eq!(line_of("sensors", busy).standing(), Standing::Met);
    }

    #[rstest]
    #[case(None, Standing::Met)]
    #[case(Some(Proof::Proven(Grounds::Hours)), Standing::Met)]
    #[case(Some(Proof::Open { left: Seconds(60.0) }), Standing::Concern)]
    #[case(Some(Proof::Failed { climb: 1, trial: 3, verdict: crate::Verdict::Artifacts }), Standing::Concern)]
    fn a_profile_in_use_that_is_not_proven_is_a_concern(
        #[case] proof: Option<Proof>,
        #[case] expected: Standing,
    ) {
        let desk = Desk::new();
        let in_use =
            |proof| ProfileInUse { name: "daily".into(), proof, backing: Backing::default() };
        let facts = Facts { profile: proof.map(in_use), ..desk.facts() };
        assert_eq!(line_of("profile", facts).standing(), expected);
    }

    #[test]
    fn an_unfinished_climb_and_a_missing_copy_are_told() {
        let desk = Desk::new();
        let facts = || Facts { unfinished_climb: Some(4), factory_copied: false, ..desk.facts() };
        let climb = line_of("earlier climbs", facts());
        assert_eq!(
            (climb.standing(), climb),
            (Standing::Open, Prerequisite::EarlierClimb(Some(4)))
        );
        assert_eq!(line_of("factory state", facts()).standing(), Standing::Concern);
    }
}
