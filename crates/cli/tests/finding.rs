//! `rig find`: what drives what, out of files that do not say it. What a sheet is worth is measured by the second evaluator.

use std::fs;
use std::path::Path;

use nimble_curve_second::scene::{Scene, Solved};
use serde_json::Value;
use tempfile::tempdir;

use crate::common::{fail, sample, succeed};

/// The dock crane with samples on joints and controls, as `shown.ncurve`.
fn shown(at: &Path) {
    let crane = sample("crane.ncurve").display().to_string();
    succeed(at, &["rig", "solve", &crane, "-o", "shown.ncurve", "--sampled", "--keep-controls"]);
}

fn json(text: &str) -> Value {
    serde_json::from_str(text).unwrap()
}

#[test]
fn a_sheet_that_was_found_drives_the_joints_as_they_move() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    shown(at);
    let find = ["rig", "find", "shown.ncurve", "-o", "found.toml", "--with-unsure"];
    let said = succeed(at, &find);
    for part in ["4 constraints found on 96 frames, 3 sure", "hook_ctrl, pole elbow_ctrl", "0.5 of hook"] {
        assert!(said.contains(part), "{part}: {said}");
    }
    assert!(said.contains("drum moves by nothing that was found"), "{said}");
    let sheet = fs::read_to_string(at.join("found.toml")).unwrap();
    assert_eq!(sheet.matches("# off by 0.0").count(), 4, "{sheet}");
    assert!(sheet.contains("# not sure: explained as well by its own keys"), "{sheet}");
    assert!(fail(at, &find).contains("--replace"));
    succeed(at, &[&find[..], &["--replace"]].concat());
    // Joints alone, put onto controls by the sheet, move as the crane's own constraints move them.
    let crane = sample("crane.ncurve").display().to_string();
    succeed(at, &["rig", "solve", &crane, "-o", "joints.ncurve"]);
    succeed(
        at,
        &[
            "rig",
            "match",
            "joints.ncurve",
            "--sheet",
            "found.toml",
            "--keys",
            "bounded",
            "-o",
            "keyed.ncurve",
        ],
    );
    let read = |path: &Path| Scene::read(&fs::read_to_string(path).unwrap());
    let (truth, keyed) = (read(&sample("crane.ncurve")), read(&at.join("keyed.ncurve")));
    assert_eq!(keyed.constraints.len(), 4);
    let mut worst = 0.0_f64;
    for frame in 1..=96 {
        let [truth_at, keyed_at] =
            [&truth, &keyed].map(|scene| Solved::new(scene, Some((0, f64::from(frame)))));
        for joint in ["cab", "boom", "jib", "hook", "cable", "lamp"] {
            let place = |scene: &Scene, at: &Solved<'_>| at.placed(scene.find(joint)).world.translation;
            worst = worst.max((place(&truth, &truth_at) - place(&keyed, &keyed_at)).length());
        }
    }
    // A centimetre is a unit; both ways are bounded by half a millimetre.
    assert!(worst <= 0.15, "{worst} cm");
}

#[test]
fn controls_of_other_formats_are_named() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    shown(at);
    let convert = ["convert", "shown.ncurve", "shown.glb", "--without-extra", "--keep-start"];
    succeed(at, &[&convert[..], &["--tolerance", "0.001deg,0.001mm"]].concat());
    let find = ["rig", "find", "shown.glb", "--rate", "24"];
    let said = fail(at, &find);
    assert!(said.contains("known to be a control") && said.contains("--controls"), "{said}");
    let found = json(&succeed(at, &[&find[..], &["--controls", "*_ctrl", "--json"]].concat()));
    assert_eq!(found["frames"], 96);
    let sure = |driven: &str| {
        let list = found["found"].as_array().unwrap();
        list.iter().any(|own| own["driven"][0] == driven && own["sure"] == true)
    };
    assert!(["cab", "boom", "lamp"].into_iter().all(sure), "{found}");
    assert_eq!(found["unexplained"], serde_json::json!(["drum"]));
    let said = fail(at, &[&find[..], &["--controls", "*_ctl"]].concat());
    assert!(said.contains("no node matches '*_ctl'"), "{said}");
}

#[test]
fn what_is_not_sure_is_on_the_sheet_only_where_that_is_asked() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    shown(at);
    // A second control that stands on the first one and moves with it: either may be what the cab goes with.
    let mut file = json(&fs::read_to_string(at.join("shown.ncurve")).unwrap());
    let nodes = file["rigs"][0]["nodes"].as_array_mut().unwrap();
    nodes.push(serde_json::json!({ "name": "cab_tweak", "kind": "control", "parent": "cab_ctrl" }));
    fs::write(at.join("two.ncurve"), file.to_string()).unwrap();
    let said = succeed(at, &["rig", "find", "two.ncurve", "-o", "sure.toml"]);
    assert!(
        said.contains("not sure") && said.contains("cab_tweak") && said.contains("--with-unsure"),
        "{said}"
    );
    succeed(at, &["rig", "find", "two.ncurve", "-o", "all.toml", "--with-unsure"]);
    let text = |name: &str| fs::read_to_string(at.join(name)).unwrap();
    assert!(!text("sure.toml").contains("node = \"cab\"\n"));
    assert!(text("all.toml").contains("# not sure: explained as well by cab_tweak"));
    // A file that says what drives what, and one in which nothing drives anything.
    let crane = sample("crane.ncurve").display().to_string();
    assert!(fail(at, &["rig", "find", &crane]).contains("rig sheet"));
    let bramble = sample("bramble.ncurve").display().to_string();
    let said = succeed(at, &["rig", "find", &bramble, "--controls", "*hips", "-o", "nothing.toml"]);
    assert!(said.contains("no sheet was written: nothing was found"), "{said}");
    assert!(!at.join("nothing.toml").exists());
}
