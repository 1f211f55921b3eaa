//! Settings as a whole, their clamping to what a card advertises, and the comparison of what was
//! asked with what was taken.

use std::fmt;

use serde::{Deserialize, Serialize};

use crate::card::{CardDescription, SettingKind};
use crate::units::{Celsius, MhzOffset, Percent, Watt};

/// Why settings cannot be used.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum SettingsError {
    /// Not TOML, an unknown key, or a value of the wrong type.
    #[error("the settings cannot be read: {0}")]
    Unreadable(String),
    /// Infinite or not a number.
    #[error("the {0} must be a number")]
    NoNumber(&'static str),
}

/// How the fan is driven.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Fan {
    /// By the card itself.
    Automatic,
    /// At one speed, 0 to 100 %.
    Fixed(Percent),
}

/// One set of settings. What is `None` is left as the card has it at stock.
///
/// It is written with the unit in every name: `{"core_offset_mhz": 120, "fan_percent": 100.0}`,
/// where a fan without `fan_percent` is automatic.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Settings {
    /// Board power limit.
    #[serde(rename = "power_limit_w", skip_serializing_if = "Option::is_none", default)]
    pub power_limit: Option<Watt>,
    /// Core temperature target.
    #[serde(rename = "temperature_target_c", skip_serializing_if = "Option::is_none", default)]
    pub temperature_target: Option<Celsius>,
    /// Core clock offset.
    #[serde(rename = "core_offset_mhz", skip_serializing_if = "Option::is_none", default)]
    pub core_offset: Option<MhzOffset>,
    /// Fan.
    #[serde(
        rename = "fan_percent",
        skip_serializing_if = "fan_is_automatic",
        default,
        with = "fan_as_percent"
    )]
    pub fan: Option<Fan>,
}

fn fan_is_automatic(fan: &Option<Fan>) -> bool {
    !matches!(fan, Some(Fan::Fixed(_)))
}

mod fan_as_percent {
    use serde::{Deserialize, Deserializer, Serializer};

    use super::{Fan, Percent};

    pub fn serialize<S: Serializer>(fan: &Option<Fan>, to: S) -> Result<S::Ok, S::Error> {
        match fan {
            Some(Fan::Fixed(percent)) => to.serialize_some(percent),
            Some(Fan::Automatic) | None => to.serialize_none(),
        }
    }

    pub fn deserialize<'de, D: Deserializer<'de>>(from: D) -> Result<Option<Fan>, D::Error> {
        let percent = Option::<Percent>::deserialize(from)?;
        Ok(Some(percent.map_or(Fan::Automatic, Fan::Fixed)))
    }
}

impl Settings {
    /// The factory settings of a card, every offered setting named.
    #[must_use]
    pub fn stock(card: &CardDescription) -> Self {
        let mut settings = Self::default();
        for offer in &card.offers {
            settings.set(offer.kind, offer.stock);
        }
        settings
    }

    /// Reads settings from TOML, named as in the [type's description](Self).
    ///
    /// # Errors
    /// Text that is no TOML, unknown keys, values of the wrong type, and values that are no number.
    pub fn from_toml(text: &str) -> Result<Self, SettingsError> {
        let settings: Self = toml::from_str(text)
            .map_err(|error| SettingsError::Unreadable(error.to_string().trim_end().to_owned()))?;
        match SettingKind::ALL
            .into_iter()
            .find(|kind| settings.get(*kind).is_some_and(|value| !value.is_finite()))
        {
            Some(kind) => Err(SettingsError::NoNumber(kind.label())),
            None => Ok(settings),
        }
    }

    /// The value of one setting in its unit; `None` for unset and for an automatic fan.
    #[must_use]
    pub fn get(&self, kind: SettingKind) -> Option<f64> {
        match kind {
            SettingKind::PowerLimit => self.power_limit.map(Watt::value),
            SettingKind::TemperatureTarget => self.temperature_target.map(Celsius::value),
            SettingKind::CoreOffset => self.core_offset.map(|offset| f64::from(offset.0)),
            SettingKind::Fan => match self.fan {
                Some(Fan::Fixed(percent)) => Some(percent.value()),
                Some(Fan::Automatic) | None => None,
            },
        }
    }

