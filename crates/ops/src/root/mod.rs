//! Root motion: travel and turn lifted from the hips to a root, taken out and put back.
//!
//! A turn about the up axis that acts last moves to the root as the curve it is, and so does a place on the ground; the root
//! stands below the hips, so that neither changes the other. Where the hips turn in another order they are reordered
//! first, within the tolerance; all else is exact.

mod claim;

use glam::{DQuat, DVec3};
use nimble_curve_curves::curve::{Curve, Interpolation, Key, combine};
use nimble_curve_curves::fit::Handles;
use nimble_curve_curves::rotation::{RotationOrder, angle_between, principal_euler};
use nimble_curve_curves::time::{Ticks, TimeRange};
use nimble_curve_curves::value::{Quantity, Value};
use nimble_curve_scene::address::Addresses;
use nimble_curve_scene::controller::{Controller, EulerCurves, SampleKind, Samples, StackEntry, Weight};
use nimble_curve_scene::evaluate::{EvaluateError, Pose};
use nimble_curve_scene::ledger::{Entry, Fate, Ledger};
use nimble_curve_scene::rig::{Node, NodeId, NodeKind, OpValue, Rig};
use nimble_curve_scene::scene::{Layer, LayerMode, PropertyKind, RotationMixing, Scene, Take, Target, Track};
use thiserror::Error;

use super::channel::{Tolerance, count, property};
use super::conversion::{ControllerType, ConversionContext, convert_controller};
use super::reorder::{NewOrder, ReorderOptions, reorder};
use super::travel::{Body, busiest_rig, carrier};

pub use claim::{centred, lifted, pinned, unpinned};

/// What moves to the root, and how.
#[derive(Clone, Debug)]
pub struct RootOptions {
    /// Whether the turn about the up axis goes along.
    pub turn: bool,
    /// Whether the height goes along.
    pub height: bool,
    /// Whether only a constant speed goes, and what is uneven stays.
    pub steady: bool,
    /// What a root that has to be made is called.
    pub name: String,
    /// The node that carries the body, by address; the hips where left out.
    pub node: Option<String>,
    /// How far rotations that have to be reordered may be from their source.
    pub tolerance: Tolerance,
}

impl Default for RootOptions {
    fn default() -> RootOptions {
        RootOptions {
            turn: true,
            height: false,
            steady: false,
            name: "root".into(),
            node: None,
            tolerance: Tolerance::default(),
        }
    }
}

/// Why root motion cannot be changed.
#[derive(Clone, Debug, PartialEq, Error)]
pub enum RootError {
    /// Nothing carries the body.
    #[error("no node is named for hips, and none is moved along: name the node with --node")]
    NoCarrier,
    /// No such node.
    #[error("there is no node '{0}'{hint}", hint = .1.as_ref().map(|name| format!(": did you mean '{name}'?")).unwrap_or_default())]
    NoNode(String, Option<String>),
    /// A node stands or is turned so that its axes are not the world's.
    #[error("'{0}' or a node above it rests turned or scaled: its axes are not those of the world")]
    RestsTurned(String),
    /// The root turns by itself, or changes its size.
    #[error("'{0}' turns or grows by itself: what moves below it has no exact place on it")]
    RootTurns(String),
    /// A layer that mixes rotations as wholes, or angles of different orders, which mix as wholes.
    #[error("layer '{0}' mixes rotations as wholes: flatten the layers first")]
    Mixed(String),
    /// A layer of a node that turns about the up axis in the middle of its order.
    #[error(
        "layer '{0}' turns the node in an order in which the turn does not come last: flatten the layers, or reorder"
    )]
    Layered(String),
    /// A controller that cannot be taken apart.
    #[error("{channel}: {why}")]
    Cannot {
        /// The channel.
        channel: String,
        /// What is wrong.
        why: String,
    },
    /// A constant speed that turns.
    #[error("a steady speed needs a way without turns: leave the turn where it is with --no-turn")]
    SteadyTurns,
    /// Nothing was taken out that could be put back.
    #[error("nothing is pinned: there is nothing to restore")]
    NothingPinned,
    /// A controller that cannot be evaluated.
    #[error(transparent)]
    Evaluate(#[from] EvaluateError),
}

/// The node that carries a body, and what its axes are.
struct Carrier {
    rig: usize,
    id: NodeId,
    up: usize,
    address: String,
    rest: DVec3,
}

/// The entry of a stack that keeps what was pinned.
const PINNED: &str = "pinned";
const IN_PLACE: &str = "in place";

