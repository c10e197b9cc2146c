//! The rigs at rest: numbers, scale and size.

use nimble_curve_scene::address::Addresses;
use nimble_curve_scene::rig::{NodeKind, OpValue, Rig};
use nimble_curve_scene::scene::Scene;

use super::{Code, Finding};

/// A rig of fewer joints is a prop, of any size.
const JOINTS: usize = 8;
/// Characters are this tall, in metres.
const TALL: std::ops::RangeInclusive<f64> = 0.1..=15.0;
/// A scale factor this near to 1 is rounding.
const ROUNDING: f64 = 1e-6;

pub(super) fn findings(scene: &Scene, addresses: &Addresses) -> Vec<Finding> {
    let mut found = Vec::new();
    for (index, rig) in scene.rigs.iter().enumerate() {
        found.extend(size(scene, rig));
        for (id, node) in rig.nodes() {
            let place = || addresses.node((index, id)).to_owned();
            if !node.rest().is_finite() {
                found.push(Finding::new(Code::NotANumber, place(), "rests at a place that is not finite"));
            }
            for op in &node.transform {
                let OpValue::Scale(scale) = op.value else { continue };
                found.extend(
                    scaled(scale.to_array()).map(|(code, detail)| Finding::new(code, place(), detail)),
                );
            }
        }
    }
    found
}

/// What is wrong with a scale at rest.
fn scaled(scale: [f64; 3]) -> Option<(Code, String)> {
    let [x, y, z] = scale;
    let said = format!("scale {x:.4} {y:.4} {z:.4} at rest");
    if scale.iter().any(|factor| *factor < 0.0) {
        return Some((Code::NegativeScale, said));
    }
    let differs = |a: f64, b: f64| (a - b).abs() > ROUNDING * a.abs().max(1.0);
    if differs(x, y) || differs(y, z) {
        return Some((Code::UnevenScale, said));
    }
    differs(x, 1.0).then_some((Code::RestScale, said))
}

/// Whether a character is of a size that lets doubt the scene's unit.
pub fn is_unit_doubtful(scene: &Scene) -> bool {
    scene.rigs.iter().any(|rig| size(scene, rig).is_some())
}

fn size(scene: &Scene, rig: &Rig) -> Option<Finding> {
    if rig.nodes().filter(|(_, node)| node.kind == NodeKind::Joint).count() < JOINTS {
        return None;
    }
    let up = scene.space.up.index();
    let heights = rig.rest_world().into_iter().map(|world| world.translation);
    let (low, high) = heights
        .fold((glam::DVec3::INFINITY, glam::DVec3::NEG_INFINITY), |(low, high), place| {
            (low.min(place), high.max(place))
        });
    // One that lies is as long as one that stands is tall.
    let tall = (high - low)[up].max((high - low).max_element() * 0.5) * scene.space.metres_per_unit;
    if TALL.contains(&tall) || !tall.is_finite() {
        return None;
    }
    let said = if tall < 0.1 { format!("{:.2} mm tall", tall * 1000.0) } else { format!("{tall:.1} m tall") };
    Some(Finding::new(Code::UnitScale, &rig.name, said))
}
