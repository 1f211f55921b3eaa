//! Verdicts, and how a trial comes by one.
//!
//! # Order of precedence
//! A trial gets the first verdict of this list that applies. Hard faults come first, because they
//! prove something even when the run was otherwise poor; then what keeps a run from proving
//! anything; then what a sound run says of the settings.
//!
//! 1. **machine down** – the machine froze or restarted, or the trial has no outcome at all
//! 2. **driver reset** – the driver took the card down and up again
//! 3. **load died** – the load program ended with the device lost
//! 4. **artifacts** – at least one wrong pixel
//! 5. **not taken** – the card does not hold what was asked; rounding to a bin is no refusal
//! 6. **void** – the run proves nothing: less than 90 % load, other programs busy, a sensor lost,
//!    stopped before its time
//! 7. **throttled** – heat or power kept the clock below the baseline's although more was asked,
//!    or the temperature ceiling ended the run
//! 8. **slower** – less score than the reference by more than the tolerance
//! 9. **clean** – none of these

use serde::{Deserialize, Serialize};

use crate::card::description::Channel;
use crate::card::settings::Difference;
use crate::judge::alarm::AlarmRaised;
use crate::load::artifact::{Artifact, count_by_kind, suggested_domain};
use crate::load::told::figure_in_words;
use crate::measure::limiter::{FULL_LOAD_PERCENT, Limiter};
use crate::measure::monitor::Seen;
use crate::units::{Celsius, Mhz, Percent, Seconds};

/// The end of a trial, in one word. Ordered by precedence, the gravest first.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    PartialOrd,
    Ord,
    Hash,
    Serialize,
    Deserialize,
    strum::Display,
    strum::EnumCount,
    strum::IntoStaticStr,
    strum::EnumString,
)]
pub enum Verdict {
    /// The machine froze or restarted.
    #[serde(rename = "machine down")]
    #[strum(to_string = "machine down")]
    MachineDown,
    /// The driver reset the card.
    #[serde(rename = "driver reset")]
    #[strum(to_string = "driver reset")]
    DriverReset,
    /// The load program ended by itself.
    #[serde(rename = "load died")]
    #[strum(to_string = "load died")]
    LoadDied,
    /// Wrong pixels.
    #[serde(rename = "artifacts")]
    #[strum(to_string = "artifacts")]
    Artifacts,
    /// The card does not hold what was asked.
    #[serde(rename = "not taken")]
    #[strum(to_string = "not taken")]
    NotTaken,
    /// The run proves nothing.
    #[serde(rename = "void")]
    #[strum(to_string = "void")]
    Void,
    /// Heat or power took the clock back.
    #[serde(rename = "throttled", alias = "held back")]
    #[strum(to_string = "throttled", serialize = "held back")]
    Throttled,
    /// Less score than the reference.
    #[serde(rename = "slower")]
    #[strum(to_string = "slower")]
    Slower,
    /// Nothing to complain about.
    #[serde(rename = "clean")]
    #[strum(to_string = "clean")]
    Clean,
}

/// What a verdict says about the value that was tried.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Meaning {
    /// The value holds.
    Holds,
    /// The value is too much.
    TooMuch,
    /// Nothing is known of the value.
    ProvesNothing,
}

impl Verdict {
    /// All verdicts in order of precedence.
    pub const ALL: [Self; <Self as strum::EnumCount>::COUNT] = [
        Self::MachineDown,
        Self::DriverReset,
        Self::LoadDied,
        Self::Artifacts,
        Self::NotTaken,
        Self::Void,
        Self::Throttled,
        Self::Slower,
        Self::Clean,
    ];

    /// The verdict in words.
    #[must_use]
    pub fn label(self) -> &'static str {
        self.into()
    }

    /// What it says about the value that was tried.
    #[must_use]
    pub const fn meaning(self) -> Meaning {
        match self {
            Self::Clean => Meaning::Holds,
            Self::NotTaken | Self::Void => Meaning::ProvesNothing,
            _ => Meaning::TooMuch,
        }
    }

    /// Whether something failed: artifacts, or worse.
    #[must_use]
    pub const fn is_fault(self) -> bool {
        matches!(self, Self::MachineDown | Self::DriverReset | Self::LoadDied | Self::Artifacts)
    }

    /// Whether a run came to its end without a fault, however fast.
    #[must_use]
    pub const fn is_without_fault(self) -> bool {
        matches!(self, Self::Clean | Self::Slower | Self::Throttled)
    }

    /// The verdict of that name, or of the name it had in ledgers of earlier versions.
    #[must_use]
    pub fn from_label(label: &str) -> Option<Self> {
        label.parse().ok()
    }
}