impl Carrier {
    fn find(scene: &Scene, node: Option<&str>, prefer_root: bool) -> Result<Carrier, RootError> {
        let addresses = Addresses::new(scene);
        let (index, id) = match node {
            Some(name) => addresses.find(name).map_err(|_| {
                let texts: Vec<&str> = addresses.texts().collect();
                RootError::NoNode(
                    name.to_owned(),
                    nimble_curve_scene::similar::similar_address(name, texts.into_iter()),
                )
            })?,
            None => {
                // The rig that moves most: a prop beside a character carries nobody.
                let found = scene.takes.iter().find_map(|take| {
                    let index = busiest_rig(scene, take);
                    Some((index, carrier(scene, take, index)?))
                });
                let (index, position) = found.ok_or(RootError::NoCarrier)?;
                let rig = &scene.rigs[index];
                let hips = rig.nodes().nth(position).map(|(id, _)| id).ok_or(RootError::NoCarrier)?;
                let moves = |id: NodeId| {
                    let mut tracks = scene.takes.iter().flat_map(Take::tracks);
                    tracks.any(|(_, track)| (track.target.rig, track.target.node) == (index, id))
                };
                // A root that moves carries the hips along.
                let above = std::iter::successors(rig.parent(hips), |id| rig.parent(*id));
                let root = above.filter(|id| moves(*id)).last();
                (index, root.filter(|_| prefer_root).unwrap_or(hips))
            }
        };
        let rig = &scene.rigs[index];
        let address = addresses.node((index, id)).to_owned();
        let plain = |id: NodeId| {
            let node = rig.node(id)?;
            let view = node.canonical()?;
            let straight = angle_between(view.before, DQuat::IDENTITY) < 1e-9;
            Some((view.translation, straight && (view.scale - DVec3::ONE).abs().max_element() < 1e-9))
        };
        let (rest, own_straight) = plain(id).ok_or_else(|| RootError::RestsTurned(address.clone()))?;
        let above = std::iter::successors(rig.parent(id), |id| rig.parent(*id));
        let all_straight = above.into_iter().all(|id| {
            let turned =
                rig.node(id).map_or(DQuat::IDENTITY, |node| node.rest().to_scale_rotation_translation().1);
            plain(id).is_some_and(|(_, straight)| straight) && angle_between(turned, DQuat::IDENTITY) < 1e-9
        });
        if !own_straight || !all_straight {
            return Err(RootError::RestsTurned(address));
        }
        Ok(Carrier { rig: index, id, up: scene.space.up.index(), address, rest })
    }

    fn target(&self, property: &str) -> Target {
        Target { rig: self.rig, node: self.id, property: property.into() }
    }

    /// The axes of the ground.
    fn ground(&self) -> [usize; 2] {
        [(self.up + 1) % 3, (self.up + 2) % 3]
    }

    /// A rotation order in which the turn about the up axis acts last.
    fn order(&self) -> RotationOrder {
        let [a, b] = self.ground();
        // The middle axis is the one that hips turn about least far: sideways in space, x where it lies on the ground.
        let (middle, inner) = if a == 0 || self.up == 0 { (a, b) } else { (b, a) };
        RotationOrder::from_axes(self.up, middle, inner).unwrap_or(RotationOrder::Xyz)
    }

    /// Gives a value to every component of the place wherever a layer replaces what lies under it: the one that counts there.
    fn fill(&self, take: &mut Take) {
        let target = self.target("translation");
        let first = take.range.first;
        let constant = |axis: usize| Curve::constant(first, self.rest[axis]);
        for (index, layer) in take.layers.iter_mut().enumerate() {
            if layer.mode != LayerMode::Override {
                continue;
            }
            match layer.tracks.iter_mut().find(|track| track.target == target) {
                Some(Track { controller: Controller::Components(curves), .. }) => {
                    curves.resize(3, Curve::default());
                    for (axis, curve) in curves.iter_mut().enumerate().filter(|(_, curve)| curve.is_empty()) {
                        *curve = constant(axis);
                    }
                }
                Some(_) => {}
                None if index == 0 => {
                    let controller = Controller::Components([0, 1, 2].map(constant).to_vec());
                    layer.tracks.push(Track { target: target.clone(), controller });
                }
                None => {}
            }
        }
    }

    /// Whether what layers above the lowest one do to the node lies on something that counts in full.
    fn check_base(&self, take: &Take) -> Result<(), RootError> {
        let moves = |layer: &&Layer| {
            let is_own =
                |property: &str| layer.tracks.iter().any(|track| self.is_mine(&track.target, property));
            is_own("translation") || is_own("rotation")
        };
        match (take.layers.first(), take.layers.iter().skip(1).find(moves)) {
            (Some(base), Some(layer)) if !base.is_whole() => Err(RootError::Cannot {
                channel: self.address.clone(),
                why: format!(
                    "it moves on layer '{}', and '{}' below does not count in full: flatten the layers first",
                    layer.name, base.name
                ),
            }),
            _ => Ok(()),
        }
    }

