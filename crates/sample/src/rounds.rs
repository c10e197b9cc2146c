//! Bramble's rounds: one timeline with six clips, a pose held between them, hips at the top and no root.

use std::collections::HashMap;

use glam::DVec3;
use nimble_curve_core::angle;
use nimble_curve_core::controller::{Controller, EulerCurves};
use nimble_curve_core::curve::{Curve, Interpolation, Key};
use nimble_curve_core::rig::{Node, NodeId, NodeKind, Rig};
use nimble_curve_core::rotation::RotationOrder;
use nimble_curve_core::scene::{Clip, Layer, Marker, Scene, Take, Target, Track};
use nimble_curve_core::space::Space;
use nimble_curve_core::time::{FrameRate, TimeRange};

use crate::otter::BONES;

const RATE: FrameRate = FrameRate::FPS_24;
/// Frames between clips in which the last pose is held.
pub const GAP: i64 = 9;

/// A channel's keys in a clip: frames after its start, and values in degrees or centimetres.
type Keys = &'static [(i64, f64)];

/// What happens at the ends of a clip.
#[derive(Clone, Copy, PartialEq)]
enum Ends {
    /// The motion goes on: slopes at both ends are those of a loop.
    Loop,
    /// It starts and ends standing.
    Stand,
}

struct Part {
    name: &'static str,
    frames: i64,
    ends: Ends,
    note: Option<&'static str>,
    /// Node and axis, `t` before an axis for places.
    keys: &'static [(&'static str, &'static str, Keys)],
}

