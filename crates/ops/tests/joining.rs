//! Random takes put together on one timeline and cut apart again: each moves as it did.

use nimble_curve_ops::clips::{JoinError, JoinOptions, cut, join};
use nimble_curve_scene::scene::{Scene, Take};
use nimble_curve_testing::RATE;
use nimble_curve_testing::motion::{Within, alike, between, cases};
use nimble_curve_testing::refusals::Refusals;
use nimble_curve_testing::scenes::{Contents, any_scene};
use proptest::prelude::*;

use crate::THOUSANDTH;

fn options(gap: u32) -> JoinOptions {
    JoinOptions { name: "all".into(), gap, start: None, go_on: false, tolerance: THOUSANDTH }
}

fn has_samples(scene: &Scene) -> bool {
    let tracks = scene.takes.iter().flat_map(Take::tracks);
    tracks.map(|(_, track)| &track.controller).any(|controller| controller.samples().is_some())
}

/// Joins all takes, looks at each in its place, and cuts it out again.
fn joined_and_cut(scene: &Scene, gap: u32) -> Result<(), TestCaseError> {
    // Random layers of one name often mix unlike, or hold controllers that do not go together.
    static CASES: Refusals = Refusals::at_most(0.4);
    CASES.begin();
    let joined = match join(std::slice::from_ref(scene), &options(gap)) {
        // Said, with the channel or the layer.
        Err(JoinError::Cannot { .. } | JoinError::Nothing) => return CASES.refused(),
        Err(error) => return Err(TestCaseError::fail(error.to_string())),
        Ok((joined, _)) => joined,
    };
    let all = &joined.takes[0];
    let times = between(0, 40);
    let mut clips = all.clips.iter().filter(|clip| scene.takes.iter().any(|take| take.name == clip.name));
    for take in &scene.takes {
        // A take without anything in its range has nothing to give.
        let Some(clip) = clips.next().filter(|clip| clip.name == take.name) else { return CASES.refused() };
        let by = (clip.range.first - take.range.first).as_f64();
        let later: Vec<f64> = times.iter().map(|time| time + by).collect();
        alike((scene, take, &times), (&joined, all, &later), Within::thousandths(2.02))?;
        let start = RATE.frame(take.range.first);
        let (apart, _) = cut(&joined, all, clip, Some(start), THOUSANDTH).unwrap();
        alike((scene, take, &times), (&apart, &apart.takes[0], &times), Within::thousandths(3.03))?;
    }
    Ok(())
}

proptest! {
    #![proptest_config(cases(60))]

    #[test]
    fn joined_takes_of_one_layer_move_as_each_did(
        scene in any_scene(Contents { outside: true, ..Contents::SIMPLE }), gap in 0..4_u32,
    ) {
        joined_and_cut(&scene, gap)?;
    }

    #[test]
    fn joined_takes_of_several_layers_move_as_each_did(
        // How much of a rotation a part of it is depends on how far round it came, which a cut forgets.
        scene in any_scene(Contents { layers: 3, ..Contents::SIMPLE }), gap in 0..4_u32,
    ) {
        joined_and_cut(&scene, gap)?;
    }

    #[test]
    fn joined_takes_of_any_controllers_move_as_each_did(
        scene in any_scene(Contents { all_controllers: true, ..Contents::SIMPLE }), gap in 0..4_u32,
    ) {
        // What was sampled is held to its samples.
        if !has_samples(&scene) {
            joined_and_cut(&scene, gap)?;
        }
    }
}
