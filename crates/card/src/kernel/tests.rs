//! Trees of plain files: what is found in them, what is missing and why, and that nothing in them can do any harm.

use std::fs;
use std::os::unix::fs::symlink;
use std::path::{Path, PathBuf};

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use rstest::rstest;
use tempfile::TempDir;
use yard_step_core::{Celsius, Millivolt, Percent};

use super::metrics::tests::blob;
use super::table::tests::{CURVE, LEVELS, OFFSET, WINDOW};
use super::*;

/// A tree of plain files with a card in it.
pub(super) struct Tree {
    dir: TempDir,
}

impl Tree {
    pub(super) fn new() -> Self {
        let tree = Self { dir: tempfile::tempdir().unwrap() };
        tree.put("vendor", "0x1b2c\n");
        tree.put("device", "0x7310\n");
        tree.put("uevent", "DRIVER=moor\nPCI_SLOT_NAME=0000:03:00.0\n");
        tree
    }

    pub(super) fn root(&self) -> &Path {
        self.dir.path()
    }

    fn device(&self) -> PathBuf {
        self.root().join("class/drm/card1/device")
    }

    /// Reads a file of the device.
    pub(super) fn read(&self, name: &str) -> String {
        fs::read_to_string(self.device().join(name)).unwrap()
    }

    /// Writes a file of the device.
    pub(super) fn put(&self, name: &str, content: impl AsRef<[u8]>) {
        write(&self.device().join(name), content);
    }

    /// A card with a table, monitoring files and metrics.
    fn with_table(table: &str) -> Self {
        let tree = Self::new();
        tree.put("pp_od_clk_voltage", table);
        tree.put("mem_info_vram_total", "8573157376\n");
        tree.put("gpu_busy_percent", "97\n");
        tree.put("gpu_metrics", blob(3, 1 << 36));
        for (name, value) in [
            ("power1_cap", "203000000"),
            ("power1_cap_min", "120000000"),
            ("power1_cap_max", "245000000"),
            ("power1_cap_default", "210000000"),
            ("power1_average", "187000000"),
            ("temp1_label", "edge"),
            ("temp1_input", "61000"),
            ("temp1_crit", "100000"),
            ("temp2_label", "junction"),
            ("temp2_input", "78000"),
            ("temp3_label", "mem"),
            ("temp3_input", "70000"),
            ("freq1_input", "2310000000"),
            ("freq2_input", "1000000000"),
            ("in0_input", "1018"),
            ("pwm1", "102"),
            ("pwm1_enable", "2"),
            ("pwm1_max", "255"),
        ] {
            tree.put(&format!("hwmon/hwmon4/{name}"), value);
        }
        tree
    }

    fn card(&self) -> KernelCard {
        let mut cards = kernel_cards(self.root());
        assert_eq!(cards.len(), 1);
        cards.remove(0)
    }
}

fn write(path: &Path, content: impl AsRef<[u8]>) {
    fs::create_dir_all(path.parent().unwrap()).unwrap();
    fs::write(path, content).unwrap();
}

fn range(card: &KernelCard, kind: SettingKind) -> Option<(f64, f64, Option<f64>)> {
    card.description.offer(kind).map(|offer| (offer.minimum, offer.maximum, offer.stock))
}

#[test]
fn a_card_is_known_by_its_own_number_or_else_by_its_kind_and_place() {
    let tree = Tree::with_table(WINDOW);
    let key = || tree.card().description.key();
    assert_eq!(key(), "kernel:0000:03:00.0#1b2c:7310");
    // Another card in its place is not taken for it.
    tree.put("device", "0x7311");
    assert_eq!(key(), "kernel:0000:03:00.0#1b2c:7311");
    tree.put("subsystem_vendor", "0x0fa1");
    tree.put("subsystem_device", "0x0001");
    assert_eq!(key(), "kernel:0000:03:00.0#1b2c:7311/0fa1:0001");
    tree.put("unique_id", "5d1c0a");
    assert_eq!(key(), "kernel:0000:03:00.0#5d1c0a");
}

