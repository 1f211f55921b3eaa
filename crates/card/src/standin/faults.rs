//! What happens past the edge: how soon a fault comes, and which.

use rand::RngExt;
use rand_chacha::ChaCha8Rng;
use serde::Deserialize;

use crate::LoadLost;

/// How faults set in around an edge.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub(super) enum Onset {
    #[default]
    Exponential,
    PowerLaw,
    SoftFoot,
    TwoSlopes,
    Cliff,
}

impl Onset {
    /// Faults per hour `past` e-folds past an edge.
    pub(super) fn rate(self, past: f64) -> f64 {
        const EDGE_HOURS: f64 = 24.0;
        // However far past, some time goes by until the first fault.
        const MOST: f64 = 15.0;
        let of_exponent = |exponent: f64| exponent.min(MOST).exp();
        let faults_a_day = match self {
            Self::Exponential => of_exponent(past),
            Self::PowerLaw => (1.0 + past / 3.0).max(0.0).powi(3).min(MOST.exp()),
            Self::SoftFoot => of_exponent(if past < 0.0 { past / 3.0 } else { past }),
            Self::TwoSlopes => of_exponent(if past < 0.0 { past / 2.0 } else { 2.0 * past }),
            Self::Cliff => of_exponent(4.0 * past),
        };
        faults_a_day / EDGE_HOURS
    }
}

/// What the physics knows of the family a unit belongs to.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct Faults {
    pub onset: Onset,
    /// Faults an hour that have nothing to do with any clock.
    pub floor: f64,
    /// Share of all faults that take the machine down, whatever the clock.
    pub machine_down_share: f64,
    /// MHz by which the core fails earlier while less than half of the card is busy.
    pub light_load_mhz: f64,
    /// How far edges move from run to run, MHz of core and memory (standard deviation).
    pub scatter_mhz: (f64, f64),
}

impl Default for Faults {
    fn default() -> Self {
        Self {
            onset: Onset::Exponential,
            floor: 0.0,
            machine_down_share: 0.0,
            light_load_mhz: 0.0,
            scatter_mhz: (0.0, 0.0),
        }
    }
}

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
///
/// `machine_down_share` of all faults take the machine down, however far past they happen.
pub(super) fn draw_kind(dice: &mut ChaCha8Rng, past: f64, machine_down_share: f64) -> ChipFault {
    if machine_down_share > 0.0 && dice.random::<f64>() < machine_down_share {
        return ChipFault::Lost(LoadLost::MachineDown);
    }
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
    use rstest::rstest;

    #[rstest]
    #[case(Onset::Exponential)]
    #[case(Onset::PowerLaw)]
    #[case(Onset::SoftFoot)]
    #[case(Onset::TwoSlopes)]
    #[case(Onset::Cliff)]
    fn every_onset_has_a_fault_a_day_at_the_edge_and_never_fewer_past_it(#[case] onset: Onset) {
        assert!((onset.rate(0.0) * 24.0 - 1.0).abs() < 1e-12);
        let rates: Vec<f64> =
            (-120..200).map(|tenths| onset.rate(f64::from(tenths) / 10.0)).collect();
        assert!(rates.is_sorted() && rates[0] < rates[200], "{onset:?}");
        assert_eq!(onset.rate(800.0), onset.rate(900.0), "beyond some point all fails at once");
    }

    /// Why a short search cannot tell them apart, and what that costs (docs/search.md).
    #[test]
    fn weak_paths_show_only_where_faults_are_rarer_than_one_a_day() {
        let (usual, weak) = (Onset::Exponential, Onset::SoftFoot);
        assert!((0..160).map(f64::from).all(|p| usual.rate(p / 10.0) == weak.rate(p / 10.0)));
        assert!((1..160).map(f64::from).all(|p| usual.rate(-p / 10.0) < weak.rate(-p / 10.0)));
        // A day stands with 99 % where it brings 0.01 faults.
        let stands = |onset: Onset, past: f64| onset.rate(past) * 24.0 <= 0.01;
        let below = |onset: Onset| (0..200).find(|p| stands(onset, f64::from(-p))).unwrap();
        assert_eq!((below(usual), below(weak)), (5, 14));
    }

    #[test]
    fn faults_get_graver_the_further_past_the_limit() {
        let mut dice = ChaCha8Rng::seed_from_u64(3);
        let mut share = |past: f64, kind: ChipFault| {
            (0..2_000).filter(|_| draw_kind(&mut dice, past, 0.0) == kind).count() as f64 / 2_000.0
        };
        assert!(share(0.0, ChipFault::Artifacts) > 0.7);
        assert!(share(6.25, ChipFault::Lost(LoadLost::Died)) > 0.4);
        assert!(share(13.75, ChipFault::Lost(LoadLost::DriverReset)) > 0.45);
        assert!(share(37.5, ChipFault::Lost(LoadLost::MachineDown)) > 0.8);
        assert_eq!(share(0.0, ChipFault::Lost(LoadLost::MachineDown)), 0.0);
    }
}
