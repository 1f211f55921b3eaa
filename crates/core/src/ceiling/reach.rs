//! What the limits in force mean for the settings of a card.

use crate::card::description::{CardDescription, SettingKind};
use crate::card::settings::Settings;
use crate::ceiling::field::LimitField;
use crate::judge::alarm::{Alarm, AlarmAct, AlarmOn};

/// The settings whose ranges a field may end, the first one before all; none for the current, which is no setting.
#[must_use]
pub const fn settings_of(field: LimitField) -> &'static [SettingKind] {
    match field {
        LimitField::PowerLimit => &[SettingKind::PowerLimit],
        LimitField::CurrentLimit => &[],
        LimitField::VoltageCeiling => &[SettingKind::VoltageOffset],
        LimitField::CoreClock => &[SettingKind::CoreOffset, SettingKind::ClockMaximum],
        LimitField::MemoryClock => &[SettingKind::MemoryOffset],
    }
}

/// The highest value that the maker allows of a setting, where the limits in force allow more.
#[must_use]
pub fn makers_maximum(card: &CardDescription, kind: SettingKind) -> Option<f64> {
    card.offer(kind)?.makers_maximum
}

/// Whether a card, as it was described at one time, has other limits in force than at another. Where nothing is told of them, they
/// are the maker's.
#[must_use]
pub fn are_other_limits(one: &CardDescription, other: &CardDescription) -> bool {
    let raised = |card: &CardDescription| {
        let tables = card.limit_tables.as_ref()?;
        (tables.in_force != tables.makers).then(|| tables.in_force.clone())
    };
    raised(one) != raised(other)
}

/// Temperature of the regulator at which a run beyond the maker's limits is stopped, °C: the parts in regulators are rated for
/// 125 °C and more, so this leaves a fifth. An assumption, not a figure of a card.
pub const REGULATOR_BEYOND: f64 = 105.0;
/// How far below the temperature at which any load is stopped the core stops one beyond the maker's limits, K.
pub const CORE_BELOW: f64 = 3.0;

/// The user's alarms, and where the limits in force reach beyond the maker's, alarms for heat and regulator that stop the load,
/// unless the user has set one of the same kind.
#[must_use]
pub fn alarms_with_limits(said: &[Alarm], card: &CardDescription) -> Vec<Alarm> {
    let mut alarms = said.to_vec();
    let is_beyond = card.limit_tables.as_ref().is_some_and(|tables| {
        let mut differences = tables.makers.differences(&tables.in_force).into_iter();
        differences.any(|difference| difference.to > difference.from)
    });
    if is_beyond {
        let core = card.limits.stops_at().value() - CORE_BELOW;
        for (on, above) in
            [(AlarmOn::CoreTemperature, core), (AlarmOn::RegulatorTemperature, REGULATOR_BEYOND)]
        {
            if alarms.iter().all(|alarm| alarm.on != on) {
                alarms.push(Alarm { on, above, act: AlarmAct::Stop });
            }
        }
    }
    alarms
}

/// A setting that needs other limits than those in force.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct NeedsLimits {
    /// Which.
    pub kind: SettingKind,
    /// Its value.
    pub value: f64,
    /// The highest that the limits in force allow.
    pub highest: f64,
}

