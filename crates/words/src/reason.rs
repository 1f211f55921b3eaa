//! Why a trial comes next, and why none can.

use yard_step_core::{
    Above, OtherLimit, Reason, Seconds, SoakWhy, StepSize, Stuck, Verdict, counted,
};

use crate::culprits::joined;
use crate::text::{capitalised, listed};

/// Why a trial is proposed, in one to three sentences.
#[must_use]
pub fn reason(why: &Reason) -> String {
    match why {
        Reason::BaselineFirst { runs, warm_up, load } => format!(
            "Baseline first: {}{} at stock to compare with, once the card is warm (after {} at \
             most).",
            counted(*runs as usize, "run"),
            under(load.as_deref()),
            warm_up.in_words()
        ),
        Reason::BaselineNext { done, runs, load } => format!(
            "{done} of {runs} baseline runs{} done. Their spread is the noise that every gain must \
             exceed.",
            under(load.as_deref())
        ),
        Reason::BaselineAgain { trial, verdict, done, runs, load } => format!(
            "Trial {trial} does not count ({verdict}): the same again. {done} of {runs} baseline runs{} \
             done.",
            under(load.as_deref())
        ),
        Reason::BeyondMakers { limit, makers, highest } => format!(
            "The limits in force reach beyond the maker's {makers}: one run at {limit} on the way to {highest}. The climb stops raising it where a run fails."
        ),
        Reason::LimitsRaised { limits, done, runs, is_halved, load } => {
            let under = under(load.as_deref());
            limits_raised(&limits.join(", "), *done, *runs, *is_halved, &under)
        }
        Reason::SettleFrom => {
            "First what was found as it is: each step down is compared with it.".into()
        }
        Reason::SettleStep { what, from, to, lost_percent, permitted_percent } => format!(
            "The {} from {from} to {to}: {lost_percent:.1} % of the score is given up so far, {permitted_percent:.1} % may be.",
            what.label()
        ),
        Reason::SettleProof { at, hotter, length } => {
            let heat = match hotter.round() {
                hotter if hotter > 0.0 => {
                    format!(" The core is {hotter:.0} K hotter than where it was found.")
                }
                _ => String::new(),
            };
            format!("{} at {at}, with its own fan, to prove it.{heat}", length.in_words())
        }
        Reason::CrossCheck { at, load, length, after: None } => {
            format!("{} holds so far. Now {} under {load}.", capitalised(at), length.in_words())
        }
        Reason::CrossCheck { at, load, length, after: Some((trial, failed, verdict)) } => format!(
            "Trial {trial} under {failed} ended in {verdict}, so the settings went back to {at}. Now {} \
             under {load}.",
            length.in_words()
        ),
        Reason::Soak { of, load, length, rest, why, after } => {
            soak_run(of, load, *length, *rest, *why, after.as_ref())
        }
        Reason::StepUp { from, failed: None, size, to } => format!(
            "{} holds and nothing has failed yet: {} to {to}.",
            capitalised(from),
            step(*size)
        ),
        Reason::StepUp { from, failed: Some((at, verdict)), size, to } => format!(
            "{} holds, {at} ended in {verdict}: {} to {to}.",
            capitalised(from),
            step(*size)
        ),
        Reason::TowardsKnown { known, at } => format!(
            "You start from {known}. It is approached from below, since it may not hold on this card: {at} now."
        ),
        Reason::Confirm { at, above, length } => {
            format!("{}. Next: {} to confirm {at}.", end_of_steps(at, above), length.in_words())
        }
        Reason::Settle { confirmed, held_for, fine_steps, at } => format!(
            "{confirmed} held for {}, too short to prove a day. {} taken off, and a run at {at} measures \
             what is kept.",
            held_for.in_words(),
            if *fine_steps == 1 {
                "1 fine step is".into()
            } else {
                format!("{fine_steps} fine steps are")
            }
        ),
        Reason::Informative { fault, machine_down, edge, holds } => {
            let risks = format!(
                "The most informative trial per minute: fault risk {:.0} %, machine down {:.1} %.",
                fault * 100.0,
                machine_down * 100.0
            );
            let edge = edge.as_ref().map_or(String::new(), |(low, high)| {
                format!(" The edge is probably between {low} and {high}.")
            });
            let holds = holds.as_ref().map_or(String::new(), |at| {
                format!(" {} holds as far as is known.", capitalised(at))
            });
            format!("{risks}{edge}{holds}")
        }
        Reason::Measure { at, purpose, length } => {
            let purpose = purpose.map_or(String::new(), |purpose| format!(" for {purpose}"));
            format!(
                "{} is believed to hold{purpose}; a run of {} measures what it brings.",
                capitalised(at),
                length.in_words()
            )
        }
        Reason::Doubted { trial, at } => format!(
            "One fault decides the result, in trial {trial}: {at} once more, to see whether it was a \
             coincidence."
        ),
        Reason::Again { trial, verdict, at } => {
            format!("Trial {trial} proves nothing ({verdict}): {at} once more.")
        }
        Reason::GainUnclear { at, gain_percent, error_percent, least_percent } => format!(
            "{at} brings {gain_percent:+.1} ± {error_percent:.1} %: not clear yet whether that is a \
             gain of {least_percent:.1} % or chance, so once more."
        ),
        Reason::BothTogether { at, length } => format!(
            "{} together: what holds alone may not hold with the other. {} without a fault are to \
             prove it.",
            capitalised(at),
            capitalised(&length.in_words())
        ),
        Reason::Isolating { trial, verdict, kept, back } => format!(
            "Trial {trial} failed ({verdict}). Which setting was it? {} {} back to stock and the same scene runs again: if \
             it fails, it was {}.",
            capitalised(&joined(back, "and")),
            if back.len() == 1 { "goes" } else { "go" },
            joined(kept, "or")
        ),
        Reason::WhichOne { trial, verdict, raised } => format!(
            "Trial {trial} failed with both raised ({verdict}). Which one was it? The {} goes back to \
             stock: if it fails again, it was the {raised}.",
            raised.other()
        ),
        Reason::CompareFirst { what } => {
            format!("First {what}: the others are compared with it.")
        }
        Reason::CompareNext { what, left: 1 } => format!("Now {what}, the last."),
        Reason::CompareNext { what, left } => format!("Now {what}, {left} to go."),
        Reason::CompareAgain { better, gain_percent, than, again } => format!(
            "{} brings {gain_percent:+.1} % over {than}: not clear yet whether that is more than \
             chance, so {again} once more.",
            capitalised(better)
        ),
        Reason::OtherLimit { at, why, limit, length } => format!(
            "At {at} {}: {} with a limit of {limit}.",
            match why {
                OtherLimit::Dips => "the clock still dips for lack of power",
                OtherLimit::DrawsNoLess => "it draws no less than at stock",
            },
            length.in_words()
        ),
        Reason::AtFullVoltage(why) => format!("Voltage at its ceiling. {}", reason(why)),
        Reason::HoldingClock(why, clock) => {
            format!("{} The clock is held at {clock}.", reason(why))
        }
        Reason::YourNudge { to } => format!("{to} is your choice, not the plan's."),
        Reason::YourSettings { moved } => {
            let what = capitalised(&listed(moved, "stock settings"));
            format!("{what}: your own settings. No stage learns from them.")
        }
        Reason::LeftOut { what } => {
            format!(
                "What does the {what} contribute? All settings as kept, with this one at stock."
            )
        }
    }
}

