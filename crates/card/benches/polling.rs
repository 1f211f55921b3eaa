//! What it costs to look at the sensors of a real card, ten times a second.
#![allow(missing_docs, clippy::unwrap_used)]

use std::fs;
use std::hint::black_box;
use std::path::Path;
use std::time::Instant;

use criterion::{Criterion, criterion_group, criterion_main};
use yard_step_card::Card;
use yard_step_card::keeper::{KeptAddress, KeptCard};

/// A card's files in a plain directory, with what a sample reads.
fn tree(root: &Path) {
    let device = root.join("class/drm/card0/device");
    fs::create_dir_all(device.join("hwmon/hwmon0")).unwrap();
    for (name, text) in [
        ("uevent", "DRIVER=moor\nPCI_SLOT_NAME=0000:03:00.0\n"),
        ("gpu_busy_percent", "97\n"),
        ("hwmon/hwmon0/temp1_label", "edge\n"),
        ("hwmon/hwmon0/temp1_input", "61000\n"),
        ("hwmon/hwmon0/temp2_label", "junction\n"),
        ("hwmon/hwmon0/temp2_input", "78000\n"),
        ("hwmon/hwmon0/temp3_label", "mem\n"),
        ("hwmon/hwmon0/temp3_input", "70000\n"),
        ("hwmon/hwmon0/freq1_input", "2310000000\n"),
        ("hwmon/hwmon0/freq2_input", "1000000000\n"),
        ("hwmon/hwmon0/in0_input", "1018\n"),
        ("hwmon/hwmon0/power1_average", "187000000\n"),
        ("hwmon/hwmon0/pwm1", "102\n"),
        ("hwmon/hwmon0/pwm1_max", "255\n"),
    ] {
        fs::write(device.join(name), text).unwrap();
    }
}

fn polling(criterion: &mut Criterion) {
    let dir = tempfile::tempdir().unwrap();
    tree(dir.path());
    let address = KeptAddress {
        sysfs: dir.path().to_owned(),
        keeper: dir.path().join("none.sock"),
        ..KeptAddress::of("0000:03:00.0")
    };
    let mut card = KeptCard::open(&address, true).unwrap();
    criterion.bench_function("one look at all sensors", |bench| {
        bench.iter(|| black_box(card.sample().unwrap()));
    });
    const LOOKS: u32 = 2_000;
    let began = Instant::now();
    for _ in 0..LOOKS {
        black_box(card.sample().unwrap());
    }
    let share = began.elapsed().as_secs_f64() / f64::from(LOOKS) * 10.0 * 100.0;
    println!("ten looks a second: {share:.2} % of a core");
}

criterion_group!(benches, polling);
criterion_main!(benches);
