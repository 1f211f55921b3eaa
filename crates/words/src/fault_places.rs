//! In which sections of a load runs failed.

use yard_step_core::{FaultPlaces, counted};

/// In which sections of the load the runs of a climb failed, and where the card fails first, if that is clear; `names` are those
/// of all its sections. None for fewer than two failed runs.
#[must_use]
pub fn fault_places(places: &FaultPlaces, names: &[&str]) -> Option<String> {
    let faults = places.faults();
    let named = |(section, count): &(usize, u32)| Some((*names.get(*section)?, *count));
    let sections: Vec<(&str, u32)> = places.sections.iter().map(named).collect::<Option<_>>()?;
    let each: Vec<String> =
        sections.iter().map(|(name, count)| format!("{count} in \"{name}\"")).collect();
    let hardest = places.hardest(names.len()).and_then(|section| names.get(section));
    let hardest =
        hardest.map_or(String::new(), |name| format!(" This card fails in \"{name}\" first."));
    (faults >= 2).then(|| {
        let runs = counted(faults as usize, "run");
        format!("{runs} failed under {}: {}.{hardest}", places.load, each.join(", "))
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const NAMES: [&str; 6] = ["kiln", "sluice", "loom", "lantern", "doldrums", "squall"];

    #[rstest]
    #[case(&[(2, 1)], None)]
    #[case(&[(2, 1), (5, 1)], Some("2 runs failed under medley: 1 in \"loom\", 1 in \"squall\"."))]
    #[case(
        &[(2, 4), (5, 1)],
        Some("5 runs failed under medley: 4 in \"loom\", 1 in \"squall\". This card fails in \"loom\" first.")
    )]
    #[case::of_another_version(&[(2, 1), (9, 1)], None)]
    fn where_runs_failed_is_told_and_what_stands_out(
        #[case] sections: &[(usize, u32)],
        #[case] told: Option<&str>,
    ) {
        let places = FaultPlaces { load: "medley".into(), sections: sections.to_vec() };
        assert_eq!(fault_places(&places, &NAMES).as_deref(), told);
    }
}
