//! Starting a climb from values that are said to hold: typed, published, or kept from an earlier trial.

use crate::card::description::{CardDescription, SettingKind};
use crate::card::settings::Settings;
use crate::climb::search::axis::Axis;
use crate::climb::search::depth::Depth;
use crate::climb::{ClimbError, Stage};
use crate::load::artifact::Domain;
use crate::plan::Plan;
use crate::units::MhzOffset;

/// Most that a plan may take off, mV.
const MOST_OFF: i32 = 500;

/// Whether a card takes the values a plan starts from.
///
/// # Errors
/// It does not offer the setting, or takes less.
pub(in crate::climb) fn check(card: &CardDescription, plan: &Plan) -> Result<(), ClimbError> {
    let no_start = |setting| ClimbError::NoStart { setting, card: card.name.clone() };
    let beyond = |asked, most| ClimbError::StartBeyond { asked, most, card: card.name.clone() };
    for stage in [Stage::Core, Stage::Memory] {
        let Some(domain) = stage.domain() else { continue };
        let of = plan.axis(domain);
        if of.start_mhz.is_none() && of.start_percent.is_none() {
            continue;
        }
        if let Some(setting) = stage.rules().missing(card) {
            return Err(no_start(setting));
        }
        let Some(axis) = Axis::of(card, domain) else { continue };
        let start = of.start(axis.clock).unwrap_or_default().round() as i32;
        if MhzOffset(start) > axis.highest() {
            return Err(beyond(axis.show(MhzOffset(start)), axis.show(axis.highest())));
        }
    }
    if let Some(off) = plan.voltage.start_off_mv {
        let depth = Depth::from_stock(card, 1, MOST_OFF).ok_or_else(|| no_start("voltage"))?;
        if off > depth.deepest() {
            return Err(beyond(depth.show(off), depth.show(depth.deepest())));
        }
    }
    Ok(())
}

/// A plan that starts from settings: each search from the value they have on its scale, and from stock where
/// that is not beyond stock.
#[must_use]
pub fn starting_from(plan: Plan, settings: &Settings, card: &CardDescription) -> Plan {
    let mut plan = plan;
    // A profile may be from before a driver that takes less.
    let settings = &settings.clamped(card).settings;
    let on = |domain| {
        let axis = Axis::of(card, domain)?;
        Some(axis.read(settings)).filter(|value| *value > MhzOffset::STOCK).map(|value| value.0)
    };
    (plan.core.start_mhz, plan.core.start_percent) = (on(Domain::Core), None);
    (plan.memory.start_mhz, plan.memory.start_percent) = (on(Domain::Memory), None);
    let off = match settings.curve {
        Some(_) => Depth::from_stock(card, 1, MOST_OFF)
            .and_then(|depth| depth.read(settings))
            .map(|(depth, _)| depth),
        None => settings.get(SettingKind::VoltageOffset).map(|offset| -offset.round() as i32),
    };
    plan.voltage.start_off_mv = off.filter(|off| *off > 0);
    plan
}
