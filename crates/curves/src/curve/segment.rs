//! One piece of a curve, from a key to the next, ready to be evaluated many times.

use super::{Interpolation, Key};
use crate::time::TICKS_PER_SECOND;

const TICKS: f64 = TICKS_PER_SECOND as f64;

/// A piece of a curve between two keys.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Segment {
    /// No value.
    None,
    /// One value throughout.
    Hold(f64),
    /// A polynomial in time of at most the third degree.
    Plain(Plain),
    /// A planar Bézier whose time has to be solved for.
    Weighted(Weighted),
}

/// A plain cubic: `c0 + u·(c1 + u·(c2 + u·c3))` with `u = (t − start) / gap`.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Plain {
    start: f64,
    per_gap: f64,
    c: [f64; 4],
}

/// A weighted cubic: time and value are both cubics of a parameter that runs from 0 to 1.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Weighted {
    start: f64,
    gap: f64,
    /// Lengths of the two handles in gaps, shortened until time never runs backwards.
    lengths: (f64, f64),
    /// Value at the start, differences to the first control point, from the second one, and to the end.
    value: (f64, f64, f64, f64),
}

impl Segment {
    /// The piece from `from` to `to`, the next key.
    ///
    /// Weighted handles that would make time run backwards (a + b − √(ab) > 1 in parts of the gap) are shortened.
    pub fn between(from: &Key, to: &Key) -> Segment {
        let start = from.time.as_f64();
        let gap = (to.time - from.time).as_f64();
        let rise = to.left_value() - from.value;
        match from.interpolation {
            Interpolation::None => Segment::None,
            Interpolation::Hold => Segment::Hold(from.value),
            Interpolation::Linear => {
                Segment::Plain(Plain { start, per_gap: 1.0 / gap, c: [from.value, rise, 0.0, 0.0] })
            }
            Interpolation::Cubic => {
                let (dt0, dv0) = from.tangent_out.handle_in_gap(gap);
                let (dt1, dv1) = to.tangent_in.handle_in_gap(gap);
                let third = gap / 3.0;
                let is_third = |dt: f64| (dt - third).abs() <= 1e-12 * gap;
                if is_third(dt0) && is_third(dt1) {
                    let (m0, m1) = (3.0 * dv0, 3.0 * dv1);
                    let c = [from.value, m0, 3.0 * rise - 2.0 * m0 - m1, m0 + m1 - 2.0 * rise];
                    return Segment::Plain(Plain { start, per_gap: 1.0 / gap, c });
                }
                let (a, b) = (dt0 / gap, dt1 / gap);
                let k = legal_scale(a, b);
                Segment::Weighted(Weighted {
                    start,
                    gap,
                    lengths: (k * a, k * b),
                    value: (from.value, k * dv0, k * dv1, rise),
                })
            }
        }
    }

    /// The value at a time in ticks, which should lie within the piece.
    #[inline]
    pub fn value(&self, time: f64) -> Option<f64> {
        match self {
            Segment::None => None,
            Segment::Hold(value) => Some(*value),
            Segment::Plain(plain) => Some(plain.value(time)),
            Segment::Weighted(weighted) => Some(weighted.value(time)),
        }
    }

    /// The slope at a time in ticks, in value per second.
    pub fn slope(&self, time: f64) -> Option<f64> {
        match self {
            Segment::None => None,
            Segment::Hold(_) => Some(0.0),
            Segment::Plain(plain) => Some(plain.slope(time)),
            Segment::Weighted(weighted) => Some(weighted.slope(time)),
        }
    }
}

impl Segment {
    /// A bound on the size of the slope within the piece, in value per second; infinite for weighted pieces.
    pub fn slope_bound(&self) -> f64 {
        match self {
            Segment::None | Segment::Hold(_) => 0.0,
            Segment::Plain(plain) => {
                // The derivative's control points, which it never leaves.
                let [_, c1, c2, c3] = plain.c;
                let most = c1.abs().max((c1 + c2).abs()).max((c1 + 2.0 * c2 + 3.0 * c3).abs());
                most * (plain.per_gap * TICKS)
            }
            Segment::Weighted(_) => f64::INFINITY,
        }
    }
}

