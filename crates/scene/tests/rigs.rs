//! Rigs as trees: what is known of a node's place in its rig is what its parents say.

use glam::DVec3;
use nimble_curve_curves::rotation::RotationOrder;
use nimble_curve_scene::rig::{AddError, MOST_DEEP, Node, NodeId, NodeKind, Rig};
use proptest::prelude::*;

fn node(name: String) -> Node {
    Node::new(name, NodeKind::Joint, DVec3::ZERO, RotationOrder::Xyz)
}

proptest! {
    #[test]
    fn depth_is_the_number_of_nodes_above_whatever_is_put_between(
        steps in prop::collection::vec((any::<bool>(), any::<prop::sample::Index>()), 1..40),
    ) {
        let mut rig = Rig::new("rig");
        let mut ids: Vec<NodeId> = Vec::new();
        for (number, (between, place)) in steps.into_iter().enumerate() {
            let (made, chosen) = (node(format!("n{number}")), (!ids.is_empty()).then(|| *place.get(&ids)));
            let added = match chosen.filter(|_| between) {
                Some(below) => rig.insert_above(below, made),
                None => rig.add(chosen, made),
            };
            ids.push(added.unwrap());
        }
        for (id, _) in rig.nodes() {
            let above = std::iter::successors(rig.parent(id), |&id| rig.parent(id)).count();
            prop_assert_eq!(rig.depth(id), above);
            prop_assert!(above < rig.longest_chain());
        }
        prop_assert!(rig.nodes().any(|(id, _)| rig.depth(id) + 1 == rig.longest_chain()));
    }
}

#[test]
fn chains_end_where_they_are_too_deep() {
    let mut rig = Rig::new("rig");
    let mut last = None;
    for number in 0..MOST_DEEP {
        last = Some(rig.add(last, node(format!("n{number}"))).unwrap());
    }
    assert_eq!(rig.add(last, node("one more".into())), Err(AddError::TooDeep));
    rig.add(None, node("beside".into())).unwrap();
}
