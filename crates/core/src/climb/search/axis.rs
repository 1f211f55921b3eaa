//! The one setting that a search moves, and what its values mean.

use crate::card::description::{CardDescription, Offer, SettingKind};
use crate::card::settings::Settings;
use crate::load::artifact::Domain;
use crate::plan::Plan;
use crate::units::MhzOffset;

/// The setting through which a domain's clock is raised, counted in MHz from stock: an offset where
/// the card offers one, else the top of its clock window.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Axis {
    /// Whose clock it raises.
    pub domain: Domain,
    /// The card's offer.
    pub offer: Offer,
    /// Clock of the domain at stock, MHz: what shares of a clock are counted from.
    pub clock: f64,
}

impl Axis {
    /// The axis of a domain on a card, where it offers one.
    #[must_use]
    pub fn of(card: &CardDescription, domain: Domain) -> Option<Self> {
        let (kinds, clock): (&[SettingKind], _) = match domain {
            Domain::Core => {
                (&[SettingKind::CoreOffset, SettingKind::ClockMaximum], card.limits.boost_clock)
            }
            Domain::Memory => (&[SettingKind::MemoryOffset], card.memory_clock),
        };
        let offer = kinds.iter().find_map(|kind| card.offer(*kind))?;
        Some(Self { domain, offer: *offer, clock: clock.value() })
    }

    /// The setting.
    #[must_use]
    pub fn kind(&self) -> SettingKind {
        self.offer.kind
    }

    /// Where stock lies in the setting's own unit.
    fn stock(&self) -> f64 {
        self.offer.stock.unwrap_or(0.0)
    }

    /// The highest value the card takes.
    #[must_use]
    pub fn highest(&self) -> MhzOffset {
        MhzOffset((self.offer.maximum - self.stock()) as i32)
    }

    /// The value the card can hold at or below `value`, inside its range.
    #[must_use]
    pub fn bin(&self, value: f64) -> MhzOffset {
        MhzOffset((self.offer.bin(self.stock() + value) - self.stock()).round() as i32)
    }

    /// A step size in whole bins of the card, at least one.
    #[must_use]
    pub fn in_bins(&self, step: f64) -> MhzOffset {
        let bins = (step / self.offer.step).round().max(1.0);
        MhzOffset((bins * self.offer.step).round() as i32)
    }

    /// So many MHz in whole bins of the card, no fewer.
    #[must_use]
    pub fn bin_up(&self, mhz: f64) -> MhzOffset {
        let bins = (mhz / self.offer.step - 1e-9).ceil().max(0.0);
        MhzOffset((bins * self.offer.step).round() as i32)
    }

    /// The plan's coarse step in whole bins of the card, no smaller than the fine one.
    #[must_use]
    pub fn coarse_step(&self, plan: &Plan) -> MhzOffset {
        let coarse = self.in_bins(plan.axis(self.domain).coarse_step(self.clock));
        coarse.max(self.fine_step(plan))
    }

    /// The plan's fine step in whole bins of the card.
    #[must_use]
    pub fn fine_step(&self, plan: &Plan) -> MhzOffset {
        self.in_bins(plan.axis(self.domain).fine_step(self.clock))
    }

    /// The value that settings have on this axis; stock where they name none.
    #[must_use]
    pub fn read(&self, settings: &Settings) -> MhzOffset {
        let value = settings.get(self.kind()).unwrap_or_else(|| self.stock());
        MhzOffset((value - self.stock()).round() as i32)
    }

    /// Sets a value.
    pub fn write(&self, settings: &mut Settings, value: MhzOffset) {
        settings.set(self.kind(), Some(self.stock() + f64::from(value.0)));
    }

    /// The value as the card's own setting is shown: `+90 MHz`, or `2740 MHz` of a window.
    #[must_use]
    pub fn show(&self, value: MhzOffset) -> String {
        self.kind().show(self.stock() + f64::from(value.0))
    }
}

/// Whether settings ask for a higher core clock than stock.
#[must_use]
pub fn asks_more_clock(settings: &Settings, card: &CardDescription) -> bool {
    let axis = Axis::of(card, Domain::Core);
    axis.is_some_and(|axis| axis.read(settings) > MhzOffset::STOCK)
}