    /// Sets one setting by its kind; a fan set to `None` is automatic.
    pub fn set(&mut self, kind: SettingKind, value: Option<f64>) {
        match kind {
            SettingKind::PowerLimit => self.power_limit = value.map(Watt),
            SettingKind::TemperatureTarget => self.temperature_target = value.map(Celsius),
            SettingKind::CoreOffset => {
                self.core_offset = value.map(|mhz| MhzOffset(mhz.round() as i32));
            }
            SettingKind::Fan => {
                self.fan = Some(value.map_or(Fan::Automatic, |v| Fan::Fixed(Percent(v))));
            }
        }
    }

    /// One setting as it is shown, unit included.
    #[must_use]
    pub fn show(&self, kind: SettingKind) -> String {
        match (kind, self.get(kind)) {
            (SettingKind::CoreOffset, Some(_)) => {
                self.core_offset.unwrap_or(MhzOffset::STOCK).to_string()
            }
            (_, Some(value)) => format!("{value:.0} {}", kind.unit()),
            (SettingKind::Fan, None) => "automatic".to_owned(),
            (_, None) => "stock".to_owned(),
        }
    }

    /// These settings brought inside what the card advertises, with a note for every change.
    /// What the card does not offer is left out and noted. Nothing else may reach a card.
    #[must_use]
    pub fn clamped(&self, card: &CardDescription) -> Clamped {
        let mut settings = *self;
        let mut notes = Vec::new();
        for kind in SettingKind::ALL {
            let Some(asked) = self.get(kind) else { continue };
            match card.offer(kind) {
                None => {
                    settings.set(kind, None);
                    notes.push(format!(
                        "{} is not offered by {}: left out",
                        kind.label(),
                        card.name
                    ));
                }
                Some(offer) => {
                    let held = asked.clamp(offer.minimum, offer.maximum);
                    if held != asked {
                        settings.set(kind, Some(held));
                        notes.push(format!(
                            "{} {asked:.0} {unit} is outside {:.0} to {:.0} {unit}: {held:.0} {unit} is asked",
                            kind.label(),
                            offer.minimum,
                            offer.maximum,
                            unit = kind.unit(),
                        ));
                    }
                }
            }
        }
        Clamped { settings, notes }
    }

    /// Where `taken` is not what was asked. A value the card rounded to its own bin is a
    /// difference too, but a [harmless](Difference::rounded) one.
    #[must_use]
    pub fn differences(&self, taken: &Self, card: &CardDescription) -> Vec<Difference> {
        card.offers
            .iter()
            .filter_map(|offer| {
                let asked = self.get(offer.kind);
                let held = taken.get(offer.kind);
                let asked_or_stock = asked.or(offer.stock);
                (asked_or_stock != held).then(|| Difference {
                    kind: offer.kind,
                    asked: asked_or_stock,
                    taken: held,
                    rounded: matches!((asked_or_stock, held), (Some(a), Some(t)) if (a - t).abs() < offer.step),
                })
            })
            .collect()
    }
}

/// Settings that a card may be asked for, and what had to be changed to get there.
#[derive(Debug, Clone, PartialEq)]
pub struct Clamped {
    /// Inside every advertised range.
    pub settings: Settings,
    /// A sentence for each change.
    pub notes: Vec<String>,
}

/// One setting that is not held as asked.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Difference {
    /// Which setting.
    pub kind: SettingKind,
    /// Asked value, in the unit of the kind; none is automatic.
    pub asked: Option<f64>,
    /// Value the card says it holds; none is automatic.
    pub taken: Option<f64>,
    /// Less than one step apart: the card rounded, it did not refuse.
    pub rounded: bool,
}

