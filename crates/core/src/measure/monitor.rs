//! Watching a run: from single samples and frame checks to what was *seen*.

use std::collections::VecDeque;

use serde::{Deserialize, Serialize};

use crate::air::fan::Fan;
use crate::card::description::{CardLimits, Channel};
use crate::card::settings::Settings;
use crate::load::artifact::{Artifact, ArtifactLog};
use crate::load::told::Told;
use crate::load::workload::CheckedFrame;
use crate::measure::clock_line::{ClockLine, read_clock_line};
use crate::measure::limiter::{Limiter, LimiterShares, attribute};
use crate::measure::moment::Moment;
use crate::measure::plateau::{Plateau, Warming};
use crate::measure::sample::Sample;
use crate::statistics::{Running, quantile};
use crate::units::{Celsius, Mhz, Millivolt, Percent, Seconds, Watt};

/// What was observed under load. Clocks, power and scores are of the time after the warm-up;
/// wrong frames and highest temperatures are of the whole run.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
pub struct Seen {
    /// Length of the run so far, warm-up included.
    pub seconds: Seconds,
    /// Figures of the reported core clock.
    pub clock_line: Option<ClockLine>,
    /// Average effective clock.
    pub effective_clock: Option<Mhz>,
    /// Average power of the whole board, each section of the load weighed by the time it takes in a
    /// whole pass, so that it does not matter where in a pass a run ended.
    pub average_power: Option<Watt>,
    /// Highest core temperature.
    pub core_temperature_max: Option<Celsius>,
    /// Highest hot spot.
    pub hot_spot_max: Option<Celsius>,
    /// Highest memory temperature.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub memory_temperature_max: Option<Celsius>,
    /// Average fan speed.
    pub fan: Option<Percent>,
    /// Average load.
    pub load: Option<Percent>,
    /// Average background load.
    pub background: Option<Percent>,
    /// Average frames per second.
    pub frame_rate: Option<f64>,
    /// Frame rate below which one sample in a hundred lies.
    pub frame_rate_low: Option<f64>,
    /// Share of time per limiter, 0 to 1, those that occurred.
    pub limiters: Vec<(Limiter, f64)>,
    /// Frames checked.
    pub frames: u64,
    /// Frames with at least one wrong pixel.
    pub wrong_frames: u64,
    /// Wrong pixels in all of them.
    pub wrong_pixels: u64,
    /// When the first wrong frame came.
    pub first_wrong: Option<Seconds>,
    /// What the wrong pixels looked like, the first hundred.
    #[serde(default)]
    pub artifacts: Vec<Artifact>,
    /// Section of the load in which the first wrong frame came, or else the one that ran last: where a run failed, if it did.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub last_section: Option<usize>,
    /// Frame rates by section of the scene.
    #[serde(default)]
    pub sections: Vec<SectionSeen>,
    /// How much the card warmed while it was measured.
    #[serde(default)]
    pub warming: Option<Celsius>,
    /// The temperature it was going to, as far as the course of its warming told.
    #[serde(default)]
    pub plateau: Option<Celsius>,
    /// Time in which the distance to that fell to 37 %.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub settles_in: Option<Seconds>,
    /// What the load, or the user for it, told of the run.
    #[serde(default, skip_serializing_if = "Told::is_empty")]
    pub told: Told,
}

/// Frame rates of one section of the scene, over all its passes.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct SectionSeen {
    /// Which one, counted from 0.
    pub section: usize,
    /// Average frames per second.
    pub frame_rate: f64,
    /// Frame rate of the frame time that one frame in a hundred exceeds.
    pub frame_rate_low: f64,
    /// Where on its curve the card ran; none where it does not tell.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub band: Option<CurveBand>,
}

/// Where on its V/F curve a card ran for a while: what nine samples of ten lie between.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct CurveBand {
    /// Low and high core clock.
    pub clock: (Mhz, Mhz),
    /// Low and high core voltage.
    pub voltage: (Millivolt, Millivolt),
}

impl CurveBand {
    /// The band of samples of (MHz, mV); none without any.
    fn of(samples: &[(f32, f32)]) -> Option<Self> {
        let range = |of: fn(&(f32, f32)) -> f32| {
            let values: Vec<f64> = samples.iter().map(|sample| f64::from(of(sample))).collect();
            Some((quantile(&values, 0.05)?, quantile(&values, 0.95)?))
        };
        let ((slow, fast), (low, high)) = (range(|sample| sample.0)?, range(|sample| sample.1)?);
        Some(Self { clock: (Mhz(slow), Mhz(fast)), voltage: (Millivolt(low), Millivolt(high)) })
    }
}

