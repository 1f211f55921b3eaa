//! What happens past the edge: which fault comes.

use rand::RngExt;
use rand_chacha::ChaCha8Rng;

use crate::LoadLost;

/// A fault of the chip.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum ChipFault {
    /// The next frames are wrong.
    Artifacts,
    /// The card drops the load.
    Lost(LoadLost),
}

/// Draws the kind of a fault that happens `past` e-folds of the fault rate past the limit. The
/// further past, the graver: each kind's weight grows exponentially from the place at which it
/// comes to be as likely as plain artifacts, the graver kinds later and faster.
pub(super) fn draw_kind(dice: &mut ChaCha8Rng, past: f64) -> ChipFault {
    const KINDS: [(ChipFault, f64, f64); 4] = [
        (ChipFault::Artifacts, 0.0, f64::INFINITY),
        (ChipFault::Lost(LoadLost::Died), 3.75, 2.0),
        (ChipFault::Lost(LoadLost::DriverReset), 6.25, 1.375),
        (ChipFault::Lost(LoadLost::MachineDown), 10.0, 1.0),
    ];
    let weights = KINDS.map(|(_, from, scale)| ((past - from) / scale).min(300.0).exp());
    let mut left = dice.random::<f64>() * weights.iter().sum::<f64>();
    for ((kind, ..), weight) in KINDS.into_iter().zip(weights) {
        if left < weight {
            return kind;
        }
        left -= weight;
    }
    ChipFault::Artifacts
}

#[cfg(test)]
mod tests {
    use super::*;
    use rand::SeedableRng;

    #[test]
    fn faults_get_graver_the_further_past_the_limit() {
        let mut dice = ChaCha8Rng::seed_from_u64(3);
        let mut share = |past: f64, kind: ChipFault| {
            (0..2_000).filter(|_| draw_kind(&mut dice, past) == kind).count() as f64 / 2_000.0
        };
        assert!(share(0.0, ChipFault::Artifacts) > 0.7);
        assert!(share(6.25, ChipFault::Lost(LoadLost::Died)) > 0.4);
        assert!(share(13.75, ChipFault::Lost(LoadLost::DriverReset)) > 0.45);
        assert!(share(37.5, ChipFault::Lost(LoadLost::MachineDown)) > 0.8);
        assert_eq!(share(0.0, ChipFault::Lost(LoadLost::MachineDown)), 0.0);
    }
}
