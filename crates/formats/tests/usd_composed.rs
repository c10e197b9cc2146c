//! USD layers that stand on others. The expected numbers are those of the standard's own library for these very files.

use std::path::Path;

use nimble_curve_core::curve::Side;
use nimble_curve_core::scene::Scene;
use nimble_curve_formats::{Assume, Loaded, read, read_bytes};

const HEAD: &str = "#usda 1.0\n(\n    defaultPrim = \"Otter\"\n    metersPerUnit = 0.01\n    upAxis = \"Y\"\n    timeCodesPerSecond = 24\n";

/// An asset with variants and a spline, an animation that overrides some of it, and a shot that brings both together.
fn files() -> [(&'static str, String); 3] {
    let asset = r#")
def Xform "Otter" (
    variants = { string coat = "summer" }
    prepend variantSets = "coat"
)
{
    double3 xformOp:translate = (0, 0, 0)
    uniform token[] xformOpOrder = ["xformOp:translate"]
    def Xform "Hips"
    {
        double3 xformOp:translate = (0, 90, 0)
        double xformOp:rotateX = 0
        double xformOp:rotateX.spline = {
            bezier,
            1: 0; post curve (1, 6),
            7: 30; pre (4, 0); post curve (2, 0),
        }
        double xformOp:rotateZ.spline = {
            bezier,
            1: 0; post linear,
            7: 30; post held,
        }
        uniform token[] xformOpOrder = ["xformOp:translate", "xformOp:rotateX", "xformOp:rotateZ"]
        def Mesh "Body"
        {
            point3f[] points = [(0, 0, 0)]
        }
    }
    variantSet "coat" = {
        "summer" {
            custom double userProperties:warmth = 1
        }
        "winter" {
            custom double userProperties:warmth = 5
            def Xform "Scarf"
            {
                double3 xformOp:translate = (0, 1, 0)
                uniform token[] xformOpOrder = ["xformOp:translate"]
            }
        }
    }
}
"#;
    let animation = r#"#usda 1.0
(
    timeCodesPerSecond = 24
)
over "World"
{
    over "bramble"
    {
        double3 xformOp:translate.timeSamples = { 1: (0, 0, 0), 11: (10, 0, 0) }
        over "Hips"
        {
            double3 xformOp:translate.timeSamples = { 1: (0, 90, 0), 11: (0, 95, 0) }
            double xformOp:rotateZ = 12
        }
    }
}
"#;
    let shot = r#"    subLayers = [ @./animation.usda@ (offset = 100) ]
)
def Xform "World"
{
    def "bramble" (
        prepend references = @./assets/otter.usda@ (offset = 50; scale = 2)
        variants = { string coat = "winter" }
    )
    {
    }
}
"#;
    [
        ("assets/otter.usda", format!("{HEAD}{asset}")),
        ("animation.usda", animation.to_owned()),
        ("shot.usda", format!("{HEAD}{shot}")),
    ]
}

fn put(at: &Path) {
    std::fs::create_dir_all(at.join("assets")).unwrap();
    for (name, text) in files() {
        std::fs::write(at.join(name), text).unwrap();
    }
}

fn value(scene: &Scene, node: &str, property: &str, component: usize, frame: f64) -> f64 {
    seen(scene, node, property, component, frame).unwrap()
}

/// The value from an instant on, if there is one.
fn seen(scene: &Scene, node: &str, property: &str, component: usize, frame: f64) -> Option<f64> {
    let (id, _) = scene.rigs[0].nodes().find(|(_, found)| found.name == node).unwrap();
    let found = scene.takes[0]
        .tracks()
        .find(|(_, track)| track.target.node == id && track.target.property == property);
    let curve = &found.unwrap_or_else(|| panic!("{node}:{property}")).1.controller.curves()[component];
    curve.value_on(scene.rate.ticks_at(frame).as_f64(), Side::Right)
}

