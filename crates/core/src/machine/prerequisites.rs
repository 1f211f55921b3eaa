//! What should be looked at before the first change, as a checked list.

use crate::card::description::{CardDescription, Channel};
use crate::keep::profile::Proof;
use crate::machine::supply::Machine;
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

/// One line of the list.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Prerequisite {
    /// What it is about.
    pub what: &'static str,
    /// How it stands.
    pub standing: Standing,
    /// Why, and what to do, in a sentence.
    pub why: String,
}

/// All that the list is made from.
#[derive(Debug, Clone, Copy)]
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
    /// Name of the profile in use, and whether it is proven.
    pub profile: Option<(&'a str, &'a Proof)>,
}

/// Above this share of its time spent on other programs, an idle card is not free.
const MOST_IDLE_LOAD: Percent = Percent(1.0);

/// Sensors a climb steers by; the others are merely good to have.
const STEERED_BY: [Channel; 5] = [
    Channel::CoreClock,
    Channel::BoardPower,
    Channel::CoreTemperature,
    Channel::HotSpot,
    Channel::Load,
];

/// The list, in the order in which it is worked through.
#[must_use]
pub fn prerequisites(facts: &Facts<'_>) -> Vec<Prerequisite> {
    vec![
        factory(facts),
        room(facts),
        supply(facts),
        sensors(facts),
        other_load(facts),
        earlier_climb(facts),
        drift(facts),
    ]
}

fn line(what: &'static str, standing: Standing, why: String) -> Prerequisite {
    Prerequisite { what, standing, why }
}

fn factory(facts: &Facts<'_>) -> Prerequisite {
    if facts.factory_copied {
        let why = "Copied at first sight, to go back to at any time.".into();
        return line("factory state", Standing::Met, why);
    }
    let why = "There is no copy: open this card once with a ledger that can be written.".into();
    line("factory state", Standing::Concern, why)
}

fn room(facts: &Facts<'_>) -> Prerequisite {
    match facts.machine.room {
        Some(room) => line("room", Standing::Met, format!("{room}; part of every trial's record.")),
        None => {
            let why = "Enter its temperature and the case: what holds in winter may not in summer."
                .into();
            line("room", Standing::Open, why)
        }
    }
}

fn supply(facts: &Facts<'_>) -> Prerequisite {
    let Some(headroom) = facts.machine.headroom(facts.cards) else {
        let why = "Enter supply and rest of the machine: the raised limit must fit.".into();
        return line("power supply", Standing::Open, why);
    };
    let worst = format!(
        "worst case {} with every limit raised and transients, of {}: {:.0} % left",
        headroom.worst,
        headroom.supply,
        headroom.margin.value()
    );
    if headroom.is_enough() {
        line("power supply", Standing::Met, format!("{worst}."))
    } else {
        let why = format!("{worst}. Below 10 % keep the power limit at stock.");
        line("power supply", Standing::Concern, why)
    }
}

fn sensors(facts: &Facts<'_>) -> Prerequisite {
    let names = |channels: &[Channel]| {
        let labels: Vec<&str> = channels.iter().map(|channel| channel.label()).collect();
        labels.join(", ")
    };
    let absent = |channel: &Channel| !facts.card.senses(*channel);
    let needed: Vec<Channel> = STEERED_BY.into_iter().filter(absent).collect();
    let missing: Vec<Channel> = Channel::ALL.into_iter().filter(absent).collect();
    if !needed.is_empty() {
        let why = format!("No {}: their readings must be guessed.", names(&needed));
        return line("sensors", Standing::Concern, why);
    }
    let silent: Vec<Channel> = match facts.idle {
        Some(sample) => {
            let dumb = |c: &Channel| *c != Channel::FrameRate && sample.get(*c).is_none();
            Channel::ALL.into_iter().filter(|c| facts.card.senses(*c)).filter(dumb).collect()
        }
        None => Vec::new(),
    };
    match (silent.as_slice(), missing.as_slice()) {
        ([], []) => line("sensors", Standing::Met, "All there.".into()),
        ([], _) => line("sensors", Standing::Met, format!("All but {}.", names(&missing))),
        _ => line("sensors", Standing::Concern, format!("Silent: {}.", names(&silent))),
    }
}

fn other_load(facts: &Facts<'_>) -> Prerequisite {
    let Some(sample) = facts.idle else {
        return line("other programs", Standing::Met, "Checked while the card idles.".into());
    };
    match sample.background {
        Some(busy) if busy > MOST_IDLE_LOAD => {
            let why = format!(
                "They keep the card busy ({:.1} % of the time): close them, or runs will not count.",
                busy.value()
            );
            line("other programs", Standing::Concern, why)
        }
        Some(_) => line("other programs", Standing::Met, "Nothing else loads the card.".into()),
        None => line("other programs", Standing::Open, "This card does not report it.".into()),
    }
}