impl Seen {
    /// Share of time of one limiter, 0 to 1.
    #[must_use]
    pub fn limiter_share(&self, limiter: Limiter) -> f64 {
        self.limiters.iter().find(|(l, _)| *l == limiter).map_or(0.0, |(_, share)| *share)
    }

    /// The limiter that took the largest share of time.
    #[must_use]
    pub fn main_limiter(&self) -> Option<(Limiter, f64)> {
        self.limiters.iter().copied().max_by(|a, b| a.1.total_cmp(&b.1))
    }

    /// Average clock of the run.
    #[must_use]
    pub fn average_clock(&self) -> Option<Mhz> {
        self.clock_line.as_ref().map(|line| line.average)
    }
}

/// Takes in a run sample by sample.
#[derive(Debug, Clone)]
pub struct Watch {
    limits: CardLimits,
    taken: Settings,
    warm_up: Seconds,
    clock: Vec<(Seconds, Mhz)>,
    frame_rates: Vec<f64>,
    frame_rate: Running,
    effective: Running,
    power: Running,
    core_temperature: Running,
    hot_spot: Running,
    memory_temperature: Running,
    fan: Running,
    load: Running,
    background: Running,
    shares: LimiterShares,
    warming: Warming,
    /// The newest seconds: when, the chip's temperature, °C, and by how much the fan was slower than asked, percent.
    newest: VecDeque<(f64, Option<f64>, Option<f64>)>,
    seconds: Seconds,
    frames: u64,
    /// When each measured frame was finished, since the load was begun, s, and the work units of
    /// all up to it.
    finished: Vec<(f64, f64)>,
    wrong_frames: u64,
    wrong_pixels: u64,
    first_wrong: Option<Seconds>,
    artifacts: ArtifactLog,
    /// Frame times by section, s.
    frame_times: Vec<Vec<f32>>,
    /// Frame time and power of the whole board by section, s and W.
    section_time: Vec<Running>,
    section_power: Vec<Running>,
    /// Core clock and voltage by section, MHz and mV.
    on_curve: Vec<Vec<(f32, f32)>>,
    /// When which section began.
    sections: Vec<(Seconds, usize)>,
    last_frame: Option<Seconds>,
}

/// How far back alarms look, s.
const LOOKS_BACK: f64 = 10.0;

/// Newest frames and samples by which a section is told of while a run goes on.
const NEWEST: usize = 300;

/// Sections of a load that are told apart; what lies beyond counts as the last.
const MOST_SECTIONS: usize = 16;

impl Watch {
    /// A watch over a run under the settings `taken`, whose first `warm_up` seconds do not count
    /// towards clocks, power and score.
    #[must_use]
    pub fn new(limits: CardLimits, taken: Settings, warm_up: Seconds) -> Self {
        Self {
            limits,
            taken,
            warm_up,
            clock: Vec::new(),
            frame_rates: Vec::new(),
            frame_rate: Running::default(),
            effective: Running::default(),
            power: Running::default(),
            core_temperature: Running::default(),
            hot_spot: Running::default(),
            memory_temperature: Running::default(),
            fan: Running::default(),
            load: Running::default(),
            background: Running::default(),
            shares: LimiterShares::default(),
            warming: Warming::default(),
            newest: VecDeque::new(),
            seconds: Seconds::default(),
            frames: 0,
            finished: Vec::new(),
            wrong_frames: 0,
            wrong_pixels: 0,
            first_wrong: None,
            artifacts: ArtifactLog::default(),
            frame_times: Vec::new(),
            section_time: Vec::new(),
            section_power: Vec::new(),
            on_curve: Vec::new(),
            sections: Vec::new(),
            last_frame: None,
        }
    }

    /// Takes in one sample; returns what limited the clock in it.
    pub fn sample(&mut self, sample: &Sample) -> Limiter {
        self.sample_limited(sample, None)
    }

