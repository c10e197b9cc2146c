//! CSV: keys and samples as rows, and back.

use std::path::Path;

use nimble_curve_core::controller::Controller;
use nimble_curve_core::curve::{Curve, Interpolation};
use nimble_curve_core::scene::Scene;
use nimble_curve_core::time::FrameRate;
use nimble_curve_formats::table::TableTimes;
use nimble_curve_formats::{Assume, Format, Saving, encode, read_bytes};

use crate::common::{scene, through};

fn controller<'a>(scene: &'a Scene, node: &str, property: &str) -> &'a Controller {
    let (id, _) = scene.rigs[0].nodes().find(|(_, found)| found.name == node).unwrap();
    let on_it = |track: &nimble_curve_core::scene::Track| {
        track.target.node == id && track.target.property == property
    };
    &scene.takes[0].tracks().find(|(_, track)| on_it(track)).unwrap().1.controller
}

#[test]
fn keys_come_back_with_their_tangents_orders_and_loops() {
    let source = scene("cart.ncurve");
    let back = through(&source, Format::Csv, false);
    assert_eq!((back.rate, back.space), (source.rate, source.space));
    for (node, property) in
        [("cart", "translation"), ("wheel_fl", "rotation"), ("bed", "rotation"), ("vane", "rotation")]
    {
        let (then, now): (&[Curve], &[Curve]) =
            (controller(&source, node, property).curves(), controller(&back, node, property).curves());
        for (a, b) in then.iter().zip(now) {
            assert_eq!((a.before, a.after, a.keys().len()), (b.before, b.after, b.keys().len()), "{node}");
            for (a, b) in a.keys().iter().zip(b.keys()) {
                assert_eq!((a.time, a.value, a.interpolation), (b.time, b.value, b.interpolation), "{node}");
                assert_eq!((a.tangent_in.mode, a.tangent_out.mode), (b.tangent_in.mode, b.tangent_out.mode));
            }
        }
    }
    let (Controller::Euler(a), Controller::Euler(b)) =
        (controller(&source, "vane", "rotation"), controller(&back, "vane", "rotation"))
    else {
        panic!()
    };
    assert_eq!(a.order, b.order);
}

#[test]
fn samples_come_back_bit_for_bit() {
    let source = scene("bramble_wade.bvh");
    let back = through(&source, Format::Csv, false);
    for (node, property) in [("hips", "translation"), ("hips", "rotation"), ("tail_03", "rotation")] {
        assert_eq!(
            controller(&source, node, property),
            controller(&back, node, property),
            "{node}:{property}"
        );
    }
}

fn read(text: &str) -> Result<Scene, String> {
    let loaded = read_bytes(text.as_bytes(), Path::new("clip.csv"), Assume::default());
    loaded.map(|loaded| loaded.scene).map_err(|error| error.to_string())
}

#[test]
fn a_table_by_hand_needs_three_columns() {
    let scene =
        read("channel,frame,value,interpolation\nface:smile,0,0,linear\nface:smile,12,0.5,linear\n").unwrap();
    let Controller::Components(curves) = controller(&scene, "face", "smile") else { panic!() };
    let keys = curves[0].keys();
    assert_eq!((keys[1].time, keys[1].value), (FrameRate::FPS_24.ticks(12), 0.5));
    assert_eq!(keys[0].interpolation, Interpolation::Linear);
    assert_eq!(scene.takes[0].name, "clip");
}

#[test]
fn wrong_cells_are_named_with_their_line() {
    for (text, expected) in [
        ("channel,frame\na:b,1\n", "clip.csv:1: the table has no column of numbers"),
        ("channel,value\na:b,1\n", "no column of times: frame, seconds, milliseconds or timecode"),
        ("frame,value\n1,2\n", "no column 'channel'"),
        ("channel,frame,value\na:b,1,two\n", "clip.csv:2: 'two' is not a finite number"),
        ("channel,frame,value\nab,1,2\n", "clip.csv:2: 'ab' is not a channel: write NODE:ATTRIBUTE"),
        (
            "channel,frame,value\na:b,2,2\na:b,1,2\n",
            "clip.csv:3: the key is not later than the one before it",
        ),
        ("channel,frame,value,interpolation\na:b,2,2,wavy\n", "clip.csv:2: 'wavy' is no interpolation"),
        ("channel,frame,value\na:b,1e300,2\n", "36 days"),
        ("# rate=zero\nchannel,frame,value\n", "clip.csv:1: 'rate=zero' cannot be read"),
    ] {
        let message = read(text).expect_err(expected);
        assert!(message.contains(expected) && !message.contains('\n'), "{message}");
    }
}

