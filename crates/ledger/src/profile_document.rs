//! A profile as a JSON document, to be shared.
//!
//! What is read from one is a starting point: settings, and what their maker says of them. None of
//! that is evidence on another card.

use serde::{Deserialize, Serialize};
use serde_json::{Value, from_str, from_value, to_string_pretty};
use thiserror::Error;
use yard_step_core::{Backing, CardDescription, Margin, Profile, Proof, Settings};

/// Name of the format.
const FORMAT: &str = "yard-step-profile";
/// Its version.
const VERSION: u64 = 1;

/// Why a text is no profile.
#[derive(Debug, Error)]
pub enum DocumentError {
    /// No JSON.
    #[error("it is not JSON: {0}")]
    NotJson(serde_json::Error),
    /// Some other document.
    #[error("its \"format\" is {found}, and that of a profile is \"{FORMAT}\"")]
    OtherFormat {
        /// What it says it is.
        found: Value,
    },
    /// A version that is not known.
    #[error("it is a profile of version {found}, and this Yard Step knows version {VERSION}")]
    OtherVersion {
        /// What it says it is.
        found: Value,
    },
    /// A profile whose content cannot be understood.
    #[error("{0}")]
    Content(serde_json::Error),
}

/// A profile with what its maker says of it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ProfileDocument {
    /// Its name.
    pub name: String,
    /// What it is for.
    #[serde(default)]
    pub purpose: String,
    /// The card it was kept for.
    #[serde(default)]
    pub card: CardPart,
    /// Release of the driver it was kept under.
    #[serde(default)]
    pub driver: Option<String>,
    /// The settings.
    pub settings: Settings,
    /// What they were to be good for.
    #[serde(default)]
    pub margin: Option<Margin>,
    /// What stood behind them. It is written for people: whatever stands there, nothing of it counts.
    #[serde(default, skip_deserializing)]
    pub evidence: Option<EvidencePart>,
}

/// The card of a document.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct CardPart {
    /// What it is named by.
    #[serde(default)]
    pub id: String,
    /// Which unit.
    #[serde(default)]
    pub serial: String,
    /// Its model.
    #[serde(default)]
    pub name: String,
}

/// The evidence of a document.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct EvidencePart {
    /// `proven`, `not proven` or `failed`.
    pub proof: String,
    /// Why, in a sentence.
    pub why: String,
    /// Runs without a fault.
    pub runs: usize,
    /// Time under load in them, s.
    pub clean_seconds: f64,
    /// Loads that ran.
    pub loads: Vec<String>,
    /// Chance that the climb claimed, 0 to 1.
    pub claimed_chance: Option<f64>,
}

impl ProfileDocument {
    /// The document of a profile; `why` is what stands behind it, in sentences.
    #[must_use]
    pub fn of(card: &CardDescription, profile: &Profile, backing: &Backing, why: String) -> Self {
        let proof = Proof::of(profile, backing);
        Self {
            name: profile.name.clone(),
            purpose: profile.purpose.clone(),
            card: CardPart {
                id: card.id.clone(),
                serial: card.serial.clone(),
                name: card.name.clone(),
            },
            driver: profile.driver.clone(),
            settings: profile.settings,
            margin: profile.margin,
            evidence: Some(EvidencePart {
                proof: proof.label().into(),
                why,
                runs: backing.runs,
                clean_seconds: backing.clean.value(),
                loads: backing.loads.iter().map(|(load, _)| load.clone()).collect(),
                claimed_chance: profile.claimed,
            }),
        }
    }

    /// The document as text.
    ///
    /// # Errors
    /// A number that JSON cannot hold.
    pub fn to_json(&self) -> Result<String, DocumentError> {
        let mut value = serde_json::Map::new();
        value.insert("format".into(), FORMAT.into());
        value.insert("version".into(), VERSION.into());
        let content = serde_json::to_value(self).map_err(DocumentError::Content)?;
        value.extend(content.as_object().cloned().unwrap_or_default());
        let text = to_string_pretty(&Value::Object(value)).map_err(DocumentError::Content)?;
        Ok(text + "\n")
    }

    /// Reads a document.
    ///
    /// # Errors
    /// Text that is no JSON, another format, another version, or settings that are none.
    pub fn from_json(text: &str) -> Result<Self, DocumentError> {
        let value: Value = from_str(text).map_err(DocumentError::NotJson)?;
        let said = |key: &str| value.get(key).cloned().unwrap_or_default();
        if said("format") != FORMAT {
            return Err(DocumentError::OtherFormat { found: said("format") });
        }
        if said("version") != VERSION {
            return Err(DocumentError::OtherVersion { found: said("version") });
        }
        from_value(value).map_err(DocumentError::Content)
    }
}
