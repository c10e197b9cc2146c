//! Scenes of any content: what is written comes back.

use std::path::Path;

use nimble_curve_core::controller::{Controller, Procedural, Samples};
use nimble_curve_core::scene::Scene;
use nimble_curve_formats::{Format, FormatError, Saving, encode};
use nimble_curve_testing::scenes::{Contents, any_scene};
use proptest::prelude::*;
use proptest::sample::select;

use crate::common::through;

/// The first part of two scenes that differs, in a few lines.
fn difference(a: &Scene, b: &Scene) -> String {
    let (a, b) = (format!("{a:#?}"), format!("{b:#?}"));
    let (a, b): (Vec<&str>, Vec<&str>) = (a.lines().collect(), b.lines().collect());
    let at = a.iter().zip(&b).position(|(a, b)| a != b).unwrap_or(a.len().min(b.len()));
    let from = at.saturating_sub(6);
    let part = |lines: &[&str]| lines[from.min(lines.len())..(at + 3).min(lines.len())].join("\n");
    format!("written:\n{}\ncame back:\n{}", part(&a), part(&b))
}

/// All samples of a controller, those within it, too.
fn samples_of<'a>(controller: &'a mut Controller, all: &mut Vec<&'a mut Samples>) {
    match controller {
        Controller::Samples(samples) => all.push(samples),
        Controller::Stack(entries) => {
            entries.iter_mut().for_each(|entry| samples_of(&mut entry.controller, all))
        }
        Controller::Procedural(Procedural { sampled: Some(sampled), .. }) => samples_of(sampled, all),
        _ => {}
    }
}

/// Samples that came back in single precision, where they did, with the digits that they had.
fn with_digits_of(source: &Scene, mut back: Scene) -> Scene {
    let mut source = source.clone();
    let mut all: [Vec<&mut Samples>; 2] = [Vec::new(), Vec::new()];
    for (scene, all) in [&mut source, &mut back].into_iter().zip(&mut all) {
        let layers = scene.takes.iter_mut().flat_map(|take| &mut take.layers);
        layers.flat_map(|layer| &mut layer.tracks).for_each(|track| samples_of(&mut track.controller, all));
    }
    let [source, back_samples] = all;
    for (source, back) in source.into_iter().zip(back_samples) {
        let near = |(a, b): (&f64, &f64)| (a - b).abs() <= 1e-6 * (1.0 + a.abs());
        if source.values.len() == back.values.len() && source.values.iter().zip(&back.values).all(near) {
            back.values.clone_from(&source.values);
        }
    }
    back
}

/// Few cases of much each: a failing one is shown as it is.
fn cases(cases: u32) -> ProptestConfig {
    ProptestConfig { cases, max_shrink_iters: 0, failure_persistence: None, ..ProptestConfig::default() }
}

proptest! {
    #![proptest_config(cases(60))]

    #[test]
    fn our_own_format_holds_every_scene(scene in any_scene(Contents::ALL)) {
        let back = through(&scene, Format::Ncurve, false);
        prop_assert!(back == scene, "{}", difference(&scene, &back));
    }
}

proptest! {
    #![proptest_config(cases(16))]

    #[test]
    fn extra_data_brings_every_scene_back(
        scene in any_scene(Contents::ALL),
        format in select(vec![Format::Glb, Format::Gltf, Format::Collada, Format::Usda, Format::Usdc, Format::Usdz]),
    ) {
        match encode(&scene, format, Path::new("x"), &Saving::default()) {
            Ok(_) => {
                let back = with_digits_of(&scene, through(&scene, format, false));
                prop_assert!(back == scene, "{format:?}: {}", difference(&scene, &back));
            }
            Err(FormatError::CannotHold { message, .. }) => prop_assert!(message.contains("layer"), "{message}"),
            Err(error) => prop_assert!(false, "{format:?}: {error}"),
        }
    }
}
