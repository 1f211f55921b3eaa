//! The forms in which it is noted how loud a fan is, and what is wished of its curve.

use strum::VariantNames;
use yard_step_core::{
    AirNotes, AirWish, Celsius, Decibel, Heard, Loudness, NoiseNote, Percent, WhenIdle,
    checked_name,
};
use yard_step_engine::{Command, Snapshot};

use crate::tui::overlays::Overlay;
use crate::tui::overlays::fields::{Fields, TextField};

/// Longest number that is typed.
const LONGEST: usize = 6;
/// Longest list of loads.
const LONGEST_LOADS: usize = 120;
/// How loud it seems, where that was not measured.
const HEARD: [&str; 4] =
    ["measured, in dB", Loudness::VARIANTS[0], Loudness::VARIANTS[1], Loudness::VARIANTS[2]];

/// The form in which it is noted how loud the fan is at a speed.
pub(crate) fn noise_form(speed: Percent) -> Overlay {
    Overlay::Noise(Fields::new(vec![
        TextField::text("fan speed, %", format!("{:.0}", speed.value()), LONGEST),
        TextField::choice("heard", &HEARD, 0),
        TextField::text("level, dB", "", LONGEST),
    ]))
}

/// The command that notes it, or why it cannot be noted yet.
pub(crate) fn noise_command(form: &Fields, snapshot: &Snapshot) -> Result<Command, String> {
    let number = |index: usize, what: &str| -> Result<f64, String> {
        let text = form.typed(index).trim_end_matches(['%', 'd', 'B', ' ']);
        text.parse().map_err(|_| {
            format!("The {what} is a number, such as {}.", if index == 0 { "60" } else { "38.5" })
        })
    };
    let heard = match form.chosen(1).checked_sub(1).and_then(|at| Loudness::ALL.get(at)) {
        Some(loudness) => Heard::Judged(*loudness),
        None => Heard::Measured(Decibel(number(2, "level in dB")?)),
    };
    let note = NoiseNote::new(Percent(number(0, "fan speed in %")?), heard);
    let note = note.map_err(|error| format!("Not noted: {error}."))?;
    let mut notes = notes(snapshot)?;
    match notes.note(note) {
        true => Ok(Command::SetAir(Box::new(notes))),
        false => {
            Err("There are as many notes as there can be: note a speed again to replace it.".into())
        }
    }
}

/// The form in which it is said what is wished of the curve.
pub(crate) fn wish_form(snapshot: &Snapshot) -> Overlay {
    let wish = notes(snapshot).unwrap_or_default().wish;
    let number = |value: Option<f64>| value.map_or(String::new(), |value| value.to_string());
    Overlay::Budget(Fields::new(vec![
        TextField::text("noise, dB", number(wish.most_noise.map(Decibel::value)), LONGEST),
        TextField::text("may lose, %", number(wish.lose_percent), LONGEST),
        TextField::text("room, °C", number(wish.room.map(Celsius::value)), LONGEST),
        TextField::text("reserve, K", number(Some(wish.reserve_k)), LONGEST),
        TextField::choice("when idle", WhenIdle::VARIANTS, wish.when_idle as usize),
        TextField::text("loads", wish.loads.join(", "), LONGEST_LOADS),
    ]))
}

/// The command that notes it, or why it cannot be noted yet.
pub(crate) fn wish_command(form: &Fields, snapshot: &Snapshot) -> Result<Command, String> {
    let number = |index: usize, what: &str| -> Result<Option<f64>, String> {
        match form.typed(index) {
            "" => Ok(None),
            text => text
                .parse()
                .map(Some)
                .map_err(|_| format!("The {what} is a number, or left empty.")),
        }
    };
    let names = form.typed(5).split(',').map(str::trim).filter(|name| !name.is_empty());
    let loads = names.map(|name| {
        checked_name(name, LONGEST_LOADS)
            .map_err(|why| format!("The load \"{name}\" has no such name: {why}."))
    });
    let wish = AirWish {
        most_noise: number(0, "noise")?.map(Decibel),
        lose_percent: number(1, "loss")?,
        room: number(2, "room")?.map(Celsius),
        reserve_k: number(3, "reserve")?.unwrap_or(AirWish::default().reserve_k),
        when_idle: WhenIdle::ALL.get(form.chosen(4)).copied().unwrap_or_default(),
        loads: loads.collect::<Result<_, _>>()?,
    };
    wish.check().map_err(|error| format!("Not noted: {error}."))?;
    Ok(Command::SetAir(Box::new(AirNotes { wish, ..notes(snapshot)? })))
}

