//! A card's limit table: what its driver reads at its start.

use std::fmt::Write as _;

use serde::{Deserialize, Serialize};

use crate::ceiling::error::{TABLE_VERSION, TableError};
use crate::ceiling::field::{LimitField, LimitValue};
use crate::ceiling::file::TableFile;

/// What a document with a limit table calls itself.
pub const TABLE_FORMAT: &str = "yard-step-limit-table";
/// Most fields of a table, known and unknown ones each.
pub const MOST_FIELDS: usize = 64;
/// Highest value of a field that is believed, in its unit.
const HIGHEST: f64 = 100_000.0;

/// A field whose meaning nobody has published: it is shown, and never changed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct UnknownField {
    /// Its number in the table.
    pub number: u16,
    /// Its bytes, in hexadecimal digits.
    pub raw: String,
}

/// Which cards a table is for.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct TableOwner {
    /// Kind of card, such as `standin:tarn-310`.
    pub kind: String,
    /// Type of its memory.
    pub memory_type: String,
    /// Size of its memory, GiB.
    pub memory_gib: u32,
}

/// A limit table.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct LimitTable {
    /// Which cards it is for.
    pub card: TableOwner,
    /// Its fields, each once.
    pub fields: Vec<LimitValue>,
    /// Fields that nobody knows.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub unknown: Vec<UnknownField>,
    /// The file of a real card, from which the fields are read; none for a stand-in.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub file: Option<TableFile>,
}

/// The table of a card's maker, and the one in force.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct LimitTables {
    /// The maker's.
    pub makers: LimitTable,
    /// The one that the driver has read.
    pub in_force: LimitTable,
}

impl LimitTables {
    /// A driver's release as trials record it: with the checksum of the table in force, where that is not the maker's.
    #[must_use]
    pub fn driver(&self, release: &str) -> String {
        match self.in_force == self.makers {
            true => release.to_owned(),
            false => format!("{release}{}", self.beside_release()),
        }
    }

    /// The release in what [`driver`](Self::driver) has made of it.
    #[must_use]
    pub fn release<'a>(&self, driver: &'a str) -> &'a str {
        driver.strip_suffix(&self.beside_release()).unwrap_or(driver)
    }

    fn beside_release(&self) -> String {
        format!(", limits {}", self.in_force.checksum())
    }
}

/// A document with a table and its checksum.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct TableDocument {
    /// [`TABLE_FORMAT`].
    pub format: String,
    /// [`TABLE_VERSION`].
    pub version: u32,
    /// The table.
    pub table: LimitTable,
    /// Its [checksum](LimitTable::checksum), eight hexadecimal digits.
    pub checksum: String,
}

/// A field that two tables hold otherwise.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct LimitDifference {
    /// Which.
    pub field: LimitField,
    /// Its value in the first one; none where that has no such field.
    pub from: Option<f64>,
    /// Its value in the second one.
    pub to: Option<f64>,
}

impl LimitTable {
    /// The table of a real card, by its file.
    #[must_use]
    pub fn of_file(card: TableOwner, file: TableFile) -> Self {
        Self { card, fields: file.fields(), unknown: Vec::new(), file: Some(file) }
    }

    /// The value of a field; none where the table has no such field.
    #[must_use]
    pub fn value(&self, field: LimitField) -> Option<f64> {
        self.fields.iter().find(|value| value.field == field).map(|value| value.value)
    }

    /// The same with another value in a field that it has.
    #[must_use]
    pub fn with(&self, field: LimitField, value: f64) -> Self {
        if let Some(file) = &self.file {
            return Self::of_file(self.card.clone(), file.with(field, value));
        }
        let mut table = self.clone();
        let of_field = table.fields.iter_mut().filter(|known| known.field == field);
        of_field.for_each(|known| known.value = value);
        table
    }

    /// Fields that another table holds otherwise, in the order in which they are shown.
    #[must_use]
    pub fn differences(&self, other: &Self) -> Vec<LimitDifference> {
        let difference =
            |field| LimitDifference { field, from: self.value(field), to: other.value(field) };
        let all = LimitField::ALL.into_iter().map(difference);
        all.filter(|difference| difference.from != difference.to).collect()
    }