/// The load of a run, where it must be said.
fn under(load: Option<&str>) -> String {
    load.map_or(String::new(), |load| format!(" under {load}"))
}

/// Why a run of a soak is the next one.
fn soak_run(
    of: &str,
    load: &str,
    length: Seconds,
    rest: Seconds,
    why: SoakWhy,
    after: Option<&(u32, String, Verdict)>,
) -> String {
    let run = match rest.value() > 0.0 {
        true => {
            format!("{} of {load} from cold, after {} idle", length.in_words(), rest.in_words())
        }
        false => format!("{} of {load}", length.in_words()),
    };
    let why = match why {
        SoakWhy::FirstRound { left: 0 } => "the last load that has not run yet".into(),
        SoakWhy::FirstRound { left } => format!("{left} more have not run yet"),
        SoakWhy::Weakest { clean, failed_before: true } => {
            format!("bolder settings failed there, and it has only {} since", clean.in_words())
        }
        SoakWhy::Weakest { clean, failed_before: false } => {
            format!("another hour there raises the chance most; it has {} so far", clean.in_words())
        }
    };
    let back = after.map_or(String::new(), |(trial, load, verdict)| {
        format!(" Trial {trial} under {load} ended in {verdict}, so the settings went back a step.")
    });
    format!("Soak of {of}: {run}: {why}.{back}")
}

fn limits_raised(limits: &str, done: usize, runs: u32, is_halved: bool, under: &str) -> String {
    match (done, is_halved) {
        (0, false) => format!(
            "{}, and all else at stock: what the raised limit alone brings{under}.",
            capitalised(limits)
        ),
        (0, true) => format!("The highest limit was too much: halfway, {limits}{under}."),
        (done, _) => format!(
            "{done} of {runs} runs at {limits}{under} are done: one more, to tell the gain from the noise."
        ),
    }
}

