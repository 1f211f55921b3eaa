//! All that can be done, from the tables of the views and of what they share. Keys, footer and help all
//! read it.

use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers};

use crate::tui::keys::action::{Action, View};
use crate::tui::keys::binding::Binding;
use crate::tui::keys::global;
use crate::tui::keys::moment::Moment;
use crate::tui::views::{air, artifacts, climb, ledger, proof, shape, survey, trace, weigh};

/// What can be done in a view only.
#[must_use]
fn bindings_of(view: View) -> &'static [Binding] {
    match view {
        View::Survey => survey::keys::BINDINGS,
        View::Climb => climb::keys::BINDINGS,
        View::Trace => trace::keys::BINDINGS,
        View::Shape => shape::keys::BINDINGS,
        View::Air => air::keys::BINDINGS,
        View::Proof => proof::keys::BINDINGS,
        View::Weigh => weigh::keys::BINDINGS,
        View::Ledger => ledger::keys::BINDINGS,
        View::Artifacts => artifacts::keys::BINDINGS,
    }
}

/// All that can be done, in the order of the footer.
pub fn bindings() -> impl Iterator<Item = &'static Binding> {
    let of_views = View::ALL.into_iter().flat_map(bindings_of);
    global::NOW.iter().chain(of_views).chain(global::ALWAYS)
}

/// Whether a binding is one of those of a view only.
pub(crate) fn is_of(view: View, binding: &Binding) -> bool {
    bindings_of(view).iter().any(|own| std::ptr::eq(own, binding))
}

/// What a binding does, with the view that it belongs to.
pub(crate) fn help_with_view(binding: &Binding) -> String {
    match View::ALL.into_iter().find(|view| is_of(*view, binding)) {
        Some(view) => format!("in {}: {}", view.label(), binding.help),
        None => binding.help.to_owned(),
    }
}

/// All that can be done at this moment.
pub(crate) fn bindings_at(moment: Moment) -> impl Iterator<Item = &'static Binding> {
    bindings().filter(move |binding| (binding.applies)(moment))
}

