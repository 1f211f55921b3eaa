//! Soaks and checks: settings under many loads, for as long as the user wants to be sure of them.
//!
//! ```text
//!   SoakWish ─► Soak: settings, loads, goal, what stands behind them ─► ledger ─► climb ─► its runs
//!                                                    a check: results ─► ledger ◄─┘
//! ```

use std::time::{SystemTime, UNIX_EPOCH};

use yard_step_core::{
    CardChange, CheckAnswer, CheckDue, ClimbEvent, Exposure, Goal, MOST_MEASURED, Meaning, Next,
    OnFault, Origin, Profile, Seconds, SettingKind, Settings, Soak, SoakEnd, SoakLoad, Soaked,
    Variant, VariantTable, check_due, check_loads, last_change,
};

use crate::engine::Engine;
use crate::error::EngineError;
use crate::load::ManualLoad;
use crate::profiles::{Candidate, ProfileView, SoakWhat, claim_of, needs_no_yes};

/// What the user wants proven, and how.
#[derive(Debug, Clone, PartialEq)]
pub struct SoakWish {
    /// Whose settings.
    pub what: SoakWhat,
    /// The loads, in the order in which they run first.
    pub loads: Vec<SoakLoad>,
    /// When it is over.
    pub goal: Goal,
    /// What comes after a fault.
    pub on_fault: OnFault,
    /// Fine steps by which what runs is bolder than what is proven.
    pub reserve: u8,
}

/// Measured length of a run that compares settings.
pub const MEASURED: Seconds = Seconds(180.0);

fn now() -> i64 {
    let since = SystemTime::now().duration_since(UNIX_EPOCH);
    since.map_or(0, |since| since.as_secs() as i64)
}

impl Engine {
    /// Begins a soak: nothing else of the climb goes on before it is over or ended.
    ///
    /// # Errors
    /// A load or a goal that cannot be, settings that may take the machine down or that the supply may not carry, nothing to
    /// prove, or the ledger fails.
    pub fn begin_soak(&mut self, wish: &SoakWish) -> Result<Vec<String>, EngineError> {
        let profile = self.to_prove(&wish.what)?;
        let soak = self.soak_of(wish.what.to_string(), &profile, wish)?;
        self.set_soak(soak)
    }

    /// Begins the check of a profile: a short fixed programme, compared with its own first results.
    ///
    /// # Errors
    /// There is no such profile, and as [`begin_soak`](Self::begin_soak).
    pub fn check_profile(&mut self, name: &str) -> Result<Vec<String>, EngineError> {
        let profile = self.profile(name)?;
        let wish = SoakWish {
            what: SoakWhat::Profile(name.to_owned()),
            loads: check_loads(),
            goal: Goal::Once,
            on_fault: OnFault::Stop,
            reserve: 0,
        };
        let of = format!("the check of profile \"{name}\"");
        let soak = Soak { check: Some(name.to_owned()), ..self.soak_of(of, &profile, &wish)? };
        self.set_soak(soak)
    }

    /// Begins to measure settings side by side: each once under its load, in the order given, with the fan of the climb. What
    /// is not clear then is [measured again](Self::measure_on).
    ///
    /// # Errors
    /// Nothing or too much to measure, settings that may take the machine down, and as [`begin_soak`](Self::begin_soak).
    pub fn begin_measuring(
        &mut self,
        cells: &[(Settings, String)],
    ) -> Result<Vec<String>, EngineError> {
        let card = self.cards.card().description();
        let fan = card.offers(SettingKind::Fan).then(|| self.climb.plan().hold.fan());
        let mut loads = Vec::new();
        for (settings, load) in cells {
            let settings = Settings { fan: fan.or(settings.fan), ..*settings };
            let settings = settings.clamped(card).settings;
            self.needs_nobody(&settings)?;
            self.loads.know(load)?;
            loads.push(SoakLoad {
                seconds: Some(MEASURED),
                settings: Some(settings),
                ..SoakLoad::new(load.clone(), 1.0)
            });
        }
        let soak = Soak {
            settings: Settings::stock(card),
            of: "before and after".into(),
            loads,
            goal: Goal::Once,
            on_fault: OnFault::Stop,
            reserve: 0,
            after: self.climb.trials().len() as u32,
            before: Exposure::default(),
            claim: None,
            ended: false,
            check: None,
        };
        self.set_soak(soak).map(|_| Vec::new())
    }

