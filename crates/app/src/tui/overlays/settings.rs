//! The form in which the user sets what a card offers: built from its offers and nothing else.

use ratatui::crossterm::event::KeyCode;
use yard_step_core::{Adjusted, CardDescription, Fan, FanCurve, Offer, SettingKind, Settings};

/// Longest number that can be typed.
const LONGEST: usize = 6;

/// The form with what has been filled in so far.
#[derive(Debug, Clone, PartialEq)]
pub struct SettingsForm {
    offers: Vec<Offer>,
    settings: Settings,
    chosen: usize,
    /// A number as far as it is typed.
    typed: String,
}

/// What comes of a key.
#[derive(Debug, Clone, PartialEq)]
pub enum Chosen {
    /// It stays open.
    NotYet(SettingsForm),
    /// These are to be tried.
    Done(Settings),
}

impl SettingsForm {
    /// The form of a card, beginning with `from`, or with stock.
    #[must_use]
    pub fn of(card: &CardDescription, from: Option<Settings>) -> Self {
        let settings = from.unwrap_or_else(|| Settings::stock(card));
        Self { offers: card.offers.clone(), settings, chosen: 0, typed: String::new() }
    }

    /// Takes in a key.
    #[must_use]
    pub fn key(mut self, code: KeyCode) -> Chosen {
        let Some(offer) = self.offers.get(self.chosen).copied() else {
            return Chosen::Done(self.settings);
        };
        match code {
            KeyCode::Up | KeyCode::BackTab => self.choose(self.chosen.saturating_sub(1)),
            KeyCode::Down | KeyCode::Tab => self.choose(self.chosen + 1),
            KeyCode::Left => self.move_by(&offer, -1.0),
            KeyCode::Right => self.move_by(&offer, 1.0),
            KeyCode::PageDown => self.move_by(&offer, -10.0),
            KeyCode::PageUp => self.move_by(&offer, 10.0),
            KeyCode::Char('s') => {
                self.typed.clear();
                self.settings.set(offer.kind, offer.stock);
            }
            KeyCode::Char('c') if offer.kind == SettingKind::Fan => {
                self.typed.clear();
                self.settings.fan = quiet_to_full(&offer).or(self.settings.fan);
            }
            KeyCode::Char(typed)
                if (typed.is_ascii_digit() || matches!(typed, '-' | '.'))
                    && self.typed.len() < LONGEST =>
            {
                self.typed.push(typed);
            }
            KeyCode::Backspace => {
                self.typed.pop();
            }
            KeyCode::Enter => {
                self.take_typed();
                return Chosen::Done(self.settings);
            }
            _ => {}
        }
        Chosen::NotYet(self)
    }

    fn choose(&mut self, index: usize) {
        self.take_typed();
        self.chosen = index.min(self.offers.len().saturating_sub(1));
    }

    /// Takes the typed number over, brought into the card's range and bins.
    fn take_typed(&mut self) {
        let typed = std::mem::take(&mut self.typed);
        if let (Some(offer), Ok(value)) = (self.offers.get(self.chosen), typed.parse::<f64>()) {
            self.settings.set(offer.kind, Some(offer.bin(value)));
        }
    }

    fn move_by(&mut self, offer: &Offer, steps: f64) {
        self.take_typed();
        let from = self.settings.get(offer.kind).or(offer.stock);
        // Out of "automatic" or "none" one comes at the top of the range.
        let value = from.map_or(offer.maximum, |value| offer.bin(value + steps * offer.step));
        self.settings.set(offer.kind, Some(value));
    }

    /// What the card takes of what was typed or moved in the chosen line, and why.
    #[must_use]
    pub fn preview(&self) -> String {
        let Some(offer) = self.offers.get(self.chosen) else { return String::new() };
        if self.typed.is_empty() {
            return String::new();
        }
        match self.typed.parse::<f64>() {
            Ok(value) => taken_in_words(offer, value),
            Err(_) => format!("\"{}\" is not a number: the value stays as it is.", self.typed),
        }
    }

    /// What would be asked, the typed number aside.
    #[must_use]
    pub fn settings(&self) -> Settings {
        self.settings
    }

    /// Line of the chosen setting.
    #[must_use]
    pub fn chosen(&self) -> usize {
        self.chosen
    }