fn step(size: StepSize) -> &'static str {
    match size {
        StepSize::First => "the first step",
        StepSize::Coarse => "a coarse step",
        StepSize::Fine => "a fine step",
        StepSize::Half => "halfway",
    }
}

fn end_of_steps(at: &str, above: &Above) -> String {
    match above {
        Above::Failed { floor, at, trial, verdict } => {
            format!(
                "The edge lies between {floor} and {at}, where trial {trial} ended in {verdict}"
            )
        }
        Above::TookMachineDown => format!("{at} holds, and what lies above took the machine down"),
        Above::BringsNothing => format!("{at} holds, and more brings no score"),
        Above::CardEnds => format!("{at} holds, and the card offers no more"),
    }
}

/// Why a climb cannot go on, and the way out.
#[must_use]
pub fn stuck(why: &Stuck) -> String {
    match why {
        Stuck::NoBaseline => "The baseline was ended before a run counted, so there is nothing to \
                              compare with. Start a new climb and let at least one baseline run end."
            .into(),
        Stuck::LoadEnds { load, runs, last } => format!(
            "The load {load} ended by itself in the last {runs} baseline runs, at stock settings. \
             {last} Run it by hand to see why, or choose another load in a new climb (n here, --fresh \
             and --load on the command line). Once it is mended, start again: the runs are tried anew."
        ),
        Stuck::BaselineInVain { runs, last, fails: Some(card) } => format!(
            "The last {runs} baseline runs do not count. {last} {card} fails at stock settings: look \
             at its cooling and power before tuning it."
        ),
        Stuck::BaselineInVain { runs, last, fails: None } => format!(
            "The last {runs} baseline runs do not count. {last} Close what else uses the card, check \
             the sensors, and start a new climb."
        ),
        Stuck::NoScore { stage, load, runs, length } => format!(
            "The last {runs} runs of stage {stage} went well, but have no score: {} of {load} may be too \
             short for one. Make [{stage}] seconds longer in the plan of a new climb, or choose another load.",
            length.in_words()
        ),
        Stuck::InVain { runs, at, last } => {
            let at = at.as_ref().map_or(String::new(), |at| format!(" at {at}"));
            format!(
                "The last {runs} runs{at} prove nothing. {last} Close what else uses the card, or end \
                 the stage and go on with what is known."
            )
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use yard_step_core::{Domain, Mhz, Seconds, SettingKind, Stage, Verdict};

    fn step_up(failed: Option<(String, Verdict)>, size: StepSize) -> Reason {
        Reason::StepUp { from: "stock".into(), failed, size, to: "+75 MHz".into() }
    }

    fn confirm(above: Above) -> Reason {
        Reason::Confirm { at: "+120 MHz".into(), above, length: Seconds(600.0) }
    }

    fn isolating(kept: &[SettingKind], back: &[SettingKind]) -> Reason {
        let (trial, verdict) = (7, Verdict::Artifacts);
        Reason::Isolating { trial, verdict, kept: kept.to_vec(), back: back.to_vec() }
    }

    fn measure(purpose: Option<&'static str>) -> Reason {
        Reason::Measure { at: "core +90 MHz".into(), purpose, length: Seconds(180.0) }
    }

    fn limits(done: usize, is_halved: bool) -> Reason {
        Reason::LimitsRaised {
            limits: vec!["power limit 286 W".into()],
            done,
            runs: 2,
            is_halved,
            load: None,
        }
    }

    #[rstest]
    #[case(
        Reason::BaselineFirst { runs: 3, warm_up: Seconds(600.0), load: None },
        "Baseline first: 3 runs at stock to compare with, once the card is warm (after 10 min at most)."
    )]
    #[case(
        Reason::BaselineNext { done: 1, runs: 3, load: None },
        "1 of 3 baseline runs done. Their spread is the noise that every gain must exceed."
    )]
    #[case(
        Reason::BaselineAgain { trial: 2, verdict: Verdict::Void, done: 1, runs: 3, load: Some("kiln".into()) },
        "Trial 2 does not count (void): the same again. 1 of 3 baseline runs under kiln done."
    )]
    #[case(
        limits(0, false),
        "Power limit 286 W, and all else at stock: what the raised limit alone brings."
    )]
    #[case(limits(0, true), "The highest limit was too much: halfway, power limit 286 W.")]
    #[case(
        limits(1, true),
        "1 of 2 runs at power limit 286 W are done: one more, to tell the gain from the noise."
    )]
    #[case(
        step_up(None, StepSize::First),
        "Stock holds and nothing has failed yet: the first step to +75 MHz."
    )]
    #[case(
        step_up(None, StepSize::Coarse),
        "Stock holds and nothing has failed yet: a coarse step to +75 MHz."
    )]
    #[case(
        step_up(Some(("+150 MHz".into(), Verdict::DriverReset)), StepSize::Half),
        "Stock holds, +150 MHz ended in driver reset: halfway to +75 MHz."
    )]
    #[case(
        step_up(Some(("+90 MHz".into(), Verdict::LoadDied)), StepSize::Fine),
        "Stock holds, +90 MHz ended in load died: a fine step to +75 MHz."
    )]
    #[case(
        confirm(Above::Failed {
            floor: "+120 MHz".into(),
            at: "+150 MHz".into(),
            trial: 9,
            verdict: Verdict::Artifacts,
        }),
        "The edge lies between +120 MHz and +150 MHz, where trial 9 ended in artifacts. Next: 10 min to confirm +120 MHz."
    )]
    #[case(
        confirm(Above::TookMachineDown),
        "+120 MHz holds, and what lies above took the machine down. Next: 10 min to confirm +120 MHz."
    )]
    #[case(
        confirm(Above::BringsNothing),
        "+120 MHz holds, and more brings no score. Next: 10 min to confirm +120 MHz."
    )]
    #[case(
        confirm(Above::CardEnds),
        "+120 MHz holds, and the card offers no more. Next: 10 min to confirm +120 MHz."
    )]
    #[case(
        Reason::Settle {
            confirmed: "+120 MHz".into(),
            held_for: Seconds(3_600.0),
            fine_steps: 2,
            at: "+90 MHz".into(),
        },
        "+120 MHz held for 1 h, too short to prove a day. 2 fine steps are taken off, and a run at +90 MHz measures what is kept."
    )]
    #[case(
        Reason::Settle {
            confirmed: "+120 MHz".into(),
            held_for: Seconds(3_600.0),
            fine_steps: 1,
            at: "+105 MHz".into(),
        },
        "+120 MHz held for 1 h, too short to prove a day. 1 fine step is taken off, and a run at +105 MHz measures what is kept."
    )]
    #[case(
        Reason::Informative {
            fault: 0.154,
            machine_down: 0.0123,
            edge: Some(("+90 MHz".into(), "+180 MHz".into())),
            holds: None,
        },
        "The most informative trial per minute: fault risk 15 %, machine down 1.2 %. The edge is probably between +90 MHz and +180 MHz."
    )]
    #[case(
        Reason::Informative {
            fault: 0.154,
            machine_down: 0.0123,
            edge: None,
            holds: Some("core +90 MHz".into()),
        },
        "The most informative trial per minute: fault risk 15 %, machine down 1.2 %. Core +90 MHz holds as far as is known."
    )]
    #[case(
        measure(None),
        "Core +90 MHz is believed to hold; a run of 3 min measures what it brings."
    )]
    #[case(
        measure(Some("daily use")),
        "Core +90 MHz is believed to hold for daily use; a run of 3 min measures what it brings."
    )]
    #[case(
        Reason::Doubted { trial: 5, at: "+60 MHz".into() },
        "One fault decides the result, in trial 5: +60 MHz once more, to see whether it was a coincidence."
    )]
    #[case(
        Reason::Again { trial: 5, verdict: Verdict::NotTaken, at: "+60 MHz".into() },
        "Trial 5 proves nothing (not taken): +60 MHz once more."
    )]
    #[case(
        Reason::GainUnclear {
            at: "+60 MHz".into(),
            gain_percent: 0.62,
            error_percent: 0.34,
            least_percent: 0.5,
        },
        "+60 MHz brings +0.6 ± 0.3 %: not clear yet whether that is a gain of 0.5 % or chance, so once more."
    )]
    #[case(
        Reason::BothTogether { at: "core +90 MHz, memory +300 MHz".into(), length: Seconds(900.0) },
        "Core +90 MHz, memory +300 MHz together: what holds alone may not hold with the other. 15 min without a fault are to prove it."
    )]
    #[case(
        isolating(&[SettingKind::CoreOffset], &[SettingKind::MemoryOffset, SettingKind::MemoryTiming]),
        "Trial 7 failed (artifacts). Which setting was it? The memory clock offset and the memory timing go back to stock and the same scene runs again: if it fails, it was the core clock offset."
    )]
    #[case(
        isolating(&[SettingKind::PowerLimit, SettingKind::CoreOffset], &[SettingKind::MemoryOffset]),
        "Trial 7 failed (artifacts). Which setting was it? The memory clock offset goes back to stock and the same scene runs again: if it fails, it was the power limit or the core clock offset."
    )]
    #[case(
        Reason::WhichOne { trial: 7, verdict: Verdict::Artifacts, raised: Domain::Core },
        "Trial 7 failed with both raised (artifacts). Which one was it? The memory goes back to stock: if it fails again, it was the core."
    )]
    #[case(
        Reason::CompareFirst { what: "no window".into() },
        "First no window: the others are compared with it."
    )]
    #[case(Reason::CompareNext { what: "200 MHz wide".into(), left: 3 }, "Now 200 MHz wide, 3 to go.")]
    #[case(Reason::CompareNext { what: "200 MHz wide".into(), left: 1 }, "Now 200 MHz wide, the last.")]
    #[case(
        Reason::CompareAgain {
            better: "level 2".into(),
            gain_percent: 0.4,
            than: "level 0".into(),
            again: "level 0".into(),
        },
        "Level 2 brings +0.4 % over level 0: not clear yet whether that is more than chance, so level 0 once more."
    )]
    #[case(
        Reason::OtherLimit {
            at: "−50 mV".into(),
            why: OtherLimit::Dips,
            limit: "268 W".into(),
            length: Seconds(180.0),
        },
        "At −50 mV the clock still dips for lack of power: 3 min with a limit of 268 W."
    )]
    #[case(
        Reason::OtherLimit {
            at: "−50 mV".into(),
            why: OtherLimit::DrawsNoLess,
            limit: "250 W".into(),
            length: Seconds(180.0),
        },
        "At −50 mV it draws no less than at stock: 3 min with a limit of 250 W."
    )]
    #[case(
        Reason::AtFullVoltage(Box::new(Reason::CompareFirst { what: "A".into() })),
        "Voltage at its ceiling. First A: the others are compared with it."
    )]
    #[case(
        Reason::HoldingClock(Box::new(Reason::CompareNext { what: "A".into(), left: 1 }), Mhz(1_900.0)),
        "Now A, the last. The clock is held at 1900 MHz."
    )]
    #[case(Reason::YourNudge { to: "+90 MHz".into() }, "+90 MHz is your choice, not the plan's.")]
    #[case(
        Reason::YourSettings { moved: vec![] },
        "Stock settings: your own settings. No stage learns from them."
    )]
    #[case(
        Reason::YourSettings { moved: vec!["core clock +90 MHz".into(), "fan 70 %".into()] },
        "Core clock +90 MHz, fan 70 %: your own settings. No stage learns from them."
    )]
    #[case(
        Reason::LeftOut { what: "power limit" },
        "What does the power limit contribute? All settings as kept, with this one at stock."
    )]
    fn every_reason_is_told_in_whole_sentences(#[case] why: Reason, #[case] told: &str) {
        assert_eq!(reason(&why), told);
    }

    #[rstest]
    #[case(Stuck::NoBaseline, "Start a new climb and let at least one baseline run end.")]
    #[case(
        Stuck::LoadEnds { load: "mine".into(), runs: 5, last: "It left with status 3.".into() },
        "The load mine ended by itself in the last 5 baseline runs, at stock settings. It left with status 3. Run it by hand"
    )]
    #[case(
        Stuck::BaselineInVain { runs: 5, last: "Artifacts.".into(), fails: Some("Tarn 310".into()) },
        "Artifacts. Tarn 310 fails at stock settings: look at its cooling"
    )]
    #[case(
        Stuck::BaselineInVain { runs: 5, last: "Busy.".into(), fails: None },
        "The last 5 baseline runs do not count. Busy. Close what else uses the card, check the sensors"
    )]
    #[case(
        Stuck::NoScore { stage: Stage::Power, load: "medley".into(), runs: 5, length: Seconds(60.0) },
        "The last 5 runs of stage power went well, but have no score: 1 min of medley may be too short for \
         one. Make [power] seconds longer in the plan"
    )]
    #[case(
        Stuck::InVain { runs: 4, at: Some("+90 MHz".into()), last: "Busy.".into() },
        "The last 4 runs at +90 MHz prove nothing. Busy. Close what else uses the card, or end the stage"
    )]
    #[case(
        Stuck::InVain { runs: 4, at: None, last: "Busy.".into() },
        "The last 4 runs prove nothing. Busy."
    )]
    fn what_stops_a_climb_is_told_with_the_way_out(#[case] why: Stuck, #[case] told: &str) {
        let sentence = stuck(&why);
        assert!(sentence.contains(told) && sentence.ends_with('.'), "{sentence}");
    }
}
