//! Kinds of load, by what they strain: each breaks a card in its own way.

use serde::{Deserialize, Serialize};

use crate::load::{EVERYDAY, MIXTURE};
use crate::units::Percent;

/// A kind of load.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, strum::EnumCount)]
#[serde(rename_all = "kebab-case")]
pub enum LoadKind {
    /// Most heat: the whole chip switches, steadily.
    Heat,
    /// Memory traffic.
    Memory,
    /// Geometry: the longest paths of the chip.
    Geometry,
    /// A game-like mix.
    Game,
    /// Light load with pauses, as in menus: high clocks at little power.
    Light,
    /// Sudden load changes.
    Changes,
    /// From idle and cold to full load.
    Cold,
}

/// A load below this keeps less than half of the card busy: it is a light one.
const LIGHT_BELOW: Percent = Percent(50.0);

impl LoadKind {
    /// All kinds.
    pub const ALL: [Self; <Self as strum::EnumCount>::COUNT] = [
        Self::Heat,
        Self::Memory,
        Self::Geometry,
        Self::Game,
        Self::Light,
        Self::Changes,
        Self::Cold,
    ];
    /// Those a medley is made of, a stretch of each in turn.
    const OF_MEDLEY: [Self; 6] =
        [Self::Heat, Self::Memory, Self::Geometry, Self::Game, Self::Light, Self::Changes];

    /// What it is, in a word or two.
    #[must_use]
    pub const fn label(self) -> &'static str {
        match self {
            Self::Heat => "heat",
            Self::Memory => "memory",
            Self::Geometry => "geometry",
            Self::Game => "game-like",
            Self::Light => "light load",
            Self::Changes => "load changes",
            Self::Cold => "cold start",
        }
    }

    /// The kind of a scene; none for a load that is no scene, or the medley, which is all of them.
    #[must_use]
    pub fn of_scene(load: &str) -> Option<Self> {
        let scene = load.split('@').next().unwrap_or(load);
        Some(match scene {
            "kiln" => Self::Heat,
            "sluice" => Self::Memory,
            "loom" => Self::Geometry,
            "lantern" => Self::Game,
            "doldrums" => Self::Light,
            "squall" => Self::Changes,
            _ => return None,
        })
    }

    /// The kinds that an hour of a load counts for, with their shares of it: a medley for all its scenes alike, everyday
    /// use and the user's programs by how busy they kept the card.
    #[must_use]
    pub fn of_load(load: &str, mean_load: Option<Percent>) -> Vec<(Self, f64)> {
        if load == MIXTURE || load.strip_prefix(MIXTURE).is_some_and(|size| size.starts_with('@')) {
            let share = 1.0 / Self::OF_MEDLEY.len() as f64;
            return Self::OF_MEDLEY.into_iter().map(|kind| (kind, share)).collect();
        }
        let is_light = mean_load.is_some_and(|load| load < LIGHT_BELOW);
        let kind = Self::of_scene(load).unwrap_or(if is_light { Self::Light } else { Self::Game });
        // Who uses a card goes through menus and loading screens, too.
        if load == EVERYDAY && !is_light {
            return vec![(Self::Game, 0.8), (Self::Light, 0.1), (Self::Changes, 0.1)];
        }
        vec![(kind, 1.0)]
    }

    pub(crate) const fn place(self) -> usize {
        self as usize
    }
}

/// A value for each kind of load.
pub(crate) type ByKind = [f64; LoadKind::ALL.len()];

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("kiln", 99.0, &[LoadKind::Heat])]
    #[case("kiln@192x108", 99.0, &[LoadKind::Heat])]
    #[case("some-game", 97.0, &[LoadKind::Game])]
    #[case("some-menu", 20.0, &[LoadKind::Light])]
    #[case(EVERYDAY, 20.0, &[LoadKind::Light])]
    #[case(EVERYDAY, 90.0, &[LoadKind::Game, LoadKind::Light, LoadKind::Changes])]
    #[case("medley", 80.0, &LoadKind::OF_MEDLEY)]
    #[case("medley@96x54", 80.0, &LoadKind::OF_MEDLEY)]
    #[case("medleys", 80.0, &[LoadKind::Game])]
    fn an_hour_counts_for_its_kinds_and_never_twice(
        #[case] load: &str,
        #[case] busy: f64,
        #[case] wanted: &[LoadKind],
    ) {
        let found = LoadKind::of_load(load, Some(Percent(busy)));
        let kinds: Vec<LoadKind> = found.iter().map(|(kind, _)| *kind).collect();
        assert_eq!(kinds, wanted);
        let whole: f64 = found.iter().map(|(_, share)| share).sum();
        assert!((whole - 1.0).abs() < 1e-12);
    }
}
