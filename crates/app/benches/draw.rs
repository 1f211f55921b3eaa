//! How long it takes to draw a view into a buffer.
#![allow(missing_docs)]

use std::hint::black_box;

use criterion::{Criterion, criterion_group, criterion_main};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use yard_step::tui::action::View;
use yard_step::tui::state::State;
use yard_step::tui::theme::{Depth, Theme};
use yard_step::tui::{fixtures, screen};

fn views(criterion: &mut Criterion) {
    let snapshot = fixtures::snapshot();
    let theme = Theme::new(Depth::True);
    for (view, name) in [(View::Climb, "climb"), (View::Survey, "survey")] {
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

criterion_group!(benches, views);
criterion_main!(benches);
