//! What the card does at stock against what is advertised of it, and what would bring it there.
//!
//! Where power holds the clock back, the estimate goes by dynamic power, which is proportional to clock and to
//! the square of the voltage (`P ∝ f·V²`; see Rabaey, *Digital Integrated Circuits*, ch. 5). The voltages are those of
//! the card's factory V/F curve.

use crate::climb::{Climb, Stage, TrialRecord};
use crate::judge::verdict::Verdict;
use crate::load::artifact::Domain;
use crate::measure::limiter::Limiter;
use crate::statistics::mean;
use crate::units::{Mhz, MhzOffset, Millivolt, Watt};

/// What something takes, and whether it was measured; else it is estimated.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Cure<T> {
    /// How much.
    pub amount: T,
    /// Whether a run showed it.
    pub measured: bool,
}

impl<T> Cure<T> {
    fn estimated(amount: T) -> Self {
        Self { amount, measured: false }
    }
}

/// The card at stock under the load that keeps it fully busy.
#[derive(Debug, Clone, PartialEq)]
pub struct StockReport {
    /// The load.
    pub load: String,
    /// Boost clock that the card advertises.
    pub advertised: Mhz,
    /// Average clock it reached.
    pub reached: Mhz,
    /// What held the clock back most of the time, and in which share of it, 0 to 1.
    pub limiter: Option<(Limiter, f64)>,
    /// Board power above what it drew at which it would reach the advertised clock; none where power is not what
    /// holds it back, or where nothing tells.
    pub more_power: Option<Cure<Watt>>,
    /// Voltage below stock's at which it would; as `more_power`.
    pub less_voltage: Option<Cure<Millivolt>>,
}

impl StockReport {
    /// Whether the card reaches what is advertised, within one bin of its clock.
    #[must_use]
    pub fn is_reached(&self, bin: Mhz) -> bool {
        self.reached.value() + bin.value() >= self.advertised.value()
    }
}

impl Climb {
    /// What the card does at stock; none before the baseline is complete.
    #[must_use]
    pub fn stock_report(&self) -> Option<StockReport> {
        let load = self.plan.full_load();
        let baseline = self.baseline_under(load)?;
        let runs: Vec<&TrialRecord> = self.counted_baseline_runs(load).collect();
        let newest = runs.last()?;
        let (advertised, reached) = (self.card.limits.boost_clock, baseline.average_clock);
        let limiter = newest.seen.main_limiter();
        let mut report = StockReport {
            load: newest.scene.clone(),
            advertised,
            reached,
            limiter,
            more_power: None,
            less_voltage: None,
        };
        let is_held_back = limiter.is_some_and(|(limiter, _)| limiter == Limiter::Power);
        if is_held_back && !report.is_reached(self.card.limits.clock_bin) {
            let power = baseline.average_power;
            let estimated = power.and_then(|power| self.estimated_power(power, reached));
            report.more_power = power
                .and_then(|power| self.measured_power(power))
                .or_else(|| estimated.map(|watts| Cure::estimated(Watt(watts))));
            let estimated = self.estimated_undervolt(reached);
            report.less_voltage = self
                .measured_undervolt()
                .or_else(|| estimated.map(|millivolt| Cure::estimated(Millivolt(millivolt))));
        }
        Some(report)
    }

    /// Voltages of the factory curve at the clock reached and at the advertised one, mV.
    fn voltages(&self, reached: Mhz) -> Option<(f64, f64)> {
        let factory = self.card.curve?.factory;
        let at = |clock| Some(factory.voltage_for(clock)?.value());
        Some((at(reached)?, at(self.card.limits.boost_clock)?))
    }

    fn estimated_power(&self, drawn: Watt, reached: Mhz) -> Option<f64> {
        let (low, high) = self.voltages(reached)?;
        let more = self.card.limits.boost_clock.value() / reached.value() * (high / low).powi(2);
        Some(drawn.value() * (more - 1.0))
    }

    /// Voltage at which the advertised clock draws what the clock reached draws now, against the factory's.
    fn estimated_undervolt(&self, reached: Mhz) -> Option<f64> {
        let (low, high) = self.voltages(reached)?;
        let wanted = low * (reached.value() / self.card.limits.boost_clock.value()).sqrt();
        Some(high - wanted).filter(|off| *off > 0.0)
    }

    /// Whether a run at stock clocks reached the advertised one.
    fn has_reached(&self, trial: &TrialRecord) -> bool {
        let needed = self.card.limits.boost_clock.value() - self.card.limits.clock_bin.value();
        let core = self.axis(Domain::Core);
        trial.verdict() == Verdict::Clean
            && core.is_none_or(|axis| trial.value_on(&axis) == MhzOffset::STOCK)
            && trial.seen.average_clock().is_some_and(|clock| clock.value() >= needed)
    }

