//! A curve being shaped: moves, their undoing, and what stands in the way of asking for it.

use crate::moves::Moves;
use crate::shape::{CurveError, CurveKind, CurveOffer, VfCurve};
use crate::units::{Mhz, Percent};

/// What a smoothing did to one point.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Change {
    /// Which point, counted from 0.
    pub point: usize,
    /// What it was, mV and MHz.
    pub from: (u16, u16),
    /// What it is, mV and MHz.
    pub to: (u16, u16),
}

impl Change {
    /// The change in a few words: clock by clock at a voltage, and the voltage where that moved too.
    #[must_use]
    pub fn in_words(&self) -> String {
        let ((from_mv, from), (to_mv, to)) = (self.from, self.to);
        match from_mv == to_mv {
            true => format!("{from} to {to} MHz at {to_mv} mV"),
            false if from == to => format!("{from_mv} to {to_mv} mV for {to} MHz"),
            false => format!("{from} MHz at {from_mv} mV to {to} MHz at {to_mv} mV"),
        }
    }
}

/// A curve being shaped. It may fall here and there while it is: [`curve`](Self::curve) says so.
///
/// Every move keeps inside the offer's ranges and on its steps, and can be undone.
#[derive(Debug, Clone, PartialEq)]
pub struct Sketch {
    offer: CurveOffer,
    moves: Moves<Vec<(u16, u16)>>,
}

impl Sketch {
    /// A sketch that begins with `curve`.
    #[must_use]
    pub fn new(offer: CurveOffer, curve: &VfCurve) -> Self {
        let moves = Moves::new(offer.within(curve).into());
        Self { offer, moves }
    }

    /// The card's offer.
    #[must_use]
    pub fn offer(&self) -> &CurveOffer {
        &self.offer
    }

    /// The points as they stand, mV and MHz.
    #[must_use]
    pub fn points(&self) -> &[(u16, u16)] {
        self.moves.now()
    }

    /// The curve, if it is one.
    ///
    /// # Errors
    /// It falls, or two states have the same voltage.
    pub fn curve(&self) -> Result<VfCurve, CurveError> {
        VfCurve::new(self.points())
    }

    /// Whether it is the factory's.
    #[must_use]
    pub fn is_factory(&self) -> bool {
        self.curve().as_ref() == Ok(&self.offer.factory)
    }

    /// Takes the last move back; whether there was one.
    pub fn undo(&mut self) -> bool {
        self.moves.undo()
    }

    /// Makes the move again that was taken back last; whether there was one.
    pub fn redo(&mut self) -> bool {
        self.moves.redo()
    }

    /// Begins again from another curve, as one move.
    pub fn load(&mut self, curve: &VfCurve) -> bool {
        self.moves.make(self.offer.within(curve).into())
    }

    /// Gives one point a clock; whether that moved it.
    pub fn set_clock(&mut self, point: usize, mhz: f64) -> bool {
        let mut points = self.points().to_vec();
        let Some(place) = points.get_mut(point) else { return false };
        place.1 = self.offer.clocks.nearest(mhz);
        self.moves.make(points)
    }

    /// Raises (or lowers) one point by bins of clock.
    pub fn raise(&mut self, point: usize, bins: i32) -> bool {
        let Some(&(_, mhz)) = self.points().get(point) else { return false };
        self.set_clock(point, f64::from(mhz) + f64::from(bins) * self.clock_step())
    }

    /// Puts one point where it is dragged to: its clock, and for states its voltage, as one move.
    pub fn place(&mut self, point: usize, millivolt: f64, mhz: f64) -> bool {
        let mut points = self.points().to_vec();
        let Some(place) = points.get_mut(point) else { return false };
        place.1 = self.offer.clocks.nearest(mhz);
        if self.offer.kind == CurveKind::States {
            place.0 = self.offer.voltages.nearest(millivolt);
        }
        self.moves.make(points)
    }

    /// Gives one state a voltage; whether that moved it. Points have theirs.
    pub fn set_voltage(&mut self, point: usize, millivolt: f64) -> bool {
        if self.offer.kind == CurveKind::Points {
            return false;
        }
        let mut points = self.points().to_vec();
        let Some(place) = points.get_mut(point) else { return false };
        place.0 = self.offer.voltages.nearest(millivolt);
        self.moves.make(points)
    }

    /// Raises (or lowers) one state's voltage by steps.
    pub fn raise_voltage(&mut self, point: usize, steps: i32) -> bool {
        let Some(&(millivolt, _)) = self.points().get(point) else { return false };
        let step = f64::from(self.offer.voltages.step);
        self.set_voltage(point, f64::from(millivolt) + f64::from(steps) * step)
    }

    /// Gives one point a clock and flattens everything to its right to it.
    pub fn pin(&mut self, point: usize, mhz: f64) -> bool {
        let mut points = self.points().to_vec();
        let clock = self.offer.clocks.nearest(mhz);
        points.iter_mut().skip(point).for_each(|place| place.1 = clock);
        self.moves.make(points)
    }

