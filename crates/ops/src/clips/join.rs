//! Takes one after the other on one timeline, each a named range of it.

use std::collections::BTreeSet;

use glam::{DQuat, DVec3};
use nimble_curve_curves::curve::{
    Behaviour, Curve, Discrete, DiscreteCurve, Interpolation, Key, Tangent, TangentMode,
};
use nimble_curve_curves::rotation::{RotationOrder, nearest_euler};
use nimble_curve_curves::time::{Ticks, TimeRange};
use nimble_curve_curves::value::Value;
use nimble_curve_scene::controller::{
    Controller, EulerCurves, QuaternionCurve, QuaternionInterpolation, QuaternionKey, SampleKind, Samples,
    Weight,
};
use nimble_curve_scene::ledger::Ledger;
use nimble_curve_scene::scene::{Clip, Layer, LayerMode, PropertyKind, Scene, Take, Target, Track};

use super::error::JoinError;
use super::transplanted;
use crate::channel::{Tolerance, property};
use crate::conversion::{ControllerType, ConversionContext, convert_controller};
use crate::retime::shifted;
use crate::select::{Selection, select};

/// How to put takes together.
#[derive(Clone, Debug)]
pub struct JoinOptions {
    /// What the one take is called.
    pub name: String,
    /// Frames between one clip and the next in which the last pose is held.
    pub gap: u32,
    /// The first frame; that of the first take where left out.
    pub start: Option<f64>,
    /// Whether each clip goes on where the one before it ended, turned by what those before it turned.
    pub go_on: bool,
    /// How far controllers that have to change may be from their source.
    pub tolerance: Tolerance,
}

/// Puts the takes of several scenes on one timeline, on the rigs of the first one. Every take becomes a clip of its name;
/// keys outside the takes' ranges go.
///
/// ```
/// # use nimble_curve_curves::{curve::Curve, rotation::RotationOrder, time::{FrameRate, TimeRange}};
/// # use nimble_curve_scene::controller::{Controller, EulerCurves};
/// # use nimble_curve_scene::rig::{Node, NodeKind, ROTATION, Rig, TRANSLATION};
/// # use nimble_curve_scene::scene::{Clip, Layer, Scene, Take, Target, Track};
/// # use nimble_curve_scene::space::Space;
/// # let rate = FrameRate::FPS_24;
/// # let mut rig = Rig::new("figure");
/// # let hips = rig.add(None, Node::new("hips", NodeKind::Joint, glam::DVec3::Y, RotationOrder::Yxz))?;
/// # let curves = |keys: [&[(i64, f64)]; 3]| keys.map(|keys| Curve::through(rate, keys.iter().copied()).unwrap());
/// # let track = |property: &str, controller| Track { target: Target::new(0, hips, property), controller };
/// # let take = |name: &str, last, tracks| Take::new(name, TimeRange::new(rate.ticks(0), rate.ticks(last)), vec![Layer::base(tracks)]);
/// # let at = |curve: &Curve, frame: i64| curve.value_at(rate.ticks(frame).as_f64()).unwrap();
/// # let scene = |take: Take| Scene::new(rate, Space::METRES_Y_UP).with_rig(rig.clone()).with_take(take);
/// use nimble_curve_ops::clips::{JoinOptions, join};
/// use nimble_curve_ops::Tolerance;
///
/// // Hips that walk along z and sway: one step of a loop.
/// let places = curves([&[(0, 0.0), (12, 0.1), (24, 0.0)], &[(0, 1.0), (24, 1.0)], &[(0, 0.0), (24, 1.4)]]);
/// let walk = take("walk", 24, vec![track(TRANSLATION, Controller::Components(places.to_vec()))]);
/// let scenes = [scene(walk.clone()), scene(Take { name: "walk_2".into(), ..walk })];
/// let options = JoinOptions { name: "all".into(), gap: 5, start: Some(1.0), go_on: true, tolerance: Tolerance::default() };
///
/// let (joined, _) = join(&scenes, &options)?;
/// let frames: Vec<_> = joined.takes[0].clips.iter().map(|c| (c.name.as_str(), rate.frame(c.range.first), rate.frame(c.range.last))).collect();
/// assert_eq!(frames, [("walk", 1.0, 25.0), ("walk_2", 31.0, 55.0)]);
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
///
/// # Errors
/// See [`JoinError`].
pub fn join(scenes: &[Scene], options: &JoinOptions) -> Result<(Scene, Ledger), JoinError> {
    let Some(base) = scenes.iter().find(|scene| !scene.takes.is_empty()) else {
        return Err(JoinError::Nothing);
    };
    let rate = base.rate;
    let mut ledger = Ledger::default();
    let mut takes: Vec<Take> = Vec::new();
    for scene in scenes {
        for take in &scene.takes {
            let alone = scene.with_only(vec![take.clone()]);
            let inside =
                Selection { range: Some(take.range), tolerance: options.tolerance, ..Selection::default() };
            // A take whose keys all lie outside its range has nothing to give.
            let Ok((part, cut)) = select(&alone, &inside) else { continue };
            let Some(own) = part.takes.first() else { continue };
            let (moved, more) = transplanted(own, scene, base);
            if moved.tracks().next().is_none() && own.tracks().next().is_some() {
                return Err(JoinError::OtherRig(take.name.clone()));
            }
            ledger.extend(cut.followed_by(more));
            takes.push(moved);
        }
    }
    let mut next = options
        .start
        .map_or(takes.first().map_or(Ticks::ZERO, |take| take.range.first), |start| rate.ticks_at(start));
    for take in &mut takes {
        *take = shifted(take, next - take.range.first);
        // Clips begin on whole frames, whatever the rates of their files.
        let last = rate.frame(take.range.last).ceil() as i64;
        next = rate.ticks(last + 1 + i64::from(options.gap));
    }
    if options.go_on {
        super::seams::go_on(base, &mut takes)?;
    }
    let joined = Joiner { base, options, takes: &takes }.joined()?;
    Ok((Scene { takes: vec![joined], ..base.clone() }, ledger))
}