#[test]
fn sublayers_references_and_variants_are_composed_with_their_times() {
    let folder = tempfile::tempdir().unwrap();
    put(folder.path());
    let Loaded { scene, notes, .. } = read(&folder.path().join("shot.usda"), Assume::default()).unwrap();
    let names: Vec<&str> = scene.rigs[0].nodes().map(|(_, node)| node.name.as_str()).collect();
    assert_eq!(names.len(), 5, "{names:?}");
    assert!(
        ["World", "bramble", "Hips", "Body", "Scarf"].iter().all(|name| names.contains(name)),
        "{names:?}"
    );
    assert_eq!(notes.len(), 1, "{notes:?}");
    assert!(notes[0].contains("composed with animation.usda, assets/otter.usda"), "{notes:?}");
    let (_, bramble) = scene.rigs[0].nodes().find(|(_, node)| node.name == "bramble").unwrap();
    let warmth = format!("{:?}", bramble.attribute("warmth").unwrap().kind);
    assert!(warmth.contains("default: 5.0"), "{warmth}");
    // The animation is a hundred frames later, the asset's own spline twice as slow from frame 50 on.
    for (frame, x, y, turn) in [
        (52.0, 0.0, 90.0, 0.0),
        (58.0, 0.0, 90.0, 24.080514751),
        (64.0, 0.0, 90.0, 30.0),
        (106.0, 5.0, 92.5, 30.0),
    ] {
        assert!((value(&scene, "bramble", "translation", 0, frame) - x).abs() < 1e-9, "{frame}");
        assert!((value(&scene, "Hips", "translation", 1, frame) - y).abs() < 1e-9, "{frame}");
        let found = value(&scene, "Hips", "rotation", 0, frame).to_degrees();
        assert!((found - turn).abs() < 1e-4, "{frame}: {found}");
    }
    // A default in a stronger layer stands over a spline in a weaker one.
    let (id, _) = scene.rigs[0].nodes().find(|(_, node)| node.name == "Hips").unwrap();
    let rest = scene.rigs[0].rest_value(id, "rotation").unwrap();
    assert!(format!("{rest:?}").contains("0.2094395102393195"), "{rest:?}");
    let hips = scene.takes[0]
        .tracks()
        .find(|(_, track)| track.target.node == id && track.target.property == "rotation");
    assert!(hips.unwrap().1.controller.curves()[2].is_empty());
}

#[test]
fn layers_elsewhere_are_named_and_followed_on_request_alone() {
    let folder = tempfile::tempdir().unwrap();
    put(folder.path());
    let shots = folder.path().join("shots");
    std::fs::create_dir(&shots).unwrap();
    let text = files()[2].1.replace("@./", "@../");
    std::fs::write(shots.join("shot.usda"), text).unwrap();
    let nodes = |assume: Assume| {
        let loaded = read(&shots.join("shot.usda"), assume).unwrap();
        (loaded.scene.rigs[0].len(), loaded.notes)
    };
    let (count, notes) = nodes(Assume::default());
    assert_eq!(count, 1, "{notes:?}");
    let refused = notes.iter().filter(|note| note.contains("lies outside its folder")).count();
    assert_eq!(refused, 2, "{notes:?}");
    let (count, notes) = nodes(Assume { files_anywhere: true, ..Assume::default() });
    assert_eq!(count, 5, "{notes:?}");
}

