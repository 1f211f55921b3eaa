//! The form in which the user tells of the machine: room, power supply, alarms.
//!
//! ```text
//! ▸ room temperature, °C      24
//!   case                      ‹ closed ›
//!   ...
//!   hot spot above, °C        95    ‹ stop ›
//! ```

use ratatui::crossterm::event::KeyCode;
use strum::VariantNames;
use yard_step_core::{
    Alarm, AlarmAct, AlarmOn, CardChange, CardConnectors, CardDescription, CardMemory, Case,
    Celsius, Decibel, LONGEST_CHANGE, Machine, MemoryKind, Room, Watt,
};

use crate::tui::widgets::entry::Entry;

/// Longest number that can be typed.
const LONGEST: usize = 7;

/// The form with what has been filled in so far.
#[derive(Debug, Clone, PartialEq)]
pub struct Form {
    fields: Vec<Field>,
    chosen: usize,
    /// What was changed around the cards so far.
    changes: Vec<CardChange>,
    /// What was said of the memory of cards so far.
    memories: Vec<CardMemory>,
    /// What was said of the connectors of other cards.
    of_others: Vec<CardConnectors>,
    /// The card that a change is of, and the time it would be noted at, seconds since 1970.
    card: String,
    now: i64,
    /// What is wrong with what was to be saved.
    pub problem: Option<String>,
}

#[derive(Debug, Clone, PartialEq, Eq)]
struct Field {
    label: String,
    /// A number or a text as it is typed; none for a field that only has choices.
    number: Option<Entry>,
    /// Whether it takes any text.
    is_text: bool,
    /// What ← and → choose from, and which is chosen.
    choices: &'static [&'static str],
    choice: usize,
}

/// What comes of a key.
#[derive(Debug, Clone, PartialEq)]
pub enum Filled {
    /// It stays open.
    NotYet(Form),
    /// It is to be noted.
    Done(Machine),
}

const AMBIENT: usize = 0;
const CASE: usize = 1;
const SUPPLY: usize = 2;
const REST: usize = 3;
const NOISE: usize = 4;
const CONNECTORS: usize = 5;
const CHANGED: usize = 6;
const ALARMS: usize = 7;
const MEMORY: usize = ALARMS + AlarmOn::ALL.len();
const BUS: usize = MEMORY + 1;
/// What may be said of the memory: that it is not known, or its kind.
const KINDS: &[&str] = &["unknown", "GDDR5", "GDDR6", "HBM"];

impl Form {
    /// The form with what was said before. A change is noted of the card `card` at `now`, seconds since 1970. The memory is
    /// asked for where the card does not state it.
    #[must_use]
    pub fn of(machine: &Machine, card: &CardDescription, now: i64) -> Self {
        let number = |value: Option<f64>| {
            Some(Entry::new(value.map_or(String::new(), |v| format!("{v}")), LONGEST))
        };
        let field = |label: &str, value: Option<f64>| Field {
            label: label.to_owned(),
            number: number(value),
            is_text: false,
            choices: &[],
            choice: 0,
        };
        let room = machine.room;
        let mut fields = vec![
            field("room temperature, °C", room.map(|room| room.ambient.value())),
            Field {
                label: "case".into(),
                number: None,
                is_text: false,
                choices: Case::VARIANTS,
                choice: room.map_or(0, |room| room.case as usize),
            },
            field("power supply, W", machine.supply.map(Watt::value)),
            field("rest of the machine, W", machine.rest.map(Watt::value)),
            field("noise at full fan, dB(A)", machine.full_fan.map(Decibel::value)),
            field(
                "rating of the card's connectors, W",
                machine.rated_connectors(&card.key()).map(Watt::value),
            ),
            Field {
                label: "changed around the card just now".into(),
                number: Some(Entry::new(String::new(), LONGEST_CHANGE)),
                is_text: true,
                choices: &[],
                choice: 0,
            },
        ];
        for on in AlarmOn::ALL {
            let set = machine.alarms.iter().find(|alarm| alarm.on == on);
            fields.push(Field {
                label: format!("alarm: {} above, {}", on.label(), on.unit()),
                number: number(set.map(|alarm| alarm.above)),
                is_text: false,
                choices: AlarmAct::VARIANTS,
                choice: set.map_or(0, |alarm| alarm.act as usize),
            });
        }
        let card_key = card.key();
        if !card.states_memory() {
            let said = machine.said_memory(&card_key);
            fields.push(Field {
                label: "memory of the card".into(),
                number: None,
                is_text: false,
                choices: KINDS,
                choice: said.map_or(0, |said| 1 + said.kind as usize),
            });
            let bits = said.and_then(|said| said.bus_bits).map(f64::from);
            fields.push(field("memory bus, bits", bits));
        }
        let (changes, memories) = (machine.changes.clone(), machine.memories.clone());
        let mut of_others = machine.connectors.clone();
        of_others.retain(|said| said.card != card_key);
        Self { fields, chosen: 0, changes, memories, of_others, card: card_key, now, problem: None }
    }

