//! How long it takes to draw a view into a buffer, and to open a trace of a day.
#![allow(missing_docs, clippy::unwrap_used)]

use std::hint::black_box;
use std::sync::Arc;

use criterion::{Criterion, criterion_group, criterion_main};
use ratatui::buffer::Buffer;
use ratatui::crossterm::event::{Event, KeyCode, KeyEvent, KeyModifiers};
use ratatui::layout::Rect;
use yard_step::tui::app::screen;
use yard_step::tui::app::state::State;
use yard_step::tui::fixtures;
use yard_step::tui::keys::action::View;
use yard_step::tui::theme::{Depth, Theme};
use yard_step_core::{Channel, Sample, Seconds, Trace, attribute};
use yard_step_engine::{RunView, Snapshot};
use yard_step_ledger::{DataDir, Ledger, Measured};

/// A day at ten samples a second.
const DAY: usize = 864_000;

fn views(criterion: &mut Criterion) {
    let snapshot = fixtures::snapshot();
    let theme = Theme::new(Depth::True);
    let views = [
        (View::Climb, "climb"),
        (View::Survey, "survey"),
        (View::Trace, "trace"),
        (View::Shape, "shape"),
    ];
    for (view, name) in views {
        let state = State::new(view);
        for (width, height) in [(160, 50), (100, 30)] {
            let area = Rect::new(0, 0, width, height);
            criterion.bench_function(&format!("{name} {width}x{height}"), |bencher| {
                bencher.iter(|| {
                    let mut buffer = Buffer::empty(area);
                    screen::draw(&mut buffer, area, theme, black_box(&snapshot), &state);
                    buffer
                });
            });
        }
    }
}

/// A sample of a day's course, with every reading moving.
fn sample(tick: usize) -> Sample {
    let wave =
        |period: usize| ((tick % period) as f64 / period as f64 * std::f64::consts::TAU).sin();
    let mut sample = Sample { at: Seconds((tick + 1) as f64 / 10.0), ..Sample::default() };
    for (index, channel) in Channel::ALL.into_iter().enumerate() {
        sample.set(channel, Some(100.0 * (index + 1) as f64 + 9.0 * wave(300 + 77 * index)));
    }
    sample
}

/// A ledger with a trial of a day in it, and the trial's row.
fn ledger_of_a_day(dir: &DataDir) -> (Ledger, i64) {
    let ledger = Ledger::open(dir).unwrap().ledger;
    let (climb, row) = fixtures::begun_trial(&ledger);
    assert_eq!(climb, 1);
    for first in (0..DAY).step_by(6_000) {
        let samples = (first..first + 6_000).map(sample).collect();
        ledger.add_measured(row, Measured { first, samples, spoilt: Vec::new() }).wait().unwrap();
    }
    (ledger, row)
}

fn open(ledger: &Ledger, row: i64) -> Trace {
    let card = fixtures::card();
    let held = yard_step_core::Settings::stock(&card);
    ledger.trace(row, |sample| attribute(sample, &held, &card.limits)).unwrap()
}

fn snapshot_of(trace: Trace) -> Snapshot {
    let run = RunView { trace, at: Seconds(86_400.0), ..fixtures::ended_run_view() };
    let mut snapshot = fixtures::snapshot();
    snapshot.runs.newest = Some(Arc::new(run));
    snapshot
}

fn a_day(criterion: &mut Criterion) {
    let temporary = tempfile::tempdir().unwrap();
    let (ledger, row) = ledger_of_a_day(&DataDir::new(temporary.path()));
    let mut group = criterion.benchmark_group("a trace of 24 h");
    group.sample_size(20);
    group.bench_function("opened from the ledger", |bencher| bencher.iter(|| open(&ledger, row)));
    let snapshot = snapshot_of(open(&ledger, row));
    let area = Rect::new(0, 0, 160, 50);
    let theme = Theme::new(Depth::True);
    let press = |state: &mut State, code: KeyCode| {
        let key = KeyEvent::new(code, KeyModifiers::NONE);
        state.handle(&Event::Key(key), &snapshot, area);
    };
    let mut state = State::new(View::Trace);
    press(&mut state, KeyCode::Left);
    for zoom in 0..=15 {
        if [0, 2, 4, 6, 8, 11, 15].contains(&zoom) {
            group.bench_function(
                format!("drawn at zoom {zoom} (24 h / {})", 1 << zoom),
                |bencher| {
                    bencher.iter(|| {
                        let mut buffer = Buffer::empty(area);
                        screen::draw(&mut buffer, area, theme, &snapshot, black_box(&state));
                        buffer
                    });
                },
            );
        }
        press(&mut state, KeyCode::Char('+'));
    }
    group.finish();
}

criterion_group!(benches, views, a_day);
criterion_main!(benches);
