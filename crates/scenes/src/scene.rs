//! The scenes and what each asks of a card.
//!
//! | scene | picture | activity | memory | geometry | load |
//! |---|---|---|---|---|---|
//! | `kiln` | fire in a brick arch | highest, steady | little | little | full |
//! | `sluice` | water through gates | low | most | some | full |
//! | `loom` | cloth being woven | high | some | most | full |
//! | `lantern` | lanterns over a lake | a game-like mix, in four parts | | | full |
//! | `doldrums` | a boat without wind | light | little | some | a third, with pauses |
//! | `squall` | storm at a lighthouse | jumps between little and everything | | | by turns |
//! | `medley` | the six in turn | what each of them asks | | | |

use std::fmt;
use std::ops::Range;
use std::str::FromStr;
use std::sync::OnceLock;

use yard_step_core::{Demand, Frame, Percent};

use crate::paint::{paint, paint_rows, wave};
use crate::pass::{FrameSize, PASS_FRAMES, SECTION_FRAMES};
use crate::{doldrums, kiln, lantern, loom, sluice, squall};

/// A stress scene.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Scene {
    /// Fire in a brick arch: the most heat.
    Kiln,
    /// Water rushing through gates: memory traffic.
    Sluice,
    /// Cloth being woven: geometry.
    Loom,
    /// Paper lanterns rising over a lake: a game-like mix of core and memory work.
    Lantern,
    /// A boat without wind: light load with pauses, as in a menu.
    Doldrums,
    /// A storm at a lighthouse: sudden load changes at several periods.
    Squall,
    /// The six others in turn, a stretch of each: what holds here holds in all of them.
    Medley,
}

/// A scene's name that is none.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct UnknownScene(String);

impl fmt::Display for UnknownScene {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let names: Vec<&str> = Scene::ALL.iter().map(|scene| scene.name()).collect();
        let sizes = FrameSize::ALL.iter().filter(|size| **size != FrameSize::USUAL);
        let sizes: Vec<String> = sizes.map(|size| format!("@{size}")).collect();
        let (names, sizes) = (names.join(", "), sizes.join(", "));
        write!(f, "there is no scene \"{}\"; there are: {names}, each also with {sizes}", self.0)
    }
}

impl UnknownScene {
    pub(crate) fn named(name: &str) -> Self {
        Self(name.to_owned())
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
    pub const ALL: [Self; 7] = [
        Self::Kiln,
        Self::Sluice,
        Self::Loom,
        Self::Lantern,
        Self::Doldrums,
        Self::Squall,
        Self::Medley,
    ];

    /// The scenes a medley is made of, in its order.
    const TURNS: [Self; 6] =
        [Self::Kiln, Self::Sluice, Self::Loom, Self::Lantern, Self::Doldrums, Self::Squall];

    /// The scene's name.
    #[must_use]
    pub const fn name(self) -> &'static str {
        match self {
            Self::Kiln => "kiln",
            Self::Sluice => "sluice",
            Self::Loom => "loom",
            Self::Lantern => "lantern",
            Self::Doldrums => "doldrums",
            Self::Squall => "squall",
            Self::Medley => "medley",
        }
    }

