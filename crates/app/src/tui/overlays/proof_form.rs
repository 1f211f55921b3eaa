//! The form in which a soak is filled in: all it needs is asked before it begins.

use jiff::Zoned;
use yard_step_core::{Goal, LONGEST_SOAK, OnFault, SPANS, Soak};
use yard_step_engine::{Command, SoakWhat, SoakWish};

use crate::soaking::{loads_in_words, soak_loads, until};
use crate::tui::overlays::Overlay;
use crate::tui::overlays::fields::{Fields, TextField};

/// When it is over.
const ENDS: [&str; 4] =
    ["after hours", "at a time", "when a day is proven", "after each load once"];
/// What comes after a fault.
const AFTER: [&str; 2] = ["go on a step milder", "stop"];
/// Fine steps by which what runs is bolder.
const RESERVES: [&str; 5] = ["none", "1 fine step", "2 fine steps", "3 fine steps", "4 fine steps"];
const LONGEST_NUMBER: usize = 8;
const LONGEST_LOADS: usize = 200;

/// The form for settings.
pub(crate) fn proof_form(what: SoakWhat) -> Overlay {
    let loads = loads_in_words(&Soak::usual_loads());
    let form = Fields::new(vec![
        TextField::choice("ends", &ENDS, 0),
        TextField::text("hours, time", "8", LONGEST_NUMBER),
        TextField::text("loads", loads, LONGEST_LOADS),
        TextField::choice("after a fault", &AFTER, 0),
        TextField::choice("reserve", &RESERVES, 0),
    ]);
    Overlay::Prove { form, what }
}

/// The command that begins it, or why it cannot begin yet.
pub(crate) fn proof_command(form: &Fields, what: &SoakWhat) -> Result<Command, String> {
    let typed = form.typed(1);
    let goal = match form.chosen(0) {
        0 => {
            let hours: f64 = typed.parse().map_err(|_| "The hours are a number, such as 8.")?;
            if !(0.1..=LONGEST_SOAK).contains(&hours) {
                return Err(format!("A soak takes 0.1 to {LONGEST_SOAK} hours."));
            }
            Goal::Hours(hours)
        }
        1 => until(typed, &Zoned::now())?,
        2 => Goal::Proven(SPANS[0].1),
        _ => Goal::Once,
    };
    Ok(Command::Prove(Box::new(SoakWish {
        what: what.clone(),
        loads: soak_loads(form.typed(2))?,
        goal,
        on_fault: if form.chosen(3) == 0 { OnFault::StepBack } else { OnFault::Stop },
        reserve: form.chosen(4) as u8,
    })))
}

#[cfg(test)]
mod tests {
    use super::*;
    use ratatui::crossterm::event::KeyCode;
    use yard_step_core::Seconds;

    fn filled(keys: &[KeyCode]) -> Result<SoakWish, String> {
        let Overlay::Prove { mut form, what } = proof_form(SoakWhat::Held) else { panic!() };
        keys.iter().for_each(|key| form.key(*key));
        match proof_command(&form, &what)? {
            Command::Prove(wish) => Ok(*wish),
            other => panic!("{other:?}"),
        }
    }

    #[test]
    fn a_night_begins_as_it_stands_and_everything_can_be_changed() {
        let wish = filled(&[]).unwrap();
        assert_eq!(
            (wish.goal, wish.on_fault, wish.reserve),
            (Goal::Hours(8.0), OnFault::StepBack, 0)
        );
        assert_eq!(wish.loads.len(), 7);
        use KeyCode::{Down, Right};
        let wish = filled(&[Right, Right, Down, Down, Down, Right, Down, Right, Right]).unwrap();
        assert_eq!(wish.goal, Goal::Proven(Seconds(86_400.0)));
        assert_eq!((wish.on_fault, wish.reserve), (OnFault::Stop, 2));
    }

    #[test]
    fn what_cannot_be_says_why() {
        use KeyCode::{Backspace, Char, Down, Right};
        assert!(filled(&[Down, Backspace]).unwrap_err().contains("a number"));
        assert!(
            filled(&[Down, Char('0'), Char('0'), Char('0')]).unwrap_err().contains("2000 hours")
        );
        assert!(filled(&[Right, Down, Char('x')]).unwrap_err().contains("no time of day"));
        assert!(filled(&[Down, Down, Char(':'), Char('x')]).unwrap_err().contains("is a number"));
    }
}