    /// The number as far as it is typed, with a caret; none where nothing is.
    #[must_use]
    pub fn typing(&self) -> Option<String> {
        (!self.typed.is_empty()).then(|| format!("{}▏", self.typed))
    }
}

/// What a card takes where a value is asked for, and why: `999 → +300 MHz, the card's maximum`.
pub(crate) fn taken_in_words(offer: &Offer, asked: f64) -> String {
    let (taken, why) = offer.taken(asked);
    let why = match why {
        None => String::new(),
        Some(Adjusted::ToHighest) => ", the card's maximum".into(),
        Some(Adjusted::ToLowest) => ", the card's minimum".into(),
        Some(Adjusted::ToStep) => format!(", in steps of {}", offer.show_step()),
    };
    format!("{asked} → {}{why}", offer.show(taken))
}

/// A fan curve from the slowest speed at 45 °C to the highest at 85 °C.
fn quiet_to_full(offer: &Offer) -> Option<Fan> {
    let middle = f64::midpoint(offer.minimum, offer.maximum);
    let points = [(45.0, offer.minimum), (70.0, middle), (85.0, offer.maximum)];
    FanCurve::new(&points).ok().map(Fan::Curve)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::fixtures::card;
    use rstest::rstest;
    use yard_step_core::{MhzOffset, Percent, Watt};

    fn press(keys: &[KeyCode]) -> SettingsForm {
        keys.iter().fold(SettingsForm::of(&card(), None), |form, key| match form.key(*key) {
            Chosen::NotYet(form) => form,
            Chosen::Done(settings) => panic!("done with {settings:?}"),
        })
    }

    fn tried(keys: &[KeyCode]) -> Settings {
        match press(keys).key(KeyCode::Enter) {
            Chosen::Done(settings) => settings,
            Chosen::NotYet(form) => panic!("not done: {form:?}"),
        }
    }

    #[test]
    fn values_move_in_the_steps_and_inside_the_range_of_the_card() {
        use KeyCode::{Down, Left, PageUp, Right};
        assert_eq!(tried(&[Right, Right]).power_limit, Some(Watt(222.0)));
        assert_eq!(tried(&[PageUp; 20]).power_limit, Some(Watt(286.0)));
        assert_eq!(tried(&[Down, Right, Right]).core_offset, Some(MhzOffset(30)));
        assert_eq!(tried(&[Down, Down, Left]).fan, Some(Fan::Fixed(Percent(100.0))));
        let Some(Fan::Curve(curve)) = tried(&[Down, Down, KeyCode::Char('c')]).fan else {
            panic!()
        };
        assert_eq!(curve.points(), [(45.0, 30.0), (70.0, 65.0), (85.0, 100.0)]);
        assert_eq!(tried(&[]), Settings::stock(&card()));
    }

    #[rstest]
    #[case("-40", -45)]
    #[case("100", 90)]
    #[case("9999", 300)]
    #[case("-", 0)]
    fn a_number_is_typed_and_falls_into_a_bin_of_the_card(#[case] text: &str, #[case] held: i32) {
        let mut keys = vec![KeyCode::Down];
        keys.extend(text.chars().map(KeyCode::Char));
        assert_eq!(tried(&keys).core_offset, Some(MhzOffset(held)));
    }

    #[rstest]
    #[case("999", "999 → +300 MHz, the card's maximum")]
    #[case("-999", "-999 → −150 MHz, the card's minimum")]
    #[case("100", "100 → +90 MHz, in steps of 15 MHz")]
    #[case("90", "90 → +90 MHz")]
    #[case("-", "\"-\" is not a number: the value stays as it is.")]
    #[case("", "")]
    fn what_the_card_takes_is_shown_before_enter(#[case] text: &str, #[case] shown: &str) {
        let mut keys = vec![KeyCode::Down];
        keys.extend(text.chars().map(KeyCode::Char));
        assert_eq!(press(&keys).preview(), shown);
    }

    #[test]
    fn s_goes_back_to_stock_and_what_is_typed_waits_for_enter() {
        use KeyCode::{Char, Down, Right};
        assert_eq!(tried(&[Down, Right, Char('s')]), Settings::stock(&card()));
        let form = press(&[Down, Char('7')]);
        assert_eq!((form.chosen(), form.typing().as_deref()), (1, Some("7▏")));
        assert_eq!(form.settings(), Settings::stock(&card()), "typed, and not taken over yet");
    }
}
