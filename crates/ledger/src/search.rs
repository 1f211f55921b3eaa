//! The search line of the ledger: words that must occur, and figures that must lie in a range.
//!
//! ```text
//!   tarn clean score>1000 hot-spot<=85
//!   └words──┘  └figures──────────────┘
//! ```

use std::str::FromStr;

use thiserror::Error;

/// A figure of a trial by which trials are searched.
#[derive(Debug, Clone, Copy, PartialEq, Eq, strum::EnumCount, strum::IntoStaticStr)]
#[strum(serialize_all = "kebab-case")]
pub enum Figure {
    /// Number of the climb.
    Climb,
    /// Place of the trial in its climb.
    Trial,
    /// Work units per second.
    Score,
    /// Gain over the baseline of its climb under the same load, %.
    Gain,
    /// Core clock offset asked for, or the top of the clock window, MHz.
    Core,
    /// Memory clock offset asked for, MHz.
    Memory,
    /// Average power of the board, W.
    Power,
    /// Highest hot spot, °C.
    HotSpot,
    /// Length of the run, minutes.
    Minutes,
}

impl Figure {
    /// All figures.
    pub const ALL: [Self; <Self as strum::EnumCount>::COUNT] = [
        Self::Climb,
        Self::Trial,
        Self::Score,
        Self::Gain,
        Self::Core,
        Self::Memory,
        Self::Power,
        Self::HotSpot,
        Self::Minutes,
    ];

    /// Its name in a search.
    #[must_use]
    pub fn label(self) -> &'static str {
        self.into()
    }

    /// The column it stands in; none for the gain, which is not written down.
    pub(crate) const fn column(self) -> Option<&'static str> {
        match self {
            Self::Climb => Some("climb"),
            Self::Trial => Some("number"),
            Self::Score => Some("score"),
            Self::Gain => None,
            Self::Core => Some("core_mhz"),
            Self::Memory => Some("memory_mhz"),
            Self::Power => Some("power_w"),
            Self::HotSpot => Some("hot_spot_c"),
            Self::Minutes => Some("seconds / 60.0"),
        }
    }
}

/// How a figure is held against a number.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Relation {
    /// `<=`
    AtMost,
    /// `>=`
    AtLeast,
    /// `<`
    Below,
    /// `>`
    Above,
    /// `=`
    Equal,
}

impl Relation {
    /// The longer signs first: `<=` begins like `<`.
    const ALL: [Self; 5] = [Self::AtMost, Self::AtLeast, Self::Below, Self::Above, Self::Equal];

    pub(crate) const fn sign(self) -> &'static str {
        match self {
            Self::AtMost => "<=",
            Self::AtLeast => ">=",
            Self::Below => "<",
            Self::Above => ">",
            Self::Equal => "=",
        }
    }

    pub(crate) fn holds(self, one: f64, other: f64) -> bool {
        match self {
            Self::AtMost => one <= other,
            Self::AtLeast => one >= other,
            Self::Below => one < other,
            Self::Above => one > other,
            Self::Equal => (one - other).abs() < 1e-9,
        }
    }
}

/// What is searched for: all of it must apply.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Search {
    /// Words that must occur somewhere in what is said of a trial, whatever their case.
    pub words: Vec<String>,
    /// Figures that must be known and lie as said.
    pub bounds: Vec<(Figure, Relation, f64)>,
}

/// A search that cannot be understood.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum SearchError {
    /// There is no such figure.
    #[error("\"{0}\" is not a figure of a trial. There are: {names}", names = names())]
    Figure(String),
    /// What a figure is held against is no number.
    #[error("\"{text}\" is not a number to compare {figure} with. Write {figure}{sign}12.5")]
    Number {
        /// The figure.
        figure: &'static str,
        /// The sign.
        sign: &'static str,
        /// What was written.
        text: String,
    },
}

fn names() -> String {
    Figure::ALL.map(Figure::label).join(", ")
}

impl FromStr for Search {
    type Err = SearchError;

    fn from_str(line: &str) -> Result<Self, SearchError> {
        let mut search = Self::default();
        for part in line.split_whitespace() {
            let sign = Relation::ALL.into_iter().find(|relation| part.contains(relation.sign()));
            let Some((relation, (name, number))) =
                sign.and_then(|relation| Some((relation, part.split_once(relation.sign())?)))
            else {
                search.words.push(part.to_lowercase());
                continue;
            };
            let figure = Figure::ALL
                .into_iter()
                .find(|figure| figure.label().eq_ignore_ascii_case(name))
                .ok_or_else(|| SearchError::Figure(name.to_owned()))?;
            let bound: f64 =
                number.parse().ok().filter(|n: &f64| n.is_finite()).ok_or_else(|| {
                    SearchError::Number {
                        figure: figure.label(),
                        sign: relation.sign(),
                        text: number.to_owned(),
                    }
                })?;
            search.bounds.push((figure, relation, bound));
        }
        Ok(search)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("", &[], &[])]
    #[case("  Tarn  CLEAN ", &["tarn", "clean"], &[])]
    #[case("score>1000", &[], &[(Figure::Score, Relation::Above, 1_000.0)])]
    #[case("hot-spot<=85 dips", &["dips"], &[(Figure::HotSpot, Relation::AtMost, 85.0)])]
    #[case("Gain>=-1.5", &[], &[(Figure::Gain, Relation::AtLeast, -1.5)])]
    #[case("climb=3 trial<9", &[], &[(Figure::Climb, Relation::Equal, 3.0), (Figure::Trial, Relation::Below, 9.0)])]
    fn words_and_figures_are_told_apart(
        #[case] line: &str,
        #[case] words: &[&str],
        #[case] bounds: &[(Figure, Relation, f64)],
    ) {
        let search: Search = line.parse().unwrap();
        assert_eq!(
            (search.words, search.bounds),
            (words.iter().map(|&word| word.to_owned()).collect(), bounds.to_vec(),)
        );
    }

    #[rstest]
    #[case("speed>3", "\"speed\" is not a figure of a trial. There are: climb, trial, score, gain")]
    #[case("=3", "\"\" is not a figure of a trial")]
    #[case("score>", "\"\" is not a number to compare score with. Write score>12.5")]
    #[case("core<=fast", "\"fast\" is not a number to compare core with. Write core<=12.5")]
    #[case("gain>inf", "\"inf\" is not a number")]
    fn what_cannot_be_understood_is_named(#[case] line: &str, #[case] told: &str) {
        let error = line.parse::<Search>().unwrap_err().to_string();
        assert!(error.starts_with(told), "{error}");
    }

    #[test]
    fn every_relation_holds_where_it_should() {
        let held = |one, other| Relation::ALL.map(|relation| relation.holds(one, other));
        assert_eq!(held(1.0, 2.0), [true, false, true, false, false]);
        assert_eq!(held(2.0, 2.0), [true, true, false, false, true]);
        assert_eq!(held(3.0, 2.0), [false, true, false, true, false]);
    }
}
