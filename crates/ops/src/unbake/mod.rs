//! Unbake: samples become sparse curves within a bound that is measured on the result.

mod world;

use std::collections::BTreeMap;

use nimble_curve_curves::curve::{Curve, Ticks};
use nimble_curve_curves::fit::{Handles, Origin};
use nimble_curve_curves::rotation::{RotationOrder, pole_distance, quat_from_euler};
use nimble_curve_curves::time::TimeRange;
use nimble_curve_curves::value::{Quantity, Value};
use nimble_curve_scene::address::{Addresses, matches};
use nimble_curve_scene::controller::{Controller, EulerCurves, SampleKind, Samples};
use nimble_curve_scene::evaluate::EvaluateError;
use nimble_curve_scene::ledger::{Entry, Fate, Ledger};
use nimble_curve_scene::rig::NodeId;
use nimble_curve_scene::scene::{PropertyKind, Scene, Take, Track};
use rayon::prelude::*;
use thiserror::Error;

use self::world::{Bound, Closer, Windows, compare};
use super::Tolerance;
use super::baked::baked;
use super::channel::{Bookkeeper, property};
use super::conversion::{ControllerType, ConversionContext, convert_controller};
use super::fitting::{Fitted, Fitting, without_rest};
use super::mixing::{adds_angles, share, stays_mixed};

/// How often tracks are fitted anew for a bound in world space, at most.
const ROUNDS: usize = 40;

/// Which key times are common.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
pub enum KeySets {
    /// Each channel has key times of its own: the fewest keys.
    #[default]
    Free,
    /// One set a node: its channels are keyed together.
    Node,
    /// One set for all nodes: poses stay poses.
    Pose,
}

/// Which order rotations are fitted in.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
pub enum FitOrder {
    /// Euler samples in their own, quaternions in that of their node.
    #[default]
    Own,
    /// This one.
    To(RotationOrder),
    /// For each node the one that stays farthest from its pole, its own where that stays 35° away.
    Best,
}

/// How to unbake.
#[derive(Clone, Debug, Default)]
pub struct UnbakeOptions {
    /// How far the result may be from the samples.
    pub tolerance: Tolerance,
    /// Other tolerances for the channels that a pattern fits, by address; the last that fits counts.
    pub tolerance_for: Vec<(String, Tolerance)>,
    /// How far a joint may be off in world space, in metres.
    pub world: Option<f64>,
    /// Patterns of nodes that must not move by more than `world`, peak to peak, while they stand still.
    pub watch: Vec<String>,
    /// Which key times are common.
    pub keys: KeySets,
    /// The order in which rotations are fitted.
    pub order: FitOrder,
    /// Whether weighted handles are recovered, too; fitted keys have slopes only.
    pub handles: Handles,
    /// Whether rotations become quaternion keys instead of Euler curves.
    pub quaternions: bool,
    /// Instants at which there must be keys.
    pub keep: Vec<Ticks>,
    /// The range to unbake; samples outside it stay as keys, one each.
    pub range: Option<TimeRange>,
    /// Whether curves that are sparse already are fitted anew.
    pub again: bool,
}

