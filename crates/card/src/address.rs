//! Which cards there are, how they are named, and how each is reached: [`connect`].

use std::fmt;
use std::path::Path;
use std::str::FromStr;
use std::sync::Arc;

use thiserror::Error;

use crate::keeper::{KeptAddress, KeptCard};
use crate::kernel::{self, KernelCard, is_address, kernel_cards};
use crate::slot::{Power, SlotAddress, SlotCard};
use crate::standin::{Family, StandIn};
use crate::{Card, CardError, Reach, RuntimeDir};

/// Every kind of stand-in: its name and its model.
pub const KINDS: [(&str, &str); 3] = [
    ("tarn-310", include_str!("../cards/tarn-310.toml")),
    ("bracken-208", include_str!("../cards/bracken-208.toml")),
    ("quern-540", include_str!("../cards/quern-540.toml")),
];

const PREFIX: &str = "standin:";
/// The only real card of the machine.
const ONLY: &str = "kernel";

/// A kind of stand-in, such as `standin:tarn-310`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CardChoice {
    kind: &'static str,
    model: &'static str,
}

/// A card's name that is none.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum ChoiceError {
    /// No card is called so.
    #[error("there is no card \"{asked}\"; there are: {}, and kernel or kernel:ADDRESS for a real card", CardChoice::all().iter().map(ToString::to_string).collect::<Vec<_>>().join(", "))]
    Unknown {
        /// What was asked for.
        asked: String,
    },
    /// There is no real card.
    #[error("no real card found below {sysfs}")]
    NoReal {
        /// Root of the files.
        sysfs: String,
    },
    /// There is more than one, and none was named.
    #[error("there is more than one real card; name it: {}", .known.join(", "))]
    ManyReal {
        /// All of them.
        known: Vec<String>,
    },
}

impl CardChoice {
    /// All kinds.
    #[must_use]
    pub fn all() -> Vec<Self> {
        KINDS.iter().map(|(kind, model)| Self { kind, model }).collect()
    }

    /// The unit of this kind with the given seed. `course` changes what chance brings (runs
    /// scatter, faults fall elsewhere) and leaves the unit as it is.
    ///
    /// # Errors
    /// The model that ships for this kind is unusable.
    pub fn open(&self, seed: u64, course: u64) -> Result<StandIn, CardError> {
        StandIn::new(&self.to_string(), self.model, seed, course)
    }

    /// The same as a unit of a family of cards.
    ///
    /// # Errors
    /// The model that ships for this kind is unusable.
    pub fn open_of_family(
        &self,
        seed: u64,
        course: u64,
        family: Option<&Family>,
    ) -> Result<StandIn, CardError> {
        StandIn::of_family(&self.to_string(), self.model, seed, course, family)
    }
}

impl fmt::Display for CardChoice {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{PREFIX}{}", self.kind)
    }
}

impl FromStr for CardChoice {
    type Err = ChoiceError;

    fn from_str(name: &str) -> Result<Self, ChoiceError> {
        Self::all()
            .into_iter()
            .find(|choice| choice.to_string() == name)
            .ok_or_else(|| ChoiceError::Unknown { asked: name.to_owned() })
    }
}

/// Where a card is.
#[derive(Debug, Clone, PartialEq)]
enum Place {
    /// A stand-in of this kind, the unit with this seed, its machine under this release of the driver, of a family other
    /// than the one that ships where it names one.
    StandIn { kind: CardChoice, unit: u64, driver: u32, course: u64, family: Option<NamedFamily> },
    /// A real card.
    Real(KeptAddress),
}

/// A family and what it is called.
#[derive(Debug, Clone, PartialEq)]
struct NamedFamily {
    name: String,
    family: Arc<Family>,
}

/// A card's address: `standin:tarn-310` or, with its unit, `standin:tarn-310#7`, as the user writes it, and
/// `standin:tarn-310#7@gentle` where the unit is of a family of its own; or `kernel:0000:03:00.0` for a real card, by its
/// address on the bus. The only real card may be written as `kernel`, until it is [looked up](CardAddress::looked_up).
#[derive(Debug, Clone, PartialEq)]
pub struct CardAddress(Place);

