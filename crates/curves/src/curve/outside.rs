//! Where a time leads that may lie outside the keys.

use super::{Behaviour, Ticks};

/// From which side an instant is approached; it matters at jumps and corners.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Side {
    /// Just before the instant.
    Left,
    /// At the instant and just after it.
    Right,
}

impl Side {
    pub(super) fn flipped(self) -> Side {
        match self {
            Side::Left => Side::Right,
            Side::Right => Side::Left,
        }
    }
}

/// A time brought back among the keys.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) struct Folded {
    /// The time among the keys, in ticks.
    pub time: f64,
    /// The side from which it is approached there.
    pub side: Side,
    /// Whole periods by which a loop that goes on from where it ended has gone on.
    pub climbed: f64,
    /// Whether the keys are played backwards there.
    pub backwards: bool,
}

/// What a line outside the keys does.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) enum Line {
    /// It stays at the end key's value.
    Still,
    /// It goes on as the keys end.
    AsItEnds,
    /// It has this slope, in value per second.
    Sloped(f64),
}

/// Where a time leads.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) enum Place {
    /// To no value.
    Nowhere,
    /// Among the keys.
    Among(Folded),
    /// Onto a line from the first or the last key.
    Along {
        /// Whether the line starts at the last key.
        at_last: bool,
        /// What it does.
        line: Line,
    },
}

/// Where a time, approached from one side, leads with keys from `first` to `last`.
pub(crate) fn place(
    ends: (Ticks, Ticks),
    behaviours: (Behaviour, Behaviour),
    time: f64,
    side: Side,
) -> Place {
    let (first, last) = (ends.0.as_f64(), ends.1.as_f64());
    let is_before = time < first || (time == first && side == Side::Left);
    let is_after = time > last || (time == last && side == Side::Right);
    if !is_before && !is_after {
        return Place::Among(Folded { time, side, climbed: 0.0, backwards: false });
    }
    let at_last = !is_before;
    let behaviour = if is_before { behaviours.0 } else { behaviours.1 };
    let period = last - first;
    let along = |line| Place::Along { at_last, line };
    match behaviour {
        // The last key's own value stands even where nothing follows it.
        Behaviour::None if at_last && time == last => along(Line::Still),
        Behaviour::None => Place::Nowhere,
        Behaviour::Held => along(Line::Still),
        Behaviour::Linear => along(Line::AsItEnds),
        Behaviour::Sloped(slope) => along(Line::Sloped(slope)),
        _ if period == 0.0 => along(Line::Still),
        Behaviour::LoopOffset => {
            let (time, side, climbed) = fold(time, first, period, side);
            Place::Among(Folded { time, side, climbed, backwards: false })
        }
        Behaviour::Loop => {
            let (time, side, _) = fold(time, first, period, side);
            Place::Among(Folded { time, side, climbed: 0.0, backwards: false })
        }
        Behaviour::LoopOscillate => {
            let (time, side, turn) = fold(time, first, period, side);
            if turn.rem_euclid(2.0) == 0.0 {
                return Place::Among(Folded { time, side, climbed: 0.0, backwards: false });
            }
            let mirrored = (first + period - (time - first)).clamp(first, last);
            Place::Among(Folded { time: mirrored, side: side.flipped(), climbed: 0.0, backwards: true })
        }
    }
}

/// Brings a time into one period from `start`; also the whole periods that it lay away.
fn fold(time: f64, start: f64, period: f64, side: Side) -> (f64, Side, f64) {
    let mut turn = ((time - start) / period).floor();
    let mut folded = (time - turn * period).clamp(start, start + period);
    if side == Side::Left && folded == start {
        (turn, folded) = (turn - 1.0, start + period);
    } else if side == Side::Right && folded == start + period {
        (turn, folded) = (turn + 1.0, start);
    }
    (folded, side, turn)
}
