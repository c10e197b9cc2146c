//! What is read back of a file is judged, whatever the file need not hold.

use std::path::Path;

use glam::DVec3;
use nimble_curve_core::controller::{Controller, EulerCurves};
use nimble_curve_core::curve::{Curve, Key, Ticks};
use nimble_curve_core::judge::{Limits, judge};
use nimble_curve_core::rig::{Node, NodeId, NodeKind, Rig};
use nimble_curve_core::rotation::RotationOrder;
use nimble_curve_core::scene::{Layer, LayerMode, Scene, Take, Target, Track};
use nimble_curve_core::space::Space;
use nimble_curve_core::time::{FrameRate, TimeRange};
use nimble_curve_formats::{Format, Saving, encoded};

/// A node that turns by so much over a second.
fn turning(node: NodeId, degrees: f64) -> Track {
    let key = |frame, value| Key::new(FrameRate::FPS_24.ticks(frame), value);
    let x = Curve::new(vec![key(0, 0.0), key(24, degrees.to_radians())]).unwrap();
    let curves = EulerCurves { order: RotationOrder::Xyz, curves: [x, Curve::default(), Curve::default()] };
    Track {
        target: Target { rig: 0, node, property: "rotation".into() },
        controller: Controller::Euler(curves),
    }
}

#[test]
fn a_muted_layer_excuses_no_other_motion() {
    let mut rig = Rig::new("bramble");
    let node = |name: &str| Node::new(name, NodeKind::Joint, DVec3::Y, RotationOrder::Xyz);
    let hips = rig.add(None, node("hips")).unwrap();
    let arm = rig.add(Some(hips), node("arm")).unwrap();
    let scene = |arm_turns: f64, is_muted: bool| {
        let muted = Layer {
            name: "wave".into(),
            muted: is_muted,
            mode: LayerMode::Additive,
            ..Layer::base(vec![turning(arm, 40.0), turning(hips, 30.0)])
        };
        let range = TimeRange::new(Ticks::ZERO, FrameRate::FPS_24.ticks(24));
        let layers = vec![Layer::base(vec![turning(arm, arm_turns)]), muted];
        let take = Take {
            name: "reach".into(),
            folder: None,
            range,
            clips: Vec::new(),
            markers: Vec::new(),
            layers,
        };
        Scene {
            rate: FrameRate::FPS_24,
            space: Space::METRES_Y_UP,
            rigs: vec![rig.clone()],
            sets: Vec::new(),
            constraints: Vec::new(),
            takes: vec![take],
        }
    };
    let source = scene(10.0, true);
    for format in
        [Format::Glb, Format::Gltf, Format::Usda, Format::Usdc, Format::Collada, Format::Bvh, Format::Csv]
    {
        let off = |written: &Scene, who: &str| {
            let path = Path::new("x");
            let mut made = encoded(&source, format, path, &Saving::default()).unwrap();
            // What another scene became, as if the writer had made a mistake.
            made.bytes = encoded(written, format, path, &Saving::default()).unwrap().bytes;
            let back = made.read_back(&source, path).unwrap();
            let verdict = judge(&source, &back.scene, &back.claim, Limits::NONE, back.precision);
            let own = verdict.judged.iter().filter(|judged| judged.channel.starts_with(who));
            own.map(|judged| judged.error.largest.to_degrees()).fold(0.0, f64::max)
        };
        assert!(off(&source, "") < 0.06, "{format:?}: {}", off(&source, ""));
        // The base turns otherwise; the muted layer is played all the same.
        assert!((off(&scene(15.0, true), "arm") - 5.0).abs() < 0.1, "{format:?}");
        assert!((off(&scene(10.0, false), "hips") - 30.0).abs() < 0.1, "{format:?}");
    }
}