/// The only real card below a root.
///
/// # Errors
/// There is none, or more than one.
pub fn only_real_card(sysfs: &Path) -> Result<KernelCard, ChoiceError> {
    let mut cards = kernel_cards(sysfs);
    match (cards.pop(), cards.is_empty()) {
        (None, _) => Err(ChoiceError::NoReal { sysfs: sysfs.display().to_string() }),
        (Some(only), true) => Ok(only),
        (Some(last), false) => {
            let all = cards.iter().chain([&last]);
            Err(ChoiceError::ManyReal {
                known: all.map(|card| card.description.id.clone()).collect(),
            })
        }
    }
}

/// Reaches a card to look at it: a stand-in in this process, or a real card through its files.
///
/// # Errors
/// There is no card, it does not answer, or the model of a stand-in is unusable.
pub fn connect(address: &CardAddress) -> Result<Box<dyn Card>, CardError> {
    Ok(match &address.0 {
        Place::StandIn { .. } => Box::new(address.stand_in()?),
        Place::Real(real) => Box::new(KeptCard::open(real, false)?),
    })
}

/// Reaches a card that another process holds, to put it back.
///
/// # Errors
/// It is not there, or does not answer.
pub fn connect_to_held(card: &Reach) -> Result<Box<dyn Card>, CardError> {
    Ok(match card {
        Reach::Slot(socket) => Box::new(SlotCard::open(SlotAddress::at(socket), None)?),
        Reach::Kept(address) => Box::new(KeptCard::open(address, true)?.held()?),
    })
}

/// Reaches a card to control it, one that outlives this process: a stand-in is held by a process of its own, which `start`
/// starts at the socket it is given, if it is not there; a real card by its keeper.
///
/// # Errors
/// As [`connect`]; or the process cannot be started.
pub fn connect_hosted(
    address: &CardAddress,
    runtime: &RuntimeDir,
    start: impl Fn(&SlotAddress) -> std::io::Result<()> + Send + 'static,
) -> Result<Box<dyn Card>, CardError> {
    if let Place::Real(real) = &address.0 {
        return Ok(Box::new(KeptCard::open(real, true)?));
    }
    let socket = SlotAddress::of(runtime, &address.to_string());
    let power: Power = {
        let socket = socket.clone();
        Box::new(move || start(&socket))
    };
    Ok(Box::new(SlotCard::open(socket, Some(power))?))
}

impl CardAddress {
    /// The cards there are on this machine.
    #[must_use]
    pub fn all() -> Vec<Self> {
        let place = |kind| Place::StandIn { kind, unit: 1, driver: 1, course: 0, family: None };
        CardChoice::all().into_iter().map(|kind| Self(place(kind))).collect()
    }

    /// The same where a real card's files, or its keeper, are found at other places.
    #[must_use]
    pub fn found_at(&self, sysfs: Option<&Path>, keeper: Option<&Path>) -> Self {
        let mut address = self.clone();
        if let Place::Real(real) = &mut address.0 {
            sysfs.unwrap_or(&real.sysfs.clone()).clone_into(&mut real.sysfs);
            keeper.unwrap_or(&real.keeper.clone()).clone_into(&mut real.keeper);
        }
        address
    }

    /// The same with loads that are drawn by the software Vulkan driver, where the card is a real one.
    #[must_use]
    pub fn drawn_in_software(&self) -> Self {
        let mut address = self.clone();
        if let Place::Real(real) = &mut address.0 {
            real.in_software = true;
        }
        address
    }

    /// The same, and the only real card by its address on the bus.
    ///
    /// # Errors
    /// There is none, or more than one.
    pub fn looked_up(&self) -> Result<Self, ChoiceError> {
        let Place::Real(real) = &self.0 else { return Ok(self.clone()) };
        if !real.card.is_empty() {
            return Ok(self.clone());
        }
        let card = only_real_card(&real.sysfs)?.address;
        Ok(Self(Place::Real(KeptAddress { card, ..real.clone() })))
    }