/// The factor by which both handles, of `a` and `b` gaps in time, must be shortened so that time does not run
/// backwards; 1 where they are legal.
///
/// With the control points 0, a, 1−b, 1 the derivative of time is a quadratic in Bernstein form with the
/// coefficients a, 1−a−b, b; it is nowhere negative exactly where a + b − √(ab) ≤ 1.
pub fn legal_scale(a: f64, b: f64) -> f64 {
    let reach = a + b - (a * b).sqrt();
    if reach > 1.0 { 1.0 / reach } else { 1.0 }
}

impl Plain {
    #[inline]
    pub(super) fn value(&self, time: f64) -> f64 {
        let u = (time - self.start) * self.per_gap;
        let [c0, c1, c2, c3] = self.c;
        c0 + u * (c1 + u * (c2 + u * c3))
    }

    fn slope(&self, time: f64) -> f64 {
        let u = (time - self.start) * self.per_gap;
        let [_, c1, c2, c3] = self.c;
        (c1 + u * (2.0 * c2 + u * 3.0 * c3)) * (self.per_gap * TICKS)
    }
}

/// A weighted segment cut in two: handles as (ticks, value), each counted forward in time.
pub(super) struct Cut {
    pub value: f64,
    /// The handle at the start of the first part.
    pub first: (f64, f64),
    /// The handles before and after the cut.
    pub handle_in: (f64, f64),
    pub handle_out: (f64, f64),
    /// The handle at the end of the second part.
    pub last: (f64, f64),
}

impl Weighted {
    /// Instants in ticks at which to look at a piece that goes up or down all but at once somewhere, as its handles reach so
    /// far, or so little, that time hardly passes there: around that place, and at even steps along the piece itself. None
    /// for a piece that does nothing of the kind.
    pub(super) fn steep_times(&self) -> impl Iterator<Item = f64> + use<> {
        /// Time passes this much slower than along the piece as a whole.
        const STEEP: f64 = 0.4;
        const BESIDE: [f64; 5] = [-0.12, -0.05, 0.0, 0.05, 0.12];
        const ALONG: [f64; 6] = [0.06, 0.125, 0.25, 0.75, 0.875, 0.94];
        let Weighted { start, gap, lengths: (a, b), .. } = *self;
        let middle = 1.0 - a - b;
        let rate = |s: f64| {
            let r = 1.0 - s;
            3.0 * (r * r * a + 2.0 * r * s * middle + s * s * b)
        };
        let bend = a - 2.0 * middle + b;
        let inside = if bend > 0.0 { ((a - middle) / bend).clamp(0.0, 1.0) } else { 0.0 };
        let slowest =
            [inside, 0.0, 1.0].into_iter().min_by(|x, y| rate(*x).total_cmp(&rate(*y))).unwrap_or(0.0);
        let is_steep = rate(slowest) < STEEP;
        BESIDE.into_iter().map(move |beside| slowest + beside).chain(ALONG).filter_map(move |s| {
            let r = 1.0 - s;
            let part = 3.0 * r * r * s * a + 3.0 * r * s * s * (1.0 - b) + s * s * s;
            (is_steep && 0.0 < s && s < 1.0).then_some(start + part * gap)
        })
    }

