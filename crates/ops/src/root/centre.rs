//! A take moved so that it starts, or stays, over the origin.

use nimble_curve_curves::curve::Curve;
use nimble_curve_curves::value::Value;
use nimble_curve_scene::address::Addresses;
use nimble_curve_scene::controller::{Controller, SampleKind};
use nimble_curve_scene::ledger::{Entry, Fate, Ledger};
use nimble_curve_scene::rig::TRANSLATION;
use nimble_curve_scene::scene::{LayerMode, Scene, Track};

use super::carrier::Carrier;
use super::error::RootError;
use crate::channel::{count, property};
use crate::conversion::{ControllerType, ConversionContext, convert_controller};

/// Puts a node at the origin of the ground: all of it is shifted by its place at the first frame, or, `throughout`, its
/// travel is taken off at every frame.
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
/// use nimble_curve_ops::root::centre;
///
/// let places = curves([&[(0, 3.0), (24, 4.0)], &[(0, 1.0)], &[(0, 2.0), (24, 2.0)]]);
/// let slide = take("slide", 24, vec![track(TRANSLATION, Controller::Components(places.to_vec()))]);
///
/// // The start comes to the origin of the ground; the height stays.
/// let (centred, _) = centre(&scene(slide), "hips", false)?;
/// let Controller::Components(curves) = &centred.takes[0].layers[0].tracks[0].controller else { panic!() };
/// assert_eq!([at(&curves[0], 0), at(&curves[1], 0), at(&curves[2], 0)], [0.0, 1.0, 0.0]);
/// assert!((at(&curves[0], 24) - 1.0).abs() < 1e-12);
///
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
///
/// # Errors
/// See [`RootError`].
pub fn centre(scene: &Scene, node: &str, throughout: bool) -> Result<(Scene, Ledger), RootError> {
    let carrier = Carrier::find(scene, Some(node), false)?;
    let target = carrier.target(TRANSLATION);
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
