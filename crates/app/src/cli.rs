//! The arguments, and what is made of them before anything is done.

use std::path::{Path, PathBuf};

use clap::{Args, Parser, Subcommand};
use directories::ProjectDirs;
use yard_step_card::{CardChoice, CardName};
use yard_step_core::{AlarmAct, AlarmOn, Case, Cost, Margin, Plan, Policy, Stage, Verdict};
use yard_step_engine::load::{Level, OutsideSpec};
use yard_step_engine::{Loads, Pace, Unfinished};
use yard_step_ledger::DataDir;
use yard_step_scenes::Scene;

use crate::config;
use crate::failure::Failure;
use crate::input;
use crate::output::Overwrite;
use crate::tui::CUT_BACK;
use crate::weigh::parse_cost;

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
    /// Configuration, a TOML file [default: the user's]
    #[arg(long, value_name = "FILE", global = true)]
    config: Option<PathBuf>,
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
    /// Run a scene once through on a stand-in, for its score
    Pass(PassOptions),
    /// Climb on many stand-ins by each policy, and see what that finds and costs
    Study(StudyOptions),
    /// Say what the machine around the cards is like, or see what was said
    Machine(MachineOptions),
    /// Read a trace made elsewhere and tell what is in it
    Import(ImportOptions),
    /// List, use, export, import and delete what was kept of a card
    Profile(ProfileOptions),
    /// Weigh work against watts, degrees or decibels, from every run on a card
    Weigh(WeighOptions),
    /// Host a stand-in
    #[command(hide = true)]
    Slot(SlotOptions),
    /// Hold the way back of a card
    #[command(hide = true)]
    Guard(GuardOptions),
    /// Run a scene on a card and tell about it line by line
    #[command(hide = true)]
    Load(LoadOptions),
}

#[derive(Debug, Args)]
pub(crate) struct SlotOptions {
    /// The stand-in, such as standin:tarn-310#7
    #[arg(long, value_parser = parse_name)]
    pub card: CardName,
    /// Release of the driver
    #[arg(long, default_value_t = 1)]
    pub driver: u32,
    /// Course that chance takes
    #[arg(long, default_value_t = 0)]
    pub course: u64,
    /// Where it is reached
    #[arg(long)]
    pub address: String,
    /// Let visitors have it go wrong on purpose
    #[arg(long)]
    pub inject_faults: bool,
}

#[derive(Debug, Args)]
pub(crate) struct GuardOptions {
    /// Where the card is reached
    #[arg(long)]
    pub slot: String,
    /// The card's lock
    #[arg(long)]
    pub lock: PathBuf,
    /// Where to write down what was done
    #[arg(long)]
    pub log: PathBuf,
}

#[derive(Debug, Args)]
pub(crate) struct LoadOptions {
    /// Scene to run
    #[arg(long, value_parser = parse_scene)]
    pub scene: Scene,
    /// Where the card is reached
    #[arg(long)]
    pub slot: String,
    /// "pass": once through; "soak": until it is told to stop
    #[arg(long, default_value = "soak", value_parser = parse_level)]
    pub level: Level,
}

fn parse_level(text: &str) -> Result<Level, String> {
    match text {
        "pass" => Ok(Level::Pass),
        "soak" => Ok(Level::Soak),
        other => Err(format!("there is no level \"{other}\"; there are: pass, soak")),
    }
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
    /// The card, such as standin:tarn-310, or with its unit, standin:tarn-310#7
    #[arg(long, value_parser = parse_card_and_unit)]
    pub card: (CardChoice, Option<u64>),
    /// Which unit of a stand-in [default: 1]
    #[arg(long, value_name = "N", allow_negative_numbers = true, value_parser = parse_whole)]
    pub seed: Option<u64>,
    /// Release of the driver that a stand-in's machine runs
    #[arg(long, default_value_t = 1, value_name = "N", value_parser = clap::value_parser!(u32).range(1..=1_000))]
    pub driver: u32,
}

impl CardOptions {
    /// The unit that is meant.
    pub(crate) fn name(&self) -> Result<CardName, Failure> {
        let (choice, named) = &self.card;
        let seed = match (named, self.seed) {
            (Some(named), Some(seed)) if *named != seed => {
                return Err(Failure::usage(format!(
                    "--card names unit {named} and --seed unit {seed}: name one of them"
                )));
            }
            (named, seed) => named.or(seed).unwrap_or(1),
        };
        Ok(CardName { choice: choice.clone(), seed, driver: self.driver })
    }
}