/// The first setting that needs other limits than those in force.
#[must_use]
pub fn needs_limits(settings: &Settings, card: &CardDescription) -> Option<NeedsLimits> {
    let makers = &card.limit_tables.as_ref()?.makers;
    // What a real card's table holds besides what is known of it may end any range.
    let may_end = |field: &LimitField| makers.file.is_some() || makers.value(*field).is_some();
    let fields = LimitField::ALL.into_iter().filter(may_end);
    fields.flat_map(settings_of).find_map(|kind| {
        let kind = *kind;
        let (value, offer) = (settings.get(kind)?, card.offer(kind)?);
        let highest = offer.maximum;
        (value > highest + offer.step / 2.0).then_some(NeedsLimits { kind, value, highest })
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ceiling::table::LimitTables;
    use crate::fixtures::{self, limit_table};
    use crate::units::Watt;

    /// A card whose power limit reaches so far in force, and as far as it is offered by its maker.
    fn card(in_force: f64) -> CardDescription {
        let mut card = fixtures::card();
        let of = |value| limit_table(&[(LimitField::PowerLimit, value)]);
        let mut offers = card.offers.iter_mut();
        let offer = offers.find(|offer| offer.kind == SettingKind::PowerLimit).unwrap();
        let makers = std::mem::replace(&mut offer.maximum, in_force);
        offer.makers_maximum = (in_force > makers).then_some(makers);
        card.limit_tables =
            Some(Box::new(LimitTables { makers: of(makers), in_force: of(in_force) }));
        card
    }

    #[test]
    fn a_range_beyond_the_makers_is_told_with_the_makers_end() {
        let makers = fixtures::card().offer(SettingKind::PowerLimit).unwrap().maximum;
        assert_eq!(makers_maximum(&card(makers + 40.0), SettingKind::PowerLimit), Some(makers));
        assert_eq!(makers_maximum(&card(makers), SettingKind::PowerLimit), None);
        assert_eq!(makers_maximum(&card(makers - 20.0), SettingKind::PowerLimit), None);
        assert_eq!(makers_maximum(&fixtures::card(), SettingKind::PowerLimit), None);
    }

    #[test]
    fn beyond_the_makers_limits_heat_and_regulator_stop_the_load() {
        let makers = fixtures::card().offer(SettingKind::PowerLimit).unwrap().maximum;
        assert!(alarms_with_limits(&[], &card(makers)).is_empty());
        assert!(alarms_with_limits(&[], &card(makers - 20.0)).is_empty(), "less than the maker's");
        let alarms = alarms_with_limits(&[], &card(makers + 20.0));
        let on: Vec<AlarmOn> = alarms.iter().map(|alarm| alarm.on).collect();
        assert_eq!(on, [AlarmOn::CoreTemperature, AlarmOn::RegulatorTemperature]);
        assert!(alarms.iter().all(|alarm| alarm.act == AlarmAct::Stop));
        // The user's own goes before.
        let own = Alarm { on: AlarmOn::CoreTemperature, above: 80.0, act: AlarmAct::Warn };
        let alarms = alarms_with_limits(&[own], &card(makers + 20.0));
        assert_eq!((alarms.len(), alarms[0]), (2, own));
    }

    #[test]
    fn other_limits_are_told_from_the_makers_and_from_one_another() {
        let makers = fixtures::card().offer(SettingKind::PowerLimit).unwrap().maximum;
        let [same, raised, higher] = [0.0, 20.0, 40.0].map(|by| card(makers + by));
        assert!(!are_other_limits(&same, &fixtures::card()), "nothing told is the maker's");
        assert!(!are_other_limits(&raised, &raised));
        assert!(are_other_limits(&raised, &same) && are_other_limits(&raised, &higher));
    }

    #[test]
    fn settings_beyond_the_limits_in_force_need_others() {
        let makers = fixtures::card().offer(SettingKind::PowerLimit).unwrap().maximum;
        let raised = Settings { power_limit: Some(Watt(makers + 30.0)), ..Settings::default() };
        assert_eq!(needs_limits(&raised, &card(makers + 40.0)), None);
        let needed = needs_limits(&raised, &card(makers)).unwrap();
        assert_eq!((needed.value, needed.highest), (makers + 30.0, makers));
        assert_eq!(needs_limits(&raised, &fixtures::card()), None, "it has no such table");
        let core = Settings { core_offset: Some(crate::units::MhzOffset(9_000)), ..raised };
        let needed = needs_limits(&core, &card(makers + 40.0));
        assert_eq!(needed, None, "no field of the table ends the range of the core clock");
    }
}
