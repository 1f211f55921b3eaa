//! Where a climb starts, as it is named on the command line.

use yard_step_core::{CardDescription, Domain, Plan, Settings, counted, starting_from};
use yard_step_ledger::Ledger;

use crate::failure::{Failure, there_is_no};

/// A value of one setting to start from.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) enum StartValue {
    /// MHz above stock.
    Mhz(Domain, i32),
    /// Percent of the clock at stock.
    Percent(Domain, f64),
    /// Millivolts below stock.
    MillivoltOff(i32),
}

/// Reads a value such as `core=+120`, `memory=+6%` or `voltage=-80`.
pub(crate) fn parse_start(text: &str) -> Result<StartValue, String> {
    let wrong = || {
        format!(
            "\"{text}\" is not a value to start from: write core=+120, memory=+6% or voltage=-80"
        )
    };
    let (name, value) = text.split_once('=').ok_or_else(wrong)?;
    let (name, value) = (name.trim(), value.trim());
    let whole = |value: &str| value.trim_end_matches("MHz").trim().parse().map_err(|_| wrong());
    let domain = match name {
        "core" => Domain::Core,
        "memory" => Domain::Memory,
        "voltage" => {
            let offset: i32 = value
                .trim_end_matches("mV")
                .trim()
                .replace('\u{2212}', "-")
                .parse()
                .map_err(|_| wrong())?;
            if offset >= 0 {
                return Err(format!("\"{text}\" takes no voltage off: write voltage=-80"));
            }
            return Ok(StartValue::MillivoltOff(offset.saturating_neg()));
        }
        other => {
            return Err(there_is_no(
                "setting to start from",
                other,
                &["core", "memory", "voltage"],
            ));
        }
    };
    Ok(match value.strip_suffix('%') {
        Some(percent) => StartValue::Percent(domain, percent.trim().parse().map_err(|_| wrong())?),
        None => StartValue::Mhz(domain, whole(value)?),
    })
}

/// Writes values to start from into a plan.
pub(crate) fn write(values: &[StartValue], plan: &mut Plan) -> Result<(), Failure> {
    for value in values {
        let (domain, mhz, percent) = match *value {
            StartValue::Mhz(domain, mhz) => (domain, Some(mhz), None),
            StartValue::Percent(domain, percent) => (domain, None, Some(percent)),
            StartValue::MillivoltOff(off) => {
                plan.voltage.start_off_mv = Some(off);
                continue;
            }
        };
        let of = match domain {
            Domain::Core => &mut plan.core,
            Domain::Memory => &mut plan.memory,
        };
        (of.start_mhz, of.start_percent) = (mhz, percent);
    }
    plan.check().map_err(|error| Failure::usage(format!("--start: {error}")))
}

/// Something kept whose settings a climb starts from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum StartFrom {
    /// A profile, by its name.
    Profile(String),
    /// A trial, by its climb and its number there.
    Trial(i64, u32),
}

/// Reads the name of a profile, or `trial:3/7` for trial 7 of climb 3.
pub(crate) fn parse_start_from(text: &str) -> Result<StartFrom, String> {
    let Some(place) = text.strip_prefix("trial:") else {
        return Ok(StartFrom::Profile(text.to_owned()));
    };
    let place = place.split_once('/').and_then(|(climb, trial)| {
        Some(StartFrom::Trial(climb.trim().parse().ok()?, trial.trim().parse().ok()?))
    });
    place.ok_or_else(|| {
        format!("\"{text}\" does not name a trial: write trial:3/7 for trial 7 of climb 3")
    })
}

impl StartFrom {
    /// The plan with the settings of what was named to start from.
    pub(crate) fn plan(
        &self,
        plan: &Plan,
        ledger: &Ledger,
        card: &CardDescription,
    ) -> Result<Plan, Failure> {
        let settings = self.settings(ledger, card)?;
        let plan = starting_from(plan.clone(), &settings, card);
        match yard_step_words::starts(&plan, card).is_empty() {
            true => Err(Failure::usage(
                "--start-from: nothing in those settings goes beyond stock; omit it to start from stock",
            )),
            false => Ok(plan),
        }
    }

