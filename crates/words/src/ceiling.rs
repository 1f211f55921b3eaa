//! Limit tables in sentences.

use yard_step_core::{
    BoundBy, CardDescription, LimitDifference, LimitField, LimitTable, LimitTables, NeedsLimits,
    SafetyCeilings, counted, current_that_is_short,
};

/// What a field is about.
#[must_use]
pub const fn limit_field(field: LimitField) -> &'static str {
    match field {
        LimitField::PowerLimit => {
            "How high the power limit may be set. Supply, connector and cooler must bear it."
        }
        LimitField::CurrentLimit => {
            "The current into the chip, which heats the regulator. It must follow the power limit."
        }
        LimitField::VoltageCeiling => {
            "The highest voltage of the core. It ages the chip, and small increases matter."
        }
        LimitField::CoreClock => "How high the core clock may be set.",
        LimitField::MemoryClock => "How high the memory clock may be set.",
    }
}

/// What sets the upper bound of a field.
#[must_use]
pub fn limit_bound(field: LimitField, by: BoundBy) -> String {
    match by {
        BoundBy::Share(share) => {
            let why = match field {
                LimitField::PowerLimit => ": connectors and regulator heat with the square of it",
                LimitField::CurrentLimit => ": the regulator heats with the square of it",
                LimitField::VoltageCeiling => ": more ages the chip faster",
                LimitField::CoreClock | LimitField::MemoryClock => "",
            };
            format!("{share} above the maker's at most{why}.")
        }
        BoundBy::Supply(left) => format!("The power supply has {left} left for this card."),
        BoundBy::Connectors(rating) => {
            format!("The card's power connectors are rated for {rating}.")
        }
    }
}

/// Whose limits are in force on a card, in a few words, and who wrote them where that is known; none where they cannot be read.
#[must_use]
pub fn limits_in_force(card: &CardDescription, by: &str) -> Option<String> {
    let tables = card.limit_tables.as_ref()?;
    Some(limits_of(&tables.in_force, &tables.makers, by))
}

/// What a card has at its next start, where that is another table than the one in force, and who wrote it where that is known.
#[must_use]
pub fn limits_pending(tables: &LimitTables, next: &LimitTable, by: &str) -> Option<String> {
    (*next != tables.in_force).then(|| limits_of(next, &tables.makers, by))
}

/// Whose a table is, in a few words.
fn limits_of(table: &LimitTable, makers: &LimitTable, by: &str) -> String {
    let by = if by.is_empty() { String::new() } else { format!(" by {by}") };
    match makers.differences(table).len() {
        _ if table == makers => "the maker's".to_owned(),
        0 => format!("another{by}"),
        fields => format!("{} changed{by}", counted(fields, "field")),
    }
}

/// What differs between two tables, one line a field: from, to, and how far that is from the maker's. Bytes of a real card's
/// table whose meaning is not known are counted.
#[must_use]
pub fn limit_changes(from: &LimitTable, to: &LimitTable, makers: &LimitTable) -> Vec<String> {
    let in_words = |difference: &LimitDifference| {
        let LimitDifference { field, from, to } = *difference;
        let shown = |value: Option<f64>| {
            value.map_or_else(|| "–".to_owned(), |value| format!("{value:.0} {}", field.unit()))
        };
        let beside = makers.value(field).zip(to).map_or_else(String::new, |(makers, to)| {
            format!(" ({:+.1} % on the maker's)", (to / makers - 1.0) * 100.0)
        });
        format!("{} {} → {}{beside}", field.label(), shown(from), shown(to))
    };
    let mut lines: Vec<String> = from.differences(to).iter().map(in_words).collect();
    // A table with the values of the other differs from it in what is not known.
    let aligned =
        from.fields.iter().fold(to.clone(), |table, limit| table.with(limit.field, limit.value));
    if let (Some(from), Some(to)) = (&from.file, &aligned.file) {
        let differ = from.differing_bytes(to).count();
        if differ > 0 {
            let what = if lines.is_empty() { "" } else { " besides" };
            lines.push(format!("{} of unknown meaning{what}", counted(differ, "byte")));
        }
    }
    lines
}

