//! Reorder: other rotation orders, the motion unchanged.

mod survey;
pub use self::survey::{NodeSurvey, OrderSurvey, survey};
use std::borrow::Cow;
use std::collections::BTreeSet;

use glam::DQuat;
use nimble_curve_curves::fit::Handles;
use nimble_curve_curves::rotation::{RotationOrder, exact_way, nearest_euler, quat_from_euler};
use nimble_curve_curves::value::Value;
use nimble_curve_scene::address::{Addresses, NodeRef};
use nimble_curve_scene::choice::{NothingChosen, chosen_nodes};
use nimble_curve_scene::controller::{Controller, EulerCurves};
use nimble_curve_scene::ledger::{Entry, Fate, Ledger};
use nimble_curve_scene::rig::OpValue;
use nimble_curve_scene::rig::ROTATION;
use nimble_curve_scene::scene::{LayerMode, PropertyKind, Scene, Take, Target, Track};
use rayon::prelude::*;
use thiserror::Error;

use self::survey::{closest_by_order, survey_nodes};
use super::channel::{Bookkeeper, count};
use super::layered_rotation::{Change, LayeredRotation, mixes_angles, zeroed};
use super::mixing::share;
use super::rotation_conversion::{RotationConversion, with_zeros};

/// Which order to change to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum NewOrder {
    /// This one.
    To(RotationOrder),
    /// For each node the one that [`NodeSurvey::best`] says.
    Best,
}

/// How to reorder.
#[derive(Clone, Debug)]
pub struct ReorderOptions {
    /// The new order.
    pub to: NewOrder,
    /// Patterns of the nodes to change; all where there are none.
    pub only: Vec<String>,
    /// The largest angle between source and result, in radians.
    pub tolerance: f64,
    /// Handles of keys that change; where nothing is said as the source has them, but weighted where plain ones would need
    /// more than half as many key times again.
    pub handles: Option<Handles>,
}

/// Why nothing can be reordered.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum ReorderError {
    /// A pattern that means no node.
    #[error(transparent)]
    NothingChosen(#[from] NothingChosen),
}

/// Gives nodes another rotation order: at rest, and in all tracks of all layers on their rotation.
///
/// Curves are converted as `rotation::convert` says; where that is exact they are renamed; samples one by one. Layers
/// that mix angles one by one mean something in their order only: they are converted so that the whole turns as
/// before, and where that cannot be done within the tolerance the node keeps its order. The ledger says all of that.
///
/// ```
/// # use glam::DVec3;
/// # use nimble_curve_curves::{curve::Curve, rotation::RotationOrder, time::{FrameRate, TimeRange}};
/// # use nimble_curve_scene::controller::{Controller, EulerCurves};
/// # use nimble_curve_scene::ledger::Fate;
/// # use nimble_curve_scene::rig::{Node, NodeKind, ROTATION, Rig};
/// # use nimble_curve_scene::scene::{Layer, Scene, Take, Target, Track};
/// # use nimble_curve_scene::space::Space;
/// use nimble_curve_ops::reorder::{NewOrder, ReorderOptions, reorder};
///
/// # let rate = FrameRate::FPS_24;
/// # let mut rig = Rig::new("cart");
/// # let node = Node::new("wheel", NodeKind::Joint, DVec3::ZERO, RotationOrder::Xyz);
/// # let wheel = rig.add(None, node).unwrap();
/// // A wheel that turns about one axis, ten times: in another order its keys are the same, exactly.
/// let turn = Curve::through(rate, [(0, 0.0), (96, 20.0 * std::f64::consts::PI)])?;
/// let curves = [turn, Curve::default(), Curve::default()];
/// # let controller = Controller::Euler(EulerCurves { order: RotationOrder::Xyz, curves });
/// # let track = Track { target: Target::new(0, wheel, ROTATION), controller };
/// # let range = TimeRange::new(rate.ticks(0), rate.ticks(96));
/// # let take = Take::new("roll", range, vec![Layer::base(vec![track])]);
/// # let scene = Scene::new(rate, Space::METRES_Y_UP).with_rig(rig).with_take(take);
/// let options = ReorderOptions {
///     to: NewOrder::To(RotationOrder::Zyx),
///     only: vec!["wheel".to_owned()],
///     tolerance: 0.05_f64.to_radians(),
///     handles: None,
/// };
/// let (result, ledger) = reorder(&scene, &options)?;
/// assert_eq!((ledger.entries[0].fate, ledger.entries[0].after), (Fate::Exact, 2));
/// # assert!(result.takes[0].layers[0].tracks[0].controller.key_count() == 2);
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
///
/// # Errors
/// [`ReorderError::NothingChosen`].
pub fn reorder(scene: &Scene, options: &ReorderOptions) -> Result<(Scene, Ledger), ReorderError> {
    let addresses = Addresses::new(scene);
    let chosen = chosen_or_all(scene, &options.only)?;
    let mut ledger = Ledger::default();
    let surveyed = match options.to {
        NewOrder::Best => survey_nodes(scene, &chosen, options.tolerance, options.handles),
        NewOrder::To(_) => Vec::new(),
    };
    let new_order = |node: NodeRef| match options.to {
        NewOrder::To(order) => Some(order),
        NewOrder::Best => {
            surveyed.iter().find(|survey| survey.node == node).map(|survey| survey.best().order)
        }
    };
    let jobs: Vec<(NodeRef, RotationOrder)> =
        chosen.iter().filter_map(|&node| Some((node, new_order(node)?))).collect();
    let done: Vec<NodeResult> = jobs
        .par_iter()
        .filter_map(|&(node, order)| {
            let job = NodeJob {
                scene,
                addresses: &addresses,
                node,
                order,
                tolerance: options.tolerance,
                handles: options.handles,
            };
            job.run()
        })
        .collect();
    let mut result = scene.clone();
    let mut untouched = true;
    for node in done {
        untouched &= node.entries.iter().all(|entry| entry.fate == Fate::Kept && entry.note.is_empty());
        ledger.entries.extend(node.entries);
        let Some(rest) = node.rest else { continue };
        let (rig, id) = node.node;
        let ops = result.rigs[rig].node_mut(id).map(|node| &mut node.transform);
        for op in ops.into_iter().flatten().filter(|op| op.name == ROTATION) {
            op.value = rest;
        }
        for ((take, layer, track), controller) in node.controllers {
            result.takes[take].layers[layer].tracks[track].controller = controller;
        }
    }
    if untouched {
        ledger.notes.push(match options.to {
            NewOrder::To(order) => format!("every chosen node turns in {order} already"),
            NewOrder::Best => "every chosen node turns in its best order already".into(),
        });
    }
    Ok((result, ledger))
}

