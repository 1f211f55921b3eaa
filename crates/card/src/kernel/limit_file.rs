//! The limit table of a real card: the kernel's file `pp_table`, read as a whole and written as a whole.
//!
//! A write has the driver set the card up anew with the table. It is gone with the driver: the next start of the machine is with
//! the maker's.

use std::path::Path;
use std::thread;
use std::time::{Duration, Instant};

use yard_step_core::{LARGEST_FILE, LimitTable, TableFile, TableOwner};

use super::hwmon::Hwmon;
use super::identity::PciId;
use super::refusal::{Refusal, write_bytes};
use super::tree::Place;
use super::{KIND_NOT_STATED, memory_gib};
use crate::kernel::files::{RESET, monitor};

/// The kernel's file.
const FILE: &str = "pp_table";
/// Time between two looks whether the card is set up again.
const LOOK: Duration = Duration::from_millis(50);

/// The limit table of a card below a root.
pub(crate) struct LimitFile {
    device: Place,
    hwmon: Option<Hwmon>,
}

impl LimitFile {
    /// That of a card, by the name of its directory below `class/drm`.
    pub(crate) fn of(root: &Path, directory: &str) -> Self {
        let card = Place::root(root).at("class/drm").at(directory);
        let device = card.at("device");
        let hwmon = monitor(&card, &device);
        Self { device, hwmon }
    }

    /// Which cards its table is for: those of the same device and maker of the board, with as much memory.
    fn owner(&self) -> TableOwner {
        let kind = PciId::of(&self.device).map_or_else(|_| "unknown".into(), |id| id.to_string());
        TableOwner {
            kind,
            memory_type: KIND_NOT_STATED.into(),
            memory_gib: memory_gib(&self.device),
        }
    }

    /// The table as the kernel gives it now.
    ///
    /// # Errors
    /// Half a sentence why it cannot be read, or not as a whole.
    pub(crate) fn read(&self) -> Result<LimitTable, String> {
        let place = self.device.at(FILE);
        let bytes = place.bytes(LARGEST_FILE as u64).map_err(|why| why.to_string())?;
        let rated = self.hwmon.as_ref().and_then(Hwmon::rated_power);
        let file = TableFile::new(bytes, rated)
            .map_err(|why| format!("{} cannot be used: {why}", place.told()))?;
        Ok(LimitTable::of_file(self.owner(), file))
    }

    /// Has the driver set the card up with a table, and waits until it is read back.
    ///
    /// # Errors
    /// The kernel refused it, or another one is read back.
    pub(crate) fn load(&self, table: &LimitTable) -> Result<(), String> {
        let Some(file) = &table.file else { return Err("it is no table of a real card".into()) };
        let written = write_bytes(&self.device.at(FILE), file.bytes());
        written.map_err(|refused: Refusal| refused.to_string())?;
        let until = Instant::now() + RESET;
        loop {
            let why = match self.read() {
                Ok(now) if now.file.as_ref().map(TableFile::bytes) == Some(file.bytes()) => {
                    return Ok(());
                }
                Ok(now) => format!("the card holds table {} instead", now.checksum()),
                Err(why) => why,
            };
            if Instant::now() > until {
                return Err(why);
            }
            thread::sleep(LOOK);
        }
    }
}