    /// The address on the bus of a real card.
    #[must_use]
    pub fn on_bus(&self) -> Option<&str> {
        match &self.0 {
            Place::StandIn { .. } => None,
            Place::Real(real) => Some(&real.card),
        }
    }

    /// Whether it is a stand-in.
    #[must_use]
    pub fn is_simulated(&self) -> bool {
        matches!(self.0, Place::StandIn { .. })
    }

    /// The same under this release of the driver, from 1; the address as it is where the driver is the
    /// machine's own.
    #[must_use]
    pub fn with_driver(&self, release: u32) -> Self {
        let mut address = self.clone();
        if let Place::StandIn { driver, .. } = &mut address.0 {
            *driver = release;
        }
        address
    }

    /// The same, and chance takes another course: runs scatter and faults fall otherwise, the unit is the
    /// same. A real card takes its own course.
    #[must_use]
    pub fn on_course(&self, number: u64) -> Self {
        let mut address = self.clone();
        if let Place::StandIn { course, .. } = &mut address.0 {
            *course = number;
        }
        address
    }

    /// The same unit as one of a family of cards, by which name it goes from then on.
    #[must_use]
    pub fn of_family(&self, name: &str, family: Family) -> Self {
        let mut address = self.clone();
        if let Place::StandIn { family: of, .. } = &mut address.0 {
            *of = Some(NamedFamily { name: name.to_owned(), family: Arc::new(family) });
        }
        address
    }

    /// Another unit of the same kind, where the address does not name one.
    #[must_use]
    pub fn with_unit(&self, number: u64) -> Self {
        let mut address = self.clone();
        if let Place::StandIn { unit, .. } = &mut address.0 {
            *unit = number;
        }
        address
    }

    /// Release of the driver that was asked for, and the course; 1 and 0 where they are the machine's own.
    #[must_use]
    pub fn driver_and_course(&self) -> (u32, u64) {
        match &self.0 {
            Place::StandIn { driver, course, .. } => (*driver, *course),
            Place::Real(_) => (1, 0),
        }
    }

    /// The stand-in of this address, for what only a stand-in can do.
    ///
    /// # Errors
    /// The model of its kind is unusable, or the card is a real one.
    pub fn stand_in(&self) -> Result<StandIn, CardError> {
        match &self.0 {
            Place::StandIn { kind, unit, driver, course, family } => {
                let of = family.as_ref().map(|named| named.family.as_ref());
                let mut card = kind.open_of_family(*unit, *course, of)?;
                card.set_driver(*driver);
                if let Some(named) = family {
                    card.set_family_name(&named.name);
                }
                Ok(card)
            }
            Place::Real(real) => {
                Err(CardError::Refused { why: format!("{real} is a real card, not a stand-in") })
            }
        }
    }
}

impl fmt::Display for CardAddress {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.0 {
            Place::StandIn { kind, unit, family: None, .. } => write!(f, "{kind}#{unit}"),
            Place::StandIn { kind, unit, family: Some(of), .. } => {
                write!(f, "{kind}#{unit}@{}", of.name)
            }
            Place::Real(real) => real.fmt(f),
        }
    }
}

impl FromStr for CardAddress {
    type Err = ChoiceError;

