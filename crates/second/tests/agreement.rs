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

/// Whether two evaluations may be so far apart at a frame, where `change` says how much the value changes between two frames.
///
/// Where a curve goes straight up, as two handles do that reach across the whole of their piece, the value is as the cube root
/// of the instant, and the last digit of that makes more of a difference than is allowed elsewhere: as much as the value changes
/// within a thousand-millionth of a frame. A jump changes as much within any time, and excuses nothing.
fn is_steep(off: f64, frame: f64, change: impl Fn(f64, f64) -> f64) -> bool {
    let within = |time: f64| change(frame - time, frame + time);
    off < within(1e-9) && within(1e-12) < 0.5 * within(1e-9)
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
                let moved = |before: f64, after: f64| {
                    let [before, after] = [before, after].map(|frame| second.local(index, at, frame));
                    let moved = (before.0.translation - after.0.translation).length();
                    moved.max(apart(before.1, after.1))
                };
                let resized = |before: f64, after: f64| {
                    let [before, after] =
                        [before, after].map(|frame| second.local(index, at, frame).0.matrix3);
                    (before - after).to_cols_array().into_iter().map(f64::abs).fold(0.0, f64::max)
                };
                let is_same = (off < 1e-5 || is_steep(off, frame, moved))
                    && (size < 1e-6 || is_steep(size, frame, resized));
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
                    let number = |frame: f64| match second.value(index, at, &attribute.name, frame) {
                        Value::Numbers(list) => list[0],
                        _ => f64::NAN,
                    };
                    let changed = |before: f64, after: f64| (number(before) - number(after)).abs();
                    let is_excused = || match (&own, &other) {
                        (Own::Number(own), Value::Numbers(other)) => {
                            is_steep((own - other[0]).abs(), frame, changed)
                        }
                        _ => false,
                    };
                    if !is_same_value(&own, &other) && !is_excused() {
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
