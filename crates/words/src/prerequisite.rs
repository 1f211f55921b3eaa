//! What should be looked at before the first change.

use yard_step_core::{Channel, OtherPrograms, Prerequisite, SupplyHeadroom, steers};

use crate::proof::proof;

/// How a prerequisite stands and what to do about it, in a sentence or two.
#[must_use]
pub fn prerequisite(prerequisite: &Prerequisite) -> String {
    match prerequisite {
        Prerequisite::FactoryState { copied: true } => {
            "A copy was taken at first sight; you can go back to it at any time.".into()
        }
        Prerequisite::FactoryState { copied: false } => {
            "There is no copy: open this card once with a ledger that can be written.".into()
        }
        Prerequisite::Room(Some(room)) => format!("{room}; kept with every trial."),
        Prerequisite::Room(None) => {
            "Enter its temperature and the case: what holds in winter may not in summer.".into()
        }
        Prerequisite::PowerSupply(Some(headroom)) => supply(headroom),
        Prerequisite::PowerSupply(None) => "Enter the power of the supply and of the rest of the \
                                            machine: the raised limit must fit."
            .into(),
        Prerequisite::Sensors { missing, silent } => sensors(missing, silent),
        Prerequisite::OtherPrograms(OtherPrograms::Unchecked) => {
            "Checked while the card idles.".into()
        }
        Prerequisite::OtherPrograms(OtherPrograms::NotReported) => {
            "This card does not report them.".into()
        }
        Prerequisite::OtherPrograms(OtherPrograms::Take(_)) if is_met(prerequisite) => {
            "Nothing else loads the card.".into()
        }
        Prerequisite::OtherPrograms(OtherPrograms::Take(busy)) => format!(
            "They keep the card busy ({:.1} % of the time): close them, or runs will not count.",
            busy.value()
        ),
        Prerequisite::EarlierClimb(None) => "None is unfinished.".into(),
        Prerequisite::EarlierClimb(Some(climb)) => {
            format!("Climb {climb} is unfinished: go on with it, or start a new one instead.")
        }
        Prerequisite::Profile(None) => "None is in use.".into(),
        Prerequisite::Profile(Some(in_use)) => format!(
            "\"{}\" is {}. {}",
            in_use.name,
            in_use.proof.label(),
            proof(&in_use.proof, &in_use.backing)
        ),
    }
}

fn is_met(prerequisite: &Prerequisite) -> bool {
    prerequisite.standing() == yard_step_core::Standing::Met
}

fn supply(headroom: &SupplyHeadroom) -> String {
    let worst = format!(
        "Worst case {} with every limit raised and transients, of {}: {:.0} % left.",
        headroom.worst,
        headroom.supply,
        headroom.margin.value()
    );
    match headroom.is_enough() {
        true => worst,
        false => format!("{worst} Below 10 %, keep the power limit at stock."),
    }
}

fn sensors(missing: &[Channel], silent: &[Channel]) -> String {
    let names = |channels: &[Channel]| {
        let labels: Vec<&str> = channels.iter().map(|channel| channel.label()).collect();
        labels.join(", ")
    };
    let needed: Vec<Channel> = missing.iter().copied().filter(|channel| steers(*channel)).collect();
    match (needed.as_slice(), silent, missing) {
        ([], [], []) => "All there.".into(),
        ([], [], _) => format!("All but {}.", names(missing)),
        ([], ..) => format!("No reading from {}.", names(silent)),
        _ => format!("Missing: {}. A climb needs them and has to guess.", names(&needed)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use yard_step_core::{Backing, Grounds, Percent, ProfileInUse, Proof, Room, Watt};

    fn headroom(supply: f64) -> SupplyHeadroom {
        SupplyHeadroom {
            supply: Watt(supply),
            sustained: Watt(400.0),
            worst: Watt(508.0),
            margin: Percent((supply - 508.0) / supply * 100.0),
        }
    }

    fn in_use(proof: Proof) -> Prerequisite {
        Prerequisite::Profile(Some(ProfileInUse {
            name: "daily".into(),
            proof,
            backing: Backing::default(),
        }))
    }

    #[rstest]
    #[case(Prerequisite::FactoryState { copied: true }, "A copy was taken at first sight; you can go back to it at any time.")]
    #[case(Prerequisite::FactoryState { copied: false }, "There is no copy: open this card once with a ledger that can be written.")]
    #[case(Prerequisite::Room(Some(Room::default())), "22 °C, case open; kept with every trial.")]
    #[case(
        Prerequisite::Room(None),
        "Enter its temperature and the case: what holds in winter may not in summer."
    )]
    #[case(
        Prerequisite::PowerSupply(Some(headroom(750.0))),
        "Worst case 508 W with every limit raised and transients, of 750 W: 32 % left."
    )]
    #[case(
        Prerequisite::PowerSupply(Some(headroom(550.0))),
        "Worst case 508 W with every limit raised and transients, of 550 W: 8 % left. Below 10 %, keep the power limit at stock."
    )]
    #[case(
        Prerequisite::PowerSupply(None),
        "Enter the power of the supply and of the rest of the machine: the raised limit must fit."
    )]
    #[case(Prerequisite::Sensors { missing: vec![], silent: vec![] }, "All there.")]
    #[case(Prerequisite::Sensors { missing: vec![Channel::ChipPower], silent: vec![] }, "All but chip power.")]
    #[case(Prerequisite::Sensors { missing: vec![Channel::ChipPower], silent: vec![Channel::Voltage] }, "No reading from voltage.")]
    #[case(
        Prerequisite::Sensors { missing: vec![Channel::ChipPower, Channel::HotSpot], silent: vec![Channel::Voltage] },
        "Missing: hot spot. A climb needs them and has to guess."
    )]
    #[case(Prerequisite::OtherPrograms(OtherPrograms::Unchecked), "Checked while the card idles.")]
    #[case(
        Prerequisite::OtherPrograms(OtherPrograms::NotReported),
        "This card does not report them."
    )]
    #[case(
        Prerequisite::OtherPrograms(OtherPrograms::Take(Percent(0.4))),
        "Nothing else loads the card."
    )]
    #[case(
        Prerequisite::OtherPrograms(OtherPrograms::Take(Percent(4.0))),
        "They keep the card busy (4.0 % of the time): close them, or runs will not count."
    )]
    #[case(Prerequisite::EarlierClimb(None), "None is unfinished.")]
    #[case(
        Prerequisite::EarlierClimb(Some(4)),
        "Climb 4 is unfinished: go on with it, or start a new one instead."
    )]
    #[case(Prerequisite::Profile(None), "None is in use.")]
    #[case(
        in_use(Proof::Proven(Grounds::Hours)),
        "\"daily\" is proven. It has no run without a fault."
    )]
    fn a_prerequisite_is_told_with_what_to_do(#[case] of: Prerequisite, #[case] told: &str) {
        assert_eq!(prerequisite(&of), told);
    }
}
