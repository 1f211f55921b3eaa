//! One card in the keeper's hands.

use std::path::Path;
use std::time::{Duration, Instant};

use yard_step_core::{
    CardDescription, Fan, FanControl, LimitTables, Percent, Seconds, Settings, WantedLimits,
};

use super::SILENCE;
use super::limits::{Limits, Started};
use super::peers::Peer;
use super::record::{Record, Records, Start};
use super::wire::Reply;
use crate::kernel::{CardFiles, Factory, FileCard, look_at};
use crate::restore::restore;
use crate::users::name_of;
use crate::{Card, CardError, FanDriver};

/// Time between two tries to put a card back.
const BETWEEN_TRIES: Duration = Duration::from_millis(200);

/// Most of the time between two looks that counts as silence of a controller: where the keeper did not get to run, the
/// controller may not have got to run either.
const MOST_LAG: Duration = Duration::from_millis(100);

/// Who controls a card.
struct Control {
    visitor: u64,
    peer: Peer,
    silence: Silence,
}

/// How long a controller has said nothing, as far as the keeper itself got to run.
#[derive(Default)]
struct Silence(Duration);

impl Silence {
    /// Goes on for the time between two looks; whether it is too long by now.
    fn goes_on(&mut self, passed: Duration) -> bool {
        self.0 += passed.min(MOST_LAG);
        self.0 > SILENCE
    }
}

/// A card in the keeper's hands.
pub(super) struct Kept {
    card: FanDriver,
    description: CardDescription,
    record: Record,
    records: Records,
    control: Option<Control>,
    /// When putting it back is tried again, where that failed.
    retry: Option<Instant>,
    /// When time last passed for its fan.
    looked_at: Instant,
    /// When the machine has borne what it was started with.
    borne_at: Option<Instant>,
    /// Its limit table; half a sentence why it has none.
    limits: Result<Limits, String>,
}

/// Whether a card is still as it was noted. One that is away from its way back is not asked: it goes there first.
fn is_as_noted(sysfs: &Path, known: &Record) -> bool {
    let card = &known.factory.description;
    let at_stock = !known.is_away && known.way_back == Settings::stock(card);
    !at_stock || Limits::are_as_noted(sysfs, &known.directory, card)
}

impl Kept {
    /// A card below a root, as it was noted in this run of the machine or, at first sight, as its files show it.
    pub(super) fn open(
        records: &Records,
        (boot, sysfs, card): (&str, &Path, &str),
    ) -> Result<Self, CardError> {
        let before = records.of(card).filter(|known| known.sysfs == sysfs);
        let known = before.clone().filter(|known| known.boot == boot && is_as_noted(sysfs, known));
        let (files, record, limits) = match known {
            Some(record) => {
                let factory = record.factory.clone();
                let (at, card) = ((card, record.directory.as_str()), &factory.description);
                let limits = Limits::known(records, sysfs, at, card);
                (CardFiles::with_factory(sysfs, &record.directory, factory), record, limits)
            }
            None => {
                let Started { card: found, limits } =
                    Limits::start(records, sysfs, look_at(sysfs, card)?);
                let directory = found.directory.clone();
                let files = CardFiles::at_factory(sysfs, found);
                let factory = files.factory().clone();
                let record = Record::new((boot, sysfs, card), &directory, factory);
                let record = record.with_start_of(before);
                records.write(&record).map_err(|error| CardError::Refused {
                    why: format!("the factory state cannot be written down: {error}"),
                })?;
                (files, record, limits)
            }
        };
        let mut description = record.factory.description.clone();
        // A curve is followed here, whatever the card can do by itself.
        description.fan = FanControl::Curve;
        let card = FanDriver::new(Box::new(FileCard::new(files)));
        let looked_at = Instant::now();
        let records = records.clone();
        Ok(Self {
            card,
            description,
            record,
            records,
            control: None,
            retry: None,
            looked_at,
            borne_at: None,
            limits,
        })
    }

    pub(super) fn name(&self) -> String {
        self.description.id.clone()
    }

