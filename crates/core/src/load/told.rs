//! Figures that a program gives of its own run, or that the user types for it.

use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::statistics::{median, standard_deviation};
use crate::units::Percent;

/// Sub-scores of one run that are kept.
pub const MOST_SUB_SCORES: usize = 32;
/// Longest name of a sub-score, characters.
pub const LONGEST_SUB_SCORE: usize = 24;

/// What a figure of a program is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum FigureName {
    /// The score of the whole run.
    Score,
    /// Average frames per second.
    AverageFps,
    /// Frames per second of the slowest frames, as the program counts them.
    LowFps,
    /// A sub-score of that name.
    SubScore(String),
}

impl From<&str> for FigureName {
    /// The figure of a name: `score`, `fps`, `low fps`; any other is a sub-score.
    fn from(name: &str) -> Self {
        match name.trim().to_lowercase().as_str() {
            "" | "score" => Self::Score,
            "fps" | "average fps" => Self::AverageFps,
            "low fps" => Self::LowFps,
            _ => Self::SubScore(name.trim().chars().take(LONGEST_SUB_SCORE).collect()),
        }
    }
}

/// A sub-score.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct SubScore {
    /// Its name.
    pub name: String,
    /// Its value; the higher the better.
    pub value: f64,
}

/// Figures of one run: the higher the better.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
pub struct Told {
    /// The score.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub score: Option<f64>,
    /// Average frames per second.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub average_fps: Option<f64>,
    /// Frames per second of the slowest frames.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub low_fps: Option<f64>,
    /// Sub-scores, in the order in which they came.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub sub_scores: Vec<SubScore>,
}

/// Why a text tells no figures.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum ToldError {
    /// There is no number.
    #[error(
        "\"{0}\" is not a figure: type a number above 0, with its name before it unless it is the score"
    )]
    NoNumber(String),
    /// There are more sub-scores than are kept.
    #[error("{0} sub-scores: no more than {MOST_SUB_SCORES} are kept")]
    TooMany(usize),
}

impl Told {
    /// No figures at all.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        *self == Self::default()
    }

    /// What the run is judged by: its score; of a program without one the geometric mean of its
    /// sub-scores, which none of them outweighs for being a larger number; without any, the average
    /// frames per second.
    #[must_use]
    pub fn score(&self) -> Option<f64> {
        let logs: Vec<f64> = self.sub_scores.iter().map(|one| one.value.ln()).collect();
        let of_sub_scores = crate::statistics::mean(&logs).map(f64::exp);
        self.score.or(of_sub_scores).or(self.average_fps)
    }

    /// Notes a figure; one that was told before is replaced. What is not above 0 is no figure.
    pub fn note(&mut self, name: &FigureName, value: f64) {
        if !(value.is_finite() && value > 0.0) {
            return;
        }
        match name {
            FigureName::Score => self.score = Some(value),
            FigureName::AverageFps => self.average_fps = Some(value),
            FigureName::LowFps => self.low_fps = Some(value),
            FigureName::SubScore(name) => {
                if let Some(one) = self.sub_scores.iter_mut().find(|one| one.name == *name) {
                    one.value = value;
                } else if self.sub_scores.len() < MOST_SUB_SCORES {
                    self.sub_scores.push(SubScore { name: name.clone(), value });
                }
            }
        }
    }

    /// Reads figures as they are typed: `8120`, or `hammer 812, anvil 640.5, fps 61, low fps 48`.
    ///
    /// # Errors
    /// A figure is no number above 0, or there are too many.
    pub fn parse(text: &str) -> Result<Self, ToldError> {
        let mut told = Self::default();
        for figure in figures(text) {
            let figure = figure.trim();
            let wrong = || ToldError::NoNumber(crate::text::printable(figure));
            let (name, number) = figure.rsplit_once([' ', '=', ':']).unwrap_or(("", figure));
            let value: f64 = number.trim().replace(',', ".").parse().map_err(|_| wrong())?;
            let name = crate::text::printable(name.trim_end_matches([' ', '=', ':']));
            let is_named = name.is_empty() || name.chars().any(char::is_alphabetic);
            if !(value.is_finite() && value > 0.0 && is_named) {
                return Err(wrong());
            }
            let name = FigureName::from(name.as_str());
            if told.sub_scores.len() == MOST_SUB_SCORES && matches!(name, FigureName::SubScore(_)) {
                return Err(ToldError::TooMany(MOST_SUB_SCORES + 1));
            }
            told.note(&name, value);
        }
        Ok(told)
    }

    /// The figures of several passes of the same program: the median of each.
    #[must_use]
    pub fn median(passes: &[Self]) -> Self {
        let of = |figure: fn(&Self) -> Option<f64>| {
            median(&passes.iter().filter_map(figure).collect::<Vec<_>>())
        };
        Self {
            score: of(|told| told.score),
            average_fps: of(|told| told.average_fps),
            low_fps: of(|told| told.low_fps),
            sub_scores: names(passes)
                .into_iter()
                .filter_map(|name| {
                    let value = median(&values(passes, &name))?;
                    Some(SubScore { name, value })
                })
                .collect(),
        }
    }

    /// The sub-score of that name.
    #[must_use]
    pub fn sub_score(&self, name: &str) -> Option<f64> {
        self.sub_scores.iter().find(|one| one.name == name).map(|one| one.value)
    }
}