    /// Takes in a key.
    #[must_use]
    pub fn key(mut self, code: KeyCode) -> Filled {
        let last = self.fields.len() - 1;
        let field = &mut self.fields[self.chosen];
        match code {
            KeyCode::Up | KeyCode::BackTab => self.chosen = self.chosen.saturating_sub(1),
            KeyCode::Down | KeyCode::Tab => self.chosen = (self.chosen + 1).min(last),
            KeyCode::Left => field.choice = field.choice.saturating_sub(1),
            KeyCode::Right => {
                field.choice = (field.choice + 1).min(field.choices.len().saturating_sub(1));
            }
            KeyCode::Backspace | KeyCode::Delete => {
                field.number.as_mut().map(|number| number.key(code));
            }
            KeyCode::Char(typed)
                if field.is_text || typed.is_ascii_digit() || matches!(typed, '.' | '-') =>
            {
                field.number.as_mut().map(|number| number.key(code));
            }
            KeyCode::Enter => match self.machine() {
                Ok(machine) => return Filled::Done(machine),
                Err(problem) => {
                    self.problem = Some(problem);
                    return Filled::NotYet(self);
                }
            },
            _ => {}
        }
        self.problem = None;
        Filled::NotYet(self)
    }

    /// The change that was typed, if one was.
    fn change(&self) -> Option<CardChange> {
        let what = self.fields[CHANGED].number.as_ref().map_or("", Entry::trimmed);
        let (card, at) = (self.card.clone(), self.now);
        (!what.is_empty()).then(|| CardChange { card, what: what.to_owned(), at })
    }

    /// What is said of the connectors of all cards.
    fn connectors(&self, rating: Option<f64>) -> Vec<CardConnectors> {
        let card = self.card.clone();
        let own = rating.map(|rating| CardConnectors { card, rating: Watt(rating) });
        self.of_others.iter().cloned().chain(own).collect()
    }

    /// What is said of the memory of all cards.
    fn memories(
        &self,
        number: impl Fn(usize) -> Result<Option<f64>, String>,
    ) -> Result<Vec<CardMemory>, String> {
        let Some(field) = self.fields.get(MEMORY) else { return Ok(self.memories.clone()) };
        let of_others = self.memories.iter().filter(|memory| memory.card != self.card);
        let mut memories: Vec<CardMemory> = of_others.cloned().collect();
        let bus_bits = number(BUS)?.map(|bits| bits as u32);
        match field.choice.checked_sub(1).and_then(|kind| MemoryKind::ALL.get(kind)) {
            Some(kind) => {
                memories.push(CardMemory { card: self.card.clone(), kind: *kind, bus_bits });
            }
            None if bus_bits.is_some() => {
                return Err("memory bus: choose the memory of the card as well".into());
            }
            None => {}
        }
        Ok(memories)
    }

