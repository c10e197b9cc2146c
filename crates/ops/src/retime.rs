//! Takes at other times: shifted as a whole, or stretched. Everything in them goes along: keys, samples, weights, clips
//! and markers.

use nimble_curve_curves::curve::{Behaviour, Curve, DiscreteCurve, EditError};
use nimble_curve_curves::time::{FrameRate, Ticks, TimeRange};
use nimble_curve_scene::controller::{
    Controller, EulerCurves, Procedural, QuaternionCurve, QuaternionKey, Samples, StackEntry, TcbCurve,
    TcbKey, TcbKeys, Weight,
};
use nimble_curve_scene::scene::{Clip, Layer, Marker, Take, Target, Track};
use thiserror::Error;

/// Why a take cannot be stretched.
#[derive(Clone, Debug, PartialEq, Error)]
pub enum RetimeError {
    /// A length of no frames, or none to stretch.
    #[error("a length of one frame or less cannot be stretched")]
    NoLength,
    /// Keys that would stand on one instant.
    #[error("keys would meet: {0}")]
    Keys(#[from] EditError),
    /// A channel on a layer whose weight moves and stays behind.
    #[error(
        "layer '{0}' has an animated weight, which says at its own times how much of its channels counts: write layers together first, or move the whole take"
    )]
    Weight(String),
    /// A rate of samples beyond what can be written.
    #[error("samples at {0} frames a second cannot be stretched that way: unbake them first")]
    Rate(FrameRate),
}

/// A change of times, `about + (t − about) · num/den + by`.
#[derive(Clone, Copy, Debug)]
struct Clock {
    about: Ticks,
    num: i64,
    den: i64,
    by: Ticks,
}

/// A take later by some time.
///
/// # Errors
/// Never for a shift; the type is that of [`stretched`].
pub fn shifted(take: &Take, by: Ticks) -> Take {
    let clock = Clock { about: Ticks::ZERO, num: 1, den: 1, by };
    clock.take(take).unwrap_or_else(|_| take.clone())
}

/// A take of which some channels are later by some time; its range, clips, markers and weights stay.
///
/// # Errors
/// [`RetimeError::Weight`] where a channel is on a layer with an animated weight.
pub fn shifted_channels(
    take: &Take,
    by: Ticks,
    is_chosen: impl Fn(&Target) -> bool,
) -> Result<Take, RetimeError> {
    let clock = Clock { about: Ticks::ZERO, num: 1, den: 1, by };
    let mut take = take.clone();
    for layer in &mut take.layers {
        for track in layer.tracks.iter_mut().filter(|track| is_chosen(&track.target)) {
            if matches!(layer.weight, Weight::Curve(_)) {
                return Err(RetimeError::Weight(layer.name.clone()));
            }
            track.controller = clock.controller(&track.controller)?;
        }
    }
    Ok(take)
}

/// A take stretched so that `frames` frames of a rate, both ends counted, lie in its range; it begins when it began.
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
/// use nimble_curve_ops::retime::stretched;
///
/// // Hips that walk along z and sway: one step of a loop.
/// let places = curves([&[(0, 0.0), (12, 0.1), (24, 0.0)], &[(0, 1.0), (24, 1.0)], &[(0, 0.0), (24, 1.4)]]);
/// let walk = take("walk", 24, vec![track(TRANSLATION, Controller::Components(places.to_vec()))]);
/// // Twenty-five frames become forty-nine: twice as slow, every key at twice its time.
/// let slow = stretched(&walk, 49, rate)?;
/// assert_eq!(rate.frame(slow.range.last), 48.0);
/// let Controller::Components(curves) = &slow.layers[0].tracks[0].controller else { panic!() };
/// assert_eq!(rate.frame(curves[0].keys()[1].time), 24.0);
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
///
/// # Errors
/// See [`RetimeError`].
pub fn stretched(take: &Take, frames: i64, rate: FrameRate) -> Result<Take, RetimeError> {
    let old = (take.range.last - take.range.first).0;
    let new = (rate.ticks(rate.nearest_frame(take.range.first) + frames - 1)
        - rate.ticks(rate.nearest_frame(take.range.first)))
    .0;
    if old <= 0 || new <= 0 {
        return Err(RetimeError::NoLength);
    }
    let common = gcd(old.into(), new.into()) as i64;
    let clock = Clock { about: take.range.first, num: new / common, den: old / common, by: Ticks::ZERO };
    clock.take(take)
}

fn gcd(a: i128, b: i128) -> i128 {
    if b == 0 { a } else { gcd(b, a % b) }
}

impl Clock {
    fn time(&self, time: Ticks) -> Ticks {
        let moved = i128::from((time - self.about).0) * i128::from(self.num);
        let den = i128::from(self.den);
        Ticks(self.about.0 + (moved + den.div_euclid(2)).div_euclid(den) as i64 + self.by.0)
    }

    fn factor(&self) -> f64 {
        self.num as f64 / self.den as f64
    }

    fn is_shift(&self) -> bool {
        self.num == self.den
    }

    fn range(&self, range: TimeRange) -> TimeRange {
        TimeRange::new(self.time(range.first), self.time(range.last))
    }