/// One layer of all takes: where each has it.
struct Stacked<'a> {
    layer: &'a Layer,
    /// Whether it is the lowest one of those takes that have it.
    is_base: bool,
    places: Vec<Option<usize>>,
}

/// Whether all controllers of a rotation mix with those of other layers in one way, which a joined one does, too: angle by
/// angle in one order, or as rotations. What has no controller rests.
fn mixes_alike(controllers: &[Option<Controller>], rest: &Value) -> bool {
    let order = |own: &Option<Controller>| own.as_ref().map_or(rest.order(), Controller::order);
    let all = |fits: fn(&Controller) -> bool| controllers.iter().flatten().all(fits);
    let first = controllers.first().and_then(order);
    controllers.iter().all(|own| order(own) == first)
        && match first {
            Some(_) => all(|own| matches!(own, Controller::Euler(_) | Controller::Samples(_))),
            None => all(|own| match own {
                Controller::Quaternion(curve) => !has_squads(curve),
                _ => false,
            }),
        }
}

fn has_squads(curve: &QuaternionCurve) -> bool {
    curve.keys.iter().any(|key| key.interpolation == QuaternionInterpolation::Squad)
}

/// The name, or the first one with a number behind it that is not taken.
fn free_name(name: &str, taken: impl Fn(&str) -> bool) -> String {
    let free = || (2..).map(|n| format!("{name}_{n}")).find(|name| !taken(name)).unwrap_or_default();
    if taken(name) { free() } else { name.to_owned() }
}

struct Joiner<'a> {
    base: &'a Scene,
    options: &'a JoinOptions,
    takes: &'a [Take],
}