    /// Cuts the segment at a time in ticks, by de Casteljau.
    pub(super) fn cut(&self, time: f64) -> Cut {
        let u = ((time - self.start) / self.gap).clamp(0.0, 1.0);
        let (a, b) = self.lengths;
        let (v0, dv0, dv1, rise) = self.value;
        let s = if u <= 0.5 { parameter_at(a, b, u, u) } else { 1.0 - parameter_at(b, a, 1.0 - u, 1.0 - u) };
        let mix = |p: (f64, f64), q: (f64, f64)| (p.0 + (q.0 - p.0) * s, p.1 + (q.1 - p.1) * s);
        let (p0, p1, p2, p3) = ((0.0, 0.0), (a, dv0), (1.0 - b, rise - dv1), (1.0, rise));
        let (q0, q1, q2) = (mix(p0, p1), mix(p1, p2), mix(p2, p3));
        let (r0, r1) = (mix(q0, q1), mix(q1, q2));
        let cut = mix(r0, r1);
        // Time is known exactly; what rounding leaves of it goes to the handles, which may not be negative.
        let handle =
            |from: (f64, f64), to: (f64, f64)| (((to.0 - from.0) * self.gap).max(0.0), to.1 - from.1);
        let at = (u, cut.1);
        Cut {
            value: v0 + cut.1,
            first: handle(p0, q0),
            handle_in: handle(r0, at),
            handle_out: handle(at, r1),
            last: handle(q2, p3),
        }
    }

    fn value(&self, time: f64) -> f64 {
        let u = ((time - self.start) / self.gap).clamp(0.0, 1.0);
        self.value_near(u, u).0
    }

    /// Values at `out.len()` times from `time` in steps of `step`, all within the segment.
    ///
    /// Each parameter is guessed from the one before, which saves most of the steps towards it.
    pub(super) fn fill(&self, time: f64, step: f64, out: &mut [f64]) {
        let (a, b) = self.lengths;
        let (per_gap, first) = (1.0 / self.gap, (time - self.start) / self.gap);
        let step = step * per_gap;
        let mut guess = first;
        for (index, value) in out.iter_mut().enumerate() {
            let u = (first + index as f64 * step).clamp(0.0, 1.0);
            let (found, s) = self.value_near(u, guess);
            *value = found;
            let r = 1.0 - s;
            let rate = 3.0 * (r * r * a + 2.0 * r * s * (1.0 - a - b) + s * s * b);
            guess = (s + step / rate.max(1e-3)).clamp(0.0, 1.0);
        }
    }

    /// The value at `u` gaps from the start, and its parameter, which should be near `guess`.
    #[inline]
    fn value_near(&self, u: f64, guess: f64) -> (f64, f64) {
        let (a, b) = self.lengths;
        let (v0, dv0, dv1, rise) = self.value;
        // Solve from the nearer end, where the parameter is known to its own relative precision.
        if u <= 0.5 {
            let s = parameter_at(a, b, u, guess);
            let r = 1.0 - s;
            (v0 + s * (3.0 * r * r * dv0 + s * (3.0 * r * (rise - dv1) + s * rise)), s)
        } else {
            let r = parameter_at(b, a, 1.0 - u, 1.0 - guess);
            let s = 1.0 - r;
            (v0 + rise - r * (3.0 * s * s * dv1 + r * (3.0 * s * (rise - dv0) + r * rise)), s)
        }
    }

    fn slope(&self, time: f64) -> f64 {
        let u = ((time - self.start) / self.gap).clamp(0.0, 1.0);
        let (a, b) = self.lengths;
        let (_, dv0, dv1, rise) = self.value;
        let (s, r) = if u <= 0.5 {
            let s = parameter_at(a, b, u, u);
            (s, 1.0 - s)
        } else {
            let r = parameter_at(b, a, 1.0 - u, 1.0 - u);
            (1.0 - r, r)
        };
        let bernstein = |p: f64, q: f64, w: f64| r * r * p + 2.0 * r * s * q + s * s * w;
        let mut dt = bernstein(a, 1.0 - a - b, b);
        let mut dv = bernstein(dv0, rise - dv0 - dv1, dv1);
        if dt == 0.0 && dv == 0.0 {
            // A handle of no length: the direction is that of the second derivative.
            let inward = if s < 0.5 { 1.0 } else { -1.0 };
            dt = inward * (r * (1.0 - 2.0 * a - b) + s * (a + 2.0 * b - 1.0));
            dv = inward * (r * (rise - 2.0 * dv0 - dv1) + s * (dv0 + 2.0 * dv1 - rise));
            if dt == 0.0 {
                (dt, dv) = (1.0, rise);
            }
        }
        dv / dt * (TICKS / self.gap)
    }
}

