//! What a climb teaches of its card, for those that come after it.

use crate::climb::search::bayesian::{believe, believe_beside};
use crate::climb::search::belief::{Assumed, EdgeBelief};
use crate::climb::search::experience::{DomainLesson, Experience, Lesson};
use crate::climb::{Climb, Stage, TrialRecord};
use crate::judge::verdict::Verdict;
use crate::load::artifact::Domain;

impl Climb {
    /// What this climb says of its card.
    #[must_use]
    pub fn lesson(&self) -> Lesson {
        let is_fault = |trial: &&TrialRecord| trial.verdict().is_fault();
        let faults = self.trials.iter().filter(is_fault);
        let downs = faults.clone().filter(|trial| trial.verdict() == Verdict::MachineDown).count();
        let (clean, unrelated) = self.undisturbed_so_far(&self.kept_until(Stage::CrossCheck).1);
        Lesson {
            core: self.lesson_of(Domain::Core),
            memory: self.lesson_of(Domain::Memory),
            faults: faults.count(),
            machine_downs: downs,
            unrelated,
            clean_hours: clean.value() / 3_600.0,
        }
    }

    /// What its trials say of one domain; `None` where there are none of it.
    fn lesson_of(&self, domain: Domain) -> Option<DomainLesson> {
        let axis = self.axis(domain)?;
        let tried = self.tried_alone(domain);
        tried.iter().any(|trial| trial.proves()).then_some(())?;
        let any = Assumed::of_any(domain);
        let before = EdgeBelief::assumed(domain, axis.clock, None, &any);
        let after = believe_beside(believe(before.clone(), &tried), &self.beside(domain));
        let edges = divided(after.edges(), before.edges());
        let together = self.believed_together(&Experience::default());
        let all = together.map_or(after, |joint| joint.get(domain).clone());
        let e_folds = divided(all.e_folds(domain), before.e_folds(domain));
        Some(DomainLesson { e_folds, edges })
    }
}