    fn settings(&self, ledger: &Ledger, card: &CardDescription) -> Result<Settings, Failure> {
        match self {
            Self::Profile(name) => {
                let profiles = ledger.profiles(card)?;
                let found = profiles.iter().find(|profile| profile.name == *name);
                found.map(|profile| profile.settings).ok_or_else(|| {
                    if profiles.is_empty() {
                        return Failure::usage("--start-from: no profile is kept on this card yet");
                    }
                    let known: Vec<&str> = profiles.iter().map(|one| one.name.as_str()).collect();
                    Failure::usage(format!(
                        "--start-from: {}",
                        there_is_no("profile", name, &known)
                    ))
                })
            }
            Self::Trial(climb, number) => {
                let entry = ledger.climb(*climb)?;
                if entry.card.key() != card.key() {
                    return Err(Failure::usage(format!(
                        "--start-from: climb {climb} ran on {}, not on {}",
                        entry.card.key(),
                        card.key()
                    )));
                }
                let trial = entry.trials.iter().find(|trial| trial.record.number == *number);
                trial.map(|trial| trial.record.asked).ok_or_else(|| {
                    Failure::usage(format!(
                        "--start-from: climb {climb} has {}, no trial {number}",
                        counted(entry.trials.len(), "trial")
                    ))
                })
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("core=+120", StartValue::Mhz(Domain::Core, 120))]
    #[case("core = 120 MHz", StartValue::Mhz(Domain::Core, 120))]
    #[case("memory=+6 %", StartValue::Percent(Domain::Memory, 6.0))]
    #[case("voltage=-80", StartValue::MillivoltOff(80))]
    #[case("voltage=\u{2212}80 mV", StartValue::MillivoltOff(80))]
    fn a_value_to_start_from_is_read(#[case] text: &str, #[case] value: StartValue) {
        assert_eq!(parse_start(text), Ok(value));
    }

    #[rstest]
    #[case("core", "is not a value to start from: write core=+120")]
    #[case("core=fast", "is not a value to start from")]
    #[case(
        "fan=100",
        "there is no setting to start from \"fan\"; there are: core, memory, voltage"
    )]
    #[case("voltage=20", "takes no voltage off: write voltage=-80")]
    #[case("voltage=-99999999999", "is not a value to start from")]
    fn what_is_no_such_value_is_told(#[case] text: &str, #[case] told: &str) {
        let error = parse_start(text).unwrap_err();
        assert!(error.contains(told), "{error}");
    }

    #[test]
    fn values_take_the_place_of_the_plan_s_and_are_checked() {
        let mut plan = Plan::from_toml("[core]\nstart_percent = 5\n").unwrap();
        write(&[StartValue::Mhz(Domain::Core, 120), StartValue::MillivoltOff(60)], &mut plan)
            .unwrap();
        assert_eq!((plan.core.start_mhz, plan.core.start_percent), (Some(120), None));
        assert_eq!(plan.voltage.start_off_mv, Some(60));
        let far = write(&[StartValue::Percent(Domain::Memory, 400.0)], &mut plan).unwrap_err();
        assert!(far.text().contains("memory.start_percent is 400: it must be 0.05 to 50 %"));
    }

    #[rstest]
    #[case("gaming", Ok(StartFrom::Profile("gaming".into())))]
    #[case("trial:3/7", Ok(StartFrom::Trial(3, 7)))]
    #[case("trial:7", Err("write trial:3/7 for trial 7 of climb 3"))]
    fn a_profile_or_a_trial_is_named(#[case] text: &str, #[case] read: Result<StartFrom, &str>) {
        match (parse_start_from(text), read) {
            (Ok(found), Ok(expected)) => assert_eq!(found, expected),
            (Err(error), Err(told)) => assert!(error.contains(told), "{error}"),
            other => panic!("{other:?}"),
        }
    }
}
