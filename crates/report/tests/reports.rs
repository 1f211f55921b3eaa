//! Reports of real climbs.
#![allow(clippy::unwrap_used, clippy::panic, missing_docs)]

use rstest::{fixture, rstest};
use serde_json::Value;
use yard_step_card::CardChoice;
use yard_step_core::{Next, Plan, Stage};
use yard_step_engine::Engine;
use yard_step_ledger::{ClimbEntry, DataDir, Ledger};
use yard_step_report::{ClimbDocument, KeptRun, draw_svg, to_pdf};

struct Climbed {
    entry: ClimbEntry,
    kept: KeptRun,
    document: Value,
}

#[fixture]
#[once]
fn climbed() -> Climbed {
    let dir = tempfile::tempdir().unwrap();
    let ledger = Ledger::open(&DataDir::new(dir.path())).unwrap().ledger;
    let card = Box::new(CardChoice::all()[0].open(4, 0).unwrap());
    let plan = Plan::from_toml(
        "scene = \"lantern\"\npolicy = \"fixed-step\"\n[core]\nconfirm_seconds = 400",
    )
    .unwrap();
    let stages = [Stage::Baseline, Stage::Core];
    let mut engine = Engine::begin(card, ledger.clone(), plan, &stages).unwrap();
    while let Next::Trial(_) = engine.climb().next() {
        engine.step_unattended(&mut ()).unwrap();
    }
    let number = engine.climb().outcome().kept_trial.unwrap();
    let entry = ledger.climb(engine.climb_id()).unwrap();
    let row = entry.trials[number as usize - 1].id;
    let kept = KeptRun { number, samples: ledger.samples(row).unwrap() };
    let text = ClimbDocument::of(engine.climb()).to_text().unwrap();
    Climbed { entry, kept, document: serde_json::from_str(&text).unwrap() }
}

#[rstest]
fn the_document_has_what_its_format_promises(climbed: &Climbed) {
    let document = &climbed.document;
    assert_eq!((&document["format"], &document["version"]), (&"yard-step-climb".into(), &1.into()));
    for key in ["score", "average_clock_mhz", "average_power_w", "hot_spot_max_c"] {
        assert!(document["baseline"][key].as_f64().unwrap() > 0.0, "{key}");
    }
    for (index, trial) in document["trials"].as_array().unwrap().iter().enumerate() {
        assert_eq!(trial["id"], index + 1);
        for key in
            ["stage", "asked", "taken", "seen", "scene", "seconds", "verdict", "score", "faults"]
        {
            assert!(trial.get(key).is_some(), "{key}");
        }
    }
    let outcome = &document["outcome"];
    let count = document["trials"].as_array().unwrap().len();
    assert_eq!(outcome["trials"], count);
    let seconds: f64 =
        document["trials"].as_array().unwrap().iter().map(|t| t["seconds"].as_f64().unwrap()).sum();
    assert!((outcome["test_seconds"].as_f64().unwrap() - seconds).abs() < 1e-6);
    let gain = outcome["score"].as_f64().unwrap() / document["baseline"]["score"].as_f64().unwrap();
    assert!((outcome["gain_percent"].as_f64().unwrap() - (gain - 1.0) * 100.0).abs() < 1e-9);
    assert!(outcome["settings"]["core_offset_mhz"].as_i64().unwrap() > 0);
}

#[rstest]
fn the_chart_shows_every_trial_and_the_kept_clock_line(climbed: &Climbed) {
    let svg = draw_svg(&climbed.entry, Some(&climbed.kept)).unwrap();
    assert!(svg.contains("Staircase") && svg.contains("core clock, MHz from stock"));
    assert!(svg.contains(&format!("Clock line of trial {}", climbed.kept.number)));
    let circles = svg.matches("<circle").count();
    let clean = climbed.entry.trials.iter().filter(|t| t.record.verdict().label() == "clean");
    assert!(circles > clean.count(), "one for each clean trial and one in the legend");
}

#[rstest]
fn a_chart_without_a_run_says_so(climbed: &Climbed) {
    let mut entry = climbed.entry.clone();
    entry.trials.clear();
    let svg = draw_svg(&entry, None).unwrap();
    assert!(svg.contains("No trial with these settings was recorded."));
    assert!(svg.contains("Not ended yet."));
}

#[rstest]
fn the_pdf_keeps_text_as_text(climbed: &Climbed) {
    let svg = draw_svg(&climbed.entry, Some(&climbed.kept)).unwrap();
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("climb.pdf");
    std::fs::write(&path, to_pdf(&svg).unwrap()).unwrap();
    let output = std::process::Command::new("pdftotext").arg(&path).arg("-").output().unwrap();
    let text = String::from_utf8(output.stdout).unwrap();
    for wanted in ["Staircase", "Tarn 310", "core clock, MHz", "target"] {
        assert!(text.contains(wanted), "{wanted} is missing in: {text}");
    }
}

#[test]
fn what_is_no_svg_is_an_error() {
    assert!(to_pdf("not a drawing").unwrap_err().to_string().contains("turned into PDF"));
}