/// What was noted so far, or why nothing can be added to it.
fn notes(snapshot: &Snapshot) -> Result<AirNotes, String> {
    let air = snapshot.machine.air.as_ref();
    air.map(|air| air.notes.clone()).ok_or_else(|| {
        "Not noted: what was noted before could not be read. Start Yard Step again.".into()
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::views::air::state::tests::moment;
    use ratatui::crossterm::event::KeyCode;
    use rstest::rstest;

    fn typed(overlay: Overlay, keys: &[KeyCode]) -> Fields {
        let (Overlay::Noise(mut form) | Overlay::Budget(mut form)) = overlay else { panic!() };
        keys.iter().for_each(|key| form.key(*key));
        form
    }

    fn text(text: &str) -> Vec<KeyCode> {
        text.chars().map(KeyCode::Char).collect()
    }

    #[test]
    fn noise_is_noted_as_measured_or_as_heard() {
        let snapshot = moment();
        let mut keys = vec![KeyCode::Down, KeyCode::Down];
        keys.extend(text("38.5"));
        let form = typed(noise_form(Percent(60.0)), &keys);
        let Ok(Command::SetAir(notes)) = noise_command(&form, &snapshot) else { panic!() };
        let noted = notes.noise.iter().find(|note| note.speed == Percent(60.0)).unwrap();
        assert_eq!(noted.heard, Heard::Measured(Decibel(38.5)));
        let form =
            typed(noise_form(Percent(60.0)), &[KeyCode::Down, KeyCode::Right, KeyCode::Right]);
        let Ok(Command::SetAir(notes)) = noise_command(&form, &snapshot) else { panic!() };
        let noted = notes.noise.iter().find(|note| note.speed == Percent(60.0)).unwrap();
        assert_eq!(noted.heard, Heard::Judged(Loudness::Audible));
    }

    #[rstest]
    #[case(&[], "level in dB is a number")]
    #[case(&["", "", "900"], "10 to 100 dB")]
    #[case(&["900"], "0 to 100 %")]
    fn noise_that_cannot_be_is_not_noted(#[case] lines: &[&str], #[case] told: &str) {
        let mut keys = Vec::new();
        for line in lines {
            keys.extend(text(line));
            keys.push(KeyCode::Down);
        }
        if lines.len() == 1 {
            keys.push(KeyCode::Right);
        }
        let form = typed(noise_form(Percent(60.0)), &keys);
        let error = noise_command(&form, &moment()).unwrap_err();
        assert!(error.contains(told), "{error}");
    }

    #[test]
    fn a_budget_is_filled_in_and_what_is_empty_is_not_wished() {
        let mut keys = text("36");
        keys.extend([KeyCode::Down, KeyCode::Char('2'), KeyCode::Down, KeyCode::Down]);
        keys.extend([KeyCode::Down, KeyCode::Right, KeyCode::Down]);
        keys.extend(text("medley, kiln"));
        let form = typed(wish_form(&moment()), &keys);
        let Ok(Command::SetAir(notes)) = wish_command(&form, &moment()) else { panic!() };
        let wish = AirWish {
            most_noise: Some(Decibel(36.0)),
            lose_percent: Some(2.0),
            when_idle: WhenIdle::Inaudible,
            loads: vec!["medley".into(), "kiln".into()],
            ..AirWish::default()
        };
        assert_eq!(notes.wish, wish);
        assert_eq!(notes.noise, notes_of_moment());
    }

    fn notes_of_moment() -> Vec<NoiseNote> {
        moment().machine.air.as_ref().unwrap().notes.noise.clone()
    }

    #[test]
    fn nothing_is_noted_where_the_notes_went_away_while_the_form_was_open() {
        let noise = typed(noise_form(Percent(60.0)), &[KeyCode::Down, KeyCode::Right]);
        let wish = typed(wish_form(&moment()), &text("38"));
        assert!(noise_command(&noise, &moment()).is_ok() && wish_command(&wish, &moment()).is_ok());
        let mut without = moment();
        without.machine.air = None;
        for refused in [noise_command(&noise, &without), wish_command(&wish, &without)] {
            assert!(refused.unwrap_err().contains("could not be read"));
        }
    }

    #[test]
    fn a_budget_that_cannot_be_says_why() {
        let form = typed(wish_form(&moment()), &text("quiet"));
        assert!(wish_command(&form, &moment()).unwrap_err().contains("noise is a number"));
        let form = typed(wish_form(&moment()), &text("3"));
        assert!(wish_command(&form, &moment()).unwrap_err().contains("10 to 100 dB"));
    }
}