#[test]
fn a_card_is_told_with_what_it_offers_and_measures() {
    let card = Tree::with_table(WINDOW).card();
    let description = &card.description;
    assert_eq!(card.address, "0000:03:00.0");
    assert_eq!(description.id, "kernel:0000:03:00.0");
    assert_eq!((description.name.as_str(), description.memory_gib), ("device 1b2c:7310", 8));
    assert!(description.driver.starts_with("moor of kernel "), "{}", description.driver);
    assert_eq!(range(&card, SettingKind::PowerLimit), Some((120.0, 245.0, Some(210.0))));
    assert_eq!(range(&card, SettingKind::Fan), Some((0.0, 100.0, None)));
    assert_eq!(description.limits.temperature_ceiling, Some(Celsius(100.0)));
    let now = &card.now;
    assert_eq!((now.core_temperature, now.hot_spot), (Some(Celsius(61.0)), Some(Celsius(78.0))));
    assert_eq!((now.core_clock, now.memory_clock), (Some(Mhz(2_310.0)), Some(Mhz(1_000.0))));
    assert_eq!((now.voltage, now.fan), (Some(Millivolt(1_018.0)), Some(Percent(40.0))));
    assert_eq!((now.board_power, now.load), (Some(Watt(187.0)), Some(Percent(97.0))));
    assert_eq!(now.regulator_temperature, Some(Celsius(66.0)), "of the metrics");
    assert_eq!(card.limiter, Some(Limiter::Heat));
    for kind in SettingKind::ALL {
        let why = description.absent_settings.iter().filter(|absent| absent.what == kind).count();
        assert_eq!(why, usize::from(!description.offers(kind)), "{kind:?} once, or offered");
    }
    for channel in Channel::ALL {
        let why = description.absent_sensors.iter().filter(|absent| absent.what == channel).count();
        assert_eq!(why, usize::from(!description.senses(channel)), "{channel:?} once, or measured");
    }
}

#[rstest]
#[case::levels(LEVELS, &[SettingKind::CoreOffset, SettingKind::MemoryOffset], true)]
#[case::curve(CURVE, &[SettingKind::ClockMinimum, SettingKind::ClockMaximum, SettingKind::MemoryOffset], true)]
#[case::window(WINDOW, &[SettingKind::ClockMinimum, SettingKind::ClockMaximum, SettingKind::VoltageOffset, SettingKind::MemoryOffset], false)]
#[case::offset(OFFSET, &[SettingKind::CoreOffset, SettingKind::VoltageOffset, SettingKind::MemoryOffset], false)]
fn each_generation_offers_what_its_table_has(
    #[case] table: &str,
    #[case] offered: &[SettingKind],
    #[case] has_curve: bool,
) {
    let card = Tree::with_table(table).card();
    let others = [SettingKind::PowerLimit, SettingKind::Fan];
    for kind in SettingKind::ALL {
        let wanted = offered.contains(&kind) || others.contains(&kind);
        assert_eq!(card.description.offer(kind).is_some(), wanted, "{kind:?}");
    }
    assert_eq!(card.description.curve.is_some(), has_curve);
}

#[test]
fn ranges_are_those_of_the_table_and_offsets_count_from_the_present_clock() {
    let card = Tree::with_table(OFFSET).card();
    assert_eq!(range(&card, SettingKind::CoreOffset), Some((-500.0, 900.0, Some(0.0))));
    assert_eq!(range(&card, SettingKind::VoltageOffset), Some((-200.0, 0.0, Some(-25.0))));
    assert_eq!(range(&card, SettingKind::MemoryOffset), Some((-1_153.0, 200.0, Some(0.0))));
    assert!(card.notes.is_empty(), "all of them stated: {:?}", card.notes);
    let card = Tree::with_table(LEVELS).card();
    let curve = card.description.curve.unwrap();
    assert_eq!((curve.voltages.lowest, curve.clocks.highest), (800, 2_000));
    assert_eq!((curve.factory.points().len(), curve.factory.last().millivolt), (3, 1_050));
    let card = Tree::with_table(WINDOW).card();
    assert_eq!(
        range(&card, SettingKind::VoltageOffset),
        Some((-100.0, 0.0, Some(0.0))),
        "no range"
    );
    assert!(card.notes.iter().any(|note| note.contains("no range of its voltage offset")));
}

#[test]
fn where_the_table_has_no_clock_the_highest_level_is_the_boost_clock() {
    let tree = Tree::with_table(OFFSET);
    assert_eq!(tree.card().description.limits.boost_clock, Mhz(0.0));
    tree.put("pp_dpm_sclk", "S: 19Mhz *\n0: 500Mhz\n1: 2450Mhz\nnothing\n2: fast\n");
    assert_eq!(tree.card().description.limits.boost_clock, Mhz(2_450.0));
    let tree = Tree::with_table(WINDOW);
    tree.put("pp_dpm_sclk", "0: 9000Mhz\n");
    assert_eq!(tree.card().description.limits.boost_clock, Mhz(2_400.0), "the table goes first");
}

#[test]
fn a_table_that_is_disabled_names_the_parameter_that_enables_it() {
    let tree = Tree::new();
    let why =
        |tree: &Tree| tree.card().description.why_not_offered(SettingKind::CoreOffset).to_owned();
    assert_eq!(why(&tree), "there is no file class/drm/card1/device/pp_od_clk_voltage");
    let mask = tree.root().join("module/moor/parameters/ppfeaturemask");
    write(&mask, "0xfff7bfff\n");
    let told = why(&tree);
    assert!(told.contains("moor.ppfeaturemask=0xfff7ffff enables it"), "{told}");
    write(&mask, "0xfff7ffff\n");
    assert!(!why(&tree).contains("ppfeaturemask"), "it is enabled, and the card has none");
}

