//! Profiles with what stands behind them, as far as the ledger tells: nothing here touches a card.

use std::fmt;

use yard_step_core::{
    Assurance, Backing, CardChange, CardDescription, CheckAnswer, CheckDue, Drift, Experience,
    Margin, Origin, Profile, Proof, Risk, Settings, USUAL_DAY, drift, in_short, last_change,
    needs_limits,
};
use yard_step_ledger::Ledger;

use crate::error::EngineError;

/// A profile with what stands behind it.
#[derive(Debug, Clone, PartialEq)]
pub struct ProfileView {
    /// The profile.
    pub profile: Profile,
    /// Everything it sets, as it differs from stock.
    pub what: String,
    /// Every run made at them.
    pub backing: Backing,
    /// Whether that proves it.
    pub proof: Proof,
    /// What the newest run since it was kept says; none without one.
    pub drift: Option<Drift>,
    /// What might happen at its settings, where no bolder ones took the machine down.
    pub risk: Option<Risk>,
}

/// Whose settings a soak is to prove.
#[derive(Debug, Clone, PartialEq)]
pub enum SoakWhat {
    /// Those of a profile, by its name.
    Profile(String),
    /// Those the climb came to.
    Outcome,
    /// Those of one trial.
    Trial {
        /// Its climb.
        climb: i64,
        /// Its number.
        trial: u32,
    },
    /// What the card holds now.
    Held,
}

impl fmt::Display for SoakWhat {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Profile(name) => write!(f, "profile \"{name}\""),
            Self::Outcome => f.write_str("the outcome of the climb"),
            Self::Trial { climb, trial } => write!(f, "trial {trial} of climb {climb}"),
            Self::Held => f.write_str("what the card holds"),
        }
    }
}

/// Settings that can be proven, and what stands behind them.
#[derive(Debug, Clone, PartialEq)]
pub struct Candidate {
    /// Whose they are.
    pub what: SoakWhat,
    /// The same in words, such as `profile "quiet"`.
    pub name: String,
    /// With what stands behind them.
    pub view: ProfileView,
    /// Hours and chances by kind of load, for days made of as much of each.
    pub assurance: Assurance,
    /// Why a check is due; for profiles only.
    pub due: Option<CheckDue>,
    /// What the newest check said; for profiles that were checked.
    pub checked: Option<(i64, CheckAnswer)>,
}

impl ProfileView {
    pub(crate) fn of(
        ledger: &Ledger,
        card: &CardDescription,
        changes: &[CardChange],
        profile: Profile,
    ) -> Result<Self, EngineError> {
        let mut runs = ledger.runs_at(card, &profile.settings)?;
        let change = last_change(changes, &card.key());
        let mut backing = Backing::of(&profile, &runs, &card.driver, change);
        let bolder = ledger.soaked_bolder(card, &profile.settings)?;
        backing.add_bolder(&profile, &bolder, &card.driver, change);
        if let Some(change) = change.filter(|change| change.at > profile.kept) {
            // What was before it says nothing of a drift.
            runs.retain(|run| run.began >= change.at);
        }
        Ok(Self {
            what: whole(&profile.settings, card),
            proof: Proof::of(&profile, &backing),
            risk: risk_of(ledger, card, &profile.settings)?,
            drift: drift(profile.kept_after, &runs),
            backing,
            profile,
        })
    }

    /// Settings with what stands behind them, kept or not.
    ///
    /// # Errors
    /// The ledger fails.
    pub fn standing(
        ledger: &Ledger,
        card: &CardDescription,
        profile: Profile,
    ) -> Result<Self, EngineError> {
        let changes = ledger.machine()?.changes;
        Self::of(ledger, card, &changes, profile)
    }

    /// How sure one may be of them, in days made of as much of each kind of load.
    #[must_use]
    pub fn assurance(&self, experience: &Experience, card: &CardDescription) -> Assurance {
        let claim = claim_of(&self.profile, card);
        experience.assurance(*self.backing.exposure, &USUAL_DAY, claim)
    }

