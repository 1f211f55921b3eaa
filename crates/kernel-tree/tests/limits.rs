//! The limit table of a mounted card in the keeper's hands: copied, loaded at a start, lost, restored, byte for byte.
#![allow(clippy::unwrap_used, clippy::panic, missing_docs)]

mod common;

use std::fs;
use std::path::PathBuf;

use common::{LONG, Place, json_in};
use kernel_tree::Layout;
use yard_step_card::{Card, CardError, CeilingRecord};
use yard_step_core::{
    LimitField, LimitTable, SettingKind, TableFile, WantedLimits, makers_maximum,
};

const TARN: &str = "standin:tarn-310#7";

trait Limits {
    fn bytes(&self) -> Vec<u8>;
    fn limits(&self) -> CeilingRecord;
    fn limits_file(&self) -> PathBuf;
    fn want(&self, table: Option<LimitTable>) -> Result<(), CardError>;
    fn raise(&self) -> LimitTable;
}

impl Limits for Place {
    /// The table that the card holds now.
    fn bytes(&self) -> Vec<u8> {
        fs::read(self.file("pp_table")).unwrap()
    }

    fn limits(&self) -> CeilingRecord {
        self.open(false).unwrap().ceiling().unwrap()
    }

    fn limits_file(&self) -> PathBuf {
        json_in(&self.places("").records.join("ceiling"))
    }

    /// By somebody who does not control the card.
    fn want(&self, table: Option<LimitTable>) -> Result<(), CardError> {
        let wanted = table.map(|table| WantedLimits { table, reason: "summer".into() });
        self.open(false).unwrap().want_limits(wanted.as_ref())
    }

    /// Has the power limit's ceiling raised by 15 % at the next start.
    fn raise(&self) -> LimitTable {
        let makers = self.limits().makers.table;
        let power = makers.value(LimitField::PowerLimit).unwrap();
        let table = makers.with(LimitField::PowerLimit, power * 1.15);
        self.want(Some(table.clone())).unwrap();
        table
    }
}

/// A card of which a keeper has taken its copy.
fn place() -> Place {
    let mut place = Place::of(TARN, Layout::Offset);
    place.start("one");
    place
}

fn bytes_of(table: &LimitTable) -> Vec<u8> {
    table.file.as_ref().map(TableFile::bytes).unwrap().to_vec()
}

#[test]
fn an_override_is_loaded_at_the_next_start_and_the_makers_table_comes_back_byte_for_byte() {
    let mut place = place();
    let factory = place.bytes();
    let record = place.limits();
    assert_eq!(bytes_of(&record.makers.table), factory);
    let makers_end =
        place.open(false).unwrap().description().offer(SettingKind::PowerLimit).unwrap().maximum;

    let raised = place.raise();
    assert_eq!(place.bytes(), factory, "pending");
    assert!(place.stop());
    place.start("one");
    assert!(!place.open(false).unwrap().description().driver.contains("limits"));
    assert_eq!(place.bytes(), factory, "the machine was not started anew");
    assert!(place.stop());

    place.start("two");
    let card = place.open(false).unwrap();
    assert_eq!(place.bytes(), bytes_of(&raised));
    let described = card.description();
    let highest = described.offer(SettingKind::PowerLimit).unwrap().maximum;
    assert!(highest > makers_end * 1.13, "{highest}");
    assert_eq!(makers_maximum(described, SettingKind::PowerLimit), Some(makers_end));
    assert_eq!(makers_maximum(described, SettingKind::MemoryOffset), None, "it was not raised");
    assert!(described.driver.ends_with(&format!("limits {}", raised.checksum())));
    let wanted = place.limits().wanted.unwrap();
    assert_eq!((wanted.reason.as_str(), wanted.by.as_str()), ("summer", "root"));
    drop(card);
    // Seen once more in the same run of the machine, it is as it was noted.
    assert!(place.stop());
    place.start("two");
    let again = place.open(false).unwrap();
    assert_eq!(makers_maximum(again.description(), SettingKind::PowerLimit), Some(makers_end));
    drop(again);

    place.want(None).unwrap();
    assert!(place.stop());
    // A start of the machine alone would bring the maker's; what is still on the card goes too.
    place.start("three");
    place.open(false).unwrap();
    assert_eq!(place.bytes(), factory, "byte for byte");
    assert!(place.is_at_factory());
}

