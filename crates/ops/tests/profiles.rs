//! Random scenes fitted to random profiles: they hold nothing but what the profile holds, and move as before.

use nimble_curve_ops::adapt::{Capabilities, Rotations};
use nimble_curve_ops::profile::{Case, NameRules, Profile, fit};
use nimble_curve_scene::controller::Controller;
use nimble_curve_scene::ledger::Fate;
use nimble_curve_scene::rig::OpValue;
use nimble_curve_scene::scene::{Scene, Take, Track};
use nimble_curve_testing::Handles;
use nimble_curve_testing::motion::{Within, alike, between, cases, frames};
use nimble_curve_testing::scenes::{Contents, any_order, any_scene};
use proptest::prelude::*;
use proptest::sample::select as one_of;

use crate::THOUSANDTH;

fn any_names() -> impl Strategy<Value = NameRules> {
    let length = prop::option::of(3..12_usize);
    let besides_letters = prop::option::of(one_of(vec![String::new(), "_".into(), "_-.".into()]));
    let case = one_of(vec![Case::Any, Case::Lower, Case::Upper]);
    (length, besides_letters, case, any::<bool>(), any::<bool>()).prop_map(
        |(length, besides_letters, case, namespaces, unique)| NameRules {
            length,
            besides_letters,
            case,
            namespaces,
            unique,
        },
    )
}

fn any_profile() -> impl Strategy<Value = Profile> {
    let rotations = one_of(vec![Rotations::Quaternions, Rotations::Angles]);
    let holds = (any::<bool>(), rotations, any::<bool>(), any::<bool>(), any::<bool>()).prop_map(
        |(layers, rotations, weighted, outside, lists)| Capabilities {
            layers,
            rotations,
            weighted,
            outside,
            lists,
            inverses: lists,
        },
    );
    let orders = prop::collection::vec(any_order(), 0..3);
    (holds, prop::bool::weighted(0.8), orders, any_names()).prop_map(|(holds, curves, orders, names)| {
        Profile {
            name: "any".into(),
            rate: None,
            metres_per_unit: None,
            up: None,
            first_frame: None,
            holds,
            curves,
            orders,
            names,
        }
    })
}

fn rotations(scene: &Scene) -> impl Iterator<Item = &Track> {
    let tracks = scene.takes.iter().flat_map(|take| take.tracks().map(|(_, track)| track));
    tracks.filter(|track| track.target.property == "rotation")
}

fn keys_of(take: &Take) -> Vec<usize> {
    take.tracks().map(|(_, track)| track.controller.key_times(take.range).len()).collect()
}

/// What a scene has that the profile does not hold.
fn too_much(scene: &Scene, profile: &Profile) -> Option<String> {
    let Profile { holds, names, .. } = profile;
    let all = || scene.takes.iter().flat_map(|take| take.tracks().map(|(_, track)| track));
    let curves = || all().flat_map(|track| track.controller.curves().to_vec());
    if !holds.layers && scene.takes.iter().any(|take| take.layers.len() > 1) {
        return Some("layers".into());
    }
    let is_weighted = |key: &nimble_curve_curves::curve::Key| {
        key.tangent_in.length().or(key.tangent_out.length()).is_some()
    };
    if !holds.weighted && curves().any(|curve| curve.keys().iter().any(is_weighted)) {
        return Some("weighted handles".into());
    }
    if !holds.outside && curves().any(|curve| !curve.is_empty() && !curve.is_held_outside()) {
        return Some("motion outside the keys".into());
    }
    if profile.curves {
        let is_odd = |track: &&Track| match track.controller {
            Controller::Euler(_) => holds.rotations == Rotations::Quaternions,
            Controller::Quaternion(_) | Controller::Tcb(_) => holds.rotations == Rotations::Angles,
            _ => false,
        };
        if let Some(track) = rotations(scene).find(is_odd) {
            return Some(format!("rotations as {}", track.controller.type_name()));
        }
    } else if let Some(track) = all().find(|track| !track.controller.curves().is_empty()) {
        return Some(format!("a {}", track.controller.type_name()));
    }
    let mut seen = std::collections::HashSet::new();
    for node in scene.rigs.iter().flat_map(|rig| rig.nodes().map(|(_, node)| node)) {
        if let (Some(OpValue::Rotate { order, .. }), false) =
            (node.op("rotation").map(|op| op.value), profile.orders.is_empty())
            && !profile.orders.contains(&order)
        {
            return Some(format!("the order {order}"));
        }
        let name = &node.name;
        let is_letter = |c: char| {
            let besides = names.besides_letters.as_deref();
            besides.is_none_or(|besides| c.is_ascii_alphanumeric() || besides.contains(c))
                || names.namespaces && c == ':'
                || c == '_'
        };
        let keeps_case = match names.case {
            Case::Any => true,
            Case::Lower => *name == name.to_lowercase(),
            Case::Upper => *name == name.to_uppercase(),
        };
        let is_short = names.length.is_none_or(|length| name.chars().count() <= length);
        let is_new = seen.insert(name.clone()) || !names.unique;
        if !(name.chars().all(is_letter) && keeps_case && is_short && is_new && !name.is_empty()) {
            return Some(format!("the name '{name}'"));
        }
    }
    None
}

proptest! {
    #![proptest_config(cases(60))]

    #[test]
    fn a_fitted_scene_holds_what_the_profile_holds_and_moves_as_before(
        scene in any_scene(Contents { layers: 3, outside: true, handles: Handles::Any, ..Contents::SIMPLE }),
        profile in any_profile(),
    ) {
        let (fitted, ledger) = fit(&scene, &profile, &THOUSANDTH).unwrap();
        let is_lost = ledger.entries.iter().any(|entry| entry.fate == Fate::LeftOut);
        if let Some(what) = too_much(&fitted, &profile) {
            // What has to change and cannot is said.
            prop_assert!(is_lost, "{what} for {profile:?}");
        }
        if !is_lost {
            let times = if profile.curves { between(0, 40) } else { frames(0, 40) };
            for (take, new) in scene.takes.iter().zip(&fitted.takes) {
                // Layers, forms and orders may each use up the tolerance.
                alike((&scene, take, &times), (&fitted, new, &times), Within::thousandths(3.1))?;
            }
        }
        // What fits already stays as it is.
        let (again, _) = fit(&fitted, &profile, &THOUSANDTH).unwrap();
        if !is_lost {
            let names = |scene: &Scene| -> Vec<String> {
                scene.rigs.iter().flat_map(|rig| rig.nodes().map(|(_, node)| node.name.clone())).collect()
            };
            prop_assert_eq!(names(&again), names(&fitted));
            for (first, second) in fitted.takes.iter().zip(&again.takes) {
                prop_assert_eq!(keys_of(first), keys_of(second));
                let times = between(0, 40);
                alike((&fitted, first, &times), (&again, second, &times), Within::ROUNDING)?;
            }
        }
    }

    #[test]
    fn whatever_moves_a_scene_a_fitted_one_holds_what_the_profile_holds(
        scene in any_scene(Contents::ALL), profile in any_profile(),
    ) {
        let (fitted, ledger) = fit(&scene, &profile, &THOUSANDTH).unwrap();
        let is_lost = ledger.entries.iter().any(|entry| entry.fate == Fate::LeftOut);
        if let Some(what) = too_much(&fitted, &profile) {
            prop_assert!(is_lost, "{what} for {profile:?}");
        }
        prop_assert_eq!(fitted.takes.len(), scene.takes.len());
    }
}