fn earlier_climb(facts: &Facts<'_>) -> Prerequisite {
    match facts.unfinished_climb {
        None => line("earlier climbs", Standing::Met, "None is unfinished.".into()),
        Some(climb) => {
            let why =
                format!("Climb {climb} is unfinished: go on with it, or give it up for a new one.");
            line("earlier climbs", Standing::Open, why)
        }
    }
}

fn drift(facts: &Facts<'_>) -> Prerequisite {
    match facts.profile {
        None => line("profile", Standing::Met, "None is in use.".into()),
        Some((name, Proof::Proven(why))) => {
            line("profile", Standing::Met, format!("\"{name}\" is proven. {why}"))
        }
        Some((name, proof)) => {
            let why = format!("\"{name}\" is {}. {}", proof.label(), proof.why());
            line("profile", Standing::Concern, why)
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fixtures::{card, sample};
    use crate::machine::room::Room;
    use crate::units::Watt;
    use rstest::rstest;

    fn standing_of(
        what: &str,
        change: impl Fn(&mut CardDescription, &mut Machine, &mut Sample),
        rest: impl Fn(&mut Facts<'_>),
    ) -> (Standing, String) {
        let (mut card, mut idle) = (card(), sample());
        let mut machine = Machine {
            room: Some(Room::default()),
            supply: Some(Watt(750.0)),
            rest: Some(Watt(150.0)),
            full_fan: None,
            alarms: vec![],
        };
        change(&mut card, &mut machine, &mut idle);
        let cards = [&card];
        let mut facts = Facts {
            card: &card,
            cards: &cards,
            machine: &machine,
            factory_copied: true,
            idle: Some(&idle),
            unfinished_climb: None,
            profile: None,
        };
        rest(&mut facts);
        let found = prerequisites(&facts).into_iter().find(|line| line.what == what).unwrap();
        (found.standing, found.why)
    }

    #[rstest]
    #[case("room", |_: &mut _, m: &mut Machine, _: &mut _| m.room = None, Standing::Open, "may not in summer")]
    #[case("power supply", |_: &mut _, m: &mut Machine, _: &mut _| m.rest = None, Standing::Open, "Enter supply and rest")]
    #[case("power supply", |_: &mut _, m: &mut Machine, _: &mut _| m.supply = Some(Watt(450.0)), Standing::Concern, "keep the power limit at stock")]
    #[case("power supply", |_: &mut _, _: &mut _, _: &mut _| (), Standing::Met, "worst case 508 W")]
    #[case("sensors", |c: &mut CardDescription, _: &mut _, _: &mut _| c.sensors.retain(|s| *s != Channel::HotSpot), Standing::Concern, "No hot spot")]
    #[case("sensors", |c: &mut CardDescription, _: &mut _, _: &mut _| c.sensors.retain(|s| !matches!(s, Channel::MemoryTemperature | Channel::ChipPower)), Standing::Met, "All but chip power, memory temperature")]
    #[case("sensors", |_: &mut _, _: &mut _, s: &mut Sample| s.voltage = None, Standing::Concern, "Silent: voltage")]
    #[case("other programs", |_: &mut _, _: &mut _, s: &mut Sample| s.background = Some(Percent(4.0)), Standing::Concern, "4.0 % of the time")]
    #[case("other programs", |_: &mut _, _: &mut _, s: &mut Sample| s.background = None, Standing::Open, "does not report it")]
    fn each_line_is_checked(
        #[case] what: &str,
        #[case] change: impl Fn(&mut CardDescription, &mut Machine, &mut Sample),
        #[case] expected: Standing,
        #[case] told: &str,
    ) {
        let (standing, why) = standing_of(what, change, |_| ());
        assert_eq!(standing, expected, "{why}");
        assert!(why.contains(told), "{why}");
    }

    #[rstest]
    #[case(None, Standing::Met, "None is in use")]
    #[case(Some(Proof::Proven("An hour.".into())), Standing::Met, "is proven. An hour.")]
    #[case(Some(Proof::Open("Kept under driver 0.9.".into())), Standing::Concern, "not proven. Kept")]
    #[case(Some(Proof::Failed("Trial 3.".into())), Standing::Concern, "failed. Trial 3")]
    fn a_profile_in_use_that_is_not_proven_is_a_concern(
        #[case] proof: Option<Proof>,
        #[case] expected: Standing,
        #[case] told: &str,
    ) {
        // The list is made of borrowed facts; what a test leaks ends with it.
        let profile = proof.map(|proof| ("daily", &*Box::leak(Box::new(proof))));
        let (standing, why) = standing_of("profile", |_, _, _| (), |f| f.profile = profile);
        assert_eq!(standing, expected);
        assert!(why.contains(told), "{why}");
    }

    #[test]
    fn an_unfinished_climb_and_a_missing_copy_are_told() {
        let (standing, why) =
            standing_of("earlier climbs", |_, _, _| (), |f| f.unfinished_climb = Some(4));
        assert!(standing == Standing::Open && why.contains("Climb 4"), "{why}");
        let (standing, _) =
            standing_of("factory state", |_, _, _| (), |f| f.factory_copied = false);
        assert_eq!(standing, Standing::Concern);
    }
}
