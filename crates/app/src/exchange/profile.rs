//! Profiles, written to and read from JSON.

use std::fmt::Write as _;
use std::path::Path;

use yard_step_core::{
    CardDescription, Clamped, LONGEST_NAME, LONGEST_PURPOSE, Origin, Percent, Profile,
    checked_name, in_short, printable, quoted,
};
use yard_step_engine::{ProfileView, risk_of};
use yard_step_ledger::{Ledger, ProfileDocument};

use crate::input;
use crate::output::write_new;

/// Writes a profile to a new file; returns what there is to say, or why it was not written.
pub(crate) fn export(
    card: &CardDescription,
    view: &ProfileView,
    path: &Path,
) -> Result<String, String> {
    let document = ProfileDocument::of(card, &view.profile, &view.backing, view.why());
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
        let risk = yard_step_words::risk(&risk);
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