    /// The same where the card may have told itself what limits its clock; returns what limits it.
    pub fn sample_limited(&mut self, sample: &Sample, told: Option<Limiter>) -> Limiter {
        self.seconds = sample.at;
        self.core_temperature.push(sample.get(Channel::CoreTemperature));
        self.hot_spot.push(sample.get(Channel::HotSpot));
        self.memory_temperature.push(sample.get(Channel::MemoryTemperature));
        self.warming.push(sample.at, sample.chip_temperature());
        self.newest.push_back((
            sample.at.value(),
            sample.chip_temperature().map(Celsius::value),
            self.fan_short_by_now(sample),
        ));
        while self.newest.front().is_some_and(|(at, ..)| sample.at.value() - at > LOOKS_BACK) {
            self.newest.pop_front();
        }
        let limiter = told.unwrap_or_else(|| attribute(sample, &self.taken, &self.limits));
        if self.measures(sample.at) {
            self.clock.extend(sample.core_clock.map(|clock| (sample.at, clock)));
            if let Some((_, section)) = self.sections.last().copied() {
                self.sample_in(section, sample);
            }
            self.frame_rates.extend(sample.frame_rate);
            self.frame_rate.push(sample.frame_rate);
            self.effective.push(sample.get(Channel::EffectiveClock));
            self.power.push(sample.get(Channel::BoardPower));
            self.fan.push(sample.get(Channel::Fan));
            self.load.push(sample.get(Channel::Load));
            self.background.push(sample.get(Channel::Background));
            self.shares.push(limiter);
        }
        limiter
    }

    /// Takes in what of a sample is told section by section.
    fn sample_in(&mut self, section: usize, sample: &Sample) {
        let count = self.on_curve.len().max(section + 1);
        self.on_curve.resize(count, Vec::new());
        self.section_power.resize(count, Running::default());
        self.section_power[section].push(sample.get(Channel::BoardPower));
        if let (Some(clock), Some(voltage)) = (sample.core_clock, sample.voltage) {
            self.on_curve[section].push((clock.value() as f32, voltage.value() as f32));
        }
    }

    /// Average power, as in [`Seen::average_power`]. All sections have the same number of frames, so
    /// that each takes as long as its frames do on average.
    fn average_power(&self) -> Option<f64> {
        let share = |(section, time): (usize, &Running)| {
            let time = time.mean()?;
            let power = self.section_power.get(section).and_then(Running::mean);
            Some(power.map(|power| (time, time * power)))
        };
        // A section without a reading would be missing from the whole.
        let shares: Option<Vec<(f64, f64)>> =
            self.section_time.iter().enumerate().filter_map(share).collect();
        match shares.filter(|shares| shares.len() > 1) {
            Some(shares) => {
                let (time, work) =
                    shares.iter().fold((0.0, 0.0), |all, share| (all.0 + share.0, all.1 + share.1));
                Some(work / time.max(1e-9))
            }
            None => self.power.mean(),
        }
    }

    /// Takes in one checked frame, drawn at `at` of the run, that counts `work` units.
    pub fn frame(&mut self, at: Seconds, frame: &CheckedFrame, work: f64) {
        self.frames += 1;
        let section = frame.section.min(MOST_SECTIONS - 1);
        if self.sections.last().is_none_or(|(_, last)| *last != section) {
            self.sections.push((at, section));
        }
        if self.measures(at) {
            let before = self.finished.last().map_or(0.0, |last| last.1);
            self.finished.push((frame.at.value(), before + work));
            if let Some(before) = self.last_frame {
                self.frame_times.resize(self.frame_times.len().max(section + 1), Vec::new());
                let time = (frame.at - before).value();
                self.frame_times[section].push(time as f32);
                self.section_time.resize(self.frame_times.len(), Running::default());
                self.section_time[section].push(Some(time));
            }
        }
        self.last_frame = Some(frame.at);
        if frame.wrong_pixels > 0 {
            self.wrong_frames += 1;
            self.wrong_pixels += frame.wrong_pixels;
            self.first_wrong.get_or_insert(at);
            self.artifacts.push(frame.number, &frame.artifacts);
        }
    }

    /// The section of the load that ran at `at`.
    fn section_at(&self, at: Seconds) -> Option<usize> {
        let begun = self.sections.partition_point(|(began, _)| *began <= at);
        self.sections.get(begun.checked_sub(1)?).map(|(_, section)| *section)
    }