    /// Once settings were measured side by side, begins to measure again what is not clear yet; whether there is any of it.
    ///
    /// # Errors
    /// As [`begin_measuring`](Self::begin_measuring).
    pub fn measure_on(&mut self) -> Result<bool, EngineError> {
        let over = |soaked: &Soaked| {
            soaked.end == Some(SoakEnd::Reached)
                && soaked.soak.is_measurement()
                && !soaked.soak.ended
        };
        let Some(soak) = self.climb.soaked().filter(over).map(|soaked| soaked.soak) else {
            return Ok(false);
        };
        let card = self.cards.card().description();
        let mut all = vec![Settings::stock(card)];
        for settings in soak.loads.iter().filter_map(|load| load.settings) {
            if !all.iter().any(|of| of.is_but_for_fan(&settings)) {
                all.push(settings);
            }
        }
        let mut variants = Vec::new();
        let mut runs = Vec::new();
        for settings in all {
            let mut ran = self.ledger.runs_at(card, &settings)?;
            let failed = ran.iter().any(|run| run.verdict.meaning() == Meaning::TooMuch);
            ran.retain(|run| soak.loads.iter().any(|load| load.load == run.load));
            variants.push(Variant { name: String::new(), settings, what: String::new(), failed });
            runs.push(ran);
        }
        let table = VariantTable::of(variants, &runs);
        let cells: Vec<(Settings, String)> = table
            .unclear()
            .into_iter()
            .take(MOST_MEASURED)
            .map(|(variant, load)| (table.variants[variant].settings, table.loads[load].clone()))
            .collect();
        if cells.is_empty() {
            return Ok(false);
        }
        self.begin_measuring(&cells).map(|_| true)
    }

    /// Ends the soak with what is known. Its runs stay.
    ///
    /// # Errors
    /// There is none, or the ledger fails.
    pub fn end_soak(&mut self) -> Result<(), EngineError> {
        let Some(soak) = self.climb.soak().filter(|soak| !soak.ended) else {
            return Err(EngineError::NothingToDo("No soak goes on.".into()));
        };
        let soak = Soak { ended: true, ..soak.clone() };
        self.ledger.set_climb_soak(self.climb_id, Some(&soak))?;
        self.climb.handle(ClimbEvent::Soak(Some(Box::new(soak))));
        self.note_state()
    }

    fn set_soak(&mut self, soak: Soak) -> Result<Vec<String>, EngineError> {
        soak.check().map_err(|error| EngineError::NothingToDo(format!("{error}.")))?;
        if self.is_soaking() {
            return Err(EngineError::NothingToDo(
                "A soak goes on already: end it before you begin another.".into(),
            ));
        }
        let told = match self.cards.card().description() {
            card if soak.settings.moved_but_fan(card).is_empty() => {
                vec!["These are the card's stock settings.".to_owned()]
            }
            _ => Vec::new(),
        };
        self.ledger.set_climb_soak(self.climb_id, Some(&soak))?;
        self.climb.handle(ClimbEvent::Soak(Some(Box::new(soak))));
        self.note_state()?;
        Ok(told)
    }

    /// Whether a soak goes on.
    #[must_use]
    pub fn is_soaking(&self) -> bool {
        self.climb.soaked().is_some_and(|soaked| soaked.end.is_none())
    }

    /// Whether settings may run while nobody is there to say yes.
    fn needs_nobody(&self, settings: &Settings) -> Result<(), EngineError> {
        let card = self.cards.card().description();
        needs_no_yes(&self.ledger, card, settings, false).map_err(try_first)?;
        match self.climb.supply_risk_of(settings) {
            Some(risk) => Err(try_first(EngineError::NeedsYes(risk))),
            None => Ok(()),
        }
    }

