//! What the user says of a soak, on the command line and in the form: loads with their shares, and when it is over.

use jiff::civil::Time;
use jiff::{ToSpan as _, Zoned};
use yard_step_core::{Goal, MOST_SOAK_LOADS, SoakLoad, quoted};

/// Name under which a start from cold is listed among loads.
const COLD: &str = "cold";
/// The scene that a start from cold runs: sudden load, by turns.
const COLD_SCENE: &str = "squall";

/// Reads loads with their shares of a day's use, such as `kiln, lantern:3, cold`.
///
/// # Errors
/// A share that is none, a load that is named twice, or too many.
pub(crate) fn soak_loads(text: &str) -> Result<Vec<SoakLoad>, String> {
    let mut loads: Vec<SoakLoad> = Vec::new();
    for part in text.split(',').map(str::trim).filter(|part| !part.is_empty()) {
        let (name, share) = part.split_once(':').unwrap_or((part, ""));
        let name = name.trim();
        let is_cold = name == COLD;
        let usual = if is_cold { 0.25 } else { 1.0 };
        let share: f64 = match share.trim() {
            "" => usual,
            share => share.parse().map_err(|_| {
                format!("The share of {} is a number, such as {}:2.", quoted(name), quoted(name))
            })?,
        };
        if !(share > 0.0 && share <= 1_000.0) {
            return Err(format!(
                "The share of {} must be more than 0 and at most 1000.",
                quoted(name)
            ));
        }
        let load = match is_cold {
            true => SoakLoad::cold(COLD_SCENE, share),
            false => SoakLoad::new(name, share),
        };
        if loads.iter().any(|known| (&known.load, known.kind) == (&load.load, load.kind)) {
            return Err(format!("{} is named twice.", quoted(name)));
        }
        loads.push(load);
    }
    if loads.is_empty() || loads.len() > MOST_SOAK_LOADS {
        return Err(format!("Name 1 to {MOST_SOAK_LOADS} loads, separated by commas."));
    }
    Ok(loads)
}

/// Loads as they are typed.
pub(crate) fn loads_in_words(loads: &[SoakLoad]) -> String {
    let most = loads.iter().map(|load| load.share).fold(0.0, f64::max);
    let of = |load: &SoakLoad| {
        let name = if load.is_cold() { COLD } else { &load.load };
        let share = load.share / most;
        let usual = if load.is_cold() { 0.25 } else { 1.0 };
        if (share - usual).abs() < 1e-9 { name.to_owned() } else { format!("{name}:{share}") }
    };
    loads.iter().map(of).collect::<Vec<_>>().join(", ")
}

/// A soak that ends at the next time of day such as `07:00`.
///
/// # Errors
/// It is no time of day.
pub(crate) fn until(text: &str, now: &Zoned) -> Result<Goal, String> {
    let whole = text.trim();
    let whole = if whole.contains(':') { whole.to_owned() } else { format!("{whole}:00") };
    let whole = if whole.len() == 4 { format!("0{whole}") } else { whole };
    let time: Time = whole
        .parse()
        .map_err(|_| format!("{} is no time of day: type one such as 07:00.", quoted(text)))?;
    let mut at = now.with().time(time).build().map_err(|error| format!("{error}."))?;
    if at <= *now {
        at = at.checked_add(1.day()).map_err(|error| format!("{error}."))?;
    }
    let seconds = at.timestamp().as_second();
    let hours = (seconds - now.timestamp().as_second()) as f64 / 3_600.0;
    Ok(Goal::Until { at: seconds, hours })
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::DateTime;
    use jiff::tz::TimeZone;
    use rstest::rstest;
    use yard_step_core::Soak;

    fn zoned(at: &str) -> Zoned {
        at.parse::<DateTime>().unwrap().to_zoned(TimeZone::UTC).unwrap()
    }

    #[test]
    fn loads_are_read_with_their_shares_and_told_as_they_are_typed() {
        let loads = soak_loads("kiln, lantern:3 ,cold").unwrap();
        let shares: Vec<f64> = loads.iter().map(|load| load.share).collect();
        assert_eq!(shares, [1.0, 3.0, 0.25]);
        assert!(loads[2].is_cold() && loads[2].load == "squall");
        let usual = loads_in_words(&Soak::usual_loads());
        assert_eq!(usual, "kiln, sluice, loom, lantern, doldrums, squall, cold");
        let again = soak_loads(&usual).unwrap();
        let kinds = |loads: &[SoakLoad]| loads.iter().map(|load| load.kind).collect::<Vec<_>>();
        assert_eq!(kinds(&again), kinds(&Soak::usual_loads()));
    }

    #[rstest]
    #[case("", "Name 1 to 16 loads")]
    #[case("kiln, kiln", "named twice")]
    #[case("kiln:much", "is a number")]
    #[case("kiln:0", "more than 0")]
    #[case("kiln:nan", "more than 0")]
    fn loads_that_cannot_be_say_why(#[case] text: &str, #[case] told: &str) {
        let error = soak_loads(text).unwrap_err();
        assert!(error.contains(told), "{error}");
    }

    #[rstest]
    #[case("07:00", "2026-03-01T22:30:00", 8.5)]
    #[case("7", "2026-03-01T22:30:00", 8.5)]
    #[case("23:00", "2026-03-01T22:30:00", 0.5)]
    fn a_soak_ends_at_the_next_such_time(
        #[case] text: &str,
        #[case] now: &str,
        #[case] wanted: f64,
    ) {
        let now = zoned(now);
        let Goal::Until { hours, at } = until(text, &now).unwrap() else { panic!() };
        assert!((hours - wanted).abs() < 1e-9 && at > now.timestamp().as_second(), "{hours}");
    }

    #[rstest]
    #[case("tomorrow")]
    #[case("25:00")]
    #[case("")]
    fn what_is_no_time_is_told(#[case] text: &str) {
        let now = zoned("2026-03-01T22:30:00");
        assert!(until(text, &now).unwrap_err().contains("no time of day"));
    }
}