#[test]
fn a_start_that_did_not_end_cleanly_or_another_driver_takes_the_override_away() {
    let mut place = place();
    let factory = place.bytes();
    let raised = place.raise();
    assert!(place.stop());
    // It is loaded, and the machine goes down: nobody notes that it was borne.
    let keeper = place.keeper_in("two");
    keeper.start_cards(LONG);
    drop(keeper);
    assert_eq!(place.bytes(), bytes_of(&raised));
    place.start("three");
    let mut card = place.open(false).unwrap();
    assert_eq!(place.bytes(), factory);
    assert!(card.told().iter().any(|told| told.contains("the machine did not come up with it")));
    drop(card);
    // One action restores it.
    let before = place.limits().before.unwrap();
    assert_eq!(before.table, raised);
    place.want(Some(before.table)).unwrap();
    assert!(place.stop());
    let text = fs::read_to_string(place.limits_file()).unwrap();
    let kernel = nix::sys::utsname::uname().unwrap().release().to_str().unwrap().to_owned();
    fs::write(place.limits_file(), text.replace(&kernel, "0.9")).unwrap();
    place.start("four");
    let mut card = place.open(false).unwrap();
    assert_eq!(place.bytes(), factory);
    assert!(card.told().iter().any(|told| told.contains("kernel 0.9, and the driver is now")));
}

#[test]
fn a_table_that_nobody_has_noted_is_left_until_it_is_taken_for_the_makers() {
    let mut place = place();
    place.raise();
    assert!(place.stop());
    let mut foreign = place.bytes();
    let last = foreign.len() - 1;
    foreign[last] ^= 0xff;
    fs::write(place.file("pp_table"), &foreign).unwrap();
    place.start("two");
    let mut card = place.open(false).unwrap();
    assert_eq!(place.bytes(), foreign, "left as it is");
    assert!(card.told().iter().any(|told| told.contains("another program has written it")));
    let tables = card.description().limit_tables.clone().unwrap();
    assert_ne!(tables.makers, tables.in_force);
    card.renew_makers_limits().unwrap();
    drop(card);
    let record = place.limits();
    assert_eq!(bytes_of(&record.makers.table), foreign);
    assert_eq!((record.wanted, record.told), (None, None));
    let tables = place.open(false).unwrap().description().limit_tables.clone().unwrap();
    assert_eq!(tables.makers, tables.in_force);
}

#[test]
fn what_another_program_writes_meanwhile_is_seen_at_the_next_look() {
    let mut place = place();
    place.open(false).unwrap();
    let mut foreign = place.bytes();
    assert!(place.stop());
    let last = foreign.len() - 1;
    foreign[last] ^= 1;
    fs::write(place.file("pp_table"), &foreign).unwrap();
    place.start("one");
    let card = place.open(false).unwrap();
    assert!(card.description().driver.contains(", limits "), "{}", card.description().driver);
}

#[test]
fn what_lies_beyond_the_bounds_or_is_of_another_card_is_refused() {
    let place = place();
    let makers = place.limits().makers.table;
    let refused = |table: LimitTable| place.want(Some(table)).unwrap_err().to_string();
    let power = makers.value(LimitField::PowerLimit).unwrap();
    let told = refused(makers.with(LimitField::PowerLimit, power * 1.25));
    assert!(told.contains("20 % above the maker's at most"), "{told}");
    let mut other = Place::of("standin:quern-540#7", Layout::Window);
    other.start("one");
    let mut theirs = other.limits().makers.table;
    let told = refused(theirs.clone());
    assert!(told.contains("another card"), "{told}");
    theirs.card = makers.card.clone();
    let told = refused(theirs);
    assert!(told.contains("the table's size"), "{told}");
    assert_eq!(place.limits().wanted, None);
}

#[test]
fn an_opaque_table_is_loaded_as_a_whole_and_comes_back() {
    let mut place = Place::of("standin:bracken-208#7", Layout::Levels);
    place.start("one");
    let (factory, makers) = (place.bytes(), place.limits().makers.table);
    assert_eq!(makers.fields, []);
    let mut own = factory.clone();
    own[200] ^= 0x0f;
    let file = makers.file.clone().unwrap().with_bytes(own.clone()).unwrap();
    place.want(Some(LimitTable::of_file(makers.card, file))).unwrap();
    assert!(place.stop());
    place.start("two");
    place.open(false).unwrap();
    assert_eq!(place.bytes(), own);
    place.want(None).unwrap();
    assert!(place.stop());
    place.start("three");
    place.open(false).unwrap();
    assert_eq!(place.bytes(), factory);
}

#[test]
fn a_family_without_the_file_says_so() {
    let mut place = Place::of("standin:quern-540#7", Layout::Frequency);
    place.start("one");
    let error = place.open(false).unwrap().ceiling().unwrap_err().to_string();
    assert!(error.contains("there is no file class/drm/card0/device/pp_table"), "{error}");
}