    /// Why it is proven or not, in sentences.
    #[must_use]
    pub fn why(&self) -> String {
        yard_step_words::proof(&self.proof, &self.backing)
    }

    /// The profiles of a card, the newest first, each with what stands behind it.
    ///
    /// # Errors
    /// The ledger fails.
    pub fn all(ledger: &Ledger, card: &CardDescription) -> Result<Vec<Self>, EngineError> {
        let profiles = ledger.profiles(card)?;
        let changes = ledger.machine()?.changes;
        profiles.into_iter().map(|profile| Self::of(ledger, card, &changes, profile)).collect()
    }
}

/// Chance of a day with which stock settings are taken to hold before they ran: a few cards fail even there.
const OF_STOCK: f64 = 0.995;

/// What a climb claimed of a profile, for the span of its margin; of stock settings, what their maker is trusted with.
pub(crate) fn claim_of(profile: &Profile, card: &CardDescription) -> Option<(Margin, f64)> {
    if profile.settings.moved_but_fan(card).is_empty() {
        return Some((Margin::Daily, OF_STOCK));
    }
    // What somebody else's climb claimed says nothing of this card.
    let is_own = profile.origin == Origin::Climb;
    profile.margin.zip(profile.claimed).filter(|_| is_own)
}

/// Everything that settings change of a card.
fn whole(settings: &Settings, card: &CardDescription) -> String {
    let moved = settings.moved_from_stock(card);
    if moved.is_empty() { "stock".into() } else { moved.join(", ") }
}

/// What a card is put to at a start: the profile in use, as far as it is proven; and what there is
/// to say where it is not.
pub(crate) fn at_start(
    ledger: &Ledger,
    card: &CardDescription,
) -> Result<(Option<Settings>, Option<String>), EngineError> {
    let in_use = ledger.profiles(card)?.into_iter().find(|profile| profile.in_use);
    let Some(profile) = in_use else { return Ok((None, None)) };
    let view = ProfileView::of(ledger, card, &ledger.machine()?.changes, profile)?;
    if let Err(beyond) = needs_no_limits(card, &view.profile) {
        return Ok((None, Some(format!("The card stays at stock: {beyond}"))));
    }
    let name = &view.profile.name;
    let told = match (&view.risk, view.proof.is_proven()) {
        (None, true) => return Ok((Some(view.profile.settings), None)),
        (Some(risk), _) => format!(
            "The card stays at stock, not at profile \"{name}\". {}",
            yard_step_words::risk(risk)
        ),
        (None, false) => format!(
            "The card stays at stock: profile \"{name}\" is {}. {}",
            view.proof.label(),
            view.why()
        ),
    };
    Ok((None, Some(told)))
}

/// Refuses a profile that needs other limits than those in force: less of it is another profile.
pub(crate) fn needs_no_limits(
    card: &CardDescription,
    profile: &Profile,
) -> Result<(), EngineError> {
    let Some(needed) = needs_limits(&profile.settings, card) else { return Ok(()) };
    Err(EngineError::NeedsLimits {
        name: profile.name.clone(),
        settings: in_short(&profile.settings, card),
        why: yard_step_words::needs_limits(&needed, card),
    })
}

/// Refuses settings at least as bold as some that took the machine down, unless `yes` was said.
pub(crate) fn needs_no_yes(
    ledger: &Ledger,
    card: &CardDescription,
    settings: &Settings,
    yes: bool,
) -> Result<(), EngineError> {
    let risk = risk_of(ledger, card, settings)?.filter(|_| !yes);
    risk.map_or(Ok(()), |risk| Err(EngineError::NeedsYes(risk)))
}

/// What might happen under settings at least as bold as some that took the machine down in any climb
/// on a card; `None` where there are no such.
pub fn risk_of(
    ledger: &Ledger,
    card: &CardDescription,
    settings: &Settings,
) -> Result<Option<Risk>, EngineError> {
    let downed = ledger.downed(card, 0)?;
    let bold = downed.iter().find(|downed| downed.bars(settings, card));
    Ok(bold.map(|downed| downed.risk(Some(downed.climb), settings, card)))
}
