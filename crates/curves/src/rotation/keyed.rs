//! Rotations whose keys are rotations: great arcs, spherical quadrangles and cubics, ready to be evaluated.
//!
//! Squad after Shoemake (SIGGRAPH 1987 course notes), its inner points chosen for one angular velocity on both sides
//! of a key, also where keys are unevenly spaced. Tension-continuity-bias keys are the same quadrangles, with the
//! angular velocities of Kochanek and Bartels (SIGGRAPH 1984).

use glam::{DQuat, DVec3, DVec4};

use super::path::{Knot, RotationPath, SegmentKind};
use super::vector::{from_vector, nearest_vector, to_vector};
use super::{QuaternionCurve, QuaternionInterpolation};
use crate::curve::outside::{Folded, Line, Place, place};
use crate::curve::{Behaviour, Side};
use crate::ease::Ease;
use crate::tcb::TcbKey;
use crate::time::{TICKS_PER_SECOND, Ticks, TimeRange};

/// A rotation with keys, ready to be evaluated.
#[derive(Clone, Debug)]
pub struct KeyedRotation {
    times: Vec<Ticks>,
    /// The keys' rotations, continuous in sign.
    values: Vec<DQuat>,
    pieces: Vec<Piece>,
    before: Behaviour,
    after: Behaviour,
}

/// What lies between two keys, as a function of a parameter from 0 to 1.
#[derive(Clone, Copy, Debug)]
enum Piece {
    Hold,
    /// `from · exp(u · turn)`.
    Arc {
        turn: DVec3,
    },
    /// A spherical quadrangle over the keys, see [`Quad`].
    Quad {
        quad: Quad,
        ease: Ease,
    },
    /// A cubic by component, then brought to length 1; slopes over the whole piece.
    Cubic {
        slopes: (DVec4, DVec4),
    },
}

/// A spherical quadrangle: the arc over the chord, drawn towards the arc between two inner points.
///
/// All turns are kept as vectors, which tell how far round they go, so that nothing flips where an inner point lies
/// more than half a turn away.
#[derive(Clone, Copy, Debug)]
struct Quad {
    /// From the start to the end, in the start's frame.
    chord: DVec3,
    /// From the start to its inner point, in the start's frame.
    start: DVec3,
    /// From the first inner point to the second, in the first one's frame.
    inner: DVec3,
    /// From the end to its inner point, in the end's frame.
    end: DVec3,
}

impl KeyedRotation {
    /// The rotation of quaternion keys.
    ///
    /// Slopes given as behaviours outside the keys mean nothing to a rotation and count as held; the open standard's
    /// linear behaviour goes on at the angular velocity of the end.
    pub fn new(curve: &QuaternionCurve) -> KeyedRotation {
        let mut values: Vec<DQuat> = Vec::with_capacity(curve.keys.len());
        let mut signs = Vec::with_capacity(curve.keys.len());
        for key in &curve.keys {
            let value = key.value.normalize();
            let flips = values.last().is_some_and(|last| last.dot(value) < 0.0);
            signs.push(if flips { -1.0 } else { 1.0 });
            values.push(if flips { -value } else { value });
        }
        let times: Vec<Ticks> = curve.keys.iter().map(|key| key.time).collect();
        let chords = Chords::new(&times, &values);
        let moves = |index: usize| curve.keys[index].interpolation != QuaternionInterpolation::Step;
        let piece = |index: usize| {
            let (key, next) = (&curve.keys[index], &curve.keys[index + 1]);
            let seconds = (next.time - key.time).seconds();
            match key.interpolation {
                QuaternionInterpolation::Step => Piece::Hold,
                QuaternionInterpolation::Slerp => Piece::Arc { turn: chords.turns[index] },
                QuaternionInterpolation::Squad => {
                    let start = index.checked_sub(1).filter(|&before| moves(before));
                    let end = (index + 2 < values.len() && moves(index + 1)).then_some(index + 1);
                    let velocity = |a: Option<usize>, b: Option<usize>| {
                        chords.mean(a.unwrap_or(index), b.unwrap_or(index))
                    };
                    let velocities = (velocity(start, Some(index)), velocity(Some(index), end));
                    chords.quad(index, velocities, Ease::NONE)
                }
                QuaternionInterpolation::Cubic => Piece::Cubic {
                    slopes: (
                        key.tangent_out * (signs[index] * seconds / key.value.length()),
                        next.tangent_in * (signs[index + 1] * seconds / next.value.length()),
                    ),
                },
            }
        };
        let pieces = (0..times.len().saturating_sub(1)).map(piece).collect();
        KeyedRotation { times, values, pieces, before: curve.before, after: curve.after }
    }

