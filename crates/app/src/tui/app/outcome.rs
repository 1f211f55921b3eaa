//! What comes of a key or a click.

use std::path::PathBuf;

use yard_step_core::{CardDescription, CheckedFrame, Trace};
use yard_step_engine::Command;
use yard_step_engine::load::OutsideSpec;
use yard_step_scenes::SizedScene;

use crate::exchange::page::PageWish;
use crate::tui::views::ledger::browser::Change;

/// What comes of an event.
#[derive(Debug, Clone, PartialEq)]
pub enum Outcome {
    /// Nothing but perhaps another look.
    Nothing,
    /// A command for the engine.
    Send(Command),
    /// A stretch of a trace to be written to a file.
    Export {
        /// The trace.
        trace: Box<Trace>,
        /// First and last second.
        window: (f64, f64),
        /// The file.
        path: PathBuf,
    },
    /// The pictures of a spoilt frame, to be written to a file.
    ExportPicture {
        /// The scene.
        scene: SizedScene,
        /// The frame.
        frame: Box<CheckedFrame>,
        /// What the picture is called.
        title: String,
        /// The file.
        path: PathBuf,
    },
    /// A trace made elsewhere, to be read.
    Import(PathBuf),
    /// The chart that is shown, to be written to a file.
    ExportChart {
        /// What it is, as the beginning of a sentence.
        what: String,
        /// The chart.
        svg: String,
        /// The file.
        path: PathBuf,
    },
    /// The page about settings, to be written to a file.
    ExportPage {
        /// The card.
        card: Box<CardDescription>,
        /// What is wanted.
        wish: Box<PageWish>,
        /// The file.
        path: PathBuf,
    },
    /// A program that becomes a load, to be written to the configuration.
    AddLoad(Box<OutsideSpec>),
    /// Something in the ledger to be changed.
    Change(Change),
    /// The reading of a file is to end.
    CancelImport,
    /// The end.
    Quit,
}