    /// Flattens everything to the right of a point to its clock.
    pub fn flatten_right(&mut self, point: usize) -> bool {
        let Some(&(_, mhz)) = self.points().get(point) else { return false };
        self.pin(point, f64::from(mhz))
    }

    /// Moves every clock by so much.
    pub fn shift_all(&mut self, mhz: f64) -> bool {
        let moved =
            |(mv, clock): &(u16, u16)| (*mv, self.offer.clocks.nearest(f64::from(*clock) + mhz));
        self.moves.make(self.points().iter().map(moved).collect())
    }

    /// Makes what lies left of a point rise smoothly up to it, and tells what that changed.
    ///
    /// The factory curve is bent towards the point: its points are moved by the point's own distance
    /// from the factory, times their share of the way from the lowest voltage. That rises where the
    /// factory does, unless the point was lowered by much; what still falls is levelled to what
    /// comes after it.
    pub fn smooth_left(&mut self, point: usize) -> Vec<Change> {
        let Some(&(end_mv, end_mhz)) = self.points().get(point) else { return Vec::new() };
        let factory = self.offer.factory;
        let lifted = f64::from(end_mhz)
            - factory.clock_at(crate::units::Millivolt(f64::from(end_mv))).value();
        let mut points = self.points().to_vec();
        let first = f64::from(points[0].0);
        let way = (f64::from(end_mv) - first).max(1.0);
        for place in points.iter_mut().take(point) {
            let millivolt = f64::from(place.0);
            let at = factory.clock_at(crate::units::Millivolt(millivolt)).value();
            let share = ((millivolt - first) / way).clamp(0.0, 1.0);
            place.1 = self.offer.clocks.nearest(at + lifted * share).min(end_mhz);
        }
        self.level_and_tell(points, point)
    }

    /// Lays the states below the top one evenly under it, voltage against clock as the factory has
    /// them, and tells what that changed: a state keeps its clock, and gets the voltage that the
    /// factory gives that clock, moved as the top one is.
    pub fn smooth_states(&mut self) -> Vec<Change> {
        let Some(&(top_mv, top_mhz)) = self.points().last() else { return Vec::new() };
        let factory = self.offer.factory;
        let needed = |mhz: u16| {
            let clock = Mhz(f64::from(mhz).min(f64::from(factory.last().mhz)));
            factory.voltage_for(clock).map_or(f64::from(factory.last().millivolt), |v| v.value())
        };
        let moved = f64::from(top_mv) - needed(top_mhz);
        let mut points = self.points().to_vec();
        let top = points.len() - 1;
        for place in points.iter_mut().take(top) {
            place.1 = place.1.min(top_mhz);
            if self.offer.kind == CurveKind::States {
                place.0 = self.offer.voltages.nearest(needed(place.1) + moved);
            }
        }
        if self.offer.kind == CurveKind::States {
            // Each a step below the next at least.
            let step = self.offer.voltages.step.max(1);
            for at in (0..top).rev() {
                points[at].0 = points[at].0.min(points[at + 1].0.saturating_sub(step));
            }
            let lowest = self.offer.voltages.lowest;
            for (at, place) in points.iter_mut().enumerate() {
                place.0 = place.0.max(lowest + step * at as u16);
            }
        }
        self.level_and_tell(points, top)
    }

    /// Scales all clocks, by percent of what they are.
    pub fn scale_clocks(&mut self, percent: Percent) -> bool {
        let by = percent.value() / 100.0;
        let scaled =
            |(mv, mhz): &(u16, u16)| (*mv, self.offer.clocks.nearest(f64::from(*mhz) * by));
        self.moves.make(self.points().iter().map(scaled).collect())
    }

    /// Scales all voltages of states, by percent of what they are. Points have theirs.
    pub fn scale_voltages(&mut self, percent: Percent) -> bool {
        if self.offer.kind == CurveKind::Points {
            return false;
        }
        let by = percent.value() / 100.0;
        let scaled =
            |(mv, mhz): &(u16, u16)| (self.offer.voltages.nearest(f64::from(*mv) * by), *mhz);
        let points = self.points().iter().map(scaled).collect();
        crate::shape::rising(points, &self.offer.voltages)
            .is_some_and(|points| self.moves.make(points))
    }

    /// Levels what falls below `end`, makes the move, and tells what it changed.
    fn level_and_tell(&mut self, mut points: Vec<(u16, u16)>, end: usize) -> Vec<Change> {
        for at in (0..end).rev() {
            points[at].1 = points[at].1.min(points[at + 1].1);
        }
        let pairs = self.points().iter().zip(&points).enumerate();
        let changes = pairs
            .filter(|(_, (from, to))| from != to)
            .map(|(point, (from, to))| Change { point, from: *from, to: *to })
            .collect();
        self.moves.make(points);
        changes
    }

    fn clock_step(&self) -> f64 {
        f64::from(self.offer.clocks.step)
    }
}