    /// Whether the angles of all layers are of one order, so that they add up one by one.
    fn check_turns(&self, scene: &Scene, take: &Take) -> Result<(), RootError> {
        let own = || {
            let layers = take.layers.iter().enumerate();
            layers
                .flat_map(|(index, layer)| layer.tracks.iter().map(move |track| (index, layer, track)))
                .filter(|(.., track)| self.is_mine(&track.target, "rotation"))
        };
        let rest = scene.rigs[self.rig].rest_value(self.id, "rotation").and_then(|rest| rest.order());
        let orders = || std::iter::once(rest).chain(own().map(|(.., track)| track.controller.order()));
        match own().find(|(index, ..)| *index > 0) {
            Some((_, layer, _)) if orders().any(|order| order.is_none() || order != rest) => {
                Err(RootError::Mixed(layer.name.clone()))
            }
            _ => Ok(()),
        }
    }

    fn is_mine(&self, target: &Target, property: &str) -> bool {
        (target.rig, target.node, target.property.as_str()) == (self.rig, self.id, property)
    }
}

/// A scene in which the hips turn about the up axis last, in curves or samples, and what that did to them.
fn ready(scene: &Scene, carrier: &Carrier, options: &RootOptions) -> Result<(Scene, Ledger), RootError> {
    let mut scene = scene.clone();
    let mut ledger = Ledger::default();
    let mixed = scene.takes.iter().flat_map(|take| take.layers.iter().skip(1)).find(|layer| {
        layer.rotations == RotationMixing::Quaternions
            && layer.tracks.iter().any(|track| carrier.is_mine(&track.target, "rotation"))
    });
    if let Some(layer) = mixed.filter(|_| options.turn) {
        return Err(RootError::Mixed(layer.name.clone()));
    }
    if options.turn {
        scene.takes.iter().try_for_each(|take| carrier.check_turns(&scene, take))?;
        let rest = scene.rigs[carrier.rig].rest_value(carrier.id, "rotation");
        let is_last = |order: RotationOrder| order.axes().0 == carrier.up;
        match rest {
            Some(Value::Euler { order, .. }) if !is_last(order) => {
                let to = NewOrder::To(carrier.order());
                let only = vec![carrier.address.clone()];
                let tolerance = options.tolerance.angle;
                let reordered =
                    reorder(&scene, &ReorderOptions { to, only, tolerance, handles: Some(Handles::Plain) });
                if let Ok((turned, more)) = reordered {
                    scene = turned;
                    ledger.entries.extend(more.entries);
                }
            }
            Some(Value::Quaternion(q)) => {
                let order = carrier.order();
                let angles = principal_euler(order, q.normalize());
                let node = scene.rigs[carrier.rig].node_mut(carrier.id);
                let ops = node.map(|node| node.transform.iter_mut()).into_iter().flatten();
                for op in ops.filter(|op| op.name == "rotation") {
                    op.value = OpValue::Rotate { order, angles };
                }
            }
            _ => {}
        }
    }
    let addresses = Addresses::new(&scene);
    let mut takes = scene.takes.clone();
    for (own, take) in takes.iter_mut().zip(&scene.takes) {
        for (index, layer) in take.layers.iter().enumerate() {
            for (at, track) in layer.tracks.iter().enumerate() {
                let rotation = options.turn && carrier.is_mine(&track.target, "rotation");
                if !rotation && !carrier.is_mine(&track.target, "translation") {
                    continue;
                }
                let cannot =
                    |why: String| RootError::Cannot { channel: addresses.property(&track.target), why };
                let Some((kind, rest)) = property(&scene, take, index, track) else { continue };
                let tolerance = options.tolerance.of(kind.quantity(), &scene.space);
                let setting =
                    ConversionContext { kind, rest, tolerance, rate: scene.rate, range: take.range };
                if is_plain(&track.controller, carrier, rotation) {
                    continue;
                }
                let changed = convert_controller(&track.controller, ControllerType::Curves, &setting)
                    .map_err(|why| cannot(why.to_string()))?;
                // A node whose layers cannot be said in another order has kept its own.
                if !is_plain(&changed.controller, carrier, rotation) {
                    let why =
                        "the turn about the up axis cannot be made to act last: flatten the layers first";
                    return Err(cannot(why.to_owned()));
                }
                let entry = Entry {
                    take: take.name.clone(),
                    layer: layer.name.clone(),
                    channel: addresses.property(&track.target),
                    to: None,
                    target: Some(track.target.clone()),
                    fate: changed.fate,
                    error: changed.error.map(|error| error.in_frames(scene.rate)),
                    before: count(track),
                    after: changed.controller.key_count(),
                    note: String::new(),
                };
                ledger.entries.push(entry);
                own.layers[index].tracks[at].controller = changed.controller;
            }
        }
    }
    scene.takes = takes;
    Ok((scene, ledger))
}

/// Whether a controller can be taken apart by its components.
fn is_plain(controller: &Controller, carrier: &Carrier, is_rotation: bool) -> bool {
    match controller {
        Controller::Components(_) => !is_rotation,
        Controller::Samples(Samples { kind: SampleKind::Vector, .. }) => !is_rotation,
        Controller::Euler(_) | Controller::Samples(_) => {
            is_rotation && controller.outermost_axis() == Some(carrier.up)
        }
        _ => false,
    }
}

