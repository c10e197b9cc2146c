//! Commands whose results are not the same as what they were made of: right ones pass, and of faults put into them the judge
//! names every one that the second evaluator can see.

use nimble_curve_core::address::Addresses;
use nimble_curve_core::judge::{Claim, Limits, judge};
use nimble_curve_core::ops::Tolerance;
use nimble_curve_core::ops::carry::{CarryOptions, NameMap, carry};
use nimble_curve_core::ops::clips::{JoinOptions, added, join, joined};
use nimble_curve_core::ops::cycle::{Closing, CycleOptions, close, closed, extend, extended};
use nimble_curve_core::ops::layers::{SplitOptions, split};
use nimble_curve_core::ops::place::{PlaceOptions, Placement, place, placed};
use nimble_curve_core::ops::retime::shifted;
use nimble_curve_core::ops::root::{
    RootOptions, centre, centred, lift, lifted, pin, pinned, restore, unpinned,
};
use nimble_curve_core::scene::Scene as Own;
use nimble_curve_core::time::TimeRange;
use nimble_curve_core::value::Quantity;
use nimble_curve_formats::{name_map::read_name_map, ncurve};
use nimble_curve_second::random::Chance;
use nimble_curve_second::scene::{Scene, Value};
use nimble_curve_second::turn::apart;
use serde_json::{Value as Json, json};

fn demo(name: &str) -> String {
    format!("{}/../cli/demo/{name}", env!("CARGO_MANIFEST_DIR"))
}

fn sample(name: &str) -> Own {
    ncurve::read(&std::fs::read_to_string(demo(name)).unwrap()).unwrap()
}

/// A command's result, with what it should be in terms of which scenes.
struct Done {
    name: &'static str,
    result: Own,
    claims: Vec<(Own, Claim)>,
    /// In the world, too.
    world: bool,
}

/// The range of a clip.
fn clip(scene: &Own, name: &str) -> TimeRange {
    let clips = scene.takes.iter().flat_map(|take| &take.clips);
    clips.into_iter().find(|clip| clip.name == name).unwrap().range
}

fn carried() -> Done {
    let (source, target) = (sample("bramble.ncurve"), sample("stilt.ncurve"));
    let map: NameMap = read_name_map(demo("bramble_to_stilt.toml").as_ref()).unwrap();
    // The judge looks closer than carrying does; what was asked for is asked for with some room.
    let options = CarryOptions { tolerance: Tolerance::default().times(0.6), ..CarryOptions::default() };
    let made = carry(&source, &target, &map, &options).unwrap();
    Done { name: "carry", claims: vec![(source, made.claim)], result: made.scene, world: true }
}

/// Two rigs, one in the hand of the other.
fn handed_over() -> Done {
    let (source, target) = (sample("handover.ncurve"), sample("stilt_satchel.ncurve"));
    let map: NameMap = read_name_map(demo("handover.toml").as_ref()).unwrap();
    let options = CarryOptions { tolerance: Tolerance::default().times(0.6), ..CarryOptions::default() };
    let made = carry(&source, &target, &map, &options).unwrap();
    assert_eq!(made.claim.holds.len(), 1);
    Done { name: "carry two rigs", claims: vec![(source, made.claim)], result: made.scene, world: true }
}

fn rooted() -> Vec<Done> {
    let source = sample("rounds.ncurve");
    let options = RootOptions::default();
    let (lifting, ledger) = lift(&source, &options).unwrap();
    let lift_claim = lifted(&source, &lifting, &ledger, &options).unwrap();
    let (pinning, _) = pin(&source, &options).unwrap();
    let pin_claim = pinned(&source, &pinning, &options).unwrap();
    let (restored, _) = restore(&pinning).unwrap();
    let before = unpinned(&pinning);
    let restore_claim = Claim::same(&before, &restored);
    let (middle, _) = centre(&source, "hips", true).unwrap();
    let centre_claim = centred(&source, &middle, "hips", true).unwrap();
    let done = |name, of: &Own, claim, result, world| Done {
        name,
        claims: vec![(of.clone(), claim)],
        result,
        world,
    };
    vec![
        done("root lift", &source, lift_claim, lifting, true),
        done("root in-place", &source, pin_claim, pinning, false),
        done("root restore", &before, restore_claim, restored, false),
        done("root centre", &source, centre_claim, middle, false),
    ]
}

fn looped() -> Vec<Done> {
    let source = sample("rounds.ncurve");
    let of = |name: &str| CycleOptions {
        take: None,
        range: Some(clip(&source, name)),
        tolerance: Tolerance::default(),
    };
    let over = Closing::over(source.rate.ticks(8));
    let (closing, _) = close(&source, &over, &of("sort")).unwrap();
    let claims = closed(&source, &closing, &over, &of("sort")).unwrap();
    let (longer, _) = extend(&source, 3, &of("walk")).unwrap();
    let rounds = extended(&source, &longer, 3, &of("walk")).unwrap();
    vec![
        Done {
            name: "cycle close",
            claims: vec![(source.clone(), claims.outside), (closing.clone(), claims.ends)],
            result: closing,
            world: false,
        },
        Done {
            name: "cycle extend",
            claims: rounds.into_iter().map(|claim| (source.clone(), claim)).collect(),
            result: longer,
            world: false,
        },
    ]
}