#[test]
fn what_is_missing_broken_or_a_circle_is_said_and_the_rest_is_read() {
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path();
    put(at);
    std::fs::write(at.join("broken.usda"), "#usda 1.0\ndef Xform \"a\" {").unwrap();
    std::fs::write(
        at.join("noise.usdc"),
        b"PXR-USDC\x00\x08\x00\x00\x00\x00\x00\x00\xff\xff\xff\xff\xff\xff\xff\x7f",
    )
    .unwrap();
    for (layer, word) in [
        ("gone.usda", "gone.usda"),
        ("broken.usda", "broken.usda"),
        ("noise.usdc", "noise.usdc"),
        ("shot.usda", "cycle"),
    ] {
        let text = files()[2].1.replace("def Xform \"World\"\n{", &format!("def Xform \"World\"\n{{\n    def Xform \"more\" ( prepend references = @./{layer}@</World> )\n    {{\n    }}\n"));
        std::fs::write(at.join("shot.usda"), text).unwrap();
        let loaded =
            read(&at.join("shot.usda"), Assume::default()).unwrap_or_else(|error| panic!("{layer}: {error}"));
        assert!(loaded.scene.rigs[0].len() >= 5, "{layer}: {:?}", loaded.notes);
        assert!(loaded.notes.iter().any(|note| note.contains(word)), "{layer}: {:?}", loaded.notes);
    }
    // Through a pipe there is nothing beside it.
    let loaded = read_bytes(files()[2].1.as_bytes(), Path::new("-"), Assume::default()).unwrap();
    assert!(loaded.notes.iter().any(|note| note.contains("are not followed")), "{:?}", loaded.notes);
}

/// A layer over an asset says only how it moves; what the asset alone has stays, whatever its unit.
#[test]
fn a_layer_over_an_asset_moves_it_and_keeps_all_else() {
    use nimble_curve_core::space::UpAxis;
    use nimble_curve_formats::{Format, Saving, write};
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path();
    std::fs::create_dir(at.join("assets")).unwrap();
    let source = crate::common::scene("cart.ncurve");
    let plain = Saving { without_extra: true, ..Saving::default() };
    let metres = nimble_curve_core::space::Space { metres_per_unit: 1.0, ..source.space };
    let (asset, _) = nimble_curve_core::ops::space::in_space(&source, &metres);
    write(&asset, &at.join("assets/cart.usda"), &plain).unwrap();
    let text = std::fs::read_to_string(at.join("assets/cart.usda")).unwrap();
    let mesh = "def Xform \"bed\"\n    {\n        def Mesh \"planks\"\n        {\n            point3f[] points = [(0, 0, 0)]\n        }\n";
    let text = text.replacen("def Xform \"bed\"\n    {\n", mesh, 1);
    assert!(text.contains("planks"));
    std::fs::write(at.join("assets/cart.usda"), text).unwrap();
    // Another motion: only the vane turns, twice as far.
    let mut moved = source.clone();
    let is_vane = |id| source.rigs[0].node(id).is_some_and(|node| node.name == "vane");
    for layer in &mut moved.takes[0].layers {
        layer.tracks.retain(|track| is_vane(track.target.node));
    }
    assert_eq!(moved.takes[0].tracks().count(), 1);
    let path = at.join("assets/cart.usda");
    for (name, form) in [("shot.usda", Format::Usda), ("shot.usdc", Format::Usdc)] {
        let saving = Saving { over: Some(&path), ..plain };
        write(&moved, &at.join(name), &saving).unwrap();
        let bytes = std::fs::read(at.join(name)).unwrap();
        if form == Format::Usda {
            let text = String::from_utf8(bytes).unwrap();
            assert!(
                text.contains("@./assets/cart.usda@") && !text.contains("def ") && !text.contains("planks"),
                "{text}"
            );
        }
        let back = read(&at.join(name), Assume::default()).unwrap().scene;
        assert_eq!((back.space.metres_per_unit, back.space.up), (1.0, UpAxis::Y), "{name}");
        assert!(back.rigs[0].nodes().any(|(_, node)| node.name == "planks"), "{name}");
        let frames: Vec<f64> = (1..96).map(|frame| source.rate.ticks(frame).as_f64()).collect();
        let (here, there) =
            (crate::common::motion(&moved, "quay", &frames), crate::common::motion(&back, "quay", &frames));
        // The asset rolls; what the layer stands for does not, and its vane alone turns.
        for (a, b) in here.iter().zip(&there) {
            for node in ["cart", "wheel_fl", "vane_end"] {
                let (place, found) = (a[node].0, b[node].0);
                assert!((place - found).length() < 1e-9, "{name} {node}: {place} {found}");
            }
        }
    }
    // What is not in the asset is told, and nothing is written.
    let otter = crate::common::scene("bramble.ncurve");
    let refused = write(&otter, &at.join("never.usda"), &Saving { over: Some(&path), ..plain })
        .unwrap_err()
        .to_string();
    assert!(
        refused.contains("nodes that move are not in the asset") && !at.join("never.usda").exists(),
        "{refused}"
    );
}