fn notes(text: &str) -> (Scene, String) {
    let loaded = read_bytes(text.as_bytes(), Path::new("face.csv"), Assume::default()).unwrap();
    (loaded.scene, loaded.notes.join("; "))
}

/// A device's table: times as it says them, a number for each row.
fn device(column: &str, times: impl Iterator<Item = String>) -> String {
    let rows = times.enumerate().map(|(row, time)| format!("{time},{}\n", row as f64 * 0.125));
    format!("{column},JawOpen\n{}", rows.collect::<String>())
}

#[test]
fn times_are_frames_seconds_or_time_code_by_the_name_of_their_column() {
    let rate = |num, den| FrameRate::new(num, den).unwrap();
    let code = |frame: i64, base: i64| {
        let seconds = frame / base;
        format!("{:02}:{:02}:{:02}:{:02}", seconds / 3600, seconds / 60 % 60, seconds % 60, frame % base)
    };
    let seconds = |fps: f64| (30..90).map(move |frame| format!("{:.4}", f64::from(frame) / fps));
    let milliseconds = (30..90).map(|frame| format!("{}", f64::from(frame) * 20.0));
    for (text, expected, first) in [
        (device("frame", (30..90).map(|frame| frame.to_string())), rate(24, 1), 30),
        (device("Frame Number", (30..90).map(|frame| frame.to_string())), rate(24, 1), 30),
        (device("seconds", seconds(30.0)), rate(30, 1), 30),
        (device("Time (s)", seconds(60.0)), rate(60, 1), 30),
        (device("time_ms", milliseconds), rate(50, 1), 30),
        (device("timecode", (30..90).map(|frame| code(frame, 25))), rate(25, 1), 30),
        (device("SMPTE", (86_390..86_450).map(|frame| code(frame, 24))), rate(24, 1), 86_390),
        // What is called time is time code where it looks like it.
        (device("Time", (30..90).map(|frame| code(frame, 30))), rate(30, 1), 30),
        (
            device(
                "timecode",
                (1790..1850).map(|frame| {
                    let shown = frame + if frame >= 1800 { 2 } else { 0 };
                    code(shown, 30).replacen(':', ";", 3).replacen(';', ":", 2)
                }),
            ),
            rate(30_000, 1001),
            1790,
        ),
        // Two rows share a time code, and the first one's other row is missing.
        (device("timecode", (61..121).map(|row| code(row / 2, 30))), rate(60, 1), 61),
    ] {
        let (scene, said) = notes(&text);
        let head: String = text.chars().take(60).collect();
        assert_eq!(scene.rate, expected, "{head}: {said}");
        let Controller::Samples(samples) = controller(&scene, "face", "JawOpen") else { panic!("{head}") };
        assert_eq!((samples.start, samples.len()), (expected.ticks(first), 60), "{head}: {said}");
    }
}

#[test]
fn a_day_ends_at_midnight_and_the_next_one_goes_on() {
    let codes = ["23:59:59:22", "23:59:59:23", "00:00:00:00", "00:00:00:01"].map(str::to_owned);
    let (scene, _) = notes(&device("timecode", codes.into_iter()));
    let day = 86_400 * 24;
    let range = scene.takes[0].range;
    assert_eq!((range.first, range.last), (scene.rate.ticks(day - 2), scene.rate.ticks(day + 1)));
}

