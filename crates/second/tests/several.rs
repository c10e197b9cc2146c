//! Random scenes of several rigs carried onto the same rigs in another order: all is as it was, as the second evaluator has it, or the ledger
//! says what is not.

use std::collections::HashSet;

use nimble_curve_core::ops::Tolerance;
use nimble_curve_core::ops::carry::{CarryError, CarryOptions, NameMap, RigPair, carry};
use nimble_curve_core::scene::Scene as Own;
use nimble_curve_formats::ncurve;
use nimble_curve_second::random::{Contents, text};
use nimble_curve_second::scene::Scene;
use nimble_curve_second::turn::apart;

#[test]
fn rigs_in_another_order_move_as_they_did() {
    let cases: u64 = std::env::var("CASES").ok().and_then(|n| n.parse().ok()).unwrap_or(150);
    let (mut looked, mut refused, mut several) = (0, 0, 0);
    for seed in 0..cases {
        let contents = match seed % 3 {
            // Where angles of another order than at rest have a gap, what lies in it is refused.
            0 => Contents { rigs: 3, outside: false, ..Contents::ALL },
            1 => Contents { rigs: 3, lists: true, ..Contents::PLAIN },
            _ => Contents { rigs: 3, ..Contents::PLAIN },
        };
        let text = text(seed, &contents);
        let source = ncurve::read(&text).unwrap();
        several += usize::from(source.rigs.len() > 1);
        let mut rigs = source.rigs.clone();
        rigs.reverse();
        let target = Own { rigs, takes: Vec::new(), ..source.clone() };
        let pair = |rig: &nimble_curve_core::rig::Rig| RigPair {
            source: rig.name.clone(),
            target: rig.name.clone(),
            held: None,
        };
        let map = NameMap { rigs: source.rigs.iter().map(pair).collect(), ..NameMap::default() };
        let options =
            CarryOptions { scale: Some(1.0), tolerance: Tolerance::default(), ..CarryOptions::default() };
        let carried = match carry(&source, &target, &map, &options) {
            Ok(carried) => carried,
            // Nothing that moves has a partner.
            Err(CarryError::NoPairs) => {
                refused += 1;
                continue;
            }
            Err(error) => panic!("seed {seed}: {error}"),
        };
        let (before, after) = (Scene::read(&text), Scene::read(&ncurve::write(&carried.scene)));
        let lost: HashSet<(String, String)> = (carried.ledger.entries.iter())
            .filter(|entry| entry.fate.is_gone())
            .filter_map(|entry| {
                let target = entry.target.as_ref()?;
                let node = source.rigs[target.rig].node(target.node)?;
                Some((entry.take.clone(), node.name.clone()))
            })
            .collect();
        // A turn that is off by the tolerance moves what hangs on it, as far as bones are long.
        let far = 0.6e-3 + 0.1_f64.to_radians() * 6.0 * before.unit;
        for (index, take) in after.takes.iter().enumerate() {
            let (first, last) = take.range;
            for (at, node) in after.nodes.iter().enumerate() {
                let own = before.nodes.iter().position(|other| other.name == node.name).unwrap();
                let upwards: Vec<usize> =
                    std::iter::successors(Some(own), |at| before.nodes[*at].parent).collect();
                let is_lost = upwards.iter().any(|at| {
                    before.counts_in_part(index, *at)
                        || lost.contains(&(take.name.clone(), before.nodes[*at].name.clone()))
                });
                if is_lost {
                    refused += 1;
                    continue;
                }
                looked += 1;
                for frame in first.ceil() as i64..=last.floor() as i64 {
                    let (a, turn) = before.world(index, own, frame as f64);
                    let (b, other) = after.world(index, at, frame as f64);
                    let place = (a.translation - b.translation).length() * before.unit;
                    assert!(
                        place < far * upwards.len() as f64 && apart(turn, other) < 0.11,
                        "seed {seed} take {index} {} frame {frame}: {place} m, {} deg",
                        node.name,
                        apart(turn, other)
                    );
                }
            }
        }
    }
    eprintln!("looked at {looked} nodes of {several} scenes with several rigs; {refused} refused or lost");
    assert!(several * 2 > cases as usize && refused < looked, "{several} {refused} {looked}");
}
