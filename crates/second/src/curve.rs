//! Curves, read from JSON and evaluated one instant at a time; times are in frames.

use serde_json::Value;

#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Way {
    Cubic,
    Linear,
    Hold,
    None,
}

#[derive(Clone, Copy, Debug)]
pub struct Key {
    pub frame: f64,
    pub value: f64,
    pub before: f64,
    jumps: bool,
    pub way: Way,
    /// Slope a frame, and the length of a weighted handle in frames with what it rises over that.
    into: Side,
    out: Side,
}

#[derive(Clone, Copy, Debug)]
enum Side {
    Slope(f64),
    Handle(f64, f64),
}

#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Outside {
    Held,
    Linear,
    Sloped(f64),
    Repeat,
    Reset,
    Oscillate,
    None,
}

#[derive(Clone, Debug)]
pub struct Curve {
    pub keys: Vec<Key>,
    pub before: Outside,
    pub after: Outside,
    /// The clock of each piece; none for curves whose keys have no tension.
    pub eases: Vec<Ease>,
}

/// A slow start and a slow end, as parts of a piece.
#[derive(Clone, Copy, Debug)]
pub struct Ease(f64, f64);

impl Ease {
    pub fn new(out: f64, into: f64) -> Ease {
        let (out, into) = (out.clamp(0.0, 1.0), into.clamp(0.0, 1.0));
        let too_much = (out + into).max(1.0);
        Ease(out / too_much, into / too_much)
    }

    /// Where the piece is at a part of its time: a parabola, a line, a parabola, with one slope where they meet.
    pub fn at(self, u: f64) -> f64 {
        let Ease(out, into) = self;
        let speed = 2.0 / (2.0 - out - into);
        if u < out {
            speed * u * u / (2.0 * out)
        } else if u > 1.0 - into {
            1.0 - speed * (1.0 - u) * (1.0 - u) / (2.0 * into)
        } else {
            speed * (u - out / 2.0)
        }
    }

    /// The speed at the start and at the end.
    fn ends(self) -> (f64, f64) {
        let Ease(out, into) = self;
        let speed = 2.0 / (2.0 - out - into);
        (if out > 0.0 { 0.0 } else { speed }, if into > 0.0 { 0.0 } else { speed })
    }
}

/// The instant that plays at another, between keys at some frames.
pub fn eased(frames: &[f64], eases: &[Ease], frame: f64) -> f64 {
    let Some(index) = frames.iter().rposition(|key| *key <= frame) else { return frame };
    let (Some(ease), Some(next)) = (eases.get(index), frames.get(index + 1)) else { return frame };
    frames[index] + ease.at((frame - frames[index]) / (next - frames[index])) * (next - frames[index])
}

pub fn outside(value: &Value) -> Outside {
    match value {
        Value::String(word) => match word.as_str() {
            "linear" => Outside::Linear,
            "loop-offset" => Outside::Repeat,
            "loop" => Outside::Reset,
            "loop-oscillate" => Outside::Oscillate,
            "none" => Outside::None,
            _ => Outside::Held,
        },
        Value::Object(fields) => {
            fields.get("sloped").and_then(Value::as_f64).map_or(Outside::Held, Outside::Sloped)
        }
        _ => Outside::Held,
    }
}

/// A tangent as the file has it: how it is found, and its own slope or handle.
#[derive(Clone, Debug)]
enum Asked {
    Free(Side),
    Mode(String, Option<f64>),
}

fn asked(value: &Value) -> Asked {
    match value {
        Value::Number(slope) => Asked::Free(Side::Slope(slope.as_f64().unwrap())),
        Value::Array(pair) => Asked::Free(Side::Handle(pair[0].as_f64().unwrap(), pair[1].as_f64().unwrap())),
        Value::String(mode) => Asked::Mode(mode.clone(), None),
        Value::Object(fields) => Asked::Mode(
            fields["mode"].as_str().unwrap().to_owned(),
            fields.get("length").and_then(Value::as_f64),
        ),
        _ => Asked::Mode("auto".to_owned(), None),
    }
}

impl Curve {
    pub fn read(value: &Value) -> Curve {
        let list = value.get("keys").and_then(Value::as_array).cloned().unwrap_or_default();
        let mut keys: Vec<Key> = Vec::new();
        let mut wanted = Vec::new();
        for key in &list {
            let number = |name: &str| key.get(name).and_then(Value::as_f64);
            let value = number("value").unwrap_or(0.0);
            let way = match key.get("interpolation").and_then(Value::as_str) {
                Some("linear") => Way::Linear,
                Some("hold") => Way::Hold,
                Some("none") => Way::None,
                _ => Way::Cubic,
            };
            let flat = Side::Slope(0.0);
            keys.push(Key {
                frame: number("frame").unwrap(),
                value,
                before: number("before").unwrap_or(value),
                jumps: number("before").is_some(),
                way,
                into: flat,
                out: flat,
            });
            let slope = key.get("slope");
            wanted.push(
                [key.get("in").or(slope), key.get("out").or(slope)]
                    .map(|side| asked(side.unwrap_or(&Value::Null))),
            );
        }
        for index in 0..keys.len() {
            let [into, out] = &wanted[index];
            (keys[index].into, keys[index].out) =
                (found(&keys, index, into, true), found(&keys, index, out, false));
        }
        if let Some(region) = value.get("inner_loop") {
            keys = repeated(&keys, region);
        }
        let behaviour = |name: &str| value.get(name).map_or(Outside::Held, outside);
        Curve { keys, before: behaviour("before"), after: behaviour("after"), eases: Vec::new() }
    }