    /// What it asks of a card, in a few words.
    #[must_use]
    pub const fn purpose(self) -> &'static str {
        match self {
            Self::Kiln => "most heat",
            Self::Sluice => "memory traffic",
            Self::Loom => "geometry",
            Self::Lantern => "a game-like mix",
            Self::Doldrums => "light load with pauses, as in a menu",
            Self::Squall => "sudden load changes",
            Self::Medley => "all six in turn",
        }
    }

    /// The sections of a pass, in order; all have the same number of frames.
    #[must_use]
    pub const fn sections(self) -> &'static [&'static str] {
        match self {
            Self::Kiln => &["kindling", "draught", "full fire", "embers"],
            Self::Sluice => &["gates shut", "gates rising", "flood", "ebb"],
            Self::Loom => &["first picks", "twill", "fast picks", "last picks"],
            Self::Lantern => &["quiet lake", "first lanterns", "full sky", "drift away"],
            Self::Doldrums => &["morning", "noon", "afternoon", "evening"],
            Self::Squall => &["slow gusts", "gusts", "fast gusts", "gusts by chance"],
            Self::Medley => &["kiln", "sluice", "loom", "lantern", "doldrums", "squall"],
        }
    }

    /// The section that frame `number` lies in: its place among the [`sections`](Self::sections).
    #[must_use]
    pub const fn section(self, number: u64) -> usize {
        let frames = PASS_FRAMES / self.sections().len() as u64;
        (number % PASS_FRAMES / frames) as usize
    }

    /// The scene and the frame of it that frame `number` shows: itself, but for a medley, which
    /// goes on with each scene where it left it.
    #[must_use]
    pub fn shown(self, number: u64) -> (Self, u64) {
        if self != Self::Medley {
            return (self, number % PASS_FRAMES);
        }
        // A turn shows a stretch of every section of its scene, so that all passes are alike.
        let turn = PASS_FRAMES / Self::TURNS.len() as u64;
        let stretch = turn * SECTION_FRAMES / PASS_FRAMES;
        let (pass, place) = (number / PASS_FRAMES, number % PASS_FRAMES);
        let scene = Self::TURNS[(place / turn) as usize];
        // Every other frame: three passes show all of a scene once, six every frame of it.
        let (section, within) = (place % turn / stretch, place % stretch);
        let frame = (pass * stretch + within) * 2 + pass / 3 % 2;
        (scene, section * SECTION_FRAMES + frame % SECTION_FRAMES)
    }

    /// Whether frame `number` of a squall asks for everything that the card has.
    #[must_use]
    pub fn is_gust(self, number: u64) -> bool {
        let (scene, number) = self.shown(number);
        scene == Self::Squall && squall::is_gust(number)
    }

    /// Whether frame `number` asks for little but waiting.
    #[must_use]
    pub fn is_calm(self, number: u64) -> bool {
        let (scene, number) = self.shown(number);
        match scene {
            Self::Squall => !squall::is_gust(number),
            Self::Doldrums => doldrums::is_pause(number),
            _ => false,
        }
    }

    /// Work units that frame `number` stands for in a score: as many as the card would do on
    /// average in the time that the frame takes it. A frame that leaves the card idle takes long for
    /// little work; counted like this, a run scores the same whichever frames it happened to have.
    #[must_use]
    pub fn weight(self, number: u64) -> f64 {
        static MEANS: [OnceLock<f64>; Scene::ALL.len()] =
            [const { OnceLock::new() }; Scene::ALL.len()];
        let nominal = |number| {
            let demand = self.demand(number);
            demand.work_per_frame / demand.load.value()
        };
        let mean = MEANS[self as usize]
            .get_or_init(|| (0..self.period()).map(nominal).sum::<f64>() / self.period() as f64);
        self.work_per_frame() * nominal(number) / mean
    }

    /// Frames after which everything repeats: a pass, and of a medley one for each of its scenes.
    #[must_use]
    pub fn period(self) -> u64 {
        if self == Self::Medley { PASS_FRAMES * Self::TURNS.len() as u64 } else { PASS_FRAMES }
    }

    /// Work units in one frame, on average over a pass. A score is work units per second.
    #[must_use]
    pub const fn work_per_frame(self) -> f64 {
        match self {
            Self::Kiln => 60.0,
            Self::Sluice => 40.0,
            Self::Loom | Self::Lantern | Self::Squall => 50.0,
            Self::Doldrums => 20.0,
            // The mean of the six.
            Self::Medley => 45.0,
        }
    }

    /// Share of the time in which the scene has work for the card, averaged over time.
    #[must_use]
    pub fn mean_load(self) -> Percent {
        self.load_of(0..self.period())
    }

    /// The same of these frames alone. A short run of a scene that has pauses may have met more of
    /// them, or fewer, than the scene has on average.
    #[must_use]
    pub fn load_of(self, frames: Range<u64>) -> Percent {
        let spans = frames.take(self.period() as usize).map(|number| {
            // A frame takes the longer the smaller its share of the card is.
            let demand = self.demand(number);
            let span = demand.work_per_frame / demand.load.value();
            (span, span * demand.load.value())
        });
        let (time, load) = spans.fold((0.0, 0.0), |sum, (t, l)| (sum.0 + t, sum.1 + l));
        Percent(if time > 0.0 { load / time } else { 0.0 })
    }

    /// Draws frame `number` into `canvas`, at the canvas' size.
    pub fn draw(self, number: u64, canvas: &mut Frame) {
        let (scene, number) = self.shown(number);
        match scene {
            Self::Kiln => paint(canvas, kiln::picture(number)),
            Self::Sluice => paint(canvas, sluice::picture(number)),
            Self::Loom => paint(canvas, loom::picture(number)),
            Self::Lantern => {
                let lake = lantern::Lake::at(number);
                paint_rows(canvas, |y, places, row| lake.fill(y, places, row));
            }
            Self::Doldrums => paint(canvas, doldrums::picture(number)),
            Self::Squall => paint(canvas, squall::picture(number)),
            Self::Medley => {}
        }
    }

    /// What frame `number` asks of a card.
    #[must_use]
    pub fn demand(self, number: u64) -> Demand {
        let (scene, number) = self.shown(number);
        let (activity, memory_share, geometry, traffic) = scene.mix();
        let mut demand = Demand {
            activity: activity[scene.section(number)] + swell(number),
            memory_share,
            work_per_frame: scene.work_per_frame(),
            load: Percent(99.0),
            geometry,
            traffic,
        };
        match scene {
            Self::Doldrums if doldrums::is_pause(number) => demand.load = Percent(9.0),
            Self::Doldrums => demand.load = Percent(42.0),
            Self::Squall if !squall::is_gust(number) => demand.load = Percent(30.0),
            _ => {}
        }
        demand
    }

    /// Activity in each section, share of memory work, geometry and traffic.
    const fn mix(self) -> ([f64; 4], f64, f64, f64) {
        match self {
            Self::Kiln => ([1.02, 1.06, 1.1, 1.04], 0.08, 0.35, 0.2),
            Self::Sluice => ([0.66, 0.7, 0.76, 0.68], 0.62, 0.3, 1.0),
            Self::Loom => ([0.9, 0.94, 0.96, 0.92], 0.14, 1.0, 0.35),
            Self::Lantern => ([0.93, 0.97, 1.0, 0.95], 0.2, 0.5, 0.5),
            Self::Doldrums => ([0.7, 0.74, 0.72, 0.7], 0.15, 0.6, 0.3),
            Self::Squall | Self::Medley => ([0.98, 1.0, 1.0, 1.0], 0.2, 0.7, 0.5),
        }
    }
}