    /// Its address on the bus.
    pub(super) fn address(&self) -> &str {
        &self.record.card
    }

    /// What the card is and offers while the keeper has it.
    pub(super) fn description(&self) -> &CardDescription {
        &self.description
    }

    /// What the card was like before anything was changed, with what it offers while the keeper has it.
    pub(super) fn factory(&self) -> Factory {
        let mut factory = self.record.factory.clone();
        factory.description = self.description.clone();
        factory
    }

    /// Whether it may hold something else than its way back.
    pub(super) fn is_away(&self) -> bool {
        self.record.is_away
    }

    /// Makes a visitor its only controller.
    pub(super) fn take_control(&mut self, visitor: u64, peer: Peer) -> Result<(), String> {
        if let Some(Control { peer, .. }) = &self.control {
            return Err(format!(
                "process {} of user {} controls the card already: a card has one controller",
                peer.process, peer.user
            ));
        }
        self.control = Some(Control { visitor, peer, silence: Silence::default() });
        Ok(())
    }

    /// Notes that a visitor said something; whether it controls the card.
    pub(super) fn hear(&mut self, visitor: u64) -> bool {
        let controlling = self.control.as_mut().filter(|control| control.visitor == visitor);
        controlling.map(|control| control.silence = Silence::default()).is_some()
    }

    pub(super) fn apply(&mut self, settings: &Settings) -> Reply {
        if let Err(refused) = self.check(settings) {
            return refused;
        }
        if *settings != self.record.way_back {
            // Whatever comes from now on is not what the machine was started with.
            let noted = self.note(|record| (record.is_starting, record.is_away) = (false, true));
            if let Err(refused) = noted {
                return refused;
            }
        }
        match self.card.apply(settings) {
            Ok(()) => {
                let refused = self.card.refused();
                Reply::Applied { refused }
            }
            Err(error) => gone(&error),
        }
    }

    pub(super) fn taken(&mut self) -> Reply {
        match self.card.taken() {
            Ok(settings) => Reply::Holds { settings: Box::new(settings) },
            Err(error) => gone(&error),
        }
    }

    pub(super) fn turn_fan(&mut self, percent: Percent) -> Reply {
        let settings = Settings { fan: Some(Fan::Fixed(percent)), ..Settings::default() };
        let noted = self.check(&settings).and_then(|()| self.note(|record| record.is_away = true));
        if let Err(refused) = noted {
            return refused;
        }
        self.card.turn_fan(percent).map_or_else(|error| gone(&error), |()| Reply::Done)
    }

    pub(super) fn set_way_back(&mut self, settings: &Settings) -> Reply {
        if let Err(refused) = self.check(settings) {
            return refused;
        }
        if self.record.way_back != *settings {
            let noted = self.note(|record| (record.way_back, record.is_away) = (*settings, true));
            if let Err(refused) = noted {
                return refused;
            }
        }
        Reply::Done
    }

    /// Notes what the card is to be put to at the start of the machine, under the driver that it has now.
    pub(super) fn set_start(&mut self, settings: Option<Settings>, renew: bool) -> Reply {
        if let Some(Err(refused)) = settings.map(|settings| self.check(&settings)) {
            return refused;
        }
        let (driver, card) = (self.description.driver.clone(), self.description.key());
        let start = settings.map(|settings| Start { settings, driver, card });
        let noted = self.note(|record| {
            record.start = start;
            record.is_starting &= !renew;
        });
        noted.map_or_else(|refused| refused, |()| Reply::Done)
    }

    /// What there is to say of the start of the machine: why the card was left at stock, or at the maker's limits.
    pub(super) fn told_of_start(&self) -> Vec<String> {
        let limits = self.limits.as_ref().ok().and_then(Limits::told);
        self.record.told.iter().cloned().chain(limits).collect()
    }

    /// What is known of its limit table.
    pub(super) fn ceiling(&self) -> Reply {
        let record = self.limits.as_ref().map_err(Clone::clone);
        match record.and_then(|limits| limits.record().map_err(|error| error.to_string())) {
            Ok(record) => Reply::Ceiling { record: Box::new(record) },
            Err(why) => Reply::Refused { why },
        }
    }

