//! One take unbaked.

use std::collections::BTreeMap;

use nimble_curve_curves::curve::Curve;
use nimble_curve_curves::fit::Origin;
use nimble_curve_curves::rotation::{RotationOrder, pole_distance, quat_from_euler};
use nimble_curve_curves::time::TimeRange;
use nimble_curve_curves::value::Value;
use nimble_curve_scene::address::Addresses;
use nimble_curve_scene::controller::{Controller, EulerCurves, SampleKind, Samples};
use nimble_curve_scene::ledger::{Entry, Fate};
use nimble_curve_scene::rig::NodeId;
use nimble_curve_scene::scene::{Layer, PropertyKind, Scene, Take, Track};
use rayon::prelude::*;

use super::outside::around;
use super::stretch::{Stretches, stays_below};
use super::world::{Bound, Closer, Windows, compare};
use super::{FitOrder, KeySets, ROUNDS, UnbakeError, UnbakeOptions};
use crate::baked::baked;
use crate::channel::{Bookkeeper, property};
use crate::fitting::{Fitted, Fitting, without_rest};
use crate::mixing::{adds_angles, share, stays_mixed};

pub(super) struct Job<'a> {
    pub(super) scene: &'a Scene,
    pub(super) take: &'a Take,
    pub(super) addresses: &'a Addresses,
    pub(super) options: &'a UnbakeOptions,
}

/// A track that is to be fitted, or stays.
pub(super) struct Item<'a> {
    pub(super) layer: usize,
    pub(super) track: &'a Track,
    /// The samples to fit, and how.
    pub(super) fitting: Option<(Samples, Fitting)>,
    /// The curves, as long as they keep the bounds that `fitting` has.
    pub(super) fitted: Option<Fitted>,
    pub(super) note: &'static str,
}

/// What became of a track.
struct Finished {
    track: Made,
    entry: Entry,
}

enum Made {
    /// Its controller; nothing where it needs none.
    Whole(Option<Track>),
    /// A stretch of it, to be played above what stays.
    Stretch(Track, TimeRange),
}

impl Finished {
    fn as_it_is(track: &Track, entry: Entry) -> Finished {
        Finished { track: Made::Whole(Some(track.clone())), entry }
    }
}