/// What a belief says with what was assumed divided out.
fn divided<const N: usize>(after: [f64; N], before: [f64; N]) -> [f64; N] {
    std::array::from_fn(|place| (after[place] / before[place].max(1e-12)).max(1e-6))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::card::settings::Settings;
    use crate::climb::search::belief::e_fold_log;
    use crate::climb::{ClimbEvent, Stage};
    use crate::fixtures::{card, record};
    use crate::judge::verdict::Fault;
    use crate::plan::Plan;
    use crate::units::{MhzOffset, MillivoltOffset, Seconds};
    use rstest::rstest;

    /// A climb on a card whose faults set in with an e-fold of so many MHz from an edge at +100 MHz on: as many hours as
    /// bring one fault at each value, and then that fault.
    fn climb_with(e_fold: f64) -> Climb {
        let mut climb =
            Climb::new(card(), Plan::default(), &[Stage::Baseline, Stage::Core]).unwrap();
        for past in [7.0, 2.0, 7.0, 3.0, 6.0, 2.5, 7.5, 3.5_f64] {
            let number = climb.trials().len() as u32 + 1;
            let seconds = Seconds(24.0 * 3_600.0 / past.exp());
            let offset = MhzOffset((100.0 + past * e_fold).round() as i32);
            let asked = Settings { core_offset: Some(offset), ..Settings::stock(&card()) };
            let made = TrialRecord {
                stage: Stage::Core,
                asked,
                taken: Some(asked),
                judged: Verdict::LoadDied,
                seconds,
                faults: vec![Fault::at(seconds, "load died")],
                ..record(number)
            };
            climb.handle(ClimbEvent::TrialEnded(Box::new(made)));
        }
        climb
    }

    fn lessons(e_folds: &[f64]) -> Vec<Lesson> {
        e_folds.iter().map(|e_fold| climb_with(*e_fold).lesson()).collect()
    }

    fn median(experience: &Experience) -> f64 {
        experience.expectation(Domain::Core).e_fold_percent.0 / 100.0 * 2_050.0
    }

    fn width(experience: &Experience) -> f64 {
        let (_, low, high) = experience.expectation(Domain::Core).e_fold_percent;
        (high / low).ln()
    }

    #[rstest]
    #[case::steep(2.0)]
    #[case::usual(4.1)]
    #[case::gentle(12.0)]
    fn four_climbs_teach_how_fast_faults_set_in_on_their_kind(#[case] e_fold: f64) {
        let after = Experience::of(&lessons(&[e_fold; 4]), &[]);
        assert!((median(&after) / e_fold).ln().abs() < 0.4, "{} of {e_fold}", median(&after));
        let (one, none) = (Experience::of(&lessons(&[e_fold]), &[]), Experience::default());
        assert!(width(&after) < width(&one) && width(&one) < width(&none), "more climbs, surer");
        assert_eq!((after.climbs, one.climbs, none.climbs), (4, 1, 0));
    }

    #[test]
    fn units_that_differ_leave_it_open_and_units_that_agree_do_not() {
        let alike = Experience::of(&lessons(&[4.0; 6]), &[]);
        let unlike = Experience::of(&lessons(&[1.5, 12.0, 2.0, 10.0, 1.5, 12.0]), &[]);
        assert!(width(&unlike) > 1.5 * width(&alike), "{} {}", width(&unlike), width(&alike));
    }

    #[test]
    fn other_kinds_are_a_hint_that_climbs_on_this_one_overrule() {
        let theirs = lessons(&[12.0; 4]);
        let hinted = Experience::of(&[], &theirs);
        let usual = median(&Experience::default());
        assert!(median(&hinted) > usual, "{} {usual}", median(&hinted));
        assert!(width(&hinted) > width(&Experience::of(&theirs, &[])), "it may be wrong");
        let overruled = Experience::of(&lessons(&[4.1; 4]), &theirs);
        assert!((median(&overruled) / 4.1).ln().abs() < 0.4, "{}", median(&overruled));
    }

    #[test]
    fn what_was_taught_is_what_the_next_climb_begins_with() {
        let mut climb =
            Climb::new(card(), Plan::default(), &[Stage::Baseline, Stage::Core]).unwrap();
        let before = climb.belief(Domain::Core).unwrap();
        climb.handle(ClimbEvent::Learnt(Box::new(Experience::of(&lessons(&[12.0; 4]), &[]))));
        let after = climb.belief(Domain::Core).unwrap();
        let mean = |belief: &EdgeBelief| {
            let weights = belief.e_folds(Domain::Core);
            weights.iter().enumerate().map(|(at, w)| w * e_fold_log(at)).sum::<f64>()
        };
        assert!(mean(&after) > mean(&before) + 0.5, "{} {}", mean(&after), mean(&before));
        // A gentler onset has more taken off.
        let most = |belief: &EdgeBelief| belief.holds_to(24.0, 0.01, 0.985) - belief.band(0.0).0;
        assert!(most(&after) < 0.0);
    }

    #[test]
    fn grave_faults_and_those_of_other_causes_are_expected_again() {
        let mut grave = climb_with(4.0).lesson();
        (grave.machine_downs, grave.unrelated, grave.clean_hours) = (6, 1, 50.0);
        let after = Experience::of(&[grave], &[]);
        let none = Experience::default();
        assert!(after.machine_down_share() > 0.3 && none.machine_down_share() < 0.01);
        assert!(after.hours_to_unrelated_fault() < 130.0, "{}", after.hours_to_unrelated_fault());
        assert!(none.hours_to_unrelated_fault() > 1_000.0);
    }

    #[test]
    fn it_is_the_same_once_it_was_written_down_and_read() {
        let experience = Experience::of(&lessons(&[4.0, 6.0]), &lessons(&[8.0]));
        let text = serde_json::to_string(&experience).unwrap();
        assert_eq!(serde_json::from_str::<Experience>(&text).unwrap(), experience);
    }

    #[test]
    fn a_fault_at_bolder_voltage_had_no_other_cause_and_one_at_stock_had() {
        let after = |change: fn(&mut Settings)| {
            let mut climb = climb_with(4.0);
            let mut asked = Settings::stock(&card());
            change(&mut asked);
            let number = climb.trials().len() as u32 + 1;
            let made = TrialRecord {
                stage: Stage::Own,
                asked,
                taken: Some(asked),
                judged: Verdict::LoadDied,
                ..record(number)
            };
            climb.handle(ClimbEvent::TrialEnded(Box::new(made)));
            climb.lesson().unrelated
        };
        let deep = |asked: &mut Settings| asked.voltage_offset = Some(MillivoltOffset(-80));
        assert_eq!((after(|_| ()), after(deep)), (1, 0));
    }
}
