//! What the program's evaluation and the second one make of one scene; the fuzz target of random scenes uses this file as well.

use nimble_curve_core::evaluate::{NodeSampler, PropertySampler};
use nimble_curve_core::rig::NodeId;
use nimble_curve_core::scene::Target;
use nimble_curve_core::value::Value as Own;
use nimble_curve_second::scene::{Scene, Value};
use nimble_curve_second::turn::apart;

/// What was compared.
pub struct Compared {
    /// Nodes in takes.
    pub looked_at: usize,
    /// Those of which a turn of half round, counted in part, was read the other way: rounding decides there.
    pub either_way: usize,
}

/// Where a curve goes straight up, as two handles do that reach across the whole of their piece, rounding of the instant alone
/// makes more of a difference than is allowed elsewhere: as much as the value changes within a thousand-millionth of a frame,
/// and no more than this.
const STEEP: f64 = 1e-4;

/// A thousand-millionth of a frame before and after.
fn around(frame: f64) -> [f64; 2] {
    [frame - 1e-9, frame + 1e-9]
}

/// Compares all nodes and attributes in all takes at 24 instants, some outside the range; the first difference is an error.
pub fn compare(text: &str) -> Result<Compared, String> {
    let second = Scene::read(text);
    let first = nimble_curve_formats::ncurve::read(text).map_err(|e| format!("not read: {e:?}"))?;
    let nodes: Vec<(usize, NodeId)> = (first.rigs.iter().enumerate())
        .flat_map(|(rig, of)| of.nodes().map(move |(id, _)| (rig, id)))
        .collect();
    let mut compared = Compared { looked_at: 0, either_way: 0 };
    for (index, take) in first.takes.iter().enumerate() {
        let (a, b) = second.takes[index].range;
        let frames: Vec<f64> = (0..24).map(|part| a - 1.5 + (b - a + 4.0) * f64::from(part) / 23.0).collect();
        for (at, &(rig, id)) in nodes.iter().enumerate() {
            let is_partial = second.counts_in_part(index, at);
            let mut local = NodeSampler::new(&first, Some(take), (rig, id)).map_err(|e| e.to_string())?;
            compared.looked_at += 1;
            let mut other_way = false;
            for &frame in &frames {
                let (own, turn) = local.local_at(frame * first.rate.ticks_per_frame());
                let (other, other_turn) = second.local(index, at, frame);
                let off = (own.translation - other.translation).length().max(apart(turn, other_turn));
                let numbers = (own.matrix3 - other.matrix3).to_cols_array();
                let size = numbers.into_iter().map(f64::abs).fold(0.0, f64::max);
                let is_same = (off < 1e-5 && size < 1e-6) || {
                    let [before, after] = around(frame).map(|frame| second.local(index, at, frame));
                    let moved = (before.0.translation - after.0.translation).length();
                    let changed = (before.0.matrix3 - after.0.matrix3).to_cols_array();
                    let changed = changed.into_iter().map(f64::abs).fold(0.0, f64::max);
                    off < STEEP.min(moved.max(apart(before.1, after.1))) && size < STEEP.min(changed)
                };
                if !is_same && !is_partial {
                    return Err(format!("take {index} node {at} frame {frame}: {off} {size}"));
                }
                other_way |= !is_same;
            }
            compared.either_way += usize::from(other_way);
            let node = first.rigs[rig].node(id).unwrap();
            for attribute in &node.attributes {
                let target = Target { rig, node: id, property: attribute.name.clone() };
                let mut sampler = PropertySampler::new(&first, take, &target).map_err(|e| e.to_string())?;
                for &frame in &frames {
                    let own = sampler.value_at(frame * first.rate.ticks_per_frame());
                    let other = second.value(index, at, &attribute.name, frame);
                    let is_steep = || {
                        let [before, after] =
                            around(frame).map(|frame| second.value(index, at, &attribute.name, frame));
                        let (Own::Number(own), Value::Numbers(other)) = (&own, &other) else { return false };
                        let (Value::Numbers(before), Value::Numbers(after)) = (before, after) else {
                            return false;
                        };
                        (own - other[0]).abs() < STEEP.min((before[0] - after[0]).abs())
                    };
                    if !is_same_value(&own, &other) && !is_steep() {
                        let name = &attribute.name;
                        return Err(format!(
                            "take {index} node {at} {name} frame {frame}: {own:?} {other:?}"
                        ));
                    }
                }
            }
        }
    }
    Ok(compared)
}

fn is_same_value(own: &Own, other: &Value) -> bool {
    match (own, other) {
        (Own::Number(v), Value::Numbers(list)) => (v - list[0]).abs() < 1e-6,
        (Own::Vector(v), Value::Numbers(list)) => (0..3).all(|axis| (v[axis] - list[axis]).abs() < 1e-6),
        (Own::Discrete(_), Value::Word(_)) => true,
        _ => false,
    }
}
