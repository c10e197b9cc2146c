//! What BVH files in the wild look like, and what is wrong with broken ones.

use std::path::Path;

use nimble_curve_core::controller::{Controller, SampleKind, Samples};
use nimble_curve_core::rig::NodeKind;
use nimble_curve_core::rotation::RotationOrder;
use nimble_curve_core::scene::Scene;
use nimble_curve_core::space::{Handedness, Space, UpAxis};
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
        let back = read(std::str::from_utf8(&bytes).unwrap()).unwrap();
        assert_eq!(back.takes, scene.takes, "{name}");
        let names = |scene: &Scene| -> Vec<String> {
            scene.rigs[0].nodes().map(|(_, node)| node.name.clone()).collect()
        };
        assert_eq!(names(&back), names(&scene));
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
        ("too few numbers", broken(" 60\n", "\n"), 19, "8 numbers"),
        ("too many numbers", broken(" 60\n", " 60 7\n"), 19, "more numbers"),
        ("not finite", broken("11 21", "nan 21"), 20, "finite"),
        ("infinite", broken("11 21", "1e999 21"), 20, "finite"),
        ("no frame", TWO_JOINTS.split("1 90").next().unwrap().to_owned(), 18, "cut off"),
        ("a comma too many", broken("11 21", "11,5.5,1 21"), 20, "more numbers"),
        ("no count", broken("Frames: 2", "Frames: two"), 17, "'two'"),
        ("a number cut off", broken("51 61\n", "51\n"), 18, "cut off"),
        ("half a frame more", TWO_JOINTS.to_owned() + "1 2", 18, "cut off"),
        (
            "a last number that may be cut off",
            broken("Frames: 2", "Frames: 3").trim_end().to_owned(),
            18,
            "cut off",
        ),
        ("no frame time", broken("0.0083333", "0"), 18, "frame time"),
        ("a channel too few", broken("CHANNELS 3 Yrotation", "CHANNELS 2"), 19, "more numbers"),
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

/// What is plainly meant is read, and said: the text, the same as it should be, and a word of what is said.
#[test]
fn sloppy_files_are_read_as_they_are_meant() {
    let sloppy = |from: &str, to: &str| TWO_JOINTS.replace(from, to);
    let exact = TWO_JOINTS.to_owned();
    let flat = sloppy("OFFSET 0 20 0", "OFFSET 0 0 0");
    let commas = |by: &str| {
        let (head, rest) = TWO_JOINTS.split_once("MOTION").unwrap();
        let numbers = |line: &str| line.split(' ').collect::<Vec<_>>().join(by);
        head.to_owned()
            + "MOTION"
            + &rest
                .lines()
                .map(|line| if line.contains(':') { line.to_owned() } else { numbers(line) })
                .collect::<Vec<_>>()
                .join("\n")
    };
    let decimal = |text: String| text.replace("0.0083333", "0,0083333").replace("1.5 91 2.5", "1,5 91 2,5");
    for (what, text, meant, word) in [
        (
            "a frame more than announced",
            sloppy("Frames: 2", "Frames: 1"),
            &exact,
            "announces 1 frame, but 2 frames follow",
        ),
        (
            "a frame fewer than announced",
            sloppy("Frames: 2", "Frames: 3"),
            &exact,
            "line 17: announces 3 frames, but 2 frames follow",
        ),
        ("a huge count", sloppy("Frames: 2", "Frames: 99999999999"), &exact, "2 frames follow"),
        ("no count", sloppy("Frames: 2", "Frames: 0"), &exact, "announces 0 frames"),
        (
            "frames over several lines",
            sloppy("2 10", "2\n10").replace("2.5 11", "2.5\n11"),
            &exact,
            "line 19: frames are broken",
        ),
        ("decimal commas", decimal(exact.clone()), &exact, "line 18: numbers have decimal commas"),
        (
            "decimal commas in offsets",
            sloppy("0 40 0", "0,0 40,00 0"),
            &exact,
            "line 8: numbers have decimal commas",
        ),
        ("commas between numbers", commas(","), &exact, "commas stand between"),
        ("commas and spaces", commas(", "), &exact, "commas stand between"),
        (
            "a count of channels that is none",
            sloppy("CHANNELS 3", "CHANNELS 4"),
            &exact,
            "line 9: CHANNELS counts otherwise",
        ),
        ("an end site without numbers", sloppy("OFFSET 0 20 0", "OFFSET"), &flat, "line 12: an end site"),
        ("an end site without offset", sloppy("      OFFSET 0 20 0\n", ""), &flat, ""),
        (
            "odd spaces",
            sloppy("Frame Time: ", "Frame  time :")
                .replace("Frames: ", "Frames :\t")
                .replace("End Site", "End   Site"),
            &exact,
            "",
        ),
    ] {
        let loaded = read_bytes(text.as_bytes(), Path::new("clip.bvh"), Assume::default());
        let loaded = loaded.unwrap_or_else(|error| panic!("{what}: {error}"));
        assert_eq!(loaded.scene, read(meant).unwrap(), "{what}");
        let said = loaded.mended.join("; ");
        assert_eq!(said.is_empty(), word.is_empty(), "{what}: {said}");
        assert!(said.contains(word), "{what}: {said}");
    }
}

