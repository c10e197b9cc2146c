//! Bake: curves become samples.

use nimble_curve_curves::curve::{Behaviour, Curve, Interpolation, Key, Ticks};
use nimble_curve_curves::time::{FrameRate, TimeRange};
use nimble_curve_curves::value::Value;
use nimble_curve_scene::address::Addresses;
use nimble_curve_scene::controller::{
    Controller, EulerCurves, QuaternionCurve, QuaternionInterpolation, QuaternionKey,
};
use nimble_curve_scene::evaluate::Sampler;
use nimble_curve_scene::ledger::{Entry, Fate, Ledger};
use nimble_curve_scene::scene::{PropertyKind, Scene, Track};

use super::channel::{count, each_track, property};
use super::conversion::of_one_type;
use super::conversion::{ConversionContext, ConvertedController, Grid, NotConvertible, sampled};
use super::sampled_function::SampledFunction;

/// How to bake.
#[derive(Clone, Debug)]
pub struct BakeOptions {
    /// Samples a second; those of the scene where none is given.
    pub rate: Option<FrameRate>,
    /// Every so many frames, and the last one; 1 gives samples, more gives keys with straight lines between them.
    pub step: u32,
    /// The range to bake; each take's where none is given.
    pub range: Option<TimeRange>,
    /// Addresses of the channels to bake; all where there are none.
    pub only: Vec<String>,
}

impl Default for BakeOptions {
    /// Every channel, a sample on each frame of the scene's rate.
    fn default() -> BakeOptions {
        BakeOptions { rate: None, step: 1, range: None, only: Vec::new() }
    }
}

/// Turns all controllers of all layers into samples on the whole frames of a range; discrete ones stay.
///
/// The error that the ledger gives is that between the samples, halfway, where straight lines and great arcs stand in
/// for the curve.
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
/// use nimble_curve_ops::bake::{BakeOptions, bake};
///
/// let angles = curves([&[(0, 0.0), (24, 1.2)], &[(0, 0.0), (24, 0.3)], &[(0, 0.0)]]);
/// let controller = Controller::Euler(EulerCurves { order: RotationOrder::Yxz, curves: angles });
/// let turn = take("turn", 24, vec![track(ROTATION, controller)]);
/// let scene = scene(turn);
///
/// let (baked, ledger) = bake(&scene, &BakeOptions::default());
/// // One sample a frame, both ends included, each of three angles.
/// assert_eq!(ledger.entries[0].after, 25 * 3);
/// assert_eq!(baked.takes[0].layers[0].tracks[0].controller.type_name(), "samples");
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
pub fn bake(scene: &Scene, options: &BakeOptions) -> (Scene, Ledger) {
    let addresses = Addresses::new(scene);
    let (mut result, ledger) = each_track(scene, &addresses, |books, layer, track| {
        let kept = |note: &str| {
            let kept = books.kept(layer, track);
            (Some(track.clone()), Some(Entry { note: note.to_owned(), ..kept }))
        };
        if !options.only.is_empty() && !options.only.contains(&addresses.property(&track.target)) {
            return kept("not selected");
        }
        let Some((kind, rest)) = property(scene, books.take, layer, track) else { return kept("") };
        let range = options.range.unwrap_or(books.take.range);
        let setting = ConversionContext { kind, rest, tolerance: 0.0, rate: scene.rate, range };
        match baked(&track.controller, &setting, options.rate.unwrap_or(scene.rate), options.step) {
            Ok(changed) => {
                let new = Track { target: track.target.clone(), controller: changed.controller };
                let error = changed.error.map(|error| error.in_frames(scene.rate));
                let entry = books.changed(layer, track, changed.fate, count(&new), error, "");
                (Some(new), Some(entry))
            }
            Err(why) => {
                let note = format!("stays {}: {why}", track.controller.type_name());
                (Some(track.clone()), Some(Entry { note, ..books.kept(layer, track) }))
            }
        }
    });
    for take in &mut result.takes {
        take.range = options.range.unwrap_or(take.range);
    }
    (result, ledger)
}

fn baked(
    controller: &Controller,
    setting: &ConversionContext,
    rate: FrameRate,
    step: u32,
) -> Result<ConvertedController, NotConvertible> {
    if setting.kind == PropertyKind::Discrete {
        return Err(NotConvertible::Discrete);
    }
    if let Controller::Samples(samples) = controller
        && step <= 1
        && samples.rate == rate
        && samples.start == setting.range.first
        && !samples.is_empty()
        && samples.time(samples.len() - 1) == setting.range.last
    {
        return Ok(ConvertedController { controller: controller.clone(), fate: Fate::Kept, error: None });
    }
    let sampler =
        Sampler::new(controller, setting.kind, setting.rest.clone()).map_err(|_| NotConvertible::NoValue)?;
    let trace = SampledFunction::of_controller(sampler);
    if step <= 1 {
        return sampled(&trace, Grid::whole(rate), setting.range, setting);
    }
    let (first, last) =
        (rate.frame(setting.range.first).ceil() as i64, rate.frame(setting.range.last).floor() as i64);
    let mut frames: Vec<i64> = (first..=last).step_by(step as usize).collect();
    if frames.last() != Some(&last) {
        frames.push(last);
    }
    let times: Vec<Ticks> = frames.iter().map(|&frame| rate.ticks(frame)).collect();
    let mut values: Vec<Value> = times.iter().map(|time| trace.value(time.as_f64())).collect();
    of_one_type(&mut values);
    let controller = keyed(&times, &values).ok_or(NotConvertible::Matrix)?;
    Ok(ConvertedController { controller, fate: Fate::Sampled, error: None })
}

/// Keys with straight lines, or great arcs, between them; `None` for matrices.
fn keyed(times: &[Ticks], values: &[Value]) -> Option<Controller> {
    let curve = |component: usize| -> Option<Curve> {
        let keys = times.iter().zip(values).map(|(&time, value)| {
            let number = *value.numbers()?.get(component)?;
            Some(Key::new(time, number).with_interpolation(Interpolation::Linear).with_slope(0.0))
        });
        Curve::new(keys.collect::<Option<Vec<Key>>>()?).ok()
    };
    Some(match values.first()? {
        Value::Number(_) => Controller::Components(vec![curve(0)?]),
        Value::Vector(_) => Controller::Components(vec![curve(0)?, curve(1)?, curve(2)?]),
        Value::Euler { order, .. } => {
            Controller::Euler(EulerCurves { order: *order, curves: [curve(0)?, curve(1)?, curve(2)?] })
        }
        Value::Quaternion(_) => {
            let keys = times.iter().zip(values).map(|(&time, value)| {
                Some(QuaternionKey {
                    time,
                    value: value.rotation()?,
                    interpolation: QuaternionInterpolation::Slerp,
                    tangent_in: glam::DVec4::ZERO,
                    tangent_out: glam::DVec4::ZERO,
                })
            });
            let keys = keys.collect::<Option<Vec<_>>>()?;
            Controller::Quaternion(QuaternionCurve { keys, before: Behaviour::Held, after: Behaviour::Held })
        }
        Value::Matrix(_) | Value::Discrete(_) => return None,
    })
}