/// How a run came to its end.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Ending {
    /// It ran its whole time, or was ended because enough wrong frames were seen.
    Finished,
    /// It was never begun, because the settings were not taken.
    NotBegun,
    /// Somebody stopped it.
    Stopped,
    /// The load ended by itself; how, as the words that follow "The load ".
    LoadDied(String),
    /// The driver reset the card.
    DriverReset,
    /// The machine went down.
    MachineDown,
    /// The card is gone or does not answer; how that showed, in words.
    CardGone(String),
    /// The card did not hold the settings any more, through no fault of theirs; how that came, in words.
    NotHeld(String),
    /// The temperature ceiling was reached.
    Ceiling,
    /// A sensor fell silent under load, or said what cannot be.
    SensorLost(Channel),
    /// The sensors went on saying the same under load.
    SensorsFrozen,
    /// Somebody who watched says what was seen, or a load of the user's own does.
    Told {
        /// What was seen.
        verdict: Verdict,
        /// How it was told, in a sentence.
        how: String,
    },
    /// An alarm of the user's stopped it.
    Alarm(AlarmRaised),
}

/// Something that went wrong in a run.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Fault {
    /// When, from the beginning of the trial.
    #[serde(rename = "at_s")]
    pub at: Seconds,
    /// What: `artifacts`, `load died`, `driver reset`, `machine down` and so on.
    pub kind: String,
    /// Frame of the scene, where one was spoilt.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub frame: Option<u64>,
    /// Wrong pixels in that frame.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub wrong_pixels: Option<u64>,
}

impl Fault {
    /// Kind of the entry a run has that was stopped before its end.
    pub const STOPPED: &'static str = "stopped";

    /// A fault with no frame to it.
    #[must_use]
    pub fn at(at: Seconds, kind: &str) -> Self {
        Self { at, kind: kind.to_owned(), frame: None, wrong_pixels: None }
    }
}

/// What a score is compared with.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Reference {
    /// Score of the baseline (median of its runs); none of a load without figures.
    pub score: Option<f64>,
    /// Average clock of the baseline.
    pub average_clock: Mhz,
    /// A score is lower only when it is lower by more than this.
    pub tolerance: Percent,
}

/// What a run of a load looks like when all is well.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Expected {
    /// Share of the time in which the load has work for the card; none where that is not known.
    pub load: Option<Percent>,
    /// Whether its frames are checked.
    pub frames_are_checked: bool,
}

impl Default for Expected {
    /// A load that keeps the card busy and has its frames checked.
    fn default() -> Self {
        Self { load: Some(Percent(99.0)), frames_are_checked: true }
    }
}

/// All that a verdict is read from.
#[derive(Debug, Clone, Copy)]
pub struct Evidence<'a> {
    /// How the run ended.
    pub ending: &'a Ending,
    /// Settings not held as asked.
    pub differences: &'a [Difference],
    /// What was observed.
    pub seen: &'a Seen,
    /// Work units per second, where the run was long enough to have one.
    pub score: Option<f64>,
    /// The baseline; none while it is being taken.
    pub reference: Option<Reference>,
    /// Whether a higher clock than stock was asked for.
    pub more_clock_asked: bool,
    /// Background load above which a run is void.
    pub most_background: Percent,
    /// Warming in the measured part above which a run is void; none where it does not matter.
    pub most_warming: Option<Celsius>,
    /// Boost bin of the card.
    pub clock_bin: Mhz,
    /// What the load is like by itself.
    pub expected: Expected,
    /// The trial in which the driver reset the card, where the machine was not restarted since.
    pub since_reset: Option<u32>,
}

/// A verdict with its reason.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Judgement {
    /// The verdict.
    pub verdict: Verdict,
    /// Why, in a sentence.
    pub reason: String,
}

