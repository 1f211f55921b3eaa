//! `yard-step pass`: a scene once through on a stand-in, with its score.

use std::fmt::Write;
use std::path::PathBuf;

use clap::Args;
use serde::Serialize;
use yard_step_card::{Work, connect};
use yard_step_core::{PassScore, Seconds, score_pass};
use yard_step_engine::TICK;
use yard_step_scenes::{PASS_FRAMES, SceneRun, SizedScene};

use super::simulate::{apply, how_lost, read_settings, without_mishaps};
use crate::failure::Failure;
use crate::options::{CardOptions, parse_scene};
use crate::output::{json, note, print};

#[derive(Debug, Args)]
pub(crate) struct PassOptions {
    #[command(flatten)]
    pub card: CardOptions,
    /// Scene to run
    #[arg(long, default_value = "lantern", value_parser = parse_scene)]
    pub scene: SizedScene,
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

/// A pass, as it is printed as JSON.
#[derive(Serialize)]
struct Pass {
    scene: String,
    wrong_frames: u64,
    #[serde(flatten)]
    score: PassScore,
}

pub(crate) fn pass(options: &PassOptions) -> Result<(), Failure> {
    let mut card = connect(&options.card.address()?)?;
    without_mishaps(card.as_mut())?;
    let asked = read_settings(options.settings.as_deref(), card.description())?;
    for line in apply(card.as_mut(), &asked)? {
        note(&line);
    }
    let mut load = SceneRun::new(options.scene);
    let (mut began, mut passes) = (Seconds(0.0), Vec::new());
    let mut frames = Vec::new();
    while passes.len() < options.passes as usize {
        let ran = card.run(TICK, Work::Here(&mut load));
        frames.extend(load.take_checked());
        if let Err(lost) = ran {
            return Err(Failure::failed(format!(
                "pass {} was not ended: {}",
                passes.len() + 1,
                how_lost(lost)
            )));
        }
        if (frames.len() as u64) < PASS_FRAMES {
            continue;
        }
        let rest = frames.split_off(PASS_FRAMES as usize);
        let finished: Vec<(usize, Seconds)> =
            frames.iter().map(|frame| (frame.section, frame.at - began)).collect();
        began = frames.last().map_or(began, |frame| frame.at);
        let wrong_frames = frames.iter().filter(|frame| frame.wrong_pixels > 0).count() as u64;
        let scene = options.scene;
        let score = score_pass(&finished, scene.sections(), scene.work_per_frame());
        passes.extend(score.map(|score| Pass { scene: scene.name(), wrong_frames, score }));
        frames = rest;
    }
    if options.json {
        return print(&json(&passes)?);
    }
    let text: String =
        passes.iter().enumerate().map(|(index, pass)| in_words(index + 1, pass)).collect();
    print(&text)
}

fn in_words(number: usize, pass: &Pass) -> String {
    let score = &pass.score;
    let mut text = format!(
        "pass {number} of {}: score {:.0} work units/s over {:.1} s, {:.1} fps on average, 1 % low \
         {:.1} fps, {} of {} frames wrong\n",
        pass.scene,
        score.score,
        score.length.value(),
        score.average_fps,
        score.low_fps,
        pass.wrong_frames,
        score.frames
    );
    for section in &score.sections {
        // Writing to a string cannot fail.
        let _ = writeln!(
            text,
            "  from {:>5.1} s  {:<16} {:>6.1} fps, 1 % low {:>6.1} fps",
            section.at.value(),
            section.name,
            section.average_fps,
            section.low_fps
        );
    }
    text
}
