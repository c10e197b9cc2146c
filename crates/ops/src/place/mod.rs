//! Placement: a take put onto another one that is there already, seams joined without a pop.

mod layer;
mod merge;
mod onward;
mod splice;

mod claim;

use std::collections::HashSet;

use nimble_curve_curves::time::{Ticks, TimeRange};
use nimble_curve_scene::address::Addresses;
use nimble_curve_scene::evaluate::EvaluateError;
use nimble_curve_scene::ledger::Ledger;
use nimble_curve_scene::scene::{Clip, Layer, Scene, Take, Target, Track};
use nimble_curve_scene::similar::similar;
use thiserror::Error;

use super::channel::Tolerance;

pub use claim::{Placed, placed};
pub use onward::{going_on, gone_on};

/// What becomes of the animation that is there.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Placement {
    /// What lies in the range of the new take is replaced, in the channels that it moves.
    Overwrite,
    /// What comes later moves to make room.
    Ripple,
    /// Keys that are there stay among the new ones, where no new one stands at their time.
    Merge,
    /// Channels that have keys stay as they are.
    Unkeyed,
    /// Everything goes onto a new layer of this name that replaces what lies under it.
    Layer(String),
}

/// Where to place a take.
#[derive(Clone, Debug)]
pub struct PlaceOptions {
    /// What becomes of what is there.
    pub placement: Placement,
    /// The take to place onto; the only one where none is named.
    pub onto: Option<String>,
    /// Over how long seams join; one frame at least.
    pub ease: Ticks,
    /// How far controllers that cannot be cut exactly may be from their source.
    pub tolerance: Tolerance,
}

/// Why a take cannot be placed.
#[derive(Clone, Debug, PartialEq, Error)]
pub enum PlaceError {
    /// Nothing to place onto.
    #[error("the target has no take to place onto: leave out --place")]
    NoTake,
    /// Several to choose from.
    #[error("the target has several takes: name one of {0} with --target-take")]
    Several(String),
    /// No such take.
    #[error("the target has no take '{name}'{}", .similar.as_ref().map(|name| format!(": did you mean '{name}'?")).unwrap_or_default())]
    NoSuchTake {
        /// The name.
        name: String,
        /// One that is there.
        similar: Option<String>,
    },
    /// The layer is there.
    #[error("the take '{take}' has a layer '{layer}' already: give another name")]
    LayerExists {
        /// The take.
        take: String,
        /// The layer.
        layer: String,
    },
    /// A controller that cannot be evaluated.
    #[error(transparent)]
    Evaluate(#[from] EvaluateError),
    /// A controller that cannot be joined to another.
    #[error("{channel}: {why}")]
    Cannot {
        /// The channel.
        channel: String,
        /// What is wrong.
        why: String,
    },
}

/// Puts a take onto one of a scene's takes. Also says in the ledger's notes what that did.
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
/// use nimble_curve_ops::place::{PlaceOptions, Placement, place};
/// use nimble_curve_ops::Tolerance;
///
/// // Hips that walk along z and sway: one step of a loop.
/// let places = curves([&[(0, 0.0), (12, 0.1), (24, 0.0)], &[(0, 1.0), (24, 1.0)], &[(0, 0.0), (24, 1.4)]]);
/// let walk = take("walk", 24, vec![track(TRANSLATION, Controller::Components(places.to_vec()))]);
/// // A hop of five frames in the middle of the walk.
/// let hop = curves([&[(10, 0.0), (14, 0.0)], &[(10, 1.0), (12, 1.3), (14, 1.0)], &[(10, 0.6), (14, 0.9)]]);
/// let range = TimeRange::new(rate.ticks(10), rate.ticks(14));
/// let hop = Take::new("hop", range, vec![Layer::base(vec![track(TRANSLATION, Controller::Components(hop.to_vec()))])]);
/// let options = PlaceOptions {
///     placement: Placement::Overwrite,
///     onto: None,
///     ease: rate.ticks(3),
///     tolerance: Tolerance::default(),
/// };
///
/// let (placed, _) = place(&scene(walk), &hop, &options)?;
/// let Controller::Components(curves) = &placed.takes[0].layers[0].tracks[0].controller else { panic!() };
/// assert!((at(&curves[1], 12) - 1.3).abs() < 1e-9);
/// assert!((at(&curves[1], 20) - 1.0).abs() < 1e-9);
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
///
/// # Errors
/// See [`PlaceError`].
pub fn place(scene: &Scene, new: &Take, options: &PlaceOptions) -> Result<(Scene, Ledger), PlaceError> {
    let index = find(scene, options.onto.as_deref())?;
    let mut result = scene.clone();
    let mut ledger = Ledger::default();
    let frame = scene.rate.ticks_per_frame().round() as i64;
    let job = Job {
        scene,
        addresses: Addresses::new(scene),
        range: new.range,
        ease: Ticks(options.ease.0.max(frame)),
        tolerance: options.tolerance,
    };
    let mut take = scene.takes[index].clone();
    let ripple = options.placement == Placement::Ripple;
    if ripple {
        let by = Ticks((new.range.last - new.range.first).0 + frame);
        take = job.opened(&take, new.range.first, by)?;
        let count = (by.as_f64() / frame as f64).round();
        ledger.notes.push(format!("later keys of '{}' move by {count} frames to make room", take.name));
    }
    if let Placement::Layer(name) = &options.placement {
        job.as_layers(&mut take, new, name)?;
        ledger.notes.push(format!("on a new layer '{name}' of '{}'", take.name));
    } else {
        job.put(&mut take, new, &options.placement, &mut ledger)?;
    }
    take.range = take.range.union(new.range);
    // What was placed can be found again by its name.
    if !new.clips.iter().any(|clip| clip.range == new.range) {
        let free = |name: &String| !take.clips.iter().any(|own| own.name == *name);
        let names = std::iter::once(new.name.clone()).chain((2..).map(|n| format!("{} {n}", new.name)));
        let name = names.into_iter().find(free).unwrap_or_else(|| new.name.clone());
        take.clips.push(Clip { name, range: new.range, note: None });
    }
    for clip in &new.clips {
        let taken = take.clips.iter().any(|own| own.name == clip.name);
        let name = if taken { format!("{} {}", new.name, clip.name) } else { clip.name.clone() };
        take.clips.push(Clip { name, ..clip.clone() });
    }
    take.clips.sort_by_key(|clip| clip.range.first);
    take.markers.extend(new.markers.iter().cloned());
    take.markers.sort_by_key(|marker| marker.time);
    result.takes[index] = take;
    Ok((result, ledger))
}

fn find(scene: &Scene, wanted: Option<&str>) -> Result<usize, PlaceError> {
    let names = || scene.takes.iter().map(|take| take.name.as_str());
    match (wanted, scene.takes.len()) {
        (_, 0) => Err(PlaceError::NoTake),
        (None, 1) => Ok(0),
        (None, _) => Err(PlaceError::Several(names().collect::<Vec<_>>().join(", "))),
        (Some(name), _) => names().position(|own| own == name).ok_or_else(|| PlaceError::NoSuchTake {
            name: name.to_owned(),
            similar: similar(name, names()).map(str::to_owned),
        }),
    }
}

struct Job<'a> {
    scene: &'a Scene,
    addresses: Addresses,
    range: TimeRange,
    ease: Ticks,
    tolerance: Tolerance,
}