/// The parameter in 0..1 at which the time polynomial with control points 0, a, 1−b, 1 reaches `u`.
///
/// Newton steps from a guess, kept inside a bracket, which is halved where they leave it or crawl; to 4 ulp of `u`.
#[inline]
pub fn parameter_at(a: f64, b: f64, u: f64, guess: f64) -> f64 {
    parameter_near(a, b, u, guess, f64::EPSILON * 2.0)
}

/// The same to a part of `u`.
#[inline]
pub fn parameter_near(a: f64, b: f64, u: f64, guess: f64, precision: f64) -> f64 {
    if u <= 0.0 {
        return 0.0;
    }
    let (p, q, w) = (3.0 * a, 3.0 * (1.0 - b - 2.0 * a), 3.0 * (a + b) - 2.0);
    let (mut low, mut high) = (0.0_f64, 1.0_f64);
    let mut s = guess;
    let mut last_step = 1.0_f64;
    for _ in 0..80 {
        let excess = s * (p + s * (q + s * w)) - u;
        if excess.abs() <= precision * u {
            break;
        }
        if excess < 0.0 {
            low = s
        } else {
            high = s
        }
        let rate = p + s * (2.0 * q + s * 3.0 * w);
        let newton = s - excess / rate;
        let next = if newton > low && newton < high && (newton - s).abs() < 0.9 * last_step {
            newton
        } else {
            0.5 * (low + high)
        };
        let step = (next - s).abs();
        if step <= f64::EPSILON * 0.25 * s {
            break;
        }
        (s, last_step) = (next, step);
    }
    s
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::curve::Tangent;
    use crate::curve::Ticks;

    fn weighted(a: f64, b: f64, dv0: f64, dv1: f64, rise: f64) -> Segment {
        let gap = 705_600.0;
        let key = |t, v| Key::new(Ticks(t), v);
        let from = Key { tangent_out: Tangent::handle(a * gap, dv0), ..key(0, 0.0) };
        let to = Key { tangent_in: Tangent::handle(b * gap, dv1), ..key(gap as i64, rise) };
        Segment::between(&from, &to)
    }

    /// Bisection on the Bézier by de Casteljau: slow, and shares nothing with the solver under test.
    fn by_bisection(a: f64, b: f64, values: [f64; 4], u: f64) -> f64 {
        let bezier = |p: [f64; 4], s: f64| {
            let mix = |x: f64, y: f64| x + (y - x) * s;
            let (q0, q1, q2) = (mix(p[0], p[1]), mix(p[1], p[2]), mix(p[2], p[3]));
            mix(mix(q0, q1), mix(q1, q2))
        };
        let (mut low, mut high) = (0.0, 1.0);
        for _ in 0..200 {
            let middle = 0.5 * (low + high);
            if bezier([0.0, a, 1.0 - b, 1.0], middle) < u { low = middle } else { high = middle }
        }
        bezier(values, 0.5 * (low + high))
    }

    /// The least rate of time along the parameter: small where the value is ill-conditioned.
    fn least_rate(a: f64, b: f64) -> f64 {
        (0..=64).map(|i| f64::from(i) / 64.0).fold(f64::INFINITY, |least, s| {
            let r = 1.0 - s;
            least.min(r * r * a + 2.0 * r * s * (1.0 - a - b) + s * s * b)
        })
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(2000))]
        #[test]
        fn weighted_values_agree_with_bisection(
            a in 0.0..1.5_f64, b in 0.0..1.5_f64, dv0 in -3.0..3.0_f64, dv1 in -3.0..3.0_f64,
            rise in -2.0..2.0_f64, u in 0.0..1.0_f64
        ) {
            let k = legal_scale(a, b);
            let (ka, kb) = (k * a, k * b);
            let span = 6.0;
            let expected = by_bisection(ka, kb, [0.0, k * dv0, rise - k * dv1, rise], u);
            let found = weighted(a, b, dv0, dv1, rise).value(u * 705_600.0).unwrap();
            let tolerance = 1e-12 / least_rate(ka, kb).clamp(1e-4, 1.0) * span;
            prop_assert!((found - expected).abs() < tolerance, "{found} {expected}");
        }

        #[test]
        fn the_time_residual_is_within_four_ulp_from_any_guess(
            a in 0.0..1.5_f64, b in 0.0..1.5_f64, u in 0.0..1.0_f64, guess in 0.0..=1.0_f64
        ) {
            let k = legal_scale(a, b);
            let (a, b) = (k * a, k * b);
            let s = parameter_at(a, b, u, guess);
            let time = s * (3.0 * a + s * (3.0 * (1.0 - b - 2.0 * a) + s * (3.0 * (a + b) - 2.0)));
            prop_assert!((time - u).abs() <= 4.0 * f64::EPSILON, "{time} {u}");
        }

        #[test]
        fn slopes_match_differences(
            a in 0.05..0.9_f64, b in 0.05..0.9_f64, dv0 in -3.0..3.0_f64, dv1 in -3.0..3.0_f64, u in 0.01..0.99_f64
        ) {
            let k = legal_scale(a, b);
            prop_assume!(least_rate(k * a, k * b) > 0.05);
            let segment = weighted(a, b, dv0, dv1, 1.0);
            let (t, h) = (u * 705_600.0, 5.0);
            let difference = (segment.value(t + h).unwrap() - segment.value(t - h).unwrap()) / (2.0 * h) * TICKS;
            let slope = segment.slope(t).unwrap();
            prop_assert!((slope - difference).abs() < 1e-3 * (1e3 + slope.abs()), "{slope} {difference}");
        }
    }

    #[test]
    fn vertical_and_zero_length_handles_are_legal() {
        for (a, b, dv0, dv1) in
            [(0.0, 0.0, 0.0, 0.0), (0.0, 1.0, 2.0, 0.0), (1.0, 0.0, 0.0, 2.0), (1.0, 1.0, 0.0, 0.0)]
        {
            let segment = weighted(a, b, dv0, dv1, 1.0);
            assert_eq!(segment.value(0.0), Some(0.0));
            assert_eq!(segment.value(705_600.0), Some(1.0));
            // Not at the middle, where two handles of full length make the curve vertical.
            for i in (1..100).filter(|&i| i != 50) {
                let u = f64::from(i) / 100.0;
                let expected = by_bisection(a, b, [0.0, dv0, 1.0 - dv1, 1.0], u);
                let found = segment.value(u * 705_600.0).unwrap();
                let tolerance = 1e-12 / least_rate(a, b).max((u - 0.5) * (u - 0.5));
                assert!((found - expected).abs() < tolerance, "{a} {b} {u}: {found} {expected}");
            }
        }
        assert_eq!(weighted(0.0, 0.3, 1.0, 0.0, 1.0).slope(0.0), Some(f64::INFINITY));
        let straight = weighted(0.0, 0.0, 0.0, 0.0, 1.0);
        assert!((straight.slope(0.0).unwrap() - 1000.0).abs() < 1e-9, "{:?}", straight.slope(0.0));
    }

    #[test]
    fn handles_are_shortened_only_where_time_would_run_backwards() {
        for (a, b, k) in
            [(0.3, 0.3, 1.0), (1.0, 1.0, 1.0), (1.0, 0.0, 1.0), (2.0, 0.0, 0.5), (1.2, 1.2, 1.0 / 1.2)]
        {
            assert!((legal_scale(a, b) - k).abs() < 1e-12, "{a} {b}");
        }
    }
}