/// A score or a frame rate as it is shown: whole from 100 on, with three significant digits below.
#[must_use]
pub fn figure_in_words(value: f64) -> String {
    format!("{value:.*}", places_of(value))
}

/// The error of a figure as it is shown beside it: with one place more.
#[must_use]
pub fn error_in_words(figure: f64, error: f64) -> String {
    format!("{error:.*}", places_of(figure) + 1)
}

fn places_of(figure: f64) -> usize {
    match figure.abs() {
        size if size >= 99.95 => 0,
        size if size >= 9.995 => 1,
        size if size >= 0.9995 => 2,
        _ => 3,
    }
}

/// A sub-score over several runs at the same settings.
#[derive(Debug, Clone, PartialEq)]
pub struct SubScoreBaseline {
    /// Its name.
    pub name: String,
    /// Median.
    pub value: f64,
    /// Standard deviation in percent of the median; none for one run.
    pub noise: Option<Percent>,
}

/// The sub-scores of several runs: median and noise of each.
#[must_use]
pub fn sub_score_baselines(runs: &[Told]) -> Vec<SubScoreBaseline> {
    let baseline = |name: String| {
        let values = values(runs, &name);
        let value = median(&values)?;
        let noise = standard_deviation(&values).map(|spread| Percent(spread / value * 100.0));
        Some(SubScoreBaseline { name, value, noise })
    };
    names(runs).into_iter().filter_map(baseline).collect()
}

/// The parts of a text between semicolons and commas; a comma between two digits is a decimal one.
fn figures(text: &str) -> impl Iterator<Item = &str> {
    let bytes = text.as_bytes();
    let is_digit =
        |at: Option<usize>| at.and_then(|at| bytes.get(at)).is_some_and(u8::is_ascii_digit);
    let ends = move |(at, byte): &(usize, u8)| match byte {
        b';' => true,
        b',' => !(is_digit(at.checked_sub(1)) && is_digit(Some(at + 1))),
        _ => false,
    };
    let mut from = 0;
    let cuts: Vec<usize> =
        text.bytes().enumerate().filter(ends).map(|(at, _)| at).chain([text.len()]).collect();
    cuts.into_iter().filter_map(move |cut| {
        let figure = text.get(from..cut)?;
        from = cut + 1;
        (!figure.trim().is_empty()).then_some(figure)
    })
}

/// Names of sub-scores in the order in which they first came.
fn names(runs: &[Told]) -> Vec<String> {
    let mut names: Vec<String> = Vec::new();
    for one in runs.iter().flat_map(|run| &run.sub_scores) {
        if !names.contains(&one.name) {
            names.push(one.name.clone());
        }
    }
    names
}

