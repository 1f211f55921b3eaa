//! Arguments that several commands share, and what is made of them.

use std::net::SocketAddr;
use std::path::{Path, PathBuf};

use clap::Args;
use directories::ProjectDirs;
use yard_step_card::{CardAddress, ChoiceError, Family};
use yard_step_core::{Margin, Plan, Policy, Stage, Verdict};
use yard_step_engine::load::OutsideSpec;
use yard_step_engine::{Loads, Pace, Unfinished};
use yard_step_ledger::DataDir;
use yard_step_scenes::SizedScene;
use yard_step_study::{family_names, shipped_family};

use crate::failure::{Failure, there_is_no};
use crate::metrics::{Page, parse_listen};
use crate::start::{StartFrom, StartValue, parse_start, parse_start_from};
use crate::{config, input};

#[derive(Debug, Args)]
pub(crate) struct DataDirOption {
    /// Directory of the ledger [default: the user's data directory]
    #[arg(long = "data-dir", value_name = "DIR", global = true)]
    path: Option<PathBuf>,
    /// Configuration, a TOML file [default: the user's]
    #[arg(long, value_name = "FILE", global = true)]
    config: Option<PathBuf>,
}

#[derive(Debug, Args)]
pub(crate) struct CardOptions {
    /// The card: a stand-in, such as standin:tarn-310#7, or a real one, kernel or kernel:0000:03:00.0
    #[arg(long, value_parser = parse_card)]
    pub card: NamedCard,
    /// Which unit of a stand-in [default: 1]
    #[arg(long, value_name = "N", allow_negative_numbers = true, value_parser = parse_whole)]
    pub seed: Option<u64>,
    /// Release of the driver that a stand-in's machine runs
    #[arg(long, default_value_t = 1, value_name = "N", value_parser = clap::value_parser!(u32).range(1..=1_000))]
    pub driver: u32,
    /// Family of a stand-in whose physics differ: the name of one that ships, or a file; as in standin:tarn-310#7@gentle
    #[arg(long, value_name = "FAMILY")]
    pub physics: Option<String>,
    /// Where the kernel shows its devices, in place of /sys
    #[arg(long, value_name = "DIR")]
    pub sysfs: Option<PathBuf>,
    /// Socket of the keeper of real cards [default: /run/yard-step/keeper.sock]
    #[arg(long, value_name = "SOCKET")]
    pub keeper: Option<PathBuf>,
    /// Draw the scenes of a real card by the software Vulkan driver, to try them out
    #[arg(long)]
    pub software_gpu: bool,
}

/// A card as it was named on the command line.
#[derive(Debug, Clone)]
pub(crate) struct NamedCard {
    address: CardAddress,
    /// The unit that the name itself gives.
    unit: Option<u64>,
}

impl NamedCard {
    /// The card with its unit, which its name or `--seed` gives; 1 where neither does.
    pub(crate) fn with_seed(&self, seed: Option<u64>) -> Result<CardAddress, Failure> {
        match (self.unit, seed) {
            (Some(named), Some(seed)) if named != seed => Err(Failure::usage(format!(
                "--card names unit {named} and --seed unit {seed}: name one of them"
            ))),
            (named, seed) => Ok(self.address.with_unit(named.or(seed).unwrap_or(1))),
        }
    }
}

impl CardOptions {
    /// The card that is meant.
    pub(crate) fn address(&self) -> Result<CardAddress, Failure> {
        let card = self.card.with_seed(self.seed)?.with_driver(self.driver);
        let stand_ins_only = self.seed.is_some() || self.physics.is_some() || self.driver != 1;
        if !card.is_simulated() && stand_ins_only {
            return Err(Failure::usage(
                "--seed, --driver and --physics are for stand-ins: a real card is as it is",
            ));
        }
        let card = self.found(&card)?;
        match &self.physics {
            None => Ok(card),
            Some(name) => Ok(card.of_family(&whole_path(name), family_named(name)?)),
        }
    }

    /// Other cards of the same machine.
    pub(crate) fn found_all(&self, cards: &[CardAddress]) -> Result<Vec<CardAddress>, Failure> {
        cards.iter().map(|card| self.found(card)).collect()
    }

    /// A card of the same machine, where this one is found.
    fn found(&self, card: &CardAddress) -> Result<CardAddress, Failure> {
        let found = card.found_at(self.sysfs.as_deref(), self.keeper.as_deref());
        let found = if self.software_gpu { found.drawn_in_software() } else { found };
        found.looked_up().map_err(Failure::usage)
    }
}

