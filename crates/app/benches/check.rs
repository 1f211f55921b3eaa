//! Speed of the checker on 1080p frames, beside what it costs to compare two equal buffers with
//! the standard library, and of naming what is wrong with a spoilt one.
#![allow(missing_docs)]

use std::hint::black_box;
use std::time::Instant;

use criterion::{Criterion, Throughput, criterion_group, criterion_main};
use yard_step_core::Frame;
use yard_step_scenes::{Scene, check, classify};

const SIZE: (usize, usize) = (1_920, 1_080);

fn frame() -> Frame {
    let mut frame = Frame::black(SIZE.0, SIZE.1);
    Scene::Lantern.draw(40, &mut frame);
    frame
}

fn checker(criterion: &mut Criterion) {
    let (drawn, reference) = (frame(), frame());
    let mut spoilt = reference.clone();
    for row in 500..508 {
        spoilt.pixels[row * SIZE.0 + 800..row * SIZE.0 + 808].fill(0x0012_3456);
    }
    let mut group = criterion.benchmark_group("1080p");
    group.throughput(Throughput::Bytes((SIZE.0 * SIZE.1 * 4) as u64));
    group.bench_function("slices, equal", |bencher| {
        bencher.iter(|| black_box(&drawn.pixels) == black_box(&reference.pixels));
    });
    group.bench_function("check, equal", |bencher| {
        bencher.iter(|| check(black_box(&drawn), black_box(&reference)));
    });
    group.bench_function("check, a wrong tile", |bencher| {
        bencher.iter(|| check(black_box(&spoilt), black_box(&reference)));
    });
    let found = check(&spoilt, &reference);
    group.bench_function("classify, a wrong tile", |bencher| {
        bencher.iter(|| classify(1, black_box(&found), SIZE));
    });
    group.finish();

    // Both in turns, so that whatever else the machine does falls on both.
    let time = |work: &dyn Fn()| {
        let began = Instant::now();
        work();
        began.elapsed().as_secs_f64()
    };
    let (mut slices, mut checks) = (0.0, 0.0);
    for _ in 0..300 {
        slices += time(&|| {
            black_box(black_box(&drawn.pixels) == black_box(&reference.pixels));
        });
        checks += time(&|| {
            black_box(check(black_box(&drawn), black_box(&reference)));
        });
    }
    println!("check runs at {:.2} times the speed of comparing slices", slices / checks);
}

criterion_group!(benches, checker);
criterion_main!(benches);
