//! The controllers of a scene turned into another type, each for itself.

use nimble_curve_scene::address::{Addresses, matches};
use nimble_curve_scene::ledger::{Entry, Ledger};
use nimble_curve_scene::scene::{Scene, Track};

use super::channel::{Tolerance, count, each_track, keys_added, property};
use super::conversion::{ControllerType, ConversionContext, convert_controller};
use super::mixing::{share, stays_mixed};

/// How to turn the controllers of a scene into another form.
#[derive(Clone, Debug)]
pub struct ConvertOptions {
    /// What to turn them into.
    pub form: ControllerType,
    /// Patterns of the channels to turn, by address; all where there are none.
    pub only: Vec<String>,
    /// How far the result may be from its source.
    pub tolerance: Tolerance,
}

/// Turns the controllers of all takes into another form; what has no such form stays as it is, and the ledger says why.
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
/// use nimble_curve_ops::controllers::{ConvertOptions, convert_controllers};
/// use nimble_curve_ops::{Tolerance, conversion::ControllerType};
///
/// let angles = curves([&[(0, 0.0), (24, 1.2)], &[(0, 0.0), (24, 0.3)], &[(0, 0.0)]]);
/// let controller = Controller::Euler(EulerCurves { order: RotationOrder::Yxz, curves: angles });
/// let turn = take("turn", 24, vec![track(ROTATION, controller)]);
/// let tolerance = Tolerance { angle: 0.1_f64.to_radians(), ..Tolerance::default() };
/// let options = ConvertOptions { form: ControllerType::Quaternion, only: Vec::new(), tolerance };
///
/// let (turned, ledger) = convert_controllers(&scene(turn), &options);
/// assert!(matches!(turned.takes[0].layers[0].tracks[0].controller, Controller::Quaternion(_)));
/// assert!(ledger.entries[0].error.unwrap().largest <= tolerance.angle);
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
pub fn convert_controllers(scene: &Scene, options: &ConvertOptions) -> (Scene, Ledger) {
    let addresses = Addresses::new(scene);
    each_track(scene, &addresses, |books, layer, track| {
        let kept = |note: String| (Some(track.clone()), Some(Entry { note, ..books.kept(layer, track) }));
        let channel = addresses.property(&track.target);
        let chosen = options.only.is_empty() || options.only.iter().any(|only| matches(only, &channel));
        let Some((kind, rest)) = property(scene, books.take, layer, track).filter(|_| chosen) else {
            return kept(String::new());
        };
        let tolerance =
            options.tolerance.of(kind.quantity(), &scene.space) * share(books.take, &track.target, kind);
        let setting = ConversionContext { kind, rest, tolerance, rate: scene.rate, range: books.take.range };
        match convert_controller(&track.controller, options.form, &setting) {
            Err(why) => kept(format!("stays {}: {why}", track.controller.type_name())),
            Ok(changed)
                if !stays_mixed(
                    books.take,
                    layer,
                    &track.target,
                    kind,
                    &track.controller,
                    &changed.controller,
                ) =>
            {
                kept("layers mix its angles one by one: flatten them first".into())
            }
            Ok(changed) => {
                let new = Track { target: track.target.clone(), controller: changed.controller };
                let error = changed.error.map(|error| error.in_frames(scene.rate));
                let keys = |track: &Track| track.controller.key_count();
                let note = keys_added(keys(&new).saturating_sub(keys(track)));
                let entry = books.changed(layer, track, changed.fate, count(&new), error, note);
                (Some(new), Some(entry))
            }
        }
    })
}