impl<'a> Job<'a> {
    /// All tracks, nothing fitted yet.
    pub(super) fn items(&self) -> Vec<Item<'a>> {
        let tracks: Vec<(usize, &Track)> = self.take.tracks().collect();
        tracks.into_par_iter().map(|(layer, track)| self.item(layer, track)).collect()
    }

    /// The layers with what was fitted, and the ledger's entries.
    pub(super) fn finished(&self, items: &[Item<'_>]) -> (Vec<Layer>, Vec<Entry>) {
        let done: Vec<Finished> = items.par_iter().map(|item| self.finish(item)).collect();
        let mut stretches: Vec<Stretches> = vec![Stretches::default(); self.take.layers.len()];
        let mut layers: Vec<Vec<Track>> = vec![Vec::new(); self.take.layers.len()];
        let mut entries = Vec::with_capacity(done.len());
        for (item, done) in items.iter().zip(done) {
            match done.track {
                Made::Whole(track) => layers[item.layer].extend(track),
                Made::Stretch(track, range) => {
                    layers[item.layer].push(item.track.clone());
                    stretches[item.layer].put(track, range);
                }
            }
            entries.push(done.entry);
        }
        let mut all = Vec::with_capacity(layers.len());
        for ((layer, tracks), stretches) in self.take.layers.iter().zip(layers).zip(stretches) {
            all.push(Layer { tracks, ..layer.shell() });
            stretches.put_into(&mut all, self.scene.rate, self.take);
        }
        (all, entries)
    }

    pub(super) fn item(&self, layer: usize, track: &'a Track) -> Item<'a> {
        let stays = |note| Item { layer, track, fitting: None, fitted: None, note };
        let Some((kind, rest)) = property(self.scene, self.take, layer, track) else { return stays("") };
        let only = &self.options.only;
        if !only.is_empty() && !only.contains(&self.addresses.property(&track.target)) {
            return stays("not selected");
        }
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
        let node = self.addresses.node((track.target.rig, track.target.node));
        let mut own = self.options.tolerance_for.iter().rev();
        let own = own.find(|(choice, _)| choice.takes(&[channel.as_str(), node]));
        let own = own.map(|(_, tolerance)| *tolerance);
        let own = own.or_else(|| self.options.tolerance_of.get(&channel).copied());
        let tolerance = own.unwrap_or(self.options.tolerance);
        let tolerance =
            tolerance.of(kind.quantity(), &self.scene.space) * share(self.take, &track.target, kind);
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
        let fitting = fitting.map(|fitting| {
            let fitting = fitting.fewest(self.options.fewest || self.options.again);
            let fitting = fitting.per_channel(self.options.per_channel);
            if self.options.quaternions && !fitting.is_one_by_one() {
                fitting.by_components()
            } else {
                fitting
            }
        });
        match fitting {
            Some(fitting) => Item { layer, track, fitting: Some((samples, fitting)), fitted: None, note: "" },
            None => stays("matrix samples stay samples: they have no components to fit one by one"),
        }
    }

    /// Fits all items that are not fitted yet, with common key times where they are wanted.
    pub(super) fn fit(&self, items: &mut [Item<'_>]) {
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

    fn finish(&self, item: &Item<'_>) -> Finished {
        let books = Bookkeeper { addresses: self.addresses, take: self.take };
        let (layer, track) = (item.layer, item.track);
        let (Some(fitted), Some((samples, fitting)), Some((kind, rest))) =
            (item.fitted.clone(), &item.fitting, property(self.scene, self.take, layer, track))
        else {
            let entry = Entry { note: item.note.into(), ..books.kept(layer, track) };
            return Finished::as_it_is(track, entry);
        };
        let (mut controller, error) = (fitted.controller, fitted.error);
        let inside = TimeRange::new(samples.start, samples.time(samples.len() - 1));
        let reaches_out = !matches!(track.controller, Controller::Samples(_))
            && track.controller.range().is_some_and(|own| own.first < inside.first || own.last > inside.last);
        // What is baked stays so outside the range, below a layer that plays inside it.
        let is_stretch = self.options.range.is_some() && stays_below(self.take, layer, track, samples.len());
        if let Some(range) = self.options.range.or(reaches_out.then_some(inside)).filter(|_| !is_stretch) {
            let Some(whole) = around(&track.controller, controller, samples, (range, &rest)) else {
                let note = "stays as it is: what lies outside the range cannot be evaluated";
                let entry = Entry { note: note.into(), ..books.kept(layer, track) };
                return Finished::as_it_is(track, entry);
            };
            controller = whole;
        }
        let is_mixed = || stays_mixed(self.take, layer, &track.target, kind, &track.controller, &controller);
        if !fitting.is_one_by_one() && !is_mixed() {
            let note = "stays as it is: its layers mix it with others, and would do so otherwise as curves";
            let entry = Entry { note: note.into(), ..books.kept(layer, track) };
            return Finished::as_it_is(track, entry);
        }
        let controller = if is_stretch { controller } else { going_on(controller, &track.controller) };
        let controller = match self.options.keys {
            KeySets::Free if self.options.keep.is_empty() => without_held_ends(controller),
            _ => controller,
        };
        let controller = without_rest(controller, (layer == 0 && !is_stretch).then_some(&rest));
        let after = controller.key_count();
        let error = error.in_frames(self.scene.rate);
        let note = match (after, fitted.origin) {
            (0, _) => "does not leave rest: needs no keys",
            (_, Origin::Recovered) => "recovered",
            (_, Origin::Partly) => "partly recovered",
            (_, Origin::Fitted) => "fitted",
        };
        let entry = books.changed(layer, track, Fate::Refitted, after, Some(error), note);
        let made = Track { target: track.target.clone(), controller };
        if is_stretch {
            let entry = Entry { before: samples.values.len(), ..entry };
            return Finished { track: Made::Stretch(made, inside), entry };
        }
        Finished { track: Made::Whole((after > 0).then_some(made)), entry }
    }

    /// The distance in ticks at which results are compared in world space: that of the closest samples.
    pub(super) fn step(&self) -> f64 {
        self.take
            .tracks()
            .filter_map(|(_, track)| track.controller.samples())
            .map(|samples| samples.rate.ticks_per_frame())
            .fold(self.scene.rate.ticks_per_frame(), f64::min)
    }

    /// Fits all items so that no joint is farther off in world space than a distance. Returns the largest distance of a
    /// joint, its frame, and the largest motion added to a watched node.
    pub(super) fn fit_in_world(
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
            result.layers = layers;
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
    pub(super) fn confine(&self, item: &mut Item<'_>, closer: &Closer) {
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
pub(super) fn part_of(samples: &Samples, range: TimeRange) -> Option<Samples> {
    let inside: Vec<usize> =
        (0..samples.len()).filter(|&index| range.contains(samples.time(index))).collect();
    let (&first, &last) = (inside.first()?, inside.last()?);
    let width = samples.kind.width();
    let values = samples.values[first * width..(last + 1) * width].to_vec();
    Some(Samples { start: samples.time(first), values, ..samples.clone() })
}

/// Curves that do outside their keys what those did that they were fitted to.
pub(super) fn going_on(fitted: Controller, source: &Controller) -> Controller {
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

/// Curves without keys at their ends that only say that nothing moves any more.
fn without_held_ends(controller: Controller) -> Controller {
    match controller {
        Controller::Components(curves) => {
            Controller::Components(curves.into_iter().map(Curve::without_held_end).collect())
        }
        Controller::Euler(euler) => {
            Controller::Euler(EulerCurves { curves: euler.curves.map(Curve::without_held_end), ..euler })
        }
        other => other,
    }
}

/// The order that samples of a rotation stay farthest from the pole of; their own where that is far enough.
pub(super) fn farthest_order(samples: &Samples, own: RotationOrder) -> RotationOrder {
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
