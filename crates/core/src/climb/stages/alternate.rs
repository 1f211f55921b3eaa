//! Alternate: clock and voltage by turns. More clock is asked for until the clock line dips under the power limit; then the
//! voltage goes down until it does not, and the clock up again, as far as both hold.
//!
//! Either move brings the card nearer to its edge: a megahertz more by as much as the millivolts less that it takes on the
//! curve. So both lie on one scale, in millivolts, and the clock line says which of the two a step is taken in.

use crate::card::description::CardDescription;
use crate::card::settings::Settings;
use crate::climb::search::axis::Axis;
use crate::climb::search::bayesian::Surprise;
use crate::climb::search::belief::EdgeBelief;
use crate::climb::search::depth::Depth;
use crate::climb::search::experience::Experience;
use crate::climb::search::scale::{Scale, Steps};
use crate::climb::search::{Search, Tried, below_slow};
use crate::climb::stages::edge::USUAL_TRIALS;
use crate::climb::stages::rules::{NudgeBy, SCORE_BY_CLOCK, StageRules, ToGo};
use crate::climb::stages::undervolt::held_by_power;
use crate::climb::{Claim, Climb, Next, Nudge, Pair, Stage};
use crate::judge::verdict::Verdict;
use crate::load::artifact::Domain;
use crate::plan::Plan;
use crate::units::{MhzOffset, MillivoltOffset};

/// Clock above stock and voltage below it.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
struct Place {
    clock: MhzOffset,
    depth: i32,
}

/// Both as one scale, in millivolts.
#[derive(Debug, Clone, Copy)]
pub(in crate::climb) struct Turns {
    clock: Axis,
    depth: Depth,
    /// Millivolts that a megahertz takes.
    per_mhz: f64,
    /// Where the last step that held has led.
    from: Place,
    /// Whether its clock line dipped, so that the next step is one of voltage.
    dips: bool,
}

impl Turns {
    fn value(&self, place: Place) -> i32 {
        let millivolt = f64::from(place.depth) + f64::from(place.clock) * self.per_mhz;
        let step = f64::from(self.depth.step());
        (millivolt / step).round() as i32 * self.depth.step()
    }

    /// The place of a value: beyond the last step that held by the move that is due, short of it in its proportion.
    fn place(&self, value: i32) -> Place {
        let (wanted, from) = (f64::from(value), self.value(self.from));
        let most_clock = f64::from(self.clock.highest());
        let clock = match value >= from {
            true if self.dips => f64::from(self.from.clock),
            true => (wanted - f64::from(self.from.depth)) / self.per_mhz,
            false => f64::from(self.from.clock) * wanted / f64::from(from.max(1)),
        };
        // What one of the two has no room for is left to the other.
        let by_clock = |clock: f64| self.clock.bin(clock.clamp(0.0, most_clock));
        let off = |clock: MhzOffset| wanted - f64::from(clock) * self.per_mhz;
        let mut clock = by_clock(clock);
        let over = off(clock) - f64::from(self.depth.deepest());
        if over > 0.0 {
            clock = by_clock(f64::from(clock) + over / self.per_mhz);
        }
        let step = f64::from(self.depth.step());
        let depth = (off(clock) / step).round() as i32 * self.depth.step();
        Place { clock, depth: depth.clamp(0, self.depth.deepest()) }
    }

    fn write(&self, base: &Settings, value: i32) -> Settings {
        let place = self.place(value);
        let mut settings = self.depth.write(base, place.depth, None);
        self.clock.write(&mut settings, place.clock);
        settings
    }

    fn read(&self, settings: &Settings) -> Option<Place> {
        let (depth, _) = self.depth.read(settings)?;
        Some(Place { clock: self.clock.read(settings), depth })
    }
}

impl Scale for Turns {
    type Value = i32;

    fn steps(&self, plan: &Plan) -> Steps<i32> {
        self.depth.steps(plan)
    }

    fn highest(&self) -> i32 {
        self.depth.deepest()
    }

    fn bin(&self, value: f64) -> i32 {
        self.depth.bin(value)
    }

    fn show(&self, value: i32) -> String {
        let Place { clock, depth } = self.place(value);
        format!("core {}, voltage {}", self.clock.show(clock), self.depth.show(depth))
    }

    fn start(&self) -> &'static str {
        "stock"
    }

    fn size(&self) -> f64 {
        self.depth.size()
    }

    fn known(&self, _plan: &Plan) -> Option<i32> {
        None
    }

    fn belief(&self, plan: &Plan, experience: &Experience) -> EdgeBelief {
        self.depth.belief(plan, experience)
    }
}

/// The stage.
pub(in crate::climb) struct Alternate;