/// Judges a trial, in the order of precedence given in the [module's description](self).
#[must_use]
pub fn judge(evidence: &Evidence<'_>) -> Judgement {
    let (verdict, mut reason) = hard_fault(evidence)
        .or_else(|| not_taken(evidence))
        .or_else(|| void(evidence))
        .or_else(|| throttled(evidence))
        .or_else(|| slower(evidence))
        .unwrap_or_else(|| (Verdict::Clean, clean(evidence)));
    if let (Some(trial), Meaning::TooMuch) = (evidence.since_reset, verdict.meaning()) {
        reason.push_str(&format!(" Boost was odd since the driver reset in trial {trial}."));
    }
    Judgement { verdict, reason }
}

type Finding = Option<(Verdict, String)>;

fn hard_fault(evidence: &Evidence<'_>) -> Finding {
    let seen = evidence.seen;
    let after = seen.seconds.in_words();
    match evidence.ending {
        Ending::MachineDown => {
            Some((Verdict::MachineDown, format!("The machine went down after {after}.")))
        }
        Ending::DriverReset => {
            Some((Verdict::DriverReset, format!("The driver reset the card after {after}.")))
        }
        Ending::CardGone(how) => {
            Some((Verdict::MachineDown, format!("After {after} {how}. Restart the machine.")))
        }
        Ending::LoadDied(how) => {
            Some((Verdict::LoadDied, format!("The load {how} after {after}.")))
        }
        Ending::Told { verdict, how } if *verdict != Verdict::Clean => {
            Some((*verdict, format!("{how} After {after}.")))
        }
        _ if seen.wrong_frames > 0 => {
            let first = seen.first_wrong.unwrap_or_default().in_words();
            Some((
                Verdict::Artifacts,
                format!(
                    "{} wrong pixels in {} of {} frames, the first after {first}.{}",
                    seen.wrong_pixels,
                    seen.wrong_frames,
                    seen.frames,
                    kinds(&seen.artifacts)
                ),
            ))
        }
        _ => None,
    }
}

/// What wrong pixels looked like, and what that suggests.
fn kinds(artifacts: &[Artifact]) -> String {
    let counts: Vec<String> = count_by_kind(artifacts)
        .into_iter()
        .map(|(kind, count)| format!("{kind} ×{count}"))
        .collect();
    suggested_domain(artifacts).map_or(String::new(), |(domain, share)| {
        let most = if share < 1.0 { "mostly suggests" } else { "suggests" };
        format!(" {}: that {most} the {domain}, and proves nothing.", counts.join(", "))
    })
}

fn not_taken(evidence: &Evidence<'_>) -> Finding {
    let refused: Vec<String> =
        evidence.differences.iter().filter(|d| !d.rounded).map(ToString::to_string).collect();
    (!refused.is_empty())
        .then(|| (Verdict::NotTaken, format!("{}: this run proves nothing.", refused.join("; "))))
}

fn void(evidence: &Evidence<'_>) -> Finding {
    let seen = evidence.seen;
    let after = seen.seconds.in_words();
    let reason = match evidence.ending {
        Ending::Stopped => format!("Stopped after {after}: too short to prove anything."),
        Ending::SensorLost(channel) => format!(
            "The {} sensor fell silent after {after}; the load was stopped and the card put back.",
            channel.label()
        ),
        Ending::SensorsFrozen => format!(
            "The sensors said the same again and again, to the last digit, after {after}: the load \
             was stopped and the card put back."
        ),
        Ending::NotHeld(how) => {
            format!("After {after} {how}: the settings were not held, and this run proves nothing.")
        }
        Ending::Alarm(raised) => format!("Stopped after {after}: {raised}."),
        Ending::Told { .. } if seen.clock_line.is_none() => {
            format!("Ended after {after}, before anything was measured.")
        }
        _ => match (seen.load, seen.background) {
            // A frame cap leaves the card idle on purpose.
            (Some(load), _)
                if is_idle(load, evidence.expected)
                    && seen.limiter_share(Limiter::FrameCap) < 0.5 =>
            {
                format!(
                    "The card was loaded only {load}: a run that does not load it as the load \
                     should proves nothing."
                )
            }
            (_, Some(busy)) if busy > evidence.most_background => format!(
                "Other programs kept the card busy ({:.1} % of the time): this run proves nothing.",
                busy.value()
            ),
            _ if is_cold(evidence) => format!(
                "The card was still cold: it warmed by {:.1} K while it was measured, and would \
                 have been slower warm.",
                seen.warming.unwrap_or_default().value()
            ),
            _ if seen.frames == 0 && evidence.expected.frames_are_checked => {
                "Not one frame was checked: this run proves nothing.".into()
            }
            _ => match evidence.since_reset {
                Some(trial) => format!(
                    "Since the driver reset in trial {trial} boost is odd, so that this run proves \
                     nothing: restart the machine."
                ),
                None => return None,
            },
        },
    };
    Some((Verdict::Void, reason))
}