/// Why nothing can be unbaked.
#[derive(Clone, Debug, PartialEq, Error)]
pub enum UnbakeError {
    /// A pattern that fits no node.
    #[error("no node matches '{0}'")]
    NoMatch(String),
    /// A pose cannot be evaluated.
    #[error(transparent)]
    Evaluate(#[from] EvaluateError),
}

/// What unbaking came to.
#[derive(Clone, Debug)]
pub struct Unbaked {
    /// The scene with curves.
    pub scene: Scene,
    /// What became of every track; the notes say which keys were recovered.
    pub ledger: Ledger,
    /// Under a bound in world space: the largest distance of a joint (units of the scene), its frame, and the largest
    /// motion added to a watched node while it stood still.
    pub world: Option<(f64, f64, f64)>,
}

/// Turns what is baked in all takes into curves; all other tracks stay as they are.
///
/// Samples count as baked, and so do curves with a key at every step. Keys that the samples were baked from are
/// recovered where that can be; elsewhere keys lie on samples. The error at the samples is within the tolerance: for
/// rotations the angle between sample and result, for positions the distance. Channels are worked on in parallel in the
/// current thread pool; the result is the same for any number of threads.
///
/// # Errors
/// See [`UnbakeError`].
pub fn unbake(scene: &Scene, options: &UnbakeOptions) -> Result<Unbaked, UnbakeError> {
    let addresses = Addresses::new(scene);
    let mut ledger = Ledger::default();
    let mut result = scene.clone();
    let mut world: Option<(f64, f64, f64)> = None;
    let watched = watched(scene, &addresses, &options.watch)?;
    for (index, take) in scene.takes.iter().enumerate() {
        let job = Job { scene, take, addresses: &addresses, options };
        let mut items = job.items();
        match options.world.map(|metres| metres / scene.space.metres_per_unit) {
            None => job.fit(&mut items),
            Some(distance) => {
                let measured = job.fit_in_world(&mut items, distance, &watched)?;
                world =
                    Some(world.map_or(measured, |world| if measured.0 > world.0 { measured } else { world }));
            }
        }
        let (layers, entries) = job.finished(&items);
        for (out, tracks) in result.takes[index].layers.iter_mut().zip(layers) {
            out.tracks = tracks;
        }
        ledger.entries.extend(entries);
    }
    Ok(Unbaked { scene: result, ledger, world })
}

/// The nodes that patterns name.
fn watched(
    scene: &Scene,
    addresses: &Addresses,
    patterns: &[String],
) -> Result<Vec<(usize, NodeId)>, UnbakeError> {
    let mut found = Vec::new();
    for pattern in patterns {
        let fits = |&&(rig, node): &&(usize, NodeId)| {
            let name = scene.rigs[rig].node(node).map_or("", |node| node.name.as_str());
            matches(pattern, addresses.node((rig, node))) || matches(pattern, name)
        };
        let before = found.len();
        found.extend(addresses.nodes().iter().filter(fits));
        if found.len() == before {
            return Err(UnbakeError::NoMatch(pattern.clone()));
        }
    }
    Ok(found)
}

struct Job<'a> {
    scene: &'a Scene,
    take: &'a Take,
    addresses: &'a Addresses,
    options: &'a UnbakeOptions,
}

/// A track that is to be fitted, or stays.
struct Item<'a> {
    layer: usize,
    track: &'a Track,
    /// The samples to fit, and how.
    fitting: Option<(Samples, Fitting)>,
    /// The curves, as long as they keep the bounds that `fitting` has.
    fitted: Option<Fitted>,
    note: &'static str,
}