    /// CRC-32 (IEEE 802.3) of all that it says, eight hexadecimal digits.
    #[must_use]
    pub fn checksum(&self) -> String {
        let TableOwner { kind, memory_type, memory_gib } = &self.card;
        let mut text = format!("{kind}\n{memory_type}\n{memory_gib}\n");
        // Writing to a string cannot fail.
        for LimitValue { field, value } in &self.fields {
            let _ = writeln!(text, "{}={:016x}", field.name(), value.to_bits());
        }
        for UnknownField { number, raw } in &self.unknown {
            let _ = writeln!(text, "{number}:{raw}");
        }
        if let Some(rated) = self.file.as_ref().and_then(TableFile::rated_power) {
            let _ = writeln!(text, "rated={:016x}", rated.to_bits());
        }
        let file = self.file.iter().flat_map(TableFile::bytes).copied();
        let bytes: Vec<u8> = text.into_bytes().into_iter().chain(file).collect();
        format!("{:08x}", crc32fast::hash(&bytes))
    }

    /// The document that it is exported as.
    #[must_use]
    pub fn document(&self) -> TableDocument {
        TableDocument {
            format: TABLE_FORMAT.into(),
            version: TABLE_VERSION,
            table: self.clone(),
            checksum: self.checksum(),
        }
    }

    /// Checks that it is for a card.
    ///
    /// # Errors
    /// It is for another kind of card, or for one with another memory.
    pub fn check_for(&self, card: &TableOwner) -> Result<(), TableError> {
        let (theirs, ours) = (&self.card, card);
        let gib = |owner: &TableOwner| format!("{} GiB", owner.memory_gib);
        let same = [
            ("the kind", theirs.kind.clone(), ours.kind.clone()),
            ("the memory", theirs.memory_type.clone(), ours.memory_type.clone()),
            ("the memory's size", gib(theirs), gib(ours)),
        ];
        match same.into_iter().find(|(_, theirs, ours)| theirs != ours) {
            None => Ok(()),
            Some((what, theirs, ours)) => Err(TableError::OtherCard { what, theirs, ours }),
        }
    }

    /// Checks that it has the same fields as the maker's, and the same unknown ones byte for byte.
    ///
    /// # Errors
    /// A field is missing, is there besides, or an unknown one was changed.
    pub fn check_against(&self, makers: &Self) -> Result<(), TableError> {
        let odd =
            |difference: &LimitDifference| difference.from.is_none() || difference.to.is_none();
        if let Some(LimitDifference { field, to, .. }) =
            makers.differences(self).into_iter().find(odd)
        {
            let has = if to.is_none() { "lacks" } else { "has" };
            return Err(TableError::Odd(format!(
                "it {has} the field {}, unlike the table of the card",
                field.name()
            )));
        }
        if self.unknown != makers.unknown {
            let text = "its unknown fields differ from those in the table of the card";
            return Err(TableError::Odd(text.into()));
        }
        match (&self.file, &makers.file) {
            (Some(file), Some(makers)) => file.check_against(makers),
            (None, None) => Ok(()),
            _ => Err(TableError::Odd(
                "a stand-in's table does not fit a real card, nor a real card's a stand-in".into(),
            )),
        }
    }
}