    /// The rotation of tension-continuity-bias keys.
    pub fn of_tcb(keys: &[TcbKey<DQuat>], before: Behaviour, after: Behaviour) -> KeyedRotation {
        let mut values: Vec<DQuat> = Vec::with_capacity(keys.len());
        for key in keys {
            let value = key.value.normalize();
            let flips = values.last().is_some_and(|last| last.dot(value) < 0.0);
            values.push(if flips { -value } else { value });
        }
        let times: Vec<Ticks> = keys.iter().map(|key| key.time).collect();
        let chords = Chords::new(&times, &values);
        let last = keys.len().saturating_sub(1);
        let velocities: Vec<(DVec3, DVec3)> = (keys.iter().enumerate())
            .map(|(index, key)| {
                if last == 0 {
                    return (DVec3::ZERO, DVec3::ZERO);
                }
                // At the ends the chord that is missing counts as the mirror image of the one there is.
                let (a, b) = (index.max(1) - 1, index.min(last - 1));
                let (into, out) = key.shares();
                let seconds = 0.5 * (chords.seconds[a] + chords.seconds[b]);
                let slope = |(first, second): (f64, f64)| {
                    (chords.turns[a] * first + chords.turns[b] * second) / seconds
                };
                (slope(into), slope(out))
            })
            .collect();
        let pieces = (0..last)
            .map(|index| {
                let ease = Ease::new(keys[index].ease_out, keys[index + 1].ease_in);
                chords.quad(index, (velocities[index].1, velocities[index + 1].0), ease)
            })
            .collect();
        KeyedRotation { times, values, pieces, before, after }
    }

    /// The keys as knots of a path; in a range beyond the keys also the keys of loops and the range's ends.
    pub fn knots(&self, range: Option<TimeRange>) -> Vec<Knot> {
        let own = (self.times.iter().enumerate()).map(|(index, &time)| {
            let leaving = match self.pieces.get(index) {
                Some(Piece::Hold) => SegmentKind::Holding,
                _ => SegmentKind::Moving,
            };
            Knot { time, leaving }
        });
        let mut knots: Vec<Knot> = own.collect();
        for (index, piece) in self.pieces.iter().enumerate() {
            if let Piece::Quad { ease, .. } = piece {
                let (from, gap) =
                    (self.times[index].as_f64(), (self.times[index + 1] - self.times[index]).as_f64());
                knots.extend(ease.corners().map(|u| Knot {
                    time: Ticks((from + u * gap).round() as i64),
                    leaving: SegmentKind::Moving,
                }));
            }
        }
        knots.sort_by_key(|knot| knot.time);
        knots.dedup_by_key(|knot| knot.time);
        let (Some(&first), Some(&last)) = (self.times.first(), self.times.last()) else { return knots };
        let Some(range) = range.filter(|_| self.moves_outside()) else { return knots };
        let mut more = Vec::new();
        for (behaviour, from, to) in [(self.before, range.first, first), (self.after, last, range.last)] {
            if from >= to {
                continue;
            }
            more.push(if behaviour == self.before && to == first { from } else { to });
            if !behaviour.is_loop() || first == last {
                continue;
            }
            let period = (last - first).0;
            for turn in (from - first).0.div_euclid(period)..=(to - first).0.div_euclid(period) {
                for &time in &self.times {
                    let within = (time - first).0;
                    let backwards = behaviour == Behaviour::LoopOscillate && turn.rem_euclid(2) == 1;
                    let within = if backwards { period - within } else { within };
                    let at = Ticks(first.0 + turn * period + within);
                    if from <= at && at <= to {
                        more.push(at);
                    }
                }
            }
        }
        let known: std::collections::HashSet<Ticks> = self.times.iter().copied().collect();
        more.retain(|time| !known.contains(time));
        knots.extend(more.into_iter().map(|time| Knot { time, leaving: SegmentKind::Moving }));
        knots.sort_by_key(|knot| knot.time);
        knots.dedup_by_key(|knot| knot.time);
        knots
    }