/// A layer over an asset with a skeleton gives that another animation, of the joints that are in both.
#[test]
fn a_layer_over_a_skeleton_moves_its_joints_and_weights() {
    use nimble_curve_core::scene::Scene;
    use nimble_curve_formats::{Saving, write};
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path();
    let otter = crate::common::scene("bramble.ncurve");
    let plain = Saving { without_extra: true, ..Saving::default() };
    let asset = at.join("otter.usdc");
    write(&otter, &asset, &Saving { skeletons: true, ..plain }).unwrap();
    // The same rig, moved another way.
    let mut moved: Scene = otter.clone();
    for layer in &mut moved.takes[0].layers {
        layer.tracks.retain(|track| {
            let node = otter.rigs[0].node(track.target.node).unwrap();
            !node.name.ends_with("arm_l") && !node.name.ends_with("hips")
        });
    }
    // A rig that lacks a joint of the skeleton: what is between rests there.
    let id = |name: &str| otter.rigs[0].nodes().find(|(_, node)| node.name.ends_with(name)).unwrap().0;
    let keep = otter.rigs[0].nodes().map(|(id, _)| (0, id)).filter(|node| node.1 != id("spine_01")).collect();
    let thin =
        nimble_curve_core::ops::nodes::thin(&moved, &keep, nimble_curve_core::ops::Tolerance::default());
    let thin = thin.unwrap().scene;
    for (name, moved) in [("shot.usda", &moved), ("shot.usdc", &moved), ("thin.usda", &thin)] {
        write(moved, &at.join(name), &Saving { over: Some(&asset), ..plain }).unwrap();
        let back = read(&at.join(name), Assume::default()).unwrap().scene;
        let frames: Vec<f64> = (1..84).map(|frame| otter.rate.ticks(frame).as_f64()).collect();
        let take = &back.takes[0].name.clone();
        let (here, there) =
            (crate::common::motion(moved, "greet", &frames), crate::common::motion(&back, take, &frames));
        let mut compared = 0;
        for (a, b) in here.iter().zip(&there) {
            for (node, (place, turn)) in a {
                let Some((found, found_turn)) = b.get(&node.replace(':', "_")) else { continue };
                assert!((*place - *found).length() < 2e-4, "{name} {node}: {place} {found}");
                assert!(turn.angle_between(*found_turn) < 2e-3, "{name} {node}");
                compared += 1;
            }
        }
        assert!(compared > 30 * frames.len(), "{compared}");
        let has = |property: &str| back.takes[0].tracks().any(|(_, track)| track.target.property == property);
        assert!(has("whiskers") && has("blink"), "{name}");
    }
    let text = std::fs::read_to_string(at.join("shot.usda")).unwrap();
    assert!(text.contains("@./otter.usdc@") && !text.contains("restTransforms"), "{text}");
}

/// A lamp that the standard's own library wrote as text and as binary: splines of doubles, floats and halves, Hermite and
/// Bezier, with two values, gaps, slopes and loops outside, tangents by a rule and data of knots.
const LIBRARY: [(&str, &[u8]); 2] = [
    ("lamp.usda", include_bytes!("files/library.usda")),
    ("lamp.usdc", include_bytes!("files/library.usdc")),
];

