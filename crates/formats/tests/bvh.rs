//! What BVH files in the wild look like, and what is wrong with broken ones.

use std::path::Path;

use nimble_curve_core::controller::{Controller, SampleKind, Samples};
use nimble_curve_core::rig::NodeKind;
use nimble_curve_core::rotation::RotationOrder;
use nimble_curve_core::scene::Scene;
use nimble_curve_formats::{Assume, Format, Saving, encode, read_bytes};

fn read(text: &str) -> Result<Scene, String> {
    read_bytes(text.as_bytes(), Path::new("clip.bvh"), Assume::default())
        .map(|loaded| loaded.scene)
        .map_err(|error| error.to_string())
}

fn samples<'a>(scene: &'a Scene, node: &str, property: &str) -> &'a Samples {
    let found = scene.takes[0].tracks().find_map(|(_, track)| {
        let name = &scene.rigs[0].node(track.target.node).unwrap().name;
        match &track.controller {
            Controller::Samples(samples) if name == node && track.target.property == property => {
                Some(samples)
            }
            _ => None,
        }
    });
    found.unwrap_or_else(|| panic!("{node}:{property}"))
}

const TWO_JOINTS: &str = "HIERARCHY
ROOT hips
{
  OFFSET 0 90 0
  CHANNELS 6 Xposition Yposition Zposition Zrotation Xrotation Yrotation
  JOINT head
  {
    OFFSET 0 40 0
    CHANNELS 3 Yrotation Xrotation Zrotation
    End Site
    {
      OFFSET 0 20 0
    }
  }
}
MOTION
Frames: 2
Frame Time: 0.0083333
1 90 2 10 20 30 40 50 60
1.5 91 2.5 11 21 31 41 51 61
";

#[test]
fn channels_go_to_their_axes_in_the_order_they_are_listed() {
    let scene = read(TWO_JOINTS).unwrap();
    assert_eq!(scene.rate.to_string(), "120");
    assert_eq!(samples(&scene, "hips", "translation").values, [1.0, 90.0, 2.0, 1.5, 91.0, 2.5]);
    let hips = samples(&scene, "hips", "rotation");
    // Zrotation Xrotation Yrotation is Rz·Rx·Ry: y acts first.
    assert_eq!(hips.kind, SampleKind::Euler(RotationOrder::Yxz));
    let degrees: Vec<f64> = hips.row(0).iter().map(|a| a.to_degrees().round()).collect();
    assert_eq!(degrees, [20.0, 30.0, 10.0]);
    assert_eq!(samples(&scene, "head", "rotation").kind, SampleKind::Euler(RotationOrder::Zxy));
    let kinds: Vec<NodeKind> = scene.rigs[0].nodes().map(|(_, node)| node.kind).collect();
    assert_eq!(kinds, [NodeKind::Joint, NodeKind::Joint, NodeKind::End]);
}

#[test]
fn the_ways_in_which_exporters_differ_do_not_matter() {
    let plain = read(TWO_JOINTS).unwrap();
    for (what, text) in [
        ("CRLF", TWO_JOINTS.replace('\n', "\r\n")),
        (
            "tabs",
            TWO_JOINTS
                .replace("  ", "\t")
                .replace(' ', "\t")
                .replace("End\tSite", "End Site")
                .replace("Frame\tTime", "Frame Time"),
        ),
        ("no last newline", TWO_JOINTS.trim_end().to_owned()),
        ("blank lines", TWO_JOINTS.replace('\n', "\n\n")),
        ("braces on the line", TWO_JOINTS.replace("hips\n{", "hips {").replace("Site\n    {", "Site {")),
        ("a byte order mark", format!("\u{feff}{TWO_JOINTS}")),
        (
            "small letters",
            TWO_JOINTS.replace("ROOT", "Root").replace("Zrotation", "ZROTATION").replace("MOTION", "Motion"),
        ),
        ("exponents", TWO_JOINTS.replace("1.5 91", "15e-1 9.1E1")),
        ("an exponent in the frame time", TWO_JOINTS.replace("0.0083333", "8.333333e-3")),
    ] {
        assert_eq!(read(&text).map_err(|error| format!("{what}: {error}")).unwrap(), plain, "{what}");
    }
}

#[test]
fn names_are_taken_as_they_stand() {
    for name in ["courier:hips", "hips.left #2", "Кит", "a/b\\c", "1"] {
        let scene = read(&TWO_JOINTS.replace("ROOT hips", &format!("ROOT {name}"))).unwrap();
        assert_eq!(scene.rigs[0].nodes().next().unwrap().1.name, name);
        let (bytes, _) = encode(&scene, Format::Bvh, Path::new("out.bvh"), &Saving::default()).unwrap();
        assert_eq!(read(std::str::from_utf8(&bytes).unwrap()).unwrap(), scene, "{name}");
    }
}

