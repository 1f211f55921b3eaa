//! `yard-step prove`: settings under many loads for hours, without the interface.

use std::path::PathBuf;

use clap::Args;
use jiff::Zoned;
use yard_step_core::{Goal, LONGEST_SOAK, MOST_RESERVE, OnFault, SPANS, Soak, SoakLoad, Soaked};
use yard_step_engine::{Engine, Pace, SoakWhat, SoakWish};
use yard_step_report::draw_soak;

use crate::commands::climb::{Watcher, go_on_until};
use crate::failure::Failure;
use crate::opening::{Opened, Wanted, open_climb};
use crate::options::{CardOptions, DataDirOption, parse_pace, parse_unfinished};
use crate::output::{ChartKind, Overwrite, Target, print};
use crate::soaking::{soak_loads, until};
use crate::start::{StartFrom, parse_start_from};

#[derive(Debug, Args)]
pub(crate) struct ProveOptions {
    #[command(flatten)]
    pub card: CardOptions,
    /// Whose settings: a profile, by its name, or trial:3/7 for trial 7 of climb 3 [default: what the newest climb came to,
    /// else what the card holds]
    #[arg(long, value_name = "PROFILE", value_parser = parse_start_from)]
    pub profile: Option<StartFrom>,
    /// How long, hours
    #[arg(long, value_name = "HOURS", default_value_t = 8.0, value_parser = parse_hours)]
    pub hours: f64,
    /// Until a time of day, such as 07:00
    #[arg(long, value_name = "TIME", conflicts_with = "hours")]
    pub until: Option<String>,
    /// Until a day is proven
    #[arg(long, conflicts_with_all = ["hours", "until"])]
    pub proven: bool,
    /// Loads in the order in which they run first, with their shares of a day's use [default: every scene, and squall from cold]
    #[arg(long, value_name = "LOADS", value_parser = parse_loads)]
    pub loads: Option<Loads>,
    /// End at the first fault, instead of going on with milder settings
    #[arg(long)]
    pub stop: bool,
    /// Fine steps by which what runs is bolder than what is proven
    #[arg(long, value_name = "STEPS", default_value_t = 0, value_parser = clap::value_parser!(u8).range(0..=i64::from(MOST_RESERVE)))]
    pub reserve: u8,
    /// End a soak that goes on, and begin this one
    #[arg(long)]
    pub anew: bool,
    /// Pace of a stand-in's clock: 1, 10, 60 or max
    #[arg(long, default_value = "max", value_parser = parse_pace)]
    pub pace: Pace,
    /// Draw the soak into this file, SVG or PDF
    #[arg(long, value_name = "FILE")]
    pub out: Option<PathBuf>,
    #[command(flatten)]
    pub overwrite: Overwrite,
    /// What to make of a trial without an outcome: "machine down" or "void"
    #[arg(long, value_name = "VERDICT", default_value = "machine down", value_parser = parse_unfinished)]
    pub unfinished: yard_step_engine::Unfinished,
}

/// The loads of a soak, as one argument.
#[derive(Debug, Clone)]
pub(crate) struct Loads(Vec<SoakLoad>);

fn parse_loads(text: &str) -> Result<Loads, String> {
    soak_loads(text).map(Loads)
}

fn parse_hours(text: &str) -> Result<f64, String> {
    let hours: f64 = text.parse().map_err(|_| format!("\"{text}\" is not a number"))?;
    let is_length = (0.1..=LONGEST_SOAK).contains(&hours);
    if is_length { Ok(hours) } else { Err(format!("it must be 0.1 to {LONGEST_SOAK}")) }
}

impl ProveOptions {
    fn wish(&self, engine: &Engine) -> Result<SoakWish, Failure> {
        let what = match &self.profile {
            Some(StartFrom::Profile(name)) => SoakWhat::Profile(name.clone()),
            Some(StartFrom::Trial(climb, trial)) => {
                SoakWhat::Trial { climb: *climb, trial: *trial }
            }
            None => match engine.climb().next() {
                yard_step_core::Next::Ended(_) => SoakWhat::Outcome,
                _ => SoakWhat::Held,
            },
        };
        let goal = match (&self.until, self.proven) {
            (Some(time), _) => until(time, &Zoned::now()).map_err(Failure::usage)?,
            (None, true) => Goal::Proven(SPANS[0].1),
            (None, false) => Goal::Hours(self.hours),
        };
        Ok(SoakWish {
            what,
            loads: self.loads.clone().map_or_else(Soak::usual_loads, |loads| loads.0),
            goal,
            on_fault: if self.stop { OnFault::Stop } else { OnFault::StepBack },
            reserve: self.reserve,
        })
    }
}

