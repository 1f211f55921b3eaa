//! What is asked before an action is carried out.

use jiff::Timestamp;
use yard_step_core::{Meaning, Settings, TrialRecord};
use yard_step_engine::{Activity, Command, KeepWhat, NextView, Snapshot};

use crate::tui::keys::action::Action;
use crate::tui::overlays::limits::LimitsForm;
use crate::tui::overlays::machine::Form;
use crate::tui::overlays::profile_forms::keep_form;
use crate::tui::overlays::settings::SettingsForm;
use crate::tui::overlays::{FileUse, Overlay, Question, Yes, mark, path_of};

/// What has to be asked before an action is carried out.
pub(crate) fn question_before(action: Action, snapshot: &Snapshot) -> Option<Overlay> {
    let ask = |what: String, consequence: String, yes| {
        Some(Overlay::Ask(Question { what, consequence, yes }))
    };
    let running = matches!(snapshot.runs.activity, Activity::Running | Activity::Paused);
    match action {
        Action::Try => {
            if let NextView::Stuck(why) = &snapshot.climb.next {
                let what = "Try the same again?".into();
                return ask(
                    what,
                    yard_step_words::stuck(why),
                    Yes::Send(Command::Try { yes: true }),
                );
            }
            let NextView::Trial { what, risk: Some(risk), .. } = &snapshot.climb.next else {
                return None;
            };
            let what = format!("Try {what} anyway?");
            ask(what, yard_step_words::risk(risk), Yes::Send(Command::Try { yes: true }))
        }
        Action::EndStage => ask(
            format!("End the stage {} now?", snapshot.climb.stage),
            "The climb goes by the trials made so far: the highest value that held, less the \
             margin. What was not confirmed is said to be so."
                .into(),
            Yes::Send(Command::EndStage),
        ),
        Action::NewClimb => ask(
            "Begin another climb?".into(),
            format!(
                "Climb {} stays in the ledger{}. The new one begins with its baseline.",
                snapshot.climb.number,
                if matches!(snapshot.climb.next, NextView::Ended(_)) {
                    ""
                } else {
                    ", as given up"
                }
            ),
            Yes::Send(Command::NewClimb),
        ),
        Action::BackToStock if running || !snapshot.machine.profiles.is_empty() => ask(
            "Return the card to its factory settings?".into(),
            if running {
                "The running trial is stopped and proves nothing. No profile is in use after that."
                    .into()
            } else {
                "No profile is in use after that: the card starts at stock, too. Profiles stay kept."
                    .into()
            },
            Yes::Send(Command::BackToStock),
        ),
        Action::Quit if running => ask(
            "Leave while a trial runs?".into(),
            "The trial is stopped and proves nothing; all others are kept, and the climb goes on \
             from here when it is opened again. The card is put back."
                .into(),
            Yes::Quit,
        ),
        Action::Mark => {
            if let Some(run) = &snapshot.runs.looked_at {
                let verdict = run.judgement.as_ref()?.verdict;
                return Some(mark(run.climb, run.number, verdict));
            }
            let last = snapshot.climb.trials.last()?;
            Some(mark(snapshot.climb.number, last.number, last.verdict()))
        }
        Action::Say => Some(Overlay::Say(0)),
        Action::Keep => {
            let name = format!("climb {}", snapshot.climb.number);
            Some(keep_form(name, KeepWhat::Outcome))
        }
        Action::KeepTrial => {
            let run = snapshot.shown()?;
            let (climb, trial) = (run.climb, run.number);
            let name = format!("trial {trial} of climb {climb}");
            Some(keep_form(name, KeepWhat::Trial { climb, trial }))
        }
        Action::Machine => {
            let (said, card) = (&snapshot.machine.said, &snapshot.machine.card);
            Some(Overlay::Machine(Form::of(said, card, Timestamp::now().as_second())))
        }
        Action::Limits => LimitsForm::of(snapshot).map(|form| Overlay::Limits(Box::new(form))),
        Action::Cards => Some(Overlay::Cards(snapshot.machine.present)),
        Action::Settings => {
            let form = SettingsForm::of(&snapshot.machine.card, settings_to_begin_with(snapshot));
            Some(Overlay::Settings(Box::new(form)))
        }
        Action::Export => {
            let shown = snapshot.shown();
            let (climb, number) =
                shown.map_or((snapshot.climb.number, 0), |run| (run.climb, run.number));
            let text = format!("climb-{climb}-trial-{number}.csv");
            Some(path_of(FileUse::Export, text))
        }
        Action::Import => Some(path_of(FileUse::Import, String::new())),
        _ => None,
    }
}

/// What settings of the user's own begin with: those of the trial looked at, of the newest trial that held, or
/// what the card holds.
fn settings_to_begin_with(snapshot: &Snapshot) -> Option<Settings> {
    let looked_at = snapshot.runs.looked_at.as_ref().and_then(|run| run.taken);
    let mut trials = snapshot.climb.trials.iter().rev();
    let held = trials.find(|trial| trial.verdict().meaning() == Meaning::Holds);
    looked_at.or_else(|| held.map(TrialRecord::held)).or(snapshot.machine.held)
}
