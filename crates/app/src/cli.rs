//! The arguments, and what is made of them before anything is done.

use std::fs;
use std::path::{Path, PathBuf};

use clap::{Args, Parser, Subcommand};
use directories::ProjectDirs;
use yard_step_card::CardChoice;
use yard_step_core::{Plan, Stage, Verdict};
use yard_step_engine::{Pace, Unfinished};
use yard_step_ledger::DataDir;
use yard_step_scenes::Scene;

use crate::failure::Failure;

/// Finds the highest settings of a graphics card that really hold.
#[derive(Debug, Parser)]
#[command(name = "yard-step", version, arg_required_else_help = true)]
pub(crate) struct Arguments {
    #[command(flatten)]
    pub data_dir: DataDirOption,
    #[command(subcommand)]
    pub command: Command,
}

#[derive(Debug, Args)]
pub(crate) struct DataDirOption {
    /// Directory of the ledger [default: the user's data directory]
    #[arg(long = "data-dir", value_name = "DIR", global = true)]
    path: Option<PathBuf>,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Open the interface on the demo card
    Demo(DemoOptions),
    /// Open the interface on a card
    Open(OpenOptions),
    /// Climb to the outcome without the interface
    Climb(ClimbOptions),
    /// List the cards and what they offer
    Cards(CardsOptions),
    /// Draw the chart of a climb
    Report(ReportOptions),
    /// Write a trace of a stand-in under load, without a climb
    Simulate(SimulateOptions),
}

#[derive(Debug, Args)]
pub(crate) struct DemoOptions {
    /// Pace of the virtual clock: 1, 10, 60 or max
    #[arg(long, default_value = "60", value_parser = parse_pace)]
    pub pace: Pace,
    /// Set an earlier demo aside and begin a new one
    #[arg(long)]
    pub fresh: bool,
}

#[derive(Debug, Args)]
pub(crate) struct CardOptions {
    /// The card, such as standin:tarn-310
    #[arg(long, value_parser = parse_card)]
    pub card: CardChoice,
    /// Which individual of a stand-in
    #[arg(long, default_value_t = 1, value_name = "N", allow_negative_numbers = true)]
    pub seed: u64,
}

#[derive(Debug, Args)]
pub(crate) struct ClimbingOptions {
    #[command(flatten)]
    pub card: CardOptions,
    /// Stages, in order
    #[arg(long, default_value = "baseline,core", value_delimiter = ',', value_parser = parse_stage)]
    pub stages: Vec<Stage>,
    /// Plan of the climb, a TOML file
    #[arg(long, value_name = "FILE")]
    pub plan: Option<PathBuf>,
    /// Give up an unfinished climb on this card and begin a new one
    #[arg(long)]
    pub fresh: bool,
    /// What to make of a trial without an outcome: "machine down" or "void"
    #[arg(long, value_name = "VERDICT", default_value = "machine down", value_parser = parse_unfinished)]
    pub unfinished: Unfinished,
}

#[derive(Debug, Args)]
pub(crate) struct OpenOptions {
    #[command(flatten)]
    pub climbing: ClimbingOptions,
    /// Pace of a stand-in's clock: 1, 10, 60 or max
    #[arg(long, default_value = "1", value_parser = parse_pace)]
    pub pace: Pace,
}

#[derive(Debug, Args)]
pub(crate) struct ClimbOptions {
    #[command(flatten)]
    pub climbing: ClimbingOptions,
    /// Pace of a stand-in's clock: 1, 10, 60 or max
    #[arg(long, default_value = "max", value_parser = parse_pace)]
    pub pace: Pace,
    /// Write the climb as a JSON document
    #[arg(long, value_name = "FILE")]
    pub json: Option<PathBuf>,
    /// Keep the outcome as a profile of this name
    #[arg(long, value_name = "NAME")]
    pub keep: Option<String>,
}

#[derive(Debug, Args)]
pub(crate) struct CardsOptions {
    /// Only this card
    #[arg(long, value_parser = parse_card)]
    pub card: Option<CardChoice>,
    /// Which individual of a stand-in
    #[arg(long, default_value_t = 1, value_name = "N", allow_negative_numbers = true)]
    pub seed: u64,
    /// Also print the true edges of a stand-in, for judging a climb
    #[arg(long)]
    pub reveal: bool,
    /// Print JSON
    #[arg(long)]
    pub json: bool,
}

