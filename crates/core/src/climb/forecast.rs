//! What a value is expected to do to watts and temperature before it is applied, from a run that was made.
//!
//! The core's dynamic power goes with `f · V²` (CMOS switching power: Weste and Harris, *CMOS VLSI Design*, ch. 5); the
//! rest, memory, leakage and fans, stays as it was. How large that rest is nobody tells: the range covers none to a half
//! of the power. What a cooler's chip is above the room goes with the power at one fan speed.
//!
//! ```text
//!   P' = P · (rest + (1 − rest) · f'V'² / fV²), at most the limit        T' = room + (T − room) · P' / P
//! ```

use crate::card::description::CardDescription;
use crate::card::settings::Settings;
use crate::climb::TrialRecord;
use crate::judge::verdict::Verdict;
use crate::measure::limiter::Limiter;
use crate::measure::monitor::CurveBand;
use crate::shape::top_of;
use crate::statistics::mean;
use crate::units::{Celsius, Mhz, Millivolt, Seconds, Watt};

/// Share of the power that does not follow clock and voltage: at least, and at most.
const REST: (f64, f64) = (0.0, 0.5);
/// Two runs at the same settings differ by this share in their power.
const SCATTER: f64 = 0.02;
/// And by this much in their highest hot spot, K.
const WARMER: f64 = 1.5;
/// Share of a change in temperature that may come out otherwise, since only a part of the board's power heats the chip.
const BESIDE: f64 = 0.15;
/// Shorter runs say nothing of heat.
const LEAST: Seconds = Seconds(20.0);

/// A value and how far it may lie from the truth.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Estimate<T> {
    /// The value.
    pub value: T,
    /// Half the range that covers what is not known.
    pub within: T,
}

/// What settings are expected to come to under a load.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Forecast {
    /// Average board power.
    pub power: Estimate<Watt>,
    /// Highest hot spot in a run as long as the one it goes by; none where the fan is another.
    pub hot_spot: Option<Estimate<Celsius>>,
    /// The trial it goes by.
    pub from: u32,
}

/// Where a card is on its curve.
#[derive(Debug, Clone, Copy)]
struct Place {
    clock: Mhz,
    voltage: Option<Millivolt>,
}

impl Place {
    /// `f'V'² / fV²` from another place to this one. Without a voltage, it stays.
    fn work_against(self, other: Self) -> f64 {
        let voltage = match (self.voltage, other.voltage) {
            (Some(now), Some(before)) => now.value() / before.value().max(1.0),
            _ => 1.0,
        };
        self.clock.value() / other.clock.value().max(1.0) * voltage * voltage
    }
}

/// What settings are expected to come to under a load, from the run among `trials` that is most like it: with the same
/// fan where there is one, with the fewest other settings changed, and the newest. None without a run to go by.
#[must_use]
pub fn forecast(
    card: &CardDescription,
    trials: &[TrialRecord],
    load: &str,
    to: &Settings,
) -> Option<Forecast> {
    let counts = |trial: &&TrialRecord| {
        trial.scene == load
            && trial.seconds >= LEAST
            && matches!(trial.verdict(), Verdict::Clean | Verdict::Throttled)
    };
    let unlike = |trial: &TrialRecord| {
        let held = trial.held();
        (held.fan != to.fan, held.differences(to, card).len(), u32::MAX - trial.number)
    };
    let run = trials.iter().filter(counts).min_by_key(|trial| unlike(trial))?;
    Forecast::after(card, trials, run, to)
}

impl Forecast {
    /// What settings are expected to come to, from a run at others.
    fn after(
        card: &CardDescription,
        trials: &[TrialRecord],
        run: &TrialRecord,
        to: &Settings,
    ) -> Option<Self> {
        let held = run.held();
        let power = run.seen.average_power?.value();
        let now = place_in(run)?;
        let limited = run.seen.limiter_share(Limiter::Power) > 0.5;
        let limit = |settings: &Settings| settings.power_limit.or(card.limits.power_limit);
        let most = match (limit(&held), limit(to)) {
            (Some(before), Some(limit)) if limited => {
                power * limit.value() / before.value().max(1.0)
            }
            (None, None) if limited => power,
            (_, limit) => limit.map_or(f64::INFINITY, Watt::value),
        };
        // A card that the limit holds down runs between the highest clock it showed and the top of its curve once it
        // has power enough.
        let highest = run.seen.clock_line.as_ref().map(|line| line.highest);
        let free: Vec<Place> = match limited {
            true => highest
                .into_iter()
                .chain([top_of(card, &held)])
                .map(|clock| place_at(card, run, clock))
                .collect(),
            false => vec![now],
        };
        let least_and_most = free.into_iter().flat_map(|place| {
            let work = moved(card, trials, run, to, place).work_against(now);
            [REST.0, REST.1].map(|rest| (power * (rest + (1.0 - rest) * work)).min(most))
        });
        let (low, high) = least_and_most
            .fold((f64::INFINITY, 0.0_f64), |(low, high), at| (at.min(low), at.max(high)));
        let expected = (low + high) / 2.0;
        let within = (high - low) / 2.0 + SCATTER * expected;
        let room = run.room.unwrap_or_default().ambient.value();
        let still_warming = run.seen.warming.map_or(0.0, |warming| warming.value().max(0.0));
        let hot_spot = run.seen.hot_spot_max.filter(|_| held.fan == to.fan).map(|hot_spot| {
            let above = hot_spot.value() - room;
            let (to, unsure) = (above * expected / power.max(1.0), above * within / power.max(1.0));
            // Not all of the board's power heats the chip.
            let elsewhere = BESIDE * (to - above).abs();
            Estimate {
                value: Celsius(room + to),
                within: Celsius(unsure + elsewhere + WARMER + still_warming),
            }
        });
        let power = Estimate { value: Watt(expected), within: Watt(within) };
        Some(Self { power, hot_spot, from: run.number })
    }
}

