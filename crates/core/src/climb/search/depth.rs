//! How deep a card is undervolted: millivolts taken off, whatever way the card offers for it.

use crate::card::description::{CardDescription, Offer, SettingKind};
use crate::card::settings::Settings;
use crate::load::artifact::Domain;
use crate::shape::CurveOffer;
use crate::units::Mhz;

/// Millivolts that a megahertz takes where a card shows no curve. Assumption: chips of these years
/// gain some 2 MHz for a millivolt.
const MILLIVOLT_PER_MHZ: f64 = 0.5;
/// The same of a memory. Assumption: its voltage helps it little.
const MEMORY_MILLIVOLT_PER_MHZ: f64 = 3.0;

/// The setting that moves a domain's voltage as a whole.
pub(in crate::climb) const fn voltage_of(domain: Domain) -> SettingKind {
    match domain {
        Domain::Core => SettingKind::VoltageOffset,
        Domain::Memory => SettingKind::MemoryVoltage,
    }
}

/// How voltage is taken off.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Means {
    /// By a V/F curve that needs less voltage for each clock.
    Curve(CurveOffer),
    /// By the voltage offset, counted down from so many millivolts; the highest clock beside it,
    /// where the card offers one.
    Offset { offer: Offer, from: f64, window: Option<Offer> },
}

/// The scale of millivolts taken off: 0 is where a walk begins, more is deeper and less safe.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Depth {
    means: Means,
    /// Distance of two depths that are told apart, mV.
    step: i32,
    /// Deepest that may be asked, mV.
    deepest: i32,
    /// Highest clock of the card at stock.
    top: Mhz,
    /// Clock of its domain in millivolts, by the slope of the curve: what a belief counts its shares from.
    scale: f64,
    /// Whose voltage it is.
    domain: Domain,
}

impl Depth {
    /// Less voltage for every clock, from stock down: by the V/F curve where the card offers one,
    /// else by its voltage offset.
    #[must_use]
    pub fn from_stock(card: &CardDescription, fine: i32, most: i32) -> Option<Self> {
        match card.curve {
            Some(offer) => Some(Self::of(card, Means::Curve(offer), fine, most, most)),
            None => Self::from_offset(card, Domain::Core, 0.0, fine, most),
        }
    }

    /// Less voltage of a domain, from the highest the card offers down.
    #[must_use]
    pub fn from_ceiling(
        card: &CardDescription,
        domain: Domain,
        fine: i32,
        most: i32,
    ) -> Option<Self> {
        let offer = card.offer(voltage_of(domain))?;
        Self::from_offset(card, domain, offer.maximum, fine, most)
    }

    fn from_offset(
        card: &CardDescription,
        domain: Domain,
        from: f64,
        fine: i32,
        most: i32,
    ) -> Option<Self> {
        let offer = *card.offer(voltage_of(domain))?;
        let window = card.offer(SettingKind::ClockMaximum).copied();
        let window = window.filter(|_| domain == Domain::Core);
        let room = (from - offer.minimum).floor() as i32;
        let step = (f64::from(fine) / offer.step).round().max(1.0) * offer.step;
        let means = Means::Offset { offer, from, window };
        let depth = Self::of(card, means, step as i32, most.min(room), room);
        (room > 0).then_some(match domain {
            Domain::Core => depth,
            Domain::Memory => Self {
                domain,
                scale: card.memory_clock.value() * MEMORY_MILLIVOLT_PER_MHZ,
                ..depth
            },
        })
    }

    fn of(card: &CardDescription, means: Means, step: i32, most: i32, room: i32) -> Self {
        let boost = card.limits.boost_clock.value();
        let per_mhz = card.curve.map_or(MILLIVOLT_PER_MHZ, |offer| slope(&offer, boost));
        let step = step.max(1);
        Self {
            domain: Domain::Core,
            means,
            step,
            deepest: most.min(room) / step * step,
            top: card.limits.highest_clock,
            scale: boost * per_mhz,
        }
    }

    /// Distance of two depths that are told apart, mV.
    #[must_use]
    pub fn step(&self) -> i32 {
        self.step
    }

    /// Deepest that may be asked, mV.
    #[must_use]
    pub fn deepest(&self) -> i32 {
        self.deepest
    }

    /// The depth of a voltage `off` millivolts below stock's, not in steps yet.
    #[must_use]
    pub fn below_stock(&self, off: i32) -> f64 {
        match self.means {
            Means::Curve(_) => f64::from(off),
            Means::Offset { from, .. } => from + f64::from(off),
        }
    }

