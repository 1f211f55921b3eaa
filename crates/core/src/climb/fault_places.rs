//! In which sections of its load a climb's runs failed.

use statrs::distribution::{Binomial, DiscreteCDF};

use crate::climb::Climb;

/// Chance of an error in calling a section the hardest, over all of them.
const FALSE_ALARMS: f64 = 0.05;

/// In which sections of the load that a climb searches under its runs failed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FaultPlaces {
    /// The load.
    pub load: String,
    /// Sections by their place in the load, and how many runs failed in each: those with most first.
    pub sections: Vec<(usize, u32)>,
}

impl FaultPlaces {
    /// Failed runs of which the section is known.
    #[must_use]
    pub fn faults(&self) -> u32 {
        self.sections.iter().map(|(_, count)| count).sum()
    }

    /// The section in which more runs failed than chance explains, where `sections` of them take turns of equal length:
    /// a one-sided binomial test, with Bonferroni's correction since any of them might have stood out (NIST/SEMATECH
    /// *e-Handbook of Statistical Methods*, 7.2.4 and 7.4.7.3).
    #[must_use]
    pub fn hardest(&self, sections: usize) -> Option<usize> {
        let (section, count) = self.sections.first().copied()?;
        let by_chance = Binomial::new(1.0 / sections as f64, self.faults().into()).ok()?;
        let at_least = by_chance.sf(u64::from(count.checked_sub(1)?));
        (at_least * (sections as f64) < FALSE_ALARMS).then_some(section)
    }
}

impl Climb {
    /// In which sections of the climb's load its runs failed; none where no run did of which that is known.
    #[must_use]
    pub fn fault_places(&self) -> Option<FaultPlaces> {
        let load = self.plan.scene.clone();
        let mut sections: Vec<(usize, u32)> = Vec::new();
        let failed = self.trials.iter().filter(|run| run.scene == load && run.verdict().is_fault());
        for section in failed.filter_map(|run| run.seen.last_section) {
            match sections.iter_mut().find(|(at, _)| *at == section) {
                Some((_, count)) => *count += 1,
                None => sections.push((section, 1)),
            }
        }
        sections.sort_by_key(|(at, count)| (std::cmp::Reverse(*count), *at));
        (!sections.is_empty()).then_some(FaultPlaces { load, sections })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::climb::Stage;
    use crate::fixtures::{card, record};
    use crate::judge::verdict::Verdict;
    use crate::plan::Plan;
    use rstest::rstest;

    #[rstest]
    #[case::one_is_chance(&[(2, 1)], 6, None)]
    #[case::so_are_two_of_two(&[(2, 2)], 6, None)]
    #[case::three_of_three_are_not(&[(2, 3)], 6, Some(2))]
    #[case::spread_evenly(&[(0, 3), (1, 3), (5, 2)], 6, None)]
    #[case::most_of_many(&[(5, 5), (1, 1), (2, 1)], 6, Some(5))]
    #[case::of_four_it_takes_more(&[(2, 3)], 4, None)]
    #[case::a_load_of_one_section(&[(0, 9)], 1, None)]
    #[case::none(&[], 6, None)]
    fn a_section_stands_out_where_chance_does_not_explain_it(
        #[case] sections: &[(usize, u32)],
        #[case] of: usize,
        #[case] hardest: Option<usize>,
    ) {
        let places = FaultPlaces { load: "medley".into(), sections: sections.to_vec() };
        assert_eq!(places.hardest(of), hardest);
    }

    #[test]
    fn only_failed_runs_under_the_climbs_load_are_counted() {
        let run = |number, verdict, scene: &str, section| {
            let mut run = record(number);
            (run.judged, run.scene, run.seen.last_section) = (verdict, scene.to_owned(), section);
            run
        };
        let mut climb =
            Climb::new(card(), Plan::default(), &[Stage::Baseline, Stage::Core]).unwrap();
        assert_eq!(climb.fault_places(), None);
        let load = climb.plan().scene.clone();
        climb.trials = vec![
            run(1, Verdict::Clean, &load, Some(3)),
            run(2, Verdict::Artifacts, &load, Some(1)),
            run(3, Verdict::MachineDown, &load, None),
            run(4, Verdict::LoadDied, "kiln", Some(0)),
            run(5, Verdict::LoadDied, &load, Some(2)),
            run(6, Verdict::DriverReset, &load, Some(2)),
        ];
        let places = climb.fault_places().unwrap();
        assert_eq!((places.faults(), &places.sections[..]), (3, &[(2, 2), (1, 1)][..]));
    }
}