/// Where a track stands: take, layer, track.
type Place = (usize, usize, usize);

/// What became of one node.
struct NodeResult {
    node: NodeRef,
    entries: Vec<Entry>,
    /// The rotation at rest under the new order, where it changed.
    rest: Option<OpValue>,
    controllers: Vec<(Place, Controller)>,
}

struct NodeJob<'a> {
    scene: &'a Scene,
    addresses: &'a Addresses,
    node: NodeRef,
    order: RotationOrder,
    tolerance: f64,
    handles: Option<Handles>,
}

impl NodeJob<'_> {
    fn target(&self) -> Target {
        Target { rig: self.node.0, node: self.node.1, property: ROTATION.into() }
    }

    fn places(&self) -> Vec<Place> {
        let target = self.target();
        let mut places = Vec::new();
        for (take_index, take) in self.scene.takes.iter().enumerate() {
            for (layer_index, layer) in take.layers.iter().enumerate() {
                let on = layer.tracks.iter().enumerate().filter(|(_, track)| track.target == target);
                places.extend(on.map(|(track_index, _)| (take_index, layer_index, track_index)));
            }
        }
        places
    }

    /// `None` for nodes without Euler angles and without tracks.
    fn run(&self) -> Option<NodeResult> {
        let node = self.scene.rigs[self.node.0].node(self.node.1)?;
        let places = self.places();
        let rest = match node.op(ROTATION).map(|op| op.value) {
            Some(OpValue::Rotate { order, angles }) => (order, angles),
            _ if places.is_empty() => return None,
            _ => return Some(self.kept(&places, "it turns by quaternions, which have no order")),
        };
        let has_order = |&(take, layer, track): &Place| {
            let track: &Track = &self.scene.takes[take].layers[layer].tracks[track];
            let rest = Value::Euler { order: rest.0, angles: rest.1 };
            self.turning(&self.scene.takes[take], self.tolerance).keeps(&track.controller, &rest)
        };
        if rest.0 == self.order && places.iter().all(has_order) {
            let entries = places.iter().map(|&(take, layer, track)| {
                let take = &self.scene.takes[take];
                let books = Bookkeeper { addresses: self.addresses, take };
                books.kept(layer, &take.layers[layer].tracks[track])
            });
            let entries = entries.collect();
            return Some(NodeResult { node: self.node, entries, rest: None, controllers: Vec::new() });
        }
        // The same rotation at rest, its angles near to those before.
        let angles = nearest_euler(self.order, quat_from_euler(rest.0, rest.1), rest.1);
        let new_rest = OpValue::Rotate { order: self.order, angles };
        if let Some(entries) = self.relabelled(&places) {
            let controllers = places.iter().filter_map(|&place| {
                let track = &self.scene.takes[place.0].layers[place.1].tracks[place.2];
                Some((place, relabelled(&track.controller, self.order)?))
            });
            let controllers = controllers.collect();
            return Some(NodeResult { node: self.node, entries, rest: Some(new_rest), controllers });
        }
        // What lies under a layer that mixes angles has to be known under the new order.
        let mixes =
            places.iter().any(|&(take, layer, _)| mixes_angles(&self.scene.takes[take].layers[layer], layer));
        // Of weighted curves there are no exact sums, which layers of constant weight are made of.
        let adds_up = places.iter().any(|&(take, layer, _)| {
            let on = &self.scene.takes[take].layers[layer];
            mixes_angles(on, layer) && on.weight.constant().is_some()
        });
        if adds_up && self.handles != Some(Handles::Plain) {
            return NodeJob { handles: Some(Handles::Plain), ..*self }.run();
        }
        let mut mixer = mixes.then(|| {
            let identity = DQuat::IDENTITY;
            let change = Change {
                order: self.order,
                before: identity,
                after: identity,
                tolerance: self.tolerance.into(),
                handles: self.handles,
                cache: None,
            };
            let (target, rig) = (self.target(), &self.scene.rigs[self.node.0]);
            LayeredRotation::new(self.scene, &self.scene.takes, &target, (rig, &target), change)
                .resting(new_rest)
        });
        let mut entries = Vec::new();
        let mut controllers = Vec::new();
        for place in places.iter().copied() {
            match self.track(mixer.as_ref(), place) {
                Ok((controller, entry)) => {
                    if let Some(mixer) = &mut mixer {
                        mixer.put(place.0, place.1, controller.clone());
                    }
                    entries.push(entry);
                    controllers.push((place, controller));
                }
                Err(why) => return Some(self.kept(&places, &why)),
            }
        }
        if let Some(mixer) = &mixer
            && let Err(why) = self.check_whole(mixer, &mut entries)
        {
            return Some(self.kept(&places, &why));
        }
        Some(NodeResult { node: self.node, entries, rest: Some(new_rest), controllers })
    }

    /// The entries where the same angles stand for the same rotations in both orders, whatever the layers mix: where too
    /// few channels ever leave zero for the order to matter. `None` where it does, or nothing would change.
    fn relabelled(&self, places: &[Place]) -> Option<Vec<Entry>> {
        let Some(Value::Euler { order, angles }) =
            self.scene.rigs[self.node.0].rest_value(self.node.1, ROTATION)
        else {
            return None;
        };
        let mut is_zero = angles.to_array().map(|angle| angle == 0.0);
        for &(take, layer, track) in places {
            let still = match &self.scene.takes[take].layers[layer].tracks[track].controller {
                Controller::Constant(Value::Euler { order: own, angles }) if *own == order => {
                    angles.to_array().map(|angle| angle == 0.0)
                }
                Controller::Euler(euler) if euler.order == order => euler.curves.each_ref().map(|curve| {
                    curve.is_empty() || curve.is_constant() && curve.keys().iter().all(|key| key.value == 0.0)
                }),
                _ => return None,
            };
            is_zero = [0, 1, 2].map(|axis| is_zero[axis] && still[axis]);
        }
        let constant = is_zero.map(|zero| zero.then_some(0.0));
        let identity = DQuat::IDENTITY;
        if order == self.order || !exact_way(order, constant, identity, identity, self.order)?.is_identity() {
            return None;
        }
        let entries = places.iter().map(|&(take, layer, track)| {
            let take = &self.scene.takes[take];
            let books = Bookkeeper { addresses: self.addresses, take };
            Entry { fate: Fate::Exact, ..books.kept(layer, &take.layers[layer].tracks[track]) }
        });
        Some(entries.collect())
    }

    fn kept(&self, places: &[Place], why: &str) -> NodeResult {
        let entries = places.iter().map(|&(take, layer, track)| {
            let take = &self.scene.takes[take];
            let books = Bookkeeper { addresses: self.addresses, take };
            Entry { note: format!("stays: {why}"), ..books.kept(layer, &take.layers[layer].tracks[track]) }
        });
        NodeResult { node: self.node, entries: entries.collect(), rest: None, controllers: Vec::new() }
    }

    /// Whether one track alone turns the node in a take, on a base of full weight.
    fn is_alone(&self, take: &Take) -> bool {
        let target = self.target();
        let mut on = take.tracks().filter(|(_, track)| track.target == target);
        let is_whole = |layer: usize| take.layers[layer].weight.constant() == Some(1.0);
        on.next().is_some_and(|(layer, _)| layer == 0 && is_whole(layer)) && on.next().is_none()
    }

    fn turning(&self, take: &Take, tolerance: f64) -> RotationConversion<'static> {
        RotationConversion {
            order: self.order,
            before: DQuat::IDENTITY,
            after: DQuat::IDENTITY,
            tolerance: tolerance.into(),
            handles: self.handles,
            cache: None,
            rate: self.scene.rate,
            range: take.range,
            at_home: self.is_alone(take),
        }
    }

    /// One track under the new order; the mixer has the new rest and the tracks below already.
    fn track(
        &self,
        mixer: Option<&LayeredRotation<'_>>,
        place: Place,
    ) -> Result<(Controller, Entry), String> {
        let take = &self.scene.takes[place.0];
        let books = Bookkeeper { addresses: self.addresses, take };
        let track = &take.layers[place.1].tracks[place.2];
        let layer = &take.layers[place.1];
        if let Some(mixer) = mixer.filter(|mixer| mixer.is_mixed(place.0, place.1)) {
            let (controller, note) = mixer.mixed(place.0, place.1)?;
            let entry = books.changed(place.1, track, Fate::Refitted, controller.key_count(), None, note);
            return Ok((controller, entry));
        }
        let rest = self.scene.rigs[self.node.0].rest_value(self.node.1, ROTATION);
        let rest = rest.ok_or("it has no rotation at rest")?;
        let rest = if layer.mode == LayerMode::Additive { zeroed(&rest) } else { rest };
        let controller = with_zeros(&track.controller, &rest, take.range.first);
        let Some(turned) = self
            .turning(take, self.tolerance * share(take, &track.target, PropertyKind::Rotation))
            .apply(&controller, &rest)
        else {
            return Err(format!("a {} controller has no order to change", track.controller.type_name()));
        };
        let new = Track { target: track.target.clone(), controller: turned.controller };
        let mut note = turned.note;
        if let (Fate::Refitted, Some(better)) = (turned.fate, self.better_order(take, track, &rest)) {
            note.push_str(&format!("; {better} stays farther away"));
        }
        let fate =
            if matches!(controller, Cow::Owned(_)) { turned.fate.max(Fate::Exact) } else { turned.fate };
        let entry = books.changed(place.1, track, fate, count(&new), turned.error, note);
        Ok((new.controller, entry))
    }

    /// Close to the pole: the order that stays farthest from its pole, if it is another one.
    fn better_order(&self, take: &Take, track: &Track, rest: &Value) -> Option<RotationOrder> {
        let distances = closest_by_order(&track.controller, rest, take.range, self.scene)?;
        let (mut own, mut best) = (0.0, (self.order, 0.0));
        for (order, distance) in RotationOrder::ALL.into_iter().zip(distances) {
            own = if order == self.order { distance } else { own };
            best = if distance > best.1 { (order, distance) } else { best };
        }
        let is_close = own < super::rotation_conversion::NEAR_POLE;
        (is_close && best.0 != self.order && best.1 > 2.0 * own).then_some(best.0)
    }

    /// Compares the whole under all layers before and after, where layers mix angles.
    fn check_whole(&self, mixer: &LayeredRotation, entries: &mut [Entry]) -> Result<(), String> {
        for (index, take) in self.scene.takes.iter().enumerate() {
            let Some((error, is_within)) = mixer.error(index)? else { continue };
            if !is_within {
                return Err(format!(
                    "its layers mix angles, and the whole would be off by {:.3}° at frame {:.1}: flatten them first",
                    error.largest.to_degrees(),
                    error.frame
                ));
            }
            for entry in entries.iter_mut().filter(|entry| entry.take == take.name && entry.error.is_none()) {
                if entry.fate == Fate::Refitted {
                    entry.error = Some(error);
                }
            }
        }
        Ok(())
    }
}

/// The same angles under another name of their order.
fn relabelled(controller: &Controller, order: RotationOrder) -> Option<Controller> {
    Some(match controller {
        Controller::Euler(euler) => Controller::Euler(EulerCurves { order, curves: euler.curves.clone() }),
        Controller::Constant(Value::Euler { angles, .. }) => {
            Controller::Constant(Value::Euler { order, angles: *angles })
        }
        _ => return None,
    })
}

/// The nodes that patterns name; all where there are none.
pub(super) fn chosen_or_all(scene: &Scene, only: &[String]) -> Result<BTreeSet<NodeRef>, NothingChosen> {
    match only.is_empty() {
        true => Ok(Addresses::new(scene).nodes().iter().copied().collect()),
        false => chosen_nodes(scene, only),
    }
}
