//! scratch
use yard_step_card::*;
use yard_step_core::*;
use yard_step_scenes::Scene;
use yard_step_study::*;
fn main() {
    let a: Vec<String> = std::env::args().collect();
    let seed: u64 = a[1].parse().unwrap();
    let k: usize = a[2].parse().unwrap();
    let scene = Scene::Medley;
    let plan =
        a.get(3).map_or(Plan::default(), |p| Plan::from_toml(&p.replace(';', "\n")).unwrap());
    let card = CardChoice::all()[k].open(seed, 0).unwrap();
    let mut card = BriefCard::new(card, |n| scene.demand(n), scene.period(), 0);
    let st = Climb::stages_on(card.description());
    let c = climb(&mut card, &plan, &st, scene.mean_load(), false).unwrap();
    let cl = Climb::new(card.description().clone(), plan.clone(), &st).unwrap();
    if a.len() > 4 {
        for st in Stage::PLANNED {
            let v: Vec<_> = c.trials.iter().filter(|t| t.stage == st).collect();
            print!(
                "{} n{} {:.0}min  ",
                st,
                v.len(),
                v.iter().map(|t| t.seconds.value()).sum::<f64>() / 60.0
            );
        }
        println!();
        return;
    }
    for t in &c.trials {
        let p = cl.place(t);
        println!(
            "{:3} {:9} {:8} c{:4} m{:4} {:12} {:7.1}s score {:?}",
            t.number,
            t.stage.label(),
            t.purpose.label(),
            p.core.0,
            p.memory.0,
            t.verdict().label(),
            t.seconds.value(),
            t.score.map(|s| (s * 10.0).round() / 10.0)
        );
    }
    println!("{} {:?}", c.outcome.sentence, c.outcome.claim);
    println!("{:?} {:?}", c.stuck, best(&mut card, &cl));
}
