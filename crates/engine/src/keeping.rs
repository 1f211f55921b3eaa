//! Profiles: keeping them, putting the card to one, trying one again, and what each stands on.

use yard_step_core::{Fan, Margin, Next, Origin, Profile, SettingKind, Settings};
use yard_step_ledger::TrialDetail;

use crate::engine::Engine;
use crate::error::EngineError;
use crate::profiles::{ProfileView, needs_no_limits, needs_no_yes};

/// What the user wants kept.
#[derive(Debug, Clone, PartialEq)]
pub struct KeepWish {
    /// Name of the profile; one of that name is replaced.
    pub name: String,
    /// What it is for.
    pub purpose: String,
    /// What it is to be good for. What a climb came to has the margin of its plan.
    pub margin: Option<Margin>,
    /// Whose settings.
    pub what: KeepWhat,
    /// Which fan it carries.
    pub fan: KeptFan,
}

/// Which fan a profile carries, where its settings were found with the fan of a search.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum KeptFan {
    /// The one the user chose in Air, or automatic. A fan that was settled, or tried by hand, stays.
    #[default]
    Chosen,
    /// That of the search.
    AsSearched,
}

/// Whose settings are to be kept.
#[derive(Debug, Clone, PartialEq)]
pub enum KeepWhat {
    /// Those the climb came to; the card is put to them.
    Outcome,
    /// Those of one trial; the card stays as it is.
    Trial {
        /// Its climb.
        climb: i64,
        /// Its number.
        trial: u32,
    },
    /// Settings that were put together by hand; the card stays as it is.
    Settings(Box<Settings>),
}

impl Engine {
    /// Keeps what the climb came to, and puts the card to it; or what one trial ran at.
    ///
    /// # Errors
    /// The climb has not ended, there is no such trial or it failed, settings by hand lie outside the
    /// card's ranges or steps, or ledger or card fail.
    pub fn keep(&mut self, wish: &KeepWish) -> Result<Profile, EngineError> {
        let mut profile = match &wish.what {
            &KeepWhat::Outcome => self.profile_of_outcome()?,
            &KeepWhat::Trial { climb, trial } => {
                Profile { margin: wish.margin, ..self.profile_of_trial(climb, trial)? }
            }
            KeepWhat::Settings(settings) => {
                let clamped = settings.clamped(self.cards.card().description());
                if !clamped.notes.is_empty() {
                    return Err(EngineError::NothingToDo(format!(
                        "Not kept: the card does not take these settings as they are. {}.",
                        clamped.notes.join("; ")
                    )));
                }
                let by_hand = Profile::new(String::new(), clamped.settings, Origin::ByHand);
                Profile { margin: wish.margin, ..by_hand }
            }
        };
        let of_search = Some(self.climb.plan().hold.fan());
        if wish.fan == KeptFan::Chosen && profile.settings.fan == of_search {
            let card = self.cards.card().description();
            if card.offers(SettingKind::Fan) {
                let chosen = self.ledger.air_notes(card)?.chosen;
                profile.settings.fan = Some(chosen.unwrap_or(Fan::Automatic));
            }
        }
        profile.name.clone_from(&wish.name);
        profile.purpose.clone_from(&wish.purpose);
        profile.driver = Some(self.cards.card().description().driver.clone());
        self.ledger.keep(self.cards.card().description(), &profile)?;
        if !profile.in_use {
            return Ok(profile);
        }
        self.cards.set_kept(Some(profile.settings));
        self.cards.arm()?;
        self.cards.put_back()?;
        Ok(profile)
    }

    pub(crate) fn profile_of_outcome(&self) -> Result<Profile, EngineError> {
        let Next::Ended(outcome) = self.climb.next() else {
            return Err(EngineError::NothingToDo(
                "There is nothing to keep before the climb has its outcome: let it come to its \
                 end, or end the stage."
                    .into(),
            ));
        };
        let margin = self.climb.plan().margin;
        Ok(Profile { in_use: true, ..Profile::of_outcome(&outcome, margin, self.climb_id) })
    }

    pub(crate) fn profile_of_trial(&self, climb: i64, trial: u32) -> Result<Profile, EngineError> {
        let row = self.row_of(climb, trial)?;
        let TrialDetail { intent, record, .. } = self.own_detail(row)?;
        let verdict = record.map(|record| record.verdict());
        match verdict {
            None => Err(EngineError::NothingToDo(format!("Trial {trial} has no outcome yet."))),
            Some(verdict) if verdict.is_fault() => Err(EngineError::NothingToDo(format!(
                "Trial {trial} of climb {climb} ended in {verdict}: what failed is neither kept nor \
                 soaked. Mark it first, with m, if you know better."
            ))),
            Some(_) => Ok(Profile {
                climb: Some(climb),
                trial: Some(trial),
                ..Profile::new(String::new(), intent.asked, Origin::Trial)
            }),
        }
    }

    /// A profile of this card by its name.
    pub(crate) fn profile(&self, name: &str) -> Result<Profile, EngineError> {
        let mut profiles = self.ledger.profiles(self.cards.card().description())?;
        let place = profiles.iter().position(|profile| profile.name == name);
        place.map(|place| profiles.swap_remove(place)).ok_or_else(|| {
            EngineError::NothingToDo(format!("There is no profile \"{name}\" on this card."))
        })
    }

    /// Puts the card to a profile, and goes back to it from now on; whether it is put to it at a
    /// start depends on its proof.
    ///
    /// # Errors
    /// There is no such profile, it is as bold as what took the machine down and `yes` is not said,
    /// the ledger fails, or the card does not take it.
    pub fn use_profile(&mut self, name: &str, yes: bool) -> Result<ProfileView, EngineError> {
        let profile = self.profile(name)?;
        needs_no_limits(self.cards.card().description(), &profile)?;
        needs_no_yes(&self.ledger, self.cards.card().description(), &profile.settings, yes)?;
        self.ledger.use_profile(self.cards.card().description(), Some(name))?;
        // Whoever ends from here on goes back to these.
        self.cards.set_kept(Some(profile.settings));
        self.cards.arm()?;
        let used = ProfileView::of(
            &self.ledger,
            self.cards.card().description(),
            &self.machine.changes,
            profile,
        )?;
        self.cards.put_back()?;
        self.note_start(true)?;
        Ok(used)
    }

    /// Deletes a profile; a card that was put to it goes back to stock.
    ///
    /// # Errors
    /// There is no such profile, the ledger fails, or the card does not go back.
    pub fn drop_profile(&mut self, name: &str) -> Result<(), EngineError> {
        let profile = self.profile(name)?;
        self.ledger.drop_profile(self.cards.card().description(), name)?;
        if profile.in_use { self.back_to_stock() } else { Ok(()) }
    }

    /// The profiles of this card, each with what stands behind it.
    ///
    /// # Errors
    /// The ledger fails.
    pub fn profiles(&self) -> Result<Vec<ProfileView>, EngineError> {
        ProfileView::all(&self.ledger, self.cards.card().description())
    }

    /// Why the card was not put to the profile in use when the engine began, if it was not.
    #[must_use]
    pub fn told_at_start(&self) -> Option<&str> {
        self.told_at_start.as_deref()
    }
}
