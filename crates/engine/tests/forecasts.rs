//! What a value is expected to do, held against what it does.
#![allow(clippy::unwrap_used, clippy::panic, missing_docs)]

mod common;

use std::sync::{Arc, Mutex};

use common::{Course, Watched};
use rstest::rstest;
use yard_step_card::CardChoice;
use yard_step_core::{Plan, SettingKind, Stage, Verdict, forecast, top_of};
use yard_step_engine::Engine;
use yard_step_ledger::{DataDir, Ledger};

#[rstest]
fn watts_and_hot_spot_come_out_as_foretold(
    #[values("standin:tarn-310", "standin:bracken-208", "standin:quern-540")] kind: &str,
    #[values("lantern", "kiln")] load: &str,
) {
    let dir = tempfile::tempdir().unwrap();
    let ledger = Ledger::open(&DataDir::new(dir.path())).unwrap().ledger;
    let course = Arc::new(Mutex::new(Course::default()));
    let kind: CardChoice = kind.parse().unwrap();
    let card = Watched::new(&kind, &ledger, &course);
    let plan = Plan { scene: load.into(), ..Plan::default() };
    let mut engine = Engine::begin(card, ledger, plan, &[Stage::Baseline]).unwrap();
    let card = engine.description().clone();
    for _ in 0..3 {
        engine.carry_out(false, &mut ()).unwrap();
    }
    let stock = engine.climb().held_settings();
    let changes: [(SettingKind, f64); 8] = [
        (SettingKind::PowerLimit, 0.12),
        (SettingKind::PowerLimit, -0.2),
        (SettingKind::CoreOffset, 30.0),
        (SettingKind::CoreOffset, -90.0),
        (SettingKind::VoltageOffset, -20.0),
        (SettingKind::ClockMaximum, -0.1),
        (SettingKind::ClockMaximum, -0.2),
        (SettingKind::MemoryOffset, 45.0),
    ];
    for (setting, by) in changes {
        let Some(offer) = card.offer(setting) else { continue };
        let stock_value = match setting {
            SettingKind::ClockMaximum => top_of(&card, &stock).value(),
            _ => offer.stock.unwrap(),
        };
        let value = if by.abs() < 1.0 { stock_value * (1.0 + by) } else { stock_value + by };
        let mut to = stock;
        to.set(setting, Some(offer.bin(value)));
        let told = forecast(&card, engine.climb().trials(), load, &to).unwrap();
        engine.wish(&to);
        // What the run before has left in the cooler is gone after a while.
        for _ in 0..2 {
            engine.carry_out(true, &mut ()).unwrap();
            engine.wish(&to);
        }
        let view = engine.carry_out(true, &mut ()).unwrap();
        let seen = &view.seen;
        let what = format!("{setting:?} {value:.0}: {told:?}, and {seen:?}");
        let power = seen.average_power.unwrap() - told.power.value;
        assert!(power.value().abs() <= told.power.within.value(), "{what}");
        let hot_spot = told.hot_spot.expect("the same fan");
        let hotter = seen.hot_spot_max.unwrap() - hot_spot.value;
        assert!(hotter.value().abs() <= hot_spot.within.value(), "{what}");
        // A range that says nothing is no forecast.
        assert!(told.power.within.value() < 0.1 * told.power.value.value(), "{what}");
        assert_ne!(view.judgement.as_ref().unwrap().verdict, Verdict::Void);
    }
}
