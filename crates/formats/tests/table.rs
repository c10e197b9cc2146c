//! CSV: keys and samples as rows, and back.

use std::path::Path;

use nimble_curve_core::controller::Controller;
use nimble_curve_core::curve::{Curve, Interpolation};
use nimble_curve_core::scene::Scene;
use nimble_curve_core::time::FrameRate;
use nimble_curve_formats::{Assume, Format, read_bytes};

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
        ("channel,frame\na:b,1\n", "'a:b' is not a finite number"),
        ("channel,value\na:b,1\n", "no column 'frame'"),
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