/// What there is to say of a real card's table that is not known whole; none for a stand-in's.
#[must_use]
pub fn what_is_opaque(table: &LimitTable) -> Option<String> {
    let file = table.file.as_ref()?;
    let (revision, size) = (file.revision(), file.bytes().len());
    Some(match file.is_opaque() {
        true => format!(
            "The layout of this table (revision {revision}, {size} bytes) is not known: it can be copied, compared, and loaded as a \
             whole file."
        ),
        false => format!(
            "Of this table (revision {revision}, {size} bytes) these limits are known. The rest is compared and loaded as a whole, and \
             never changed: currents and voltages are in it."
        ),
    })
}

/// What there is to say of a table before it is written: a current limit that does not follow, a cooler that is too small.
#[must_use]
pub fn limit_warnings(
    table: &LimitTable,
    makers: &LimitTable,
    safety: &SafetyCeilings,
) -> Vec<String> {
    let too_hot = safety.too_hot(table, makers).map(|(most, at)| {
        format!(
            "Measured runs suggest that the cooler keeps the core below {at} up to about {most} at full fan. Load stops at {at}."
        )
    });
    [limits_to_follow(table, makers), too_hot].into_iter().flatten().collect()
}

fn limits_to_follow(table: &LimitTable, makers: &LimitTable) -> Option<String> {
    let needed = current_that_is_short(table, makers)?;
    let (watts, amperes) =
        (table.value(LimitField::PowerLimit)?, table.value(LimitField::CurrentLimit)?);
    Some(format!(
        "The current limit must follow the power limit: {watts:.0} W need about {needed:.0} A, and the table has {amperes:.0} A."
    ))
}

/// Why settings cannot be held under the limits in force.
#[must_use]
pub fn needs_limits(needed: &NeedsLimits, card: &CardDescription) -> String {
    let NeedsLimits { kind, value, highest } = *needed;
    let shown = |value| card.offer(kind).map_or_else(String::new, |offer| offer.show(value));
    format!(
        "They need other limits than those in force: {} {}, and the card takes {} at most. \"yard-step ceiling again\" restores an override \
         that was taken away, from the next start on.",
        kind.label(),
        shown(value),
        shown(highest)
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use yard_step_core::{Celsius, LimitValue, TableOwner, Watt};

    fn makers() -> LimitTable {
        LimitTable {
            card: TableOwner { kind: "a".into(), memory_type: "b".into(), memory_gib: 8 },
            fields: vec![
                LimitValue { field: LimitField::PowerLimit, value: 270.0 },
                LimitValue { field: LimitField::CurrentLimit, value: 242.0 },
            ],
            unknown: Vec::new(),
            file: None,
        }
    }

    #[test]
    fn what_is_pending_is_told_with_who_wrote_it() {
        let raised = makers().with(LimitField::PowerLimit, 310.0);
        let tables = |in_force| LimitTables { makers: makers(), in_force };
        let pending = |in_force: &LimitTable, next: &LimitTable| {
            limits_pending(&tables(in_force.clone()), next, "rowan")
        };
        assert_eq!(pending(&makers(), &makers()), None);
        assert_eq!(pending(&raised, &raised), None);
        assert_eq!(pending(&makers(), &raised).unwrap(), "1 field changed by rowan");
        assert_eq!(pending(&raised, &makers()).unwrap(), "the maker's");
    }

    #[test]
    fn a_current_that_does_not_follow_is_told_with_what_it_should_be() {
        assert_eq!(limits_to_follow(&makers(), &makers()), None);
        let raised = makers().with(LimitField::PowerLimit, 310.0);
        assert_eq!(
            limits_to_follow(&raised, &makers()).unwrap(),
            "The current limit must follow the power limit: 310 W need about 278 A, and the table has 242 A."
        );
        let safety = SafetyCeilings {
            cooler: Some((Watt(300.0), Celsius(90.0))),
            ..SafetyCeilings::default()
        };
        let warnings = limit_warnings(&raised, &makers(), &safety);
        assert_eq!(warnings.len(), 2);
        assert_eq!(
            warnings[1],
            "Measured runs suggest that the cooler keeps the core below 90 °C up to about 300 W at full fan. Load stops at 90 °C."
        );
        assert!(limit_warnings(&makers(), &makers(), &safety).is_empty());
    }
}