    fn measured_power(&self, drawn: Watt) -> Option<Cure<Watt>> {
        let runs = self.power_runs(self.plan.full_load());
        if runs.is_empty() || !runs.iter().all(|run| self.has_reached(run)) {
            return None;
        }
        let powers: Vec<f64> =
            runs.iter().filter_map(|run| run.seen.average_power).map(Watt::value).collect();
        let amount = Watt(mean(&powers)? - drawn.value());
        Some(Cure { amount, measured: true })
    }

    fn measured_undervolt(&self) -> Option<Cure<Millivolt>> {
        let stages = self.stages.iter().filter(|stage| stage.is_undervolting());
        let depths = stages.filter_map(|stage| {
            let depth = self.depth_of(*stage)?;
            let reached = self.counted_of(*stage).filter(|trial| self.has_reached(trial));
            // A depth counted from a raised voltage says nothing of stock's.
            let at_stock_limit = reached.filter(|trial| {
                trial.held().power_limit == self.held_settings().power_limit
                    && *stage != Stage::MaxClock
            });
            at_stock_limit.filter_map(|trial| Some(depth.read(&trial.held())?.0)).min()
        });
        let amount = Millivolt(f64::from(depths.min()?));
        Some(Cure { amount, measured: true })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::climb::stages::tests::shaped;
    use crate::climb::{ClimbEvent, Next};
    use crate::fixtures::seen;
    use crate::measure::clock_line::ClockLine;
    use crate::measure::monitor::Seen;
    use crate::plan::Plan;
    use crate::units::Percent;

    fn ran(climb: &mut Climb, clock: f64, watts: f64, limiter: Limiter) {
        let Next::Trial(proposal) = climb.next() else { panic!("{:?}", climb.next()) };
        let request = proposal.request;
        let number = climb.trials().len() as u32 + 1;
        let clock_line = ClockLine {
            average: Mhz(clock),
            lowest: Mhz(clock - 20.0),
            highest: Mhz(clock + 20.0),
            flatness: Percent(80.0),
            dips: vec![],
        };
        let record = TrialRecord {
            taken: Some(request.asked),
            seen: Seen {
                clock_line: Some(clock_line),
                average_power: Some(Watt(watts)),
                limiters: vec![(limiter, 0.96), (Limiter::Voltage, 0.04)],
                ..seen()
            },
            seconds: request.seconds,
            score: Some(1_000.0 + f64::from(number % 2)),
            ..request.judged(number, Verdict::Clean, "Clean.".into())
        };
        climb.handle(ClimbEvent::TrialEnded(Box::new(record)));
    }

    fn at_stock(clock: f64, limiter: Limiter) -> Climb {
        let stages = [Stage::Baseline, Stage::Power];
        let plan = Plan { scene: "kiln".into(), ..Plan::default() };
        let mut climb = Climb::new(shaped(), plan, &stages).unwrap();
        assert_eq!(climb.stock_report(), None);
        (0..3).for_each(|_| ran(&mut climb, clock, 220.0, limiter));
        climb
    }

    #[test]
    fn a_card_held_back_by_power_is_told_what_would_help_by_its_curve() {
        let climb = at_stock(1_900.0, Limiter::Power);
        let report = climb.stock_report().unwrap();
        assert_eq!((report.load.as_str(), report.reached), ("kiln", Mhz(1_900.0)));
        assert_eq!(report.limiter, Some((Limiter::Power, 0.96)));
        let advertised = climb.card().limits.boost_clock;
        assert_eq!(report.advertised, advertised);
        let factory = climb.card().curve.unwrap().factory;
        let volt = |clock| factory.voltage_for(clock).unwrap().value();
        let (low, high) = (volt(Mhz(1_900.0)), volt(advertised));
        let power = |clock: f64, volt: f64| clock * volt * volt;
        let share = power(advertised.value(), high) / power(1_900.0, low);
        let more = report.more_power.unwrap();
        assert!((more.amount.value() - 220.0 * (share - 1.0)).abs() < 1e-9 && !more.measured);
        let less = report.less_voltage.unwrap();
        let same = power(advertised.value(), high - less.amount.value());
        assert!((same / power(1_900.0, low) - 1.0).abs() < 1e-9, "the same power as now");
    }

    #[test]
    fn what_the_power_stage_showed_is_no_estimate() {
        let mut climb = at_stock(1_900.0, Limiter::Power);
        let advertised = climb.card().limits.boost_clock.value();
        ran(&mut climb, advertised, 251.0, Limiter::Voltage);
        let more = climb.stock_report().unwrap().more_power;
        assert_eq!(more, Some(Cure { amount: Watt(31.0), measured: true }));
        ran(&mut climb, advertised - 100.0, 251.0, Limiter::Power);
        let more = climb.stock_report().unwrap().more_power.unwrap();
        assert!(!more.measured, "not every run with the raised limit reached it");
    }

    #[test]
    fn where_power_is_not_what_holds_it_back_no_cure_is_told() {
        for (clock, limiter) in [(1_900.0, Limiter::Heat), (2_200.0, Limiter::Power)] {
            let report = at_stock(clock, limiter).stock_report().unwrap();
            assert_eq!((report.more_power, report.less_voltage), (None, None), "{limiter:?}");
        }
    }
}
