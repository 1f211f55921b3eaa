//! The clock window of the other family of cards: its lowest and highest clock stand in files of their own, as do the reasons
//! for which it throttles.

use yard_step_core::Limiter;

use crate::kernel::tree::{Place, Unread};

/// Names of the files of one driver.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Names {
    lowest: &'static str,
    highest: &'static str,
    /// Hardware's lowest and highest.
    floor: &'static str,
    ceiling: &'static str,
    actual: &'static str,
}

const OF_CARD: Names = Names {
    lowest: "gt_min_freq_mhz",
    highest: "gt_max_freq_mhz",
    floor: "gt_RPn_freq_mhz",
    ceiling: "gt_RP0_freq_mhz",
    actual: "gt_act_freq_mhz",
};
const OF_TILE: Names = Names {
    lowest: "min_freq",
    highest: "max_freq",
    floor: "rpn_freq",
    ceiling: "rp0_freq",
    actual: "act_freq",
};
/// Where the files of a tile lie, from the device on.
const TILE: &str = "tile0/gt0/freq0";

/// The files of a card's clock window.
#[derive(Debug, Clone)]
pub(super) struct Frequency {
    place: Place,
    names: Names,
}

impl Frequency {
    /// The files of a card, whose class directory and device these are; why there are none.
    pub fn of(card: &Place, device: &Place) -> Result<Self, Unread> {
        let tile = device.at(TILE);
        if tile.at(OF_TILE.highest).is_there() {
            return Ok(Self { place: tile, names: OF_TILE });
        }
        let file = card.at(OF_CARD.highest);
        if file.is_there() {
            return Ok(Self { place: card.clone(), names: OF_CARD });
        }
        Err(Unread::Missing(file.told()))
    }

    /// Lowest and highest clock that may be set, MHz.
    pub fn range(&self) -> Result<(f64, f64), Unread> {
        let low = self.place.number_in(self.names.floor)?;
        let high = self.place.number_in(self.names.ceiling)?;
        if 0.0 < low && low < high && high <= 20_000.0 {
            return Ok((low, high));
        }
        let told = self.place.at(self.names.ceiling).told();
        Err(Unread::Odd(told, format!("{low} to {high}"), "range of clocks in MHz"))
    }

    /// The file of the lowest clock.
    pub fn lowest_place(&self) -> Place {
        self.place.at(self.names.lowest)
    }

    /// The file of the highest clock.
    pub fn highest_place(&self) -> Place {
        self.place.at(self.names.highest)
    }

    /// The lowest clock that holds now, MHz.
    pub fn lowest(&self) -> Result<f64, Unread> {
        self.place.number_in(self.names.lowest)
    }

    /// The highest clock that holds now, MHz.
    pub fn highest(&self) -> Result<f64, Unread> {
        self.place.number_in(self.names.highest)
    }

    /// The clock of the chip now, MHz.
    pub fn actual(&self) -> Result<f64, Unread> {
        self.place.number_in(self.names.actual)
    }

    /// What throttles now, as far as the files of reasons tell; none where nothing does.
    pub fn limiter(&self) -> Option<Limiter> {
        let reasons = [
            ("thermal", Limiter::Heat),
            ("prochot", Limiter::Heat),
            ("ratl", Limiter::Heat),
            ("vr_thermalert", Limiter::Heat),
            ("vr_tdc", Limiter::Current),
            ("pl4", Limiter::Current),
            ("pl1", Limiter::Power),
            ("pl2", Limiter::Power),
        ];
        let is_set = |reason: &str| {
            let files = match self.names == OF_TILE {
                true => self.place.at(format!("throttle/reason_{reason}")),
                false => self.place.at(format!("gt/gt0/throttle_reason_{reason}")),
            };
            files.number().is_ok_and(|value| value != 0.0)
        };
        reasons.into_iter().find(|(reason, _)| is_set(reason)).map(|(_, limiter)| limiter)
    }
}
