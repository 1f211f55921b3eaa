//! The next move in a free run.

use yard_step_core::{SuggestedMove, Suggestion};

use crate::text::{percent, with_dips};

/// What to do next and why, in a sentence or two.
#[must_use]
pub fn suggestion(suggestion: &Suggestion) -> String {
    match &suggestion.kind {
        SuggestedMove::LessVoltage { to, held_back, dips } => format!(
            "Less voltage, {to}: power holds the clock back {} of the time{}.",
            percent(*held_back),
            with_dips(*dips)
        ),
        SuggestedMove::MoreClock { to } => {
            format!("More core clock, {to}: power does not hold it back now.")
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use yard_step_core::Settings;

    #[rstest]
    #[case(
        SuggestedMove::LessVoltage { to: "−20 mV".into(), held_back: 0.62, dips: 2 },
        "Less voltage, −20 mV: power holds the clock back 62 % of the time, with 2 dips."
    )]
    #[case(
        SuggestedMove::MoreClock { to: "+105 MHz".into() },
        "More core clock, +105 MHz: power does not hold it back now."
    )]
    fn a_move_is_told_with_its_reason(#[case] kind: SuggestedMove, #[case] told: &str) {
        assert_eq!(suggestion(&Suggestion { kind, settings: Settings::default() }), told);
    }
}