/// Whether a card was loaded clearly less than the load does by itself.
fn is_idle(load: Percent, expected: Expected) -> bool {
    let own = expected.load.map_or(0.0, Percent::value);
    load.value() < own * FULL_LOAD_PERCENT / 99.0
}

fn is_cold(evidence: &Evidence<'_>) -> bool {
    let warming = evidence.seen.warming.zip(evidence.most_warming);
    warming.is_some_and(|(warming, most)| warming > most)
}

fn throttled(evidence: &Evidence<'_>) -> Finding {
    let seen = evidence.seen;
    if *evidence.ending == Ending::Ceiling {
        let reason = "The temperature ceiling was reached: the load was stopped and the card put \
                      back. It wants more air.";
        return Some((Verdict::Throttled, reason.into()));
    }
    let clock = seen.clock_line.as_ref()?.average;
    let reference = evidence.reference?;
    let limiter = [Limiter::Heat, Limiter::Power]
        .into_iter()
        .find(|limiter| seen.limiter_share(*limiter) >= 0.5)?;
    let lost = reference.average_clock - clock;
    (evidence.more_clock_asked && lost > evidence.clock_bin).then(|| {
        let reason = format!(
            "More clock was asked, yet {} kept it at {clock} on average, below the baseline's {}.",
            limiter.label(),
            reference.average_clock
        );
        (Verdict::Throttled, reason)
    })
}

fn slower(evidence: &Evidence<'_>) -> Finding {
    let (score, reference) = (evidence.score?, evidence.reference?);
    let base = reference.score?;
    let gain = gain_percent(score, base);
    (gain < -reference.tolerance.value()).then(|| {
        let reason = format!(
            "Score {} is {:.1} % below the baseline's {}: stable, but slower.",
            figure_in_words(score),
            -gain,
            figure_in_words(base)
        );
        (Verdict::Slower, reason)
    })
}

fn clean(evidence: &Evidence<'_>) -> String {
    let frames = evidence.seen.frames;
    let length = evidence.seen.seconds.in_words();
    let seen = match evidence.ending {
        Ending::Told { how, .. } => format!("{how} {length}"),
        _ if evidence.expected.frames_are_checked => {
            format!("No wrong pixel in {frames} frames over {length}")
        }
        _ => format!("It ran for {length} and nothing failed, though no frame was checked"),
    };
    let base = evidence.reference.and_then(|reference| reference.score);
    match (evidence.score, base) {
        (Some(score), Some(base)) => format!(
            "{seen}; score {}, {:+.1} % on the baseline.",
            figure_in_words(score),
            gain_percent(score, base)
        ),
        (Some(score), None) => format!("{seen}; score {}.", figure_in_words(score)),
        _ => format!("{seen}."),
    }
}