pub(crate) fn prove(data_dir: &DataDirOption, options: &ProveOptions) -> Result<(), Failure> {
    let kind = options.out.as_deref().map(ChartKind::of).transpose().map_err(Failure::usage)?;
    let target =
        options.out.as_ref().map(|path| Target::new(path, options.overwrite)).transpose()?;
    let begin = |engine: &mut Engine| {
        if options.anew && engine.is_soaking() {
            engine.end_soak()?;
        }
        if engine.is_soaking() {
            return Ok(vec!["The soak that was begun goes on; --anew ends it.".to_owned()]);
        }
        let wish = options.wish(engine)?;
        engine.begin_soak(&wish).map_err(Failure::usage)
    };
    let on = (&options.card, options.pace, options.unfinished);
    let (soaked, card) = soak(data_dir, on, begin)?;
    print(&format!("{}\n", sure(&soaked)))?;
    if let Some((target, kind)) = target.zip(kind) {
        target.write(&kind.bytes(&draw_soak(&card, &soaked)?)?)?;
    }
    Ok(())
}

/// Checks a profile against its own first check.
pub(super) fn check_profile(
    data_dir: &DataDirOption,
    card: &CardOptions,
    name: &str,
    pace: Pace,
) -> Result<(), Failure> {
    let begin = |engine: &mut Engine| {
        if engine.is_soaking() {
            return Ok(vec!["A soak that was begun goes on first.".to_owned()]);
        }
        engine.check_profile(name).map_err(Failure::usage)
    };
    let on = (card, pace, yard_step_engine::Unfinished::MachineDown);
    soak(data_dir, on, begin).map(drop)
}

/// Opens the newest climb of a card, begins a soak in it and runs that to its end.
fn soak(
    data_dir: &DataDirOption,
    (card, pace, unfinished): (&CardOptions, Pace, yard_step_engine::Unfinished),
    begin: impl FnOnce(&mut Engine) -> Result<Vec<String>, Failure>,
) -> Result<(Soaked, yard_step_core::CardDescription), Failure> {
    let dir = data_dir.resolve()?;
    let wanted = Wanted::newest_of(card, data_dir, unfinished)?;
    let Opened { mut engine, told, lock, .. } = open_climb(&dir, &wanted, &[])?;
    let mut watcher = Watcher::new(pace, engine.description().clone(), None)?;
    let ran = (|| {
        let begun = begin(&mut engine)?;
        for line in told.into_iter().chain(begun) {
            watcher.say(&line)?;
        }
        if let Some(soaked) = engine.climb().soaked() {
            watcher.say(&yard_step_words::soaked(&soaked))?;
        }
        go_on_until(&mut engine, &mut watcher, |engine| !engine.is_soaking())?;
        let soaked = engine.climb().soaked();
        soaked.ok_or_else(|| Failure::failed("the soak was ended"))
    })();
    watcher.bar.finish_and_clear();
    let card = engine.description().clone();
    let left = engine.leave();
    drop(lock);
    match (ran, left) {
        (Ok(soaked), Ok(())) => Ok((soaked, card)),
        (Ok(_), Err(error)) => Err(error.into()),
        (Err(failure), Ok(())) => Err(failure),
        (Err(failure), Err(error)) => Err(failure.and(&error)),
    }
}

/// How sure one may be of what stands.
fn sure(soaked: &Soaked) -> String {
    let alone = soaked.assurance.chances(SPANS[0].1).by_hours;
    let alone = alone.filter(|chance| *chance >= 0.01).map_or(String::new(), |chance| {
        format!(" Hours alone: a day {} or more, with 95 %.", yard_step_words::percent(chance))
    });
    format!(
        "{}{alone} {}",
        yard_step_words::believed(&soaked.assurance),
        yard_step_words::to_raise(&soaked.assurance, SPANS[0].1)
    )
}