    /// Has a limit table loaded at the next start of the machine, as a user wants it; none is the maker's.
    pub(super) fn want_limits(&self, wanted: Option<WantedLimits>, peer: Peer) -> Reply {
        let limits = self.limits.as_ref().map_err(Clone::clone);
        let noted = limits.and_then(|limits| {
            limits.want(wanted, name_of(peer.user)).map_err(|error| error.to_string())
        });
        noted.map_or_else(|why| Reply::Refused { why }, |()| Reply::Done)
    }

    /// Copies the limit table that the card has now as the maker's.
    pub(super) fn renew_limits(&mut self) -> Reply {
        let (sysfs, directory) = (&self.record.sysfs, &self.record.directory);
        let limits = self.limits.as_mut().map_err(|why| why.clone());
        let (makers, driver) = match limits.and_then(|limits| limits.renew(sysfs, directory)) {
            Ok(renewed) => renewed,
            Err(why) => return Reply::Refused { why },
        };
        let noted = self.note(|record| {
            let card = &mut record.factory.description;
            card.limit_tables =
                Some(Box::new(LimitTables { makers: makers.clone(), in_force: makers }));
            card.driver = driver;
        });
        let card = &self.record.factory.description;
        self.description.limit_tables.clone_from(&card.limit_tables);
        self.description.driver.clone_from(&card.driver);
        noted.map_or_else(|refused| refused, |()| Reply::Done)
    }

    /// Puts the card to what it is to start with, if the driver is the same and the last start with it ended cleanly. What
    /// came of it, in words.
    pub(super) fn start(&mut self, bears_after: Duration) -> Option<String> {
        let start = self.record.start.clone()?;
        let name = self.name();
        let told = match self.may_start(&start) {
            Err(why) => {
                let told =
                    format!("The card was left at stock at the start of the machine: {why}.");
                self.record.told = Some(told.clone());
                // Where this cannot be written down, it is said in this run of the keeper alone.
                let _ = self.write();
                format!("{name}: {told}")
            }
            Ok(()) => {
                // Before the card is touched: a machine that goes down now is not started with this again.
                let noted = self.note(|record| {
                    (record.is_starting, record.told) = (true, None);
                    (record.way_back, record.is_away) = (start.settings, true);
                });
                if noted.is_err() {
                    return Some(format!(
                        "{name}: left at stock, since its record cannot be written"
                    ));
                }
                self.borne_at = Some(Instant::now() + bears_after);
                self.put_back("the machine was started")?
            }
        };
        Some(told)
    }

    fn may_start(&self, start: &Start) -> Result<(), String> {
        if self.record.is_starting {
            return Err("the last start with its profile did not end cleanly. Use the profile again to try once more".into());
        }
        if self.description.key() != start.card {
            return Err("its profile was proven on another card in its place".into());
        }
        let driver = &self.description.driver;
        if *driver != start.driver {
            return Err(format!(
                "its profile was proven under {}, and the driver is now {driver}",
                start.driver
            ));
        }
        match start.settings.clamped(&self.description).notes.as_slice() {
            [] => Ok(()),
            notes => Err(format!("its profile leaves the card's ranges ({})", notes.join("; "))),
        }
    }

    /// Notes that the machine has borne what it was started with: after a while, or at an orderly end.
    pub(super) fn note_borne(&mut self) {
        if let Ok(limits) = &mut self.limits {
            limits.note_borne();
        }
        self.borne_at = None;
        if self.record.is_starting {
            self.record.is_starting = false;
            // Where this cannot be written down, the next start is at stock, and says why.
            let _ = self.write();
        }
    }

    /// Nothing outside the card's ranges reaches it.
    fn check(&self, settings: &Settings) -> Result<(), Reply> {
        match settings.clamped(&self.description).notes.as_slice() {
            [] => Ok(()),
            notes => Err(Reply::Refused { why: notes.join("; ") }),
        }
    }

