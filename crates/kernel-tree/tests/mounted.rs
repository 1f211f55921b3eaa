//! A mounted stand-in, read and written as a program reads and writes the kernel's files.
#![allow(clippy::unwrap_used, clippy::panic, missing_docs)]

use std::fs;
use std::io::ErrorKind;
use std::path::{Path, PathBuf};

use kernel_tree::{Device, Layout, Mounted, mount};
use rstest::rstest;
use tempfile::TempDir;
use yard_step_card::kernel::kernel_cards;
use yard_step_card::{CardAddress, connect};
use yard_step_core::SettingKind;

/// A mounted card. It takes root and `/dev/fuse`, as the machines have that run the tests.
fn mounted(card: &str, layout: Layout) -> (Mounted, TempDir) {
    let dir = tempfile::tempdir().unwrap();
    let address: CardAddress = card.parse().unwrap();
    let device = Device::new(connect(&address).unwrap(), layout).unwrap();
    let tree = mount(vec![device], dir.path())
        .unwrap_or_else(|error| panic!("mounting takes root and /dev/fuse: {error}"));
    (tree, dir)
}

fn device(root: &Path) -> PathBuf {
    root.join("class/drm/card0/device")
}

#[rstest]
#[case("standin:tarn-310#7", Layout::Offset, &[SettingKind::CoreOffset, SettingKind::VoltageOffset, SettingKind::MemoryOffset])]
#[case("standin:quern-540#7", Layout::Window, &[SettingKind::ClockMinimum, SettingKind::ClockMaximum, SettingKind::VoltageOffset])]
#[case("standin:bracken-208#7", Layout::Levels, &[SettingKind::Curve])]
#[case("standin:tarn-310#7", Layout::Curve, &[SettingKind::Curve, SettingKind::MemoryOffset])]
#[case("standin:quern-540#7", Layout::Frequency, &[SettingKind::ClockMinimum, SettingKind::ClockMaximum])]
fn a_mounted_card_is_found_with_what_it_offers_and_measures(
    #[case] card: &str,
    #[case] layout: Layout,
    #[case] offered: &[SettingKind],
) {
    let (tree, dir) = mounted(card, layout);
    let cards = kernel_cards(dir.path());
    assert_eq!(cards.len(), 1);
    let found = &cards[0];
    assert_eq!(found.address, "0000:03:00.0");
    for kind in offered.iter().chain(&[SettingKind::PowerLimit, SettingKind::Fan]) {
        let why = found.description.why_not_offered(*kind);
        assert!(found.description.offers(*kind), "{kind:?}: {why}");
    }
    // The card's own range; the other family states its rated power as the highest.
    let address: CardAddress = card.parse().unwrap();
    let own = *connect(&address).unwrap().description().offer(SettingKind::PowerLimit).unwrap();
    let most = if layout == Layout::Frequency { own.stock.unwrap() } else { own.maximum };
    let told = found.description.offer(SettingKind::PowerLimit).unwrap().maximum;
    assert!((told - most).abs() < 1.0, "{told} {most}");
    assert!(found.now.core_temperature.is_some());
    assert!(found.now.board_power.is_some_and(|power| power.value() > 1.0), "{:?}", found.now);
    assert!(found.description.limits.boost_clock.value() > 100.0, "{:?}", found.description);
    tree.unmount().unwrap();
    assert!(kernel_cards(dir.path()).is_empty());
}

#[test]
fn files_are_written_as_by_a_shell_and_refuse_as_the_kernel_does() {
    let (_tree, dir) = mounted("standin:tarn-310#7", Layout::Offset);
    let device = device(dir.path());
    let table = device.join("pp_od_clk_voltage");
    let factory = fs::read_to_string(&table).unwrap();
    let refused = fs::write(&table, "s 30\n").unwrap_err();
    assert_eq!(refused.kind(), ErrorKind::InvalidInput, "not by hand yet: {refused}");
    fs::write(device.join("power_dpm_force_performance_level"), "manual\n").unwrap();
    for edit in ["s 30\n", "vo -25\n", "c\n"] {
        fs::write(&table, edit).unwrap();
    }
    let held = fs::read_to_string(&table).unwrap();
    assert!(held.contains("OD_SCLK_OFFSET:\n30Mhz") && held.contains("-25mV"), "{held}");
    let card = &kernel_cards(dir.path())[0];
    let offset = card.description.offer(SettingKind::CoreOffset).unwrap();
    assert_eq!(offset.stock, Some(30.0), "what is read is what is held");
    assert!(fs::write(&table, "s 99999\n").is_err());
    fs::write(&table, "r\n").unwrap();
    assert_eq!(fs::read_to_string(&table).unwrap(), factory);
    assert!(fs::write(device.join("nothing"), "1").is_err(), "no file can be made");
    assert!(fs::remove_file(&table).is_err());
}

#[test]
fn files_that_vanish_in_a_reset_are_told_as_missing_and_come_back() {
    let (_tree, dir) = mounted("standin:tarn-310#7", Layout::Offset);
    let before = kernel_cards(dir.path());
    fs::write(device(dir.path()).join("reset"), "1\n").unwrap();
    let during = &kernel_cards(dir.path())[0].description;
    assert!(during.offers.is_empty(), "{:?}", during.offers);
    let why = during.why_not_offered(SettingKind::PowerLimit);
    assert!(why.starts_with("there is no file"), "{why}");
    let until = std::time::Instant::now() + std::time::Duration::from_secs(60);
    while kernel_cards(dir.path())[0].description.offers.is_empty() {
        assert!(std::time::Instant::now() < until, "it never came back");
        std::thread::sleep(std::time::Duration::from_millis(20));
    }
    assert_eq!(kernel_cards(dir.path())[0].description.offers, before[0].description.offers);
}