#[derive(Debug, Args)]
pub(crate) struct ClimbingOptions {
    #[command(flatten)]
    pub card: CardOptions,
    /// Another card of the same kind to hold in step, such as standin:tarn-310#8
    #[arg(long, value_name = "CARD", value_parser = parse_name)]
    pub in_step: Vec<CardName>,
    /// Stages, in order [default: baseline,power,core,memory,together, as far as the card can do them]
    #[arg(long, value_delimiter = ',', value_parser = parse_stage)]
    pub stages: Vec<Stage>,
    /// How steps are chosen: fixed-step, bisection or bayesian [default: the plan's]
    #[arg(long, value_name = "POLICY", value_parser = parse_policy)]
    pub policy: Option<Policy>,
    /// What the settings are to be good for: record, daily or gift [default: the plan's]
    #[arg(long, value_name = "FOR", value_parser = parse_margin)]
    pub margin: Option<Margin>,
    /// Load to run: a scene, a load of the configuration, or "manual" [default: the plan's]
    #[arg(long, value_name = "NAME")]
    pub load: Option<String>,
    /// Plan of the climb, a TOML file
    #[arg(long, value_name = "FILE")]
    pub plan: Option<PathBuf>,
    /// Give up an unfinished climb on this card and begin a new one
    #[arg(long)]
    pub fresh: bool,
    /// Raise the power limit though the power supply is short
    #[arg(long)]
    pub over_supply: bool,
    /// What to make of a trial without an outcome: "machine down" or "void"
    #[arg(long, value_name = "VERDICT", default_value = "machine down", value_parser = parse_unfinished)]
    pub unfinished: Unfinished,
}

#[derive(Debug, Args)]
pub(crate) struct OpenOptions {
    #[command(flatten)]
    pub climbing: ClimbingOptions,
    /// Another card of the same machine, such as standin:quern-540#3
    #[arg(long, value_name = "CARD", value_parser = parse_name)]
    pub also: Vec<CardName>,
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
    /// Write the climb as a JSON document; - is standard output
    #[arg(long, value_name = "FILE")]
    pub json: Option<PathBuf>,
    #[command(flatten)]
    pub overwrite: Overwrite,
    /// Keep the outcome as a profile of this name
    #[arg(long, value_name = "NAME")]
    pub keep: Option<String>,
    /// What the profile is for, in your words
    #[arg(long, value_name = "TEXT", requires = "keep", default_value = "")]
    pub purpose: String,
}

#[derive(Debug, Args)]
pub(crate) struct CardsOptions {
    /// Only this card
    #[arg(long, value_parser = parse_card)]
    pub card: Option<CardChoice>,
    /// Which individual of a stand-in
    #[arg(long, default_value_t = 1, value_name = "N", allow_negative_numbers = true, value_parser = parse_whole)]
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
    /// File to write, ten samples a second; - is standard output
    #[arg(long, value_name = "FILE")]
    pub csv: PathBuf,
    #[command(flatten)]
    pub overwrite: Overwrite,
}

#[derive(Debug, Args)]
pub(crate) struct PassOptions {
    #[command(flatten)]
    pub card: CardOptions,
    /// Scene to run
    #[arg(long, default_value = "lantern", value_parser = parse_scene)]
    pub scene: Scene,
    /// Settings to run under, a TOML file [default: stock]
    #[arg(long, value_name = "FILE")]
    pub settings: Option<PathBuf>,
    /// How often; the first passes are those of a cold card
    #[arg(long, value_name = "N", default_value_t = 1, value_parser = clap::value_parser!(u32).range(1..=10_000))]
    pub passes: u32,
    /// Print JSON
    #[arg(long)]
    pub json: bool,
}