    fn soak_of(
        &self,
        name: String,
        profile: &Profile,
        wish: &SoakWish,
    ) -> Result<Soak, EngineError> {
        for load in &wish.loads {
            self.loads.know(&load.load)?;
            if load.load == ManualLoad::NAME {
                return Err(EngineError::NothingToDo(
                    "A soak runs without you: leave the manual load out.".into(),
                ));
            }
        }
        let card = self.cards.card().description();
        let settings = profile.settings.clamped(card).settings;
        self.needs_nobody(&settings)?;
        let view = self.standing_of(Profile { settings, ..profile.clone() })?;
        // Nobody is there at night to say yes to what took the machine down.
        let bolder = self.climb.with_reserve(settings, wish.reserve);
        let is_barred = needs_no_yes(&self.ledger, card, &bolder, false).is_err();
        let reserve = if is_barred { 0 } else { wish.reserve };
        Ok(Soak {
            settings,
            of: name,
            loads: wish.loads.clone(),
            goal: match wish.goal {
                Goal::Until { at, .. } => Goal::Until { at, hours: (at - now()) as f64 / 3_600.0 },
                goal => goal,
            },
            on_fault: wish.on_fault,
            reserve,
            after: self.climb.trials().len() as u32,
            before: *view.backing.exposure,
            claim: claim_of(&view.profile, card),
            ended: false,
            check: None,
        })
    }

    /// The settings that are to be proven, as a profile.
    fn to_prove(&self, what: &SoakWhat) -> Result<Profile, EngineError> {
        match what {
            SoakWhat::Profile(name) => self.profile(name),
            SoakWhat::Outcome => self.profile_of_outcome(),
            SoakWhat::Trial { climb, trial } => self.profile_of_trial(*climb, *trial),
            SoakWhat::Held => Ok(by_hand(self.cards.way_back())),
        }
    }

    fn standing_of(&self, profile: Profile) -> Result<ProfileView, EngineError> {
        ProfileView::of(
            &self.ledger,
            self.cards.card().description(),
            &self.machine.changes,
            profile,
        )
    }

    /// Everything that can be proven on this card: what the climb came to, what the card goes back to, and its profiles.
    ///
    /// # Errors
    /// The ledger fails.
    pub fn candidates(&self, profiles: &[ProfileView]) -> Result<Vec<Candidate>, EngineError> {
        let mut candidates = Vec::new();
        let changes = self.ledger.machine()?.changes;
        let is_known =
            |settings: &Settings| profiles.iter().any(|view| view.profile.settings == *settings);
        let card = self.cards.card().description();
        if let Next::Ended(_) = self.climb.next()
            && let Ok(profile) = self.to_prove(&SoakWhat::Outcome)
            && !is_known(&profile.settings)
            && !profile.settings.moved_but_fan(card).is_empty()
        {
            candidates.push(self.candidate(
                SoakWhat::Outcome,
                self.standing_of(profile)?,
                &changes,
            )?);
        }
        for view in profiles {
            let what = SoakWhat::Profile(view.profile.name.clone());
            candidates.push(self.candidate(what, view.clone(), &changes)?);
        }
        let held = self.to_prove(&SoakWhat::Held)?;
        if !is_known(&held.settings) {
            candidates.push(self.candidate(SoakWhat::Held, self.standing_of(held)?, &changes)?);
        }
        Ok(candidates)
    }

    fn candidate(
        &self,
        what: SoakWhat,
        view: ProfileView,
        changes: &[CardChange],
    ) -> Result<Candidate, EngineError> {
        let card = self.cards.card().description();
        let assurance = view.assurance(self.climb.experience(), card);
        let (due, checked) = match what {
            SoakWhat::Profile(_) => self.due_and_checked(&view.profile, changes)?,
            _ => (None, None),
        };
        Ok(Candidate { name: what.to_string(), what, view, assurance, due, checked })
    }