fn put_together() -> Vec<Done> {
    let source = sample("rounds.ncurve");
    let mut other = sample("rounds.ncurve");
    other.takes[0].name = "again".into();
    other.takes[0] = shifted(&other.takes[0], source.rate.ticks(40));
    let options = JoinOptions {
        name: "all".into(),
        gap: 2,
        start: Some(10.0),
        go_on: false,
        tolerance: Tolerance::default(),
    };
    let scenes = [source.clone(), other.clone()];
    let (all, _) = join(&scenes, &options).unwrap();
    let claims = joined(&scenes, &all, &options).unwrap().into_iter();
    let claims = claims.map(|(at, claim)| (scenes[at].clone(), claim)).collect();
    let mut library = source.clone();
    library.takes.push(other.takes[0].clone());
    let claim = added(&other, &library, 1);
    let mut new = other.takes[0].clone();
    new.range = TimeRange::new(source.rate.ticks(100), source.rate.ticks(130));
    let placing = PlaceOptions {
        placement: Placement::Overwrite,
        onto: None,
        ease: source.rate.ticks(4),
        tolerance: Tolerance::default(),
    };
    let (onto, _) = place(&source, &new, &placing).unwrap();
    let parts = placed(&source, &new, &onto, &placing).unwrap();
    let mut placed: Vec<(Own, Claim)> = parts.old.into_iter().map(|claim| (source.clone(), claim)).collect();
    placed.extend(parts.others);
    let mut chance = Chance::new(7);
    let mut against = source.clone();
    for _ in 0..6 {
        against = spoiled(&against, &mut chance).map_or(against, |fault| fault.scene);
    }
    let (apart, _) = split(
        &source,
        &against,
        &SplitOptions { name: "more".into(), only: Vec::new(), tolerance: Tolerance::default() },
    )
    .unwrap();
    let split = Claim { takes_chosen: true, ..Claim::same_by_address(&against, &apart) };
    vec![
        Done { name: "clips join", claims, result: all, world: false },
        Done { name: "clips add", claims: vec![(other, claim)], result: library, world: false },
        Done { name: "place", claims: placed, result: onto, world: false },
        Done { name: "layers difference", claims: vec![(against, split)], result: apart, world: false },
    ]
}

fn limits(result: &Own, world: bool) -> Limits {
    let tolerance = Tolerance::default();
    let of = |quantity| tolerance.of(quantity, &result.space) * (1.0 + 1e-6);
    Limits {
        angle: of(Quantity::Angle),
        length: of(Quantity::Length),
        number: of(Quantity::Number),
        world: if world { of(Quantity::Length) } else { f64::INFINITY },
        world_turn: if world { of(Quantity::Angle) } else { f64::INFINITY },
        ..Limits::NONE
    }
}

/// What the judge says of a result, a sentence each.
fn said(done: &Done, result: &Own) -> Vec<String> {
    let mut said = Vec::new();
    for (source, claim) in &done.claims {
        // What is claimed in terms of the result itself is claimed of the one that is judged.
        let source = if *source == done.result { result } else { source };
        let verdict = judge(source, result, claim, limits(result, done.world), 1.0);
        said.extend(
            verdict.beyond().map(|(judged, error, _)| format!("{} {}", judged.channel, error.largest)),
        );
        said.extend(verdict.world_beyond().map(|(error, _)| format!("in the world {}", error.largest)));
        said.extend(verdict.missing);
    }
    said
}

/// A fault in the text of a scene, and which node of which take it is about.
struct Fault {
    what: String,
    scene: Own,
    take: usize,
    channels: Vec<String>,
}

/// Something wrong: a number of a track, its sign, its time, its node, or the whole of it.
fn spoiled(result: &Own, chance: &mut Chance) -> Option<Fault> {
    let mut made: Json = serde_json::from_str(&ncurve::write(result)).unwrap();
    let takes = made["takes"].as_array_mut()?;
    let take = chance.below(takes.len());
    let layers = takes[take]["layers"].as_array_mut()?;
    let at = chance.below(layers.len());
    let tracks = layers[at].get_mut("tracks")?.as_array_mut()?;
    if tracks.is_empty() {
        return None;
    }
    let at = chance.below(tracks.len());
    let mut channels = vec![tracks[at]["channel"].as_str()?.to_owned()];
    let kind = chance.below(6);
    let what = match kind {
        0 => {
            tracks.remove(at);
            "a track gone"
        }
        1 => {
            let property =
                |channel: &Json| channel.as_str().and_then(|c| c.rsplit_once(':')).map(|c| c.1.to_owned());
            let own = property(&tracks[at]["channel"]);
            let all: Vec<Json> = tracks.iter().map(|track| track["channel"].clone()).collect();
            let other = all.iter().enumerate().find(|(index, c)| *index != at && property(c) == own)?;
            channels.push(other.1.as_str()?.to_owned());
            let first = tracks[at]["channel"].clone();
            tracks[at]["channel"] = other.1.clone();
            tracks[other.0]["channel"] = first;
            "two tracks in each other's place"
        }
        2 => {
            each(&mut tracks[at]["controller"], &["frame", "start"], &mut |n| n + 2.0);
            "two frames late"
        }
        3 => {
            each(&mut tracks[at]["controller"], &["value", "before", "slope"], &mut |n| -n - 0.2);
            "another sign"
        }
        _ => {
            let one = chance.between(0.5, 3.0);
            let mut left = chance.below(4);
            each(&mut tracks[at]["controller"], &["value"], &mut |n| {
                left = left.wrapping_sub(1);
                if left == usize::MAX { n + one } else { n }
            });
            "a key elsewhere"
        }
    };
    let scene = ncurve::read(&made.to_string()).ok()?;
    scene.validate().ok()?;
    Some(Fault { what: format!("{what} ({})", channels.join(", ")), scene, take, channels })
}

