//! How well the classifier names what it sees, on frames that stand-ins have spoilt: they say what
//! they did, the classifier is not told.
#![allow(clippy::unwrap_used, clippy::panic, missing_docs)]

use std::collections::BTreeMap;
use yard_step_card::{Blemish, Incident};
use yard_step_core::{
    Artifact, ArtifactKind, ArtifactLog, Domain, Frame, Seconds, suggested_domain,
};
use yard_step_scenes::{FRAME_HEIGHT, FRAME_WIDTH, Scene, look_at, reference};

const SIZE: (usize, usize) = (FRAME_WIDTH, FRAME_HEIGHT);

/// One fault over the frames it lasted, with what was made of it.
struct Shown {
    incident: Incident,
    spoilt: u32,
    found: u32,
    log: ArtifactLog,
}

fn shown(seed: u64, domain: Domain, past: f64) -> Shown {
    let scene = Scene::ALL[seed as usize % Scene::ALL.len()];
    let mut incident = Incident::seeded(seed, domain, past, SIZE);
    let (mut spoilt, mut found, mut log) = (0, 0, ArtifactLog::default());
    for number in seed.. {
        if incident.is_over() {
            break;
        }
        let mut frame: Frame = (*reference(scene, number)).clone();
        incident.spoil(&mut frame);
        let looked = look_at(scene, number, Some(&frame), Seconds(0.0));
        spoilt += u32::from(frame != *reference(scene, number));
        found += u32::from(looked.wrong_pixels > 0 && !looked.artifacts.is_empty());
        log.push(number, &looked.artifacts);
    }
    Shown { incident, spoilt, found, log }
}

/// Faults of both domains: from one blemish, at the edge, to five, far past it.
fn labelled_set() -> Vec<Shown> {
    (0..1_200)
        .map(|seed| {
            let domain = if seed % 2 == 0 { Domain::Core } else { Domain::Memory };
            shown(seed, domain, (seed % 5) as f64 * 3.0)
        })
        .collect()
}

fn is_found(blemish: &Blemish, artifacts: &[Artifact]) -> bool {
    artifacts
        .iter()
        .any(|artifact| artifact.kind == blemish.kind && artifact.area.overlap(blemish.area) > 0.0)
}

fn percent(part: usize, whole: usize) -> f64 {
    100.0 * part as f64 / whole.max(1) as f64
}

#[test]
fn on_the_labelled_set_no_spoilt_frame_is_missed_and_kind_and_domain_are_mostly_right() {
    let set = labelled_set();
    let spoilt: u32 = set.iter().map(|shown| shown.spoilt).sum();
    let found: u32 = set.iter().map(|shown| shown.found).sum();

    let (mut by_kind, mut right_hint) = (BTreeMap::new(), 0);
    let (mut labels, mut named, mut made, mut true_ones) = (0, 0, 0, 0);
    for Shown { incident, log, .. } in &set {
        let artifacts = log.artifacts();
        for blemish in incident.blemishes() {
            let hit = is_found(blemish, artifacts);
            let kind: &mut (usize, usize) = by_kind.entry(blemish.kind.label()).or_default();
            *kind = (kind.0 + usize::from(hit), kind.1 + 1);
            named += usize::from(hit);
            labels += 1;
        }
        for artifact in artifacts {
            true_ones += usize::from(incident.blemishes().iter().any(|blemish| {
                blemish.kind == artifact.kind && blemish.area.overlap(artifact.area) > 0.0
            }));
            made += 1;
        }
        let hint = suggested_domain(artifacts).map(|(domain, _)| domain);
        right_hint += usize::from(hint == Some(incident.domain()));
    }
    let single: Vec<&Shown> = set.iter().filter(|s| s.incident.blemishes().len() == 1).collect();
    let counted = single.iter().filter(|shown| shown.log.artifacts().len() == 1).count();
    let (recall, precision) = (percent(named, labels), percent(true_ones, made));
    let hint = percent(right_hint, set.len());

    println!("{} faults, {labels} blemishes, {spoilt} spoilt frames", set.len());
    println!("spoilt frames found:          {:6.2} %", percent(found as usize, spoilt as usize));
    println!("blemishes named (recall):     {recall:6.2} %");
    println!("artifacts that were there (precision): {precision:6.2} %");
    println!("right count, of single blemishes: {:6.2} %", percent(counted, single.len()));
    for (kind, (hits, all)) in &by_kind {
        println!("  {kind:<12} named {:6.2} % of {all}", percent(*hits, *all));
    }
    println!("right domain suggested:       {hint:6.2} %");

    assert_eq!(found, spoilt, "a spoilt frame was missed");
    assert!(recall >= 75.0 && precision >= 85.0, "{recall} {precision}");
    assert!(percent(counted, single.len()) >= 95.0);
    assert!(hint >= 90.0, "{hint}");
}

#[test]
fn the_faintest_of_all_is_found_wherever_it_is() {
    for scene in Scene::ALL {
        for seed in 0..200_u64 {
            let place = (seed as usize * 7_919) % (SIZE.0 * SIZE.1);
            let mut frame = (*reference(scene, seed)).clone();
            frame.pixels[place] ^= 1 << (seed % 24);
            let looked = look_at(scene, seed, Some(&frame), Seconds(0.0));
            assert_eq!((looked.wrong_pixels, looked.artifacts.len()), (1, 1));
            let artifact = &looked.artifacts[0];
            assert_eq!((artifact.kind, artifact.hint), (ArtifactKind::Speckle, Domain::Memory));
            let (x, y) = (artifact.area.x as usize, artifact.area.y as usize);
            assert_eq!(y * SIZE.0 + x, place);
        }
    }
}

#[test]
fn a_clean_frame_has_no_artifact() {
    for scene in Scene::ALL {
        for number in 0..100 {
            let looked = look_at(scene, number, Some(&reference(scene, number)), Seconds(0.0));
            assert!(looked.wrong_pixels == 0 && looked.artifacts.is_empty());
        }
    }
}