impl fmt::Display for Difference {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let show = |value: Option<f64>| {
            let mut settings = Settings::default();
            settings.set(self.kind, value);
            settings.show(self.kind)
        };
        let word = if self.rounded { "rounded to" } else { "the card holds" };
        write!(f, "{}: asked {}, {word} {}", self.kind.label(), show(self.asked), show(self.taken))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fixtures::card;
    use rstest::rstest;

    #[rstest]
    #[case(500.0, 300.0, 1)]
    #[case(-500.0, -150.0, 1)]
    #[case(120.0, 120.0, 0)]
    fn nothing_outside_the_advertised_range_remains(
        #[case] asked: f64,
        #[case] held: f64,
        #[case] notes: usize,
    ) {
        let mut settings = Settings::default();
        settings.set(SettingKind::CoreOffset, Some(asked));
        let clamped = settings.clamped(&card());
        assert_eq!(clamped.settings.get(SettingKind::CoreOffset), Some(held));
        assert_eq!(clamped.notes.len(), notes);
    }

    #[rstest]
    fn what_the_card_does_not_offer_is_left_out_and_told() {
        let mut description = card();
        description.offers.retain(|offer| offer.kind != SettingKind::TemperatureTarget);
        let asked = Settings { temperature_target: Some(Celsius(90.0)), ..Settings::default() };
        let clamped = asked.clamped(&description);
        assert_eq!(clamped.settings.temperature_target, None);
        assert!(clamped.notes[0].contains("temperature target is not offered"));
    }

    #[rstest]
    #[case(120, 120, None)]
    #[case(130, 120, Some(true))]
    #[case(120, 0, Some(false))]
    #[case(120, 135, Some(false))]
    fn a_rounded_value_is_told_from_a_refused_one(
        #[case] asked: i32,
        #[case] taken: i32,
        #[case] rounded: Option<bool>,
    ) {
        let with =
            |offset| Settings { core_offset: Some(MhzOffset(offset)), ..Settings::stock(&card()) };
        let differences = with(asked).differences(&with(taken), &card());
        assert_eq!(differences.first().map(|d| d.rounded), rounded);
    }

    #[rstest]
    fn unset_settings_are_expected_to_be_at_stock() {
        let taken = Settings { power_limit: Some(Watt(250.0)), ..Settings::stock(&card()) };
        let differences = Settings::default().differences(&taken, &card());
        assert_eq!(differences.len(), 1);
        assert_eq!(differences[0].to_string(), "power limit: asked 220 W, the card holds 250 W");
    }

    #[rstest]
    #[case("core_offset = 60", "unknown field `core_offset`, expected one of")]
    #[case("core_offset_mhz = \"much\"", "invalid type")]
    #[case("power_limit_w = nan", "the power limit must be a number")]
    #[case("fan_percent = inf", "the fan must be a number")]
    fn settings_that_cannot_be_meant_are_refused(#[case] text: &str, #[case] told: &str) {
        let error = Settings::from_toml(text).unwrap_err().to_string();
        assert!(error.contains(told), "{error}");
    }

    #[rstest]
    fn settings_are_read_from_toml() {
        let settings = Settings::from_toml("core_offset_mhz = -30\nfan_percent = 80").unwrap();
        assert_eq!(settings.core_offset, Some(MhzOffset(-30)));
        assert_eq!(settings.fan, Some(Fan::Fixed(Percent(80.0))));
        assert_eq!(settings.power_limit, None);
    }

    #[rstest]
    fn settings_are_written_with_their_units_and_read_back() {
        let settings = Settings {
            core_offset: Some(MhzOffset(105)),
            fan: Some(Fan::Fixed(Percent(100.0))),
            ..Settings::default()
        };
        let text = serde_json::to_string(&settings).unwrap();
        assert_eq!(text, r#"{"core_offset_mhz":105,"fan_percent":100.0}"#);
        assert_eq!(serde_json::from_str::<Settings>(&text).unwrap(), settings);
    }
}
