//! Curves side by side: their keys, values, tangents, and what lies outside. Of rigs that do not rest alike only keys are
//! counted: their numbers mean other things.

use std::collections::HashSet;

use nimble_curve_curves::curve::{Curve, Interpolation, Key};
use nimble_curve_curves::value::Quantity;
use nimble_curve_scene::address::COMPONENTS;
use nimble_curve_scene::controller::Controller;
use nimble_curve_scene::scene::{Take, Target, Track};

use super::pairs::Pairs;

/// The largest difference of a kind, and where it is.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Gap {
    /// In radians, units of the scene or as it is; of tangents per second.
    pub largest: f64,
    /// The frame of the key.
    pub frame: f64,
}

/// A curve, or a controller of another type, that is not the same on both sides.
#[derive(Clone, Debug, PartialEq)]
pub struct CurveDifference {
    /// The layer.
    pub layer: String,
    /// The address in the first scene, with its component.
    pub channel: String,
    /// What its values measure.
    pub quantity: Quantity,
    /// Keys or samples of each; `None` on the side that has no such track.
    pub keys: (Option<usize>, Option<usize>),
    /// Key times that only one of them has.
    pub only: (usize, usize),
    /// How far values at common key times are apart.
    pub value: Option<Gap>,
    /// How far slopes at common key times are apart.
    pub slope: Option<Gap>,
    /// What else differs, in words.
    pub note: String,
}

/// The curves of two takes that are not the same, and how many tracks stand on both sides.
pub(super) fn differences(pairs: &Pairs<'_>, (a, b): (&Take, &Take)) -> (Vec<CurveDifference>, usize) {
    let mut found = Vec::new();
    let mut both = 0;
    // By layer name; the base layers belong together whatever they are called.
    let layer_of = |index: usize, name: &str| {
        let named = b.layers.iter().position(|layer| layer.name == name);
        named.or_else(|| (index == 0 && !b.layers.is_empty()).then_some(0))
    };
    let mut matched: HashSet<(usize, Target)> = HashSet::new();
    for (index, layer) in a.layers.iter().enumerate() {
        let other = layer_of(index, &layer.name);
        for track in &layer.tracks {
            let kind =
                pairs.first.rigs[track.target.rig].property_kind(track.target.node, &track.target.property);
            let side = Side {
                layer: &layer.name,
                channel: pairs.addresses.0.property(&track.target),
                quantity: kind.map_or(Quantity::Number, |kind| kind.quantity()),
                frame: &|time| pairs.first.rate.frame(time),
            };
            let Some(target) = pairs.partner(&track.target) else { continue };
            let partner = other.and_then(|layer| {
                let found = b.layers[layer].tracks.iter().find(|track| track.target == target)?;
                Some((layer, found))
            });
            match partner {
                Some((layer, theirs)) => {
                    both += 1;
                    matched.insert((layer, target));
                    if pairs.rest_alike {
                        found.extend(side.between(track, theirs));
                    } else {
                        found.extend(side.counted(track, theirs));
                    }
                }
                None => found.push(side.alone(Some(track), None)),
            }
        }
    }
    for (index, layer) in b.layers.iter().enumerate() {
        for track in &layer.tracks {
            if matched.contains(&(index, track.target.clone())) {
                continue;
            }
            let node = (track.target.rig, track.target.node);
            let Some((own, _)) = pairs.all.iter().find(|(_, other)| *other == node) else { continue };
            let property = track.target.property.clone();
            let own = Target { rig: own.0, node: own.1, property };
            let kind = pairs.first.rigs[own.rig].property_kind(own.node, &own.property);
            let side = Side {
                layer: &layer.name,
                channel: pairs.addresses.0.property(&own),
                quantity: kind.map_or(Quantity::Number, |kind| kind.quantity()),
                frame: &|time| pairs.first.rate.frame(time),
            };
            found.push(side.alone(None, Some(track)));
        }
    }
    (found, both)
}

/// Where a track stands.
struct Side<'a> {
    layer: &'a str,
    channel: String,
    quantity: Quantity,
    frame: &'a dyn Fn(nimble_curve_curves::time::Ticks) -> f64,
}