#[test]
fn times_that_are_none_are_named() {
    for (text, expected) in [
        (
            device("timecode", ["1:2", "1:3"].map(str::to_owned).into_iter()),
            "face.csv:2: '1:2' is no time code",
        ),
        (
            device("timecode", ["00:01:00;01", "00:01:00;02"].map(str::to_owned).into_iter()),
            "face.csv:2: there is no time code '00:01:00;01'",
        ),
        (
            device(
                "timecode",
                ["0:0:0:1", "0:0:0:1", "0:0:0:2", "0:0:0:3", "0:0:0:3"].map(str::to_owned).into_iter(),
            ),
            "face.csv:4: 1 rows have the time code '0:0:0:2', others 2",
        ),
        (
            device("timecode", ["0:0:0:0", "0:0:0:0"].map(str::to_owned).into_iter()),
            "its time code does not run",
        ),
        (device("seconds", ["0", "0"].map(str::to_owned).into_iter()), "face.csv:3: its time is not later"),
        ("frame,a\n1,2\n2,three\n".to_owned(), "face.csv:3: 'three' is not a finite number"),
        ("frame,a\n1,inf\n".to_owned(), "face.csv:2: 'inf' is not a finite number"),
        ("frame,a,a\n1,2,3\n".to_owned(), "the column 'a' is there twice"),
        ("frame,a\n1\n".to_owned(), "face.csv:2: the row has 1 cells, the table 2 columns"),
    ] {
        let said = read_bytes(text.as_bytes(), Path::new("face.csv"), Assume::default())
            .expect_err(expected)
            .to_string();
        assert!(said.contains(expected) && !said.contains('\n'), "{said}");
    }
}

#[test]
fn what_a_device_writes_besides_is_read_or_said() {
    let (scene, said) = notes(
        "Timecode;Frame;Device;lens:translation.x (mm);lens:rotation.y (deg zxy);lens:rotation.x (deg zxy);Pos (Raw)\n\
         00:00:00:00;7;Arm A;1000,5;90;10;\n\
         00:00:00:00;8;Arm A;1001,5;91;11;2,5\n\
         00:00:00:00;10;Arm A;1002,5;92;12;3\n",
    );
    // Its time code stands still: nothing synchronised it.
    for part in [
        "times are those of 'Frame'",
        "left aside: Timecode",
        "without numbers are left aside: Device",
        "1 cell is empty",
        "1 row is missing",
        "numbers of 'face'",
    ] {
        assert!(said.contains(part), "{part}: {said}");
    }
    let Controller::Components(curves) = controller(&scene, "lens", "translation") else { panic!() };
    for (key, value) in curves[0].keys().iter().zip([100.05, 100.15, 100.25]) {
        assert!((key.value - value).abs() < 1e-12, "{key:?}");
    }
    let Controller::Euler(euler) = controller(&scene, "lens", "rotation") else { panic!() };
    assert_eq!(euler.order.to_string(), "zxy");
    assert!((euler.curves[1].keys()[0].value.to_degrees() - 90.0).abs() < 1e-12);
    assert!(euler.curves[2].is_empty());
    let Controller::Components(curves) = controller(&scene, "face", "Pos (Raw)") else { panic!() };
    assert_eq!(curves[0].keys().len(), 2);
    assert_eq!(scene.rate.frame(curves[0].keys()[0].time), 8.0);
}

/// Whatever times are written as, they come back to the tick, also between frames.
#[test]
fn every_way_to_write_times_comes_home() {
    for (num, den) in [(24, 1), (25, 1), (30_000, 1001), (60_000, 1001)] {
        let mut source = scene("cart.ncurve");
        source.rate = FrameRate::new(num, den).unwrap();
        for times in [TableTimes::Frames, TableTimes::Seconds, TableTimes::TimeCode, TableTimes::DropFrame] {
            let saving = Saving { times, ..Saving::default() };
            let made = encode(&source, Format::Csv, Path::new("x.csv"), &saving);
            if times == TableTimes::DropFrame && den == 1 {
                let said = made.unwrap_err().to_string();
                assert!(said.contains("drop-frame time code is for 29.97 and 59.94"), "{said}");
                continue;
            }
            let back = read_bytes(&made.unwrap().0, Path::new("x.csv"), Assume::default()).unwrap().scene;
            let keys = |scene: &Scene, node: &str| -> Vec<_> {
                let curves = controller(scene, node, "rotation").curves();
                curves.iter().flat_map(|curve| curve.keys().iter().map(|key| (key.time, key.value))).collect()
            };
            let (then, now) = (keys(&source, "vane"), keys(&back, "vane"));
            assert!(
                (num == 24 || then.iter().any(|(time, _)| source.rate.frame(*time).fract() != 0.0))
                    && then == now,
                "{times:?} at {num}/{den}"
            );
        }
    }
}