    /// Whether the rotation goes on changing outside its keys.
    pub fn moves_outside(&self) -> bool {
        let moves = |behaviour: Behaviour| behaviour.is_loop() || matches!(behaviour, Behaviour::Linear);
        self.times.len() > 1 && (moves(self.before) || moves(self.after))
    }

    /// From the first to the last key; `None` without keys.
    pub fn range(&self) -> Option<TimeRange> {
        Some(TimeRange { first: *self.times.first()?, last: *self.times.last()? })
    }

    /// The rotation on one side of an instant in ticks; `None` where there is none.
    pub fn rotation_on(&self, time: f64, side: Side) -> Option<DQuat> {
        match self.place(time, side) {
            Place::Nowhere => None,
            Place::Along { at_last, line } => {
                let index = if at_last { self.values.len() - 1 } else { 0 };
                let value = self.values[index];
                if line != Line::AsItEnds || self.values.len() < 2 {
                    return Some(value);
                }
                let seconds = (time - self.times[index].as_f64()) / TICKS_PER_SECOND as f64;
                Some((from_vector(self.end_velocity(at_last) * seconds) * value).normalize())
            }
            Place::Among(folded) => {
                let (index, u) = self.locate(&folded);
                let value = self.in_piece(index, u, folded.side);
                if folded.climbed == 0.0 {
                    return Some(value);
                }
                let climb = self.values[self.values.len() - 1] * self.values[0].conjugate();
                Some((from_vector(to_vector(climb) * folded.climbed) * value).normalize())
            }
        }
    }

    /// The angular velocity in the parent's frame on one side of an instant, in radians per second.
    pub fn velocity_on(&self, time: f64, side: Side) -> Option<DVec3> {
        match self.place(time, side) {
            Place::Nowhere => None,
            Place::Along { at_last, line: Line::AsItEnds } if self.values.len() > 1 => {
                Some(self.end_velocity(at_last))
            }
            Place::Along { .. } => Some(DVec3::ZERO),
            Place::Among(folded) => {
                let (index, u) = self.locate(&folded);
                let velocity = self.piece_velocity(index, u);
                let velocity = if folded.backwards { -velocity } else { velocity };
                if folded.climbed == 0.0 {
                    return Some(velocity);
                }
                let climb = self.values[self.values.len() - 1] * self.values[0].conjugate();
                Some(from_vector(to_vector(climb) * folded.climbed) * velocity)
            }
        }
    }

    fn place(&self, time: f64, side: Side) -> Place {
        let Some(range) = self.range() else { return Place::Nowhere };
        place((range.first, range.last), (self.before, self.after), time, side)
    }

    /// The piece that a time among the keys lies in, and how far it is along it, 0 to 1.
    fn locate(&self, folded: &Folded) -> (usize, f64) {
        let after = match folded.side {
            Side::Right => self.times.partition_point(|time| time.as_f64() <= folded.time),
            Side::Left => self.times.partition_point(|time| time.as_f64() < folded.time),
        };
        let index = after.clamp(1, self.times.len() - 1) - 1;
        let (from, to) = (self.times[index].as_f64(), self.times[index + 1].as_f64());
        (index, ((folded.time - from) / (to - from)).clamp(0.0, 1.0))
    }

