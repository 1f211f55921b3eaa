//! What settings bring under each load.

use yard_step_core::{LoadGain, Ratio};

/// A gain with its standard error, such as `+3.1 ± 0.2 %`.
#[must_use]
pub fn gain(ratio: &Ratio) -> String {
    format!("{:+.1} ± {:.1} %", ratio.percent(), ratio.error_percent())
}

/// What settings bring under each load and overall, in a sentence or two; none where they ran under fewer than two.
#[must_use]
pub fn by_load(all: &[LoadGain]) -> Option<String> {
    let of = |of: &LoadGain| {
        let clock = if of.by_clock { " of clock" } else { "" };
        Some(format!("{} {}{clock}", of.load, gain(of.gain.as_ref()?)))
    };
    let each: Vec<String> = all.iter().filter_map(of).collect();
    if each.len() < 2 {
        return None;
    }
    let overall = LoadGain::overall(all);
    let overall = overall
        .map_or(String::new(), |ratio| format!(" Overall, as a geometric mean: {}.", gain(&ratio)));
    Some(format!("Gain under each load: {}.{overall}", each.join(", ")))
}

#[cfg(test)]
mod tests {
    use super::*;
    use yard_step_core::Seconds;

    fn of(load: &str, value: Option<f64>, by_clock: bool) -> LoadGain {
        LoadGain {
            load: load.into(),
            runs: 1,
            clean: Seconds(600.0),
            gain: value.map(|value| Ratio { value, error: 0.002 }),
            by_clock,
        }
    }

    #[test]
    fn every_load_that_ran_is_told_with_the_mean_of_those_that_have_figures() {
        let all = [
            of("kiln", Some(1.031), false),
            of("trio", Some(1.044), false),
            of("quay", None, false),
        ];
        assert_eq!(
            by_load(&all).unwrap(),
            "Gain under each load: kiln +3.1 ± 0.2 %, trio +4.4 ± 0.2 %. Overall, as a geometric mean: \
             +3.7 ± 0.1 %."
        );
        let clock = [of("kiln", Some(1.031), false), of("game", Some(1.02), true)];
        assert_eq!(
            by_load(&clock).unwrap(),
            "Gain under each load: kiln +3.1 ± 0.2 %, game +2.0 ± 0.2 % of clock."
        );
        assert_eq!(by_load(&all[..1]), None, "one load has no others to stand beside");
    }
}
