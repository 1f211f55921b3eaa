//! Rows of any study as CSV: a value that has parts becomes a column for each of them.

use std::fmt;
use std::io;

use serde::de::{Deserialize, Deserializer, MapAccess, SeqAccess, Visitor};
use serde::ser::Serialize;

/// A value of a row, its parts in the order in which they are declared.
#[derive(Debug, Clone, PartialEq)]
enum Cell {
    Empty,
    Plain(String),
    Parts(Vec<(String, Cell)>),
}

impl Cell {
    /// The columns of this value, where its own is called `name`: parts are named after it, as in `night.stated` and
    /// `fan.0`.
    fn spread(self, name: String, columns: &mut Vec<(String, String)>) {
        match self {
            Self::Empty => columns.push((name, String::new())),
            Self::Plain(text) => columns.push((name, text)),
            Self::Parts(parts) => {
                let prefix = if name.is_empty() { name } else { name + "." };
                for (part, cell) in parts {
                    cell.spread(format!("{prefix}{part}"), columns);
                }
            }
        }
    }
}

impl<'de> Deserialize<'de> for Cell {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        struct OfCell;

        impl<'de> Visitor<'de> for OfCell {
            type Value = Cell;

            fn expecting(&self, to: &mut fmt::Formatter<'_>) -> fmt::Result {
                to.write_str("a value of a row")
            }

            fn visit_unit<E>(self) -> Result<Cell, E> {
                Ok(Cell::Empty)
            }

            fn visit_bool<E>(self, value: bool) -> Result<Cell, E> {
                Ok(Cell::Plain(value.to_string()))
            }

            fn visit_u64<E>(self, value: u64) -> Result<Cell, E> {
                Ok(Cell::Plain(value.to_string()))
            }

            fn visit_i64<E>(self, value: i64) -> Result<Cell, E> {
                Ok(Cell::Plain(value.to_string()))
            }

            fn visit_f64<E>(self, value: f64) -> Result<Cell, E> {
                // 100 is 100.0, so that a program that reads the column takes all of it for decimals.
                Ok(Cell::Plain(format!("{value:?}")))
            }

            fn visit_str<E>(self, value: &str) -> Result<Cell, E> {
                Ok(Cell::Plain(value.to_owned()))
            }

            fn visit_seq<A: SeqAccess<'de>>(self, mut values: A) -> Result<Cell, A::Error> {
                let mut parts = Vec::new();
                while let Some(cell) = values.next_element()? {
                    parts.push((parts.len().to_string(), cell));
                }
                Ok(Cell::Parts(parts))
            }

            fn visit_map<A: MapAccess<'de>>(self, mut values: A) -> Result<Cell, A::Error> {
                let mut parts = Vec::new();
                while let Some(part) = values.next_entry()? {
                    parts.push(part);
                }
                Ok(Cell::Parts(parts))
            }
        }

        from.deserialize_any(OfCell)
    }
}

/// Writes the rows as CSV, with a header. What a row does not have, or what is no number, is left empty.
///
/// # Errors
/// The file cannot be written.
pub fn write_csv<R: Serialize>(rows: &[R], to: impl io::Write) -> io::Result<()> {
    let mut spread = Vec::new();
    for row in rows {
        let cell: Cell = serde_json::from_slice(&serde_json::to_vec(row)?)?;
        let mut columns = Vec::new();
        cell.spread(String::new(), &mut columns);
        spread.push(columns);
    }
    let names = column_names(&spread);
    let mut table = csv::Writer::from_writer(to);
    if !names.is_empty() {
        table.write_record(&names)?;
    }
    for columns in &spread {
        let text = |name: &String| {
            let column = columns.iter().find(|(of, _)| of == name);
            column.map_or("", |(_, text)| text.as_str())
        };
        table.write_record(names.iter().map(text))?;
    }
    table.flush()
}

/// The names of the columns of all rows, each behind that which precedes it in its row. A value that has parts in some rows
/// only has no column of its own beside theirs.
fn column_names(rows: &[Vec<(String, String)>]) -> Vec<String> {
    let mut names: Vec<String> = Vec::new();
    for columns in rows {
        let mut place = 0;
        for (name, _) in columns {
            place = match names.iter().position(|known| known == name) {
                Some(known) => known + 1,
                None => {
                    names.insert(place, name.clone());
                    place + 1
                }
            };
        }
    }
    let all = names.clone();
    names.retain(|name| !all.iter().any(|other| other.starts_with(&format!("{name}."))));
    names
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde::Serialize;

    #[derive(Serialize)]
    struct Part {
        stated: f64,
        hours: usize,
    }

    #[derive(Serialize)]
    struct Made {
        kind: &'static str,
        offsets: Vec<i64>,
        proven: Option<Part>,
        fan: (f64, f64),
        is_found: Option<bool>,
    }

    fn written(rows: &[Made]) -> String {
        let mut text = Vec::new();
        write_csv(rows, &mut text).unwrap();
        String::from_utf8(text).unwrap()
    }

    #[test]
    fn a_value_with_parts_has_a_column_for_each_of_them() {
        let rows = [
            Made {
                kind: "a, b",
                offsets: vec![-3],
                proven: None,
                fan: (40.0, f64::NAN),
                is_found: None,
            },
            Made {
                kind: "c",
                offsets: vec![1, 2],
                proven: Some(Part { stated: 0.25, hours: 7 }),
                fan: (1e-9, 2.5),
                is_found: Some(true),
            },
        ];
        assert_eq!(
            written(&rows),
            "kind,offsets.0,offsets.1,proven.stated,proven.hours,fan.0,fan.1,is_found\n\
             \"a, b\",-3,,,,40.0,,\n\
             c,1,2,0.25,7,1e-9,2.5,true\n"
        );
    }

    #[test]
    fn no_rows_are_an_empty_file() {
        assert_eq!(written(&[]), "");
    }
}