    pub fn at(&self, frame: f64) -> Option<f64> {
        let (first, last) = (self.keys.first()?, self.keys.last()?);
        if frame < first.frame {
            return self.beyond(frame, self.before, false);
        }
        if frame >= last.frame {
            if frame == last.frame
                && matches!(self.after, Outside::Held | Outside::None | Outside::Linear | Outside::Sloped(_))
            {
                return Some(last.value);
            }
            return self.beyond(frame, self.after, true);
        }
        self.among(frame)
    }

    fn among(&self, frame: f64) -> Option<f64> {
        let last = self.keys.last()?;
        if frame >= last.frame {
            return Some(last.value);
        }
        let frame = self.eased(frame);
        let index = self.keys.iter().rposition(|key| key.frame <= frame).unwrap_or(0);
        let (a, b) = (&self.keys[index], &self.keys[index + 1]);
        let gap = b.frame - a.frame;
        match a.way {
            Way::None => None,
            Way::Hold => Some(a.value),
            Way::Linear => Some(a.value + (b.before - a.value) * (frame - a.frame) / gap),
            Way::Cubic => Some(bezier(a, b, gap, frame)),
        }
    }

    fn beyond(&self, frame: f64, way: Outside, at_last: bool) -> Option<f64> {
        let (first, last) = (self.keys.first()?, self.keys.last()?);
        let period = last.frame - first.frame;
        let (end, value) = if at_last { (last.frame, last.value) } else { (first.frame, first.before) };
        let turn = if period > 0.0 { ((frame - first.frame) / period).floor() } else { 0.0 };
        let within = frame - turn * period;
        match way {
            Outside::None => None,
            Outside::Held => Some(value),
            Outside::Sloped(slope) => Some(value + slope * (frame - end)),
            Outside::Linear => Some(value + self.end_slope(at_last) * (frame - end)),
            _ if period == 0.0 => Some(value),
            Outside::Repeat => Some(self.among_open(within)? + turn * (last.value - first.value)),
            Outside::Reset => self.among_open(within),
            Outside::Oscillate if turn.rem_euclid(2.0) == 0.0 => self.among_open(within),
            // Played backwards the left side is met first.
            Outside::Oscillate => self.among_left(first.frame + last.frame - within),
        }
    }

    /// Where the last instant is the first one again.
    fn among_open(&self, frame: f64) -> Option<f64> {
        let (first, last) = (self.keys.first()?, self.keys.last()?);
        if frame >= last.frame { self.among(first.frame) } else { self.among(frame) }
    }

    fn among_left(&self, frame: f64) -> Option<f64> {
        let index = self.keys.iter().position(|key| key.frame >= frame)?;
        if self.keys[index].frame != frame {
            return self.among(frame);
        }
        // On a key every clock is on time.
        let Some(before) = index.checked_sub(1) else { return Some(self.keys[0].before) };
        match self.keys[before].way {
            Way::None => None,
            Way::Hold => Some(self.keys[before].value),
            _ => Some(self.keys[index].before),
        }
    }

    fn eased(&self, frame: f64) -> f64 {
        if self.eases.is_empty() {
            return frame;
        }
        let frames: Vec<f64> = self.keys.iter().map(|key| key.frame).collect();
        eased(&frames, &self.eases, frame)
    }

    fn end_slope(&self, at_last: bool) -> f64 {
        let ends = if at_last { self.eases.last() } else { self.eases.first() }.map(|ease| ease.ends());
        let speed = ends.map_or(1.0, |(start, end)| if at_last { end } else { start });
        self.plain_end_slope(at_last) * speed
    }

    fn plain_end_slope(&self, at_last: bool) -> f64 {
        let count = self.keys.len();
        if count == 1 {
            let side = if at_last { self.keys[0].out } else { self.keys[0].into };
            return match side {
                Side::Slope(slope) => slope,
                Side::Handle(0.0, _) => 0.0,
                Side::Handle(dt, dv) => dv / dt,
            };
        }
        let (a, b) = if at_last {
            (&self.keys[count - 2], &self.keys[count - 1])
        } else {
            (&self.keys[0], &self.keys[1])
        };
        let gap = b.frame - a.frame;
        match a.way {
            Way::Hold | Way::None => 0.0,
            Way::Linear => (b.before - a.value) / gap,
            Way::Cubic => {
                let side = if at_last { b.into } else { a.out };
                match side {
                    Side::Slope(slope) => slope,
                    Side::Handle(dt, dv) if dt > 0.0 => dv / dt,
                    // A handle of no length leaves towards the next point.
                    Side::Handle(..) => f64::NAN,
                }
            }
        }
    }
}

