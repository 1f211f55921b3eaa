//! What a trial may do.

use yard_step_core::Risk;

use crate::text::listed;

/// What might happen, in two or three sentences.
#[must_use]
pub fn risk(risk: &Risk) -> String {
    match risk {
        Risk::MachineDown { trial, climb, is_same, moved } => format!(
            "{} took the machine down in trial {trial}{}, at {}. It may do so again; unsaved work on this \
             machine may be lost.",
            if *is_same { "These settings" } else { "Settings no bolder than these" },
            climb.map_or(String::new(), |climb| format!(" of climb {climb}")),
            listed(moved, "stock")
        ),
        Risk::Supply { limit, headroom } => format!(
            "This asks for a power limit of {limit}. With every limit at its highest the machine may \
             draw {} from a supply of {}. A supply that gives up takes the machine down.",
            headroom.worst, headroom.supply
        ),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use yard_step_core::{Percent, SupplyHeadroom, Watt};

    fn down(climb: Option<i64>, is_same: bool, moved: &[&str]) -> Risk {
        let moved = moved.iter().map(|text| (*text).to_owned()).collect();
        Risk::MachineDown { trial: 8, climb, is_same, moved }
    }

    #[rstest]
    #[case(
        down(None, true, &["core clock +210 MHz", "power limit 286 W"]),
        "These settings took the machine down in trial 8, at core clock +210 MHz, power limit 286 W."
    )]
    #[case(
        down(Some(3), false, &["core clock +210 MHz"]),
        "Settings no bolder than these took the machine down in trial 8 of climb 3, at core clock +210 MHz."
    )]
    #[case(down(None, false, &[]), "took the machine down in trial 8, at stock.")]
    #[case(
        Risk::Supply {
            limit: "286 W".into(),
            headroom: SupplyHeadroom {
                supply: Watt(450.0),
                sustained: Watt(466.0),
                worst: Watt(538.0),
                margin: Percent(-19.5),
            },
        },
        "This asks for a power limit of 286 W. With every limit at its highest the machine may draw 538 W from a supply of 450 W."
    )]
    fn a_risk_names_what_may_happen_and_when_it_did(#[case] what: Risk, #[case] told: &str) {
        let sentence = risk(&what);
        assert!(sentence.contains(told), "{sentence}");
    }
}
