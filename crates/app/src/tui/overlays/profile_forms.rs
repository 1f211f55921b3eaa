//! The forms in which something is kept as a profile, and one is read from a file.

use strum::VariantNames;
use yard_step_core::{CUT_BACK, LONGEST_NAME, LONGEST_PURPOSE, Margin, Percent, checked_name};
use yard_step_engine::{KeepWhat, KeepWish, KeptFan, Snapshot};

use crate::input::typed_path;
use crate::tui::overlays::Overlay;
use crate::tui::overlays::fields::{Fields, TextField};
use crate::tui::views::ledger::browser::Change;

/// Longest path.
const LONGEST_PATH: usize = 200;
/// The margins, after what is chosen where none is named.
const MARGINS: [&str; 4] =
    ["not said", Margin::VARIANTS[0], Margin::VARIANTS[1], Margin::VARIANTS[2]];

/// The fans it may carry.
const FANS: [&str; 2] = ["as chosen in Air", "as searched"];

/// The form in which something is kept. What a climb came to has the margin of its plan.
pub(crate) fn keep_form(name: String, what: KeepWhat) -> Overlay {
    let mut fields = vec![
        TextField::text("name", name, LONGEST_NAME),
        TextField::text("purpose", "", LONGEST_PURPOSE),
    ];
    if what != KeepWhat::Outcome {
        fields.push(TextField::choice("good for", &MARGINS, 0));
    }
    fields.push(TextField::choice("fan", &FANS, 0));
    Overlay::Keep { form: Fields::new(fields), what }
}

/// What is to be kept, or why it cannot be yet.
pub(crate) fn keep_wish(form: &Fields, what: &KeepWhat) -> Result<KeepWish, String> {
    let name = checked_name(form.typed(0), LONGEST_NAME);
    let has_margin = *what != KeepWhat::Outcome;
    let margin = if has_margin { form.chosen(2) } else { 0 };
    let fan = form.chosen(if has_margin { 3 } else { 2 });
    Ok(KeepWish {
        name: name.map_err(|why| format!("A profile needs another name: {why}."))?,
        purpose: form.typed(1).to_owned(),
        margin: margin.checked_sub(1).and_then(|at| Margin::ALL.get(at).copied()),
        what: what.clone(),
        fan: if fan == 1 { KeptFan::AsSearched } else { KeptFan::Chosen },
    })
}

/// The form in which the file of a profile is named.
pub(crate) fn import_form() -> Overlay {
    Overlay::ImportProfile(Fields::new(vec![
        TextField::text("file", "", LONGEST_PATH),
        TextField::text("cut back, %", format!("{CUT_BACK}"), 5),
    ]))
}

/// The change that reads a profile from a file, or why it cannot be made yet.
pub(crate) fn import_change(form: &Fields, snapshot: &Snapshot) -> Result<Change, String> {
    if form.typed(0).is_empty() {
        return Err("Name the file: a profile as JSON.".into());
    }
    let share: Option<f64> = form.typed(1).trim_end_matches('%').trim().parse().ok();
    let share = share.filter(|share| (0.0..=100.0).contains(share));
    let share = share.ok_or("What is cut back is a number from 0 to 100 %.")?;
    Ok(Change::ImportProfile {
        card: Box::new((*snapshot.machine.card).clone()),
        path: typed_path(form.typed(0)),
        share: Percent(share),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::fixtures::snapshot;
    use ratatui::crossterm::event::KeyCode;
    use rstest::rstest;

    #[rstest]
    #[case("25", Ok(25.0))]
    #[case("40 %", Ok(40.0))]
    #[case("140", Err("0 to 100"))]
    #[case("much", Err("0 to 100"))]
    fn an_import_says_how_much_is_cut_back(
        #[case] share: &str,
        #[case] expected: Result<f64, &str>,
    ) {
        let form = Fields::new(vec![
            TextField::text("file", "theirs.json", 40),
            TextField::text("cut back, %", share, 9),
        ]);
        match (import_change(&form, &snapshot()), expected) {
            (Ok(Change::ImportProfile { share, .. }), Ok(value)) => {
                assert_eq!(share, Percent(value));
            }
            (Err(why), Err(part)) => assert!(why.contains(part), "{why}"),
            (other, _) => panic!("{other:?}"),
        }
    }

    #[test]
    fn a_trial_is_kept_with_name_purpose_and_margin() {
        let what = KeepWhat::Trial { climb: 3, trial: 7 };
        let Overlay::Keep { mut form, .. } = keep_form("quiet".into(), what.clone()) else {
            panic!()
        };
        for code in [KeyCode::Down, KeyCode::Char('q'), KeyCode::Down, KeyCode::Right] {
            form.key(code);
        }
        form.key(KeyCode::Right);
        assert_eq!(keep_wish(&form, &what).unwrap().fan, KeptFan::Chosen);
        for code in [KeyCode::Down, KeyCode::Right] {
            form.key(code);
        }
        let wish = keep_wish(&form, &what).unwrap();
        assert_eq!(wish.fan, KeptFan::AsSearched);
        assert_eq!((wish.name.as_str(), wish.purpose.as_str()), ("quiet", "q"));
        assert_eq!(wish.margin, Some(Margin::Daily));
        let Overlay::Keep { form, .. } = keep_form(" ".into(), what.clone()) else { panic!() };
        assert!(keep_wish(&form, &what).is_err(), "no empty name");
    }
}