/// By how many percent `score` is above `reference`; 0 for a reference of zero.
#[must_use]
pub fn gain_percent(score: f64, reference: f64) -> f64 {
    if reference > 0.0 { (score / reference - 1.0) * 100.0 } else { 0.0 }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::card::description::SettingKind;
    use crate::fixtures::seen;
    use crate::judge::alarm::{Alarm, AlarmAct, AlarmOn};
    use crate::load::artifact::{ArtifactKind, Domain, PixelArea};
    use rstest::rstest;

    struct Case {
        ending: Ending,
        differences: Vec<Difference>,
        seen: Seen,
        score: f64,
        expected: Expected,
        since_reset: Option<u32>,
    }

    fn sound() -> Case {
        Case {
            ending: Ending::Finished,
            differences: vec![],
            seen: seen(),
            score: 1_010.0,
            expected: Expected::default(),
            since_reset: None,
        }
    }

    fn verdict_of(case: &Case) -> Judgement {
        judge(&Evidence {
            ending: &case.ending,
            differences: &case.differences,
            seen: &case.seen,
            score: Some(case.score),
            reference: Some(Reference {
                score: Some(1_000.0),
                average_clock: Mhz(2_000.0),
                tolerance: Percent(1.5),
            }),
            more_clock_asked: true,
            most_background: Percent(1.0),
            most_warming: Some(Celsius(3.0)),
            clock_bin: Mhz(15.0),
            expected: case.expected,
            since_reset: case.since_reset,
        })
    }

    fn told(verdict: Verdict) -> Ending {
        Ending::Told { verdict, how: "You said so.".into() }
    }

    fn refused() -> Difference {
        Difference {
            kind: SettingKind::CoreOffset,
            asked: "+60 MHz".into(),
            taken: "±0 MHz".into(),
            rounded: false,
        }
    }

    #[rstest]
    #[case::sound(|_: &mut Case| (), Verdict::Clean)]
    #[case::machine(|c: &mut Case| c.ending = Ending::MachineDown, Verdict::MachineDown)]
    #[case::driver(|c: &mut Case| c.ending = Ending::DriverReset, Verdict::DriverReset)]
    #[case::load(|c: &mut Case| c.ending = Ending::LoadDied("hung".into()), Verdict::LoadDied)]
    #[case::gone(|c: &mut Case| c.ending = Ending::CardGone("the card is gone".into()), Verdict::MachineDown)]
    #[case::frozen(|c: &mut Case| c.ending = Ending::SensorsFrozen, Verdict::Void)]
    #[case::told(|c: &mut Case| c.ending = told(Verdict::Artifacts), Verdict::Artifacts)]
    #[case::told_fine(|c: &mut Case| c.ending = told(Verdict::Clean), Verdict::Clean)]
    #[case::told_fine_but_slower(|c: &mut Case| {
        (c.ending, c.score) = (told(Verdict::Clean), 900.0);
    }, Verdict::Slower)]
    #[case::odd(|c: &mut Case| c.since_reset = Some(3), Verdict::Void)]
    #[case::odd_but_wrong(|c: &mut Case| {
        (c.since_reset, c.seen.wrong_frames) = (Some(3), 1);
    }, Verdict::Artifacts)]
    #[case::light_by_itself(|c: &mut Case| {
        (c.seen.load, c.expected.load) = (Some(Percent(20.0)), Some(Percent(21.0)));
    }, Verdict::Clean)]
    #[case::lighter_than_it_should(|c: &mut Case| {
        (c.seen.load, c.expected.load) = (Some(Percent(18.0)), Some(Percent(21.0)));
    }, Verdict::Void)]
    #[case::unchecked(|c: &mut Case| {
        (c.seen.frames, c.expected) = (0, Expected { load: None, frames_are_checked: false });
    }, Verdict::Clean)]
    #[case::pixels(|c: &mut Case| c.seen.wrong_frames = 1, Verdict::Artifacts)]
    #[case::refused(|c: &mut Case| c.differences = vec![refused()], Verdict::NotTaken)]
    #[case::rounded(|c: &mut Case| c.differences = vec![Difference { rounded: true, ..refused() }], Verdict::Clean)]
    #[case::stopped(|c: &mut Case| c.ending = Ending::Stopped, Verdict::Void)]
    #[case::not_held(|c: &mut Case| c.ending = Ending::NotHeld("another program changed the settings".into()), Verdict::Void)]
    #[case::sensor(|c: &mut Case| c.ending = Ending::SensorLost(Channel::HotSpot), Verdict::Void)]
    #[case::idle(|c: &mut Case| c.seen.load = Some(Percent(89.0)), Verdict::Void)]
    #[case::just_loaded(|c: &mut Case| c.seen.load = Some(Percent(90.0)), Verdict::Clean)]
    #[case::busy(|c: &mut Case| c.seen.background = Some(Percent(2.0)), Verdict::Void)]
    #[case::cold(|c: &mut Case| c.seen.warming = Some(Celsius(3.1)), Verdict::Void)]
    #[case::warm(|c: &mut Case| c.seen.warming = Some(Celsius(2.9)), Verdict::Clean)]
    #[case::alarm(|c: &mut Case| c.ending = Ending::Alarm(AlarmRaised {
        alarm: Alarm { on: AlarmOn::HotSpot, above: 80.0, act: AlarmAct::Stop },
        value: 81.0,
    }), Verdict::Void)]
    #[case::capped(|c: &mut Case| {
        c.seen.load = Some(Percent(70.0));
        c.seen.limiters = vec![(Limiter::FrameCap, 0.9)];
    }, Verdict::Clean)]
    #[case::frameless(|c: &mut Case| c.seen.frames = 0, Verdict::Void)]
    #[case::ceiling(|c: &mut Case| c.ending = Ending::Ceiling, Verdict::Throttled)]
    #[case::slower(|c: &mut Case| c.score = 980.0, Verdict::Slower)]
    #[case::within_tolerance(|c: &mut Case| c.score = 986.0, Verdict::Clean)]
    fn each_course_of_a_run_has_its_verdict(
        #[case] change: impl Fn(&mut Case),
        #[case] expected: Verdict,
    ) {
        let mut case = sound();
        change(&mut case);
        let judgement = verdict_of(&case);
        assert_eq!(judgement.verdict, expected, "{}", judgement.reason);
        assert!(judgement.reason.ends_with('.'), "{}", judgement.reason);
    }

    #[test]
    fn a_fault_after_a_driver_reset_is_marked() {
        let mut case = sound();
        (case.since_reset, case.seen.wrong_frames) = (Some(3), 1);
        let reason = verdict_of(&case).reason;
        assert!(reason.ends_with("Boost was odd since the driver reset in trial 3."), "{reason}");
    }

    #[test]
    fn wrong_pixels_are_told_by_kind_with_what_that_suggests() {
        let mut case = sound();
        case.seen.wrong_frames = 2;
        let artifact = |kind, hint| Artifact {
            kind,
            area: PixelArea { x: 0, y: 0, width: 8, height: 8 },
            pixels: 64,
            first_frame: 1,
            last_frame: 1,
            frames: 1,
            hint,
        };
        case.seen.artifacts = vec![
            artifact(ArtifactKind::Tile, Domain::Memory),
            artifact(ArtifactKind::Tile, Domain::Memory),
            artifact(ArtifactKind::Streak, Domain::Core),
        ];
        let reason = verdict_of(&case).reason;
        let told = "tile ×2, streak ×1: that mostly suggests the memory, and proves nothing.";
        assert!(reason.ends_with(told), "{reason}");
    }

    #[test]
    fn the_graver_verdict_goes_first() {
        let mut case = sound();
        case.score = 900.0;
        case.seen.load = Some(Percent(50.0));
        assert_eq!(verdict_of(&case).verdict, Verdict::Void, "void before slower");
        case.differences = vec![refused()];
        assert_eq!(verdict_of(&case).verdict, Verdict::NotTaken, "not taken before void");
        case.seen.wrong_frames = 3;
        assert_eq!(verdict_of(&case).verdict, Verdict::Artifacts, "artifacts before not taken");
        case.ending = Ending::LoadDied("lost its device".into());
        assert_eq!(verdict_of(&case).verdict, Verdict::LoadDied, "load died before artifacts");
    }

    #[rstest]
    #[case(1_980.0, 0.8, Verdict::Throttled)]
    #[case(1_990.0, 0.8, Verdict::Clean)]
    #[case(1_980.0, 0.3, Verdict::Clean)]
    fn held_back_needs_a_lower_clock_and_a_limiter(
        #[case] average: f64,
        #[case] share: f64,
        #[case] expected: Verdict,
    ) {
        let mut case = sound();
        if let Some(line) = &mut case.seen.clock_line {
            line.average = Mhz(average);
        }
        case.seen.limiters = vec![(Limiter::Power, share), (Limiter::Voltage, 1.0 - share)];
        assert_eq!(verdict_of(&case).verdict, expected);
    }

    #[test]
    fn every_verdict_is_found_again_by_its_label() {
        for verdict in Verdict::ALL {
            assert_eq!(Verdict::from_label(verdict.label()), Some(verdict));
        }
        assert_eq!(Verdict::from_label("fine"), None);
        assert!(Verdict::ALL.is_sorted(), "the derived order is the order of precedence");
    }
}