    /// What was seen of each section, by its newest frames and samples, so many of each.
    fn sections_seen(&self, newest: usize) -> Vec<SectionSeen> {
        let measured = self.frame_times.iter().enumerate().filter(|(_, times)| !times.is_empty());
        measured
            .map(|(section, times)| {
                let times = times.iter().rev().take(newest);
                let times: Vec<f64> = times.map(|time| f64::from(*time)).collect();
                let slow = quantile(&times, 0.99).unwrap_or_default();
                SectionSeen {
                    section,
                    frame_rate: times.len() as f64 / times.iter().sum::<f64>().max(1e-9),
                    frame_rate_low: 1.0 / slow.max(1e-9),
                    band: self
                        .on_curve
                        .get(section)
                        .and_then(|band| CurveBand::of(&band[band.len().saturating_sub(newest)..])),
                }
            })
            .collect()
    }

    /// By how much the fan is slower than it was asked to be, percent; none where the card drives it.
    fn fan_short_by_now(&self, sample: &Sample) -> Option<f64> {
        let asked = match self.taken.fan? {
            Fan::Automatic | Fan::Target(_) => return None,
            fan => fan.speed_at(sample.chip_temperature()?)?,
        };
        Some(asked.value() - sample.fan?.value())
    }

    /// What alarms look at.
    #[must_use]
    pub fn moment<'a>(&self, sample: &'a Sample) -> Moment<'a> {
        let first = self.newest.front().map_or(0.0, |(at, ..)| *at);
        let span = self.newest.back().map_or(0.0, |(at, ..)| at - first);
        let is_long = span >= LOOKS_BACK * 0.9;
        let ends = self.newest.front().zip(self.newest.back());
        let rise = ends.and_then(|(first, last)| Some((last.1? - first.1?) / span * 60.0));
        // A fan takes its time to follow: what counts is the least of a while.
        let short: Option<f64> = self
            .newest
            .iter()
            .map(|(.., short)| *short)
            .try_fold(f64::INFINITY, |least, short| Some(least.min(short?)));
        Moment {
            sample,
            wrong_frames: self.wrong_frames,
            rise_per_minute: rise.filter(|_| is_long),
            fan_short_by: short.filter(|_| is_long),
        }
    }

    /// Where the temperature is going, once that can be told.
    #[must_use]
    pub fn plateau(&self) -> Option<Plateau> {
        self.warming.plateau()
    }

    /// Sets the end of the warm-up, which must not have been reached yet.
    pub fn set_warm_up(&mut self, warm_up: Seconds) {
        self.warm_up = warm_up;
    }

    /// Frames with wrong pixels so far.
    #[must_use]
    pub fn wrong_frames(&self) -> u64 {
        self.wrong_frames
    }

    /// Score so far: work units per second after the warm-up, of a load whose passes have `pass`
    /// frames. `None` before the first ten measured seconds.
    ///
    /// Once there is a whole pass, the newest whole passes count and nothing else, so that it does
    /// not matter where in a pass a run begins and ends. Before that, all frames do.
    #[must_use]
    pub fn score(&self, pass: u64) -> Option<f64> {
        let measured = self.seconds.value() - self.warm_up.value();
        if measured < 10.0 {
            return None;
        }
        let (frames, pass) = (self.finished.len(), pass.max(1) as usize);
        let whole = frames.saturating_sub(1) / pass * pass;
        let newest = self.finished.last().zip(self.finished.get(frames.wrapping_sub(whole + 1)));
        match newest.filter(|_| whole > 0) {
            Some((end, begin)) => Some((end.1 - begin.1) / (end.0 - begin.0).max(1e-9)),
            None => self.finished.last().map(|end| end.1 / measured),
        }
    }

    /// Frames finished after the warm-up.
    #[must_use]
    pub fn measured_frames(&self) -> u64 {
        self.finished.len() as u64
    }

    /// Whether a whole pass of so many frames was measured.
    #[must_use]
    pub fn has_measured(&self, pass: u64) -> bool {
        self.finished.len() as u64 > pass
    }

    /// What was seen so far. The clock line is read anew each time; during a run
    /// [`Watch::glance`] is the cheap way.
    #[must_use]
    pub fn seen(&self) -> Seen {
        let mut clock_line = read_clock_line(&self.clock, self.limits.clock_bin);
        for dip in clock_line.iter_mut().flat_map(|line| &mut line.dips) {
            dip.section = self.section_at(dip.at);
        }
        let plateau = self.plateau();
        Seen {
            clock_line,
            sections: self.sections_seen(usize::MAX),
            frame_rate_low: quantile(&self.frame_rates, 0.01),
            warming: self.warming.rise_since(self.warm_up),
            plateau: plateau.map(|plateau| plateau.temperature),
            settles_in: plateau.map(|plateau| plateau.time_constant),
            ..self.glance()
        }
    }

    /// What was seen so far, without what needs the whole series (clock line, 1 % low, warming), and
    /// of each section only by its newest frames.
    #[must_use]
    pub fn glance(&self) -> Seen {
        Seen {
            seconds: self.seconds,
            clock_line: None,
            effective_clock: self.effective.mean().map(Mhz),
            average_power: self.average_power().map(Watt),
            core_temperature_max: self.core_temperature.highest().map(Celsius),
            hot_spot_max: self.hot_spot.highest().map(Celsius),
            memory_temperature_max: self.memory_temperature.highest().map(Celsius),
            fan: self.fan.mean().map(Percent),
            load: self.load.mean().map(Percent),
            background: self.background.mean().map(Percent),
            frame_rate: self.frame_rate.mean(),
            frame_rate_low: None,
            limiters: Limiter::ALL
                .into_iter()
                .map(|limiter| (limiter, self.shares.share(limiter)))
                .filter(|(_, share)| *share > 0.0)
                .collect(),
            frames: self.frames,
            wrong_frames: self.wrong_frames,
            wrong_pixels: self.wrong_pixels,
            first_wrong: self.first_wrong,
            artifacts: self.artifacts.artifacts().to_vec(),
            last_section: match self.first_wrong {
                Some(at) => self.section_at(at),
                None => self.sections.last().map(|(_, section)| *section),
            },
            sections: self.sections_seen(NEWEST),
            warming: None,
            plateau: None,
            settles_in: None,
            told: Told::default(),
        }
    }

    fn measures(&self, at: Seconds) -> bool {
        at > self.warm_up
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fixtures::{card, sample};
    use rstest::rstest;

    fn watched(seconds: u32, warm_up: f64) -> Watch {
        let card = card();
        let mut watch = Watch::new(card.limits, Settings::stock(&card), Seconds(warm_up));
        for tick in 1..=seconds * 10 {
            let at = Seconds(f64::from(tick) / 10.0);
            let mut reading = sample();
            reading.at = at;
            if at.value() <= warm_up {
                reading.core_clock = Some(Mhz(1_500.0));
                reading.hot_spot = Some(Celsius(95.0));
            }
            watch.sample(&reading);
            let frame = |number: u32, wrong_pixels| CheckedFrame {
                number: u64::from(number),
                at: Seconds(f64::from(number) / 20.0),
                section: (number / 200 % 4) as usize,
                wrong_pixels,
                ..CheckedFrame::default()
            };
            watch.frame(at, &frame(tick * 2, 0), 50.0);
            watch.frame(at, &frame(tick * 2 + 1, u64::from(tick == 3) * 7), 50.0);
        }
        watch
    }

    #[test]
    fn the_warm_up_counts_for_faults_and_heat_but_not_for_clock_and_score() {
        let watch = watched(40, 20.0);
        let seen = watch.seen();
        assert_eq!(seen.average_clock(), Some(Mhz(2_010.0)));
        assert_eq!(seen.hot_spot_max, Some(Celsius(95.0)));
        assert_eq!((seen.frames, seen.wrong_frames, seen.wrong_pixels), (800, 1, 7));
        assert_eq!(seen.first_wrong, Some(Seconds(0.3)));
        assert_eq!(watch.score(480), Some(1_000.0), "20 frames of 50 units a second");
    }

    /// Power is 100 W in the first of two sections, whose frames take 50 ms, and 200 W in the second,
    /// whose frames take 100 ms; the run ends after so many frames of 40 a section.
    #[rstest]
    #[case(160)]
    #[case(110)]
    #[case(190)]
    fn the_power_of_a_run_does_not_depend_on_where_in_a_pass_it_ends(#[case] frames: u64) {
        let card = card();
        let mut watch = Watch::new(card.limits, Settings::stock(&card), Seconds(0.0));
        let mut at = Seconds(0.0);
        for number in 0..frames {
            let section = (number / 40 % 2) as usize;
            at.0 += if section == 0 { 0.05 } else { 0.1 };
            watch.frame(at, &CheckedFrame { number, at, section, ..CheckedFrame::default() }, 1.0);
            let power = if section == 0 { 100.0 } else { 200.0 };
            watch.sample(&Sample { at, board_power: Some(Watt(power)), ..sample() });
        }
        let power = watch.seen().average_power.unwrap();
        assert!((power.value() - 166.7).abs() < 0.5, "{power:?}");
    }

    #[test]
    fn where_the_card_ran_on_its_curve_is_known_while_it_runs() {
        let watch = watched(40, 20.0);
        let bands = |seen: Seen| -> Vec<Option<CurveBand>> {
            seen.sections.into_iter().map(|section| section.band).collect()
        };
        let band = CurveBand {
            clock: (Mhz(2_010.0), Mhz(2_010.0)),
            voltage: (Millivolt(1_000.0), Millivolt(1_000.0)),
        };
        assert!(bands(watch.glance()).contains(&Some(band)));
        assert_eq!(bands(watch.glance()), bands(watch.seen()));
    }

    #[test]
    fn frame_rates_and_dips_have_their_place_in_the_scene() {
        let card = card();
        let mut watch = Watch::new(card.limits, Settings::stock(&card), Seconds(0.0));
        for tick in 1..=400_u32 {
            let mut reading = sample();
            reading.at = Seconds(f64::from(tick) / 10.0);
            // The third section is slower, and the clock dips in it.
            let section = (tick / 100) as usize;
            if (210..220).contains(&tick) {
                reading.core_clock = Some(Mhz(1_500.0));
            }
            watch.sample(&reading);
            let late = if section == 2 && tick % 2 == 0 { 0.05 } else { 0.0 };
            let at = Seconds(reading.at.value() + late);
            let number = u64::from(tick);
            watch.frame(
                reading.at,
                &CheckedFrame { number, at, section, ..CheckedFrame::default() },
                50.0,
            );
        }
        let seen = watch.seen();
        assert_eq!(seen.clock_line.unwrap().dips[0].section, Some(2));
        let rates: Vec<f64> = seen.sections.iter().map(|s| s.frame_rate_low.round()).collect();
        assert_eq!(rates[..3], [10.0, 10.0, 7.0]);
    }

    #[rstest]
    #[case::of_the_first_wrong_frame(&[(1, false), (2, true), (3, true)], Some(2))]
    #[case::that_ran_last(&[(1, false), (2, false), (0, false)], Some(0))]
    #[case::of_a_load_without_frames(&[], None)]
    fn a_run_ends_in_a_section(
        #[case] frames: &[(usize, bool)],
        #[case] last_section: Option<usize>,
    ) {
        let card = card();
        let mut watch = Watch::new(card.limits, Settings::stock(&card), Seconds(0.0));
        for (number, (section, is_wrong)) in (1..).zip(frames) {
            let at = Seconds(number as f64);
            let wrong_pixels = u64::from(*is_wrong);
            let frame = CheckedFrame {
                number,
                at,
                section: *section,
                wrong_pixels,
                ..CheckedFrame::default()
            };
            watch.frame(at, &frame, 50.0);
        }
        assert_eq!(watch.seen().last_section, last_section);
    }

    #[rstest]
    #[case::whole_passes(41)]
    #[case::half_a_pass_more(50)]
    #[case::less_than_a_third(59)]
    fn a_score_does_not_depend_on_where_a_run_ends(#[case] ends: u32) {
        let card = card();
        let mut watch = Watch::new(card.limits, Settings::stock(&card), Seconds(0.0));
        let mut number = 0;
        // A pass takes ten seconds at 20 frames a second, then ten at 5: 250 frames.
        for tick in 0..ends * 20 {
            let at = Seconds(f64::from(tick + 1) / 20.0);
            if tick / 200 % 2 == 0 || tick % 4 == 3 {
                watch.frame(at, &CheckedFrame { number, at, ..CheckedFrame::default() }, 10.0);
                number += 1;
            }
            watch.sample(&Sample { at, ..sample() });
        }
        let score = watch.score(250).unwrap();
        assert!((score / (10.0 * 250.0 / 20.0) - 1.0).abs() < 1e-6, "{score}");
    }

    #[test]
    fn a_run_of_seconds_has_no_score() {
        assert_eq!(watched(25, 20.0).score(480), None);
    }

    #[test]
    fn a_glance_agrees_with_the_full_view() {
        let watch = watched(40, 20.0);
        let full = watch.seen();
        let glance = watch.glance();
        assert_eq!(glance.average_power, full.average_power);
        assert_eq!(glance.limiters, full.limiters);
        assert_eq!(full.main_limiter(), Some((Limiter::Unknown, 1.0)));
    }
}
