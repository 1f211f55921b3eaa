//! What a soak came to, how sure one may be of settings, and what a check says.

use yard_step_core::{
    Assurance, CheckAnswer, CheckDue, Domain, Goal, PROVEN, SPANS, Seconds, SoakEnd, SoakFault,
    Soaked, ToRaise, counted,
};

use crate::text::capitalised;

/// The reserve that a shorter proof is told for, fine steps.
const RESERVE: u8 = 2;

/// That a soak, a check or a measurement has begun.
#[must_use]
pub fn soak_begun(soaked: &Soaked) -> String {
    let soak = &soaked.soak;
    if soak.is_measurement() {
        return format!("Measuring has begun: {}.", counted(soaked.counts.len(), "run"));
    }
    if soak.check.is_some() {
        return format!("{} has begun.", capitalised(&soak.of));
    }
    format!("The soak of {} has begun.", soak.of)
}

/// How far a soak has come, or what it came to, in a sentence or two.
#[must_use]
pub fn soaked(soaked: &Soaked) -> String {
    let time = soaked.spent.in_words();
    let faults = match soaked.faults.len() {
        0 => "without a fault".into(),
        faults => format!("with {}", counted(faults, "fault")),
    };
    let of = &soaked.soak.of;
    if soaked.soak.is_measurement() {
        let done = soaked.counts.iter().filter(|count| **count > 0).count();
        let all = soaked.counts.len();
        return match soaked.end {
            None => format!("Measuring {of}: {done} of {} done.", counted(all, "run")),
            Some(_) => {
                format!("Measured {of}; the last round was {} in {time}.", counted(done, "run"))
            }
        };
    }
    let so_far = format!("{time} {faults}");
    match soaked.end {
        None => format!("Soak of {of}: {so_far}. {}", goal(&soaked.soak.goal, soaked.spent)),
        Some(SoakEnd::Reached) if soaked.is_clean() => {
            format!("{} has passed its soak: {so_far}.", capitalised(of))
        }
        Some(SoakEnd::Reached) => {
            format!(
                "The soak of {of} is over: {so_far}. Milder settings held{}.",
                kept_hint(soaked)
            )
        }
        Some(SoakEnd::Failed) => format!("{} has failed its soak: {so_far}.", capitalised(of)),
        Some(SoakEnd::AtStock) => {
            format!("The soak of {of} is over: {so_far}. Nothing beyond stock has held.")
        }
        Some(SoakEnd::Ended) => format!("The soak of {of} was ended: {so_far}."),
    }
}

fn kept_hint(soaked: &Soaked) -> String {
    match soaked.faults.last() {
        Some(fault) if !fault.back_to.is_empty() => format!(": {}", fault.back_to),
        _ => "; keep them as a profile".into(),
    }
}

fn goal(goal: &Goal, spent: Seconds) -> String {
    match goal {
        Goal::Hours(hours) | Goal::Until { hours, .. } => {
            format!("{} left.", (Seconds(hours * 3_600.0) - spent).in_words())
        }
        Goal::Proven(span) => format!("It goes on until {} is proven.", span_name(*span)),
        Goal::Once => "Each load runs once.".into(),
    }
}

/// A span as it is said: `a day`, or its length.
#[must_use]
pub fn span_name(span: Seconds) -> String {
    let known = SPANS.into_iter().find(|(_, known)| *known == span);
    known.map_or_else(|| span.in_words(), |(name, _)| format!("a {name}"))
}

/// A chance from 0 to 1 in percent, never rounded up to certainty.
#[must_use]
pub fn percent(chance: f64) -> String {
    let percent = chance * 100.0;
    match percent {
        p if p >= 99.0 => format!("{:.2} %", (p * 100.0).floor() / 100.0),
        p if p >= 10.0 => format!("{:.1} %", (p * 10.0).floor() / 10.0),
        p if p >= 0.1 => format!("{p:.1} %"),
        _ => "< 0.1 %".into(),
    }
}

/// The chances of a day, a month and a year, in a sentence.
#[must_use]
pub fn believed(assurance: &Assurance) -> String {
    let of = |(name, span)| format!("a {name} {}", percent(assurance.chances(span).believed));
    let chances: Vec<String> = SPANS.into_iter().map(of).collect();
    format!("Believed to hold, time under load: {}.", chances.join(", "))
}

/// What would raise the chance of a span most, and how long that takes, in a sentence.
#[must_use]
pub fn to_raise(assurance: &Assurance, span: Seconds) -> String {
    let name = span_name(span);
    if assurance.is_proven(span) {
        return format!(
            "{} is proven: it holds with {} or more.",
            capitalised(&name),
            percent(PROVEN)
        );
    }
    let Some(ToRaise { kind, time }) = assurance.to_raise(span) else {
        return "Nothing has run yet.".into();
    };
    let percent = percent(PROVEN);
    let believed = assurance.time_to_believe(span, PROVEN).filter(|time| time.value() > 0.0);
    let believed = believed.map(|time| {
        format!("{} more without a fault raise {name} to {percent}.", capitalised(&rounded(time)))
    });
    let proven = match time {
        None => format!("No soak proves {name} in reasonable time."),
        Some(time) => {
            let reserved = assurance.clone().with_reserve(RESERVE).to_raise(span);
            let reserved = reserved.and_then(|raise| raise.time);
            let reserved = reserved.filter(|reserved| reserved.value() < time.value() * 0.9);
            let or = reserved.map_or(String::new(), |time| {
                format!(", or {} with a reserve of {RESERVE} steps", rounded(time))
            });
            format!("{} prove that{or}.", capitalised(&rounded(time)))
        }
    };
    let most = format!("More time under {} would tell the most.", kind.label());
    believed.into_iter().chain([proven, most]).collect::<Vec<_>>().join(" ")
}

