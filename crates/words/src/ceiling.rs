//! Limit tables in sentences.

use yard_step_core::{
    CardDescription, LimitField, LimitTable, NeedsLimits, counted, current_that_is_short,
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

/// Whose limits are in force on a card, in a few words; none where its limits cannot be read.
#[must_use]
pub fn limits_in_force(card: &CardDescription) -> Option<String> {
    let tables = card.limit_tables.as_ref()?;
    let fields = tables.makers.differences(&tables.in_force).len();
    Some(match fields {
        0 => "the maker's".to_owned(),
        _ => format!("{} changed, {}", counted(fields, "field"), tables.in_force.checksum()),
    })
}

/// What there is to say of a table before it is written.
#[must_use]
pub fn limits_to_follow(table: &LimitTable, makers: &LimitTable) -> Option<String> {
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
    use yard_step_core::{LimitValue, TableOwner};

    fn makers() -> LimitTable {
        LimitTable {
            card: TableOwner { kind: "a".into(), memory_type: "b".into(), memory_gib: 8 },
            fields: vec![
                LimitValue { field: LimitField::PowerLimit, value: 270.0 },
                LimitValue { field: LimitField::CurrentLimit, value: 242.0 },
            ],
            unknown: Vec::new(),
        }
    }

    #[test]
    fn a_current_that_does_not_follow_is_told_with_what_it_should_be() {
        assert_eq!(limits_to_follow(&makers(), &makers()), None);
        let raised = makers().with(LimitField::PowerLimit, 310.0);
        assert_eq!(
            limits_to_follow(&raised, &makers()).unwrap(),
            "The current limit must follow the power limit: 310 W need about 278 A, and the table has 242 A."
        );
    }
}