    /// Writes a changed record down, and goes by it once it is written: before the card is touched.
    fn note(&mut self, change: impl FnOnce(&mut Record)) -> Result<(), Reply> {
        let before = self.record.clone();
        change(&mut self.record);
        if self.record == before {
            return Ok(());
        }
        self.write().inspect_err(|_| self.record = before)
    }

    fn write(&self) -> Result<(), Reply> {
        self.records.write(&self.record).map_err(|error| Reply::Refused {
            why: format!("the keeper cannot write its record: {error}"),
        })
    }

    /// Puts the card to its way back. What came of it, in words; tried again where it failed.
    pub(super) fn put_back(&mut self, why: &str) -> Option<String> {
        let way_back = self.record.way_back;
        self.put_to(&way_back, why)
    }

    /// Whether it can be left alone as it is: at its way back, with a fan that nobody has to drive.
    pub(super) fn can_be_left(&self) -> bool {
        let way_back = self.record.way_back;
        !self.record.is_away
            && FanDriver::left_alone(&way_back, self.card.description()) == way_back
    }

    /// The same by a keeper that will not be there to drive the fan.
    pub(super) fn put_back_for_good(&mut self, why: &str) -> Option<String> {
        let card = self.card.description();
        let way_back = FanDriver::left_alone(&self.record.way_back, card);
        self.put_to(&way_back, why)
    }

    fn put_to(&mut self, settings: &Settings, why: &str) -> Option<String> {
        let again = self.retry.is_some();
        match restore(&mut self.card, settings) {
            Ok(()) => {
                self.retry = None;
                let was_away = std::mem::replace(&mut self.record.is_away, false);
                let noted = if was_away { self.write() } else { Ok(()) };
                let rest = noted.err().map_or(String::new(), |_| {
                    " That could not be written down: the next keeper does it again.".into()
                });
                Some(format!("{}: put back, since {why}.{rest}", self.name()))
            }
            Err(not_back) => {
                self.retry = Some(Instant::now() + BETWEEN_TRIES);
                // Said once, and done until it is done.
                (!again).then(|| format!("{}: not put back yet: {}", self.name(), not_back.cause))
            }
        }
    }

    /// Lets a visitor go; what there is to say.
    pub(super) fn release(&mut self, visitor: u64, why: &str) -> Option<String> {
        self.control.take_if(|control| control.visitor == visitor)?;
        self.put_back(why)
    }

    /// Drives the fan, looks whether the controller is alive, and tries again what failed; what there is to say.
    pub(super) fn look(&mut self) -> Option<String> {
        let passed = self.looked_at.elapsed();
        self.looked_at = Instant::now();
        self.card.idle(Seconds(passed.as_secs_f64()));
        if self.borne_at.is_some_and(|at| Instant::now() >= at) {
            self.note_borne();
        }
        if let Ok(limits) = &mut self.limits {
            limits.look();
        }
        if self.retry.is_some_and(|at| Instant::now() >= at) {
            return self.put_back("the first try failed");
        }
        let is_silent = |control: &mut Control| control.silence.goes_on(passed);
        if self.record.is_away && self.control.take_if(is_silent).is_some() {
            return self
                .put_back(&format!("its controller was silent for {} s", SILENCE.as_secs()));
        }
        None
    }
}

pub(super) fn gone(error: &CardError) -> Reply {
    match error {
        CardError::Gone { cause } => Reply::Gone { why: cause.clone() },
        other => Reply::Gone { why: other.to_string() },
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn time_in_which_the_keeper_did_not_get_to_run_is_hardly_silence() {
        let mut silence = Silence::default();
        let mut looks = |passed: u64, most: usize| {
            (1..=most).find(|_| silence.goes_on(Duration::from_millis(passed)))
        };
        assert_eq!(looks(60_000, 3), None, "a minute in one look is a tenth of a second");
        assert_eq!(looks(50, 100), Some(35), "1.7 s are left of two");
    }
}
