//! `check` through the program: the clean files of the scenario, the faulty one, levels and exit codes.

use std::fs;

use serde_json::Value;
use tempfile::tempdir;

use crate::common::{fail, run, sample, succeed};

/// Code and place of each finding.
fn findings(arguments: &[&str]) -> Vec<(String, String)> {
    let folder = tempdir().unwrap();
    let mut all = vec!["check", "--json"];
    all.extend(arguments);
    let files: Value = serde_json::from_str(&succeed(folder.path(), &all)).unwrap();
    let text = |value: &Value| value.as_str().unwrap().to_owned();
    let of_file = |file: &Value| file["findings"].as_array().unwrap().clone();
    let found = files.as_array().unwrap().iter().flat_map(of_file);
    found.map(|finding| (text(&finding["code"]), text(&finding["place"]))).collect()
}

fn codes(arguments: &[&str]) -> Vec<String> {
    let mut codes: Vec<String> = findings(arguments).into_iter().map(|(code, _)| code).collect();
    codes.dedup();
    codes
}

#[test]
fn clean_files_of_the_scenario_have_no_finding_and_others_what_they_were_made_with() {
    let path = |name: &str| sample(name).to_str().unwrap().to_owned();
    assert!(codes(&[&path("stilt.ncurve")]).is_empty());
    // The vane goes over the pole on purpose.
    assert_eq!(
        findings(&[&path("cart.ncurve")]),
        [("near-gimbal-lock".to_owned(), "vane:rotation".to_owned())]
    );
    // A capture is baked, its hips are the top, and it starts and ends standing.
    assert_eq!(
        codes(&[&path("bramble_wade.bvh"), "--unit", "cm"]),
        ["baked", "near-gimbal-lock", "no-root", "nearly-loops"]
    );
    // In metres the otter is as tall as a church.
    assert!(codes(&[&path("bramble_wade.bvh"), "--unit", "m"]).contains(&"unit-scale".to_owned()));
}

#[test]
fn every_fault_of_the_faulty_file_is_found_at_its_place() {
    let file = sample("faulty.ncurve");
    let found = findings(&[file.to_str().unwrap()]);
    let expected = [
        ("flip", "courier:arm_r:rotation"),
        ("negative-scale", "courier:lantern"),
        ("keys-outside-range", "courier:hand_r:rotation"),
        ("empty-take", "blank"),
        ("clip-outside-take", "turn_in"),
        ("uneven-parts", "parcel"),
        ("crowded-keys", "courier:head:rotation"),
        ("long-way", "courier:neck:rotation"),
        ("sliding-foot", "courier:foot_l"),
        ("sliding-foot", "courier:foot_r"),
        ("silent-layer", "old pass"),
        ("beyond-limits", "courier:head:smile"),
        ("locked-moves", "courier:chest:translation"),
        ("uneven-scale", "courier:spine_01:scale"),
        ("rest-scale", "courier:satchel"),
        ("same-name", "bramble/courier:hips/courier:spine_01/courier:spine_02/courier:chest/courier:strap"),
        ("leftover-name", "old:buckle"),
        ("range-past-keys", "stop"),
        ("off-frame-keys", "courier:head:rotation"),
        ("baked", "courier:tail_01:rotation"),
        ("still-channel", "courier:tail_02:rotation"),
        ("near-gimbal-lock", "courier:shoulder_l:rotation"),
        ("no-root", "courier:hips"),
        ("locator-moves", "courier:head_end:rotation"),
        ("partial-weight", "second pass"),
        ("nearly-loops", "sway"),
    ];
    let expected: Vec<(String, String)> =
        expected.iter().map(|(code, place)| ((*code).to_owned(), (*place).to_owned())).collect();
    assert_eq!(found, expected);
}

#[test]
fn the_remedies_that_are_commands_cure_what_they_are_for() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let file = sample("faulty.ncurve");
    let file = file.to_str().unwrap();
    let codes_of = |name: &str| codes(&[at.join(name).to_str().unwrap()]);
    for (cured, command) in [
        ("flip", vec!["reorder", file, "--unwind", "-o", "out.ncurve"]),
        ("keys-outside-range", vec!["clips", "trim", file, "-o", "out.ncurve"]),
        ("no-root", vec!["root", "lift", file, "-o", "out.ncurve"]),
        (
            "nearly-loops",
            vec!["cycle", "close", file, "--take", "sway", "--frames", "1:24", "-o", "out.ncurve"],
        ),
        ("baked", vec!["unbake", file, "-o", "out.ncurve"]),
        (
            "partial-weight",
            vec!["layers", "set", file, "--layer", "second pass", "--weight", "100%", "-o", "out.ncurve"],
        ),
        ("silent-layer", vec!["layers", "set", file, "--layer", "old pass", "--unmute", "-o", "out.ncurve"]),
        (
            "sliding-foot",
            "carry FILE --target FILE --take rush --feet hold --place overwrite --target-take rush -o out.ncurve"
                .split(' ')
                .map(|word| if word == "FILE" { file } else { word })
                .collect(),
        ),
        ("near-gimbal-lock", vec!["reorder", file, "--to", "best", "-o", "out.ncurve"]),
    ] {
        succeed(at, &command);
        assert!(!codes_of("out.ncurve").contains(&cured.to_owned()), "{command:?} leaves {cured}");
    }
}