const PARTS: &[Part] = &[
    Part {
        name: "idle",
        frames: 48,
        ends: Ends::Loop,
        note: None,
        keys: &[
            ("hips", "ty", &[(0, 34.0), (24, 33.4), (48, 34.0)]),
            ("spine_02", "x", &[(0, 2.0), (24, 4.5), (48, 2.0)]),
            ("chest", "x", &[(0, 1.0), (26, 3.0), (48, 1.0)]),
            ("head", "y", &[(0, -6.0), (14, 4.0), (32, 8.0), (48, -6.0)]),
            ("tail_01", "y", &[(0, -10.0), (24, 12.0), (48, -10.0)]),
            ("tail_02", "y", &[(0, -6.0), (28, 9.0), (48, -6.0)]),
        ],
    },
    Part {
        name: "walk",
        frames: 24,
        ends: Ends::Loop,
        note: Some("24 frames a cycle"),
        keys: &[
            ("hips", "tz", &[(0, 0.0), (6, 9.5), (12, 20.0), (18, 29.5), (24, 40.0)]),
            ("hips", "ty", &[(0, 33.0), (6, 34.0), (12, 33.0), (18, 34.0), (24, 33.0)]),
            ("hips", "y", &[(0, 4.0), (12, -4.0), (24, 4.0)]),
            ("chest", "y", &[(0, -6.0), (12, 6.0), (24, -6.0)]),
            ("thigh_l", "x", &[(0, -24.0), (12, 20.0), (24, -24.0)]),
            ("thigh_r", "x", &[(0, 20.0), (12, -24.0), (24, 20.0)]),
            ("shin_l", "x", &[(0, 4.0), (12, 8.0), (18, 46.0), (24, 4.0)]),
            ("shin_r", "x", &[(0, 8.0), (6, 46.0), (12, 4.0), (24, 8.0)]),
            ("arm_l", "z", &[(0, -62.0), (12, -66.0), (24, -62.0)]),
            ("arm_r", "z", &[(0, 62.0), (12, 66.0), (24, 62.0)]),
            ("arm_l", "x", &[(0, 18.0), (12, -18.0), (24, 18.0)]),
            ("arm_r", "x", &[(0, -18.0), (12, 18.0), (24, -18.0)]),
            ("tail_01", "y", &[(0, 14.0), (12, -14.0), (24, 14.0)]),
        ],
    },
    Part {
        name: "run",
        frames: 16,
        ends: Ends::Loop,
        note: None,
        keys: &[
            ("hips", "tz", &[(0, 0.0), (4, 16.0), (8, 32.0), (12, 48.0), (16, 64.0)]),
            ("hips", "ty", &[(0, 30.0), (4, 36.0), (8, 30.0), (12, 36.0), (16, 30.0)]),
            ("spine_01", "x", &[(0, 14.0), (8, 16.0), (16, 14.0)]),
            ("thigh_l", "x", &[(0, -48.0), (8, 32.0), (16, -48.0)]),
            ("thigh_r", "x", &[(0, 32.0), (8, -48.0), (16, 32.0)]),
            ("shin_l", "x", &[(0, 30.0), (8, 18.0), (12, 84.0), (16, 30.0)]),
            ("shin_r", "x", &[(0, 18.0), (4, 84.0), (8, 30.0), (16, 18.0)]),
            ("arm_l", "z", &[(0, -58.0), (8, -64.0), (16, -58.0)]),
            ("arm_r", "z", &[(0, 58.0), (8, 64.0), (16, 58.0)]),
            ("arm_l", "x", &[(0, 34.0), (8, -34.0), (16, 34.0)]),
            ("arm_r", "x", &[(0, -34.0), (8, 34.0), (16, -34.0)]),
        ],
    },
    Part {
        name: "turn",
        frames: 30,
        ends: Ends::Stand,
        note: Some("a quarter turn to the left"),
        keys: &[
            ("hips", "y", &[(0, 0.0), (8, 14.0), (20, 78.0), (30, 90.0)]),
            ("hips", "tx", &[(0, 0.0), (15, 1.5), (30, 4.0)]),
            ("hips", "tz", &[(0, 0.0), (15, 3.0), (30, 4.0)]),
            ("hips", "ty", &[(0, 34.0), (15, 32.5), (30, 34.0)]),
            ("head", "y", &[(0, 0.0), (8, 32.0), (22, 10.0), (30, 0.0)]),
            ("thigh_l", "x", &[(0, 0.0), (10, -22.0), (20, 0.0)]),
            ("thigh_r", "x", &[(10, 0.0), (20, -22.0), (30, 0.0)]),
            ("shin_l", "x", &[(0, 0.0), (10, 36.0), (20, 0.0)]),
            ("shin_r", "x", &[(10, 0.0), (20, 36.0), (30, 0.0)]),
            ("tail_01", "y", &[(0, 0.0), (12, -20.0), (30, 0.0)]),
        ],
    },
    Part {
        name: "sort",
        frames: 36,
        ends: Ends::Loop,
        note: Some("letters into pigeonholes"),
        keys: &[
            ("chest", "y", &[(0, -12.0), (18, 14.0), (36, -11.6)]),
            ("arm_r", "z", &[(0, 48.0), (18, 20.0), (36, 48.9)]),
            ("arm_r", "y", &[(0, 30.0), (18, 62.0), (36, 29.4)]),
            ("forearm_r", "y", &[(0, 70.0), (18, 24.0), (36, 70.5)]),
            ("arm_l", "z", &[(0, -52.0), (36, -52.0)]),
            ("head", "x", &[(0, 10.0), (18, -4.0), (36, 10.2)]),
            ("head", "y", &[(0, -14.0), (18, 18.0), (36, -14.0)]),
        ],
    },
    Part {
        name: "slip",
        frames: 28,
        ends: Ends::Stand,
        note: Some("lands on the tail"),
        keys: &[
            ("hips", "ty", &[(0, 34.0), (8, 36.0), (16, 9.0), (20, 10.5), (28, 9.0)]),
            ("hips", "tz", &[(0, 0.0), (16, -14.0), (28, -16.0)]),
            ("hips", "x", &[(0, 0.0), (16, -30.0), (28, -22.0)]),
            ("spine_01", "x", &[(0, 0.0), (10, -14.0), (16, 22.0), (28, 16.0)]),
            ("thigh_l", "x", &[(0, 0.0), (10, -62.0), (28, -70.0)]),
            ("thigh_r", "x", &[(0, 0.0), (11, -58.0), (28, -66.0)]),
            ("arm_l", "z", &[(0, -60.0), (10, 10.0), (20, -40.0), (28, -48.0)]),
            ("arm_r", "z", &[(0, 60.0), (11, -14.0), (20, 36.0), (28, 46.0)]),
            ("head", "x", &[(0, 0.0), (14, 26.0), (28, 12.0)]),
        ],
    },
];

/// Keys of one channel in one part, slopes given; the last one is held up to the next part.
fn keys(start: i64, part: &Part, points: Keys, factor: f64) -> Vec<Key> {
    let seconds = |frames: i64| frames as f64 / RATE.fps();
    let slope_between = |a: (i64, f64), b: (i64, f64)| (b.1 - a.1) * factor / seconds(b.0 - a.0);
    let (first, last) = (points[0], points[points.len() - 1]);
    let is_whole = first.0 == 0 && last.0 == part.frames;
    // Through the ends of a loop the motion goes on as through any other key.
    let through = if points.len() > 2 && part.ends == Ends::Loop && is_whole {
        let (a, b) = (points[1], points[points.len() - 2]);
        (a.1 - first.1 + last.1 - b.1) * factor / seconds(a.0 + part.frames - b.0)
    } else {
        0.0
    };
    let mut all: Vec<Key> = Vec::new();
    for (index, &(frame, value)) in points.iter().enumerate() {
        let slope = match (index.checked_sub(1).map(|before| points[before]), points.get(index + 1)) {
            (Some(before), Some(&after)) => {
                // Flat at extremes, else through the neighbours.
                let (a, b) = (slope_between(before, (frame, value)), slope_between((frame, value), after));
                if a * b <= 0.0 { 0.0 } else { slope_between(before, after) }
            }
            _ => through,
        };
        all.push(Key::new(RATE.ticks(start + frame), value * factor).with_slope(slope));
    }
    if let Some(last) = all.last_mut() {
        last.interpolation = Interpolation::Hold;
    }
    all
}

