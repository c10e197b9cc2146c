//! Where what is coupled turns a corner: couples go by curves of straight pieces, and what drives them passes from one to the next.

use nimble_curve_curves::time::{FrameRate, Ticks, TimeRange};
use nimble_curve_scene::evaluate::CoupledSampler;

use super::onto::away::quarters;

/// The instants, to a tick, at which a couple comes to another piece of its curve, as far as looks a quarter of a frame apart tell.
pub fn corners(sampler: &mut CoupledSampler<'_>, range: TimeRange, rate: FrameRate) -> Vec<Ticks> {
    let mut found = Vec::new();
    let (mut before, mut here, mut middle) = (Vec::new(), Vec::new(), Vec::new());
    let mut look = |time: i64, pieces: &mut Vec<usize>| {
        pieces.clear();
        sampler.pieces_at(Ticks(time).as_f64(), pieces);
    };
    let mut from = range.first.0;
    look(from, &mut before);
    for to in quarters(rate, range).map(|time| time.round() as i64).chain([range.last.0]) {
        look(to, &mut here);
        while before != here {
            let (mut low, mut high) = (from, to);
            while high - low > 1 {
                let half = low + (high - low) / 2;
                look(half, &mut middle);
                if middle == before { low = half } else { high = half }
            }
            found.push(Ticks(high));
            from = high;
            look(from, &mut before);
        }
        from = to;
    }
    found
}