#[derive(Debug, Args)]
pub(crate) struct SimulateOptions {
    #[command(flatten)]
    pub card: CardOptions,
    /// Settings to run under, a TOML file [default: stock]
    #[arg(long, value_name = "FILE")]
    pub settings: Option<PathBuf>,
    /// Scene to run
    #[arg(long, default_value = "lantern", value_parser = parse_scene)]
    pub scene: Scene,
    /// Length of the run in virtual minutes, up to a week
    #[arg(long, value_name = "M", default_value_t = 15, value_parser = clap::value_parser!(u32).range(1..=10_080))]
    pub minutes: u32,
    /// File to write, ten samples a second
    #[arg(long, value_name = "FILE")]
    pub csv: PathBuf,
}

#[derive(Debug, Args)]
pub(crate) struct ReportOptions {
    /// Number of the climb
    #[arg(long, value_name = "ID", allow_negative_numbers = true)]
    pub climb: i64,
    /// File to write, ending in .svg or .pdf
    #[arg(long, value_name = "FILE")]
    pub out: PathBuf,
}

fn parse_card(text: &str) -> Result<CardChoice, String> {
    text.parse().map_err(|error: yard_step_card::ChoiceError| error.to_string())
}

fn parse_scene(text: &str) -> Result<Scene, String> {
    text.parse().map_err(|error: yard_step_scenes::UnknownScene| error.to_string())
}

fn parse_pace(text: &str) -> Result<Pace, String> {
    text.parse()
}

fn parse_stage(text: &str) -> Result<Stage, String> {
    let known: Vec<&str> = Stage::ALL.iter().map(|stage| stage.label()).collect();
    Stage::from_label(text)
        .ok_or_else(|| format!("there is no stage \"{text}\"; there are: {}", known.join(", ")))
}

fn parse_unfinished(text: &str) -> Result<Unfinished, String> {
    match Verdict::from_label(text) {
        Some(Verdict::MachineDown) => Ok(Unfinished::MachineDown),
        Some(Verdict::Void) => Ok(Unfinished::Void),
        _ => Err("it is either \"machine down\" or \"void\"".into()),
    }
}

impl DataDirOption {
    /// The directory named, or the user's own.
    pub(crate) fn resolve(&self) -> Result<DataDir, Failure> {
        if let Some(path) = &self.path {
            return Ok(DataDir::new(path));
        }
        let own = ProjectDirs::from("", "", "yard-step").ok_or_else(|| {
            Failure::failed("this user has no home directory: name one with --data-dir")
        })?;
        Ok(DataDir::new(own.data_dir()))
    }

    /// A directory of its own below that one.
    pub(crate) fn below(&self, name: &str) -> Result<DataDir, Failure> {
        Ok(DataDir::new(self.resolve()?.path().join(name)))
    }
}

/// Reads a plan from its file; the default plan where none is named.
pub(crate) fn read_plan(path: Option<&Path>) -> Result<Plan, Failure> {
    let Some(path) = path else { return Ok(Plan::default()) };
    let named =
        |cause: &dyn std::fmt::Display| Failure::usage(format!("plan {}: {cause}", path.display()));
    let text = fs::read_to_string(path).map_err(|error| named(&error))?;
    let plan = Plan::from_toml(&text).map_err(|error| named(&error))?;
    plan.scene.parse::<Scene>().map_err(|error| named(&error)).map(|_| plan)
}

#[cfg(test)]
mod tests {
    use super::*;
    use clap::CommandFactory;
    use rstest::rstest;

    #[rstest]
    fn the_arguments_are_consistent() {
        Arguments::command().debug_assert();
    }

    #[rstest]
    #[case("climb --card standin:tarn-999", "there is no card \"standin:tarn-999\"")]
    #[case("climb --card standin:tarn-310 --seed many", "invalid value 'many' for '--seed <N>'")]
    #[case("climb --card standin:tarn-310 --stages baseline,memory", "there are: baseline, core")]
    #[case("climb --card standin:tarn-310 --pace 3", "there are: 1, 10, 60, max")]
    #[case("climb --card standin:tarn-310 --unfinished fine", "machine down")]
    #[case("report --climb one --out x.svg", "invalid value 'one'")]
    #[case("fly", "unrecognized subcommand 'fly'")]
    fn wrong_arguments_are_refused_by_name(#[case] line: &str, #[case] told: &str) {
        let words = std::iter::once("yard-step").chain(line.split(' '));
        let error = Arguments::try_parse_from(words).unwrap_err();
        assert!(error.to_string().contains(told), "{error}");
        assert_eq!(error.exit_code(), 2);
    }
}