    /// What the form says.
    fn machine(&self) -> Result<Machine, String> {
        let number = |index: usize| -> Result<Option<f64>, String> {
            let field = &self.fields[index];
            let text = field.number.as_ref().map_or("", Entry::trimmed);
            if text.is_empty() {
                return Ok(None);
            }
            text.parse().map(Some).map_err(|_| format!("{}: {text} is not a number", field.label))
        };
        let case = if self.fields[CASE].choice == 0 { Case::Open } else { Case::Closed };
        let mut alarms = Vec::new();
        for (index, on) in AlarmOn::ALL.into_iter().enumerate() {
            let field = ALARMS + index;
            let act = AlarmAct::ALL[self.fields[field].choice.min(AlarmAct::ALL.len() - 1)];
            alarms.extend(number(field)?.map(|above| Alarm { on, above, act }));
        }
        let machine = Machine {
            room: number(AMBIENT)?.map(|ambient| Room { ambient: Celsius(ambient), case }),
            supply: number(SUPPLY)?.map(Watt),
            rest: number(REST)?.map(Watt),
            full_fan: number(NOISE)?.map(Decibel),
            alarms,
            changes: self.changes.iter().cloned().chain(self.change()).collect(),
            memories: self.memories(number)?,
            connectors: self.connectors(number(CONNECTORS)?),
        };
        machine.check().map_err(|error| error.to_string())?;
        Ok(machine)
    }

