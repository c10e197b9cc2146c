//! The program's evaluation beside the second one, on random scenes.

use nimble_curve_core::evaluate::{NodeSampler, PropertySampler};
use nimble_curve_core::scene::Target;
use nimble_curve_core::value::Value as Own;
use nimble_curve_second::random::{Contents, text};
use nimble_curve_second::scene::{Scene, Value};
use nimble_curve_second::turn::apart;

#[test]
fn both_evaluators_agree() {
    let cases: u64 = std::env::var("CASES").ok().and_then(|n| n.parse().ok()).unwrap_or(150);
    let (mut channels, mut either) = (0, std::collections::HashSet::new());
    for seed in 0..cases {
        let text = text(seed, &Contents::ALL);
        if std::env::var("KEEP").is_ok_and(|own| own == seed.to_string()) {
            std::fs::write("/tmp/second.ncurve", &text).unwrap();
        }
        let second = Scene::read(&text);
        let first = nimble_curve_formats::ncurve::read(&text).unwrap_or_else(|e| {
            std::fs::write("/tmp/second.ncurve", &text).unwrap();
            panic!("{seed}: {e:?}")
        });
        let nodes: Vec<(usize, nimble_curve_core::rig::NodeId)> = (first.rigs.iter().enumerate())
            .flat_map(|(rig, of)| of.nodes().map(move |(id, _)| (rig, id)))
            .collect();
        for (index, take) in first.takes.iter().enumerate() {
            let (a, b) = second.takes[index].range;
            let frames: Vec<f64> =
                (0..24).map(|part| a - 1.5 + (b - a + 4.0) * f64::from(part) / 23.0).collect();
            for (at, &(rig, id)) in nodes.iter().enumerate() {
                // Of a turn that passes half round a part may be read in two ways, which rounding decides.
                let is_partial = second.counts_in_part(index, at);
                let mut local = NodeSampler::new(&first, Some(take), (rig, id)).unwrap();
                channels += 1;
                for &frame in &frames {
                    let time = frame * first.rate.ticks_per_frame();
                    let (own, turn) = local.local_at(time);
                    let (other, other_turn) = second.local(index, at, frame);
                    let off = (own.translation - other.translation).length().max(apart(turn, other_turn));
                    let size = (own.matrix3 - other.matrix3)
                        .to_cols_array()
                        .into_iter()
                        .map(f64::abs)
                        .fold(0.0, f64::max);
                    if is_partial && !(off < 1e-5 && size < 1e-6) {
                        either.insert((seed, index, at));
                        continue;
                    }
                    assert!(
                        off < 1e-5 && size < 1e-6,
                        "seed {seed} take {index} node {at} frame {frame}: {off} {size}"
                    );
                }
                let node = first.rigs[rig].node(id).unwrap();
                for attribute in &node.attributes {
                    let target = Target { rig, node: id, property: attribute.name.clone() };
                    let mut sampler = PropertySampler::new(&first, take, &target).unwrap();
                    for &frame in &frames {
                        let own = sampler.value_at(frame * first.rate.ticks_per_frame());
                        let other = second.value(index, at, &attribute.name, frame);
                        let same = match (&own, &other) {
                            (Own::Number(v), Value::Numbers(list)) => (v - list[0]).abs() < 1e-6,
                            (Own::Vector(v), Value::Numbers(list)) => {
                                (0..3).all(|axis| (v[axis] - list[axis]).abs() < 1e-6)
                            }
                            (Own::Discrete(_), Value::Word(_)) => true,
                            _ => false,
                        };
                        assert!(
                            same,
                            "seed {seed} take {index} node {at} {} frame {frame}: {own:?} {other:?}",
                            attribute.name
                        );
                    }
                }
            }
        }
    }
    assert!(either.len() * 200 < channels, "{} of {channels} nodes can be read in two ways", either.len());
    assert!(channels > 300, "{channels} nodes were looked at");
}