impl<'a> Job<'a> {
    /// All tracks, nothing fitted yet.
    fn items(&self) -> Vec<Item<'a>> {
        let tracks: Vec<(usize, &Track)> = self.take.tracks().collect();
        tracks.into_par_iter().map(|(layer, track)| self.item(layer, track)).collect()
    }

    /// The new tracks of all layers, and the ledger's entries.
    fn finished(&self, items: &[Item<'_>]) -> (Vec<Vec<Track>>, Vec<Entry>) {
        let done: Vec<(usize, Option<Track>, Entry)> =
            items.par_iter().map(|item| self.finish(item)).collect();
        let mut layers: Vec<Vec<Track>> = vec![Vec::new(); self.take.layers.len()];
        let mut entries = Vec::with_capacity(done.len());
        for (layer, track, entry) in done {
            layers[layer].extend(track);
            entries.push(entry);
        }
        (layers, entries)
    }

    fn item(&self, layer: usize, track: &'a Track) -> Item<'a> {
        let stays = |note| Item { layer, track, fitting: None, fitted: None, note };
        let Some((kind, rest)) = property(self.scene, self.take, layer, track) else { return stays("") };
        let again = self.options.again.then_some(self.scene.rate);
        let Some(samples) = baked(&track.controller, kind, &rest, again) else { return stays("") };
        let samples = match self.options.range {
            Some(range) => match part_of(&samples, range) {
                Some(part) => part,
                None => return stays("lies outside the range"),
            },
            None => samples.into_owned(),
        };
        let channel = self.addresses.property(&track.target);
        let own = self.options.tolerance_for.iter().rev().find(|(pattern, _)| matches(pattern, &channel));
        let tolerance = own.map_or(self.options.tolerance, |(_, tolerance)| *tolerance);
        let tolerance =
            tolerance.of(kind.quantity(), &self.scene.space) * share(self.take, &track.target, kind);
        // Quaternion keys are a new form of the curves: half of the tolerance is theirs.
        let halved = self.options.quaternions && kind == PropertyKind::Rotation;
        let tolerance = if halved { 0.5 * tolerance } else { tolerance };
        let node_order = match rest {
            Value::Euler { order, .. } => order,
            _ => RotationOrder::Xyz,
        };
        let order = match self.options.order {
            FitOrder::Own => None,
            FitOrder::To(order) => Some(order),
            FitOrder::Best => Some(farthest_order(&samples, node_order)),
        };
        let one_by_one = kind == PropertyKind::Rotation && adds_angles(self.take, layer, &track.target);
        let fitting = match Fitting::one_by_one(&samples, tolerance).filter(|_| one_by_one) {
            Some(fitting) => Some(fitting),
            None => Fitting::new(&samples, kind, node_order, order, tolerance),
        };
        match fitting {
            Some(fitting) => Item { layer, track, fitting: Some((samples, fitting)), fitted: None, note: "" },
            None => stays("matrix samples stay samples: they have no components to fit one by one"),
        }
    }

    /// Fits all items that are not fitted yet, with common key times where they are wanted.
    fn fit(&self, items: &mut [Item<'_>]) {
        let keep = &self.options.keep;
        if self.options.keys == KeySets::Free {
            items.par_iter_mut().filter(|item| item.fitted.is_none()).for_each(|item| {
                item.fitted =
                    item.fitting.as_ref().map(|(_, fitting)| fitting.free(keep, self.options.handles));
            });
            return;
        }
        // Groups of tracks, in order of their first ones, that were sampled at the same instants.
        let mut groups: BTreeMap<(usize, usize, NodeId), Vec<Vec<usize>>> = BTreeMap::new();
        for (index, item) in items.iter().enumerate() {
            let Some((_, fitting)) = &item.fitting else { continue };
            let target = &item.track.target;
            let key = match self.options.keys {
                KeySets::Node => (item.layer, target.rig, target.node),
                _ => (item.layer, 0, NodeId(0)),
            };
            let alike = |group: &&mut Vec<usize>| {
                let first = items[group[0]].fitting.as_ref();
                first.is_some_and(|(_, first)| first.is_alongside(fitting))
            };
            let of_key = groups.entry(key).or_default();
            match of_key.iter_mut().find(alike) {
                Some(group) => group.push(index),
                None => of_key.push(vec![index]),
            }
        }
        let is_stale = |group: &Vec<usize>| group.iter().any(|&index| items[index].fitted.is_none());
        let groups: Vec<Vec<usize>> = groups.into_values().flatten().filter(is_stale).collect();
        let fitted: Vec<Vec<Fitted>> = groups
            .par_iter()
            .map(|group| {
                let tracks = group.iter().filter_map(|&index| items[index].fitting.as_ref());
                Fitting::shared(&tracks.map(|(_, fitting)| fitting).collect::<Vec<_>>(), keep)
            })
            .collect();
        for (group, fitted) in groups.iter().zip(fitted) {
            for (&index, fitted) in group.iter().zip(fitted) {
                items[index].fitted = Some(fitted);
            }
        }
    }

    fn finish(&self, item: &Item<'_>) -> (usize, Option<Track>, Entry) {
        let books = Bookkeeper { addresses: self.addresses, take: self.take };
        let (layer, track) = (item.layer, item.track);
        let (Some(fitted), Some((samples, fitting)), Some((kind, rest))) =
            (item.fitted.clone(), &item.fitting, property(self.scene, self.take, layer, track))
        else {
            let entry = Entry { note: item.note.into(), ..books.kept(layer, track) };
            return (layer, Some(track.clone()), entry);
        };
        let (mut controller, mut error) = (fitted.controller, fitted.error);
        if self.options.quaternions && kind == PropertyKind::Rotation {
            controller = self.as_quaternions(controller, fitting.least_tolerance(), &rest);
            error = fitting.error_of(&controller, kind, &rest);
        }
        let inside = TimeRange::new(samples.start, samples.time(samples.len() - 1));
        let reaches_out = !matches!(track.controller, Controller::Samples(_))
            && track.controller.range().is_some_and(|own| own.first < inside.first || own.last > inside.last);
        if let Some(range) = self.options.range.or(reaches_out.then_some(inside)) {
            controller = around(&track.controller, controller, samples, range);
        }
        let is_mixed = || stays_mixed(self.take, layer, &track.target, kind, &track.controller, &controller);
        if !fitting.is_one_by_one() && !is_mixed() {
            let note = "stays as it is: its layers mix it with others, and would do so otherwise as curves";
            let entry = Entry { note: note.into(), ..books.kept(layer, track) };
            return (layer, Some(track.clone()), entry);
        }
        let controller = going_on(controller, &track.controller);
        let controller = without_rest(controller, (layer == 0).then_some(&rest));
        let after = controller.key_count();
        let error = error.in_frames(self.scene.rate);
        let note = match (after, fitted.origin) {
            (0, _) => "does not leave rest: needs no keys",
            (_, Origin::Recovered) => "recovered",
            (_, Origin::Partly) => "partly recovered",
            (_, Origin::Fitted) => "fitted",
        };
        let entry = books.changed(layer, track, Fate::Refitted, after, Some(error), note);
        (layer, (after > 0).then(|| Track { target: track.target.clone(), controller }), entry)
    }

    /// Euler curves as quaternion keys, within a tolerance.
    fn as_quaternions(&self, controller: Controller, tolerance: f64, rest: &Value) -> Controller {
        let setting = ConversionContext {
            kind: PropertyKind::Rotation,
            rest: rest.clone(),
            tolerance,
            rate: self.scene.rate,
            range: self.take.range,
        };
        convert_controller(&controller, ControllerType::Quaternion, &setting)
            .map_or(controller, |changed| changed.controller)
    }

    /// The distance in ticks at which results are compared in world space: that of the closest samples.
    fn step(&self) -> f64 {
        self.take
            .tracks()
            .filter_map(|(_, track)| track.controller.samples())
            .map(|samples| samples.rate.ticks_per_frame())
            .fold(self.scene.rate.ticks_per_frame(), f64::min)
    }

    /// Fits all items so that no joint is farther off in world space than a distance. Returns the largest distance of a
    /// joint, its frame, and the largest motion added to a watched node.
    fn fit_in_world(
        &self,
        items: &mut [Item<'_>],
        distance: f64,
        watched: &[(usize, NodeId)],
    ) -> Result<(f64, f64, f64), UnbakeError> {
        let windows = Windows::new(self.take, self.step());
        let mut closer = Closer::new(self.scene, distance, windows);
        let mut result = self.take.clone();
        let mut measured = (0.0, 0.0, 0.0_f64);
        for round in 0..ROUNDS {
            items.par_iter_mut().for_each(|item| self.confine(item, &closer));
            self.fit(items);
            let (layers, _) = self.finished(items);
            for (out, tracks) in result.layers.iter_mut().zip(layers) {
                out.tracks = tracks;
            }
            measured = (0.0, 0.0, 0.0_f64);
            let mut again = false;
            for rig in 0..self.scene.rigs.len() {
                let own = watched.iter().filter(|(own, _)| *own == rig).map(|(_, node)| *node);
                let bound = Bound { distance, watched: own.collect() };
                let excess = compare(self.scene, (self.take, &result), rig, &bound, windows)?;
                if excess.largest.0 > measured.0 {
                    (measured.0, measured.1) = excess.largest;
                }
                measured.2 = measured.2.max(excess.added);
                // What does not come to rest window by window does so in wider and wider ones.
                again |= closer.shrink(rig, &excess, round / 8);
            }
            if !again {
                break;
            }
        }
        Ok(measured)
    }

    /// Gives an item no more room than the bound in world space leaves it; where that changes, it must be fitted anew.
    fn confine(&self, item: &mut Item<'_>, closer: &Closer) {
        let Some((samples, fitting)) = &mut item.fitting else { return };
        let target = &item.track.target;
        let rig = &self.scene.rigs[target.rig];
        if rig.node(target.node).is_none_or(|node| node.op(&target.property).is_none()) {
            // Attributes move no joint.
            return;
        }
        let (Some(position), Some(kind)) =
            (rig.position(target.node), rig.property_kind(target.node, &target.property))
        else {
            return;
        };
        let times = (0..samples.len()).map(|index| samples.time(index).as_f64());
        if fitting.confine(closer.room((target.rig, position), kind, times)) {
            item.fitted = None;
        }
    }
}

/// The samples within a range; `None` where there are none.
fn part_of(samples: &Samples, range: TimeRange) -> Option<Samples> {
    let inside: Vec<usize> =
        (0..samples.len()).filter(|&index| range.contains(samples.time(index))).collect();
    let (&first, &last) = (inside.first()?, inside.last()?);
    let width = samples.kind.width();
    let values = samples.values[first * width..(last + 1) * width].to_vec();
    Some(Samples { start: samples.time(first), values, ..samples.clone() })
}

/// A fitted range between the keys of a curve, or keys on every sample, outside it.
fn around(source: &Controller, fitted: Controller, part: &Samples, range: TimeRange) -> Controller {
    use nimble_curve_curves::curve::{Interpolation, Key};
    let dense = |component: usize| -> Vec<Key> {
        match source {
            Controller::Samples(samples) => (0..samples.len())
                .map(|index| {
                    Key::new(samples.time(index), samples.row(index)[component])
                        .with_interpolation(Interpolation::Linear)
                        .with_slope(0.0)
                })
                .collect(),
            other => other.curves().get(component).map_or(Vec::new(), |curve| curve.keys().to_vec()),
        }
    };
    let whole = |component: usize, inside: &Curve| -> Curve {
        let first = part.start;
        let last = part.time(part.len() - 1);
        let outside = dense(component);
        let before = outside.iter().filter(|key| key.time < first && !range.contains(key.time));
        let after = outside.iter().filter(|key| key.time > last && !range.contains(key.time));
        let mut inside: Vec<Key> = inside.keys().to_vec();
        if inside.len() == 1 {
            // A constant holds to the end of its range.
            let only = inside[0];
            inside =
                vec![Key { time: first, ..only }.with_slope(0.0), Key { time: last, ..only }.with_slope(0.0)];
        }
        if let Some(key) = inside.last_mut() {
            // From there on the samples go on as straight lines.
            key.interpolation = Interpolation::Linear;
        }
        let keys: Vec<Key> = before.copied().chain(inside).chain(after.copied()).collect();
        Curve::new(keys).unwrap_or_default()
    };
    match fitted {
        Controller::Components(curves) => Controller::Components(
            curves.iter().enumerate().map(|(component, curve)| whole(component, curve)).collect(),
        ),
        Controller::Euler(euler) if !matches!(source, Controller::Samples(s) if s.kind == SampleKind::Quaternion) =>
        {
            let curves = [0, 1, 2].map(|axis| whole(axis, &euler.curves[axis]));
            Controller::Euler(EulerCurves { order: euler.order, curves })
        }
        other => other,
    }
}

/// Curves that do outside their keys what those did that they were fitted to.
fn going_on(fitted: Controller, source: &Controller) -> Controller {
    let like = |curve: Curve, index: usize| match source.curves().get(index) {
        Some(own) if !curve.is_empty() => curve.with_behaviours(own.before, own.after),
        _ => curve,
    };
    match fitted {
        Controller::Components(curves) => Controller::Components(
            curves.into_iter().enumerate().map(|(index, curve)| like(curve, index)).collect(),
        ),
        // Curves of another order go elsewhere outside their keys.
        Controller::Euler(euler) if source.order() == Some(euler.order) => {
            let mut index = 0;
            let curves = euler.curves.map(|curve| {
                index += 1;
                like(curve, index - 1)
            });
            Controller::Euler(EulerCurves { curves, ..euler })
        }
        other => other,
    }
}

/// The order that samples of a rotation stay farthest from the pole of; their own where that is far enough.
fn farthest_order(samples: &Samples, own: RotationOrder) -> RotationOrder {
    const ENOUGH: f64 = 0.61;
    let own = match samples.kind {
        SampleKind::Euler(order) => order,
        _ => own,
    };
    let closest = |order: RotationOrder| {
        (0..samples.len())
            .map(|index| {
                let row = samples.row(index);
                let rotation = match samples.kind {
                    SampleKind::Euler(own) => quat_from_euler(own, glam::DVec3::from_slice(row)),
                    SampleKind::Quaternion => glam::DQuat::from_slice(row).normalize(),
                    _ => return f64::INFINITY,
                };
                pole_distance(order, rotation)
            })
            .fold(f64::INFINITY, f64::min)
    };
    if closest(own) >= ENOUGH {
        return own;
    }
    RotationOrder::ALL.into_iter().max_by(|&a, &b| closest(a).total_cmp(&closest(b))).unwrap_or(own)
}

/// How many keys other tolerances would give: factors on all of them, with the keys and the largest errors by kind.
pub fn trade_off(
    scene: &Scene,
    options: &UnbakeOptions,
    factors: &[f64],
) -> Result<Vec<TradeOff>, UnbakeError> {
    let scaled = |tolerance: &Tolerance, factor: f64| Tolerance {
        angle: tolerance.angle * factor,
        length: tolerance.length * factor,
        number: tolerance.number * factor,
    };
    factors
        .iter()
        .map(|&factor| {
            let tolerance_for = options.tolerance_for.iter();
            let options = UnbakeOptions {
                tolerance: scaled(&options.tolerance, factor),
                tolerance_for: tolerance_for.map(|(p, t)| (p.clone(), scaled(t, factor))).collect(),
                world: options.world.map(|world| world * factor),
                ..options.clone()
            };
            let unbaked = unbake(scene, &options)?;
            let refitted = unbaked.ledger.entries.iter().filter(|entry| entry.fate == Fate::Refitted);
            let error = |quantity| unbaked.ledger.error(quantity).map(|error| error.largest);
            Ok(TradeOff {
                factor,
                tolerance: options.tolerance,
                keys: refitted.map(|entry| entry.after).sum(),
                angle: error(Quantity::Angle),
                length: error(Quantity::Length),
            })
        })
        .collect()
}

/// What another tolerance would give.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct TradeOff {
    /// Times the tolerance that was asked for.
    pub factor: f64,
    /// The tolerance.
    pub tolerance: Tolerance,
    /// The keys that it needs.
    pub keys: usize,
    /// The largest error of a rotation, in radians.
    pub angle: Option<f64>,
    /// The largest error of a position, in units of the scene.
    pub length: Option<f64>,
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fitting::fit_samples;
    use nimble_curve_curves::fit::oracle::{capture, least_free, least_joined};
    use nimble_curve_curves::fit::{Interval, Room};
    use nimble_curve_curves::time::FrameRate;

    /// Shares of a rotation's tolerance for its three channels, as squares in sixths: together the whole.
    const SHARES: [[u32; 3]; 10] = [
        [2, 2, 2],
        [1, 2, 3],
        [1, 3, 2],
        [2, 1, 3],
        [2, 3, 1],
        [3, 1, 2],
        [3, 2, 1],
        [1, 1, 4],
        [1, 4, 1],
        [4, 1, 1],
    ];

    /// Our keys beside two optima by exhaustive dynamic programming: with the bound of the rotation shared out between the
    /// channels, as is best for each rotation; and, below any optimum, with all the room for each channel that any errors of
    /// the others could leave it: the tolerance, for the outer axes over the cosine of the middle angle. Prints the
    /// figures of docs/methods.md with `--nocapture`.
    #[test]
    fn rotations_are_near_their_optimum() {
        let tolerance = 0.1_f64.to_radians();
        let rotations = 16;
        // Ratios to the optimum of shares and to the lower bound, by tangents: joined, free.
        let mut ratios = [[(0.0, 0.0_f64); 2]; 2];
        for seed in 0..rotations {
            let channels: Vec<Vec<f64>> = (0..3)
                .map(|axis| capture(3 * seed + axis, 300, 0.02).iter().map(|v| v.to_radians()).collect())
                .collect();
            let values =
                (0..300).flat_map(|index| [0, 1, 2].map(|axis: usize| channels[axis][index])).collect();
            let kind = SampleKind::Euler(RotationOrder::Zxy);
            let samples = Samples { start: Ticks::ZERO, rate: FrameRate::FPS_120, kind, values };
            let (fitted, error) =
                fit_samples(&samples, PropertyKind::Rotation, RotationOrder::Zxy, tolerance).unwrap();
            assert!(error.largest <= tolerance);
            let ours = fitted.key_count() as f64;
            let around = |half: f64| Interval { low: -half, high: half };
            let least = |of: fn(&[f64], Room<'_>) -> usize, half: &dyn Fn(usize, f64) -> f64| {
                let keys = |axis: usize| {
                    let room: Vec<Interval> =
                        channels[0].iter().map(|middle| around(half(axis, *middle))).collect();
                    of(&channels[axis], Room { tolerance, by_sample: Some(&room) })
                };
                keys(0) + keys(1) + keys(2)
            };
            let below = |axis: usize, middle: f64| match axis {
                0 => tolerance,
                _ => tolerance / middle.cos(),
            };
            // The error's square is the sum of the channels' and twice that of the outer ones times the sine between them.
            let shared = |shares: [u32; 3]| {
                let part = shares.map(|share| (f64::from(share) / 6.0).sqrt());
                move |axis: usize, middle: f64| {
                    tolerance * part[axis] / (1.0 + 2.0 * middle.sin().abs() * part[1] * part[2]).sqrt()
                }
            };
            let optima: [fn(&[f64], Room<'_>) -> usize; 2] = [least_joined, least_free];
            for (of, ratios) in optima.into_iter().zip(&mut ratios) {
                let best = SHARES.into_iter().map(|shares| least(of, &shared(shares))).min().unwrap();
                for (least, ratio) in [best, least(of, &below)].into_iter().zip(ratios) {
                    let own = ours / least as f64;
                    *ratio = (ratio.0 + own / rotations as f64, ratio.1.max(own));
                }
            }
        }
        for (ratios, tangents) in ratios.iter().zip(["joined, as ours", "free on both sides"]) {
            for ((mean, worst), of) in ratios.iter().zip(["of a rotation", "below that of a rotation"]) {
                println!("| {of} | {tangents} | {mean:.3} | {worst:.2} |");
            }
        }
        let [[(best, _), (below, _)], _] = ratios;
        assert!(best < 1.05 && below < 1.15, "{best} {below}");
    }
}
