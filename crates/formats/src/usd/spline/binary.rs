//! Splines as binary layers hold them (*OpenUSD*, crate version 0.12): the length in bytes, as many bytes, and a dictionary
//! of the data of knots.
//!
//! The bytes are a head of two (version, kind of value, whether the knots are Hermite; what is before and after, whether
//! there is an inner loop), slopes outside, the loop, and the knots, each with a byte that says what it has.

use anyhow::{Context as _, Result, bail, ensure};
use half::f16;
use nimble_curve_core::curve::Interpolation;
use nimble_curve_core::validate::is_usable;

use super::{Knot, Outside, Spline};

/// The type of a spline in a value's representation.
pub const KIND: u64 = 59;

/// The spline that stands at a place of a layer.
///
/// # Errors
/// Where it is cut off, of a newer kind, or holds what is no curve.
pub fn read(layer: &[u8], at: usize) -> Result<Spline> {
    let mut bytes = Bytes(layer.get(at..).context("it is cut off")?);
    let length = usize::try_from(u64::from_le_bytes(bytes.next()?))?;
    let mut own = Bytes(bytes.0.get(..length).context("a spline is cut off")?);
    let has_data = u64::from_le_bytes(Bytes(&bytes.0[length..]).next()?) > 0;
    if length == 0 {
        return Ok(Spline { has_data, ..Spline::default() });
    }
    let [first, second] = own.next()?;
    let version = first & 0xf;
    ensure!(matches!(version, 1 | 2), "a spline is of version {version}, which is not known");
    let kind = first >> 4 & 3;
    let is_hermite = first >> 7 == 1;
    let (before, after) = (own.outside(second & 7)?, own.outside(second >> 3 & 7)?);
    let mut inner = None;
    if second >> 6 & 1 == 1 {
        let (start, end) = (own.double()?, own.double()?);
        let (before, after) = (i32::from_le_bytes(own.next()?), i32::from_le_bytes(own.next()?));
        inner = Some([start, end, f64::from(before), f64::from(after), own.double()?]);
    }
    let count = u32::from_le_bytes(own.next()?) as usize;
    // A knot takes a byte, its time, and three halves at the least.
    ensure!(count <= own.0.len() / 15, "a spline is cut off");
    let mut made = Spline {
        is_hermite,
        before,
        after,
        inner,
        knots: Vec::with_capacity(count),
        has_rules: false,
        has_data,
    };
    for _ in 0..count {
        let [what] = own.next()?;
        let time = own.double()?;
        let value = own.value(kind)?;
        let left = if what & 1 == 1 { Some(own.value(kind)?) } else { None };
        let widths = match is_hermite {
            true => [None; 2],
            false => [Some(own.double()?.max(0.0)), Some(own.double()?.max(0.0))],
        };
        let slopes = [own.value(kind)?, own.value(kind)?];
        if version > 1 {
            made.has_rules |= own.next()? != [0];
        }
        let way = match what >> 1 & 3 {
            0 => Interpolation::None,
            1 => Interpolation::Hold,
            2 => Interpolation::Linear,
            _ => Interpolation::Cubic,
        };
        let is_later = made.knots.last().is_none_or(|last| last.time < time);
        ensure!(is_later, "the knots of a spline are not in order of time");
        made.knots.push(Knot {
            time,
            left,
            value,
            pre: (widths[0], slopes[0]),
            way,
            post: (widths[1], slopes[1]),
        });
    }
    ensure!(own.0.is_empty(), "a spline has more bytes than knots");
    Ok(made)
}

/// What is left to read.
struct Bytes<'a>(&'a [u8]);