impl StageRules for Alternate {
    fn missing(&self, card: &CardDescription) -> Option<&'static str> {
        if Depth::from_stock(card, 1, i32::MAX).is_none() {
            return Some("core voltage");
        }
        Axis::of(card, Domain::Core).is_none().then_some("core clock")
    }

    fn next(&self, climb: &Climb) -> Option<Next> {
        climb.next_of_turns()
    }

    fn found(&self, climb: &Climb) -> Option<Settings> {
        if !climb.counts(Stage::Alternate) {
            return None;
        }
        let turns = climb.turns()?;
        let kept = turns.search.kept();
        (kept > 0).then(|| turns.settings(kept))
    }

    fn long_run(&self, climb: &Climb) -> f64 {
        climb.plan.voltage.settle_seconds
    }

    fn claim(&self, climb: &Climb, pair: Pair) -> Option<Claim> {
        let turns = climb.turns()?;
        let (belief, kept) = (turns.search.belief(), turns.search.kept());
        let chance = belief.chance_to_hold(kept, climb.plan.margin.hours());
        let hand = (belief.band(0.0).0 - f64::from(kept)).max(0.0).round() as i32;
        Some(Claim {
            // Both of its moves lie on the scale of millivolts.
            below_core: MhzOffset::STOCK,
            below_depth: MillivoltOffset(hand),
            ..climb.claimed_beside(
                Stage::Alternate,
                Domain::Core,
                pair,
                chance,
                &turns.settings(kept),
            )
        })
    }

    fn surprise(&self, climb: &Climb) -> Option<Surprise> {
        climb.turns()?.search.surprise()
    }

    fn to_go(&self, climb: &Climb, done: f64) -> ToGo {
        ToGo { trials: (USUAL_TRIALS - done).max(1.0), seconds: climb.plan.voltage.seconds }
    }

    fn nudge_by(&self) -> Option<NudgeBy> {
        Some(NudgeBy::Turns)
    }
}

/// The search, with what it begins with.
struct Turning<'a> {
    search: Search<'a, Turns>,
    base: Settings,
}

impl Turning<'_> {
    /// The settings of a value: those that held there, or else where the next step leads.
    fn settings(&self, value: i32) -> Settings {
        let held = self
            .search
            .tried
            .iter()
            .rev()
            .find(|trial| trial.value == value && trial.proves() && !trial.is_fault());
        held.map_or_else(|| self.search.scale.write(&self.base, value), |trial| trial.record.held())
    }
}

impl Climb {
    fn turns(&self) -> Option<Turning<'_>> {
        let voltage = &self.plan.voltage;
        let depth = Depth::from_stock(&self.card, voltage.fine_step_mv, voltage.most_off_mv)?;
        let clock = self.axis(Domain::Core)?;
        let base = self.with_stock(Domain::Core, Stage::Alternate);
        let flat = self.plan.undervolt_clock.flat_below_percent / 100.0;
        let mut scale = Turns {
            clock,
            depth,
            per_mhz: depth.size() / clock.clock,
            from: Place::default(),
            dips: self.measured_baseline()?.held_by_power >= flat,
        };
        let mut tried: Vec<Tried<'_, i32>> = Vec::new();
        for record in self.counted_of(Stage::Alternate) {
            let Some(place) = scale.read(&record.held()) else { continue };
            let value = scale.value(place);
            if record.verdict() == Verdict::Clean && value >= scale.value(scale.from) {
                (scale.from, scale.dips) = (place, held_by_power(record) >= flat);
            }
            tried.push(Tried { value, record });
        }
        // Where something failed since below it, the last step that held is no place to go on from.
        let failed = tried.iter().filter(|trial| trial.is_fault()).map(|trial| trial.value).min();
        if let Some(failed) = failed.filter(|failed| scale.value(scale.from) >= *failed) {
            let mut held = tried.iter().rev().filter(|trial| trial.verdict() == Verdict::Clean);
            let below = held.find(|trial| trial.value < failed);
            scale.from =
                below.and_then(|trial| scale.read(&trial.record.held())).unwrap_or_default();
        }
        let values = (depth.step()..=scale.highest()).step_by(depth.step() as usize);
        let search = Search {
            scale,
            plan: &self.plan,
            cap: below_slow(&tried, depth.step()),
            tried,
            slow_is_too_much: true,
            first: None,
            slope: SCORE_BY_CLOCK / scale.size(),
            below_safe: 0.0,
            barred: self.barred_among(values, |value| scale.write(&base, value)),
            taken_up_after: self.taken_up_after,
            is_followed: false,
            beside: Vec::new(),
            all: &self.trials,
            experience: &self.experience,
        };
        Some(Turning { search, base })
    }

    fn next_of_turns(&self) -> Option<Next> {
        if self.is_over(Stage::Alternate) {
            return None;
        }
        let turns = self.turns()?;
        let step = turns.search.next(false);
        self.next_of_search(Stage::Alternate, &turns.search, step, |value| turns.settings(value))
    }

    /// The next step but `steps` fine steps away.
    pub(in crate::climb) fn nudged_turn(&self, proposed: &Settings, steps: i32) -> Option<Nudge> {
        let turns = self.turns()?;
        let scale = turns.search.scale;
        let from = scale.value(scale.read(proposed)?);
        let wanted = from.saturating_add(steps.saturating_mul(scale.depth.step()));
        let wanted = wanted.clamp(0, scale.highest());
        let settings = scale.write(&turns.base, wanted);
        Some(Nudge { stage: Stage::Alternate, settings, shown: scale.show(wanted) })
    }
}
