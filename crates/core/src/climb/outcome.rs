//! What a climb comes to, and how much of it is left.

use crate::settings::Settings;
use crate::statistics::median;
use crate::units::{MhzOffset, Seconds};
use crate::verdict::{Verdict, gain_percent};

use super::{Climb, LadderStep, Purpose, Stage, TrialRecord};

/// What a climb comes to.
#[derive(Debug, Clone, PartialEq)]
pub struct Outcome {
    /// Settings to keep, as they were proven.
    pub settings: Settings,
    /// Median score of the clean runs at these settings.
    pub score: Option<f64>,
    /// Gain of that score over the baseline.
    pub gain_percent: Option<f64>,
    /// Trials made in all.
    pub trials: usize,
    /// Time under load in all of them.
    pub test_seconds: Seconds,
    /// Whether a confirming run stands behind the settings.
    pub confirmed: bool,
    /// The trial whose clock line shows the kept settings.
    pub kept_trial: Option<u32>,
    /// All of this in a sentence.
    pub sentence: String,
}

/// How much of a climb is left, at the least and, where the edge is bracketed, at the most (as
/// long as no confirming run fails).
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Outlook {
    /// Trials left if nothing fails any more.
    pub trials: usize,
    /// Their time.
    pub seconds: Seconds,
    /// Whether this is a lower bound only.
    pub at_least: bool,
}

impl Climb {
    /// What the climb would come to if it ended now.
    #[must_use]
    pub fn outcome(&self) -> Outcome {
        let kept = self.kept_offset();
        let stage = if kept == MhzOffset::STOCK { Stage::Baseline } else { Stage::Core };
        let at_kept: Vec<&TrialRecord> = self
            .trials
            .iter()
            .filter(|trial| trial.verdict() == Verdict::Clean && trial.offset() == kept)
            .filter(|trial| trial.stage == stage)
            .collect();
        let best_measured = at_kept
            .iter()
            .filter(|trial| trial.purpose == Purpose::Settle)
            .chain(&at_kept)
            .next()
            .copied();
        let scores: Vec<f64> = at_kept.iter().filter_map(|trial| trial.score).collect();
        let score = median(&scores);
        let gain = score.zip(self.baseline()).map(|(s, base)| gain_percent(s, base.score));
        let confirmed = self.is_confirmed(kept);
        Outcome {
            settings: self.settings_at(kept),
            score,
            gain_percent: gain,
            trials: self.trials.len(),
            test_seconds: self.test_seconds(),
            confirmed,
            kept_trial: best_measured.map(|trial| trial.number),
            sentence: self.sentence(kept, gain, confirmed),
        }
    }

    /// Time under load in all trials made.
    #[must_use]
    pub fn test_seconds(&self) -> Seconds {
        Seconds(self.trials.iter().map(|trial| trial.seconds.value()).sum())
    }

    fn sentence(&self, kept: MhzOffset, gain: Option<f64>, confirmed: bool) -> String {
        match (kept, gain, self.baseline()) {
            (_, _, Some(baseline)) if !self.stages.contains(&Stage::Core) => format!(
                "The baseline stands at score {:.0}, with a noise of {:.2} %.",
                baseline.score,
                baseline.noise.value()
            ),
            (MhzOffset::STOCK, ..) => {
                "Stock is what holds: there is nothing to keep above it.".into()
            }
            (_, Some(gain), _) if confirmed => {
                format!("{kept} holds and brings {gain:+.1} % over the baseline.")
            }
            (_, Some(gain), _) => format!(
                "{kept} brought {gain:+.1} % over the baseline, but no confirming run stands \
                 behind it."
            ),
            (_, None, _) => {
                format!("{kept} is what the trials point to, but no run at it has a score.")
            }
        }
    }

    fn kept_offset(&self) -> MhzOffset {
        if !self.stages.contains(&Stage::Core) {
            return MhzOffset::STOCK;
        }
        match self.ladder().next(&self.trials, true) {
            LadderStep::Kept(value) => value,
            LadderStep::Try { .. } | LadderStep::Stuck(_) => MhzOffset::STOCK,
        }
    }

    /// Whether a long clean run was made at the kept value or above it, below all that failed.
    fn is_confirmed(&self, kept: MhzOffset) -> bool {
        let bracket = self.ladder().bracket(&self.trials);
        kept > MhzOffset::STOCK
            && self.trials.iter().any(|trial| {
                trial.stage == Stage::Core
                    && trial.verdict() == Verdict::Clean
                    && trial.seconds.value() >= self.plan.core.confirm_seconds
                    && trial.offset() >= kept
                    && trial.offset() <= bracket.floor
            })
    }

    /// How much is left.
    #[must_use]
    pub fn outlook(&self) -> Outlook {
        let Self { plan, .. } = self;
        let baseline_left = match self.baseline() {
            Some(_) => 0,
            None => (plan.baseline.runs as usize).saturating_sub(self.baseline_runs()),
        };
        let warm = plan.core.warm_up_seconds;
        let mut seconds = baseline_left as f64 * (plan.baseline.seconds + warm);
        if self.trials.is_empty() {
            seconds += plan.baseline.warm_up_seconds - warm;
        }
        let mut left =
            Outlook { trials: baseline_left, seconds: Seconds(seconds), at_least: false };
        let over = self.stage_is_ended(Stage::Core)
            || matches!(self.ladder().next(&self.trials, false), LadderStep::Kept(_));
        if !self.stages.contains(&Stage::Core) || (over && baseline_left == 0) {
            return left;
        }
        let bracket = self.ladder().bracket(&self.trials);
        let fine = self.ladder().fine().0;
        let steps = match bracket.ceiling {
            Some(failure) => ((failure.value - bracket.floor).0 / fine - 1).max(0) as usize,
            None => 1 + (plan.core.coarse_step_mhz / fine - 1).max(0) as usize,
        };
        left.at_least = bracket.ceiling.is_none();
        left.trials += steps;
        left.seconds.0 += steps as f64 * (plan.core.seconds + warm);
        let confirmed = self.is_confirmed(bracket.floor);
        if !confirmed {
            left.trials += 1;
            left.seconds.0 += plan.core.confirm_seconds + warm;
        }
        if plan.core.margin_steps > 0 {
            left.trials += 1;
            left.seconds.0 += plan.core.settle_seconds + warm;
        }
        left
    }
}