    fn from_str(name: &str) -> Result<Self, ChoiceError> {
        let unknown = || ChoiceError::Unknown { asked: name.to_owned() };
        if name == ONLY {
            return Ok(Self(Place::Real(KeptAddress::of(""))));
        }
        if let Some(address) = name.strip_prefix(kernel::PREFIX) {
            let is_one = is_address(address);
            return is_one.then(|| Self(Place::Real(KeptAddress::of(address)))).ok_or_else(unknown);
        }
        let (kind, unit) = name.split_once('#').unwrap_or((name, "1"));
        let unit = unit.parse().map_err(|_| unknown())?;
        let kind = kind.parse().map_err(|_| unknown())?;
        Ok(Self(Place::StandIn { kind, unit, driver: 1, course: 0, family: None }))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Card;
    use rstest::rstest;

    #[test]
    fn every_kind_opens_under_its_own_name() {
        for choice in CardChoice::all() {
            let card = choice.open(1, 0).unwrap();
            assert_eq!(card.description().id, choice.to_string());
            assert_eq!(choice.to_string().parse(), Ok(choice));
        }
    }

    #[rstest]
    #[case("standin:quern-540#12", "standin:quern-540#12")]
    #[case("standin:quern-540", "standin:quern-540#1")]
    fn a_unit_is_named_by_its_kind_and_seed(#[case] name: &str, #[case] shown: &str) {
        let address: CardAddress = name.parse().unwrap();
        assert_eq!(address.to_string(), shown);
        let card = connect(&address.on_course(3)).unwrap();
        assert_eq!(card.description().key(), shown);
        assert!("standin:quern-540#x".parse::<CardAddress>().is_err());
    }

    #[test]
    fn a_unit_of_a_family_is_another_card_under_another_name() {
        let usual = CardAddress::all()[0].with_unit(7);
        let family =
            Family::from_toml("about = \"edges low\"\n[core]\nedge_percent = -5.0").unwrap();
        let other = usual.of_family("low", family);
        assert_eq!(other.to_string(), "standin:tarn-310#7@low");
        let (usual, other) = (connect(&usual).unwrap(), connect(&other).unwrap());
        assert_eq!(
            other.description().key(),
            "standin:tarn-310#7@low",
            "the ledger keeps them apart"
        );
        assert_eq!(other.description().name, format!("{}, low", usual.description().name));
    }

    #[test]
    fn an_address_has_its_driver_and_its_unit() {
        let address = CardAddress::all()[0].with_unit(9).with_driver(3);
        let card = connect(&address).unwrap();
        assert_eq!(card.description().key(), "standin:tarn-310#9");
        let first = connect(&address.with_driver(1)).unwrap();
        assert_ne!(card.description().driver, first.description().driver);
        assert_eq!(address.on_course(7).driver_and_course(), (3, 7));
    }

    #[test]
    fn a_guard_that_finds_no_card_is_told() {
        let nowhere = Reach::Slot("/nowhere/at/all.sock".into());
        let error = connect_to_held(&nowhere).err().unwrap();
        assert!(matches!(error, CardError::Gone { .. }), "{error}");
    }

    #[test]
    fn a_real_card_is_named_by_its_address_or_is_the_only_one() {
        let address: CardAddress = "kernel:0000:03:00.0".parse().unwrap();
        assert_eq!(address.to_string(), "kernel:0000:03:00.0");
        assert!(matches!(address.stand_in(), Err(CardError::Refused { .. })));
        assert_eq!(address.looked_up(), Ok(address.clone()));
        let dir = tempfile::tempdir().unwrap();
        let only: CardAddress = "kernel".parse().unwrap();
        let only = only.found_at(Some(dir.path()), None);
        assert!(matches!(only.looked_up(), Err(ChoiceError::NoReal { .. })));
        let card = |number: u32| dir.path().join(format!("class/drm/card{number}/device"));
        std::fs::create_dir_all(card(0)).unwrap();
        assert_eq!(only.looked_up().unwrap().to_string(), "kernel:card0");
        std::fs::create_dir_all(card(1)).unwrap();
        let told = only.looked_up().unwrap_err().to_string();
        assert!(told.contains("kernel:card0, kernel:card1"), "{told}");
        assert!(matches!(
            connect(&address.found_at(Some(dir.path()), None)),
            Err(CardError::Gone { .. })
        ));
    }

    #[rstest]
    #[case("")]
    #[case("tarn-310")]
    #[case("standin:tarn-999")]
    fn an_unknown_card_is_told_with_the_known_ones(#[case] name: &str) {
        let error = name.parse::<CardChoice>().unwrap_err().to_string();
        assert!(error.contains(&format!("no card \"{name}\"")), "{error}");
        assert!(error.contains("standin:tarn-310"), "{error}");
    }
}