/// Changes numbers of some names.
fn each(value: &mut Json, names: &[&str], change: &mut impl FnMut(f64) -> f64) {
    match value {
        Json::Object(fields) => {
            for (name, value) in fields {
                match value {
                    Json::Number(number) if names.contains(&name.as_str()) => {
                        *value = json!(change(number.as_f64().unwrap()));
                    }
                    _ => each(value, names, change),
                }
            }
        }
        Json::Array(list) => list.iter_mut().for_each(|value| each(value, names, change)),
        _ => {}
    }
}

/// Whether a fault can be seen where something is claimed: far beyond the limits, as the second evaluator has it.
fn shows(done: &Done, fault: &Fault) -> bool {
    let (right, wrong) =
        (Scene::read(&ncurve::write(&done.result)), Scene::read(&ncurve::write(&fault.scene)));
    let addresses = Addresses::new(&done.result);
    let tolerance = Tolerance::default();
    for channel in &fault.channels {
        let Some((node, property)) = channel.rsplit_once(':') else { continue };
        let Ok(own) = addresses.find(node) else { continue };
        let position = addresses.nodes().iter().position(|other| *other == own).unwrap();
        for (_, claim) in &done.claims {
            let node = claim.nodes.iter().find(|(_, to)| *to == own).map(|(from, _)| *from);
            let followed = claim.turns.iter().find(|turn| turn.result == own).map(|turn| turn.source);
            let Some(source) = node.or(followed) else { continue };
            let shifts = claim.shifts.iter().any(|shift| shift.result == own);
            let is_claimed = match property {
                "rotation" => true,
                "translation" => node.is_some() || shifts,
                _ => node.is_some(),
            };
            let is_excused = |take: usize| {
                claim
                    .excuses
                    .iter()
                    .any(|excuse| excuse.take == take && (excuse.target.rig, excuse.target.node) == source)
            };
            for span in
                claim.spans.iter().filter(|span| span.result == fault.take && !is_excused(span.source))
            {
                let frame =
                    |time: nimble_curve_core::time::Ticks| time.as_f64() / done.result.rate.ticks_per_frame();
                let (first, last) = (frame(span.range.first), frame(span.range.last));
                for at in (first.ceil() as i64..=last.floor() as i64).filter(|_| is_claimed) {
                    let (a, turn) = right.local(fault.take, position, at as f64);
                    let (b, other) = wrong.local(fault.take, position, at as f64);
                    let off = apart(turn, other).to_radians() > 4.0 * tolerance.angle
                        || (a.translation - b.translation).length() * right.unit > 4.0 * tolerance.length;
                    let numbers = match property {
                        "rotation" | "translation" | "scale" => false,
                        name => {
                            let name = name.trim_matches('"');
                            match (
                                right.value(fault.take, position, name, at as f64),
                                wrong.value(fault.take, position, name, at as f64),
                            ) {
                                (Value::Numbers(a), Value::Numbers(b)) => {
                                    (a[0] - b[0]).abs() > 4.0 * tolerance.number
                                }
                                (a, b) => a != b,
                            }
                        }
                    };
                    if off || numbers {
                        return true;
                    }
                }
            }
        }
    }
    false
}

#[test]
fn every_fault_that_shows_is_named() {
    let mut all = vec![carried(), handed_over()];
    all.extend(rooted());
    all.extend(looped());
    all.extend(put_together());
    for done in &all {
        assert_eq!(said(done, &done.result), Vec::<String>::new(), "{} by itself", done.name);
        let mut chance = Chance::new(2026);
        let (mut seen, mut tries) = (0, 0);
        while seen < 30 {
            tries += 1;
            assert!(tries < 600, "{}: only {seen} faults show", done.name);
            let Some(fault) = spoiled(&done.result, &mut chance) else { continue };
            if !shows(done, &fault) {
                continue;
            }
            seen += 1;
            assert!(!said(done, &fault.scene).is_empty(), "{}: nobody saw {}", done.name, fault.what);
        }
    }
}