    /// Notes what a check came to, once it is over; its answer then.
    ///
    /// # Errors
    /// The ledger fails.
    pub fn note_check(&mut self) -> Result<Option<CheckAnswer>, EngineError> {
        let over = |soaked: &Soaked| {
            matches!(soaked.end, Some(SoakEnd::Reached | SoakEnd::Failed)) && !soaked.soak.ended
        };
        let Some(soaked) = self.climb.soaked().filter(over) else { return Ok(None) };
        let Some(name) = soaked.soak.check.clone() else { return Ok(None) };
        let runs = self.climb.check_runs();
        // A profile that was deleted meanwhile has nothing to be compared with.
        let answer = match self.profile(&name) {
            Ok(profile) => {
                let card = self.cards.card().description();
                let first = self.ledger.checks(card, &profile)?.into_iter().next();
                let answer = CheckAnswer::of(&first.map_or_else(Vec::new, |f| f.runs), &runs);
                self.ledger.add_check(card, &profile, &runs)?;
                Some(answer)
            }
            Err(_) => None,
        };
        self.end_soak()?;
        Ok(answer)
    }

    /// A soak that ends at a time has so many hours left, whenever it is taken up.
    pub(crate) fn heed_deadline(&mut self) {
        let Some(soaked) = self.climb.soaked().filter(|soaked| soaked.end.is_none()) else {
            return;
        };
        if let Goal::Until { at, .. } = soaked.soak.goal {
            let left = ((at - now()) as f64).max(0.0);
            let hours = (soaked.spent.value() + left) / 3_600.0;
            let soak = Soak { goal: Goal::Until { at, hours }, ..soaked.soak };
            self.climb.handle(ClimbEvent::Soak(Some(Box::new(soak))));
        }
    }

    /// Profiles in use whose check is due, in sentences.
    ///
    /// # Errors
    /// The ledger fails.
    pub fn checks_due(&self) -> Result<Vec<String>, EngineError> {
        let card = self.cards.card().description();
        let mut told = Vec::new();
        let changes = self.ledger.machine()?.changes;
        for profile in self.ledger.profiles(card)?.into_iter().filter(|profile| profile.in_use) {
            let (due, _) = self.due_and_checked(&profile, &changes)?;
            told.extend(due.map(|due| yard_step_words::check_due(&profile.name, &due)));
        }
        Ok(told)
    }

    /// Why a check of a profile is due, and what the newest one said.
    fn due_and_checked(
        &self,
        profile: &Profile,
        changes: &[CardChange],
    ) -> Result<DueAndChecked, EngineError> {
        let card = self.cards.card().description();
        let checks = self.ledger.checks(card, profile)?;
        let newest = checks.last();
        let (then, driver) = match newest {
            Some(check) => (check.at, Some(check.driver.as_str())),
            None => (profile.kept, profile.driver.as_deref()),
        };
        let first = checks.first().filter(|_| checks.len() > 1);
        let answer = newest.map(|check| {
            let first = first.map_or(&[][..], |first| &first.runs);
            (check.at, CheckAnswer::of(first, &check.runs))
        });
        // Something changed around the card asks for one, too.
        let change = last_change(changes, &card.key());
        let changed = change.is_some_and(|change| change.at > then);
        let due = match check_due(then, driver, now(), &card.driver) {
            None if changed && then > 0 => Some(CheckDue::Change),
            due => due,
        };
        Ok((due, answer))
    }
}

type DueAndChecked = (Option<CheckDue>, Option<(i64, CheckAnswer)>);

fn by_hand(settings: Settings) -> Profile {
    Profile::new(String::new(), settings, Origin::ByHand)
}

fn try_first(error: EngineError) -> EngineError {
    match error {
        EngineError::NeedsYes(risk) => EngineError::NothingToDo(format!(
            "{} A soak asks nobody at night: try these settings once by yourself first, with a yes.",
            yard_step_words::risk(&risk)
        )),
        other => other,
    }
}