#[test]
fn splines_of_binary_layers_are_those_of_the_text_alone_and_composed() {
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path();
    let mut read_back = Vec::new();
    for (name, bytes) in LIBRARY {
        std::fs::write(at.join(name), bytes).unwrap();
        let shot = format!(
            "#usda 1.0\n(\n    timeCodesPerSecond = 24\n)\ndef \"a\" ( prepend references = @./{name}@</lamp> (offset = 10; scale = 2) )\n{{\n}}\n"
        );
        std::fs::write(at.join("shot.usda"), shot).unwrap();
        for file in [name, "shot.usda"] {
            let loaded = read(&at.join(file), Assume::default()).unwrap();
            assert!(loaded.notes.iter().any(|note| note.contains("follow a rule: 1")), "{:?}", loaded.notes);
            assert!(loaded.notes.iter().any(|note| note.contains("data of their own")), "{:?}", loaded.notes);
            // A tangent that arrives where nothing is curved is not in the text: what counts is what is seen.
            let node = loaded.scene.rigs[0].nodes().next().unwrap().1.name.clone();
            let seen = (-40..400).flat_map(|quarter| {
                let channels = ["a", "b", "c", "translation"];
                channels.map(|channel| seen(&loaded.scene, &node, channel, 0, f64::from(quarter) / 4.0))
            });
            let seen: Vec<Option<f64>> = seen.collect();
            let keys: usize =
                loaded.scene.takes[0].tracks().map(|(_, track)| track.controller.key_count()).sum();
            assert!(
                keys >= 12 && seen.contains(&None) && seen.iter().flatten().count() > 1000,
                "{file}: {keys}"
            );
            read_back.push((seen, keys));
        }
        // In the layer's own time and in that of the shot: 1 is 12.
        let shot = read(&at.join("shot.usda"), Assume::default()).unwrap().scene;
        assert!((value(&shot, "a", "b", 0, 12.0) - 10.25).abs() < 1e-6);
        assert!((value(&shot, "a", "translation", 0, 32.0) - 10.0).abs() < 1e-12);
    }
    assert_eq!(read_back[0], read_back[2]);
    assert_eq!(read_back[1], read_back[3]);
}

/// Whatever is done to the bytes, a layer is read or it is an error; and a spline of a kind that is not known is one.
#[test]
fn damaged_splines_are_errors_and_never_more() {
    let bytes = LIBRARY[1].1;
    let mut refused = 0;
    for at in 0..bytes.len() {
        for with in [0, 0x13, 0x7f, 0xff] {
            let mut damaged = bytes.to_vec();
            damaged[at] = with;
            refused += usize::from(read_bytes(&damaged, Path::new("x.usdc"), Assume::default()).is_err());
        }
    }
    assert!(refused > bytes.len(), "{refused} of {}", 4 * bytes.len());
    let head = bytes.windows(2).position(|pair| pair == [0x12, 0x09]).unwrap();
    let mut newer = bytes.to_vec();
    newer[head] = 0x13;
    let said = read_bytes(&newer, Path::new("x.usdc"), Assume::default()).unwrap_err().to_string();
    assert!(said.contains("version 3, which is not known") && said.contains("/lamp.a"), "{said}");
}

/// Clips of values are another way to move a prim, which is not read: that is told.
#[test]
fn value_clips_are_told() {
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path();
    std::fs::write(at.join("empty.usda"), "#usda 1.0\n").unwrap();
    let text = "#usda 1.0\n(\n    subLayers = [ @./empty.usda@ ]\n)\ndef Xform \"a\" (\n    clips = {\n        dictionary default = {\n            string primPath = \"/x\"\n            asset[] assetPaths = [@./x.usda@]\n        }\n    }\n)\n{\n}\n";
    std::fs::write(at.join("shot.usda"), text).unwrap();
    for (name, text) in
        [("shot.usda", text.to_owned()), ("-", text.replace("subLayers = [ @./empty.usda@ ]", ""))]
    {
        let loaded = match name {
            "-" => read_bytes(text.as_bytes(), Path::new("-"), Assume::default()),
            name => read(&at.join(name), Assume::default()),
        };
        let notes = loaded.unwrap().notes;
        assert!(notes.iter().any(|note| note.contains("value clips are not read")), "{name}: {notes:?}");
    }
}