impl TableDocument {
    /// The table, if the document is whole.
    ///
    /// # Errors
    /// It is of another format or version, its checksum is another, or it holds what no table can hold.
    pub fn into_table(self) -> Result<LimitTable, TableError> {
        if self.format != TABLE_FORMAT {
            return Err(TableError::Format(crate::text::printable(&self.format)));
        }
        if self.version != TABLE_VERSION {
            return Err(TableError::Version(self.version));
        }
        let real = self.table.checksum();
        if self.checksum != real {
            let stated = crate::text::printable(&self.checksum);
            return Err(TableError::Checksum { stated, real });
        }
        let table = self.table;
        if table.fields.len() > MOST_FIELDS || table.unknown.len() > MOST_FIELDS {
            return Err(TableError::Odd(format!("it has more than {MOST_FIELDS} fields")));
        }
        for (index, LimitValue { field, value }) in table.fields.iter().enumerate() {
            if !(value.is_finite() && (0.0..=HIGHEST).contains(value)) {
                return Err(TableError::Odd(format!("its {} is {value}", field.label())));
            }
            if table.fields[..index].iter().any(|known| known.field == *field) {
                return Err(TableError::Odd(format!("it has its {} twice", field.label())));
            }
        }
        if let Some(file) = &table.file {
            file.check()?;
            if file.fields() != table.fields {
                return Err(TableError::Odd("its fields are not those of its file".into()));
            }
        }
        Ok(table)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fixtures::limit_table;
    use proptest::prelude::*;
    use rstest::rstest;

    fn table() -> LimitTable {
        let fields = [
            (LimitField::PowerLimit, 270.0),
            (LimitField::CurrentLimit, 240.0),
            (LimitField::MemoryClock, 2_000.0),
        ];
        let unknown = vec![UnknownField { number: 17, raw: "00ff".into() }];
        LimitTable { unknown, ..limit_table(&fields) }
    }

    #[test]
    fn a_drivers_release_is_found_again_beside_its_limits() {
        let raised = table().with(LimitField::PowerLimit, 310.0);
        for in_force in [table(), raised.clone()] {
            let tables = LimitTables { makers: table(), in_force };
            assert_eq!(tables.release(&tables.driver("6.1, a")), "6.1, a");
        }
        let tables = LimitTables { makers: table(), in_force: raised.clone() };
        assert_eq!(tables.driver("6.1"), format!("6.1, limits {}", raised.checksum()));
    }

    #[test]
    fn a_document_gives_its_table_back() {
        let text = serde_json::to_string(&table().document()).unwrap();
        let document: TableDocument = serde_json::from_str(&text).unwrap();
        assert_eq!(document.into_table(), Ok(table()));
    }

    #[rstest]
    #[case(|d: &mut TableDocument| d.format = "a song".into(), "not a limit table but \"a song\"")]
    #[case(|d: &mut TableDocument| d.version = 2, "of version 2, and this Yard Step reads version 1")]
    #[case(|d: &mut TableDocument| d.table.fields[0].value = 271.0, "it was changed or damaged")]
    #[case(|d: &mut TableDocument| d.table.unknown[0].raw = "00fe".into(), "it was changed or damaged")]
    #[case(|d: &mut TableDocument| d.table.card.memory_gib += 1, "it was changed or damaged")]
    fn a_damaged_document_is_refused(#[case] damage: fn(&mut TableDocument), #[case] told: &str) {
        let mut document = table().document();
        damage(&mut document);
        let error = document.into_table().unwrap_err().to_string();
        assert!(error.contains(told), "{error}");
    }

    #[rstest]
    #[case(|t: &mut LimitTable| t.fields[0].value = f64::NAN, "its power limit is NaN")]
    #[case(|t: &mut LimitTable| t.fields[0].value = -1.0, "its power limit is -1")]
    #[case(|t: &mut LimitTable| t.fields.push(t.fields[0]), "its power limit twice")]
    #[case(|t: &mut LimitTable| t.fields = vec![t.fields[0]; 65], "more than 64 fields")]
    fn what_no_table_can_hold_is_refused_with_a_right_checksum(
        #[case] damage: fn(&mut LimitTable),
        #[case] told: &str,
    ) {
        let mut table = table();
        damage(&mut table);
        let error = table.document().into_table().unwrap_err().to_string();
        assert!(error.contains(told), "{error}");
    }

    #[rstest]
    #[case(|o: &mut TableOwner| o.kind = "standin:other".into(), "the kind is")]
    #[case(|o: &mut TableOwner| o.memory_type = "Z9".into(), "the memory is")]
    #[case(|o: &mut TableOwner| o.memory_gib = 99, "the memory's size is")]
    fn a_table_of_another_card_is_refused(#[case] other: fn(&mut TableOwner), #[case] told: &str) {
        let mut owner = table().card;
        assert_eq!(table().check_for(&owner), Ok(()));
        other(&mut owner);
        let error = table().check_for(&owner).unwrap_err().to_string();
        assert!(error.contains(told), "{error}");
    }

    #[test]
    fn two_tables_are_told_apart_by_their_fields() {
        let raised = table().with(LimitField::PowerLimit, 310.0);
        let differences = table().differences(&raised);
        let expected =
            LimitDifference { field: LimitField::PowerLimit, from: Some(270.0), to: Some(310.0) };
        assert_eq!(differences, [expected]);
        assert_ne!(table().checksum(), raised.checksum());
        assert_eq!(table().with(LimitField::VoltageCeiling, 1.0), table(), "it has none");
        assert_eq!(raised.check_against(&table()), Ok(()));
        let mut other = table();
        other.fields.pop();
        assert!(other.check_against(&table()).is_err());
        other = table();
        other.unknown.clear();
        assert!(other.check_against(&table()).is_err());
    }

    proptest! {
        #[test]
        fn another_value_has_another_checksum(value in 0.0..100_000.0_f64) {
            prop_assume!(value != 270.0);
            let raised = table().with(LimitField::PowerLimit, value);
            prop_assert_ne!(raised.checksum(), table().checksum());
        }
    }
}