/// Lifts travel and turn from the hips of the first rig to the node above them, which is made where there is none.
///
/// # Errors
/// See [`RootError`].
pub fn lift(scene: &Scene, options: &RootOptions) -> Result<(Scene, Ledger), RootError> {
    let carrier = Carrier::find(scene, options.node.as_deref(), false)?;
    let (mut result, mut ledger) = ready(scene, &carrier, options)?;
    let root = match result.rigs[carrier.rig].parent(carrier.id) {
        Some(root) => root,
        None => {
            let node = Node::new(
                free_name(&result.rigs[carrier.rig], &options.name),
                NodeKind::Root,
                DVec3::ZERO,
                carrier.order(),
            );
            let made = result.rigs[carrier.rig].insert_above(carrier.id, node);
            made.map_err(|_| RootError::NoCarrier)?
        }
    };
    let addresses = Addresses::new(&result);
    let root_name = addresses.node((carrier.rig, root)).to_owned();
    let beside: Vec<&str> = (result.rigs[carrier.rig].children(Some(root)))
        .filter(|id| *id != carrier.id)
        .map(|id| addresses.node((carrier.rig, id)))
        .collect();
    if !beside.is_empty() {
        let (some, more) = (beside.len().min(3), beside.len().saturating_sub(3));
        let more = if more > 0 { format!(" and {more} more") } else { String::new() };
        let names = beside[..some].join(", ");
        ledger.notes.push(format!("{root_name} takes along what else stands on it: {names}{more}"));
    }
    // The root stands below the hips, or beside them as at rest where it does not turn.
    let mut keep = carrier.rest;
    if options.turn {
        carrier.ground().into_iter().for_each(|axis| keep[axis] = 0.0);
    }
    let above = Above { scene: &result, root, name: &root_name, carrier: &carrier, keep, options };
    let mut takes = result.takes.clone();
    for take in &mut takes {
        above.check(take)?;
        if (carrier.ground().into_iter()).any(|axis| carrier.rest[axis] != keep[axis]) && above.moves(take) {
            carrier.fill(take);
        }
    }
    for take in &mut takes {
        if options.steady && options.turn && above.turns(take) {
            return Err(RootError::SteadyTurns);
        }
        let range = take.range;
        for index in 0..take.layers.len() {
            let mut lifted: Vec<Track> = Vec::new();
            let mode = take.layers[index].mode;
            let layer = take.layers[index].name.clone();
            for track in &mut take.layers[index].tracks {
                let property = track.target.property.clone();
                let before = count(track);
                let moved = match property.as_str() {
                    "translation" if carrier.is_mine(&track.target, "translation") => {
                        above.translation(&mut track.controller, range, mode)
                    }
                    "rotation" if options.turn && carrier.is_mine(&track.target, "rotation") => {
                        above.rotation(&mut track.controller, range, mode)
                    }
                    _ => continue,
                };
                let keys = moved.value_count();
                let channel = addresses.property(&track.target);
                let to = Target { rig: carrier.rig, node: root, property };
                note(
                    &mut ledger,
                    Entry {
                        take: take.name.clone(),
                        layer: layer.clone(),
                        channel,
                        to: Some(addresses.property(&to)),
                        target: Some(track.target.clone()),
                        fate: Fate::Exact,
                        error: None,
                        before,
                        after: count(track) + keys,
                        note: format!("travel moved to {root_name}"),
                    },
                );
                lifted.push(Track { target: to, controller: moved });
            }
            for track in lifted {
                above.put(&mut take.layers[index].tracks, track, mode, range)?;
            }
        }
    }
    result.takes = takes;
    Ok((result, ledger))
}

/// An entry, joined with the one of the same channel before it.
fn note(ledger: &mut Ledger, entry: Entry) {
    let same = |own: &&mut Entry| {
        (&own.take, &own.layer, &own.channel) == (&entry.take, &entry.layer, &entry.channel)
    };
    match ledger.entries.iter_mut().find(same) {
        Some(own) => {
            own.fate = own.fate.max(entry.fate);
            own.after = entry.after;
            own.to = entry.to;
            own.note = if own.note.is_empty() { entry.note } else { format!("{}; {}", own.note, entry.note) };
        }
        None => ledger.entries.push(entry),
    }
}

fn free_name(rig: &Rig, name: &str) -> String {
    let taken = |name: &str| rig.nodes().any(|(_, node)| node.name == name);
    // In the namespace of the rig.
    let first = rig.nodes().next().map_or(String::new(), |(_, node)| node.name.clone());
    let bare = nimble_curve_scene::address::without_namespace(&first);
    let name = match name.contains(':') {
        true => name.to_owned(),
        false => format!("{}{name}", &first[..first.len() - bare.len()]),
    };
    if !taken(&name) {
        return name;
    }
    (2..).map(|n| format!("{name}_{n}")).find(|name| !taken(name)).unwrap_or_default()
}

