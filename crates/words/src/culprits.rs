//! Which setting it was that made a trial fail.

use yard_step_core::{Culprits, SettingKind};

/// The answer to the question which setting it was; none before it is known.
#[must_use]
pub fn culprits(culprits: &Culprits) -> Option<String> {
    if culprits.next.is_some() {
        return None;
    }
    let each: Vec<String> = culprits.found.iter().map(|kinds| joined(kinds, "and")).collect();
    Some(match (&culprits.found[..], &each[..]) {
        ([], _) => "nothing that was moved".into(),
        ([only], [each]) if only.len() > 1 => {
            format!("{each} together: each holds without the others")
        }
        ([_], [each]) => each.clone(),
        _ => format!("{}, each by itself", each.join("; ")),
    })
}

/// Settings in a sentence, the last two joined by a word; `the power limit and the memory clock offset`.
pub(crate) fn joined(kinds: &[SettingKind], word: &str) -> String {
    let named: Vec<String> = kinds.iter().map(|kind| format!("the {}", kind.label())).collect();
    match &named[..] {
        [] => "nothing".into(),
        [one] => one.clone(),
        [others @ .., last] => format!("{} {word} {last}", others.join(", ")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(vec![], "nothing that was moved")]
    #[case(vec![vec![SettingKind::CoreOffset]], "the core clock offset")]
    #[case(
        vec![vec![SettingKind::CoreOffset], vec![SettingKind::MemoryTiming]],
        "the core clock offset; the memory timing, each by itself"
    )]
    #[case(
        vec![vec![SettingKind::PowerLimit, SettingKind::CoreOffset, SettingKind::MemoryOffset]],
        "the power limit, the core clock offset and the memory clock offset together: each holds without the others"
    )]
    fn the_answer_names_the_settings(#[case] found: Vec<Vec<SettingKind>>, #[case] told: &str) {
        assert_eq!(culprits(&Culprits { found, next: None }).as_deref(), Some(told));
    }

    #[test]
    fn before_it_is_known_there_is_none() {
        let next = Some((vec![SettingKind::CoreOffset], vec![SettingKind::MemoryOffset]));
        assert_eq!(culprits(&Culprits { found: Vec::new(), next }), None);
    }
}
