//! What a load and Yard Step say to each other: one JSON object a line (JSON Lines), the load on
//! its standard output, Yard Step on the load's standard input.
//!
//! ```text
//!   load ──► hello, then frame, frame, ... with a heartbeat at least once a second,
//!            a score whenever a pass is through, bye
//!   load ◄── stop; the end of the input means the same
//! ```
//!
//! A scene of ours lives on between two runs. Nobody else's load is told to:
//!
//! ```text
//!   load ◄── rest                     load ──► resting, and then nothing, not even heartbeats
//!   load ◄── begin                    load ──► hello, then frames from the first on
//! ```

use std::sync::Arc;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use serde::{Deserialize, Serialize};
use yard_step_core::{Artifact, CheckedFrame, PassScore, Patch, Seconds};

/// Version of the protocol.
pub const VERSION: u32 = 1;

/// What a load says.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "type", rename_all = "snake_case")]
pub enum FromLoad {
    /// The first line of all.
    Hello {
        /// Version of the protocol it speaks.
        protocol: u32,
        /// What it calls itself.
        name: String,
    },
    /// A frame was drawn and checked.
    Frame(FrameLine),
    /// A pass is through.
    Score(PassScore),
    /// It is alive.
    Heartbeat {
        /// Frames it has drawn so far.
        frames: u64,
    },
    /// It has left its device, and waits for its next run.
    Resting,
    /// It ends.
    Bye {
        /// Why.
        reason: Reason,
        /// The same in words, for whoever reads what came of the run.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        why: Option<String>,
    },
}

/// A checked frame, as a line.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
pub struct FrameLine {
    /// Number of the frame, from the beginning of the run.
    pub number: u64,
    /// When it was finished, seconds since the load began; none where it does not measure.
    #[serde(default)]
    pub at_s: Option<f64>,
    /// Section of the load, counted from 0.
    #[serde(default)]
    pub section: usize,
    /// Number of wrong pixels.
    #[serde(default)]
    pub wrong_pixels: u64,
    /// What they look like.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub artifacts: Vec<Artifact>,
    /// What was drawn there: the bytes of a [`Patch`] in base64 (RFC 4648).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub patch: Option<String>,
}

/// Why a load ends.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Reason {
    /// It has done what it had to.
    Done,
    /// It was told to stop.
    Stopped,
    /// It lost its device.
    DeviceLost,
    /// It cannot go on.
    Failed,
}

/// What Yard Step says.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "type", rename_all = "snake_case")]
pub enum ToLoad {
    /// End as soon as you can.
    Stop,
    /// Leave the device, and wait.
    Rest,
    /// Run from the beginning.
    Begin,
}

impl FrameLine {
    /// The line for a checked frame.
    #[must_use]
    pub fn of(frame: &CheckedFrame) -> Self {
        Self {
            number: frame.number,
            at_s: Some(frame.at.value()),
            section: frame.section,
            wrong_pixels: frame.wrong_pixels,
            artifacts: frame.artifacts.clone(),
            patch: frame.patch.as_ref().map(|patch| STANDARD.encode(patch.to_bytes())),
        }
    }

    /// The frame it tells of, which came at `now` where it does not say.
    ///
    /// # Errors
    /// What is wrong with its patch.
    pub fn checked(self, now: Seconds) -> Result<CheckedFrame, String> {
        let patch = self.patch.map(|text| {
            let bytes = STANDARD.decode(text).map_err(|error| error.to_string())?;
            Patch::from_bytes(&bytes).map(Arc::new)
        });
        let at = self.at_s.filter(|at| at.is_finite()).map_or(now, Seconds);
        Ok(CheckedFrame {
            number: self.number,
            at,
            section: self.section,
            wrong_pixels: self.wrong_pixels,
            artifacts: self.artifacts,
            patch: patch.transpose()?,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use yard_step_core::Frame;
    use yard_step_scenes::{Scene, look_at, reference};

    #[test]
    fn a_spoilt_frame_crosses_whole() {
        let mut drawn: Frame = (*reference(Scene::Squall, 33)).clone();
        drawn.pixels[500..540].fill(0x0012_3456);
        let frame = look_at(Scene::Squall, 33, Some(&drawn), Seconds(1.625));
        let line = serde_json::to_string(&FromLoad::Frame(FrameLine::of(&frame))).unwrap();
        assert!(!line.contains('\n'));
        let Ok(FromLoad::Frame(back)) = serde_json::from_str(&line) else { panic!("{line}") };
        assert_eq!(back.checked(Seconds(9.0)).unwrap(), frame);
    }

    #[rstest]
    #[case(r#"{"type":"frame","number":3}"#)]
    #[case(r#"{"type":"heartbeat","frames":0}"#)]
    #[case(r#"{"type":"bye","reason":"device_lost"}"#)]
    #[case(r#"{"type":"hello","protocol":1,"name":"mine","version":"7"}"#)]
    fn the_least_that_must_be_said_is_understood(#[case] line: &str) {
        serde_json::from_str::<FromLoad>(line).unwrap();
    }

    #[rstest]
    #[case("!!")]
    #[case("AAU=")]
    fn a_garbled_patch_is_an_error(#[case] patch: &str) {
        let line = FrameLine { patch: Some(patch.into()), ..FrameLine::default() };
        assert!(line.checked(Seconds(0.0)).is_err());
    }
}