#[derive(Debug, Args)]
pub(crate) struct ClimbingOptions {
    #[command(flatten)]
    pub card: CardOptions,
    /// Another card of the same kind to hold in step, such as standin:tarn-310#8
    #[arg(long, value_name = "CARD", value_parser = parse_address)]
    pub in_step: Vec<CardAddress>,
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
    /// Loads under which what is found is run once more, in this order [default: the plan's, none]
    #[arg(long, value_name = "NAMES", value_delimiter = ',')]
    pub cross_check: Vec<String>,
    /// Plan of the climb, a TOML file
    #[arg(long, value_name = "FILE")]
    pub plan: Option<PathBuf>,
    /// Careful values in about half an hour, checked briefly and not proven
    #[arg(long, conflicts_with = "plan")]
    pub quick: bool,
    /// Start from values said to hold instead of stock, and work up to them from below: core=+120,memory=+6%,voltage=-80
    #[arg(long, value_name = "VALUES", value_delimiter = ',', value_parser = parse_start)]
    pub start: Vec<StartValue>,
    /// Start from the settings of a profile, by its name, or of a trial: trial:3/7 is trial 7 of climb 3
    #[arg(long, value_name = "PROFILE", conflicts_with = "start", value_parser = parse_start_from)]
    pub start_from: Option<StartFrom>,
    /// Serve what the session is doing as OpenMetrics, read-only: a port for this machine only, or ADDRESS:PORT
    #[arg(long, value_name = "PORT", value_parser = parse_listen)]
    pub listen: Option<SocketAddr>,
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
        config::read(self.config.as_deref(), usual_config())
    }

    /// The configuration that was named, or the user's own.
    pub(crate) fn config_path(&self) -> Option<PathBuf> {
        self.config.clone().or_else(usual_config)
    }

    /// A directory of its own below that one.
    pub(crate) fn below(&self, name: &str) -> Result<DataDir, Failure> {
        Ok(DataDir::new(self.resolve()?.path().join(name)))
    }
}

impl ClimbingOptions {
    /// The page that the session is served on, where it is, and what there is to say of it.
    pub(crate) fn page(&self) -> Result<(Option<Page>, Option<String>), Failure> {
        let Some(address) = self.listen else { return Ok((None, None)) };
        let page = Page::default();
        let bound = page.listen(address)?;
        Ok((Some(page), Some(format!("Served as OpenMetrics: http://{bound}/metrics."))))
    }
}

fn usual_config() -> Option<PathBuf> {
    ProjectDirs::from("", "", "yard-step").map(|own| own.config_dir().join("config.toml"))
}

/// The quick plan, or the one that is named.
pub(crate) fn chosen_plan(
    quick: bool,
    path: Option<&Path>,
    loads: &Loads,
) -> Result<Plan, Failure> {
    if quick { Ok(Plan::quick()) } else { read_plan(path, loads) }
}

/// Reads a plan from its file; the default plan where none is named.
fn read_plan(path: Option<&Path>, loads: &Loads) -> Result<Plan, Failure> {
    let Some(path) = path else { return Ok(Plan::default()) };
    let named =
        |cause: &dyn std::fmt::Display| Failure::usage(format!("plan {}: {cause}", path.display()));
    let text = input::text(path).map_err(|error| named(&error))?;
    let plan = Plan::from_toml(&text).map_err(|error| named(&error))?;
    for load in plan.loads() {
        loads.know(load).map_err(|error| named(&error))?;
    }
    Ok(plan)
}

/// Reads a card's name, with its unit or without.
pub(crate) fn parse_card(text: &str) -> Result<NamedCard, String> {
    let card = text.split_once('@').map_or(text, |(card, _)| card);
    let unit = card.split_once('#').map(|(_, unit)| parse_whole(unit)).transpose()?;
    Ok(NamedCard { address: parse_address(text)?, unit })
}

pub(crate) fn parse_whole(text: &str) -> Result<u64, String> {
    text.parse().map_err(|_| format!("\"{text}\" is not a whole number from 0 to {}", u64::MAX))
}

pub(crate) fn parse_address(text: &str) -> Result<CardAddress, String> {
    let (card, family) = match text.split_once('@') {
        None => (text, None),
        Some((card, family)) => (card, Some(family)),
    };
    let card: CardAddress = card.parse().map_err(|error: ChoiceError| error.to_string())?;
    let Some(name) = family else { return Ok(card) };
    let family = family_named(name).map_err(|failure| failure.text().to_owned())?;
    Ok(card.of_family(&whole_path(name), family))
}

/// The family of that name that ships, or what a file says.
pub(crate) fn family_named(name: &str) -> Result<Family, Failure> {
    if let Some(family) = shipped_family(name)? {
        return Ok(family);
    }
    let text = input::text(Path::new(name)).map_err(|error| {
        let names: Vec<&str> = family_names().collect();
        Failure::usage(format!("{name}: {error}; families that ship: {}", names.join(", ")))
    })?;
    Family::from_toml(&text).map_err(|error| Failure::usage(format!("{name}: {error}")))
}

/// A family's name; of a file its whole path, since other processes look for it from elsewhere.
fn whole_path(name: &str) -> String {
    match shipped_family(name) {
        Ok(Some(_)) => name.to_owned(),
        _ => std::fs::canonicalize(name)
            .map_or_else(|_| name.to_owned(), |path| path.to_string_lossy().into_owned()),
    }
}

pub(crate) fn parse_policy(text: &str) -> Result<Policy, String> {
    let known = Policy::ALL.map(Policy::label);
    Policy::from_label(text).ok_or_else(|| there_is_no("policy", text, &known))
}