    fn in_piece(&self, index: usize, u: f64, side: Side) -> DQuat {
        let (from, to) = (self.values[index], self.values[index + 1]);
        match self.pieces[index] {
            Piece::Hold if u == 1.0 && side == Side::Right => to,
            Piece::Hold => from,
            // Keys are exact, whatever rounding lies between them.
            _ if u == 0.0 => from,
            _ if u == 1.0 => to,
            piece => piece.at(from, to, u),
        }
    }

    /// The angular velocity in the parent's frame within a piece, in radians per second.
    fn piece_velocity(&self, index: usize, u: f64) -> DVec3 {
        let (from, to) = (self.values[index], self.values[index + 1]);
        let per_second = 1.0 / (self.times[index + 1] - self.times[index]).seconds();
        let by_piece = match self.pieces[index] {
            Piece::Hold => DVec3::ZERO,
            Piece::Arc { turn } => from * turn,
            Piece::Quad { quad, ease } => {
                // The quadrangle goes on smoothly beyond its ends, so that the difference can stay central.
                let eased = ease.at(u);
                let velocity = |h: f64| {
                    let step = quad.at(from, eased + h) * quad.at(from, eased - h).conjugate();
                    to_vector(step) / (2.0 * h)
                };
                // Richardson's extrapolation of the central difference.
                ((velocity(5e-4) * 4.0 - velocity(1e-3)) / 3.0) * ease.rate(u)
            }
            Piece::Cubic { .. } => {
                let (value, rate) = self.pieces[index].cubic(from, to, u);
                // ω = 2·vec(q̇·q⁻¹); the part along q only changes the length.
                (rate * value.conjugate()).xyz() * (2.0 / value.length_squared())
            }
        };
        by_piece * per_second
    }

    fn end_velocity(&self, at_last: bool) -> DVec3 {
        if at_last { self.piece_velocity(self.pieces.len() - 1, 1.0) } else { self.piece_velocity(0, 0.0) }
    }
}

impl Piece {
    fn at(&self, from: DQuat, to: DQuat, u: f64) -> DQuat {
        match *self {
            Piece::Hold => from,
            Piece::Arc { turn } => from * from_vector(turn * u),
            Piece::Quad { quad, ease } => quad.at(from, ease.at(u)),
            Piece::Cubic { .. } => self.cubic(from, to, u).0.normalize(),
        }
    }

    /// The cubic of a piece and its derivative by the parameter.
    fn cubic(&self, from: DQuat, to: DQuat, u: f64) -> (DQuat, DQuat) {
        let Piece::Cubic { slopes: (m0, m1) } = *self else { return (from, DQuat::from_vec4(DVec4::ZERO)) };
        let (p0, p1) = (DVec4::from(from), DVec4::from(to));
        let (c2, c3) = (3.0 * (p1 - p0) - 2.0 * m0 - m1, m0 + m1 - 2.0 * (p1 - p0));
        let value = p0 + (m0 + (c2 + c3 * u) * u) * u;
        let rate = m0 + (2.0 * c2 + 3.0 * c3 * u) * u;
        (DQuat::from_vec4(value), DQuat::from_vec4(rate))
    }
}

impl Quad {
    fn at(&self, from: DQuat, u: f64) -> DQuat {
        let outer = from_vector(self.chord * u);
        let inner = from_vector(self.start) * from_vector(self.inner * u);
        let reference = self.start + (self.end - self.start) * u;
        let drawn = nearest_vector(outer.conjugate() * inner, reference);
        from * outer * from_vector(drawn * (2.0 * u * (1.0 - u)))
    }
}

/// The turns from each key to the next, as vectors in the keys' own frames.
struct Chords {
    turns: Vec<DVec3>,
    seconds: Vec<f64>,
}

impl Chords {
    fn new(times: &[Ticks], values: &[DQuat]) -> Chords {
        Chords {
            turns: values.windows(2).map(|pair| to_vector(pair[0].conjugate() * pair[1])).collect(),
            seconds: times.windows(2).map(|pair| (pair[1] - pair[0]).seconds()).collect(),
        }
    }