impl Bytes<'_> {
    fn next<const N: usize>(&mut self) -> Result<[u8; N]> {
        let (next, rest) = self.0.split_first_chunk().context("a spline is cut off")?;
        self.0 = rest;
        Ok(*next)
    }

    fn double(&mut self) -> Result<f64> {
        usable(f64::from_le_bytes(self.next()?))
    }

    fn value(&mut self, kind: u8) -> Result<f64> {
        match kind {
            1 => self.double(),
            2 => usable(f64::from(f32::from_le_bytes(self.next()?))),
            3 => usable(f64::from(f16::from_le_bytes(self.next()?))),
            _ => bail!("a spline is of values of a kind that is not known"),
        }
    }

    fn outside(&mut self, said: u8) -> Result<Outside> {
        Ok(match said {
            0 => Outside::None,
            1 => Outside::Held,
            2 => Outside::Linear,
            3 => Outside::Sloped(self.double()?),
            4 => Outside::Repeat,
            5 => Outside::Reset,
            6 => Outside::Oscillate,
            _ => bail!("a spline does something outside its knots that is not known"),
        })
    }
}

fn usable(number: f64) -> Result<f64> {
    ensure!(is_usable(number), "a spline holds a number that is not finite");
    Ok(number)
}

/// Puts a spline of doubles behind what is there.
pub fn write(spline: &Spline, out: &mut Vec<u8>) {
    let length_at = out.len();
    out.extend([0; 8]);
    let outside = |outside: &Outside| match outside {
        Outside::None => 0,
        Outside::Held => 1,
        Outside::Linear => 2,
        Outside::Sloped(_) => 3,
        Outside::Repeat => 4,
        Outside::Reset => 5,
        Outside::Oscillate => 6,
    };
    let loops = u8::from(spline.inner.is_some()) << 6;
    out.push(1 | 1 << 4 | u8::from(spline.is_hermite) << 7);
    out.push(outside(&spline.before) | outside(&spline.after) << 3 | loops);
    for side in [&spline.before, &spline.after] {
        if let Outside::Sloped(slope) = side {
            out.extend(slope.to_le_bytes());
        }
    }
    if let Some([start, end, before, after, offset]) = spline.inner {
        out.extend([start, end].map(f64::to_le_bytes).as_flattened());
        out.extend([before as i32, after as i32].map(i32::to_le_bytes).as_flattened());
        out.extend(offset.to_le_bytes());
    }
    out.extend((spline.knots.len() as u32).to_le_bytes());
    for knot in &spline.knots {
        let way = match knot.way {
            Interpolation::None => 0,
            Interpolation::Hold => 1,
            Interpolation::Linear => 2,
            Interpolation::Cubic => 3,
        };
        out.push(u8::from(knot.left.is_some()) | way << 1 | u8::from(spline.is_hermite) << 3);
        let widths = [knot.pre.0, knot.post.0].map(|width| width.filter(|_| !spline.is_hermite));
        let numbers = [Some(knot.time), Some(knot.value), knot.left]
            .into_iter()
            .chain(widths.map(|width| (!spline.is_hermite).then(|| width.unwrap_or(0.0))))
            .chain([Some(knot.pre.1), Some(knot.post.1)]);
        out.extend(numbers.flatten().flat_map(f64::to_le_bytes));
    }
    let length = (out.len() - length_at - 8) as u64;
    out[length_at..length_at + 8].copy_from_slice(&length.to_le_bytes());
    // No knot has data of its own.
    out.extend([0; 8]);
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_written_is_read_and_no_part_of_it_is_a_spline() {
        let knot = |time: f64, left| Knot {
            time,
            left,
            value: time * 2.0,
            pre: (Some(0.5), 1.5),
            way: Interpolation::Cubic,
            post: (Some(0.25), -1.0),
        };
        let spline = Spline {
            before: Outside::Sloped(0.5),
            after: Outside::Oscillate,
            inner: Some([1.0, 4.0, 2.0, 3.0, 0.25]),
            knots: vec![knot(1.0, None), knot(4.0, Some(-1.0))],
            ..Spline::default()
        };
        let mut bytes = vec![7; 3];
        write(&spline, &mut bytes);
        let read_back = read(&bytes, 3).unwrap();
        assert_eq!(format!("{read_back:?}"), format!("{spline:?}"));
        for end in 3..bytes.len() - 1 {
            assert!(read(&bytes[..end], 3).is_err(), "{end}");
        }
    }
}
