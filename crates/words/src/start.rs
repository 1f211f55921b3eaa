//! Where a climb starts.

use yard_step_core::{Axis, CardDescription, Domain, Plan, SettingKind};

/// The values a plan starts from on a card, each with its name; none where it starts at stock.
#[must_use]
pub fn starts(plan: &Plan, card: &CardDescription) -> Vec<String> {
    let clock = |domain| {
        let axis = Axis::of(card, domain)?;
        let start = plan.axis(domain).start(axis.clock)?;
        Some(format!("{domain} {}", axis.show(axis.bin(start))))
    };
    let voltage = plan.voltage.start_off_mv;
    [clock(Domain::Core), clock(Domain::Memory)]
        .into_iter()
        .flatten()
        .chain(voltage.map(|off| SettingKind::VoltageOffset.show(-f64::from(off))))
        .collect()
}