    /// Its lines, each with whether it is the chosen one.
    pub fn lines(&self) -> impl Iterator<Item = (String, bool)> {
        self.fields.iter().enumerate().map(|(index, field)| {
            let chosen = index == self.chosen;
            let pointer = if chosen { "▸" } else { " " };
            let number = match &field.number {
                Some(number) if chosen => number.shown(),
                Some(number) if number.text().is_empty() => "–".to_owned(),
                Some(number) => number.text().to_owned(),
                None => String::new(),
            };
            let is_open = field.number.as_ref().is_some_and(|number| number.text().is_empty());
            let choice = match field.choices.get(field.choice) {
                Some(choice) if !is_open => format!("‹ {choice} ›"),
                _ => String::new(),
            };
            let line = format!("{pointer} {:<38} {number:<9}{choice}", field.label);
            (line.trim_end().to_owned(), chosen)
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::fixtures::card;
    use rstest::rstest;
    use yard_step_core::MemoryWiring;

    fn machine() -> Machine {
        Machine {
            room: Some(Room { ambient: Celsius(24.5), case: Case::Closed }),
            supply: Some(Watt(750.0)),
            rest: None,
            full_fan: Some(Decibel(44.0)),
            alarms: vec![Alarm { on: AlarmOn::HotSpot, above: 95.0, act: AlarmAct::Stop }],
            changes: Vec::new(),
            memories: Vec::new(),
            connectors: Vec::new(),
        }
    }

    fn press(form: Form, keys: &[KeyCode]) -> Form {
        keys.iter().fold(form, |form, key| match form.key(*key) {
            Filled::NotYet(form) => form,
            Filled::Done(machine) => panic!("done with {machine:?}"),
        })
    }

    #[rstest]
    #[case(Machine::default())]
    #[case(machine())]
    fn what_was_said_before_is_said_again_unchanged(#[case] machine: Machine) {
        assert_eq!(Form::of(&machine, &card(), 700).key(KeyCode::Enter), Filled::Done(machine));
    }

    #[test]
    fn numbers_are_typed_and_choices_made_with_the_arrows() {
        use KeyCode::{Backspace, Char, Down, Enter, Left, Right};
        let mut keys = vec![Backspace, Backspace, Backspace, Backspace, Char('1'), Char('9')];
        keys.extend([Down, Left, Down, Down, Char('1'), Char('8'), Char('0'), Char('x')]);
        keys.extend([Down, Down, Char('3'), Char('0'), Char('0')]);
        keys.extend([Down, Down, Down, Right, Right, Right, Down]);
        let form = press(Form::of(&machine(), &card(), 700), &keys);
        let text: Vec<String> = form.lines().map(|(line, _)| line).collect();
        assert!(
            text[8].contains("hot spot above, °C") && text[8].ends_with("95       ‹ put back ›")
        );
        let Filled::Done(said) = form.key(Enter) else { panic!("not done") };
        assert_eq!(said.room, Some(Room { ambient: Celsius(19.0), case: Case::Open }));
        assert_eq!((said.supply, said.rest), (Some(Watt(750.0)), Some(Watt(180.0))));
        assert_eq!(said.rated_connectors(&card().key()), Some(Watt(300.0)));
        assert_eq!(said.alarms[0].act, AlarmAct::PutBack);
    }

    #[test]
    fn a_change_is_noted_of_the_card_and_at_the_time() {
        let before = CardChange { card: "another".into(), what: "case".into(), at: 5 };
        let said = Machine { changes: vec![before.clone()], ..machine() };
        let keys =
            [vec![KeyCode::Down; CHANGED], "new paste 2".chars().map(KeyCode::Char).collect()];
        let form = press(Form::of(&said, &card(), 700), &keys.concat());
        let Filled::Done(now) = form.key(KeyCode::Enter) else { panic!("not done") };
        let change = CardChange { card: card().key(), what: "new paste 2".into(), at: 700 };
        assert_eq!(now.changes, [before, change]);
    }

    #[rstest]
    #[case(&['9', '9', '9'], "a room temperature of 999 °C: it must be -20 to 60 °C")]
    #[case(&['1', '-'], "room temperature, °C: 1- is not a number")]
    fn what_cannot_be_is_told_and_the_form_stays(#[case] typed: &[char], #[case] told: &str) {
        let keys: Vec<KeyCode> = typed.iter().map(|c| KeyCode::Char(*c)).collect();
        let form =
            press(press(Form::of(&Machine::default(), &card(), 700), &keys), &[KeyCode::Enter]);
        assert_eq!(form.problem.as_deref(), Some(told));
        let form = press(form, &[KeyCode::Backspace]);
        assert_eq!(form.problem, None, "as long as nobody goes on");
    }

    #[test]
    fn the_memory_of_a_card_is_said_where_the_card_does_not_state_it() {
        use KeyCode::{Backspace, Char, Down, Enter, Left, Right};
        assert_eq!(KINDS[1..], MemoryKind::ALL.map(MemoryKind::label));
        let stating = Form::of(&machine(), &card(), 700);
        assert!(stating.lines().all(|(line, _)| !line.contains("memory bus")));
        let silent = CardDescription { memory_wiring: MemoryWiring::default(), ..card() };
        let of_another =
            CardMemory { card: "another".into(), kind: MemoryKind::Hbm, bus_bits: None };
        let said = Machine { memories: vec![of_another.clone()], ..machine() };
        let mut keys = vec![Down; MEMORY];
        keys.extend([Right, Right, Down, Char('2'), Char('5'), Char('6')]);
        let Filled::Done(now) = press(Form::of(&said, &silent, 700), &keys).key(Enter) else {
            panic!("not done")
        };
        let memory =
            CardMemory { card: silent.key(), kind: MemoryKind::Gddr6, bus_bits: Some(256) };
        assert_eq!(now.memories, [of_another.clone(), memory]);

        let mut keys = vec![Down; MEMORY];
        keys.extend([Left, Left]);
        let form = press(press(Form::of(&now, &silent, 700), &keys), &[Enter]);
        let told = "memory bus: choose the memory of the card as well";
        assert_eq!(form.problem.as_deref(), Some(told));
        let form = press(form, &[Down, Backspace, Backspace, Backspace]);
        let Filled::Done(now) = form.key(Enter) else { panic!("not done") };
        assert_eq!(now.memories, [of_another], "unsaid again");
    }

    #[test]
    fn an_emptied_threshold_takes_the_alarm_away() {
        use KeyCode::{Backspace, Down, Enter};
        let keys = [Down, Down, Down, Down, Down, Down, Down, Down, Backspace, Backspace];
        let Filled::Done(said) = press(Form::of(&machine(), &card(), 700), &keys).key(Enter) else {
            panic!()
        };
        assert!(said.alarms.is_empty());
    }
}