/// The action a key stands for at this moment.
#[must_use]
pub fn action_for(event: KeyEvent, moment: Moment) -> Option<Action> {
    if event.modifiers.contains(KeyModifiers::CONTROL) {
        return (event.code == KeyCode::Char('c')).then_some(Action::Quit);
    }
    bindings_at(moment)
        .find(|binding| binding.keys.contains(&event.code))
        .map(|binding| binding.action)
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;
    use crate::tui::keys::binding::key_name;
    use std::collections::{BTreeMap, HashSet};

    /// Keys that stand for two things at a moment.
    pub(crate) fn shared(moment: Moment) -> Vec<String> {
        let mut owners: BTreeMap<String, Vec<&str>> = BTreeMap::new();
        for binding in bindings_at(moment) {
            for code in binding.keys {
                owners.entry(key_name(*code)).or_default().push(binding.label);
            }
        }
        owners.retain(|_, owners| owners.len() > 1);
        owners.into_iter().map(|(key, owners)| format!("{key}: {owners:?}")).collect()
    }

    const fn key(character: char) -> KeyCode {
        KeyCode::Char(character)
    }

    fn moments() -> impl Iterator<Item = Moment> {
        View::ALL.into_iter().flat_map(|view| {
            // All there can be of the first twelve, the others scattered over them: what two keys share
            // hangs on a few of them.
            (0..1_u32 << 12).map(move |number| {
                let bits = number.wrapping_mul(0x9e37) & 0x7fff;
                let bit = |place: u32| bits >> place & 1 == 1;
                Moment {
                    view,
                    running: bit(0),
                    gone: bit(1),
                    has_pace: bit(12),
                    has_next: bit(2),
                    has_outcome: bit(3),
                    is_stuck: !bit(2) && !bit(3),
                    has_trials: bit(4),
                    has_baseline: bit(5),
                    has_failure: bit(14),
                    looking: bit(6),
                    has_run: bit(7) && view == View::Trace,
                    many_cards: bit(8),
                    holding: bit(9) && matches!(view, View::Trace | View::Artifacts | View::Ledger),
                    has_spoilt: bit(10),
                    down: bit(11),
                    wants_restart: bit(12),
                    is_manual: bit(13),
                    free: bit(0) && bit(3) && bit(11),
                    free_over: !bit(0) && bit(7) && view == View::Climb,
                    has_suggestion: bit(4),
                    asks: bit(5),
                    has_curve: bit(10) && view == View::Shape,
                    shape_is_next: bit(7) && view == View::Shape,
                    has_limits: bit(10),
                    has_fan: bit(10) && view == View::Air,
                    air_is_next: bit(7) && view == View::Air,
                    has_candidate: bit(7) && view == View::Proof,
                    has_checkable: bit(7) && bit(8) && view == View::Proof,
                    soaking: bit(9),
                    has_soak: bit(10) && view == View::Proof,
                    has_point: bit(7) && view == View::Weigh,
                    point_is_next: bit(7) && bit(10) && view == View::Weigh,
                    in_profiles: bit(9) && view == View::Ledger,
                    has_profile: bit(9) && bit(10) && view == View::Ledger,
                    on_no_profile: bit(9) && !bit(10) && view == View::Ledger,
                    has_row: bit(7) && !bit(9) && view == View::Ledger,
                    has_removed: bit(10) && !bit(9) && view == View::Ledger,
                }
            })
        })
    }

    #[test]
    fn at_no_moment_do_two_actions_share_a_key() {
        for moment in moments() {
            let shared = shared(moment);
            assert!(shared.is_empty(), "{shared:?} at {moment:?}");
        }
    }

    #[test]
    fn every_action_is_in_the_table_and_applies_in_one_way_at_a_time() {
        for binding in bindings() {
            assert!(!binding.keys.is_empty() && !binding.label.is_empty());
            assert!(binding.help.len() > 8, "{:?} needs a line of help", binding.action);
            let same = |other: &&Binding| other.action == binding.action;
            if bindings().filter(same).count() == 1 {
                continue;
            }
            for moment in moments() {
                let ways = bindings().filter(same).filter(|b| (b.applies)(moment)).count();
                assert!(ways <= 1, "{:?} at {moment:?}", binding.action);
            }
        }
        for view in View::ALL {
            assert!(bindings().any(|binding| binding.action == Action::Show(view)));
        }
        let kinds: HashSet<_> = bindings().map(|b| std::mem::discriminant(&b.action)).collect();
        assert_eq!(kinds.len(), <Action as strum::EnumCount>::COUNT, "an action without a key");
    }

    #[test]
    fn control_c_always_quits_and_other_control_keys_do_nothing() {
        let moment = Moment {
            view: View::Climb,
            running: true,
            gone: false,
            has_pace: true,
            has_next: true,
            has_outcome: false,
            is_stuck: false,
            has_trials: true,
            has_baseline: true,
            has_failure: true,
            looking: false,
            has_run: false,
            many_cards: false,
            holding: false,
            has_spoilt: false,
            down: false,
            wants_restart: false,
            is_manual: false,
            free: false,
            free_over: false,
            has_suggestion: false,
            asks: false,
            has_curve: false,
            shape_is_next: false,
            has_limits: false,
            has_fan: false,
            air_is_next: false,
            has_candidate: false,
            has_checkable: false,
            soaking: false,
            has_soak: false,
            has_point: false,
            point_is_next: false,
            in_profiles: false,
            has_profile: false,
            on_no_profile: false,
            has_row: false,
            has_removed: false,
        };
        let press = |character| KeyEvent::new(key(character), KeyModifiers::CONTROL);
        assert_eq!(action_for(press('c'), moment), Some(Action::Quit));
        assert_eq!(action_for(press('s'), moment), None);
        let plain = |character| KeyEvent::new(key(character), KeyModifiers::NONE);
        assert_eq!(action_for(plain('s'), moment), Some(Action::Stop));
        assert_eq!(action_for(plain('k'), moment), None, "nothing to keep while a trial runs");
    }
}
