//! How long a climb of all stages thinks about its next trial, at its beginning and at its end, by each policy.
#![allow(missing_docs, clippy::unwrap_used)]

use criterion::{BatchSize, Criterion, criterion_group, criterion_main};
use yard_step_card::{BriefCard, CardChoice};
use yard_step_core::{Climb, ClimbEvent, Plan, Policy, Stage};
use yard_step_scenes::Scene;

/// A climb of everything a card offers, with its first trials behind it but for the newest, and that one's end.
fn climbed(policy: Policy, trials: usize) -> (Climb, ClimbEvent) {
    let scene = Scene::Medley;
    let card = "standin:tarn-310".parse::<CardChoice>().unwrap().open(7, 0).unwrap();
    let mut card = BriefCard::new(card, |frame| scene.demand(frame), scene.period(), 0);
    let described = card.description().clone();
    let stages: Vec<Stage> =
        Stage::PLANNED.into_iter().filter(|stage| Climb::is_offered(&described, *stage)).collect();
    let laid_out = Climb::new(described, Plan { policy, ..Plan::default() }, &stages).unwrap();
    let ended = yard_step_study::climb(&mut card, laid_out.clone(), scene.mean_load(), false);
    let trials = trials.min(ended.trials.len());
    let mut events = ended.trials.into_iter().map(|trial| ClimbEvent::TrialEnded(Box::new(trial)));
    let mut climb = laid_out;
    events.by_ref().take(trials - 1).for_each(|event| climb.handle(event));
    (climb, events.next().unwrap())
}

fn next(criterion: &mut Criterion) {
    let mut group = criterion.benchmark_group("next");
    group.sample_size(20);
    for trials in [20, usize::MAX] {
        for policy in Policy::ALL {
            let (climb, newest) = climbed(policy, trials);
            let name = format!("{policy}, after {} trials", climb.trials().len() + 1);
            group.bench_function(name, |bencher| {
                let again = || (climb.clone(), newest.clone());
                let think = |(mut climb, newest): (Climb, ClimbEvent)| {
                    climb.handle(newest);
                    climb.next()
                };
                bencher.iter_batched(again, think, BatchSize::SmallInput);
            });
        }
    }
    group.finish();
}

criterion_group!(benches, next);
criterion_main!(benches);