/// A long time in whole hours, or days.
fn rounded(time: Seconds) -> String {
    let hours = time.value() / 3_600.0;
    if hours < 1.0 {
        return Seconds((time.value() / 60.0).ceil() * 60.0).in_words();
    }
    if hours < 96.0 {
        format!("{hours:.0} h")
    } else {
        format!("{hours:.0} h ({:.0} days)", hours / 24.0)
    }
}

/// Where and how a soak failed, in a sentence; `section` is the part of the load in which the wrong frame came.
#[must_use]
pub fn soak_fault(fault: &SoakFault, section: Option<&str>) -> String {
    let section = section.map_or(String::new(), |section| format!(", {section}"));
    let mut facts = vec![format!("after {}", fault.at.in_words())];
    facts.extend(fault.clock.map(|clock| format!("at {:.0} MHz", clock.value())));
    facts.extend(fault.temperature.map(|core| format!("{:.0} °C", core.value())));
    let points = match fault.domain {
        Some(Domain::Core) => " It points to the core clock.",
        Some(Domain::Memory) => " It points to the memory clock.",
        None => "",
    };
    format!(
        "Trial {} under {}{section}: {} {}.{points}",
        fault.trial,
        fault.load,
        fault.verdict,
        facts.join(", ")
    )
}

/// What a check of a profile says.
#[must_use]
pub fn check(answer: &CheckAnswer) -> String {
    match answer {
        CheckAnswer::First => "First check: later ones are compared with it.".into(),
        CheckAnswer::Same => "The same as at its first check.".into(),
        CheckAnswer::Changed { slower, hotter } => {
            let slower = slower.map(|by| format!("slower by {by:.1} %"));
            let hotter = hotter.map(|(by, of_room)| match of_room.abs() >= 0.5 {
                true => format!("hotter by {by:.0} K, {of_room:.0} K of it from the room"),
                false => format!("hotter by {by:.0} K"),
            });
            let parts: Vec<String> = [slower, hotter].into_iter().flatten().collect();
            format!("{} than at its first check.", capitalised(&parts.join(", ")))
        }
        CheckAnswer::Failed { load, verdict } => {
            format!("It no longer holds: {load} ended in {verdict}.")
        }
        CheckAnswer::Incomplete => {
            "The check has no result to compare: no load of it ran to its end.".into()
        }
    }
}

/// That a check of a profile is due.
#[must_use]
pub fn check_due(name: &str, due: &CheckDue) -> String {
    match due {
        CheckDue::Driver { then } => format!(
            "Profile \"{name}\" was last checked under driver {then}: check whether it still holds."
        ),
        CheckDue::Change => format!(
            "Something was changed around the card since profile \"{name}\" was last checked: check whether it still holds."
        ),
        CheckDue::Days(_) if due.is_a_year() => {
            format!("Profile \"{name}\" was not checked for a year: check whether it still holds.")
        }
        CheckDue::Days(days) => format!(
            "Profile \"{name}\" was last checked {days} days ago, in another season: check whether it still holds."
        ),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use yard_step_core::{Exposure, LoadKind, Margin, ProofRun, USUAL_DAY, Verdict};

    #[rstest]
    #[case(0.999_999, "99.99 %")]
    #[case(0.99, "99.00 %")]
    #[case(0.989_9, "98.9 %")]
    #[case(0.042, "4.2 %")]
    #[case(0.0, "< 0.1 %")]
    fn a_chance_is_never_rounded_up(#[case] chance: f64, #[case] told: &str) {
        assert_eq!(percent(chance), told);
    }

    #[rstest]
    #[case(CheckAnswer::Same, "The same as at its first check.")]
    #[case(
        CheckAnswer::Changed { slower: Some(2.04), hotter: Some((9.0, 4.0)) },
        "Slower by 2.0 %, hotter by 9 K, 4 K of it from the room than at its first check."
    )]
    #[case(
        CheckAnswer::Changed { slower: None, hotter: Some((5.0, 0.0)) },
        "Hotter by 5 K than at its first check."
    )]
    #[case(
        CheckAnswer::Failed { load: "squall".into(), verdict: Verdict::DriverReset },
        "It no longer holds: squall ended in driver reset."
    )]
    fn a_check_is_told(#[case] answer: CheckAnswer, #[case] told: &str) {
        assert_eq!(check(&answer), told);
    }

    #[test]
    fn what_is_missing_to_a_proof_is_told_with_its_time() {
        let of = |hours: f64| {
            let mut exposure = Exposure::default();
            for (kind, share) in USUAL_DAY {
                let is_cold = kind == LoadKind::Cold;
                let load = if is_cold { "squall" } else { "medley" };
                let seconds = Seconds(hours * share * 3_600.0);
                exposure.add(&ProofRun { load, mean_load: None, is_cold, seconds, failed: false });
            }
            Assurance::new(exposure, &USUAL_DAY, Some((Margin::Daily, 0.9995)), (0.06, 80.0))
        };
        let told = to_raise(&of(10.0), SPANS[0].1);
        assert!(told.contains("more without a fault raise a day to 99.00 %."), "{told}");
        assert!(told.contains("with a reserve of 2 steps"), "{told}");
        assert!(to_raise(&of(5_000.0), SPANS[0].1).starts_with("A day is proven"));
    }
}
