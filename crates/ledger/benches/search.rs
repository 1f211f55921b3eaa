//! How long it takes to find, sort and list trials among 100,000.
#![allow(missing_docs, clippy::unwrap_used)]

use std::hint::black_box;

use criterion::{Criterion, criterion_group, criterion_main};
use rusqlite::Connection;
use yard_step_card::{Card, CardChoice};
use yard_step_core::{Plan, Settings, Stage};
use yard_step_ledger::{DataDir, Filter, Ledger, Order, SortBy};

/// Climbs, and trials in each of them.
const CLIMBS: usize = 2_500;
const TRIALS: usize = 40;

/// A ledger with that many trials; what was seen in each takes as much room as in a real one.
fn large(dir: &DataDir) -> Ledger {
    let ledger = Ledger::open(dir).unwrap().ledger;
    let card = CardChoice::all()[0].open(3, 0).unwrap().description().clone();
    ledger.note_card(&card, Some(&Settings::stock(&card))).unwrap();
    ledger.begin_climb(&card, &Plan::default(), &Stage::USUAL).unwrap();
    let seen = format!(
        "{{\"seconds\":180.0,\"average_power\":210.5,\"hot_spot_max\":81.0,\"limiters\":[],\
         \"frames\":3600,\"wrong_frames\":0,\"wrong_pixels\":0,\"padding\":\"{}\"}}",
        "x".repeat(1_200)
    );
    let connection = Connection::open(dir.ledger()).unwrap();
    let script = format!(
        "BEGIN;
         WITH RECURSIVE n (i) AS (SELECT 2 UNION ALL SELECT i + 1 FROM n WHERE i < {CLIMBS})
         INSERT INTO climb (id, card, plan, stages, state, began)
         SELECT i, 1, '', 'baseline,core', 'ended', 1760000000 + i * 9000 FROM n;
         WITH RECURSIVE n (i) AS (SELECT 0 UNION ALL SELECT i + 1 FROM n WHERE i < {last})
         INSERT INTO trial (climb, number, stage, purpose, asked, scene, planned_s, warm_up_s, began,
                            seen, seconds, verdict, reason, score, faults, core_mhz, power_w,
                            hot_spot_c)
         SELECT i / {TRIALS} + 1, i % {TRIALS} + 1, iif(i % {TRIALS} < 3, 'baseline', 'core'), 'step',
                '{{\"core_offset_mhz\":' || (i % 13 * 15) || '}}', 'medley', 180, 20,
                1760000000 + i * 220, '{seen}', 180,
                CASE WHEN i % 17 = 0 THEN 'artifacts' WHEN i % 29 = 0 THEN 'void' ELSE 'clean' END,
                'No wrong pixel in 3600 frames over 3 min; score ' || (1000 + i % 977) || '.',
                1000 + i * 7919 % 977, '[]', i % 13 * 15, 180 + i * 31 % 90, 60 + i % 35 FROM n;
         COMMIT;",
        last = CLIMBS * TRIALS - 1
    );
    connection.execute_batch(&script).unwrap();
    ledger
}

fn searches(criterion: &mut Criterion) {
    let temporary = tempfile::tempdir().unwrap();
    let ledger = large(&DataDir::new(temporary.path())).reader().unwrap();
    let mut group = criterion.benchmark_group("100,000 trials");
    group.sample_size(20);
    let by = |by| Order { by, descending: true };
    for (name, line, order) in [
        ("the newest first", "", Order::default()),
        ("by score", "", by(SortBy::Score)),
        ("by gain", "", by(SortBy::Gain)),
        ("search for a word", "artifacts", Order::default()),
        ("search for words and figures", "tarn clean score>1500 hot-spot<80", by(SortBy::Power)),
    ] {
        let filter = Filter { search: line.parse().unwrap(), ..Filter::default() };
        group.bench_function(name, |bencher| {
            bencher.iter(|| ledger.find(black_box(&filter), order).unwrap());
        });
    }
    let rows = ledger.find(&Filter::default(), by(SortBy::Score)).unwrap();
    assert_eq!(rows.len(), CLIMBS * TRIALS);
    let middle = rows.len() / 2;
    let screenful = &rows[middle..middle + 50];
    group.bench_function("a screenful of lines", |bencher| {
        bencher.iter(|| ledger.lines(black_box(screenful)).unwrap());
    });
    group.bench_function("all climbs", |bencher| {
        bencher.iter(|| ledger.climb_lines(false).unwrap());
    });
    group.finish();
}

criterion_group!(benches, searches);
criterion_main!(benches);
