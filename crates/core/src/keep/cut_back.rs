//! Settings of another card, made milder: every one goes a share of its way back to stock.

use crate::card::description::{CardDescription, SettingKind};
use crate::card::settings::{Clamped, Settings};
use crate::shape::{CurveOffer, VfCurve};
use crate::units::Percent;

/// Share that an imported profile is cut back by, unless another one is named, percent.
pub const CUT_BACK: f64 = 25.0;

impl Settings {
    /// These settings as a starting point on a card: each a share of its way back to the card's
    /// stock, towards it in the card's own steps, inside its ranges; what the card lacks is left out.
    /// A fan is taken as it is. Each of these has a note.
    ///
    /// `share` is 0 to 100: at 0 nothing is cut back, at 100 all is stock.
    #[must_use]
    pub fn cut_back(&self, card: &CardDescription, share: Percent) -> Clamped {
        let kept = 1.0 - share.value().clamp(0.0, 100.0) / 100.0;
        let stock = Self::stock(card);
        let Clamped { settings: within, notes } = self.clamped(card);
        let mut settings = stock;
        settings.fan = within.fan.or(stock.fan);
        for offer in card.offers.iter().filter(|offer| offer.kind != SettingKind::Fan) {
            let (Some(asked), Some(from)) = (within.get(offer.kind), offer.stock) else {
                // What has no stock value, such as a frame cap, cannot be made milder.
                if within.says(offer.kind) {
                    settings.copy(offer.kind, &within);
                }
                continue;
            };
            let steps = (asked - from) * kept / offer.step;
            // Towards stock: a step that is not whole is not taken.
            let value = from + (steps + steps.signum() * 1e-9).trunc() * offer.step;
            settings.set(offer.kind, Some(value.clamp(offer.minimum, offer.maximum)));
        }
        settings.curve = match (within.curve, card.curve) {
            (Some(asked), Some(offer)) => offer.between(&asked, kept),
            _ => None,
        };
        Clamped { settings, notes }
    }
}

impl CurveOffer {
    /// The curve a share of the way from the factory's to another one, in the card's steps; `None`
    /// where that is the factory's own.
    #[must_use]
    pub fn between(&self, other: &VfCurve, share: f64) -> Option<VfCurve> {
        let other = self.within(other);
        let part = |from: u16, to: u16| f64::from(from) + (f64::from(to) - f64::from(from)) * share;
        let points: Vec<(u16, u16)> = self
            .factory
            .points()
            .iter()
            .zip(other.points())
            .map(|(from, to)| {
                (
                    part(from.millivolt, to.millivolt).round() as u16,
                    part(from.mhz, to.mhz).round() as u16,
                )
            })
            .collect();
        let curve = self.hold(&VfCurve::new(&points).ok()?);
        Some(curve).filter(|curve| *curve != self.factory)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fixtures::card as plain;
    use crate::shape::{CurveKind, Span};
    use crate::units::{MhzOffset, MillivoltOffset, Watt};
    use proptest::prelude::{prop_assert, proptest};
    use rstest::rstest;

    fn card() -> CardDescription {
        let factory = VfCurve::new(&[(900, 1_815), (950, 1_905), (1_000, 1_995)]).unwrap();
        CardDescription {
            curve: Some(CurveOffer {
                kind: CurveKind::Points,
                factory,
                clocks: Span { lowest: 705, highest: 2_505, step: 15 },
                voltages: Span { lowest: 900, highest: 1_000, step: 50 },
            }),
            ..plain()
        }
    }

    #[rstest]
    #[case(0.0, 120)]
    #[case(25.0, 90)]
    #[case(30.0, 75)]
    #[case(100.0, 0)]
    fn each_setting_goes_its_share_back_in_whole_steps(#[case] share: f64, #[case] offset: i32) {
        let asked = Settings { core_offset: Some(MhzOffset(120)), ..Settings::default() };
        let Clamped { settings, notes } = asked.cut_back(&card(), Percent(share));
        assert_eq!(settings.core_offset, Some(MhzOffset(offset)));
        assert_eq!(notes, Vec::<String>::new());
        assert!(
            card().offers.iter().all(|offer| offer.stock.is_none() || settings.says(offer.kind))
        );
    }

    #[test]
    fn what_a_card_lacks_is_left_out_and_told() {
        let asked = Settings { memory_timing: Some(2), ..Settings::default() };
        let Clamped { settings, notes } = asked.cut_back(&card(), Percent(25.0));
        assert_eq!(settings.memory_timing, None);
        assert_eq!(notes.len(), 1, "{notes:?}");
    }

    #[test]
    fn a_curve_goes_back_point_by_point_and_still_rises() {
        let lifted = VfCurve::new(&[(900, 1_935), (950, 2_025), (1_000, 2_025)]).unwrap();
        let asked = Settings { curve: Some(lifted), ..Settings::default() };
        let half = asked.cut_back(&card(), Percent(50.0)).settings.curve.unwrap();
        let points: Vec<(u16, u16)> = half.into();
        assert_eq!(points, [(900, 1_875), (950, 1_965), (1_000, 2_010)]);
        assert_eq!(asked.cut_back(&card(), Percent(100.0)).settings.curve, None);
    }

    proptest! {
        #[test]
        fn whatever_is_imported_ends_inside_the_ranges_and_no_farther_from_stock(
            core in -5_000_i32..5_000,
            voltage in -900_i32..900,
            power in 0.0..2_000.0_f64,
            share in 0.0..100.0_f64,
        ) {
            let card = card();
            let asked = Settings {
                core_offset: Some(MhzOffset(core)),
                voltage_offset: Some(MillivoltOffset(voltage)),
                power_limit: Some(Watt(power)),
                ..Settings::default()
            };
            let settings = asked.cut_back(&card, Percent(share)).settings;
            for offer in &card.offers {
                let Some(value) = settings.get(offer.kind) else { continue };
                prop_assert!((offer.minimum..=offer.maximum).contains(&value));
                if let (Some(stock), Some(asked)) = (offer.stock, asked.get(offer.kind)) {
                    prop_assert!((value - stock).abs() <= (asked - stock).abs() + 1e-6);
                }
            }
        }
    }
}