impl Job<'_> {
    fn cannot(&self, target: &Target, why: &str) -> PlaceError {
        PlaceError::Cannot { channel: self.addresses.property(target), why: why.to_owned() }
    }

    fn put(
        &self,
        take: &mut Take,
        new: &Take,
        how: &Placement,
        ledger: &mut Ledger,
    ) -> Result<(), PlaceError> {
        let (fill, merge) = (*how == Placement::Unkeyed, *how == Placement::Merge);
        let has_keys: HashSet<Target> = take.tracks().map(|(_, track)| track.target.clone()).collect();
        let mut left: Vec<String> = Vec::new();
        let mut stay = 0;
        let mut met: HashSet<(usize, Target)> = HashSet::new();
        let layers = take.layers.len();
        for (index, layer) in new.layers.iter().enumerate() {
            // The base goes onto the base; other layers onto those of the same name and kind.
            let alike = |own: &Layer| {
                own.name == layer.name
                    && (own.mode, own.rotations, &own.weight) == (layer.mode, layer.rotations, &layer.weight)
            };
            let place = if index == 0 { Some(0) } else { take.layers.iter().position(alike) };
            let place = place.filter(|&place| place < take.layers.len()).unwrap_or_else(|| {
                let mut added = Layer {
                    tracks: Vec::new(),
                    name: layer.name.clone(),
                    weight: layer.weight.clone(),
                    ..*layer
                };
                added.weight = self.windowed(&layer.weight, take.range);
                take.layers.push(added);
                take.layers.len() - 1
            });
            for track in &layer.tracks {
                if fill && has_keys.contains(&track.target) {
                    left.push(self.addresses.property(&track.target));
                    continue;
                }
                met.insert((place, track.target.clone()));
                let of_take = take.range;
                let own = take.layers[place].tracks.iter().position(|own| own.target == track.target);
                if merge {
                    self.alone_on(take, place, &track.target)?;
                }
                let old = own.map(|at| &take.layers[place].tracks[at]);
                let controller = match old.filter(|_| merge) {
                    Some(old) => {
                        stay += self.staying(&track.controller, &old.controller);
                        self.merged(take, place, track, old)?
                    }
                    None => self.joined(take, place, track, old.map(|old| &old.controller), of_take)?,
                };
                let made = Track { target: track.target.clone(), controller };
                match own {
                    Some(at) => take.layers[place].tracks[at] = made,
                    None => take.layers[place].tracks.push(made),
                }
            }
        }
        if merge {
            let take = &take.name;
            ledger.notes.push(format!(
                "where '{take}' has keys at other times of the range they stay: {stay} in all"
            ));
        } else {
            self.silence(&mut take.layers[..layers], take.range, &met, ledger)?;
        }
        if !left.is_empty() {
            ledger.notes.push(format!("had keys and stay as they are: {}", left.join(", ")));
        }
        Ok(())
    }
}
