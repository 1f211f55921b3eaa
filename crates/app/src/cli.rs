//! The command line: which commands there are. What each is told stands with it.

use std::path::PathBuf;

use clap::{Parser, Subcommand};

use crate::commands::{
    CardsOptions, CeilingOptions, ClimbOptions, DemoOptions, GuardOptions, ImportOptions,
    KeeperOptions, LearntOptions, LoadOptions, MachineOptions, OpenOptions, PassOptions,
    ProfileOptions, ProveOptions, ReportOptions, SimulateOptions, SlotOptions, StatusOptions,
    StudyOptions, WatchOptions, WeighOptions, WithProfileOptions,
};
use crate::options::DataDirOption;

/// Finds the highest settings of a graphics card that really hold.
#[derive(Debug, Parser)]
#[command(name = "yard-step", version, arg_required_else_help = true)]
pub(crate) struct Arguments {
    #[command(flatten)]
    pub data_dir: DataDirOption,
    /// Write what all processes do to this file; YARD_STEP_LOG=debug writes more
    #[arg(long, value_name = "FILE", global = true)]
    pub log: Option<PathBuf>,
    #[command(subcommand)]
    pub command: Command,
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
    /// Show the limits that a card's maker has set, and move them for the next start of the machine
    Ceiling(CeilingOptions),
    /// Draw the chart of a climb
    Report(ReportOptions),
    /// Write a trace of a stand-in under load, without a climb
    Simulate(SimulateOptions),
    /// Run a scene once through on a stand-in, for its score
    Pass(PassOptions),
    /// Climb on many stand-ins by each policy, and show what that finds and costs
    Study(StudyOptions),
    /// Show what earlier climbs have taught about each kind of card, or reset it
    Learnt(LearntOptions),
    /// Describe the machine around the cards, or show what was said
    Machine(MachineOptions),
    /// Read a trace made elsewhere and say what is in it
    Import(ImportOptions),
    /// List, use, export, import and delete what was kept of a card
    Profile(ProfileOptions),
    /// Soak settings under many loads for hours, and say how sure they are
    Prove(ProveOptions),
    /// Weigh work against watts, degrees or decibels, from every run on a card
    Weigh(WeighOptions),
    /// Tell what the running sessions are doing
    Status(StatusOptions),
    /// Put the card to a profile while a program runs, and back when that ends
    WithProfile(WithProfileOptions),
    /// Record everyday use of the card as evidence, while no load of Yard Step runs
    Watch(WatchOptions),
    /// Write to real cards for those who may, and put them back: run as root
    Keeper(KeeperOptions),
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

impl Command {
    /// What the process is called in the log.
    pub(crate) const fn process(&self) -> &'static str {
        match self {
            Self::Slot(_) => "slot",
            Self::Guard(_) => "guard",
            Self::Keeper(_) => "keeper",
            Self::Load(_) => "load",
            _ => "yard-step",
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use clap::CommandFactory;
    use rstest::rstest;

    #[test]
    fn the_arguments_are_consistent() {
        Arguments::command().debug_assert();
    }

    #[rstest]
    #[case("study --kinds standin:tarn-310,standin:quern-540 --start-above -2")]
    #[case("climb --card standin:tarn-310 --start core=+120,memory=6%,voltage=-80")]
    #[case("open --card standin:tarn-310#4 --start-from trial:3/7")]
    fn arguments_are_taken(#[case] line: &str) {
        let words = std::iter::once("yard-step").chain(line.split(' '));
        Arguments::try_parse_from(words).unwrap();
    }

    #[rstest]
    #[case("study --start-above 20", "it must be -10 to 10")]
    #[case("study --kinds tarn", "there is no card \"tarn\"")]
    #[case("climb --card standin:tarn-310 --start core", "write core=+120")]
    #[case(
        "climb --card standin:tarn-310 --start core=60 --start-from gaming",
        "cannot be used with"
    )]
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
    #[case(
        "machine --alarm fan=95:stop",
        "there are: core-temperature, hot-spot, memory-temperature"
    )]
    #[case("machine --alarm hot-spot=x:stop", "\"x\" is not a number")]
    #[case("machine --alarm hot-spot=95:shout", "there are: warn, stop, put-back")]
    #[case("fly", "unrecognized subcommand 'fly'")]
    fn wrong_arguments_are_refused_by_name(#[case] line: &str, #[case] told: &str) {
        let words = std::iter::once("yard-step").chain(line.split(' '));
        let error = Arguments::try_parse_from(words).unwrap_err();
        assert!(error.to_string().contains(told), "{error}");
        assert_eq!(error.exit_code(), 2);
    }
}