/// Keys with the pattern between two frames repeated: what lies where it repeats is hidden, and its first key closes the
/// last round, leaving as the key that it hides did.
fn repeated(keys: &[Key], region: &Value) -> Vec<Key> {
    let frames = region["frames"].as_array().unwrap();
    let (start, end) = (frames[0].as_f64().unwrap(), frames[1].as_f64().unwrap());
    let count = |name: &str| region.get(name).and_then(Value::as_i64).unwrap_or(0);
    let offset = region.get("offset").and_then(Value::as_f64).unwrap_or(0.0);
    let (before, after, length) = (count("before"), count("after"), end - start);
    let (first, last) = (start - length * before as f64, end + length * after as f64);
    let moved = |key: &Key, round: i64| {
        let up = offset * round as f64;
        Key {
            frame: key.frame + length * round as f64,
            value: key.value + up,
            before: key.before + up,
            ..*key
        }
    };
    let pattern: Vec<Key> =
        keys.iter().filter(|key| start - 1e-9 <= key.frame && key.frame < end - 1e-9).copied().collect();
    let mut all: Vec<Key> = keys.iter().filter(|key| key.frame < first - 1e-9).copied().collect();
    for round in -before..=after {
        all.extend(pattern.iter().map(|key| moved(key, round)));
    }
    let mut closing = moved(&pattern[0], after + 1);
    if let Some(hidden) = keys.iter().find(|key| (key.frame - last).abs() < 1e-9) {
        (closing.out, closing.way) = (hidden.out, hidden.way);
    }
    all.push(closing);
    all.extend(keys.iter().filter(|key| key.frame > last + 1e-9).copied());
    all
}

/// The handle of a tangent beside a gap.
fn handle(side: Side, gap: f64) -> (f64, f64) {
    match side {
        Side::Slope(slope) => (gap / 3.0, slope * gap / 3.0),
        Side::Handle(dt, dv) => (dt, dv),
    }
}

/// A planar Bézier, its time solved for by halving; no cleverness.
fn bezier(a: &Key, b: &Key, gap: f64, frame: f64) -> f64 {
    let (mut out, mut into) = (handle(a.out, gap), handle(b.into, gap));
    let (p, q) = (out.0 / gap, into.0 / gap);
    let reach = p + q - (p * q).sqrt();
    if reach > 1.0 {
        out = (out.0 / reach, out.1 / reach);
        into = (into.0 / reach, into.1 / reach);
    }
    let along = |points: [f64; 4], u: f64| {
        let v = 1.0 - u;
        points[0] * v * v * v
            + 3.0 * points[1] * v * v * u
            + 3.0 * points[2] * v * u * u
            + points[3] * u * u * u
    };
    let times = [0.0, out.0, gap - into.0, gap];
    let values = [a.value, a.value + out.1, b.before - into.1, b.before];
    let (mut low, mut high) = (0.0_f64, 1.0_f64);
    for _ in 0..80 {
        let middle = 0.5 * (low + high);
        if along(times, middle) <= frame - a.frame { low = middle } else { high = middle }
    }
    along(values, 0.5 * (low + high))
}

/// A tangent that follows its neighbours, or the one that was set.
fn found(keys: &[Key], index: usize, asked: &Asked, is_in: bool) -> Side {
    let (mode, length) = match asked {
        Asked::Free(side) => return *side,
        Asked::Mode(mode, length) => (mode.as_str(), *length),
    };
    let connects = |key: &Key| matches!(key.way, Way::Cubic | Way::Linear);
    let own = &keys[index];
    let before = index.checked_sub(1).map(|at| &keys[at]).filter(|key| connects(key));
    let after = keys.get(index + 1).filter(|_| connects(own));
    let to_before = before.map(|key| (own.before - key.value) / (own.frame - key.frame));
    let to_after = after.map(|key| (key.before - own.value) / (key.frame - own.frame));
    let across = match (before, after) {
        (Some(a), Some(b)) if !own.jumps => Some((b.before - a.value) / (b.frame - a.frame)),
        _ => None,
    };
    let slope = match mode {
        "flat" => 0.0,
        "linear" => if is_in { to_before } else { to_after }.unwrap_or(0.0),
        "auto-no-overshoot" => match (across, to_before, to_after) {
            (Some(across), Some(a), Some(b)) if a * b > 0.0 => {
                let most = 3.0 * a.abs().min(b.abs());
                across.clamp(-most, most)
            }
            _ => 0.0,
        },
        _ => across.or(to_after).or(to_before).unwrap_or(0.0),
    };
    match length {
        Some(length) => Side::Handle(length, slope * length),
        None => Side::Slope(slope),
    }
}
