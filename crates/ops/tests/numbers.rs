//! Random numbers carried under gains, offsets and curves of values: at every time the target has what the source's comes to,
//! whatever layers are mixed, or the ledger names what did not come over.

use nimble_curve_curves::curve::Behaviour;
use nimble_curve_curves::value::{Quantity, Value};
use nimble_curve_ops::carry::{AttributePair, CarryOptions, NameMap, NumberRange, carry};
use nimble_curve_scene::address::Addresses;
use nimble_curve_scene::evaluate::PropertySampler;
use nimble_curve_scene::ledger::Fate;
use nimble_curve_scene::rig::AttributeKind;
use nimble_curve_scene::scene::{PropertyKind, Scene, Take, Target};
use nimble_curve_testing::motion::{between, cases};
use nimble_curve_testing::scenes::{Contents, alone, any_scene};
use proptest::prelude::*;

use crate::THOUSANDTH;

fn any_range() -> impl Strategy<Value = NumberRange> {
    let linear =
        (-3.0..3.0_f64, -2.0..2.0_f64).prop_map(|(gain, offset)| NumberRange::Linear { gain, offset });
    let points = prop::collection::vec((0.2..1.0_f64, -2.0..2.0_f64), 2..5).prop_map(|steps| {
        let along = steps.iter().scan(-1.0, |at, (step, _)| {
            *at += step;
            Some(*at)
        });
        NumberRange::Points(along.zip(steps.iter().map(|(_, value)| *value)).collect())
    });
    prop_oneof![Just(NumberRange::SAME), linear, points]
}

/// A scene of one rig in which only numbers change.
fn numbers_alone(scene: Scene) -> Scene {
    alone(scene, |rig, target| {
        let is_attribute =
            rig.node(target.node).is_some_and(|node| node.attribute(&target.property).is_some());
        is_attribute
            && matches!(rig.property_kind(target.node, &target.property), Some(PropertyKind::Number(_)))
    })
}

/// The numbers of a rig.
fn targets(scene: &Scene) -> Vec<(Target, Quantity)> {
    let rig = &scene.rigs[0];
    let of_node = |(node, own): (_, &nimble_curve_scene::rig::Node)| {
        let number = move |attribute: &nimble_curve_scene::rig::Attribute| match attribute.kind {
            AttributeKind::Number { quantity, .. } => {
                Some((Target { rig: 0, node, property: attribute.name.clone() }, quantity))
            }
            _ => None,
        };
        own.attributes.iter().filter_map(number).collect::<Vec<_>>()
    };
    rig.nodes().flat_map(of_node).collect()
}

fn values(scene: &Scene, take: &Take, target: &Target, times: &[f64]) -> Vec<f64> {
    let mut sampler = PropertySampler::new(scene, take, target).unwrap();
    let number = |&time: &f64| match sampler.value_at(time) {
        Value::Number(value) => value,
        other => panic!("{other:?}"),
    };
    times.iter().map(number).collect()
}

proptest! {
    #![proptest_config(cases(200))]

    #[test]
    fn numbers_are_what_their_ranges_make_of_them(
        scene in any_scene(Contents { layers: 3, weights: true, outside: true, all_controllers: true, ..Contents::SIMPLE }),
        ranges in prop::collection::vec(any_range(), 18), defaults in prop::collection::vec(-1.0..1.0_f64, 18),
    ) {
        let scene = numbers_alone(scene);
        let numbers = targets(&scene);
        let mut target = Scene { takes: Vec::new(), ..scene.clone() };
        for ((number, _), &new) in numbers.iter().zip(&defaults) {
            let node = target.rigs[0].node_mut(number.node).unwrap();
            let attribute = node.attributes.iter_mut().find(|attribute| attribute.name == number.property).unwrap();
            let AttributeKind::Number { default, .. } = &mut attribute.kind else { panic!() };
            *default = new;
        }
        let addresses = Addresses::new(&scene);
        let names = scene.rigs[0].nodes().map(|(_, node)| (node.name.clone(), node.name.clone()));
        let mut map = NameMap::of_nodes(names);
        map.numbers = numbers.iter().zip(&ranges).map(|((number, _), range)| {
            let address = addresses.property(number);
            AttributePair { source: address.clone(), target: address, range: range.clone() }
        }).collect();
        let options = CarryOptions { tolerance: THOUSANDTH, scale: Some(1.0), ..CarryOptions::default() };
        let carried = carry(&scene, &target, &map, &options).unwrap();
        let times = between(0, 40);
        for (take, new) in scene.takes.iter().zip(&carried.scene.takes) {
            for ((number, quantity), range) in numbers.iter().zip(&ranges) {
                let address = addresses.property(number);
                let mut entries = carried.ledger.entries.iter().filter(|e| e.take == take.name && e.channel == address);
                let moves = take.active_tracks().any(|(_, track)| track.target == *number);
                // Samples are bent one by one, what lies between them is not.
                let is_sampled = matches!(range, NumberRange::Points(_))
                    && take.active_tracks().any(|(_, track)| track.target == *number && track.controller.samples().is_some());
                // Outside keys beyond which there is no value it rests, each rig as it does.
                let ends = take.active_tracks().any(|(_, track)| {
                    let own = track.target == *number;
                    own && track.controller.curves().iter().any(|curve| [curve.before, curve.after].contains(&Behaviour::None))
                });
                if !moves || is_sampled || ends || entries.any(|entry| entry.fate == Fate::LeftOut) {
                    continue;
                }
                let most = match quantity {
                    Quantity::Length => 1e-3 / scene.space.metres_per_unit,
                    _ => 1e-3,
                };
                let before = values(&scene, take, number, &times);
                let after = values(&carried.scene, new, number, &times);
                for ((a, b), time) in before.iter().zip(&after).zip(&times) {
                    let wanted = range.value(*a);
                    prop_assert!(
                        (wanted - b).abs() <= most + 1e-9 * wanted.abs(),
                        "{address} of '{}' at frame {}: {a} by {range:?} is {b}, not {wanted}\n{:#?}\n{:#?}\n{:#?}",
                        take.name, time / nimble_curve_testing::RATE.ticks_per_frame(), take, new, carried.ledger.entries
                    );
                }
            }
        }
    }
}