#[derive(Debug, Args)]
pub(crate) struct StudyOptions {
    /// How many cards
    #[arg(long, value_name = "N", default_value_t = 60, value_parser = clap::value_parser!(u32).range(1..=100_000))]
    pub cards: u32,
    /// Seed of the first card; the others follow it
    #[arg(long, value_name = "N", default_value_t = 1000, value_parser = parse_whole)]
    pub first_seed: u64,
    /// Kinds of cards, such as standin:tarn-310 [default: all in turn; for strategies those with a V/F curve]
    #[arg(long, value_name = "KINDS", value_delimiter = ',', value_parser = parse_card)]
    pub kinds: Vec<CardChoice>,
    /// Policies: fixed-step, bisection, bayesian [default: all]
    #[arg(long, value_name = "POLICIES", value_delimiter = ',', value_parser = parse_policy)]
    pub policies: Vec<Policy>,
    /// Study the strategies of undervolting instead, on cards that power holds back: cooler, less,
    /// middle, highest
    #[arg(long, value_name = "STRATEGIES", value_delimiter = ',', value_parser = parse_strategy)]
    pub strategies: Vec<Stage>,
    /// Load of the climbs [default: the plan's; kiln for strategies]
    #[arg(long, value_name = "NAME")]
    pub load: Option<String>,
    /// What the settings are to be good for: record, daily or gift [default: the plan's]
    #[arg(long, value_name = "FOR", value_parser = parse_margin)]
    pub margin: Option<Margin>,
    /// Plan of the climbs, a TOML file
    #[arg(long, value_name = "FILE")]
    pub plan: Option<PathBuf>,
    /// How many times as slowly faults set in with clock as they usually do, 0.2 to 5
    #[arg(long, value_name = "F", default_value_t = 1.0, value_parser = parse_flatter)]
    pub flatter: f64,
    /// Write everything as JSON
    #[arg(long, value_name = "FILE")]
    pub json: Option<PathBuf>,
    /// Write a row for each climb as CSV
    #[arg(long, value_name = "FILE")]
    pub csv: Option<PathBuf>,
    /// Draw gaps against time as SVG
    #[arg(long, value_name = "FILE")]
    pub svg: Option<PathBuf>,
    #[command(flatten)]
    pub overwrite: Overwrite,
}

#[derive(Debug, Args)]
pub(crate) struct MachineOptions {
    /// Temperature of the room, °C
    #[arg(long, value_name = "C", allow_negative_numbers = true)]
    pub ambient: Option<f64>,
    /// Whether the case is open or closed
    #[arg(long, value_name = "CASE", value_parser = parse_case)]
    pub case: Option<Case>,
    /// Rated power of the supply, W
    #[arg(long, value_name = "W", allow_negative_numbers = true)]
    pub supply: Option<f64>,
    /// Most that the rest of the machine draws, W
    #[arg(long, value_name = "W", allow_negative_numbers = true)]
    pub rest: Option<f64>,
    /// Noise of the card at full fan, as you measure it where you sit, dB(A)
    #[arg(long, value_name = "DB", allow_negative_numbers = true)]
    pub noise: Option<f64>,
    /// An alarm such as hot-spot=95:stop; instead of a threshold, "off" takes it away
    #[arg(long, value_name = "WHAT=ABOVE:ACT", value_parser = parse_alarm)]
    pub alarm: Vec<AlarmChange>,
    /// Print JSON
    #[arg(long)]
    pub json: bool,
}

/// An alarm to be set, or to be taken away.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct AlarmChange {
    pub on: AlarmOn,
    pub to: Option<(f64, AlarmAct)>,
}

#[derive(Debug, Args)]
pub(crate) struct ImportOptions {
    /// The trace, a CSV file
    #[arg(value_name = "FILE")]
    pub file: PathBuf,
    /// Write what was read as a trace of ours
    #[arg(long, value_name = "FILE")]
    pub csv: Option<PathBuf>,
    #[command(flatten)]
    pub overwrite: Overwrite,
}

#[derive(Debug, Args)]
pub(crate) struct ProfileOptions {
    #[command(flatten)]
    pub card: CardOptions,
    #[command(subcommand)]
    pub command: ProfileCommand,
}