#[test]
fn the_other_family_has_a_clock_window_and_a_rated_power() {
    let tree = Tree::new();
    for (name, value) in [
        ("min_freq", 300),
        ("max_freq", 2_050),
        ("rpn_freq", 300),
        ("rp0_freq", 2_050),
        ("act_freq", 1_900),
    ] {
        tree.put(&format!("tile0/gt0/freq0/{name}"), value.to_string());
    }
    tree.put("tile0/gt0/freq0/throttle/reason_pl1", "1\n");
    tree.put("tile0/gt0/freq0/throttle/reason_thermal", "0\n");
    tree.put("hwmon/hwmon2/power1_max", "150000000");
    tree.put("hwmon/hwmon2/power1_rated_max", "190000000");
    tree.put("hwmon/hwmon2/energy1_input", "123456789");
    let card = tree.card();
    assert_eq!(range(&card, SettingKind::ClockMaximum), Some((300.0, 2_050.0, Some(2_050.0))));
    assert_eq!(range(&card, SettingKind::ClockMinimum), Some((300.0, 2_050.0, Some(300.0))));
    assert_eq!(range(&card, SettingKind::PowerLimit), Some((95.0, 190.0, Some(190.0))));
    assert!(card.notes.iter().any(|note| note.contains("rated power")), "{:?}", card.notes);
    let why = card.description.absent_sensors.iter().find(|of| of.what == Channel::BoardPower);
    assert!(why.is_some_and(|of| of.why.contains("no energy that grows")), "{why:?}");
    assert_eq!((card.now.core_clock, card.limiter), (Some(Mhz(1_900.0)), Some(Limiter::Power)));
    // The older driver has the same files under other names.
    let tree = Tree::new();
    let class = tree.root().join("class/drm/card1");
    for (name, value) in [("max", 1_600), ("min", 200), ("RP0", 1_600), ("RPn", 200), ("act", 900)]
    {
        write(&class.join(format!("gt_{name}_freq_mhz")), value.to_string());
    }
    write(&class.join("gt/gt0/throttle_reason_thermal"), "1");
    let card = tree.card();
    assert_eq!(range(&card, SettingKind::ClockMaximum), Some((200.0, 1_600.0, Some(1_600.0))));
    assert_eq!(card.limiter, Some(Limiter::Heat));
}

#[rstest]
#[case::missing("pp_od_clk_voltage", None, "there is no file")]
#[case::empty("pp_od_clk_voltage", Some(&b""[..]), "is empty")]
#[case::no_text("pp_od_clk_voltage", Some(&b"\xff\xfe"[..]), "is no text")]
#[case::no_table("pp_od_clk_voltage", Some(&b"OD_SCLK:\n0: fast"[..]), "line 2 of the clock/voltage table")]
fn a_table_that_cannot_be_read_says_why(
    #[case] file: &str,
    #[case] content: Option<&[u8]>,
    #[case] told: &str,
) {
    let tree = Tree::with_table(WINDOW);
    match content {
        Some(content) => tree.put(file, content),
        None => fs::remove_file(tree.device().join(file)).unwrap(),
    }
    let card = tree.card();
    let why = card.description.why_not_offered(SettingKind::ClockMaximum);
    assert!(why.contains(told), "{why}");
    assert!(card.description.offers(SettingKind::PowerLimit), "the rest is there");
}

#[rstest]
#[case("power1_cap_max", "100000000", SettingKind::PowerLimit, "no range of a power limit")]
#[case("power1_cap_min", "lots", SettingKind::PowerLimit, "is no number")]
#[case("pwm1_max", "0", SettingKind::Fan, "no highest fan level")]
fn a_range_that_cannot_be_is_not_offered(
    #[case] file: &str,
    #[case] content: &str,
    #[case] kind: SettingKind,
    #[case] told: &str,
) {
    let tree = Tree::with_table(WINDOW);
    tree.put(&format!("hwmon/hwmon4/{file}"), content);
    let card = tree.card();
    assert!(!card.description.offers(kind));
    let why = card.description.why_not_offered(kind);
    assert!(why.contains(told), "{why}");
}

#[test]
fn a_fan_with_a_curve_of_its_own_is_offered_with_the_speeds_of_that() {
    let tree = Tree::with_table(OFFSET);
    let curve = "OD_FAN_CURVE:\n0: 0C 0%\nOD_RANGE:\nFAN_CURVE(hotspot temp): 25C 100C\nFAN_CURVE(fan speed): 20% 100%\n";
    tree.put("gpu_od/fan_ctrl/fan_curve", curve);
    let card = tree.card();
    assert_eq!(range(&card, SettingKind::Fan), Some((20.0, 100.0, None)));
    assert_eq!(
        card.description.fan,
        FanControl::Speed,
        "a curve of ours is followed by the keeper"
    );
}

