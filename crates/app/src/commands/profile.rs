//! `yard-step profile`: what was kept of a card, without the interface; and profiles as files.

use std::fmt::Write as _;
use std::path::PathBuf;

use clap::{Args, Subcommand};
use yard_step_core::{CUT_BACK, CardDescription, Percent};
use yard_step_engine::{Pace, ProfileView};
use yard_step_ledger::{Ledger, ProfileDocument};

use crate::commands::prove::check_profile;
use crate::exchange::profile::import;
use crate::failure::Failure;
use crate::opening::open_ledger;
use crate::options::{CardOptions, DataDirOption, parse_pace};
use crate::output::{Overwrite, Target, json, note, print};
use crate::rig::look_at;

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
    /// Put the card to a profile at each start, as long as it is proven
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
    /// Check in 20 minutes whether a profile is still what it was at its first check
    Check {
        /// Name of the profile
        name: String,
        /// Pace of a stand-in's clock: 1, 10, 60 or max
        #[arg(long, default_value = "max", value_parser = parse_pace)]
        pace: Pace,
    },
    /// Delete a profile; its trials stay
    Drop {
        /// Name of the profile
        name: String,
    },
}

fn parse_percent(text: &str) -> Result<f64, String> {
    let value: f64 = text.parse().map_err(|_| format!("\"{text}\" is not a number"))?;
    if (0.0..=100.0).contains(&value) { Ok(value) } else { Err("it must be 0 to 100".into()) }
}

pub(crate) fn profile(data_dir: &DataDirOption, options: &ProfileOptions) -> Result<(), Failure> {
    if let ProfileCommand::Check { name, pace } = &options.command {
        return check_profile(data_dir, &options.card, name, *pace);
    }
    let dir = data_dir.resolve()?;
    let is_look =
        matches!(options.command, ProfileCommand::List { .. } | ProfileCommand::Export { .. });
    // What is changed must not be changed under a climb.
    let lock = (!is_look).then(|| dir.enter()).transpose()?;
    let (ledger, told) = open_ledger(&dir)?;
    if let Some(line) = told {
        note(&line);
    }
    let mut device = look_at(&dir, &options.card.address()?)?;
    let card = device.description().clone();
    let text = match &options.command {
        ProfileCommand::List { json } => list(&ledger, &card, *json)?,
        ProfileCommand::Use { name, none: _ } => {
            let is_there = ledger.use_profile(&card, name.as_deref())?;
            match name {
                None => "No profile is in use: the card starts at stock.\n".into(),
                Some(name) if is_there => {
                    let view = view(&ledger, &card, name)?;
                    let risk = view.risk.as_ref().map_or(String::new(), |risk| {
                        let risk = yard_step_words::risk(risk);
                        format!("{risk} It is not applied at a start.\n")
                    });
                    format!(
                        "{risk}Profile \"{name}\" is in use. It is {}. {}\n",
                        view.proof.label(),
                        view.why()
                    )
                }
                Some(name) => return Err(unknown(&ledger, &card, name)),
            }
        }
        ProfileCommand::Export { name, out, overwrite } => {
            let target = Target::new(out, *overwrite)?;
            let view = view(&ledger, &card, name)?;
            let document = ProfileDocument::of(&card, &view.profile, &view.backing, view.why());
            target.write(document.to_json()?.as_bytes())?;
            return target.say(&format!("Profile \"{name}\" is in {}.", target.shown()));
        }
        ProfileCommand::Import { file, cut_back, name } => {
            ledger.note_card(&card, device.factory().as_ref())?;
            import(&ledger, &card, file, Percent(*cut_back), name.as_deref())
                .map_err(Failure::usage)?
                + "\n"
        }
        // It has a climb of its own, and was done before.
        ProfileCommand::Check { .. } => String::new(),
        ProfileCommand::Drop { name } => {
            if !ledger.drop_profile(&card, name)? {
                return Err(unknown(&ledger, &card, name));
            }
            format!("Profile \"{name}\" is deleted; its trials stay.\n")
        }
    };
    drop(lock);
    print(&text)
}

fn all(ledger: &Ledger, card: &CardDescription) -> Result<Vec<ProfileView>, Failure> {
    ProfileView::all(ledger, card).map_err(Failure::failed)
}

pub(super) fn view(
    ledger: &Ledger,
    card: &CardDescription,
    name: &str,
) -> Result<ProfileView, Failure> {
    let found = all(ledger, card)?.into_iter().find(|view| view.profile.name == name);
    found.ok_or_else(|| unknown(ledger, card, name))
}

fn unknown(ledger: &Ledger, card: &CardDescription, name: &str) -> Failure {
    let known = ledger.profiles(card).unwrap_or_default();
    let known: Vec<String> =
        known.into_iter().map(|profile| format!("\"{}\"", profile.name)).collect();
    let known = match known.is_empty() {
        true => "there is none yet: keep one with `yard-step climb --keep NAME`".to_owned(),
        false => format!("there are: {}", known.join(", ")),
    };
    Failure::usage(format!("there is no profile \"{name}\" on {}; {known}", card.key()))
}

fn list(ledger: &Ledger, card: &CardDescription, as_json: bool) -> Result<String, Failure> {
    let views = all(ledger, card)?;
    if as_json {
        let documents: Vec<ProfileDocument> = views
            .iter()
            .map(|view| ProfileDocument::of(card, &view.profile, &view.backing, view.why()))
            .collect();
        return json(&documents);
    }
    let mut text = format!("{}, unit {}\n", card.name, card.serial);
    if views.is_empty() {
        text += "  no profile is kept\n";
    }
    for view in views {
        let profile = &view.profile;
        let mark = if profile.in_use { "in use, " } else { "" };
        // Writing to a string cannot fail.
        let _ = writeln!(text, "{} ({mark}{})", profile.name, view.proof.label());
        if !profile.purpose.is_empty() {
            let _ = writeln!(text, "  for       {}", profile.purpose);
        }
        let _ = writeln!(text, "  settings  {}", view.what);
        let _ = writeln!(text, "  from      {}", yard_step_words::origin(profile));
        if let Some(margin) = profile.margin {
            let _ = writeln!(text, "  good for  {}", margin.purpose());
        }
        let _ = writeln!(text, "  evidence  {}", view.why());
        if let Some(drift) = &view.drift {
            let _ = writeln!(text, "  drift     {}", yard_step_words::drift(drift));
        }
    }
    Ok(text)
}
