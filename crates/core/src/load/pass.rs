//! The score of a short pass: work and frame rates, as a whole and section by section.

use serde::{Deserialize, Serialize};

use crate::statistics::quantile;
use crate::units::Seconds;

/// Frame rates of one section of a pass.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct SectionScore {
    /// Name of the section.
    pub name: String,
    /// When it began, from the beginning of the pass.
    #[serde(rename = "at_s")]
    pub at: Seconds,
    /// Frames in it.
    pub frames: u64,
    /// Frames a second over all of it.
    pub average_fps: f64,
    /// Frame rate below which one frame in a hundred lies (see [`PassScore::low_fps`]).
    pub low_fps: f64,
}

/// What a pass came to.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct PassScore {
    /// Work units a second: the score.
    pub score: f64,
    /// How long it took.
    #[serde(rename = "seconds")]
    pub length: Seconds,
    /// Frames drawn.
    pub frames: u64,
    /// Frames a second: frames by time, which is the harmonic mean of the single rates.
    pub average_fps: f64,
    /// The 1 % low: frame rate of the frame time that one frame in a hundred exceeds.
    pub low_fps: f64,
    /// The sections, in order.
    pub sections: Vec<SectionScore>,
}

/// Scores a pass. `finished` has for each frame its section and when it was finished, in order,
/// counted from the beginning of the pass; `work_per_frame` is in work units. `None` where no time
/// went by.
#[must_use]
pub fn score_pass(
    finished: &[(usize, Seconds)],
    names: &[&str],
    work_per_frame: f64,
) -> Option<PassScore> {
    let length = finished.last()?.1;
    if length.value() <= 0.0 {
        return None;
    }
    let mut times: Vec<Vec<f64>> = vec![Vec::new(); names.len()];
    let mut all = Vec::with_capacity(finished.len());
    let mut began = vec![Seconds(0.0); names.len()];
    let mut before = Seconds(0.0);
    for (section, at) in finished {
        let time = (*at - before).value();
        all.push(time);
        if let Some(times) = times.get_mut(*section) {
            if times.is_empty() {
                began[*section] = before;
            }
            times.push(time);
        }
        before = *at;
    }
    let sections = names
        .iter()
        .zip(&times)
        .zip(began)
        .filter(|((_, times), _)| !times.is_empty())
        .map(|((name, times), at)| SectionScore {
            name: (*name).to_owned(),
            at,
            frames: times.len() as u64,
            average_fps: average_fps(times),
            low_fps: low_fps(times),
        })
        .collect();
    Some(PassScore {
        score: finished.len() as f64 * work_per_frame / length.value(),
        length,
        frames: finished.len() as u64,
        average_fps: average_fps(&all),
        low_fps: low_fps(&all),
        sections,
    })
}

fn average_fps(times: &[f64]) -> f64 {
    let span: f64 = times.iter().sum();
    if span > 0.0 { times.len() as f64 / span } else { 0.0 }
}

fn low_fps(times: &[f64]) -> f64 {
    quantile(times, 0.99).filter(|time| *time > 0.0).map_or(0.0, |time| 1.0 / time)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[test]
    fn a_dip_has_its_place_in_a_section() {
        // Ten frames a second, but one frame in four of the second section takes three times as
        // long.
        let mut at = 0.0;
        let finished: Vec<(usize, Seconds)> = (0..200)
            .map(|frame| {
                at += if frame >= 100 && frame % 4 == 0 { 0.3 } else { 0.1 };
                (frame / 100, Seconds(at))
            })
            .collect();
        let score = score_pass(&finished, &["calm", "rough"], 50.0).unwrap();
        assert!((score.length.value() - 25.0).abs() < 1e-9);
        assert!((score.score - 400.0).abs() < 1e-9 && (score.average_fps - 8.0).abs() < 1e-9);
        let [calm, rough] = &score.sections[..] else { panic!("{score:?}") };
        assert!((calm.low_fps - 10.0).abs() < 1e-6 && (rough.low_fps - 1.0 / 0.3).abs() < 1e-6);
        assert!((rough.at.value() - 10.0).abs() < 1e-9 && rough.frames == 100);
    }

    #[rstest]
    #[case::nothing(&[])]
    #[case::no_time(&[(0, Seconds(0.0))])]
    fn what_took_no_time_has_no_score(#[case] finished: &[(usize, Seconds)]) {
        assert_eq!(score_pass(finished, &["one"], 1.0), None);
    }
}
