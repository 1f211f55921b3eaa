//! What earlier climbs have taught, in words.

use yard_step_core::{Domain, Experience, counted};

/// How many climbs an experience rests on; `None` where there are none.
#[must_use]
pub fn learnt_from(experience: &Experience) -> Option<String> {
    let own = (experience.climbs > 0).then(|| counted(experience.climbs, "climb"));
    let others = (experience.others > 0).then(|| counted(experience.others, "climb"));
    match (own, others) {
        (None, None) => None,
        (Some(own), None) => Some(format!("{own} on this kind of card")),
        (None, Some(others)) => Some(format!("{others} on other kinds")),
        (Some(own), Some(others)) => {
            Some(format!("{own} on this kind of card, {others} on other kinds"))
        }
    }
}

/// Where the edge of a domain is expected, above the clock at stock.
#[must_use]
pub fn expected_edge(experience: &Experience, domain: Domain) -> String {
    let (mean, spread) = experience.expectation(domain).edge_percent;
    format!("{mean:+.1} % ± {spread:.1} %")
}

/// How fast faults of a domain are expected to set in, and the range in which eight of ten cards lie.
#[must_use]
pub fn expected_e_fold(experience: &Experience, domain: Domain) -> String {
    let (median, low, high) = experience.expectation(domain).e_fold_percent;
    format!("{median:.2} % ({low:.2} to {high:.2} %)")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_an_experience_rests_on_is_counted() {
        let of = |climbs, others| {
            let mut experience = Experience::default();
            (experience.climbs, experience.others) = (climbs, others);
            learnt_from(&experience)
        };
        assert_eq!(of(0, 0), None);
        assert_eq!(of(1, 0).unwrap(), "1 climb on this kind of card");
        assert_eq!(of(4, 2).unwrap(), "4 climbs on this kind of card, 2 climbs on other kinds");
        assert_eq!(of(0, 3).unwrap(), "3 climbs on other kinds");
    }

    #[test]
    fn what_is_expected_is_told_in_percent_of_the_clock() {
        let of = Experience::default();
        assert_eq!(expected_edge(&of, Domain::Core), "+6.0 % ± 2.5 %");
        assert_eq!(expected_e_fold(&of, Domain::Core), "0.20 % (0.08 to 0.52 %)");
    }
}
