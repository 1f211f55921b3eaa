//! The scenes on the software Vulkan driver: the processor's bits, and what is found when one of them is turned over.
#![allow(clippy::unwrap_used, clippy::panic, missing_docs)]

use rstest::rstest;
use yard_step_core::Frame;
use yard_step_gpu::{AdapterChoice, Canvas, ENLARGED, FrameOrder, GpuAdapter, GpuRun};
use yard_step_scenes::{FrameSize, Scene, SizedScene};

/// Every scene but the medley, which is made of the others.
const SCENES: [Scene; 6] =
    [Scene::Kiln, Scene::Sluice, Scene::Loom, Scene::Lantern, Scene::Doldrums, Scene::Squall];

fn canvas(size: FrameSize) -> Canvas {
    let card = GpuAdapter::open(&AdapterChoice::Software).unwrap_or_else(|error| panic!("{error}"));
    Canvas::new(card, size).unwrap()
}

/// A frame as the processor draws it.
fn expected(scene: Scene, number: u64, size: FrameSize) -> Frame {
    let mut frame = Frame::black(size.width * ENLARGED, size.height * ENLARGED);
    scene.draw(number, &mut frame);
    frame
}

#[rstest]
fn every_scene_and_size_has_the_bits_of_the_processor(
    #[values(0, 1, 2, 3)] size: usize,
    #[values(0, 1, 2, 3, 4, 5)] scene: usize,
) {
    let (size, scene) = (FrameSize::ALL[size], SCENES[scene]);
    let mut canvas = canvas(size);
    // A gust and a calm frame of the squall.
    for number in [7, 251].into_iter().take(if size == FrameSize::ALL[0] { 2 } else { 1 }) {
        canvas.begin(FrameOrder { scene, number, size, rounds: 1, turns_memory: false }).unwrap();
        let counts = canvas.finish().unwrap();
        let drawn = canvas.frame().unwrap();
        let expected = expected(scene, number, size);
        assert_eq!((drawn.width, drawn.height), (expected.width, expected.height));
        let wrong = drawn.pixels.iter().zip(&expected.pixels).filter(|(a, b)| a != b).count();
        assert_eq!(wrong, 0, "{} frame {number} at {size}", scene.name());
        assert_eq!((counts.wrong_pixels, counts.wrong_words), (0, 0));
    }
}

#[rstest]
fn one_bit_that_is_turned_over_is_found_in_every_scene(#[values(0, 1, 2, 3, 4, 5)] scene: usize) {
    let (size, scene) = (FrameSize::ALL[0], SCENES[scene]);
    let mut canvas = canvas(size);
    canvas.begin(FrameOrder { scene, number: 40, size, rounds: 2, turns_memory: false }).unwrap();
    assert_eq!(canvas.finish().unwrap().wrong_pixels, 0);
    for (pixel, bit) in [(0, 0), (77_123, 23), (960 * 540 - 1, 11)] {
        canvas.spoil(pixel, bit).unwrap();
        assert_eq!(canvas.verify_again(scene).unwrap(), 1, "bit {bit} of pixel {pixel}");
        canvas.spoil(pixel, bit).unwrap();
        assert_eq!(canvas.verify_again(scene).unwrap(), 0, "it is right again");
    }
}

#[test]
fn a_word_of_memory_that_has_changed_is_counted_once() {
    let size = FrameSize::ALL[0];
    let mut canvas = canvas(size);
    assert_eq!(canvas.take_memory(100 << 20), 64 << 20, "whole chunks of it");
    let order = FrameOrder { scene: Scene::Sluice, number: 3, size, rounds: 1, turns_memory: true };
    let words = |spoil: bool, canvas: &mut Canvas| -> u32 {
        if spoil {
            canvas.spoil_memory(1_234_567);
        }
        canvas.begin(order).unwrap();
        canvas.finish().unwrap().wrong_words
    };
    let told: Vec<u32> =
        [false, false, true, false].into_iter().map(|spoil| words(spoil, &mut canvas)).collect();
    assert_eq!(told, [0, 0, 1, 0]);
}

#[test]
fn frames_come_in_order_and_a_run_can_begin_anew() {
    let scene = SizedScene::from(Scene::Doldrums);
    let mut run = GpuRun::open(&AdapterChoice::Software, scene, 0, None).unwrap();
    for _ in 0..2 {
        for number in 0..5 {
            let frame = run.next_frame().unwrap();
            assert_eq!((frame.number, frame.wrong_pixels, frame.drawn), (number, 0, None));
        }
        run.rewind().unwrap();
    }
    assert_eq!(run.next_frame().unwrap().number, 0);
}

#[test]
fn a_card_with_a_clock_tells_how_long_it_worked_on_a_frame() {
    let mut canvas = canvas(FrameSize::ALL[0]);
    let (scene, size) = (Scene::Kiln, FrameSize::ALL[0]);
    canvas.begin(FrameOrder { scene, number: 9, size, rounds: 1, turns_memory: false }).unwrap();
    // The software driver has one.
    assert!(canvas.finish().unwrap().nanoseconds.is_some_and(|busy| busy > 0));
}
