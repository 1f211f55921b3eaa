//! A list of trials as CSV: one row a trial, units in the header, an empty field for what is not
//! known.

use yard_step_core::{Celsius, Seconds, Watt};
use yard_step_ledger::TrialLine;

use crate::ReportError;

const HEADER: [&str; 18] = [
    "climb",
    "trial",
    "began_unix_s",
    "card",
    "unit",
    "stage",
    "settings",
    "load",
    "minutes",
    "verdict",
    "verdict_by_hand",
    "score",
    "gain_percent",
    "board_power_w",
    "hot_spot_c",
    "work_per_watt",
    "flagged",
    "note",
];

/// Writes trials as they are listed.
///
/// # Errors
/// The text cannot be put together.
pub fn trial_list_csv(lines: &[TrialLine]) -> Result<String, ReportError> {
    let mut csv = csv::Writer::from_writer(Vec::new());
    csv.write_record(HEADER)?;
    let number = |value: Option<f64>, digits: usize| {
        value.map_or(String::new(), |value| format!("{value:.digits$}"))
    };
    let yes = |is_so: bool| if is_so { "yes" } else { "" }.to_owned();
    for line in lines {
        let power = line.power.map(Watt::value);
        let per_watt = line.score.zip(power.filter(|power| *power > 0.0));
        csv.write_record([
            line.climb.to_string(),
            line.number.to_string(),
            line.began.to_string(),
            line.card.clone(),
            line.serial.clone(),
            line.stage.to_string(),
            line.what.clone(),
            line.load.clone(),
            number(line.seconds.map(Seconds::value).map(|seconds| seconds / 60.0), 2),
            line.verdict.map_or(String::new(), |verdict| verdict.to_string()),
            yes(line.by_hand),
            number(line.score, 2),
            number(line.gain_percent, 2),
            number(power, 1),
            number(line.hot_spot.map(Celsius::value), 1),
            number(per_watt.map(|(score, power)| score / power), 3),
            yes(line.flagged),
            line.note.clone(),
        ])?;
    }
    let bytes = csv.into_inner().map_err(|error| csv::Error::from(error.into_error()))?;
    Ok(String::from_utf8_lossy(&bytes).into_owned())
}

#[cfg(test)]
mod tests {
    use super::*;
    use yard_step_core::{Stage, Verdict};

    fn line() -> TrialLine {
        TrialLine {
            id: 9,
            climb: 2,
            number: 5,
            card: "Test card".into(),
            serial: "7".into(),
            stage: Stage::Core,
            what: "core +60 MHz, memory +40 MHz".into(),
            load: "medley".into(),
            began: 1_760_000_000,
            seconds: Some(Seconds(90.0)),
            verdict: Some(Verdict::Clean),
            by_hand: false,
            score: Some(1_010.0),
            gain_percent: Some(1.0),
            power: Some(Watt(202.0)),
            hot_spot: None,
            flagged: true,
            note: "says \"quiet\"".into(),
        }
    }

    #[test]
    fn a_trial_is_a_row_and_what_is_not_known_is_empty() {
        let begun = TrialLine {
            seconds: None,
            verdict: None,
            score: None,
            gain_percent: None,
            power: None,
            ..line()
        };
        let text = trial_list_csv(&[line(), begun]).unwrap();
        let mut rows = text.lines();
        assert_eq!(rows.next().unwrap().split(',').count(), HEADER.len());
        assert_eq!(
            rows.next().unwrap(),
            "2,5,1760000000,Test card,7,core,\"core +60 MHz, memory +40 MHz\",medley,1.50,clean,,\
             1010.00,1.00,202.0,,5.000,yes,\"says \"\"quiet\"\"\""
        );
        assert!(rows.next().unwrap().contains(",medley,,,,,,,,,yes,"));
        assert!(rows.next().is_none());
    }
}