/// The first frame of each part.
fn starts() -> Vec<i64> {
    let mut next = 1;
    let start = |part: &Part| {
        let own = next;
        next += part.frames + 1 + GAP;
        own
    };
    PARTS.iter().map(start).collect()
}

/// The timeline.
///
/// # Panics
/// Never: parents are added first and keys are in order.
pub fn scene() -> Scene {
    let mut rig = Rig::new("bramble");
    let mut ids: HashMap<&str, NodeId> = HashMap::new();
    for (name, parent, at) in BONES {
        let kind = if name.ends_with("_end") { NodeKind::End } else { NodeKind::Joint };
        // The turn about the up axis acts last in the hips, so that it stays what it is.
        let order = if *name == "hips" { RotationOrder::Zxy } else { RotationOrder::Xyz };
        let node = Node::new(*name, kind, DVec3::from_array(*at), order);
        ids.insert(name, rig.add(parent.map(|p| ids[p]), node).expect("parents are listed first"));
    }
    let mut tracks: Vec<Track> = Vec::new();
    for (name, ..) in BONES {
        let mut channel = |is_place: bool, order: RotationOrder| {
            let factor = if is_place { 1.0 } else { angle::radians(1.0) };
            let rest = BONES.iter().find(|bone| bone.0 == *name).map_or([0.0; 3], |bone| bone.2);
            let curves: Vec<Curve> = ["x", "y", "z"]
                .iter()
                .enumerate()
                .map(|(axis, letter)| {
                    let wanted = if is_place { format!("t{letter}") } else { (*letter).to_owned() };
                    let of = |part: &Part| {
                        let found = part.keys.iter().find(|(node, axis, _)| node == name && *axis == wanted);
                        found.map(|found| found.2)
                    };
                    if PARTS.iter().all(|part| of(part).is_none()) {
                        return Curve::default();
                    }
                    let mut all: Vec<Key> = Vec::new();
                    for (part, start) in PARTS.iter().zip(starts()) {
                        let rest = if is_place { rest[axis] } else { 0.0 };
                        match of(part) {
                            Some(points) => {
                                if points[0].0 > 0 {
                                    let key =
                                        Key::new(RATE.ticks(start), points[0].1 * factor).with_slope(0.0);
                                    all.push(key);
                                }
                                all.extend(keys(start, part, points, factor));
                            }
                            None => all.push(
                                Key::new(RATE.ticks(start), rest * factor)
                                    .with_slope(0.0)
                                    .with_interpolation(Interpolation::Hold),
                            ),
                        }
                    }
                    Curve::new(all).expect("frames increase")
                })
                .collect();
            if curves.iter().all(Curve::is_empty) {
                return;
            }
            let [x, y, z] = <[Curve; 3]>::try_from(curves).expect("three axes");
            let (property, controller) = match is_place {
                true => ("translation", Controller::Components(vec![x, y, z])),
                false => ("rotation", Controller::Euler(EulerCurves { order, curves: [x, y, z] })),
            };
            tracks.push(Track {
                target: Target { rig: 0, node: ids[name], property: property.into() },
                controller,
            });
        };
        channel(true, RotationOrder::Xyz);
        channel(false, if *name == "hips" { RotationOrder::Zxy } else { RotationOrder::Xyz });
    }
    let range = |first, last| TimeRange::new(RATE.ticks(first), RATE.ticks(last));
    let clips: Vec<Clip> = (PARTS.iter().zip(starts()))
        .map(|(part, start)| Clip {
            name: part.name.into(),
            range: range(start, start + part.frames),
            note: part.note.map(str::to_owned),
        })
        .collect();
    let last = starts()[PARTS.len() - 1] + PARTS[PARTS.len() - 1].frames;
    let walk = starts()[1];
    let take = Take {
        name: "rounds".into(),
        folder: None,
        range: range(1, last),
        clips,
        markers: vec![
            Marker { time: RATE.ticks(walk), name: "step_l".into() },
            Marker { time: RATE.ticks(walk + 12), name: "step_r".into() },
        ],
        layers: vec![Layer::base(tracks)],
    };
    Scene {
        rate: RATE,
        space: Space::CENTIMETRES_Y_UP,
        rigs: vec![rig],
        sets: Vec::new(),
        constraints: Vec::new(),
        takes: vec![take],
    }
}
