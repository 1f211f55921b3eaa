//! `yard-step profile`: what was kept of a card, without the interface; and profiles as files.

use std::fmt::Write as _;
use std::path::Path;

use yard_step_card::Card;
use yard_step_core::{
    CardDescription, Clamped, LONGEST_NAME, LONGEST_PURPOSE, Origin, Percent, Profile, Settings,
    checked_name, in_short, printable, quoted,
};
use yard_step_engine::{ProfileView, risk_of};
use yard_step_ledger::{Ledger, ProfileDocument};

use crate::cli::{DataDirOption, ProfileCommand, ProfileOptions};
use crate::failure::Failure;
use crate::input;
use crate::open::open_ledger;
use crate::output::{Target, note, print, write_new};

pub(crate) fn profile(data_dir: &DataDirOption, options: &ProfileOptions) -> Result<(), Failure> {
    let dir = data_dir.resolve()?;
    let is_look =
        matches!(options.command, ProfileCommand::List { .. } | ProfileCommand::Export { .. });
    // What is changed must not be changed under a climb.
    let lock = (!is_look).then(|| dir.enter()).transpose()?;
    let (ledger, told) = open_ledger(&dir)?;
    if let Some(line) = told {
        note(&line);
    }
    let mut device = options.card.name()?.open(0)?;
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
                        format!("{risk} It is not applied at a start.\n")
                    });
                    format!(
                        "{risk}Profile \"{name}\" is in use. It is {}. {}\n",
                        view.proof.label(),
                        view.proof.why()
                    )
                }
                Some(name) => return Err(unknown(&ledger, &card, name)),
            }
        }
        ProfileCommand::Export { name, out, overwrite } => {
            let target = Target::new(out, *overwrite)?;
            let view = view(&ledger, &card, name)?;
            let document = ProfileDocument::of(&card, &view.profile, &view.backing);
            target.write(document.to_json()?.as_bytes())?;
            return target.say(&format!("Profile \"{name}\" is in {}.", target.shown()));
        }
        ProfileCommand::Import { file, cut_back, name } => {
            let held = device.taken().unwrap_or_else(|_| Settings::stock(&card));
            ledger.note_card(&card, &held)?;
            import(&ledger, &card, file, Percent(*cut_back), name.as_deref())
                .map_err(Failure::usage)?
                + "\n"
        }
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

fn view(ledger: &Ledger, card: &CardDescription, name: &str) -> Result<ProfileView, Failure> {
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

fn list(ledger: &Ledger, card: &CardDescription, json: bool) -> Result<String, Failure> {
    let views = all(ledger, card)?;
    if json {
        let documents: Vec<ProfileDocument> = views
            .iter()
            .map(|view| ProfileDocument::of(card, &view.profile, &view.backing))
            .collect();
        return Ok(serde_json::to_string_pretty(&documents)? + "\n");
    }
    let mut text = format!("{}, individual {}\n", card.name, card.serial);
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
        let _ = writeln!(text, "  from      {}", profile.origin_in_words());
        if let Some(margin) = profile.margin {
            let _ = writeln!(text, "  good for  {}", margin.purpose());
        }
        let _ = writeln!(text, "  evidence  {}", view.proof.why());
        if let Some(drift) = &view.drift {
            let _ = writeln!(text, "  drift     {}", drift.sentence);
        }
    }
    Ok(text)
}

/// Writes a profile to a new file; answers what there is to say, or why it was not written.
pub(crate) fn export(
    card: &CardDescription,
    view: &ProfileView,
    path: &Path,
) -> Result<String, String> {
    let document = ProfileDocument::of(card, &view.profile, &view.backing);
    let text = document.to_json().map_err(|error| error.to_string())?;
    write_new(path, text.as_bytes())?;
    Ok(format!("Profile \"{}\" is in {}.", view.profile.name, path.display()))
}

/// Reads a profile from a file, as a starting point: cut back by a share, and not trusted. Answers
/// what there is to say, or why nothing was read.
pub(crate) fn import(
    ledger: &Ledger,
    card: &CardDescription,
    path: &Path,
    cut_back: Percent,
    name: Option<&str>,
) -> Result<String, String> {
    let cannot = |cause: &dyn std::fmt::Display| {
        format!(
            "cannot import {}: {cause}. Name a profile that yard-step exported.",
            path.display()
        )
    };
    let text = input::text(path).map_err(|error| cannot(&error))?;
    let document = ProfileDocument::from_json(&text).map_err(|error| cannot(&error))?;
    // Room for a number behind it, should it be taken.
    let stated = checked_name(name.unwrap_or(&document.name), LONGEST_NAME - 4)
        .map_err(|why| cannot(&format!("{why}; give it another one with --name")))?;
    let stated = stated.as_str();
    if document.purpose.chars().count() > LONGEST_PURPOSE {
        return Err(cannot(&format!("its purpose is longer than {LONGEST_PURPOSE} characters")));
    }
    let failed = |error: yard_step_ledger::LedgerError| error.to_string();
    let known = ledger.profiles(card).map_err(failed)?;
    let name = free_name(stated, |name| known.iter().any(|profile| profile.name == name));
    let Clamped { settings, notes } = document.settings.cut_back(card, cut_back);
    let profile = Profile {
        purpose: printable(&document.purpose),
        margin: document.margin,
        driver: Some(card.driver.clone()),
        ..Profile::new(name.clone(), settings, Origin::Imported { cut_back })
    };
    ledger.keep(card, &profile).map_err(failed)?;
    let mut told = format!(
        "Imported as \"{name}\", cut back by {:.0} %: {}. It is a starting point: nothing is proven \
         on this card.",
        cut_back.value(),
        in_short(&settings, card)
    );
    if document.card.name != card.name {
        // Writing to a string cannot fail.
        let other = quoted(&document.card.name);
        let _ = write!(told, " It was made on another kind of card, {other}.");
    }
    for note in notes {
        let _ = write!(told, " {note}.");
    }
    let risk = risk_of(ledger, card, &settings).map_err(|error| error.to_string())?;
    if let Some(risk) = risk {
        let _ = write!(told, " {risk} It is not applied without a yes.");
    }
    Ok(told)
}

/// The name, or the first with a number behind it that is free: nothing kept is written over.
fn free_name(name: &str, is_taken: impl Fn(&str) -> bool) -> String {
    let numbered = |count: u32| match count {
        1 => name.to_owned(),
        count => format!("{name} {count}"),
    };
    (1..).map(numbered).find(|name| !is_taken(name)).unwrap_or_else(|| name.to_owned())
}
