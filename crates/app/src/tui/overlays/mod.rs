//! What lies over a view: questions, choices, texts that are typed.

pub(crate) mod air_forms;
pub(crate) mod draw;
pub(crate) mod fields;
pub(crate) mod found;
pub mod limits;
pub mod load_list;
pub mod machine;
pub(crate) mod profile_forms;
pub(crate) mod proof_form;
pub(crate) mod questions;
pub(crate) mod settings;
pub(crate) mod stages;
pub(crate) mod weigh_forms;

use yard_step_core::Verdict;
use yard_step_engine::{Command, KeepWhat, SoakWhat};

use crate::tui::overlays::fields::Fields;
use crate::tui::overlays::limits::LimitsForm;
use crate::tui::overlays::load_list::LoadList;
use crate::tui::overlays::machine::Form;
use crate::tui::overlays::settings::SettingsForm;
use crate::tui::views::ledger::browser::Change;
use crate::tui::views::ledger::state::NoteOn;
use crate::tui::widgets::entry::Entry;

/// What lies over the view.
#[derive(Debug, Clone, PartialEq)]
pub enum Overlay {
    /// The keys that work here and now.
    Keys,
    /// All keys, from this line of them on.
    Help(usize),
    /// A question before something risky is done.
    Ask(Question),
    /// Choosing a verdict for a trial.
    Mark {
        /// Its climb.
        climb: i64,
        /// The trial.
        trial: u32,
        /// Place in the list: the verdicts, then "its own".
        chosen: usize,
    },
    /// Naming what is to be kept.
    Keep {
        /// Name, purpose and, for a trial, margin.
        form: Fields,
        /// Whose settings.
        what: KeepWhat,
    },
    /// Naming a profile to be read, and how much it is cut back.
    ImportProfile(Fields),
    /// Saying how settings are soaked.
    Prove {
        /// Loads, length, and what comes after a fault.
        form: Fields,
        /// Whose settings.
        what: SoakWhat,
    },
    /// Noting how loud the fan is at a speed.
    Noise(Fields),
    /// Saying what is wished of a fan curve.
    Budget(Fields),
    /// Noting what stands beside before and after.
    WeighNotes(Fields),
    /// Saying what the page to show is like.
    Page(Fields),
    /// Typing a fan speed in Air.
    FanValue {
        /// As far as it is typed.
        text: Entry,
        /// What it is for.
        label: String,
    },
    /// Typing a number in Shape.
    Value {
        /// As far as it is typed.
        text: Entry,
        /// What it is for.
        label: String,
    },
    /// Typing a number for a setting of a free run.
    FreeValue {
        /// As far as it is typed.
        text: Entry,
        /// The setting.
        label: &'static str,
    },
    /// Choosing the load of a free run: place in the list.
    Loads(usize),
    /// The loads of the climb, and what each is for.
    LoadList(LoadList),
    /// Typing the path of a file.
    Path {
        /// What for.
        what: FileUse,
        /// As far as it is typed.
        text: Entry,
    },
    /// Choosing among the cards of the machine.
    Cards(usize),
    /// Saying what the machine is like.
    Machine(Form),
    /// The card's limit table.
    Limits(Box<LimitsForm>),
    /// Setting what the card offers.
    Settings(Box<SettingsForm>),
    /// Saying how a run of the manual load went: place in the list of verdicts.
    Say(usize),
    /// Typing the figures of a run that only the user saw.
    Score {
        /// What was seen.
        verdict: Verdict,
        /// As far as it is typed.
        text: Entry,
        /// What is wrong with it.
        problem: Option<String>,
    },
    /// The climb's stages, its policy and its margin: place in the list.
    Stages(usize),
    /// Typing what is searched for in Ledger.
    Search {
        /// As far as it is typed.
        text: Entry,
        /// What was searched for before.
        before: String,
    },
    /// Choosing what Ledger lists: place in the panel.
    Filter(usize),
    /// Typing a note.
    Note {
        /// What it is about.
        on: NoteOn,
        /// As far as it is typed.
        text: Entry,
    },
}

/// What a file is wanted for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FileUse {
    /// To write the trace that is shown.
    Export,
    /// To read a trace made elsewhere.
    Import,
    /// To write the pictures of a spoilt frame.
    Picture,
    /// To write a list of trials.
    List,
    /// To write a profile.
    Profile,
    /// To draw the chart that is shown.
    Chart,
}

/// A question, and what is done on yes.
#[derive(Debug, Clone, PartialEq)]
pub struct Question {
    /// What would be done.
    pub what: String,
    /// What would happen.
    pub consequence: String,
    pub(crate) yes: Yes,
}

#[derive(Debug, Clone, PartialEq)]
pub(crate) enum Yes {
    Send(Command),
    Change(Change),
    Quit,
}

/// What can be said of a run that only the user sees; the machine down and a setting that was not
/// taken show by themselves.
pub const SAYABLE: [Verdict; 7] = [
    Verdict::Clean,
    Verdict::Artifacts,
    Verdict::LoadDied,
    Verdict::DriverReset,
    Verdict::Throttled,
    Verdict::Slower,
    Verdict::Void,
];

/// Longest path that can be typed.
pub(crate) const LONGEST_PATH: usize = 200;

/// Longest number that can be typed in Shape.
const LONGEST_NUMBER: usize = 10;

/// Longest line of figures that can be typed.
const LONGEST_FIGURES: usize = 200;

/// The line in which the figures of a run are typed.
pub(crate) fn score_of(verdict: Verdict) -> Overlay {
    Overlay::Score { verdict, text: Entry::new("", LONGEST_FIGURES), problem: None }
}

/// The line in which the path of a file is typed.
pub(crate) fn path_of(what: FileUse, text: String) -> Overlay {
    Overlay::Path { what, text: Entry::new(text, LONGEST_PATH) }
}

/// The line in which a number is typed.
pub(crate) fn value_of(label: String) -> Overlay {
    Overlay::Value { text: Entry::new("", LONGEST_NUMBER), label }
}

/// The line in which a fan speed is typed.
pub(crate) fn fan_value(label: String) -> Overlay {
    Overlay::FanValue { text: Entry::new("", LONGEST_NUMBER), label }
}

/// The line in which a number for a setting of a free run is typed.
pub(crate) fn free_value(label: &'static str) -> Overlay {
    Overlay::FreeValue { text: Entry::new("", LONGEST_NUMBER), label }
}

/// The choice of a verdict for a trial that has one.
pub(crate) fn mark(climb: i64, trial: u32, present: Verdict) -> Overlay {
    let chosen = Verdict::ALL.iter().position(|verdict| *verdict == present);
    Overlay::Mark { climb, trial, chosen: chosen.unwrap_or(Verdict::ALL.len()) }
}