pub(crate) fn parse_margin(text: &str) -> Result<Margin, String> {
    let known = Margin::ALL.map(Margin::label);
    Margin::from_label(text).ok_or_else(|| there_is_no("margin", text, &known))
}

pub(crate) fn parse_scene(text: &str) -> Result<SizedScene, String> {
    text.parse().map_err(|error: yard_step_scenes::UnknownScene| error.to_string())
}

pub(crate) fn parse_pace(text: &str) -> Result<Pace, String> {
    text.parse()
}

pub(crate) fn parse_stage(text: &str) -> Result<Stage, String> {
    parse_stage_among("stage", text, |_| true)
}

/// Reads the name of a planned stage of some kind; `what` names the kind.
pub(crate) fn parse_stage_among(
    what: &str,
    text: &str,
    is_one: impl Fn(&Stage) -> bool,
) -> Result<Stage, String> {
    let stages: Vec<Stage> = Stage::PLANNED.into_iter().filter(is_one).collect();
    let known: Vec<&str> = stages.iter().map(|stage| stage.label()).collect();
    stages
        .iter()
        .find(|stage| stage.label() == text)
        .copied()
        .ok_or_else(|| there_is_no(what, text, &known))
}

pub(crate) fn parse_unfinished(text: &str) -> Result<Unfinished, String> {
    match Verdict::from_label(text) {
        Some(Verdict::MachineDown) => Ok(Unfinished::MachineDown),
        Some(Verdict::Void) => Ok(Unfinished::Void),
        _ => Err("it is either \"machine down\" or \"void\"".into()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("standin:tarn-310", None, Ok("standin:tarn-310#1"))]
    #[case("standin:tarn-310", Some(7), Ok("standin:tarn-310#7"))]
    #[case("standin:tarn-310#7", None, Ok("standin:tarn-310#7"))]
    #[case("standin:tarn-310#7", Some(7), Ok("standin:tarn-310#7"))]
    #[case(
        "standin:tarn-310#7",
        Some(8),
        Err("--card names unit 7 and --seed unit 8: name one of them")
    )]
    fn a_unit_is_named_by_the_card_or_beside_it(
        #[case] card: &str,
        #[case] seed: Option<u64>,
        #[case] expected: Result<&str, &str>,
    ) {
        let named = parse_card(card).unwrap().with_seed(seed);
        let told =
            named.map(|address| address.to_string()).map_err(|failure| failure.text().to_owned());
        assert_eq!(told.as_deref().map_err(String::as_str), expected);
    }

    #[rstest]
    #[case("tarn-310", "there is no card \"tarn-310\"")]
    #[case("standin:tarn-310#x", "\"x\" is not a whole number")]
    #[case("standin:tarn-310#-1", "\"-1\" is not a whole number")]
    #[case("socket:/tmp/card", "there is no card")]
    #[case("", "there is no card")]
    fn what_names_no_card_is_told(#[case] text: &str, #[case] told: &str) {
        let error = parse_card(text).unwrap_err();
        assert!(error.contains(told), "{error}");
    }

    #[rstest]
    #[case("machine down", Ok(Unfinished::MachineDown))]
    #[case("void", Ok(Unfinished::Void))]
    #[case("clean", Err(()))]
    #[case("Void", Err(()))]
    fn a_trial_without_an_outcome_is_one_of_two(
        #[case] text: &str,
        #[case] expected: Result<Unfinished, ()>,
    ) {
        assert_eq!(parse_unfinished(text).map_err(drop), expected);
    }

    #[test]
    fn every_name_that_is_listed_is_read_and_a_wrong_one_lists_them() {
        for stage in Stage::PLANNED {
            assert_eq!(parse_stage(stage.label()), Ok(stage));
        }
        for policy in Policy::ALL {
            assert_eq!(parse_policy(policy.label()), Ok(policy));
        }
        for margin in Margin::ALL {
            assert_eq!(parse_margin(margin.label()), Ok(margin));
        }
        let error = parse_stage("own").unwrap_err();
        assert!(
            error.starts_with("there is no stage \"own\"; there are: baseline, power"),
            "{error}"
        );
        let only = |stage: &Stage| *stage == Stage::Window;
        let error = parse_stage_among("round", "core", only).unwrap_err();
        assert_eq!(error, "there is no round \"core\"; there are: window");
    }

    #[rstest]
    #[case("scene = \"anvil\"", "anvil")]
    #[case("[core]\ncoarse_step_mhz = -5", "coarse_step_mhz")]
    #[case("[core", "plan ")]
    fn a_plan_that_cannot_be_followed_is_refused_with_its_file(
        #[case] text: &str,
        #[case] told: &str,
    ) {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("mine.toml");
        std::fs::write(&path, text).unwrap();
        let error = read_plan(Some(&path), &Loads::default()).unwrap_err();
        assert!(error.text().contains("mine.toml") && error.text().contains(told), "{error:?}");
        assert!(read_plan(None, &Loads::default()).is_ok(), "without a file, the default");
    }
}
