//! The forms of Weigh: what stands beside before and after, and how the page to show looks.

use std::path::PathBuf;

use yard_step_core::{
    LONGEST_REFERENCE, Profile, ReferenceScore, UseOfIt, WeighNote, WeighNotes, checked_name,
};
use yard_step_report::{LONGEST_TITLE, PageLook, PagePart};

use crate::exchange::page::{PageForm, PageWish, part};
use crate::input::typed_path;
use crate::tui::overlays::fields::{Fields, TextField};
use crate::tui::overlays::{LONGEST_PATH, Overlay};

const LONGEST_NUMBER: usize = 12;
const LONGEST_PRICE: usize = 20;
const LONGEST_PARTS: usize = 100;
/// Colours and size of a page.
const COLOURS: [&str; 2] = ["light", "dark"];
const SHEETS: [&str; 2] = ["A4", "wide"];
/// All parts.
pub(crate) const ALL_PARTS: &str = "all";

/// The form of use, price and a score from elsewhere, which is proposed for a load.
pub(crate) fn notes_form(notes: &WeighNotes, load: &str) -> Overlay {
    let UseOfIt { hours_a_day, price } = &notes.use_of_it;
    let price = price.as_ref().map(|(price, unit)| format!("{price} {unit}").trim().to_owned());
    Overlay::WeighNotes(Fields::new(vec![
        TextField::text("hours a day", hours_a_day.to_string(), LONGEST_NUMBER),
        TextField::text("price a kWh", price.unwrap_or_default(), LONGEST_PRICE),
        TextField::text("score of", "", LONGEST_REFERENCE),
        TextField::text("under load", load, LONGEST_REFERENCE),
        TextField::text("score", "", LONGEST_NUMBER),
    ]))
}

/// What the form notes, or why it cannot be noted yet.
pub(crate) fn notes_of(form: &Fields) -> Result<Vec<WeighNote>, String> {
    let told = |why: yard_step_core::WeighNoteError| format!("Not noted: {why}.");
    let price = match form.typed(1) {
        "" => None,
        text => Some(UseOfIt::price(text).map_err(told)?),
    };
    let hours_a_day = UseOfIt::hours(form.typed(0)).map_err(told)?;
    let mut notes = vec![WeighNote::Use(UseOfIt { hours_a_day, price })];
    let (name, load, score) = (form.typed(2), form.typed(3), form.typed(4));
    notes.extend(match (name, score) {
        ("", "") => None,
        (name, "") => Some(WeighNote::DropReference(name.into(), load.into())),
        (name, score) => {
            let score = score.parse().map_err(|_| "The score is a number, such as 1020.")?;
            Some(WeighNote::Reference(ReferenceScore::new(name, load, score).map_err(told)?))
        }
    });
    Ok(notes)
}

/// The form of a page, with the file and the parts that are proposed.
pub(crate) fn page_form(file: String, parts: &str) -> Overlay {
    Overlay::Page(Fields::new(vec![
        TextField::text("file", file, LONGEST_PATH),
        TextField::text("title", "", LONGEST_TITLE),
        TextField::text("parts", parts, LONGEST_PARTS),
        TextField::choice("colours", &COLOURS, 0),
        TextField::choice("sheet", &SHEETS, 0),
    ]))
}

/// What page the form asks for, and where it is to be; or why that cannot be.
pub(crate) fn page_wish(form: &Fields, about: Profile) -> Result<(PageWish, PathBuf), String> {
    let path = typed_path(form.typed(0));
    PageForm::of(&path)?;
    let title = match form.typed(1) {
        "" => None,
        title => Some(checked_name(title, LONGEST_TITLE)?),
    };
    let parts = match form.typed(2) {
        "" | ALL_PARTS => PagePart::ALL.to_vec(),
        parts => parts.split(',').map(|name| part(name.trim())).collect::<Result<_, _>>()?,
    };
    let look = PageLook { parts, dark: form.chosen(3) == 1, wide: form.chosen(4) == 1 };
    Ok((PageWish { title, look, ..PageWish::about(about) }, path))
}

#[cfg(test)]
mod tests {
    use super::*;
    use ratatui::crossterm::event::KeyCode;
    use rstest::rstest;
    use yard_step_core::{Origin, Settings};

    /// A form with these texts typed over what stands in its lines; an empty one leaves its line alone.
    fn filled(overlay: Overlay, lines: &[&str]) -> Fields {
        let (Overlay::WeighNotes(mut form) | Overlay::Page(mut form)) = overlay else { panic!() };
        for line in lines {
            match *line {
                "→" => form.key(KeyCode::Right),
                text => text.chars().for_each(|c| form.key(KeyCode::Char(c))),
            }
            form.key(KeyCode::Down);
        }
        form
    }

    #[test]
    fn use_price_and_a_score_are_noted_together_and_a_score_left_empty_is_taken_away() {
        let form = notes_form(&WeighNotes::default(), "medley");
        let notes = notes_of(&filled(form, &["5", "0.30 EUR", "last year", "", "1020"])).unwrap();
        let use_of_it = UseOfIt { hours_a_day: 5.0, price: Some((0.3, "EUR".into())) };
        let score = ReferenceScore::new("last year", "medley", 1_020.0).unwrap();
        assert_eq!(notes, [WeighNote::Use(use_of_it.clone()), WeighNote::Reference(score)]);
        let noted = WeighNotes { use_of_it: use_of_it.clone(), ..WeighNotes::default() };
        let form = filled(notes_form(&noted, "kiln"), &["", "", "last year"]);
        let gone = WeighNote::DropReference("last year".into(), "kiln".into());
        assert_eq!(notes_of(&form).unwrap(), [WeighNote::Use(use_of_it), gone]);
    }

    #[rstest]
    #[case(&["30"], "0 to 24")]
    #[case(&["", "cheap"], "0.30 EUR")]
    #[case(&["", "", "a card", "", "fast"], "such as 1020")]
    #[case(&["", "", "a card", "", "-3"], "above 0")]
    #[case(&["", "", "", "", "900"], "a name has")]
    fn what_cannot_be_noted_says_why(#[case] lines: &[&str], #[case] told: &str) {
        let error = notes_of(&filled(notes_form(&WeighNotes::default(), "kiln"), lines));
        assert!(error.as_ref().is_err_and(|error| error.contains(told)), "{error:?}");
    }

    fn wish(lines: &[&str]) -> Result<(PageWish, PathBuf), String> {
        let about = Profile::new("daily".to_owned(), Settings::default(), Origin::ByHand);
        page_wish(&filled(page_form("daily.pdf".into(), ALL_PARTS), lines), about)
    }

    #[test]
    fn a_page_is_as_it_was_filled_in() {
        let (plain, path) = wish(&[]).unwrap();
        assert_eq!((plain.title, plain.look), (None, PageLook::default()));
        assert_eq!(path, PathBuf::from("daily.pdf"));
        let (other, path) = wish(&["a.html", "For the forum", "bars, proof", "→", "→"]).unwrap();
        let parts = vec![PagePart::Bars, PagePart::Proof];
        assert_eq!(other.look, PageLook { parts, dark: true, wide: true });
        assert_eq!(other.title.as_deref(), Some("For the forum"));
        assert_eq!(path, PathBuf::from("a.html"));
    }

    #[rstest]
    #[case(&["a.doc"], ".svg, .pdf")]
    #[case(&["", "", "poem"], "no part \"poem\"")]
    fn a_page_that_cannot_be_says_why(#[case] lines: &[&str], #[case] told: &str) {
        let error = wish(lines).unwrap_err();
        assert!(error.contains(told), "{error}");
    }
}
