//! One card in the keeper's hands.

use std::path::Path;
use std::time::{Duration, Instant};

use yard_step_core::{CardDescription, Fan, FanControl, Percent, Seconds, Settings};

use super::SILENCE;
use super::peers::Peer;
use super::record::{Record, Records};
use super::wire::Reply;
use crate::kernel::{CardFiles, FileCard, look_at};
use crate::restore::restore;
use crate::{Card, CardError, FanDriver};

/// Time between two tries to put a card back.
const BETWEEN_TRIES: Duration = Duration::from_millis(200);

/// Who controls a card.
struct Control {
    visitor: u64,
    peer: Peer,
    /// When it said something last.
    heard: Instant,
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
}

impl Kept {
    /// A card below a root, as it was noted in this run of the machine or, at first sight, as its files show it.
    pub(super) fn open(
        records: &Records,
        (boot, sysfs, card): (&str, &Path, &str),
    ) -> Result<Self, CardError> {
        let known = records.of(card).filter(|known| known.boot == boot && known.sysfs == sysfs);
        let (files, record) = match known {
            Some(record) => {
                let factory = record.factory.clone();
                (CardFiles::with_factory(sysfs, &record.directory, factory), record)
            }
            None => {
                let found = look_at(sysfs, card)?;
                let directory = found.directory.clone();
                let files = CardFiles::at_factory(sysfs, found);
                let factory = files.factory().clone();
                let record = Record::new((boot, sysfs, card), &directory, factory);
                records.write(&record).map_err(|error| CardError::Refused {
                    why: format!("the factory state cannot be written down: {error}"),
                })?;
                (files, record)
            }
        };
        let mut description = record.factory.description.clone();
        // A curve is followed here, whatever the card can do by itself.
        description.fan = FanControl::Curve;
        let card = FanDriver::new(Box::new(FileCard::new(files)));
        let looked_at = Instant::now();
        let records = records.clone();
        Ok(Self { card, description, record, records, control: None, retry: None, looked_at })
    }

    pub(super) fn name(&self) -> String {
        self.description.id.clone()
    }

    /// What the card is and offers while the keeper has it.
    pub(super) fn description(&self) -> &CardDescription {
        &self.description
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
        self.control = Some(Control { visitor, peer, heard: Instant::now() });
        Ok(())
    }

    /// Notes that a visitor said something; whether it controls the card.
    pub(super) fn hear(&mut self, visitor: u64) -> bool {
        let controlling = self.control.as_mut().filter(|control| control.visitor == visitor);
        controlling.map(|control| control.heard = Instant::now()).is_some()
    }

    pub(super) fn apply(&mut self, settings: &Settings) -> Reply {
        if let Err(refused) = self.check(settings) {
            return refused;
        }
        if *settings != self.record.way_back
            && let Err(refused) = self.note_away(true)
        {
            return refused;
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
        if let Err(refused) = self.check(&settings).and_then(|()| self.note_away(true)) {
            return refused;
        }
        self.card.turn_fan(percent).map_or_else(|error| gone(&error), |()| Reply::Done)
    }

    pub(super) fn set_way_back(&mut self, settings: &Settings) -> Reply {
        if let Err(refused) = self.check(settings) {
            return refused;
        }
        if self.record.way_back != *settings {
            self.record.way_back = *settings;
            if let Err(refused) = self.note_away(true).and_then(|()| self.write()) {
                return refused;
            }
        }
        Reply::Done
    }

    /// Nothing outside the card's ranges reaches it.
    fn check(&self, settings: &Settings) -> Result<(), Reply> {
        match settings.clamped(&self.description).notes.as_slice() {
            [] => Ok(()),
            notes => Err(Reply::Refused { why: notes.join("; ") }),
        }
    }

    /// Writes down whether the card may be away from its way back, before it is.
    fn note_away(&mut self, is_away: bool) -> Result<(), Reply> {
        if self.record.is_away == is_away {
            return Ok(());
        }
        self.record.is_away = is_away;
        self.write()
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
                let noted = self.note_away(false);
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
        if self.retry.is_some_and(|at| Instant::now() >= at) {
            return self.put_back("it was not back before");
        }
        let is_silent = |control: &mut Control| control.heard.elapsed() > SILENCE;
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