/// The root above the hips.
struct Above<'a> {
    scene: &'a Scene,
    root: NodeId,
    name: &'a str,
    carrier: &'a Carrier,
    /// Where the hips stay.
    keep: DVec3,
    options: &'a RootOptions,
}

impl Above<'_> {
    /// Which components of the hips' place go.
    fn goes(&self, axis: usize) -> bool {
        axis != self.carrier.up || self.options.height
    }

    /// Whether the hips travel or turn in a take.
    fn moves(&self, take: &Take) -> bool {
        let is_own = |track: &Track, property: &str| self.carrier.is_mine(&track.target, property);
        take.tracks()
            .any(|(_, track)| is_own(track, "translation") || self.options.turn && is_own(track, "rotation"))
    }

    /// Whether what moves to the root adds up with what the layers of a take do to both.
    fn check(&self, take: &Take) -> Result<(), RootError> {
        if !self.moves(take) {
            return Ok(());
        }
        let is_on = |layer: &Layer, node: NodeId, property: &str| {
            let target = Target { rig: self.carrier.rig, node, property: property.into() };
            layer.tracks.iter().any(|track| track.target == target)
        };
        let root_has = |property: &str| take.layers.iter().any(|layer| is_on(layer, self.root, property));
        if root_has("rotation") || root_has("scale") {
            return Err(RootError::RootTurns(self.name.to_owned()));
        }
        self.carrier.check_base(take)?;
        let overriding = || take.layers.iter().skip(1).filter(|layer| layer.mode == LayerMode::Override);
        if root_has("translation")
            && let Some(layer) = overriding().find(|layer| {
                is_on(layer, self.root, "translation") != is_on(layer, self.carrier.id, "translation")
            })
        {
            let why = format!(
                "layer '{}' replaces one of it and '{}' alone: flatten the layers first",
                layer.name, self.name
            );
            return Err(RootError::Cannot { channel: format!("{}:translation", self.carrier.address), why });
        }
        Ok(())
    }

    fn root_rest(&self) -> DVec3 {
        match self.scene.rigs[self.carrier.rig].rest_value(self.root, "translation") {
            Some(Value::Vector(v)) => v,
            _ => DVec3::ZERO,
        }
    }

    fn rest_angle(&self) -> f64 {
        match self.scene.rigs[self.carrier.rig].rest_value(self.carrier.id, "rotation") {
            Some(Value::Euler { angles, .. }) => angles[self.carrier.up],
            _ => 0.0,
        }
    }

    fn turns(&self, take: &Take) -> bool {
        take.tracks().any(|(_, track)| {
            self.carrier.is_mine(&track.target, "rotation")
                && match &track.controller {
                    Controller::Euler(euler) => !euler.curves[self.carrier.up].is_constant(),
                    Controller::Samples(samples) => {
                        let angle = |index: usize| samples.row(index)[self.carrier.up];
                        (1..samples.len()).any(|index| (angle(index) - angle(0)).abs() > 1e-9)
                    }
                    _ => false,
                }
        })
    }

    /// Takes the travel out of the hips' places, and returns it as the root's.
    fn translation(&self, own: &mut Controller, range: TimeRange, mode: LayerMode) -> Controller {
        let is_override = mode == LayerMode::Override;
        let root_rest = self.root_rest();
        // What the hips keep, and what the root's own place adds; nothing on additive layers.
        let keep = |axis: usize| if is_override { self.keep[axis] } else { 0.0 };
        let add = |axis: usize| if is_override { root_rest[axis] } else { 0.0 };
        match own {
            Controller::Components(curves) => {
                let mut root: Vec<Curve> = vec![Curve::default(); 3];
                for axis in (0..3).filter(|axis| self.goes(*axis)) {
                    let Some(curve) = curves.get_mut(axis).filter(|curve| !curve.is_empty()) else {
                        continue;
                    };
                    let offset = add(axis) - keep(axis);
                    if self.options.steady {
                        let (line, rest) = steady(curve, range);
                        root[axis] = line.affine(1.0, offset);
                        *curve = rest.affine(1.0, keep(axis));
                    } else {
                        root[axis] = curve.affine(1.0, offset);
                        *curve = if is_override {
                            Curve::constant(range.first, keep(axis))
                        } else {
                            Curve::default()
                        };
                    }
                }
                Controller::Components(root)
            }
            Controller::Samples(samples) => {
                let mut root =
                    Samples { values: Vec::with_capacity(samples.values.len()), ..samples.clone() };
                let last = samples.len().saturating_sub(1);
                let ends = [samples.row(0).to_vec(), samples.row(last).to_vec()];
                for (index, row) in samples.values.chunks_mut(3).enumerate() {
                    let part = index as f64 / last.max(1) as f64;
                    for axis in 0..3 {
                        if !self.goes(axis) {
                            root.values.push(add(axis));
                            continue;
                        }
                        let even = ends[0][axis] + (ends[1][axis] - ends[0][axis]) * part;
                        let moved = if self.options.steady { even } else { row[axis] };
                        root.values.push(moved + add(axis) - keep(axis));
                        row[axis] = row[axis] - moved + keep(axis);
                    }
                }
                Controller::Samples(root)
            }
            _ => Controller::Components(Vec::new()),
        }
    }

    /// Takes the turn about the up axis out of the hips, and returns it as the root's.
    fn rotation(&self, own: &mut Controller, range: TimeRange, mode: LayerMode) -> Controller {
        let up = self.carrier.up;
        let keep = if mode == LayerMode::Override { self.rest_angle() } else { 0.0 };
        let order = match self.scene.rigs[self.carrier.rig].rest_value(self.root, "rotation") {
            Some(Value::Euler { order, .. }) => order,
            _ => self.carrier.order(),
        };
        match own {
            Controller::Euler(euler) => {
                let mut curves = [Curve::default(), Curve::default(), Curve::default()];
                let curve = &mut euler.curves[up];
                if !curve.is_empty() {
                    curves[up] = curve.affine(1.0, -keep);
                    *curve = match mode {
                        LayerMode::Override => Curve::constant(range.first, keep),
                        LayerMode::Additive => Curve::default(),
                    };
                }
                Controller::Euler(EulerCurves { order, curves })
            }
            Controller::Samples(samples) => {
                let mut values = Vec::with_capacity(samples.values.len());
                for row in samples.values.chunks_mut(3) {
                    values.extend((0..3).map(|axis| if axis == up { row[axis] - keep } else { 0.0 }));
                    row[up] = keep;
                }
                Controller::Samples(Samples { values, kind: SampleKind::Euler(order), ..samples.clone() })
            }
            _ => Controller::Components(Vec::new()),
        }
    }

    /// Puts a track of the root onto a layer; where one is there already both add up.
    fn put(
        &self,
        tracks: &mut Vec<Track>,
        track: Track,
        mode: LayerMode,
        range: TimeRange,
    ) -> Result<(), RootError> {
        let Some(there) = tracks.iter_mut().find(|own| own.target == track.target) else {
            tracks.push(track);
            return Ok(());
        };
        let cannot = |why: &str| RootError::Cannot {
            channel: format!("{}:{}", self.name, track.target.property),
            why: why.to_owned(),
        };
        let rest = if mode == LayerMode::Override { self.root_rest() } else { DVec3::ZERO };
        let curves = |controller: &Controller| {
            let setting = ConversionContext {
                kind: PropertyKind::Vector(Quantity::Length),
                rest: Value::Vector(rest),
                tolerance: self.options.tolerance.of(Quantity::Length, &self.scene.space),
                rate: self.scene.rate,
                range,
            };
            let changed = convert_controller(controller, ControllerType::Curves, &setting);
            changed.map(|changed| changed.controller).map_err(|why| cannot(&why.to_string()))
        };
        let (Controller::Components(own), Controller::Components(new)) =
            (curves(&there.controller)?, curves(&track.controller)?)
        else {
            return Err(cannot("the root moves already, in another way than by curves"));
        };
        let mut sums = Vec::with_capacity(3);
        for (axis, (own, new)) in own.iter().zip(&new).enumerate() {
            sums.push(match (own.is_empty(), new.is_empty()) {
                (_, true) => own.clone(),
                (true, false) => new.clone(),
                _ => combine(&[(1.0, own), (1.0, new)], -rest[axis]).ok_or_else(|| {
                    cannot("weighted handles do not add up exactly: unbake or flatten first")
                })?,
            });
        }
        there.controller = Controller::Components(sums);
        Ok(())
    }
}