/// Where a run was on its curve, on average.
fn place_in(run: &TrialRecord) -> Option<Place> {
    let middle = |band: CurveBand| (band.voltage.0.value() + band.voltage.1.value()) / 2.0;
    let voltage = mean(&bands(run).map(middle).collect::<Vec<_>>()).map(Millivolt);
    Some(Place { clock: run.seen.average_clock()?, voltage })
}

/// A place on the curve that a run had, at a clock.
fn place_at(card: &CardDescription, run: &TrialRecord, clock: Mhz) -> Place {
    let highest =
        || bands(run).map(|band| band.voltage.1).max_by(|a, b| a.value().total_cmp(&b.value()));
    Place { clock, voltage: voltage_at(card, &run.held(), clock).or_else(highest) }
}

/// Where a run was, by the sections of its load.
fn bands(run: &TrialRecord) -> impl Iterator<Item = CurveBand> {
    run.seen.sections.iter().filter_map(|section| section.band)
}

/// The voltage for a clock on the curve that settings make, where the card has one.
fn voltage_at(card: &CardDescription, settings: &Settings, clock: Mhz) -> Option<Millivolt> {
    let curve = settings.curve.or(card.curve.map(|offer| offer.factory))?;
    let offset = settings.core_offset.map_or(0.0, |offset| f64::from(offset.0));
    let top = || Millivolt(f64::from(curve.flat_from().millivolt));
    let voltage = curve.voltage_for(Mhz(clock.value() - offset)).unwrap_or_else(top);
    Some(Millivolt(voltage.value() + voltage_offset(settings)))
}

fn voltage_offset(settings: &Settings) -> f64 {
    settings.voltage_offset.map_or(0.0, |offset| f64::from(offset.0))
}

/// Where other settings move a place of a run: as far as they move the top of its curve; a window that ends below the
/// place ends there.
fn moved(
    card: &CardDescription,
    trials: &[TrialRecord],
    run: &TrialRecord,
    to: &Settings,
    place: Place,
) -> Place {
    let held = run.held();
    let (top, before) = (top_of(card, to).value(), top_of(card, &held).value());
    let is_at_top = place.clock.value() > before - card.limits.clock_bin.value();
    let clock = match to.clock_maximum == held.clock_maximum || is_at_top {
        true => place.clock.value() + top - before,
        false => place.clock.value().min(top),
    };
    let more = match (voltage_at(card, to, Mhz(clock)), voltage_at(card, &held, place.clock)) {
        (Some(to), Some(from)) => to.value() - from.value(),
        // Without a curve, what was seen says how much a window's top needs; an offset of the clock needs none.
        _ => {
            let needs = match to.clock_maximum == held.clock_maximum {
                true => 0.0,
                false => slope_of(trials) * (clock - place.clock.value()),
            };
            voltage_offset(to) - voltage_offset(&held) + needs
        }
    };
    Place {
        clock: Mhz(clock.max(1.0)),
        voltage: place.voltage.map(|voltage| Millivolt((voltage.value() + more).max(1.0))),
    }
}

/// Millivolts per MHz between the lowest and the highest place that was seen at the factory's curve; 0 where nothing was.
fn slope_of(trials: &[TrialRecord]) -> f64 {
    let bands = trials.iter().filter(|trial| voltage_offset(&trial.held()) == 0.0).flat_map(bands);
    let places =
        bands.flat_map(|band| [(band.clock.0, band.voltage.0), (band.clock.1, band.voltage.1)]);
    let places: Vec<(f64, f64)> =
        places.map(|(clock, volts)| (clock.value(), volts.value())).collect();
    let least = places.iter().min_by(|a, b| a.0.total_cmp(&b.0));
    let most = places.iter().max_by(|a, b| a.0.total_cmp(&b.0));
    least
        .zip(most)
        .map_or(0.0, |(least, most)| ((most.1 - least.1) / (most.0 - least.0).max(1.0)).max(0.0))
}
