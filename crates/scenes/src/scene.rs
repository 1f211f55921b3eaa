//! The scenes and what each asks of a card.

use std::fmt;
use std::str::FromStr;

use yard_step_core::{Demand, Frame, Percent};

use crate::lantern;

/// Pixels in a row of a checked frame.
pub const FRAME_WIDTH: usize = 128;
/// Rows of a checked frame.
pub const FRAME_HEIGHT: usize = 72;
/// Frames in one pass; after it, a scene begins again.
pub const PASS_FRAMES: u64 = 480;
/// Work units in one frame. A score is work units per second.
pub const WORK_PER_FRAME: f64 = 50.0;

/// A stress scene.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Scene {
    /// Paper lanterns rising over a lake: a game-like mix of core and memory work.
    Lantern,
}

/// A scene's name that is none.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct UnknownScene(String);

impl fmt::Display for UnknownScene {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let names: Vec<&str> = Scene::ALL.iter().map(|scene| scene.name()).collect();
        write!(f, "there is no scene \"{}\"; there are: {}", self.0, names.join(", "))
    }
}

impl std::error::Error for UnknownScene {}

impl FromStr for Scene {
    type Err = UnknownScene;

    fn from_str(name: &str) -> Result<Self, UnknownScene> {
        Self::ALL
            .into_iter()
            .find(|scene| scene.name() == name)
            .ok_or_else(|| UnknownScene(name.to_owned()))
    }
}

impl Scene {
    /// Every scene.
    pub const ALL: [Self; 1] = [Self::Lantern];

    /// The scene's name.
    #[must_use]
    pub const fn name(self) -> &'static str {
        match self {
            Self::Lantern => "lantern",
        }
    }

    /// Draws frame `number` into `canvas`, at the canvas' size.
    pub fn draw(self, number: u64, canvas: &mut Frame) {
        match self {
            Self::Lantern => lantern::draw(number % PASS_FRAMES, canvas),
        }
    }

    /// What frame `number` asks of a card.
    #[must_use]
    pub fn demand(self, number: u64) -> Demand {
        match self {
            Self::Lantern => Demand {
                activity: lantern::activity(number % PASS_FRAMES),
                memory_share: 0.2,
                work_per_frame: WORK_PER_FRAME,
                load: Percent(99.0),
                geometry: 0.5,
                traffic: 0.5,
            },
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn drawn(number: u64, width: usize, height: usize) -> Frame {
        let mut frame = Frame::black(width, height);
        Scene::Lantern.draw(number, &mut frame);
        frame
    }

    #[rstest]
    fn a_frame_is_a_pure_function_of_its_number_and_repeats_after_a_pass() {
        assert_eq!(drawn(17, 128, 72), drawn(17, 128, 72));
        assert_eq!(drawn(17, 128, 72), drawn(17 + PASS_FRAMES, 128, 72));
    }

    #[rstest]
    fn the_picture_moves_from_frame_to_frame() {
        for number in (0..PASS_FRAMES).step_by(16) {
            assert_ne!(drawn(number, 128, 72), drawn(number + 1, 128, 72), "frame {number}");
        }
    }

    /// The bits themselves, so that a change of a scene cannot pass unseen: recorded references
    /// and other processors must agree with them for ever.
    #[rstest]
    #[case(0, 128, 72, 0x4678_f218_6e75_8833)]
    #[case(123, 128, 72, 0x6b18_fb10_d54f_93fe)]
    #[case(479, 64, 36, 0x9ec1_acc5_139a_2b48)]
    fn the_bits_of_a_frame_are_fixed(
        #[case] number: u64,
        #[case] width: usize,
        #[case] height: usize,
        #[case] digest: u64,
    ) {
        // FNV-1a, 64 bit (RFC 9923).
        let found = drawn(number, width, height)
            .pixels
            .iter()
            .flat_map(|p| p.to_le_bytes())
            .fold(0xcbf2_9ce4_8422_2325_u64, |hash, byte| {
                (hash ^ u64::from(byte)).wrapping_mul(0x0100_0000_01b3)
            });
        assert_eq!(found, digest, "{found:#x}");
    }

    #[rstest]
    #[case(0, 0)]
    #[case(1, 1)]
    #[case(3, 200)]
    fn any_size_can_be_drawn(#[case] width: usize, #[case] height: usize) {
        assert_eq!(drawn(5, width, height).pixels.len(), width * height);
    }

    #[rstest]
    fn an_unknown_scene_is_told_with_the_known_ones() {
        assert_eq!("lantern".parse(), Ok(Scene::Lantern));
        let error = "candle".parse::<Scene>().unwrap_err().to_string();
        assert_eq!(error, "there is no scene \"candle\"; there are: lantern");
    }
}
