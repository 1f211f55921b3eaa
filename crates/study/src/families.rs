//! The families of cards that ship: physics that differ from those the search was tuned to.

use yard_step_card::{CardError, Family};

macro_rules! shipped {
    ($($name:literal),* $(,)?) => {
        /// Their names, with the files as they ship.
        const SHIPPED: &[(&str, &str)] =
            &[$(($name, include_str!(concat!("../families/", $name, ".toml")))),*];
    };
}

shipped!(
    "as-shipped",
    "near-stock",
    "steep",
    "gentle",
    "gentler",
    "scattered",
    "power-law",
    "soft-foot",
    "two-slopes",
    "rare-faults",
    "frequent-faults",
    "light-load",
    "load-changes",
    "grave",
    "cliff",
    "wandering",
    "hot-room",
    "correcting",
);

/// The names of the families that ship, the stand-ins as they are first.
pub fn family_names() -> impl Iterator<Item = &'static str> {
    SHIPPED.iter().map(|(name, _)| *name)
}

/// A family that ships, by its name; none where there is none of that name.
///
/// # Errors
/// Its file is unusable.
pub fn shipped_family(name: &str) -> Result<Option<Family>, CardError> {
    let found = SHIPPED.iter().find(|(known, _)| *known == name);
    found.map(|(_, text)| Family::from_toml(text)).transpose()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_family_that_ships_can_be_read_and_says_what_it_is() {
        for name in family_names() {
            let family = shipped_family(name).unwrap().unwrap();
            assert!(family.about().len() > 10, "{name}");
        }
        assert_eq!(shipped_family("as-shipped").unwrap().unwrap().about(), "as the stand-ins ship");
        assert_eq!(shipped_family("no such").unwrap(), None);
        let files = std::fs::read_dir(concat!(env!("CARGO_MANIFEST_DIR"), "/families")).unwrap();
        assert_eq!(files.count(), family_names().count(), "a file that is not listed");
    }
}
