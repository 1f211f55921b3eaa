//! In which steps a card counts that does not say so: read off what it took for what it was asked.
//!
//! ```text
//!   asked  +40  +70  +100        taken  +30  +60  +90
//!   all that was taken lies on a grid (30), and no asked value is a whole step away from what was taken (10):
//!   the finest grid that fits both is 15
//! ```
//!
//! Without it a search would ask for a value again and again that the card never holds.

use crate::card::description::{CardDescription, SettingKind};
use crate::climb::record::TrialRecord;
use crate::judge::verdict::Verdict;

/// The finest step of a setting that fits all trials, in its unit; none where nothing was rounded, or nothing fits.
#[must_use]
pub(crate) fn step_of(
    kind: SettingKind,
    card: &CardDescription,
    trials: &[TrialRecord],
) -> Option<f64> {
    let offer = card.offer(kind)?;
    let stock = offer.stock?;
    let (mut grid, mut most) = (0_u64, 0.0_f64);
    for trial in trials.iter().filter(|trial| trial.verdict() != Verdict::NotTaken) {
        let taken = trial.taken.and_then(|taken| taken.get(kind));
        let Some((asked, taken)) = trial.asked.get(kind).zip(taken) else { continue };
        grid = greatest_common_divisor(grid, (taken - stock).abs().round() as u64);
        most = most.max((asked - taken).abs());
    }
    if most <= 0.0 {
        return None;
    }
    if grid == 0 {
        // All of it went to stock: the step is longer than that.
        return Some(most.floor() + 1.0);
    }
    let divisors = (1..=grid).filter(|step| grid.is_multiple_of(*step));
    divisors.map(|step| step as f64).find(|step| *step > most)
}

/// Notes in the card's offers what its trials have shown of its steps.
pub(crate) fn learn(card: &mut CardDescription, trials: &[TrialRecord]) {
    if !card.steps_unstated {
        return;
    }
    for kind in SettingKind::ALL {
        let step = step_of(kind, card, trials);
        let offer = card.offers.iter_mut().find(|offer| offer.kind == kind);
        if let (Some(step), Some(offer)) = (step, offer) {
            offer.step = step;
        }
    }
}

/// By Euclid's algorithm; that of 0 and a number is the number.
fn greatest_common_divisor(a: u64, b: u64) -> u64 {
    if b == 0 { a } else { greatest_common_divisor(b, a % b) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::card::settings::Settings;
    use crate::fixtures;
    use crate::units::MhzOffset;
    use rstest::rstest;

    const KIND: SettingKind = SettingKind::CoreOffset;

    fn trial((asked, taken): (i32, i32)) -> TrialRecord {
        let with =
            |offset| Settings { core_offset: Some(MhzOffset(offset)), ..Settings::default() };
        TrialRecord { asked: with(asked), taken: Some(with(taken)), ..fixtures::record(1) }
    }

    #[rstest]
    #[case::exact(&[(40, 40), (70, 70)], None)]
    #[case::downwards(&[(40, 30), (70, 60), (100, 90)], Some(15.0))]
    #[case::to_the_nearest(&[(40, 45), (55, 60)], Some(15.0))]
    #[case::to_stock_only(&[(10, 0)], Some(11.0))]
    #[case::on_no_grid(&[(40, 31), (70, 60)], None)]
    #[case::nothing_yet(&[], None)]
    fn the_finest_step_that_fits_is_found(
        #[case] trials: &[(i32, i32)],
        #[case] expected: Option<f64>,
    ) {
        let trials: Vec<TrialRecord> = trials.iter().copied().map(trial).collect();
        assert_eq!(step_of(KIND, &fixtures::card(), &trials), expected);
    }

    #[test]
    fn a_card_that_says_in_which_steps_it_counts_is_believed() {
        let mut card = fixtures::card();
        let stated = card.clone();
        learn(&mut card, &[trial((40, 31))]);
        assert_eq!(card, stated);
        card.steps_unstated = true;
        learn(&mut card, &[trial((40, 30))]);
        assert_eq!(card.offer(KIND).unwrap().step, 15.0);
    }
}