/// A straight line between a curve's values at the ends of a range, and what is left: both begin at nothing more than the
/// line's own start.
fn steady(curve: &Curve, range: TimeRange) -> (Curve, Curve) {
    let at = |time: Ticks| curve.value_at(time.as_f64()).unwrap_or(0.0);
    let (first, last) = (at(range.first), at(range.last));
    let seconds = range.seconds();
    if seconds <= 0.0 {
        return (Curve::constant(range.first, first), Curve::constant(range.first, 0.0));
    }
    let key = |time, value| Key::new(time, value).with_interpolation(Interpolation::Linear);
    let line = Curve::new(vec![key(range.first, first), key(range.last, last)]).unwrap_or_default();
    let slope = (last - first) / seconds;
    // Within the range, so that held ends do not run away.
    let rest = curve.trimmed(range).plus_line(-slope, range.first).affine(1.0, -first);
    (
        line,
        rest.with_behaviours(
            nimble_curve_curves::curve::Behaviour::Held,
            nimble_curve_curves::curve::Behaviour::Held,
        ),
    )
}

/// Takes travel and turn out of the root, or of the hips where no root moves. What was there stays in the file, as an entry of
/// weight 0 of a stack, and [`restore`] puts it back exactly.
///
/// # Errors
/// See [`RootError`].
pub fn pin(scene: &Scene, options: &RootOptions) -> Result<(Scene, Ledger), RootError> {
    let carrier = Carrier::find(scene, options.node.as_deref(), true)?;
    let turned_last = |scene: &Scene| match scene.rigs[carrier.rig].rest_value(carrier.id, "rotation") {
        Some(Value::Euler { order, .. }) => order.axes().0 == carrier.up,
        _ => false,
    };
    if options.turn && !turned_last(scene) {
        // Layers that mix angles mean those of the node's own order.
        let layered = scene
            .takes
            .iter()
            .flat_map(|take| take.layers.iter().skip(1))
            .find(|layer| layer.tracks.iter().any(|track| carrier.is_mine(&track.target, "rotation")));
        if let Some(layer) = layered {
            return Err(RootError::Layered(layer.name.clone()));
        }
    }
    let (ready, mut ledger) = ready(scene, &carrier, options)?;
    let addresses = Addresses::new(scene);
    let mut result = scene.clone();
    let (root, name, keep) = (carrier.id, &carrier.address, carrier.rest);
    let above = Above { scene: &ready, root, name, carrier: &carrier, keep, options };
    for ((take, source), plain) in result.takes.iter_mut().zip(&scene.takes).zip(&ready.takes) {
        if options.steady && options.turn && above.turns(plain) {
            return Err(RootError::SteadyTurns);
        }
        for (index, layer) in source.layers.iter().enumerate() {
            for (at, track) in layer.tracks.iter().enumerate() {
                let mut own = plain.layers[index].tracks[at].controller.clone();
                match track.target.property.as_str() {
                    "translation" if carrier.is_mine(&track.target, "translation") => {
                        above.translation(&mut own, take.range, layer.mode);
                    }
                    "rotation" if options.turn && carrier.is_mine(&track.target, "rotation") => {
                        above.rotation(&mut own, take.range, layer.mode);
                    }
                    _ => continue,
                }
                if matches!(&track.controller, Controller::Stack(entries) if entries.iter().any(|e| e.name == PINNED))
                {
                    continue;
                }
                let entry = |name: &str, weight, controller| StackEntry {
                    name: name.to_owned(),
                    weight: Weight::Constant(weight),
                    controller,
                };
                let pinned = Controller::Stack(vec![
                    entry(IN_PLACE, 1.0, own),
                    entry(PINNED, 0.0, track.controller.clone()),
                ]);
                let made = &mut take.layers[index].tracks[at];
                made.controller = pinned;
                note(
                    &mut ledger,
                    Entry {
                        take: source.name.clone(),
                        layer: layer.name.clone(),
                        channel: addresses.property(&track.target),
                        to: None,
                        target: Some(track.target.clone()),
                        fate: Fate::Exact,
                        error: None,
                        before: count(track),
                        after: count(made),
                        note: "in place; the travel is kept beside it with weight 0".into(),
                    },
                );
            }
        }
    }
    Ok((result, ledger))
}