#[derive(Debug, Subcommand)]
pub(crate) enum ProfileCommand {
    /// List the profiles of the card, with what each stands on
    List {
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// Have the card put to a profile at each start, as far as it is proven
    Use {
        /// Name of the profile
        #[arg(required_unless_present = "none", conflicts_with = "none")]
        name: Option<String>,
        /// Have the card start at stock
        #[arg(long)]
        none: bool,
    },
    /// Write a profile as JSON
    Export {
        /// Name of the profile
        name: String,
        /// File to write
        #[arg(long, value_name = "FILE")]
        out: PathBuf,
        #[command(flatten)]
        overwrite: Overwrite,
    },
    /// Read a profile from JSON as a starting point: cut back, and not trusted
    Import {
        /// The file
        #[arg(value_name = "FILE")]
        file: PathBuf,
        /// Share of the way from stock that is taken off, percent
        #[arg(long, value_name = "PERCENT", default_value_t = CUT_BACK, value_parser = parse_percent, allow_negative_numbers = true)]
        cut_back: f64,
        /// Name to keep it under [default: its own]
        #[arg(long, value_name = "NAME")]
        name: Option<String>,
    },
    /// Delete a profile; its trials stay
    Drop {
        /// Name of the profile
        name: String,
    },
}

#[derive(Debug, Args)]
pub(crate) struct WeighOptions {
    #[command(flatten)]
    pub card: CardOptions,
    /// What work is weighed against: watts, degrees or decibels
    #[arg(long, value_name = "COST", default_value = "watts", value_parser = parse_cost)]
    pub against: Cost,
    /// Load whose runs are weighed [default: the one with the most runs]
    #[arg(long, value_name = "NAME")]
    pub load: Option<String>,
    /// Chart to draw, a new file ending in .svg or .pdf
    #[arg(long, value_name = "FILE", conflicts_with = "json")]
    pub out: Option<PathBuf>,
    #[command(flatten)]
    pub overwrite: Overwrite,
    /// Print JSON
    #[arg(long)]
    pub json: bool,
}

#[derive(Debug, Args)]
pub(crate) struct ReportOptions {
    /// Number of the climb
    #[arg(long, value_name = "ID", allow_negative_numbers = true)]
    pub climb: i64,
    /// File to write, ending in .svg or .pdf; - is standard output
    #[arg(long, value_name = "FILE")]
    pub out: PathBuf,
    #[command(flatten)]
    pub overwrite: Overwrite,
}

fn parse_card(text: &str) -> Result<CardChoice, String> {
    text.parse().map_err(|error: yard_step_card::ChoiceError| error.to_string())
}

fn parse_card_and_unit(text: &str) -> Result<(CardChoice, Option<u64>), String> {
    let (kind, unit) = match text.split_once('#') {
        Some((kind, unit)) => (kind, Some(parse_whole(unit)?)),
        None => (text, None),
    };
    Ok((parse_card(kind)?, unit))
}

fn parse_whole(text: &str) -> Result<u64, String> {
    text.parse().map_err(|_| format!("\"{text}\" is not a whole number from 0 to {}", u64::MAX))
}

fn parse_name(text: &str) -> Result<CardName, String> {
    text.parse().map_err(|error: yard_step_card::ChoiceError| error.to_string())
}

fn parse_case(text: &str) -> Result<Case, String> {
    [Case::Open, Case::Closed]
        .into_iter()
        .find(|case| case.label() == text)
        .ok_or_else(|| "it is either open or closed".into())
}

fn parse_alarm(text: &str) -> Result<AlarmChange, String> {
    let (what, then) =
        text.split_once('=').ok_or("an alarm is WHAT=ABOVE:ACT, such as hot-spot=95:stop")?;
    let name = |on: AlarmOn| on.label().replace(' ', "-");
    let on = AlarmOn::ALL.into_iter().find(|on| name(*on) == what).ok_or_else(|| {
        let all: Vec<String> = AlarmOn::ALL.into_iter().map(name).collect();
        format!("there is no alarm on \"{what}\"; there are: {}", all.join(", "))
    })?;
    if then == "off" {
        return Ok(AlarmChange { on, to: None });
    }
    let (above, act) = then.split_once(':').unwrap_or((then, "warn"));
    let above = above.parse().map_err(|_| format!("\"{above}\" is not a number"))?;
    let act_name = |act: AlarmAct| act.label().replace(' ', "-");
    let act = AlarmAct::ALL.into_iter().find(|known| act_name(*known) == act).ok_or_else(|| {
        let all: Vec<String> = AlarmAct::ALL.into_iter().map(act_name).collect();
        format!("an alarm cannot \"{act}\"; it can: {}", all.join(", "))
    })?;
    Ok(AlarmChange { on, to: Some((above, act)) })
}

fn parse_policy(text: &str) -> Result<Policy, String> {
    let all = Policy::ALL.map(Policy::label).join(", ");
    Policy::from_label(text)
        .ok_or_else(|| format!("there is no policy \"{text}\"; there are: {all}"))
}

fn parse_margin(text: &str) -> Result<Margin, String> {
    let all = Margin::ALL.map(Margin::label).join(", ");
    Margin::from_label(text)
        .ok_or_else(|| format!("there is no margin \"{text}\"; there are: {all}"))
}

fn parse_percent(text: &str) -> Result<f64, String> {
    let value: f64 = text.parse().map_err(|_| format!("\"{text}\" is not a number"))?;
    if (0.0..=100.0).contains(&value) { Ok(value) } else { Err("it must be 0 to 100".into()) }
}

fn parse_flatter(text: &str) -> Result<f64, String> {
    let value: f64 = text.parse().map_err(|_| format!("\"{text}\" is not a number"))?;
    if (0.2..=5.0).contains(&value) { Ok(value) } else { Err("it must be 0.2 to 5".into()) }
}

fn parse_scene(text: &str) -> Result<Scene, String> {
    text.parse().map_err(|error: yard_step_scenes::UnknownScene| error.to_string())
}

fn parse_pace(text: &str) -> Result<Pace, String> {
    text.parse()
}

fn parse_stage(text: &str) -> Result<Stage, String> {
    let known: Vec<&str> = Stage::PLANNED.iter().map(|stage| stage.label()).collect();
    Stage::PLANNED
        .into_iter()
        .find(|stage| stage.label() == text)
        .ok_or_else(|| format!("there is no stage \"{text}\"; there are: {}", known.join(", ")))
}

fn parse_strategy(text: &str) -> Result<Stage, String> {
    let strategies = || Stage::PLANNED.into_iter().filter(|stage| stage.is_undervolting());
    let known: Vec<&str> = strategies().map(Stage::label).collect();
    strategies()
        .find(|stage| stage.label() == text)
        .ok_or_else(|| format!("there is no strategy \"{text}\"; there are: {}", known.join(", ")))
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

    /// The user's own loads.
    pub(crate) fn loads(&self) -> Result<Vec<OutsideSpec>, Failure> {
        let usual = ProjectDirs::from("", "", "yard-step");
        config::read(self.config.as_deref(), usual.map(|own| own.config_dir().join("config.toml")))
    }

    /// A directory of its own below that one.
    pub(crate) fn below(&self, name: &str) -> Result<DataDir, Failure> {
        Ok(DataDir::new(self.resolve()?.path().join(name)))
    }
}

/// Reads a plan from its file; the default plan where none is named.
pub(crate) fn read_plan(path: Option<&Path>, loads: &Loads) -> Result<Plan, Failure> {
    let Some(path) = path else { return Ok(Plan::default()) };
    let named =
        |cause: &dyn std::fmt::Display| Failure::usage(format!("plan {}: {cause}", path.display()));
    let text = input::text(path).map_err(|error| named(&error))?;
    let plan = Plan::from_toml(&text).map_err(|error| named(&error))?;
    loads.know(&plan.scene).map_err(|error| named(&error)).map(|()| plan)
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
    #[case(
        "climb --card standin:tarn-310 --stages baseline,voltage",
        "there are: baseline, power, core"
    )]
    #[case("climb --card standin:tarn-310 --pace 3", "there are: 1, 10, 60, max")]
    #[case("climb --card standin:tarn-310 --unfinished fine", "machine down")]
    #[case("report --climb one --out x.svg", "invalid value 'one'")]
    #[case("open --card standin:tarn-310 --also tarn", "there is no card \"tarn\"")]
    #[case("climb --card standin:tarn-310 --driver 0", "0 is not in 1..=1000")]
    #[case("study --policies hopeful", "there are: fixed-step, bisection, bayesian")]
    #[case("study --flatter 9", "it must be 0.2 to 5")]
    #[case("study --cards 0", "0 is not in 1..=100000")]
    #[case("climb --card standin:tarn-310 --margin none", "there are: record, daily, gift")]
    #[case("machine --case ajar", "either open or closed")]
    #[case("machine --alarm hot-spot", "WHAT=ABOVE:ACT")]
    #[case("machine --alarm fan=95:stop", "there are: core-temperature, hot-spot, board-power")]
    #[case("machine --alarm hot-spot=x:stop", "\"x\" is not a number")]
    #[case("machine --alarm hot-spot=95:shout", "it can: warn, stop, put-back")]
    #[case("fly", "unrecognized subcommand 'fly'")]
    fn wrong_arguments_are_refused_by_name(#[case] line: &str, #[case] told: &str) {
        let words = std::iter::once("yard-step").chain(line.split(' '));
        let error = Arguments::try_parse_from(words).unwrap_err();
        assert!(error.to_string().contains(told), "{error}");
        assert_eq!(error.exit_code(), 2);
    }
}
