//! What a stand-in truly can do: the best score among the settings that hold.
//!
//! Settings *hold* when the chance of a full day under the scene, warm, without any fault is at
//! least 99 %.

use yard_step_card::BriefCard;
use yard_step_core::{Climb, Demand, Domain, MhzOffset, Pair, Settings};

/// Least chance of a day of settings that hold.
pub const LEAST_CHANCE: f64 = 0.99;

/// The best of what holds.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Truth {
    /// Score at stock power and clocks, without the scatter of runs.
    pub stock: f64,
    /// Best score.
    pub score: f64,
    /// Where it lies on the map.
    pub pair: Pair,
}

/// What a card truly does at settings.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Look {
    /// Chance of a day without a fault, 0 to 1.
    pub chance: f64,
    /// Score, without the scatter of runs.
    pub score: f64,
}

impl Look {
    /// Whether the settings hold.
    #[must_use]
    pub fn holds(&self) -> bool {
        self.chance >= LEAST_CHANCE
    }
}

/// What a card truly does at settings, warm.
pub fn look<D: Fn(u64) -> Demand>(card: &mut BriefCard<D>, settings: &Settings) -> Look {
    Look { chance: card.chance_of_a_day(settings), score: card.steady(settings).score }
}

/// The highest value of one clock that holds with the other at stock, at raised power; MHz from stock.
pub fn edge_alone<D: Fn(u64) -> Demand>(
    card: &mut BriefCard<D>,
    climb: &Climb,
    domain: Domain,
) -> MhzOffset {
    let Some(axis) = climb.axis(domain) else { return MhzOffset::STOCK };
    let bin = axis.in_bins(1.0).0;
    let mut holds = |bins: i32| {
        let mut settings = climb.raised_to_the_top();
        axis.write(&mut settings, MhzOffset(bins * bin));
        look(card, &settings).holds()
    };
    let (mut low, mut high) = (0, axis.highest().0 / bin + 1);
    while high - low > 1 {
        let middle = (low + high) / 2;
        if holds(middle) { low = middle } else { high = middle }
    }
    MhzOffset(low * bin)
}

/// The best of what holds, at raised power and, where little or nothing holds there, at stock power;
/// `None` for a card that does not even hold at stock.
pub fn best<D: Fn(u64) -> Demand>(card: &mut BriefCard<D>, climb: &Climb) -> Option<Truth> {
    let stock = climb.held_settings();
    let raised = search(card, climb, climb.raised_to_the_top());
    let is_little = raised.is_none_or(|found| found.pair.core == MhzOffset::STOCK);
    let unraised = is_little.then(|| search(card, climb, stock)).flatten();
    let found = [raised, unraised].into_iter().flatten();
    let best = found.max_by(|a, b| a.score.total_cmp(&b.score))?;
    Some(Truth { stock: look(card, &stock).score, ..best })
}

/// Searches the map around `powered` settings: for each memory clock the best core clock that holds.
fn search<D: Fn(u64) -> Demand>(
    card: &mut BriefCard<D>,
    climb: &Climb,
    powered: Settings,
) -> Option<Truth> {
    let at = |pair: Pair| {
        let mut settings = powered;
        for (domain, value) in [(Domain::Core, pair.core), (Domain::Memory, pair.memory)] {
            if let Some(axis) = climb.axis(domain) {
                axis.write(&mut settings, value);
            }
        }
        settings
    };
    let bins =
        |domain| climb.axis(domain).map_or((1, 0), |axis| (axis.in_bins(1.0).0, axis.highest().0));
    let ((core_step, core_most), (memory_step, memory_most)) =
        (bins(Domain::Core), bins(Domain::Memory));
    let mut best = Truth { stock: 0.0, score: 0.0, pair: Pair::default() };
    let mut memory = 0;
    let mut core = core_most / 2;
    let stride = memory_step * (memory_most / memory_step / 25).max(1);
    while memory <= memory_most {
        let place = |core: i32| Pair {
            core: MhzOffset(core / core_step * core_step),
            memory: MhzOffset(memory),
        };
        // The edge of the core moves a little from one memory clock to the next.
        let mut step = core_step * 8;
        let mut holds = look(card, &at(place(core))).holds();
        while step >= core_step {
            if holds {
                while core + step <= core_most && look(card, &at(place(core + step))).holds() {
                    core += step;
                }
            } else {
                core = (core - step).max(0);
                holds = core == 0 || look(card, &at(place(core))).holds();
                if !holds {
                    continue;
                }
            }
            step /= 2;
            step = step / core_step * core_step;
        }
        if !look(card, &at(place(core))).holds() {
            break;
        }
        // Where clocks are stretched, less may be more.
        let mut here = (place(core), look(card, &at(place(core))).score);
        let down = core_step * (core_most / 20 / core_step).max(1);
        let mut lower = core - down;
        while lower >= 0 {
            let score = look(card, &at(place(lower))).score;
            if score <= here.1 {
                break;
            }
            here = (place(lower), score);
            lower -= down;
        }
        if here.1 > best.score {
            best = Truth { score: here.1, pair: here.0, ..best };
        } else if here.1 < best.score * 0.985 {
            break;
        }
        memory += stride;
    }
    (best.score > 0.0).then_some(best)
}
