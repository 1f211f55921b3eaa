//! Why clocks stay at stock.

use yard_step_core::{AtStock, Domain};

use crate::outcome::span_in_words;

/// Where a search ended because of its price.
const BY_PRICE: &str =
    "To be sure would take longer than it is worth (worth_percent_per_minute in the plan).";

/// Why a clock stays at stock although higher ones were tried, in a sentence or two.
#[must_use]
pub fn at_stock(why: &AtStock) -> String {
    if is_by_price(why) { format!("{} {BY_PRICE}", what_was_seen(why)) } else { what_was_seen(why) }
}

/// Which clocks stay at stock, each with what was seen of it; none where there are none.
#[must_use]
pub fn stay_at_stock(clocks: &[(Domain, AtStock)]) -> Option<String> {
    let of = |(domain, why): &(Domain, AtStock)| {
        format!("The {domain} clock stays at stock. {}", what_was_seen(why))
    };
    let price = clocks.iter().any(|(_, why)| is_by_price(why)).then(|| BY_PRICE.to_owned());
    let told: Vec<String> = clocks.iter().map(of).chain(price).collect();
    (!clocks.is_empty()).then(|| told.join(" "))
}

fn is_by_price(why: &AtStock) -> bool {
    matches!(why, AtStock::NotSure { by_price: true, .. })
}

fn what_was_seen(why: &AtStock) -> String {
    let AtStock::NotSure { held, failed, margin, .. } = why else {
        return "More of it brings no more score.".into();
    };
    let held = held.as_ref().map(|(at, span)| (at, span.in_words()));
    let span = span_in_words(margin.span());
    let tried = match (held, failed) {
        (Some((at, span)), Some(failed)) if at == failed => {
            format!("{at} held for {span} and failed in another run")
        }
        (Some((at, span)), Some(failed)) => format!("{at} held for {span}, {failed} failed"),
        (Some((at, span)), None) => format!("{at} held for {span}"),
        (None, Some(failed)) => format!("{failed} failed"),
        (None, None) => return format!("No clock above stock is sure to stand {span}."),
    };
    format!("{tried}, but no clock above stock is sure to stand {span}.")
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use yard_step_core::{Margin, Seconds};

    fn not_sure(held: Option<i32>, failed: Option<i32>, by_price: bool) -> AtStock {
        let show = |mhz: i32| format!("+{mhz} MHz");
        let held = held.map(|at| (show(at), Seconds(300.0)));
        AtStock::NotSure { held, failed: failed.map(show), margin: Margin::Daily, by_price }
    }

    #[rstest]
    #[case(
        Some(150),
        None,
        "+150 MHz held for 5 min, but no clock above stock is sure to stand 24 h."
    )]
    #[case(Some(150), Some(170), "+150 MHz held for 5 min, +170 MHz failed, but no clock")]
    #[case(Some(150), Some(150), "+150 MHz held for 5 min and failed in another run, but no clock")]
    #[case(None, Some(15), "+15 MHz failed, but no clock above stock is sure to stand 24 h.")]
    fn why_a_clock_stays_at_stock_is_told(
        #[case] held: Option<i32>,
        #[case] failed: Option<i32>,
        #[case] told: &str,
    ) {
        let sentence = at_stock(&not_sure(held, failed, false));
        assert!(sentence.starts_with(told) && sentence.ends_with("is sure to stand 24 h."));
        let sentence = at_stock(&not_sure(held, failed, true));
        assert!(sentence.starts_with(told) && sentence.ends_with(BY_PRICE), "{sentence}");
    }

    #[test]
    fn the_price_is_told_once_for_both_clocks() {
        let both = [
            (Domain::Core, not_sure(None, Some(15), true)),
            (Domain::Memory, not_sure(Some(150), None, true)),
        ];
        assert_eq!(
            stay_at_stock(&both).unwrap(),
            format!(
                "The core clock stays at stock. +15 MHz failed, but no clock above stock is sure to stand 24 h. The memory \
                 clock stays at stock. +150 MHz held for 5 min, but no clock above stock is sure to stand 24 h. {BY_PRICE}"
            )
        );
        let slow = [(Domain::Memory, AtStock::NoGain)];
        let told = "The memory clock stays at stock. More of it brings no more score.";
        assert_eq!(stay_at_stock(&slow).as_deref(), Some(told));
        assert_eq!(stay_at_stock(&[]), None);
    }
}
