//! One climb on one card, without ledger, engine or frames: the climb proposes, the card's run is
//! worked out at once, the same judge as ever gives the verdict.

use yard_step_card::{Brief, BriefCard, BriefEnding, LoadLost};
use yard_step_core::{
    Climb, ClimbEvent, Demand, Ending, Evidence, Expected, Fault, Judgement, Lesson, Next, Outcome,
    Outlook, Percent, Seconds, SettleReport, Stuck, TrialRecord, TrialRequest, Verdict,
    asks_more_clock, judge,
};

/// Why a climb has no end.
#[derive(Debug, Clone, PartialEq)]
pub enum NoEnd {
    /// It could not go on.
    Stuck(Stuck),
    /// It had made more trials than any climb should.
    TooManyTrials,
}

/// What one climb came to.
#[derive(Debug, Clone)]
pub struct Climbed {
    /// Its outcome; of a climb that got stuck, what was known by then.
    pub outcome: Outcome,
    /// Why it could not go on, if it could not.
    pub stuck: Option<NoEnd>,
    /// Trials that took the machine down.
    pub machine_downs: usize,
    /// Trials in which the driver reset the card.
    pub driver_resets: usize,
    /// What was said to be left before each trial, with the trials made by then and their time;
    /// empty unless it was asked for.
    pub outlooks: Vec<(usize, Seconds, Outlook)>,
    /// Every trial.
    pub trials: Vec<TrialRecord>,
    /// What settling came to, where the climb had that stage.
    pub settled: Option<SettleReport>,
    /// What later climbs may learn of it.
    pub lesson: Lesson,
}

impl Climbed {
    /// Share of the ranges told that held what was really left, trials and minutes counted alike, 0 to 1; none where none
    /// was told.
    #[must_use]
    pub fn ranges_held(&self) -> Option<f64> {
        let (trials, time) = (self.outcome.trials, self.outcome.test_seconds);
        let held = self.outlooks.iter().map(|(made, by_then, outlook)| {
            let (few, many) = outlook.climb.trials;
            let (short, long) = outlook.climb.seconds;
            let of_trials = (few..=many).contains(&(trials - made));
            let of_time = (short..=long).contains(&(time - *by_then));
            f64::from(u8::from(of_trials) + u8::from(of_time)) / 2.0
        });
        yard_step_core::statistics::mean(&held.collect::<Vec<_>>())
    }
}

/// Trials after which a climb is taken to have no end.
const MOST_TRIALS: usize = 400;

/// Carries a climb that was laid out for this card to its end.
pub fn climb<D: Fn(u64) -> Demand>(
    card: &mut BriefCard<D>,
    mut climb: Climb,
    mean_load: Percent,
    with_outlooks: bool,
) -> Climbed {
    let mut outlooks = Vec::new();
    let mut stuck = None;
    let outcome = loop {
        match climb.next() {
            Next::Ended(outcome) => break *outcome,
            Next::Stuck(why) => {
                stuck = Some(NoEnd::Stuck(why));
                break climb.outcome();
            }
            Next::Trial(_) if climb.trials().len() >= MOST_TRIALS => {
                stuck = Some(NoEnd::TooManyTrials);
                break climb.outcome();
            }
            Next::Trial(proposal) => {
                if with_outlooks && climb.trials().len().is_multiple_of(4) {
                    let so_far = (climb.trials().len(), climb.test_seconds());
                    outlooks.push((so_far.0, so_far.1, climb.outlook()));
                }
                let record = try_out(card, &climb, &proposal.request, mean_load);
                climb.handle(ClimbEvent::TrialEnded(Box::new(record)));
            }
        }
    };
    let count = |verdict| climb.trials().iter().filter(|trial| trial.verdict() == verdict).count();
    Climbed {
        outcome,
        stuck,
        machine_downs: count(Verdict::MachineDown),
        driver_resets: count(Verdict::DriverReset),
        outlooks,
        trials: climb.trials().to_vec(),
        settled: climb.settle_report(),
        lesson: climb.lesson(),
    }
}

pub(crate) fn try_out<D: Fn(u64) -> Demand>(
    card: &mut BriefCard<D>,
    climb: &Climb,
    request: &TrialRequest,
    mean_load: Percent,
) -> TrialRecord {
    // Cold only before the first run; from then on the shortest warm-up does.
    let warm_up = if climb.trials().is_empty() {
        Seconds(card.warm_seconds().value().min(request.warm_up.value()))
    } else {
        request.warm_up
    };
    let length = request.seconds - request.warm_up + warm_up;
    let asked = request.asked.clamped(card.description()).settings;
    let brief = card.run(&asked, length, warm_up);
    let Judgement { verdict, reason } =
        judgement(&brief, climb, &asked, mean_load, &request.load, card);
    if verdict != Verdict::Clean {
        card.put_back();
    }
    let is_fault = verdict.is_fault();
    let number = climb.trials().len() as u32 + 1;
    let fault = is_fault.then(|| Fault::at(brief.seconds, verdict.label()));
    TrialRecord {
        asked,
        taken: Some(brief.taken),
        seconds: brief.seconds,
        score: brief.score,
        faults: fault.into_iter().collect(),
        seen: brief.seen,
        ..request.judged(number, verdict, reason)
    }
}

fn judgement<D: Fn(u64) -> Demand>(
    brief: &Brief,
    climb: &Climb,
    asked: &yard_step_core::Settings,
    mean_load: Percent,
    load: &str,
    card: &BriefCard<D>,
) -> Judgement {
    let ending = match brief.ending {
        BriefEnding::Finished | BriefEnding::Spoilt(_) => Ending::Finished,
        BriefEnding::NotTaken => Ending::NotBegun,
        BriefEnding::Lost(LoadLost::DriverReset) => Ending::DriverReset,
        BriefEnding::Lost(LoadLost::MachineDown) => Ending::MachineDown,
        BriefEnding::Lost(LoadLost::Gone) => Ending::CardGone("the card is gone".into()),
        BriefEnding::Lost(LoadLost::KeeperGone | LoadLost::SettingsChanged) => {
            Ending::NotHeld("the settings were changed".into())
        }
        BriefEnding::Lost(LoadLost::Died) => Ending::LoadDied("lost its device".into()),
        BriefEnding::Lost(LoadLost::Hung) => Ending::LoadDied("hung".into()),
    };
    let description = card.description();
    judge(&Evidence {
        ending: &ending,
        differences: &asked.differences(&brief.taken, description),
        seen: &brief.seen,
        score: brief.score,
        reference: climb.reference(load),
        more_clock_asked: asks_more_clock(asked, description),
        most_background: climb.plan().most_background(),
        most_warming: None,
        clock_bin: description.limits.clock_bin,
        expected: Expected { load: Some(mean_load), frames_are_checked: true },
        since_reset: None,
    })
}
