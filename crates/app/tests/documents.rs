//! What README and docs promise: the plan reference holds every default, examples work, links lead
//! somewhere.
#![allow(clippy::unwrap_used, clippy::panic, missing_docs)]

use std::fs;
use std::path::{Path, PathBuf};

use rstest::rstest;
use yard_step_core::Plan;

mod common;
use common::{stderr, stdout, text_of, yard_step};

fn project() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

/// The first TOML block of a document.
fn toml_of(document: &str) -> String {
    let text = fs::read_to_string(project().join(document)).unwrap();
    let (_, after) = text.split_once("```toml\n").unwrap();
    after.split_once("```").unwrap().0.to_owned()
}

#[test]
fn the_plan_reference_names_every_value_with_its_default() {
    let text = toml_of("docs/plan.md");
    let written: toml::Table = text.parse().unwrap();
    let mut defaults = toml::Table::try_from(Plan::default()).unwrap();
    // The memory has what the core has, but for its fine step: said in words.
    let Some(toml::Value::Table(memory)) = defaults.remove("memory") else { panic!() };
    let Some(toml::Value::Table(core)) = defaults.get("core") else { panic!() };
    let differing: Vec<&String> = memory.keys().filter(|key| memory[*key] != core[*key]).collect();
    assert_eq!(differing, ["fine_step_mhz"]);
    assert!(text.contains(&format!("with a fine step of {}", memory["fine_step_mhz"])));
    assert_eq!(written, defaults);
}

#[test]
fn every_family_of_cards_has_its_line_in_the_table() {
    let text = fs::read_to_string(project().join("docs/search.md")).unwrap();
    let (_, section) = text.split_once("## Cards that fail in another way").unwrap();
    let (_, table) = section.split_once("|---|").unwrap();
    let lines = table.lines().skip(1).take_while(|line| line.starts_with('|'));
    assert_eq!(lines.count(), yard_step_study::family_names().count());
}

#[test]
fn the_example_of_settings_is_simulated_to_its_end() {
    let dir = tempfile::tempdir().unwrap();
    let settings = dir.path().join("mine.toml");
    fs::write(&settings, toml_of("docs/cards.md")).unwrap();
    let output = yard_step(&[
        "simulate",
        "--card",
        "standin:tarn-310",
        "--seed",
        "7",
        "--settings",
        &text_of(&settings),
        "--minutes",
        "10",
        "--csv",
        &text_of(&dir.path().join("trace.csv")),
    ]);
    assert!(output.status.success(), "{}", stderr(&output));
    assert!(stdout(&output).contains("6000 samples over 10 min"), "{}", stdout(&output));
}

#[rstest]
#[case("README.md")]
#[case("CONTRIBUTING.md")]
#[case("docs/architecture.md")]
#[case("docs/cards.md")]
#[case("docs/getting-started.md")]
#[case("docs/loads.md")]
#[case("docs/profiles.md")]
#[case("docs/safety.md")]
#[case("docs/search.md")]
fn links_lead_to_files_that_are_there(#[case] document: &str) {
    let path = project().join(document);
    let text = fs::read_to_string(&path).unwrap();
    let links = text.split("](").skip(1).filter_map(|rest| rest.split(')').next());
    for link in links.filter(|link| !link.contains("://")) {
        let target = path.with_file_name(link.split('#').next().unwrap());
        assert!(target.exists(), "{document} links to {link}");
    }
}

#[test]
fn the_first_command_of_the_readme_finds_one_program() {
    let text = fs::read_to_string(project().join("Cargo.toml")).unwrap();
    let manifest: toml::Table = text.parse().unwrap();
    // Without it, `cargo run` would have to choose among the programs of the workspace.
    let run = manifest["workspace"]["default-members"].as_array().unwrap();
    assert_eq!(
        run.iter().map(|member| member.as_str().unwrap()).collect::<Vec<_>>(),
        ["crates/app"]
    );
    assert!(!project().join("crates/app/src/bin").exists(), "and that crate has one program");
}