fn values(runs: &[Told], name: &str) -> Vec<f64> {
    runs.iter().filter_map(|run| run.sub_score(name)).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn sub_scores(values: &[f64]) -> Told {
        let mut told = Told::default();
        for (name, value) in ["hammer", "anvil", "bellows"].into_iter().zip(values) {
            told.note(&FigureName::from(name), *value);
        }
        told
    }

    #[rstest]
    #[case(8_120.4, "8120")]
    #[case(99.96, "100")]
    #[case(21.44, "21.4")]
    #[case(9.996, "10.0")]
    #[case(0.1234, "0.123")]
    fn a_figure_is_shown_with_three_digits_at_least(#[case] value: f64, #[case] shown: &str) {
        assert_eq!(figure_in_words(value), shown);
    }

    #[rstest]
    #[case("8120", Some(8_120.0), &[])]
    #[case("score 8120.5", Some(8_120.5), &[])]
    #[case("87,5", Some(87.5), &[])]
    #[case("hammer 812, anvil: 648", None, &["hammer", "anvil"])]
    #[case("hammer 8,5,anvil 648", None, &["hammer", "anvil"])]
    #[case("fps=61; low fps=48", None, &[])]
    #[case(" , ", None, &[])]
    fn figures_are_typed_with_their_names(
        #[case] text: &str,
        #[case] score: Option<f64>,
        #[case] names: &[&str],
    ) {
        let told = Told::parse(text).unwrap();
        assert_eq!(told.score, score);
        assert_eq!(told.sub_scores.iter().map(|one| one.name.as_str()).collect::<Vec<_>>(), names);
        assert_eq!(
            told.average_fps.zip(told.low_fps),
            text.contains("fps").then_some((61.0, 48.0))
        );
    }

    #[rstest]
    #[case("fast")]
    #[case("hammer")]
    #[case("hammer 0")]
    #[case("-3")]
    #[case("score inf")]
    #[case("12, x NaN")]
    #[case("8120 8130")]
    fn what_is_no_number_above_zero_is_refused_and_named(#[case] text: &str) {
        let error = Told::parse(text).unwrap_err().to_string();
        assert!(error.contains("is not a figure: type a number above 0"), "{error}");
    }

    #[test]
    fn more_sub_scores_than_are_kept_are_refused_and_not_cut() {
        let many: Vec<String> = (0..=MOST_SUB_SCORES).map(|n| format!("part{n} 1")).collect();
        assert_eq!(Told::parse(&many.join(",")), Err(ToldError::TooMany(MOST_SUB_SCORES + 1)));
        assert_eq!(Told::parse(&many[1..].join(",")).unwrap().sub_scores.len(), MOST_SUB_SCORES);
    }

    #[test]
    fn a_run_is_judged_by_its_score_else_by_its_sub_scores_else_by_its_frames() {
        let mut told = Told::default();
        assert_eq!(told.score(), None);
        told.note(&FigureName::AverageFps, 61.0);
        assert_eq!(told.score(), Some(61.0));
        told.sub_scores = sub_scores(&[100.0, 400.0]).sub_scores;
        assert!((told.score().unwrap() - 200.0).abs() < 1e-9, "their geometric mean");
        told.note(&FigureName::Score, 7.0);
        assert_eq!(told.score(), Some(7.0));
    }

    #[test]
    fn passes_come_to_the_median_of_each_figure_and_runs_to_its_noise() {
        let passes = [sub_scores(&[90.0, 50.0]), sub_scores(&[100.0, 52.0]), sub_scores(&[110.0])];
        assert_eq!(Told::median(&passes), sub_scores(&[100.0, 51.0]));
        let baselines = sub_score_baselines(&passes);
        assert_eq!((baselines[0].name.as_str(), baselines[0].value), ("hammer", 100.0));
        assert!((baselines[0].noise.unwrap().value() - 10.0).abs() < 1e-9);
        assert_eq!(sub_score_baselines(&passes[..1])[0].noise, None);
    }

    #[test]
    fn what_is_told_again_replaces_what_was_told_before() {
        let mut told = sub_scores(&[1.0, 2.0]);
        told.note(&FigureName::from("hammer"), 3.0);
        told.note(&FigureName::from("anvil"), f64::NAN);
        assert_eq!(told, sub_scores(&[3.0, 2.0]));
    }
}