/// Puts back what [`pin`] took out, bit by bit.
///
/// # Errors
/// [`RootError::NothingPinned`].
pub fn restore(scene: &Scene) -> Result<(Scene, Ledger), RootError> {
    let addresses = Addresses::new(scene);
    let mut result = scene.clone();
    let mut ledger = Ledger::default();
    for take in &mut result.takes {
        for layer in &mut take.layers {
            for track in &mut layer.tracks {
                let Controller::Stack(entries) = &track.controller else { continue };
                let Some(pinned) = entries.iter().find(|entry| entry.name == PINNED) else { continue };
                let (before, controller) = (count(track), pinned.controller.clone());
                track.controller = controller;
                ledger.entries.push(Entry {
                    take: take.name.clone(),
                    layer: layer.name.clone(),
                    channel: addresses.property(&track.target),
                    to: None,
                    target: Some(track.target.clone()),
                    fate: Fate::Kept,
                    error: None,
                    before,
                    after: count(track),
                    note: "as it was before it was pinned".into(),
                });
            }
        }
    }
    if ledger.entries.is_empty() { Err(RootError::NothingPinned) } else { Ok((result, ledger)) }
}

/// Puts a node at the origin of the ground: all of it is shifted by its place at the first frame, or, `throughout`, its
/// travel is taken off at every frame.
///
/// # Errors
/// See [`RootError`].
pub fn centre(scene: &Scene, node: &str, throughout: bool) -> Result<(Scene, Ledger), RootError> {
    let carrier = Carrier::find(scene, Some(node), false)?;
    let target = carrier.target("translation");
    let addresses = Addresses::new(scene);
    let mut result = scene.clone();
    let mut ledger = Ledger::default();
    for (take, source) in result.takes.iter_mut().zip(&scene.takes) {
        let range = source.range;
        let mut sampler = nimble_curve_scene::evaluate::PropertySampler::new(scene, source, &target)?;
        let Value::Vector(start) = sampler.value_at(range.first.as_f64()) else { continue };
        carrier.check_base(source)?;
        let moved = |axis: usize, place: f64| if throughout { 0.0 } else { place - start[axis] };
        for (index, layer) in source.layers.iter().enumerate() {
            // What adds to a place has none itself.
            let is_override = layer.mode == LayerMode::Override;
            for (at, track) in layer.tracks.iter().enumerate().filter(|(_, track)| track.target == target) {
                if !throughout && !is_override {
                    continue;
                }
                let cannot = |why: String| RootError::Cannot { channel: addresses.property(&target), why };
                let Some((kind, rest)) = property(scene, source, index, track) else { continue };
                let setting = ConversionContext { kind, rest, tolerance: 1e-6, rate: scene.rate, range };
                let plain = match &track.controller {
                    Controller::Samples(samples) if samples.kind == SampleKind::Vector => {
                        track.controller.clone()
                    }
                    other => {
                        convert_controller(other, ControllerType::Curves, &setting)
                            .map_err(|why| cannot(why.to_string()))?
                            .controller
                    }
                };
                let made = match plain {
                    Controller::Components(mut curves) => {
                        curves.resize(3, Curve::default());
                        for axis in carrier.ground() {
                            let curve = &mut curves[axis];
                            *curve = match (is_override, throughout) {
                                (false, _) => Curve::default(),
                                (true, false) if !curve.is_empty() => curve.affine(1.0, -start[axis]),
                                (true, _) => Curve::constant(range.first, moved(axis, carrier.rest[axis])),
                            };
                        }
                        Controller::Components(curves)
                    }
                    Controller::Samples(mut samples) => {
                        for row in samples.values.chunks_mut(3) {
                            carrier.ground().into_iter().for_each(|axis| row[axis] = moved(axis, row[axis]));
                        }
                        Controller::Samples(samples)
                    }
                    other => other,
                };
                let own = &mut take.layers[index].tracks[at];
                own.controller = made;
                ledger.entries.push(Entry {
                    take: source.name.clone(),
                    layer: layer.name.clone(),
                    channel: addresses.property(&target),
                    to: None,
                    target: Some(target.clone()),
                    fate: Fate::Exact,
                    error: None,
                    before: count(track),
                    after: count(own),
                    note: if throughout { "stays at the origin" } else { "starts at the origin" }.into(),
                });
            }
        }
        // Where it only moves on layers above, it rests below them.
        let is_mine = |track: &Track| track.target == target;
        if source.tracks().any(|(_, track)| is_mine(track))
            && let Some(base) = take.layers.first_mut().filter(|base| !base.tracks.iter().any(is_mine))
        {
            let mut curves = vec![Curve::default(); 3];
            for axis in carrier.ground() {
                curves[axis] = Curve::constant(range.first, moved(axis, carrier.rest[axis]));
            }
            base.tracks.push(Track { target: target.clone(), controller: Controller::Components(curves) });
        }
    }
    if ledger.entries.is_empty() {
        return Err(RootError::Cannot {
            channel: addresses.property(&target),
            why: "it does not move: there is nothing to take off".into(),
        });
    }
    Ok((result, ledger))
}