/// A slow swell of the activity inside each section: most in its middle.
fn swell(number: u64) -> f64 {
    let place = (number % SECTION_FRAMES) as i32;
    0.03 * f64::from(wave(place, SECTION_FRAMES as i32)) / 256.0 - 0.02
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn drawn(scene: Scene, number: u64, width: usize, height: usize) -> Frame {
        let mut frame = Frame::black(width, height);
        scene.draw(number, &mut frame);
        frame
    }

    /// FNV-1a over the pixels of some frames of a scene.
    fn digest(scene: Scene) -> u64 {
        let frames = (0..PASS_FRAMES).step_by(37).map(|number| drawn(scene, number, 128, 72));
        let pixels = frames.flat_map(|frame| frame.pixels);
        pixels.fold(0xcbf2_9ce4_8422_2325, |hash, pixel| {
            (hash ^ u64::from(pixel)).wrapping_mul(0x0100_0000_01b3)
        })
    }

    /// Cards are held to the bit, wherever and with whatever they draw: a scene that is painted in
    /// another way must come to the same pixels.
    #[rstest]
    #[case(Scene::Kiln, 0x1c4c_6bf5_df83_4ac4)]
    #[case(Scene::Sluice, 0xcace_b947_8221_5ae1)]
    #[case(Scene::Loom, 0x937a_fdf5_bdc6_0f04)]
    #[case(Scene::Lantern, 0x7c3d_1d59_566c_da4b)]
    #[case(Scene::Doldrums, 0x8326_c1a2_191e_ce3d)]
    #[case(Scene::Squall, 0x5f69_51ff_a5bd_d56c)]
    #[case(Scene::Medley, 0x027f_f5f1_0efb_f5ea)]
    fn a_scene_keeps_its_pixels(#[case] scene: Scene, #[case] pixels: u64) {
        assert_eq!(digest(scene), pixels, "{:#x}", digest(scene));
    }

    #[test]
    fn a_frame_is_a_pure_function_of_its_number_and_repeats_after_a_pass() {
        for scene in Scene::ALL {
            assert_eq!(drawn(scene, 17, 128, 72), drawn(scene, 17, 128, 72));
            assert_eq!(drawn(scene, 17, 128, 72), drawn(scene, 17 + scene.period(), 128, 72));
        }
    }

    #[test]
    fn the_picture_moves_from_frame_to_frame_and_over_the_end_of_a_pass_without_a_jump() {
        for scene in Scene::TURNS {
            let apart = |a: u64, b: u64| {
                let (a, b) = (drawn(scene, a, 64, 36), drawn(scene, b, 64, 36));
                a.pixels.iter().zip(&b.pixels).filter(|(a, b)| a != b).count()
            };
            for number in (0..PASS_FRAMES).step_by(48) {
                assert!(apart(number, number + 1) > 0, "{} {number}", scene.name());
            }
            let usual = (1..9).map(|step| apart(step * 48, step * 48 + 1)).max().unwrap();
            let found = apart(479, 480);
            assert!(found <= usual * 5 / 4 + 20, "{}: {found} {usual}", scene.name());
        }
    }

    /// The bits themselves, so that a change of a scene cannot pass unseen: recorded references
    /// and other processors must agree with them for ever.
    #[rstest]
    #[case(Scene::Lantern, 0, 128, 72, 0x4678_f218_6e75_8833)]
    #[case(Scene::Lantern, 123, 128, 72, 0x6b18_fb10_d54f_93fe)]
    #[case(Scene::Lantern, 479, 64, 36, 0x9ec1_acc5_139a_2b48)]
    #[case(Scene::Kiln, 0, 128, 72, 0x1108_5eb2_8ba0_dd94)]
    #[case(Scene::Kiln, 311, 64, 36, 0x826b_4ba2_5e5f_e6a7)]
    #[case(Scene::Sluice, 0, 128, 72, 0xadff_e36a_49c3_8550)]
    #[case(Scene::Sluice, 311, 64, 36, 0x6e51_f1f3_7b7d_d9f8)]
    #[case(Scene::Loom, 0, 128, 72, 0x6b0f_cf71_4ff3_8bd8)]
    #[case(Scene::Loom, 311, 64, 36, 0xd21d_252c_6a52_5a22)]
    #[case(Scene::Doldrums, 0, 128, 72, 0x2a0b_8b5e_fd2c_4ae6)]
    #[case(Scene::Doldrums, 311, 64, 36, 0xc65c_8dad_a847_532f)]
    #[case(Scene::Squall, 0, 128, 72, 0x9ab8_b17f_6a8d_3e09)]
    #[case(Scene::Squall, 311, 64, 36, 0x1ee3_81c4_183f_8eb6)]
    fn the_bits_of_a_frame_are_fixed(
        #[case] scene: Scene,
        #[case] number: u64,
        #[case] width: usize,
        #[case] height: usize,
        #[case] digest: u64,
    ) {
        // FNV-1a, 64 bit (RFC 9923).
        let found = drawn(scene, number, width, height)
            .pixels
            .iter()
            .flat_map(|p| p.to_le_bytes())
            .fold(0xcbf2_9ce4_8422_2325_u64, |hash, byte| {
                (hash ^ u64::from(byte)).wrapping_mul(0x0100_0000_01b3)
            });
        assert_eq!(found, digest, "{} {number}: {found:#x}", scene.name());
    }

    #[rstest]
    #[case(0, 0)]
    #[case(1, 1)]
    #[case(3, 200)]
    fn any_size_can_be_drawn(#[case] width: usize, #[case] height: usize) {
        for scene in Scene::ALL {
            assert_eq!(drawn(scene, 5, width, height).pixels.len(), width * height);
        }
    }

    #[test]
    fn every_scene_asks_for_something_of_its_own() {
        let mean = |scene: Scene, of: fn(&Demand) -> f64| {
            (0..PASS_FRAMES).map(|n| of(&scene.demand(n))).sum::<f64>() / PASS_FRAMES as f64
        };
        let most = |of: fn(&Demand) -> f64| {
            let by = |a: &Scene, b: &Scene| mean(*a, of).total_cmp(&mean(*b, of));
            Scene::ALL.into_iter().max_by(by).unwrap()
        };
        assert_eq!(most(|d| d.activity * d.load.value()), Scene::Kiln);
        assert_eq!(most(|d| d.traffic), Scene::Sluice);
        assert_eq!(most(|d| d.geometry), Scene::Loom);
        assert_eq!(most(|d| -d.load.value()), Scene::Doldrums);
    }

    #[rstest]
    #[case(Scene::Kiln, 99.0..=99.01)]
    #[case(Scene::Lantern, 99.0..=99.01)]
    #[case(Scene::Doldrums, 15.0..=30.0)]
    #[case(Scene::Squall, 40.0..=60.0)]
    fn the_load_a_scene_has_by_itself_is_known(
        #[case] scene: Scene,
        #[case] expected: std::ops::RangeInclusive<f64>,
    ) {
        assert!(expected.contains(&scene.mean_load().value()), "{:?}", scene.mean_load());
    }

    #[test]
    fn the_load_of_a_squall_changes_at_several_periods() {
        let changes = |section: u64| {
            let loads = |n: u64| Scene::Squall.demand(section * SECTION_FRAMES + n).load;
            (1..SECTION_FRAMES).filter(|n| loads(*n) != loads(n - 1)).count()
        };
        let found = [changes(0), changes(1), changes(2), changes(3)];
        assert!(found[0] == 3 && found[1] == 11 && found[2] == 39, "{found:?}");
        assert!((15..45).contains(&found[3]), "{found:?}");
    }

    #[test]
    fn a_medley_takes_turns_and_goes_on_with_each_scene_where_it_left_it() {
        let turns: Vec<_> = [0, 19, 20, 79, 80, 400, 480].map(|n| Scene::Medley.shown(n)).to_vec();
        assert_eq!(turns[..2], [(Scene::Kiln, 0), (Scene::Kiln, 38)]);
        assert_eq!(turns[2..4], [(Scene::Kiln, 120), (Scene::Kiln, 398)]);
        assert_eq!(turns[4..], [(Scene::Sluice, 0), (Scene::Squall, 0), (Scene::Kiln, 40)]);
        let whole = |scene: Scene| {
            (0..Scene::Medley.period())
                .map(|n| Scene::Medley.shown(n))
                .filter(move |s| s.0 == scene)
        };
        for scene in Scene::TURNS {
            let mut frames: Vec<u64> = whole(scene).map(|(_, frame)| frame).collect();
            frames.sort_unstable();
            assert!(frames.into_iter().eq(0..PASS_FRAMES), "{}", scene.name());
        }
        assert_eq!(Scene::Medley.section(479), 5);
        for scene in Scene::ALL {
            let weights: f64 = (0..scene.period()).map(|n| scene.weight(n)).sum();
            let work: f64 = (0..scene.period()).map(|n| scene.demand(n).work_per_frame).sum();
            assert!((weights / work - 1.0).abs() < 1e-9, "{}: {weights} of {work}", scene.name());
        }
        let work: f64 = (0..PASS_FRAMES).map(|n| Scene::Medley.demand(n).work_per_frame).sum();
        assert_eq!(work, PASS_FRAMES as f64 * Scene::Medley.work_per_frame());
    }

    #[test]
    fn the_load_of_some_frames_is_that_of_those_and_not_of_the_whole_scene() {
        let scene = Scene::Medley;
        let loads: Vec<f64> =
            (0..20).map(|turn| scene.load_of(turn * 80..turn * 80 + 80).value()).collect();
        let (least, most) =
            loads.iter().fold((100.0_f64, 0.0_f64), |(a, b), l| (a.min(*l), b.max(*l)));
        assert!(least < 30.0 && most > 98.9, "{loads:?}");
        assert_eq!(scene.load_of(0..scene.period()), scene.mean_load());
        assert_eq!(scene.load_of(7..7), Percent(0.0));
    }

    #[test]
    fn an_unknown_scene_is_told_with_the_known_ones() {
        for scene in Scene::ALL {
            assert_eq!(scene.name().parse(), Ok(scene));
        }
        let error = "candle".parse::<Scene>().unwrap_err().to_string();
        let known = "kiln, sluice, loom, lantern, doldrums, squall, medley";
        let sizes = "each also with @96x54, @160x90, @192x108";
        assert_eq!(error, format!("there is no scene \"candle\"; there are: {known}, {sizes}"));
    }
}