#[test]
fn several_roots_and_positions_on_joints_survive_a_round_trip() {
    let text = "HIERARCHY
ROOT a
{
 OFFSET 0 0 0
 CHANNELS 3 Xrotation Yrotation Zrotation
 JOINT b
 {
  OFFSET 1 2 3
  CHANNELS 4 Yposition Zrotation Yrotation Xrotation
 }
}
ROOT c
{
 OFFSET 5 0 0
 CHANNELS 1 Yrotation
}
MOTION
Frames: 1
Frame Time: 0.04
1 2 3 9 4 5 6 7
";
    let scene = read(text).unwrap();
    // A component without a channel keeps the offset's.
    assert_eq!(samples(&scene, "b", "translation").values, [1.0, 9.0, 3.0]);
    assert_eq!(scene.rigs[0].children(None).count(), 2);
    let (bytes, ledger) = encode(&scene, Format::Bvh, Path::new("out.bvh"), &Saving::default()).unwrap();
    let back = read(std::str::from_utf8(&bytes).unwrap()).unwrap();
    for (node, property) in [("a", "rotation"), ("b", "translation"), ("b", "rotation"), ("c", "rotation")] {
        assert_eq!(samples(&back, node, property).values, samples(&scene, node, property).values, "{node}");
    }
    assert!(ledger.entries.iter().all(|entry| entry.fate == nimble_curve_core::ledger::Fate::Kept));
}

#[test]
fn what_is_wrong_is_said_with_its_line() {
    let broken = |from: &str, to: &str| TWO_JOINTS.replace(from, to);
    for (what, text, line, word) in [
        ("a bad number", broken("11 21", "11 x21"), 20, "'x21'"),
        ("a number cut off", broken("51 61\n", "51\n"), 20, "8 numbers"),
        ("too few numbers", broken(" 60\n", "\n"), 19, "8 numbers"),
        ("too many numbers", broken(" 60\n", " 60 7\n"), 19, "more numbers"),
        ("not finite", broken("11 21", "nan 21"), 20, "finite"),
        ("infinite", broken("11 21", "1e999 21"), 20, "finite"),
        ("too few frames", broken("Frames: 2", "Frames: 3"), 21, "cut off"),
        ("too many frames", broken("Frames: 2", "Frames: 1"), 20, "more follows"),
        ("a huge count", broken("Frames: 2", "Frames: 99999999999"), 18, ""),
        ("no count", broken("Frames: 2", "Frames: two"), 17, "'two'"),
        ("no frame time", broken("0.0083333", "0"), 18, "frame time"),
        ("a wrong channel count", broken("CHANNELS 3", "CHANNELS 4"), 9, "CHANNELS says 4"),
        ("an unknown channel", broken("CHANNELS 3 Yrotation", "CHANNELS 3 Wrotation"), 9, "'Wrotation'"),
        ("a channel twice", broken("CHANNELS 3 Yrotation", "CHANNELS 3 Xrotation"), 9, "twice"),
        ("a bad offset", broken("OFFSET 0 40 0", "OFFSET 0 forty 0"), 8, "three numbers"),
        ("a word that does not belong", broken("OFFSET 0 40 0", "OFFSTE 0 40 0"), 8, "'OFFSTE'"),
        ("an end before its time", TWO_JOINTS[..150].to_owned(), 9, "cut off"),
        ("a brace too few", broken("  }\n}\nMOTION", "}\nMOTION"), 15, "MOTION"),
        ("a brace too many", broken("}\nMOTION", "}\n}\nMOTION"), 16, "'}'"),
        ("no name", broken("JOINT head", "JOINT"), 6, "no name"),
        ("another word first", broken("HIERARCHY", "HIERARCHIES"), 1, "HIERARCHY"),
    ] {
        let error = read(&text).expect_err(what);
        assert!(error.starts_with("clip.bvh:"), "{what}: {error}");
        assert!(error.contains(word), "{what}: {error}");
        let found: usize = error.split(':').nth(1).unwrap().parse().unwrap();
        assert_eq!(found, line, "{what}: {error}");
        assert_eq!(error.lines().count(), 1, "{what}: {error}");
    }
}

#[test]
fn cutting_a_file_anywhere_is_an_error_or_a_shorter_word_never_a_panic() {
    for length in 0..TWO_JOINTS.len() - 3 {
        assert!(read(&TWO_JOINTS[..length]).is_err(), "{length}");
    }
}

#[test]
fn a_rig_without_motion_has_no_take() {
    let text =
        TWO_JOINTS.split("MOTION").next().unwrap().to_owned() + "MOTION\nFrames: 0\nFrame Time: 0.04\n";
    assert!(read(&text).unwrap().takes.is_empty());
}