/// Where the carrier is at one frame, in units, and which way it faces, in radians.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Step {
    /// The frame.
    pub frame: f64,
    /// The place: along the two axes of the ground, to the right and ahead as seen from above, and its height.
    pub place: [f64; 3],
    /// The heading, counterclockwise from above.
    pub heading: f64,
}

/// The way of the body of the rig that moves most, at whole frames.
///
/// # Errors
/// Where a pose cannot be evaluated.
pub fn way(scene: &Scene, take: &Take, range: TimeRange) -> Result<Vec<Step>, EvaluateError> {
    let mut body = Body::new(scene, take, busiest_rig(scene, take))?;
    let map = nimble_curve_scene::space::AxisMap::between(
        &scene.space,
        &nimble_curve_scene::space::Space {
            metres_per_unit: scene.space.metres_per_unit,
            ..nimble_curve_scene::space::Space::METRES_Y_UP
        },
    );
    let mut pose = Pose::default();
    let rate = scene.rate;
    let (first, last) = (rate.frame(range.first).ceil() as i64, rate.frame(range.last).floor() as i64);
    Ok((first..=last)
        .map(|frame| {
            let instant = body.at(rate.ticks(frame).as_f64(), &mut pose);
            let place = map.direction(instant.place);
            Step { frame: frame as f64, place: [place.x, place.z, place.y], heading: instant.heading }
        })
        .collect())
}