#[test]
fn only_cards_are_looked_at_in_the_order_of_their_numbers() {
    let dir = tempfile::tempdir().unwrap();
    assert!(kernel_cards(dir.path()).is_empty(), "nothing is there");
    for name in ["card10", "card2", "card2-DP-1", "renderD128", "version", "card"] {
        fs::create_dir_all(dir.path().join(format!("class/drm/{name}"))).unwrap();
    }
    fs::create_dir_all(dir.path().join("class/drm/card3/device")).unwrap();
    // As on a real system: the device is a link to its place on the bus.
    for (name, address) in [("card10", "0000:0a:00.0"), ("card2", "0000:03:00.0")] {
        let device = dir.path().join("devices").join(address);
        fs::create_dir_all(&device).unwrap();
        fs::create_dir_all(dir.path().join("bus/drivers/moor")).unwrap();
        symlink(dir.path().join("bus/drivers/moor"), device.join("driver")).unwrap();
        symlink(&device, dir.path().join("class/drm").join(name).join("device")).unwrap();
    }
    let cards = kernel_cards(dir.path());
    let found: Vec<&str> = cards.iter().map(|card| card.address.as_str()).collect();
    assert_eq!(found, ["0000:03:00.0", "card3", "0000:0a:00.0"]);
    assert!(cards[0].description.driver.starts_with("moor of kernel"));
    assert!(cards[1].description.name.starts_with("unknown device (there is no file"));
    assert!(cards[1].description.offers.is_empty() && cards[1].description.sensors.is_empty());
}

/// Files of a tree, from its root on, with their content.
fn files(root: &Path) -> Vec<(PathBuf, Vec<u8>)> {
    let mut all = Vec::new();
    let mut open = vec![root.to_owned()];
    while let Some(next) = open.pop() {
        for entry in fs::read_dir(next).unwrap().flatten() {
            let path = entry.path();
            match entry.file_type().unwrap().is_dir() {
                true => open.push(path),
                false => all.push((path.clone(), fs::read(path).unwrap())),
            }
        }
    }
    all.sort();
    all
}

/// Puts something else in the place of a file.
fn mutilate(file: &Path, random: &mut ChaCha8Rng) {
    clear(file);
    match random.random_range(0..7) {
        0 => {}
        1 => fs::write(file, "").unwrap(),
        2 => {
            let noise: Vec<u8> =
                (0..random.random_range(0..200)).map(|_| random.random()).collect();
            fs::write(file, noise).unwrap();
        }
        3 => symlink("/dev/zero", file).unwrap(),
        4 => fs::create_dir(file).unwrap(),
        5 => fs::write(file, "-99999999999999999999").unwrap(),
        _ => symlink(file, file).unwrap(),
    }
}

/// Takes whatever is in a place away.
fn clear(file: &Path) {
    let _ = fs::remove_file(file).or_else(|_| fs::remove_dir(file));
}

#[test]
fn two_thousand_mutilated_trees_are_told_without_a_panic_and_without_nonsense() {
    let mut random = ChaCha8Rng::seed_from_u64(19);
    for table in [LEVELS, CURVE, WINDOW, OFFSET] {
        let tree = Tree::with_table(table);
        let all = files(tree.root());
        for _ in 0..500 {
            let mutilated: Vec<&(PathBuf, Vec<u8>)> = (0..random.random_range(1..5))
                .map(|_| &all[random.random_range(0..all.len())])
                .collect();
            mutilated.iter().for_each(|(file, _)| mutilate(file, &mut random));
            kernel_cards(tree.root()).iter().for_each(check);
            for (file, content) in mutilated {
                clear(file);
                fs::write(file, content).unwrap();
            }
        }
        assert_eq!(files(tree.root()), all, "each round begins with a whole tree");
    }
}

/// Whatever a tree holds: what is told of it can be.
fn check(card: &KernelCard) {
    for offer in &card.description.offers {
        assert!(offer.minimum < offer.maximum, "{offer:?}");
        assert!(offer.stock.is_none_or(|at| at >= offer.minimum && at <= offer.maximum));
    }
    assert_eq!(card.now, card.now.without_nonsense());
    let settings = card.description.absent_settings.iter().map(|absent| &absent.why);
    let sensors = card.description.absent_sensors.iter().map(|absent| &absent.why);
    let names = [&card.description.name, &card.description.serial, &card.address];
    for text in settings.chain(sensors).chain(names) {
        assert!(!text.chars().any(char::is_control), "{text:?}");
        assert!(text.len() < 400, "{text}");
    }
}