#[test]
fn a_level_is_denied_by_the_exit_code() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let (faulty, cart, stilt) = (sample("faulty.ncurve"), sample("cart.ncurve"), sample("stilt.ncurve"));
    let (faulty, cart, stilt) = (faulty.to_str().unwrap(), cart.to_str().unwrap(), stilt.to_str().unwrap());
    let code = |arguments: &[&str]| run(at, &[&["check"], arguments].concat()).status.code();
    assert_eq!(code(&[faulty]), Some(0));
    assert_eq!(code(&[faulty, "--fail-on", "error"]), Some(1));
    assert_eq!(code(&[cart, "--fail-on", "warning"]), Some(0));
    assert_eq!(code(&[cart, "--fail-on", "note"]), Some(1));
    assert_eq!(code(&[cart, "--fail-on", "note", "--ignore", "near-gimbal-lock"]), Some(0));
    assert_eq!(code(&[stilt, cart, "--fail-on", "note"]), Some(1));
    assert_eq!(code(&[cart, "--ignore", "near-gimbal-lok"]), Some(2));
    let said = String::from_utf8(run(at, &["check", cart, "--ignore", "near-gimbal-lok"]).stderr).unwrap();
    assert!(said.contains("did you mean 'near-gimbal-lock'?"), "{said}");
}

#[test]
fn the_text_names_file_place_and_remedy() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    fs::copy(sample("faulty.ncurve"), at.join("f.ncurve")).unwrap();
    let text = succeed(at, &["check", "f.ncurve"]);
    assert!(text.starts_with("f.ncurve  2 errors, "), "{text}");
    assert!(text.contains("courier:arm_r:rotation  frame 4"), "{text}");
    assert!(
        text.contains("→ nimble-curve layers set f.ncurve --layer \"old pass\" --unmute -o OUT"),
        "{text}"
    );
    assert!(!text.contains('\u{1b}'), "no colour where no terminal is");
    let all = succeed(at, &["check", "f.ncurve", "--rows", "1"]);
    assert!(all.contains("and 1 more: --rows 0 lists all"), "{all}");
    let stilt = sample("stilt.ncurve");
    assert!(succeed(at, &["check", stilt.to_str().unwrap()]).contains("nothing found"));
}

/// What is to be typed can be, whatever the file is called, and says what was said of it.
#[test]
fn remedies_can_be_typed_as_they_stand() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    fs::copy(sample("bramble_wade.bvh"), at.join("it's z up.bvh")).unwrap();
    let file = "it's z up.bvh";
    let text = succeed(at, &["check", file, "--up", "z", "--unit", "m"]);
    let wanted = r"→ nimble-curve unbake 'it'\''s z up.bvh' --unit m --up z -o OUT";
    assert!(text.contains(wanted), "{text}");
    let said = succeed(at, &["unbake", file, "--unit", "m", "--up", "z", "-o", "OUT.ncurve"]);
    assert!(said.contains("samples became"), "{said}");
    assert!(succeed(at, &["check", file, "--unit", "0.3"]).contains("--unit 0.3 -o OUT"));
}

#[test]
fn a_target_rig_and_a_profile_are_looked_at() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let (cart, stilt) = (sample("cart.ncurve"), sample("stilt.ncurve"));
    let (cart, stilt) = (cart.to_str().unwrap(), stilt.to_str().unwrap());
    assert!(codes(&[cart, "--target", stilt]).contains(&"not-on-rig".to_owned()));
    assert!(!codes(&[cart, "--target", cart]).contains(&"not-on-rig".to_owned()));
    fs::write(at.join("engine.toml"), "name = \"engine\"\nfirst_frame = 0\nrate = 30\n").unwrap();
    let profile = at.join("engine.toml");
    let found = findings(&[cart, "--profile", profile.to_str().unwrap()]);
    assert!(found.contains(&("first-frame".to_owned(), "quay".to_owned())));
    assert!(found.contains(&("not-in-profile".to_owned(), "frame rate".to_owned())));
    assert!(fail(at, &["check", cart, "--profile", "no.toml"]).contains("no.toml"));
}

#[test]
fn the_list_in_the_docs_is_whole() {
    use nimble_curve_core::ops::check::Code;
    let docs = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/checking.md");
    let docs = fs::read_to_string(docs).unwrap();
    for code in Code::ALL {
        let row = format!("| `{}` | {} | {} |", code.name(), code.severity(), code.meaning());
        assert!(docs.contains(&row), "docs/checking.md lacks: {row}");
    }
}
