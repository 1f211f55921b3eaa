//! A real card as the keeper has it: it writes the card's files.

use std::fs;

use yard_step_core::{CardDescription, Percent, Sample, Seconds, Settings};

use super::files::CardFiles;
use crate::{Card, CardError, LoadLost, Ran, Work};

/// Where the kernel tells the present run of the machine.
const BOOT: &str = "/proc/sys/kernel/random/boot_id";

/// A name of the present run of the machine; empty where the kernel tells none.
pub(crate) fn boot_id() -> String {
    fs::read_to_string(BOOT).map_or_else(|_| String::new(), |text| text.trim().to_owned())
}

/// A real card, written to directly. Its time passes by itself: nothing here waits.
#[derive(Debug)]
pub(crate) struct FileCard {
    files: CardFiles,
    refused: Vec<String>,
}

impl FileCard {
    pub fn new(files: CardFiles) -> Self {
        Self { files, refused: Vec::new() }
    }
}

impl Card for FileCard {
    fn description(&self) -> &CardDescription {
        self.files.description()
    }

    fn apply(&mut self, settings: &Settings) -> Result<(), CardError> {
        self.refused.clear();
        let refused = self.files.apply(settings)?;
        self.refused = refused.iter().map(ToString::to_string).collect();
        Ok(())
    }

    fn refused(&mut self) -> Vec<String> {
        std::mem::take(&mut self.refused)
    }

    fn taken(&mut self) -> Result<Settings, CardError> {
        self.files.taken()
    }

    fn turn_fan(&mut self, speed: Percent) -> Result<(), CardError> {
        self.files
            .turn_fan(speed)
            .map_err(|refused| CardError::Refused { why: refused.to_string() })
    }

    fn sample(&mut self) -> Result<Sample, CardError> {
        Ok(self.files.sample())
    }

    fn run(&mut self, _: Seconds, _: Work<'_>) -> Result<Ran, LoadLost> {
        Ok(Ran::default())
    }

    fn idle(&mut self, _: Seconds) {}

    fn restart_machine(&mut self) -> bool {
        false
    }

    fn boot(&mut self) -> String {
        boot_id()
    }
}
