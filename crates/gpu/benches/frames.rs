//! How fast the scenes are drawn, and what that costs the processor. The card is the software driver's unless `YARD_STEP_GPU` names
//! another by its address on the bus; with the software driver the processor does the card's work.
#![allow(missing_docs, clippy::unwrap_used)]

use std::fs;
use std::time::{Duration, Instant};

use criterion::{Criterion, criterion_group, criterion_main};
use yard_step_gpu::{AdapterChoice, GpuRun};
use yard_step_scenes::{Scene, SizedScene};

/// Processor time of this process so far, s.
fn processor_time() -> f64 {
    /// Ticks a second of the kernel's accounting.
    const TICKS: f64 = 100.0;
    let stat = fs::read_to_string("/proc/self/stat").unwrap();
    let fields: Vec<&str> = stat.rsplit(')').next().unwrap().split_whitespace().collect();
    let ticks = |place: usize| fields[place].parse::<f64>().unwrap();
    (ticks(11) + ticks(12)) / TICKS
}

fn frames(criterion: &mut Criterion) {
    let choice = AdapterChoice::of(&std::env::var("YARD_STEP_GPU").unwrap_or("software".into()));
    for scene in Scene::ALL.into_iter().filter(|scene| *scene != Scene::Medley) {
        let sized: SizedScene = format!("{}@96x54", scene.name()).parse().unwrap();
        let mut run = GpuRun::open(&choice, sized, 64 << 20, None).unwrap();
        let (began, busy) = (Instant::now(), processor_time());
        let mut count = 0_u32;
        while began.elapsed() < Duration::from_secs(3) {
            run.next_frame().unwrap();
            count += 1;
        }
        let seconds = began.elapsed().as_secs_f64();
        println!(
            "{sized}: {:.1} fps, {:.0} % of a core",
            f64::from(count) / seconds,
            (processor_time() - busy) / seconds * 100.0
        );
        criterion.bench_function(&format!("a frame of {sized}"), |bench| {
            bench.iter(|| run.next_frame().unwrap());
        });
    }
}

criterion_group! {
    name = benches;
    config = Criterion::default().sample_size(10).measurement_time(Duration::from_secs(3));
    targets = frames
}
criterion_main!(benches);