    /// The depth at or above `millivolt` that can be asked.
    #[must_use]
    pub fn bin(&self, millivolt: f64) -> i32 {
        let steps = (millivolt / f64::from(self.step) + 1e-9).floor() as i32;
        (steps * self.step).clamp(0, self.deepest)
    }

    /// Whether a highest clock can be held beside a depth.
    #[must_use]
    pub fn holds_clock(&self) -> bool {
        matches!(self.means, Means::Curve(_) | Means::Offset { window: Some(_), .. })
    }

    /// The highest clock that can be held nearest to one; never above the card's own.
    #[must_use]
    pub fn top(&self, clock: Mhz) -> Mhz {
        let clock = clock.value().min(self.top.value());
        Mhz(match self.means {
            Means::Curve(offer) => f64::from(offer.clocks.nearest(clock)),
            Means::Offset { window: Some(window), .. } => window.bin(clock + window.step / 2.0),
            Means::Offset { window: None, .. } => self.top.value(),
        })
    }

    /// Distance of two clocks that can be held, MHz.
    #[must_use]
    pub fn clock_step(&self) -> f64 {
        match self.means {
            Means::Curve(offer) => f64::from(offer.clocks.step),
            Means::Offset { window: Some(window), .. } => window.step,
            Means::Offset { window: None, .. } => f64::INFINITY,
        }
    }

    /// Settings so deep, and with no more clock than `top` where one is given.
    #[must_use]
    pub fn write(&self, base: &Settings, depth: i32, top: Option<Mhz>) -> Settings {
        let mut settings = *base;
        match self.means {
            Means::Curve(offer) => {
                let top = self.top(top.unwrap_or(self.top));
                let curve = offer.undervolted(f64::from(depth), top);
                settings.curve = Some(curve).filter(|curve| *curve != offer.factory);
            }
            Means::Offset { offer, from, window } => {
                settings.set(offer.kind, Some(from - f64::from(depth)));
                if let (Some(top), Some(_)) = (top, window) {
                    settings.set(SettingKind::ClockMaximum, Some(self.top(top).value()));
                }
            }
        }
        settings
    }

    /// How deep settings are, and the highest clock they hold; `None` where this scale has no such
    /// place: another curve than an undervolt of all of it.
    #[must_use]
    pub fn read(&self, settings: &Settings) -> Option<(i32, Mhz)> {
        match self.means {
            Means::Curve(offer) => {
                let Some(curve) = settings.curve else { return Some((0, self.top(self.top))) };
                let top = Mhz(f64::from(curve.last().mhz));
                let found = (0..=self.deepest)
                    .step_by(self.step as usize)
                    .find(|depth| offer.undervolted(f64::from(*depth), top) == curve)?;
                Some((found, top))
            }
            Means::Offset { offer, from, .. } => {
                let held = settings.get(offer.kind).or(offer.stock).unwrap_or(0.0);
                let top = settings.get(SettingKind::ClockMaximum).map_or(self.top, Mhz);
                let depth = (from - held).round() as i32;
                (0..=self.deepest).contains(&depth).then_some((depth, top))
            }
        }
    }

    /// A depth as it is shown.
    #[must_use]
    pub fn show(&self, depth: i32) -> String {
        match (self.means, depth) {
            (Means::Offset { offer, from, .. }, _) if from != 0.0 => {
                offer.kind.show(from - f64::from(depth))
            }
            (_, 0) => "±0 mV".into(),
            _ => format!("−{depth} mV"),
        }
    }

    /// Whose voltage it is.
    #[must_use]
    pub fn domain(&self) -> Domain {
        self.domain
    }

    /// Clock of its domain in millivolts, by the slope of the curve.
    pub(in crate::climb) fn scale(&self) -> f64 {
        self.scale
    }
}

/// Millivolts a megahertz of a curve takes below the boost clock.
fn slope(offer: &CurveOffer, boost: f64) -> f64 {
    let high = boost.min(f64::from(offer.factory.last().mhz));
    let at = |clock| offer.factory.voltage_for(Mhz(clock)).map(|voltage| voltage.value());
    let rise = at(high).zip(at(high * 0.9)).map(|(high, low)| high - low);
    rise.filter(|rise| *rise > 0.0).map_or(MILLIVOLT_PER_MHZ, |rise| rise / (high * 0.1))
}