#[test]
fn cutting_a_file_anywhere_is_an_error_or_a_shorter_word_never_a_panic() {
    let first_row = TWO_JOINTS.find("1.5 91").unwrap();
    for length in 0..TWO_JOINTS.len() - 2 {
        let cut = read_bytes(&TWO_JOINTS.as_bytes()[..length], Path::new("clip.bvh"), Assume::default());
        match cut {
            Ok(loaded) if length == first_row => assert_eq!(loaded.mended.len(), 1),
            other => assert!(other.is_err(), "{length}"),
        }
    }
}

/// A root's place stands in its channels alone, and lengths are in centimetres: what another reader adds up or takes for
/// granted is what was meant.
#[test]
fn a_root_is_said_once_and_in_centimetres() {
    let mut scene = read(TWO_JOINTS).unwrap();
    let (written, ledger) = encode(&scene, Format::Bvh, Path::new("out.bvh"), &Saving::default()).unwrap();
    let text = String::from_utf8(written).unwrap();
    let offsets: Vec<&str> = text.lines().filter_map(|line| line.trim().strip_prefix("OFFSET ")).collect();
    assert_eq!(offsets, ["0 0 0", "0 40 0", "0 20 0"]);
    assert_eq!(
        samples(&read(&text).unwrap(), "hips", "translation").values,
        [1.0, 90.0, 2.0, 1.5, 91.0, 2.5]
    );
    assert!(ledger.notes.is_empty(), "{:?}", ledger.notes);
    // The same numbers, in metres and with z up.
    scene.space = Space { metres_per_unit: 1.0, up: UpAxis::Z, ..scene.space };
    let rows = |saving: &Saving<'_>| {
        let (bytes, ledger) = encode(&scene, Format::Bvh, Path::new("out.bvh"), saving).unwrap();
        let back = read(std::str::from_utf8(&bytes).unwrap()).unwrap();
        (samples(&back, "hips", "translation").row(0).to_vec(), ledger.notes.join("; "))
    };
    let (row, note) = rows(&Saving::default());
    assert_eq!(row, [100.0, 200.0, -9000.0]);
    assert!(note.contains("written in cm, y up"), "{note}");
    let (row, note) = rows(&Saving { keep_unit: true, keep_up: true, ..Saving::default() });
    assert_eq!(row, [1.0, 90.0, 2.0]);
    assert!(note.contains("its unit is m and z is up"), "{note}");
    let (row, _) = rows(&Saving { keep_unit: true, ..Saving::default() });
    assert_eq!(row, [1.0, 2.0, -90.0]);
    // Readers take it for right-handed.
    let mut left = read(TWO_JOINTS).unwrap();
    left.space.handedness = Handedness::Left;
    let (bytes, _) = encode(&left, Format::Bvh, Path::new("out.bvh"), &Saving::default()).unwrap();
    let back = read(std::str::from_utf8(&bytes).unwrap()).unwrap();
    assert_eq!(samples(&back, "hips", "translation").row(0), [1.0, 90.0, -2.0]);
}

#[test]
fn a_rig_without_motion_has_no_take() {
    let text =
        TWO_JOINTS.split("MOTION").next().unwrap().to_owned() + "MOTION\nFrames: 0\nFrame Time: 0.04\n";
    assert!(read(&text).unwrap().takes.is_empty());
}

/// Rows are written at the rate of the samples where these have one, whatever the scene counts in.
#[test]
fn rows_come_at_the_rate_of_the_samples() {
    let source = read(TWO_JOINTS).unwrap();
    let frame_time = |scene: &Scene| {
        let (written, _) = encode(scene, Format::Bvh, Path::new("out.bvh"), &Saving::default()).unwrap();
        let text = String::from_utf8(written).unwrap();
        let line = |start: &str| {
            let line = text.lines().find_map(|line| line.trim().strip_prefix(start)).unwrap();
            line.trim().parse::<f64>().unwrap()
        };
        (line("Frames:"), line("Frame Time:"))
    };
    assert_eq!(frame_time(&source).0, 2.0);
    assert!((frame_time(&source).1 - 1.0 / 120.0).abs() < 1e-6);
    let mut counted = source.clone();
    counted.rate = nimble_curve_core::time::FrameRate::FPS_24;
    let (count, step) = frame_time(&counted);
    assert!((step - 1.0 / 120.0).abs() < 1e-6 && count == 2.0, "{count} rows of {step} s");
}