impl Side<'_> {
    fn blank(&self, channel: String) -> CurveDifference {
        CurveDifference {
            layer: self.layer.to_owned(),
            channel,
            quantity: self.quantity,
            keys: (None, None),
            only: (0, 0),
            value: None,
            slope: None,
            note: String::new(),
        }
    }

    /// A track that the other side does not have.
    fn alone(&self, own: Option<&Track>, theirs: Option<&Track>) -> CurveDifference {
        let count = |track: &Track| track.controller.value_count();
        CurveDifference {
            keys: (own.map(count), theirs.map(count)),
            note: if own.is_some() { "only in the first" } else { "only in the second" }.into(),
            ..self.blank(self.channel.clone())
        }
    }

    /// Two tracks of rigs that are not alike, where they have other numbers of keys.
    fn counted(&self, own: &Track, theirs: &Track) -> Option<CurveDifference> {
        let (a, b) = (&own.controller, &theirs.controller);
        let note = match a.type_name() == b.type_name() {
            true => String::new(),
            false => format!("{} against {}", a.type_name(), b.type_name()),
        };
        let keys = (Some(a.value_count()), Some(b.value_count()));
        let differs = keys.0 != keys.1 || !note.is_empty();
        differs.then(|| CurveDifference { keys, note, ..self.blank(self.channel.clone()) })
    }

    /// What differs between two tracks.
    fn between(&self, own: &Track, theirs: &Track) -> Vec<CurveDifference> {
        let (a, b) = (&own.controller, &theirs.controller);
        if a == b {
            return Vec::new();
        }
        let whole = |note: String| CurveDifference {
            keys: (Some(a.value_count()), Some(b.value_count())),
            note,
            ..self.blank(self.channel.clone())
        };
        if a.type_name() != b.type_name() {
            return vec![whole(format!("{} against {}", a.type_name(), b.type_name()))];
        }
        if let (Controller::Euler(one), Controller::Euler(other)) = (a, b)
            && one.order != other.order
        {
            return vec![whole(format!("order {} against {}", one.order, other.order))];
        }
        match a {
            Controller::Components(_) | Controller::Euler(_) => {
                let (a, b) = (a.curves(), b.curves());
                let empty = Curve::default();
                let mut found = Vec::new();
                for index in 0..a.len().max(b.len()) {
                    let (a_curve, b_curve) = (a.get(index).unwrap_or(&empty), b.get(index).unwrap_or(&empty));
                    if a_curve != b_curve {
                        let channel = match COMPONENTS.get(index) {
                            Some(letter) if a.len() > 1 => format!("{}.{letter}", self.channel),
                            _ => self.channel.clone(),
                        };
                        found.push(self.curve(channel, a_curve, b_curve));
                    }
                }
                found
            }
            Controller::Samples(one) => {
                let Controller::Samples(other) = b else { return Vec::new() };
                let (rows, width) = (one.len().min(other.len()), one.kind.width());
                let mut value: Option<Gap> = None;
                if one.kind == other.kind && one.rate == other.rate && one.start == other.start {
                    for (index, (x, y)) in
                        one.values[..rows * width].iter().zip(&other.values[..rows * width]).enumerate()
                    {
                        take(&mut value, (x - y).abs(), (self.frame)(one.time(index / width)));
                    }
                }
                let note = match value {
                    Some(_) if one.len() == other.len() => "",
                    Some(_) => "other numbers of samples",
                    None => "sampled otherwise",
                };
                vec![CurveDifference { value, ..whole(note.into()) }]
            }
            _ => vec![whole("other keys".into())],
        }
    }

    fn curve(&self, channel: String, a: &Curve, b: &Curve) -> CurveDifference {
        let (mut value, mut slope) = (None, None);
        let (mut only, mut ways) = ((0, 0), 0);
        let (mut i, mut j) = (0, 0);
        let (one, other) = (a.keys(), b.keys());
        while i < one.len() || j < other.len() {
            match (one.get(i), other.get(j)) {
                (Some(x), Some(y)) if x.time == y.time => {
                    let frame = (self.frame)(x.time);
                    take(&mut value, (x.value - y.value).abs(), frame);
                    take(&mut value, (x.left_value() - y.left_value()).abs(), frame);
                    if x.interpolation != y.interpolation {
                        ways += 1;
                    }
                    for apart in slopes((one, i), (other, j)) {
                        take(&mut slope, apart, frame);
                    }
                    (i, j) = (i + 1, j + 1);
                }
                (Some(x), Some(y)) if x.time > y.time => (only.1, j) = (only.1 + 1, j + 1),
                (None, Some(_)) => (only.1, j) = (only.1 + 1, j + 1),
                _ => (only.0, i) = (only.0 + 1, i + 1),
            }
        }
        let mut notes: Vec<String> = Vec::new();
        if ways > 0 {
            notes.push(format!("{ways} other interpolations"));
        }
        if (a.before, a.after) != (b.before, b.after) {
            notes.push("other behaviour outside the keys".into());
        }
        if a.inner_loop() != b.inner_loop() {
            notes.push("other loop inside".into());
        }
        let differs = |gap: &Option<Gap>| gap.is_some_and(|gap: Gap| gap.largest > 0.0);
        if notes.is_empty() && only == (0, 0) && !differs(&value) && !differs(&slope) {
            notes.push("other tangent modes".into());
        }
        CurveDifference {
            keys: (Some(one.len()), Some(other.len())),
            only,
            value: value.filter(|gap| gap.largest > 0.0),
            slope: slope.filter(|gap| gap.largest > 0.0),
            note: notes.join(", "),
            ..self.blank(channel)
        }
    }
}

/// How far the slopes on both sides of a common key are apart, where both curves are cubic there.
fn slopes((a, i): (&[Key], usize), (b, j): (&[Key], usize)) -> impl Iterator<Item = f64> {
    let cubic = |keys: &[Key], index: usize| {
        keys.get(index).is_some_and(|key| key.interpolation == Interpolation::Cubic) && index + 1 < keys.len()
    };
    let before = i > 0 && j > 0 && cubic(a, i - 1) && cubic(b, j - 1);
    let after = cubic(a, i) && cubic(b, j);
    let apart = |x: nimble_curve_curves::curve::Tangent, y: nimble_curve_curves::curve::Tangent| {
        (x.slope_per_second() - y.slope_per_second()).abs()
    };
    let into = before.then(|| apart(a[i].tangent_in, b[j].tangent_in));
    let out = after.then(|| apart(a[i].tangent_out, b[j].tangent_out));
    into.into_iter().chain(out)
}

fn take(gap: &mut Option<Gap>, apart: f64, frame: f64) {
    if gap.is_none_or(|gap| apart > gap.largest) {
        *gap = Some(Gap { largest: apart, frame });
    }
}
