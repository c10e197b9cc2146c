//! Which keys are an axis' own. A conversion to another order keys all axes wherever one had a key; these say on which axes
//! they were set, and the way back takes them off the others.

use std::f64::consts::TAU;

use glam::DVec3;

use super::{RotationOrder, other_reading, quat_from_euler};
use crate::curve::{AxisSet, Behaviour, Curve, Key, Ticks};

/// So near to where it rests, in radians, an axis is there: near the pole angles are known to half their digits.
const HOME: f64 = 1e-7;

/// When three curves have keys, and on which axes these were set.
#[derive(Clone, Debug, Default)]
pub struct OwnKeys {
    axes: Vec<(Ticks, AxisSet)>,
    /// Whether a conversion said so: then one back may make of still axes what they were.
    is_said: bool,
}

impl OwnKeys {
    /// The keys of three curves, those that a conversion added left out.
    pub fn of(curves: &[Curve; 3]) -> OwnKeys {
        let mut axes: Vec<(Ticks, AxisSet)> = Vec::new();
        let mut is_said = false;
        for (axis, curve) in curves.iter().enumerate() {
            for key in curve.keys().iter().filter(|key| !key.added) {
                is_said |= !key.axes.is_empty();
                axes.push((key.time, if key.axes.is_empty() { AxisSet::NONE.with(axis) } else { key.axes }));
            }
        }
        axes.sort_by_key(|(time, _)| *time);
        axes.dedup_by(|(time, axes), (before, all)| {
            let is_same = time == before;
            if is_same {
                *all = all.union(*axes);
            }
            is_same
        });
        OwnKeys { axes, is_said }
    }

    /// Whether a conversion said where keys were set, so that one back can take them home.
    pub fn is_said(&self) -> bool {
        self.is_said
    }

    /// Whether angles have all axes on which no key was set where they rest, if a conversion said where that was.
    pub fn rests(&self, angles: DVec3, rest: DVec3) -> bool {
        let is_set = |axis: usize| self.axes.iter().any(|(_, axes)| axes.has(axis));
        self.is_said && (0..3).all(|axis| is_set(axis) || (angles[axis] - rest[axis]).abs() <= HOME)
    }

    /// What angles are after a jump, if a conversion said which axes jump there: another reading of the same turn, whole turns
    /// counted, in which the others stay.
    pub(super) fn across(
        &self,
        order: RotationOrder,
        time: Ticks,
        (from, to): (DVec3, DVec3),
    ) -> Option<DVec3> {
        let own = self.at(time);
        if !self.is_said || own.is_empty() {
            return None;
        }
        let near = |angles: DVec3| angles + TAU * ((from - angles) / TAU).round();
        let stays =
            |angles: &DVec3| (0..3).all(|axis| own.has(axis) || (angles[axis] - from[axis]).abs() <= HOME);
        // A whole turn of one axis is the same rotation, and another way there.
        let turn = quat_from_euler(order, to);
        let is_same_way = |angles: &DVec3| quat_from_euler(order, *angles).dot(turn) > 0.0;
        let turned = |angles: DVec3, axis: usize, by: f64| {
            let mut turned = angles;
            turned[axis] += by;
            turned
        };
        let axes: Vec<usize> = (0..3).filter(|axis| own.has(*axis)).collect();
        let around = |angles: DVec3| {
            let all = axes.iter().flat_map(|&axis| [-TAU, 0.0, TAU].map(|by| (axis, by)));
            all.map(move |(axis, by)| turned(angles, axis, by))
        };
        let readings = [near(to), near(other_reading(order, to))];
        readings
            .into_iter()
            .filter(stays)
            .flat_map(around)
            .filter(is_same_way)
            .min_by(|a, b| (*a - from).abs().element_sum().total_cmp(&(*b - from).abs().element_sum()))
    }

    fn at(&self, time: Ticks) -> AxisSet {
        let found = self.axes.binary_search_by_key(&time, |(time, _)| *time);
        found.map_or(AxisSet::NONE, |index| self.axes[index].1)
    }

    /// Converted curves without the keys that were set on other axes and change nothing; those that stay say where they were
    /// set. An axis that had no keys and is where it rests, if that is said, has none again.
    pub fn on(&self, curves: [Curve; 3], rest: Option<DVec3>) -> [Curve; 3] {
        let mut axis = 0;
        let mut thinned = curves.map(|curve| {
            axis += 1;
            self.thinned(axis - 1, curve, rest.map(|rest| rest[axis - 1]))
        });
        // Where a key is on just the axes that it was set on, there is nothing to say.
        for &(time, axes) in &self.axes {
            let here = |curve: &Curve| curve.keys().binary_search_by_key(&time, |key| key.time).ok();
            let found: [Option<usize>; 3] = thinned.each_ref().map(here);
            let is_home = (0..3).all(|axis| axes.has(axis) == found[axis].is_some());
            for (curve, index) in thinned.iter_mut().zip(found) {
                if let Some(index) = index {
                    curve.set_axes(index, if is_home { AxisSet::NONE } else { axes });
                }
            }
        }
        thinned
    }

    fn thinned(&self, axis: usize, curve: Curve, rest: Option<f64>) -> Curve {
        let is_own = |key: &Key| {
            let axes = self.at(key.time);
            axes.is_empty() || axes.has(axis)
        };
        if !self.is_said {
            return curve;
        }
        let curve = curve.without_strangers(is_own);
        let [only] = curve.keys() else { return curve };
        if (curve.before, curve.after) != (Behaviour::Held, Behaviour::Held) {
            return curve;
        }
        let own = self.axes.iter().filter(|(_, axes)| axes.has(axis));
        let own: Vec<Key> = own.map(|(time, _)| Key::new(*time, only.value).with_slope(0.0)).collect();
        if own.is_empty() {
            let rests = rest.is_some_and(|rest| (only.value - rest).abs() <= HOME);
            return if rests { Curve::default() } else { curve };
        }
        let still = Curve::new(own).expect("keys are in order of time, and their value is one of a curve");
        still.with_behaviours(Behaviour::Held, Behaviour::Held)
    }
}
