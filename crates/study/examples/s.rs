//! scratch
use yard_step_card::*;
use yard_step_core::*;
use yard_step_study::*;
fn main() {
    let a: Vec<String> = std::env::args().collect();
    let seed: u64 = a[1].parse().unwrap();
    let cards: usize = a[2].parse().unwrap();
    let flat: f64 = a[3].parse().unwrap();
    let policies: Vec<Policy> = a[4].split(',').map(|p| Policy::from_label(p).unwrap()).collect();
    let plan = a
        .get(5)
        .filter(|p| p.as_str() != "-")
        .map_or(Plan::default(), |p| Plan::from_toml(&p.replace(';', "\n")).unwrap());
    let t = std::time::Instant::now();
    let s = Study {
        first_seed: seed,
        cards,
        kinds: CardChoice::all(),
        policies,
        plan,
        flatter: flat,
        threads: 2,
    };
    let rows = s.run(&|_| ()).unwrap();
    for s in summaries(&rows) {
        println!(
            "{:10} {:12} n{:4} nothold {:5.1}% gap {:.2}/{:.2}% core {:5.0}MHz trials {:5.1} min {:6.1} md {:4} reset {:4} stuck {}",
            s.policy.label(),
            s.kind.clone().unwrap_or("all".into()),
            s.cards,
            s.not_holding_percent,
            s.gap_median_percent,
            s.gap_ninth_percent,
            s.core_gap_mhz,
            s.trials,
            s.minutes,
            s.machine_downs,
            s.driver_resets,
            s.stuck
        );
    }
    if a.len() > 6 {
        for r in &rows {
            println!(
                "{} {} {} c{}/{} m{}/{} gap {:.2} holds {} min {:.0} trials {} md {} claimed {:?} score {:.1} best {:.1} stock {:.1}",
                r.kind,
                r.seed,
                r.policy,
                r.core_mhz,
                r.best_core_mhz,
                r.memory_mhz,
                r.best_memory_mhz,
                r.gap_percent,
                r.holds,
                r.minutes,
                r.trials,
                r.machine_downs,
                r.claimed,
                r.score,
                r.best_score,
                r.stock_score
            );
        }
    }
    for r in rows.iter().filter(|r| r.stuck || !r.holds || r.trials > 150) {
        println!(
            "STUCK/NOT {} {} {} trials {} holds {} c{}/{} m{}/{} claimed {:?}",
            r.kind,
            r.seed,
            r.stuck,
            r.trials,
            r.holds,
            r.core_mhz,
            r.best_core_mhz,
            r.memory_mhz,
            r.best_memory_mhz,
            r.claimed
        )
    }
    println!("{:?}", t.elapsed());
}
