//! What lies outside the range that was unbaked: it stays, as the keys that there were, or a key on every sample.

use glam::{DQuat, DVec3, DVec4};
use nimble_curve_curves::curve::{Curve, Interpolation, Key};
use nimble_curve_curves::rotation::nearest_euler;
use nimble_curve_curves::time::{Ticks, TimeRange};
use nimble_curve_curves::value::Value;
use nimble_curve_scene::controller::{
    Controller, EulerCurves, QuaternionCurve, QuaternionInterpolation, QuaternionKey, Samples,
};
use nimble_curve_scene::evaluate::Sampler;
use nimble_curve_scene::scene::PropertyKind;

/// A fitted range between what its source has outside it; `None` where that cannot be evaluated.
pub(super) fn around(
    source: &Controller,
    fitted: Controller,
    part: &Samples,
    (range, rest): (TimeRange, &Value),
) -> Option<Controller> {
    let outside = Outside { source, part, range };
    Some(match fitted {
        Controller::Components(curves) => Controller::Components(
            curves
                .iter()
                .enumerate()
                .map(|(component, curve)| outside.with(curve, outside.keys(component)))
                .collect(),
        ),
        Controller::Euler(euler) if source.order() == Some(euler.order) => {
            let curves = [0, 1, 2].map(|axis| outside.with(&euler.curves[axis], outside.keys(axis)));
            Controller::Euler(EulerCurves { order: euler.order, curves })
        }
        Controller::Euler(euler) => outside.euler(&euler, rest)?,
        Controller::Quaternion(curve) => outside.quaternions(curve, rest)?,
        other => other,
    })
}

struct Outside<'a> {
    source: &'a Controller,
    /// The samples within the range.
    part: &'a Samples,
    range: TimeRange,
}

impl Outside<'_> {
    fn ends(&self) -> (Ticks, Ticks) {
        (self.part.start, self.part.time(self.part.len() - 1))
    }

    fn is_before(&self, time: Ticks) -> bool {
        time < self.ends().0 && !self.range.contains(time)
    }

    fn is_after(&self, time: Ticks) -> bool {
        time > self.ends().1 && !self.range.contains(time)
    }

    /// The source's keys, or one on every sample, of one component.
    fn keys(&self, component: usize) -> Vec<Key> {
        match self.source {
            Controller::Samples(samples) => (0..samples.len())
                .map(|index| straight(samples.time(index), samples.row(index)[component]))
                .collect(),
            other => other.curves().get(component).map_or(Vec::new(), |curve| curve.keys().to_vec()),
        }
    }

    /// A fitted curve with keys outside the range.
    fn with(&self, inside: &Curve, outside: Vec<Key>) -> Curve {
        let (first, last) = self.ends();
        let before = outside.iter().filter(|key| self.is_before(key.time));
        let after = outside.iter().filter(|key| self.is_after(key.time));
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
        Curve::new(keys).expect("what lies outside is before or after what lies inside")
    }

    /// The rotations outside the range, at the source's samples or keys, in order of time.
    fn rotations(&self, rest: &Value) -> Option<Vec<(Ticks, DQuat)>> {
        let mut times: Vec<Ticks> = match self.source {
            Controller::Samples(samples) => (0..samples.len()).map(|index| samples.time(index)).collect(),
            other => other.own_key_times().into_iter().flatten().collect(),
        };
        times.retain(|&time| self.is_before(time) || self.is_after(time));
        times.sort_unstable();
        times.dedup();
        let mut sampler = match Sampler::new(self.source, PropertyKind::Rotation, rest.clone()) {
            Ok(sampler) => sampler,
            Err(_) => return None,
        };
        let turn = |time: Ticks| Some((time, sampler.value_at(time.as_f64()).rotation()?));
        times.into_iter().map(turn).collect()
    }

    /// Angles of another order than the source's, if it has angles: those outside follow on those inside.
    fn euler(&self, euler: &EulerCurves, rest: &Value) -> Option<Controller> {
        let all = self.rotations(rest)?;
        let start = all.partition_point(|(time, _)| self.is_before(*time));
        let inside = |time: Ticks| {
            let angles =
                [0, 1, 2].map(|axis: usize| euler.curves[axis].value_at(time.as_f64()).unwrap_or(0.0));
            DVec3::from_array(angles)
        };
        let (first, last) = self.ends();
        let mut angles = vec![DVec3::ZERO; all.len()];
        let follow = |near: &mut DVec3, turn: DQuat| {
            *near = nearest_euler(euler.order, turn, *near);
            *near
        };
        let mut near = inside(first);
        for index in (0..start).rev() {
            angles[index] = follow(&mut near, all[index].1);
        }
        near = inside(last);
        for index in start..all.len() {
            angles[index] = follow(&mut near, all[index].1);
        }
        let keys = |axis: usize| -> Vec<Key> {
            all.iter().zip(&angles).map(|((time, _), angles)| straight(*time, angles[axis])).collect()
        };
        let curves = [0, 1, 2].map(|axis| self.with(&euler.curves[axis], keys(axis)));
        Some(Controller::Euler(EulerCurves { order: euler.order, curves }))
    }

    /// Quaternion keys, with great arcs between those outside.
    fn quaternions(&self, curve: QuaternionCurve, rest: &Value) -> Option<Controller> {
        let (first, last) = self.ends();
        let mut inside = curve.keys;
        if let [only] = inside[..] {
            inside = vec![QuaternionKey { time: first, ..only }, QuaternionKey { time: last, ..only }];
        }
        if let Some(key) = inside.last_mut() {
            key.interpolation = QuaternionInterpolation::Slerp;
        }
        let all = self.rotations(rest)?;
        let start = all.partition_point(|(time, _)| self.is_before(*time));
        let key = |&(time, value): &(Ticks, DQuat)| QuaternionKey {
            time,
            value,
            interpolation: QuaternionInterpolation::Slerp,
            tangent_in: DVec4::ZERO,
            tangent_out: DVec4::ZERO,
        };
        let keys = all[..start].iter().map(key).chain(inside).chain(all[start..].iter().map(key));
        Some(Controller::Quaternion(QuaternionCurve { keys: keys.collect(), ..curve }))
    }
}

/// A key with straight lines to both sides.
fn straight(time: Ticks, value: f64) -> Key {
    Key::new(time, value).with_interpolation(Interpolation::Linear).with_slope(0.0)
}