impl Joiner<'_> {
    fn joined(&self) -> Result<Take, JoinError> {
        let (Some(first), Some(last)) = (self.takes.first(), self.takes.last()) else {
            return Err(JoinError::Nothing);
        };
        let range = TimeRange::new(first.range.first, last.range.last);
        let mut made = Take {
            name: self.options.name.clone(),
            folder: first.folder.clone(),
            range,
            clips: Vec::new(),
            markers: self.takes.iter().flat_map(|take| take.markers.iter().cloned()).collect(),
            layers: Vec::new(),
        };
        let mut add = |clip: &Clip| {
            let name = free_name(&clip.name, |name| made.clips.iter().any(|clip| clip.name == name));
            made.clips.push(Clip { name, ..clip.clone() });
        };
        for take in self.takes {
            let inner = |clip: &&Clip| clip.range != take.range || clip.name != take.name;
            add(&Clip { name: take.name.clone(), range: take.range, note: None });
            take.clips.iter().filter(inner).for_each(&mut add);
        }
        let stacked = self.stacked();
        for stack in &stacked {
            let name = free_name(&stack.layer.name, |name| made.layers.iter().any(|own| own.name == name));
            let weight = self.weight(stack);
            made.layers.push(Layer { name, weight, tracks: Vec::new(), ..*stack.layer });
        }
        for (at, stack) in stacked.iter().enumerate() {
            let parts: Vec<Option<&Layer>> = (self.takes.iter().zip(&stack.places))
                .map(|(take, place)| place.map(|place| &take.layers[place]))
                .collect();
            let mut targets: Vec<&Target> = parts
                .iter()
                .flatten()
                .flat_map(|layer| layer.tracks.iter().map(|track| &track.target))
                .collect();
            targets.sort();
            targets.dedup();
            // In the order in which they come first.
            let order = |target: &Target| {
                let tracks = parts.iter().flatten().flat_map(|layer| &layer.tracks);
                tracks.into_iter().position(|track| track.target == *target)
            };
            targets.sort_by_key(|target| order(target));
            let mut tracks = Vec::with_capacity(targets.len());
            for target in targets {
                let own = |layer: &Option<&Layer>| {
                    let found = layer.as_ref()?.tracks.iter().find(|track| track.target == *target)?;
                    Some(found.controller.clone())
                };
                let controllers: Vec<Option<Controller>> = parts.iter().map(own).collect();
                tracks.push(Track {
                    target: target.clone(),
                    controller: self.track(&made, at, target, controllers)?,
                });
            }
            made.layers[at].tracks = tracks;
        }
        Ok(made)
    }

    /// The layers of all takes, from the lowest up: those of one name that mix alike are one, and so are the lowest of all.
    /// A layer that replaces what lies under it is one only with such as have tracks on the same properties, as it leaves
    /// all else alone. Each take has its layers in the order it had them.
    fn stacked(&self) -> Vec<Stacked<'_>> {
        let targets =
            |layer: &Layer| layer.tracks.iter().map(|track| track.target.clone()).collect::<BTreeSet<_>>();
        let mut all: Vec<Stacked<'_>> = Vec::new();
        for (index, take) in self.takes.iter().enumerate() {
            let mut next = 0;
            for (place, layer) in take.layers.iter().enumerate() {
                let is_one = |own: &Stacked<'_>| {
                    let alike = |a: &Layer| (a.mode, a.rotations, a.muted);
                    let (is_base, own) = (own.is_base && place == 0, own.layer);
                    let replaces = layer.mode == LayerMode::Override && !is_base;
                    alike(own) == alike(layer)
                        && (is_base || own.name == layer.name)
                        && (!replaces || targets(own) == targets(layer))
                };
                let at = match (next..all.len()).find(|&at| is_one(&all[at])) {
                    Some(at) => at,
                    None => {
                        let places = vec![None; self.takes.len()];
                        all.insert(next, Stacked { layer, is_base: place == 0, places });
                        next
                    }
                };
                all[at].places[index] = Some(place);
                next = at + 1;
            }
        }
        all
    }

    /// A layer's weight over all takes: what each has in its own range, nothing where it has no such layer.
    fn weight(&self, stack: &Stacked<'_>) -> Weight {
        let of =
            |(take, place): (&Take, &Option<usize>)| place.map(|place| take.layers[place].weight.clone());
        let weights: Vec<Option<Weight>> = self.takes.iter().zip(&stack.places).map(of).collect();
        let constant = weights[0].as_ref().and_then(Weight::constant);
        if let Some(all) = constant
            && weights.iter().all(|weight| weight.as_ref().and_then(Weight::constant) == Some(all))
        {
            return Weight::Constant(all);
        }
        let parts: Vec<(Curve, f64)> = self
            .takes
            .iter()
            .zip(&weights)
            .map(|(take, weight)| match weight {
                None => (Curve::default(), 0.0),
                Some(Weight::Constant(weight)) => (Curve::default(), *weight),
                Some(Weight::Curve(curve)) => (curve.trimmed(take.range), 0.0),
            })
            .collect();
        Weight::Curve(self.curve(&parts))
    }

    fn track(
        &self,
        made: &Take,
        layer: usize,
        target: &Target,
        controllers: Vec<Option<Controller>>,
    ) -> Result<Controller, JoinError> {
        let channel = || nimble_curve_scene::address::Addresses::new(self.base).property(target);
        let cannot = |why: &str| JoinError::Cannot { channel: channel(), why: why.to_owned() };
        let track = Track { target: target.clone(), controller: Controller::Components(Vec::new()) };
        let Some((kind, rest)) = property(self.base, made, layer, &track) else {
            return Err(cannot("the rig has no such property"));
        };
        let above = self.takes.iter().flat_map(|take| take.layers.iter().skip(1));
        let is_layered = above.flat_map(|layer| &layer.tracks).any(|track| track.target == *target);
        if kind == PropertyKind::Rotation && is_layered && !mixes_alike(&controllers, &rest) {
            return Err(cannot(
                "its layers mix otherwise in one take than in another: flatten the layers first",
            ));
        }
        if let Some(Some(Controller::Constant(first))) = controllers.first()
            && controllers.iter().all(|c| matches!(c, Some(Controller::Constant(value)) if value == first))
        {
            return Ok(Controller::Constant(first.clone()));
        }
        if kind == PropertyKind::Discrete {
            return self
                .discrete(&controllers, &rest)
                .ok_or_else(|| cannot("switches have other controllers"));
        }
        if let Some(samples) = self.samples(&controllers) {
            return Ok(Controller::Samples(samples));
        }
        if let Some(curve) = self.quaternions(&controllers, &rest) {
            return Ok(Controller::Quaternion(curve));
        }
        let mut parts: Vec<Option<Controller>> = Vec::with_capacity(controllers.len());
        for (controller, take) in controllers.iter().zip(self.takes) {
            let setting = ConversionContext {
                kind,
                rest: rest.clone(),
                tolerance: self.options.tolerance.of(kind.quantity(), &self.base.space),
                rate: self.base.rate,
                range: take.range,
            };
            let form = |controller: &Controller| match controller {
                Controller::Components(_) | Controller::Euler(_) => Ok(controller.clone()),
                other => convert_controller(other, ControllerType::Curves, &setting)
                    .map(|changed| changed.controller),
            };
            parts.push(controller.as_ref().map(form).transpose().map_err(|why| cannot(&why.to_string()))?);
        }
        let numbers = rest.numbers().ok_or_else(|| cannot("its values cannot be joined"))?;
        let orders: Vec<RotationOrder> = parts.iter().flatten().filter_map(Controller::order).collect();
        // What has no track rests, whatever its order; angles without keys rest where they are of the order at rest.
        let (resting, unset) = match (orders.first(), &rest) {
            (Some(own), Value::Euler { order, .. }) if own == order => (numbers.clone(), numbers.clone()),
            (Some(own), rest) => {
                let turned = rest.rotation().unwrap_or(DQuat::IDENTITY);
                (nearest_euler(*own, turned, DVec3::ZERO).to_array().to_vec(), vec![0.0; 3])
            }
            (None, _) => (numbers.clone(), numbers.clone()),
        };
        let component = |index: usize| -> Curve {
            let at = |numbers: &[f64]| numbers.get(index).copied().unwrap_or(0.0);
            let of = |part: &Option<Controller>| {
                let own = part.as_ref().and_then(|part| part.curves().get(index)).cloned();
                (own.unwrap_or_default(), if part.is_some() { at(&unset) } else { at(&resting) })
            };
            let curves: Vec<(Curve, f64)> = parts.iter().map(of).collect();
            let stays = curves.iter().all(|(curve, value)| curve.is_empty() && *value == at(&unset));
            if stays { Curve::default() } else { self.curve(&curves) }
        };
        match orders.as_slice() {
            [] => {
                let width = parts.iter().flatten().map(|part| part.curves().len()).max().unwrap_or(0);
                Ok(Controller::Components((0..width).map(component).collect()))
            }
            [order, others @ ..] if others.iter().all(|other| other == order) => {
                Ok(Controller::Euler(EulerCurves { order: *order, curves: [0, 1, 2].map(component) }))
            }
            _ => Err(cannot("the files turn it in different orders: reorder them first")),
        }
    }

    /// Whether the next take begins a frame after this one's end.
    fn follows(&self, end: Ticks, begin: Ticks) -> bool {
        (begin - end).as_f64() <= self.base.rate.ticks_per_frame() * 1.5
    }

    /// Curves one after the other, each in its take's range; one without keys stands at the value beside it.
    fn curve(&self, parts: &[(Curve, f64)]) -> Curve {
        let mut keys: Vec<Key> = Vec::new();
        for ((part, rest), take) in parts.iter().zip(self.takes) {
            let mut own: Vec<Key> = match part.is_empty() {
                true => vec![Key::new(take.range.first, *rest).with_slope(0.0)],
                false => part.clone().into_keys(),
            };
            let Some(first) = own.first().copied() else { continue };
            if first.time > take.range.first {
                let held = Key::new(take.range.first, first.left_value()).with_slope(0.0);
                own.insert(0, Key { added: true, ..held.with_interpolation(Interpolation::Hold) });
            }
            if let (Some(end), Some(begin)) = (keys.last_mut(), own.first_mut()) {
                // What neighbours would make of the tangents at a seam is not what they were.
                for tangent in
                    [&mut end.tangent_in, &mut end.tangent_out, &mut begin.tangent_in, &mut begin.tangent_out]
                {
                    *tangent = Tangent { mode: TangentMode::Free, ..*tangent };
                }
                if !self.follows(end.time, begin.time) {
                    end.interpolation = Interpolation::Hold;
                }
            }
            keys.extend(own);
        }
        let ends = (parts.first(), parts.last());
        let behaviour = |part: Option<&(Curve, f64)>, before: bool| match part {
            Some((curve, _)) if before => curve.before,
            Some((curve, _)) => curve.after,
            None => Behaviour::Held,
        };
        let held = |behaviour: Behaviour| if behaviour.is_loop() { Behaviour::Held } else { behaviour };
        let joined = Curve::new(keys).unwrap_or_default();
        joined.with_behaviours(held(behaviour(ends.0, true)), held(behaviour(ends.1, false))).without_added()
    }

    fn discrete(&self, controllers: &[Option<Controller>], rest: &Value) -> Option<Controller> {
        let Value::Discrete(rest) = rest else { return None };
        let mut keys: Vec<(Ticks, Discrete)> = Vec::new();
        for (controller, take) in controllers.iter().zip(self.takes) {
            let first = take.range.first;
            match controller {
                None => keys.push((first, rest.clone())),
                Some(Controller::Constant(Value::Discrete(value))) => keys.push((first, value.clone())),
                Some(Controller::Discrete(curve)) => {
                    let start = curve.value_at(first.as_f64()).cloned().unwrap_or_else(|| rest.clone());
                    if curve.keys().first().is_none_or(|(time, _)| *time > first) {
                        keys.push((first, start));
                    }
                    keys.extend(curve.keys().iter().cloned());
                }
                Some(_) => return None,
            }
        }
        DiscreteCurve::new(keys).ok().map(Controller::Discrete)
    }

    /// Samples of one grid, the last one of each take held up to the next.
    fn samples(&self, controllers: &[Option<Controller>]) -> Option<Samples> {
        let all: Vec<&Samples> = (controllers.iter())
            .map(|controller| if let Some(Controller::Samples(own)) = controller { Some(own) } else { None })
            .collect::<Option<_>>()?;
        let first = *all.first()?;
        let mut made = first.clone();
        for (next, take) in all[1..].iter().zip(&self.takes[1..]) {
            let step = first.rate.ticks_per_frame();
            let place = (next.start - made.start).as_f64() / step;
            let fits =
                next.kind == first.kind && next.rate == first.rate && (place - place.round()).abs() < 1e-3;
            let (place, width) = (place.round() as usize, first.kind.width());
            if !fits || place < made.len() || next.is_empty() || made.is_empty() {
                return None;
            }
            // Each is held in its own take, before its first sample and behind its last.
            let begins = ((take.range.first - made.start).as_f64() / step - 1e-3).ceil().max(0.0) as usize;
            let held = made.row(made.len() - 1).to_vec();
            while made.len() < begins.min(place) {
                made.values.extend_from_slice(&held);
            }
            let before = std::iter::repeat_n(next.row(0), place.saturating_sub(made.len()));
            for row in before.chain(next.values.chunks(width)) {
                match first.kind {
                    // On the same turn as before.
                    SampleKind::Euler(order) => {
                        let near = DVec3::from_slice(made.row(made.len() - 1));
                        let angles = DVec3::from_slice(row);
                        let turned = nimble_curve_curves::rotation::quat_from_euler(order, angles);
                        let moved = nearest_euler(order, turned, near);
                        let stays = (angles - near).abs().max_element() < std::f64::consts::PI;
                        made.values.extend(if stays { angles } else { moved }.to_array());
                    }
                    _ => made.values.extend_from_slice(row),
                }
            }
        }
        Some(made)
    }

    /// Keys one after the other; squads look beyond their neighbours, and are not joined this way.
    fn quaternions(&self, controllers: &[Option<Controller>], rest: &Value) -> Option<QuaternionCurve> {
        let mut keys: Vec<QuaternionKey> = Vec::new();
        let mut any = false;
        for (controller, take) in controllers.iter().zip(self.takes) {
            let own: Vec<QuaternionKey> = match controller {
                Some(Controller::Quaternion(curve)) if curve.keys.is_empty() => return None,
                Some(Controller::Quaternion(curve)) => {
                    any = true;
                    let moves = |behaviour| behaviour != Behaviour::Held;
                    if has_squads(curve) || moves(curve.before) || moves(curve.after) {
                        return None;
                    }
                    curve.keys.clone()
                }
                None => vec![QuaternionKey {
                    time: take.range.first,
                    value: rest.rotation()?,
                    interpolation: QuaternionInterpolation::Step,
                    tangent_in: glam::DVec4::ZERO,
                    tangent_out: glam::DVec4::ZERO,
                }],
                Some(_) => return None,
            };
            let first = own[0];
            if let Some(end) = keys.last_mut()
                && !self.follows(end.time, first.time)
            {
                end.interpolation = QuaternionInterpolation::Step;
            }
            if first.time > take.range.first {
                let held = QuaternionInterpolation::Step;
                keys.push(QuaternionKey { time: take.range.first, interpolation: held, ..first });
            }
            keys.extend(own);
        }
        any.then_some(QuaternionCurve { keys, before: Behaviour::Held, after: Behaviour::Held })
    }
}
