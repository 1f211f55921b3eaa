//! Values for the tests of this crate.

use crate::air::fan::FanControl;
use crate::card::description::{CardDescription, CardLimits, Channel, Offer, Reading, SettingKind};
use crate::card::memory_rate::MemoryWiring;
use crate::card::settings::Settings;
use crate::ceiling::field::{LimitField, LimitValue};
use crate::ceiling::table::LimitTable;
use crate::climb::{Purpose, Stage, TrialRecord};
use crate::judge::verdict::Verdict;
use crate::measure::clock_line::ClockLine;
use crate::measure::monitor::Seen;
use crate::measure::sample::Sample;
use crate::units::{Celsius, Mhz, Millivolt, Percent, Seconds, Watt};

pub(crate) fn card() -> CardDescription {
    let offer = |kind, minimum, maximum, step, stock| Offer {
        kind,
        reading: Reading::Absolute,
        minimum,
        maximum,
        step,
        stock,
        makers_maximum: None,
    };
    CardDescription {
        id: "standin:test".into(),
        serial: "1".into(),
        name: "Test card".into(),
        memory_type: "none".into(),
        memory_gib: 8,
        memory_clock: Mhz(1_750.0),
        memory_wiring: MemoryWiring { transfers_per_clock: 8, bus_bits: 256 },
        driver: "1.0".into(),
        limits: CardLimits {
            boost_clock: Mhz(2_050.0),
            highest_clock: Mhz(2_160.0),
            clock_bin: Mhz(15.0),
            voltage_ceiling: Some(Millivolt(1_081.0)),
            power_limit: Some(Watt(220.0)),
            temperature_target: Some(Celsius(83.0)),
            temperature_ceiling: Some(Celsius(95.0)),
            current: None,
        },
        curve: None,
        fan: FanControl::Curve,
        steps_unstated: false,
        limit_tables: None,
        offers: vec![
            offer(SettingKind::PowerLimit, 110.0, 286.0, 1.0, Some(220.0)),
            offer(SettingKind::TemperatureTarget, 60.0, 90.0, 1.0, Some(83.0)),
            offer(SettingKind::CoreOffset, -150.0, 300.0, 15.0, Some(0.0)),
            offer(SettingKind::Fan, 30.0, 100.0, 1.0, None),
        ],
        sensors: Channel::ALL.to_vec(),
        absent_settings: vec![],
        absent_sensors: vec![],
    }
}

/// The limit table of the [card] with these fields.
pub(crate) fn limit_table(fields: &[(LimitField, f64)]) -> LimitTable {
    LimitTable {
        card: card().table_owner(),
        fields: fields.iter().map(|&(field, value)| LimitValue { field, value }).collect(),
        unknown: Vec::new(),
        file: None,
    }
}

pub(crate) fn sample() -> Sample {
    Sample {
        at: Seconds(1.0),
        core_clock: Some(Mhz(2_010.0)),
        effective_clock: Some(Mhz(2_005.0)),
        memory_clock: Some(Mhz(1_750.0)),
        voltage: Some(Millivolt(1_000.0)),
        board_power: Some(Watt(200.0)),
        core_temperature: Some(Celsius(60.0)),
        hot_spot: Some(Celsius(72.0)),
        fan: Some(Percent(100.0)),
        load: Some(Percent(99.0)),
        background: Some(Percent(0.0)),
        frame_rate: Some(20.0),
        ..Sample::default()
    }
}

pub(crate) fn seen() -> Seen {
    Seen {
        seconds: Seconds(180.0),
        clock_line: Some(ClockLine {
            average: Mhz(2_030.0),
            lowest: Mhz(1_990.0),
            highest: Mhz(2_050.0),
            flatness: Percent(90.0),
            dips: vec![],
        }),
        load: Some(Percent(99.0)),
        background: Some(Percent(0.0)),
        frames: 3_600,
        ..Seen::default()
    }
}

/// A clean trial at stock.
pub(crate) fn record(number: u32) -> TrialRecord {
    let stock = Settings::stock(&card());
    TrialRecord {
        number,
        stage: Stage::Baseline,
        purpose: Purpose::Baseline,
        asked: stock,
        taken: Some(stock),
        seen: seen(),
        scene: "lantern".into(),
        seconds: Seconds(180.0),
        judged: Verdict::Clean,
        reason: "No wrong pixel.".into(),
        marked: None,
        score: Some(1_000.0),
        faults: vec![],
        room: None,
        in_step: vec![],
        since_reset: None,
    }
}