    fn take(&self, take: &Take) -> Result<Take, RetimeError> {
        let layer = |layer: &Layer| -> Result<Layer, RetimeError> {
            let track = |track: &Track| {
                Ok(Track { target: track.target.clone(), controller: self.controller(&track.controller)? })
            };
            Ok(Layer {
                name: layer.name.clone(),
                weight: self.weight(&layer.weight)?,
                tracks: layer.tracks.iter().map(track).collect::<Result<_, RetimeError>>()?,
                ..*layer
            })
        };
        Ok(Take {
            name: take.name.clone(),
            folder: take.folder.clone(),
            range: self.range(take.range),
            clips: take
                .clips
                .iter()
                .map(|clip| Clip { range: self.range(clip.range), ..clip.clone() })
                .collect(),
            markers: (take.markers.iter())
                .map(|marker| Marker { time: self.time(marker.time), ..marker.clone() })
                .collect(),
            layers: take.layers.iter().map(layer).collect::<Result<_, _>>()?,
        })
    }

    fn weight(&self, weight: &Weight) -> Result<Weight, RetimeError> {
        Ok(match weight {
            Weight::Constant(_) => weight.clone(),
            Weight::Curve(curve) => Weight::Curve(self.curve(curve)?),
        })
    }

    fn curve(&self, curve: &Curve) -> Result<Curve, RetimeError> {
        if self.is_shift() {
            return Ok(curve.shifted(self.by));
        }
        Ok(curve.stretched(self.about, self.factor())?.shifted(self.by))
    }

    fn controller(&self, controller: &Controller) -> Result<Controller, RetimeError> {
        let curves =
            |curves: &[Curve]| curves.iter().map(|curve| self.curve(curve)).collect::<Result<Vec<_>, _>>();
        Ok(match controller {
            Controller::Constant(_) => controller.clone(),
            Controller::Components(all) => Controller::Components(curves(all)?),
            Controller::Euler(euler) => {
                let [x, y, z] = &euler.curves;
                let made = [self.curve(x)?, self.curve(y)?, self.curve(z)?];
                Controller::Euler(EulerCurves { order: euler.order, curves: made })
            }
            Controller::Quaternion(curve) => {
                let factor = self.factor();
                let key = |key: &QuaternionKey| QuaternionKey {
                    time: self.time(key.time),
                    tangent_in: key.tangent_in / factor,
                    tangent_out: key.tangent_out / factor,
                    ..*key
                };
                Controller::Quaternion(QuaternionCurve {
                    keys: curve.keys.iter().map(key).collect(),
                    ..*curve
                })
            }
            Controller::Tcb(curve) => {
                let keys = match &curve.keys {
                    TcbKeys::Number(keys) => TcbKeys::Number(self.tcb(keys)),
                    TcbKeys::Vector(keys) => TcbKeys::Vector(self.tcb(keys)),
                    TcbKeys::Rotation(keys) => TcbKeys::Rotation(self.tcb(keys)),
                };
                let slower = |behaviour: Behaviour| behaviour.steeper(self.factor().recip());
                Controller::Tcb(TcbCurve { keys, before: slower(curve.before), after: slower(curve.after) })
            }
            Controller::Discrete(curve) => {
                let keys =
                    curve.keys().iter().map(|(time, value)| (self.time(*time), value.clone())).collect();
                Controller::Discrete(DiscreteCurve::new(keys).map_err(EditError::from)?)
            }
            Controller::Samples(samples) => Controller::Samples(Samples {
                start: self.time(samples.start),
                rate: self.rate(samples.rate)?,
                ..samples.clone()
            }),
            Controller::Stack(entries) => {
                let entry = |entry: &StackEntry| {
                    Ok(StackEntry {
                        name: entry.name.clone(),
                        weight: self.weight(&entry.weight)?,
                        controller: self.controller(&entry.controller)?,
                    })
                };
                Controller::Stack(entries.iter().map(entry).collect::<Result<_, RetimeError>>()?)
            }
            Controller::Procedural(procedural) => {
                let sampled =
                    procedural.sampled.as_ref().map(|sampled| self.controller(sampled)).transpose()?;
                Controller::Procedural(Procedural { sampled: sampled.map(Box::new), ..procedural.clone() })
            }
        })
    }

    fn tcb<V: Copy>(&self, keys: &[TcbKey<V>]) -> Vec<TcbKey<V>> {
        keys.iter().map(|key| TcbKey { time: self.time(key.time), ..*key }).collect()
    }

    fn rate(&self, rate: FrameRate) -> Result<FrameRate, RetimeError> {
        if self.is_shift() {
            return Ok(rate);
        }
        let (num, den) = (
            i128::from(rate.numerator()) * i128::from(self.den),
            i128::from(rate.denominator()) * i128::from(self.num),
        );
        let common = gcd(num, den);
        let made = u32::try_from(num / common).ok().zip(u32::try_from(den / common).ok());
        made.and_then(|(num, den)| FrameRate::new(num, den)).ok_or(RetimeError::Rate(rate))
    }
}