    /// The angular velocity across two neighbouring chords, or along one.
    fn mean(&self, a: usize, b: usize) -> DVec3 {
        (self.turns[a] + self.turns[b]) / (self.seconds[a] + self.seconds[b])
    }

    /// The quadrangle over a chord that starts and ends with these angular velocities in the keys' own frames.
    ///
    /// At its start a quadrangle turns by the chord and twice the turn to the inner point: log(q₀⁻¹q₁) + 2·log(q₀⁻¹s₀).
    fn quad(&self, index: usize, velocities: (DVec3, DVec3), ease: Ease) -> Piece {
        let (chord, seconds) = (self.turns[index], self.seconds[index]);
        let start = (velocities.0 * seconds - chord) * 0.5;
        let end = (chord - velocities.1 * seconds) * 0.5;
        let between = from_vector(start).conjugate() * from_vector(chord) * from_vector(end);
        let inner = nearest_vector(between, chord + end - start);
        Piece::Quad { quad: Quad { chord, start, inner, end }, ease }
    }
}

impl RotationPath for KeyedRotation {
    fn rotation(&self, time: f64, side: Side) -> DQuat {
        self.rotation_on(time, side).unwrap_or(DQuat::IDENTITY)
    }

    fn velocity(&self, time: f64, side: Side) -> DVec3 {
        self.velocity_on(time, side).unwrap_or(DVec3::ZERO)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::rotation::QuaternionKey;
    use crate::rotation::angle_between;

    const SECOND: i64 = TICKS_PER_SECOND;

    fn key(time: i64, value: DQuat, interpolation: QuaternionInterpolation) -> QuaternionKey {
        QuaternionKey {
            time: Ticks(time),
            value,
            interpolation,
            tangent_in: DVec4::ZERO,
            tangent_out: DVec4::ZERO,
        }
    }

    fn any_rotation() -> impl Strategy<Value = DQuat> {
        prop::array::uniform3(-1.7..1.7_f64).prop_map(|v| from_vector(DVec3::from(v)))
    }

    fn curve(keys: Vec<QuaternionKey>) -> QuaternionCurve {
        QuaternionCurve { keys, before: Behaviour::Held, after: Behaviour::Held }
    }

    proptest! {
        #[test]
        fn even_squads_are_the_published_ones(
            turns in prop::array::uniform4(prop::array::uniform3(-0.5..0.5_f64)), u in 0.0..1.0_f64
        ) {
            // Gentle turns: the published formula takes the short way everywhere, and flips where that is another.
            let mut last = DQuat::IDENTITY;
            let q = turns.map(|turn| { last *= from_vector(DVec3::from(turn)); last });
            let keys = q.iter().enumerate()
                .map(|(i, q)| key(i as i64 * SECOND, *q, QuaternionInterpolation::Squad)).collect();
            let found = KeyedRotation::new(&curve(keys)).rotation((1.0 + u) * SECOND as f64, Side::Right);
            // Shoemake's formula, with the vector library's own exponentials and arcs.
            let mut q = q;
            for i in 1..4 {
                if q[i].dot(q[i - 1]) < 0.0 { q[i] = -q[i]; }
            }
            let log = |q: DQuat| q.to_scaled_axis();
            let inner = |a: DQuat, b: DQuat, c: DQuat| {
                b * DQuat::from_scaled_axis((log(b.conjugate() * c) + log(b.conjugate() * a)) * -0.25)
            };
            let (s1, s2) = (inner(q[0], q[1], q[2]), inner(q[1], q[2], q[3]));
            let expected = q[1].slerp(q[2], u).slerp(s1.slerp(s2, u), 2.0 * u * (1.0 - u));
            prop_assert!(angle_between(found, expected) < 1e-7, "{found} {expected}");
        }

        #[test]
        fn velocities_match_differences_and_squads_are_smooth_through_uneven_keys(
            q in prop::collection::vec(any_rotation(), 4), gaps in prop::array::uniform3(0.2..2.0_f64),
            way in prop::sample::select(vec![QuaternionInterpolation::Slerp, QuaternionInterpolation::Squad,
                QuaternionInterpolation::Cubic]),
            tangents in prop::collection::vec(prop::array::uniform4(-0.5..0.5_f64), 4), u in 0.05..0.95_f64
        ) {
            let mut time = 0.0;
            let mut keys = Vec::new();
            for (index, q) in q.iter().enumerate() {
                let mut key = key((time * SECOND as f64) as i64, *q, way);
                key.tangent_in = DVec4::from(tangents[index]);
                key.tangent_out = key.tangent_in;
                keys.push(key);
                time += gaps.get(index).unwrap_or(&0.0);
            }
            let times: Vec<f64> = keys.iter().map(|key| key.time.as_f64()).collect();
            let path = KeyedRotation::new(&curve(keys));
            for pair in times.windows(2) {
                let t = pair[0] + u * (pair[1] - pair[0]);
                let h = 1e-5 * SECOND as f64;
                let turned = path.rotation(t + h, Side::Right) * path.rotation(t - h, Side::Right).conjugate();
                let expected = to_vector(turned) / 2e-5;
                let found = path.velocity(t, Side::Right);
                prop_assert!(found.abs_diff_eq(expected, 1e-4 * (1.0 + expected.length())), "{found} {expected}");
            }
            if way == QuaternionInterpolation::Squad {
                for &t in &times[1..3] {
                    let (left, right) = (path.velocity(t, Side::Left), path.velocity(t, Side::Right));
                    prop_assert!(left.abs_diff_eq(right, 1e-6), "{left} {right}");
                }
            }
        }

        #[test]
        fn loops_join(q in prop::collection::vec(any_rotation(), 3), turn in -3..3_i64, u in 0.0..2.0_f64) {
            let keys = || q.iter().enumerate()
                .map(|(i, q)| key(i as i64 * SECOND, *q, QuaternionInterpolation::Squad)).collect();
            let at = |behaviour, seconds: f64, side| {
                KeyedRotation::new(&QuaternionCurve { keys: keys(), before: behaviour, after: behaviour })
                    .rotation(seconds * SECOND as f64, side)
            };
            let seam = 2.0 * turn as f64;
            let repeat = |seconds, side| at(Behaviour::LoopOffset, seconds, side);
            prop_assert!(angle_between(repeat(seam, Side::Left), repeat(seam, Side::Right)) < 1e-9);
            let climb = repeat(seam + 2.0 + u, Side::Right) * repeat(seam + u, Side::Right).conjugate();
            prop_assert!(angle_between(climb, q[2] * q[0].conjugate()) < 1e-9);
            let back = at(Behaviour::LoopOscillate, 2.0 + u, Side::Right);
            prop_assert!(angle_between(back, at(Behaviour::LoopOscillate, 2.0 - u, Side::Left)) < 1e-9);
        }
    }

    #[test]
    fn a_step_jumps_at_the_next_key_and_arcs_have_constant_speed() {
        let quarter = DQuat::from_rotation_z(std::f64::consts::FRAC_PI_2);
        let path = KeyedRotation::new(&curve(vec![
            key(0, DQuat::IDENTITY, QuaternionInterpolation::Step),
            key(SECOND, quarter, QuaternionInterpolation::Slerp),
            // The other sign of the same rotation: the way is the short one all the same.
            key(2 * SECOND, -DQuat::IDENTITY, QuaternionInterpolation::Slerp),
        ]));
        let at = |seconds: f64, side| path.rotation(seconds * SECOND as f64, side);
        assert_eq!(at(0.99, Side::Right), DQuat::IDENTITY);
        assert_eq!(at(1.0, Side::Left), DQuat::IDENTITY);
        assert_eq!(at(1.0, Side::Right), quarter);
        assert!(path.jumps(SECOND as f64) && !path.jumps(1.5 * SECOND as f64));
        let eighth = DQuat::from_rotation_z(std::f64::consts::FRAC_PI_4);
        assert!(angle_between(at(1.5, Side::Right), eighth) < 1e-15);
    }
}
