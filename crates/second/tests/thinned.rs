//! Random scenes without some of their nodes: what stays is in the world where it was, as the second evaluator has it, or the judge says
//! that it is not.

use std::collections::BTreeSet;

use nimble_curve_core::address::NodeRef;
use nimble_curve_core::judge::{Limits, judge};
use nimble_curve_core::ops::Tolerance;
use nimble_curve_core::ops::nodes::thin;
use nimble_curve_core::scene::Scene as Own;
use nimble_curve_formats::ncurve;
use nimble_curve_second::random::{Chance, Contents, text};
use nimble_curve_second::scene::Scene;
use nimble_curve_second::turn::apart;

/// How far places may be off: what the tolerance says, and what its angle comes to over the size of the rigs.
fn reach(scene: &Own, tolerance: &Tolerance) -> f64 {
    let places = scene.rigs.iter().flat_map(|rig| rig.rest_world());
    let size = places.map(|place| place.translation.length()).fold(0.0, f64::max);
    tolerance.length / scene.space.metres_per_unit + tolerance.angle * size
}

#[test]
fn what_stays_is_where_it_was_in_the_world() {
    let cases: u64 = std::env::var("CASES").ok().and_then(|n| n.parse().ok()).unwrap_or(160);
    let tolerance = Tolerance::default();
    let (mut looked, mut refused, mut either, mut moved) = (0, 0, 0, 0);
    for seed in 0..cases {
        let contents = match seed % 4 {
            0 => Contents::ALL,
            1 => Contents { lists: true, ..Contents::PLAIN },
            2 => Contents { layers: 2, all_controllers: true, ..Contents::PLAIN },
            _ => Contents::PLAIN,
        };
        let text = text(seed, &contents);
        let source = ncurve::read(&text).unwrap();
        let mut chance = Chance::new(seed ^ 0x7415);
        let nodes: Vec<NodeRef> = (source.rigs.iter().enumerate())
            .flat_map(|(rig, of)| of.nodes().map(move |(id, _)| (rig, id)))
            .collect();
        let keep: BTreeSet<NodeRef> = nodes.into_iter().filter(|_| !chance.one_in(2)).collect();
        if keep.is_empty() {
            continue;
        }
        let thinned = match thin(&source, &keep, tolerance) {
            Ok(thinned) => thinned,
            Err(error) => {
                refused += 1;
                eprintln!("{seed}: {error}");
                continue;
            }
        };
        let world = reach(&source, &tolerance);
        let limits = Limits {
            angle: tolerance.angle,
            length: tolerance.length / source.space.metres_per_unit,
            number: tolerance.number,
            world,
            world_turn: tolerance.angle,
            ..Limits::NONE
        };
        let verdict = judge(&source, &thinned.scene, &thinned.claim, limits, 1.0);
        if verdict.beyond().is_some() || verdict.world_beyond().is_some() || !verdict.unjudged.is_empty() {
            refused += 1;
            let said = verdict.beyond().map(|(judged, error, _)| (judged.channel.clone(), error));
            eprintln!("{seed}: {said:?} {:?}", verdict.world_beyond());
            continue;
        }
        let (before, after) = (Scene::read(&text), Scene::read(&ncurve::write(&thinned.scene)));
        for (index, take) in after.takes.iter().enumerate() {
            let (first, last) = take.range;
            for (at, node) in after.nodes.iter().enumerate() {
                let own = before.nodes.iter().position(|other| other.name == node.name).unwrap();
                let upwards = |scene: &Scene, at: usize| -> Vec<usize> {
                    std::iter::successors(Some(at), |at| scene.nodes[*at].parent).collect()
                };
                // Of a turn that passes half round a part may be read in two ways.
                if upwards(&before, own).iter().any(|at| before.counts_in_part(index, *at)) {
                    either += 1;
                    continue;
                }
                let excused =
                    thinned.ledger.wholly_left_out(&thinned.ledger.takes(&source.takes)).iter().any(
                        |(take, target, _)| {
                            let name = &source.rigs[target.rig].node(target.node).unwrap().name;
                            take.is_some_and(|take| source.takes[take].name == after.takes[index].name)
                                && upwards(&before, own).iter().any(|at| before.nodes[*at].name == *name)
                                && after.nodes.iter().any(|node| node.name == *name)
                        },
                    );
                if excused {
                    refused += 1;
                    continue;
                }
                looked += 1;
                moved += usize::from(upwards(&before, own).len() != upwards(&after, at).len());
                for frame in first.ceil() as i64..=last.floor() as i64 {
                    let (a, turn) = before.world(index, own, frame as f64);
                    let (b, other) = after.world(index, at, frame as f64);
                    let place = (a.translation - b.translation).length();
                    let turned = apart(turn, other).to_radians();
                    assert!(
                        place < world * 1.05 + 1e-6 && turned < tolerance.angle * 1.05 + 1e-6,
                        "seed {seed} take {index} {} frame {frame}: {place} of {world}, {} deg",
                        node.name,
                        turned.to_degrees()
                    );
                }
            }
        }
    }
    eprintln!("looked at {looked}, of which {moved} hang elsewhere; {refused} refused, {either} either way");
    assert!(moved * 10 > looked, "{moved} of {looked} hang elsewhere");
    assert!(refused * 5 < cases as usize, "{refused} of {cases} were refused");
}
