//! Bad input: one clear line, a code that is not zero, and no damage.

use std::fs;

use tempfile::tempdir;

use crate::common::{fail, names, run, sample};

#[test]
fn unreadable_inputs_are_refused_with_a_reason() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let capture = fs::read_to_string(sample("bramble_wade.bvh")).unwrap();
    fs::write(at.join("empty.bvh"), "").unwrap();
    fs::write(at.join("blank.ncurve"), "\n\n").unwrap();
    fs::write(at.join("picture.bvh"), b"\x89PNG\r\n\x1a\n\0\0\0\rIHDR\xff\xfe").unwrap();
    fs::write(at.join("picture.png"), b"\x89PNG\r\n\x1a\n\0\0\0\rIHDR\xff\xfe").unwrap();
    fs::write(at.join("cut.bvh"), &capture[..capture.len() / 2]).unwrap();
    fs::write(at.join("words.ncurve"), "hello").unwrap();
    fs::create_dir(at.join("folder.bvh")).unwrap();
    for (file, expected) in [
        ("empty.bvh", "empty.bvh: the file is empty"),
        ("blank.ncurve", "the file is empty"),
        ("picture.bvh", "not an animation file"),
        ("picture.png", "use one of .ncurve, .glb, .gltf, .dae, .usda, .usdc, .usdz, .bvh"),
        ("cut.bvh", "cut.bvh:"),
        ("words.ncurve", "words.ncurve:1:"),
        ("folder.bvh", "folder.bvh: cannot be read: it is a folder"),
        ("missing.bvh", "missing.bvh: cannot be read: no such file"),
    ] {
        for arguments in [
            vec!["inspect", file],
            vec!["unbake", file, "-o", "out.ncurve"],
            vec!["convert", file, "out.bvh"],
        ] {
            let before = names(at);
            let line = fail(at, &arguments);
            assert!(line.contains(expected), "{arguments:?}: {line}");
            assert_eq!(names(at), before, "{arguments:?} left something behind");
        }
    }
}

#[test]
fn outputs_that_cannot_be_written_leave_nothing_behind() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let cart = sample("cart.ncurve");
    let cart = cart.to_str().unwrap();
    fs::create_dir(at.join("there.bvh")).unwrap();
    for (out, expected) in [
        ("no/such/folder.ncurve", "there is no folder 'no/such'"),
        ("there.bvh", "it is a folder"),
        ("result.xyz", "its ending names no format"),
        ("result", "its ending names no format"),
    ] {
        let line = fail(at, &["convert", cart, out]);
        assert!(line.contains(expected), "{out}: {line}");
    }
    assert_eq!(names(at), ["there.bvh"]);
}

#[cfg(target_os = "linux")]
#[test]
fn a_full_disk_is_an_error_and_keeps_the_old_file() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    fs::write(at.join("out.ncurve"), "the old file").unwrap();
    // Files may grow to one block only: what a full disk looks like to the program.
    let program = assert_cmd::cargo::cargo_bin("nimble-curve");
    let script = format!(
        "trap '' XFSZ; ulimit -f 1; exec '{}' convert '{}' out.ncurve --replace",
        program.display(),
        sample("bramble_wade.bvh").display()
    );
    let output = std::process::Command::new("bash").args(["-c", &script]).current_dir(at).output().unwrap();
    let errors = String::from_utf8(output.stderr).unwrap();
    assert_eq!(output.status.code(), Some(1), "{errors}");
    assert!(errors.contains("error: out.ncurve: cannot be written: file too large"), "{errors}");
    assert_eq!(fs::read_to_string(at.join("out.ncurve")).unwrap(), "the old file");
    assert_eq!(names(at), ["out.ncurve"]);
    let line = fail(at, &["convert", sample("cart.ncurve").to_str().unwrap(), "/dev/full", "--json"]);
    assert!(line.contains("ending"), "{line}");
}

#[test]
fn an_input_is_not_written_over_unless_asked() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    fs::copy(sample("cart.ncurve"), at.join("cart.ncurve")).unwrap();
    let before = fs::read(at.join("cart.ncurve")).unwrap();
    let line = fail(at, &["reorder", "cart.ncurve", "--to", "zyx", "-o", "./cart.ncurve"]);
    assert!(line.contains("--replace"), "{line}");
    assert_eq!(fs::read(at.join("cart.ncurve")).unwrap(), before);
    assert!(
        run(at, &["reorder", "cart.ncurve", "--to", "zyx", "-o", "cart.ncurve", "--replace"])
            .status
            .success()
    );
    assert_ne!(fs::read(at.join("cart.ncurve")).unwrap(), before);
}

#[test]
fn mistyped_names_get_a_suggestion() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let (capture, stilt, cart) = (sample("bramble_wade.bvh"), sample("stilt.ncurve"), sample("cart.ncurve"));
    let (capture, stilt, cart) = (capture.to_str().unwrap(), stilt.to_str().unwrap(), cart.to_str().unwrap());
    fs::write(at.join("map.toml"), "[nodes]\nhips = \"Pelvsi\"\n").unwrap();
    let carry =
        |map: &str| fail(at, &["carry", capture, "--target", stilt, "--map", map, "-o", "out.ncurve"]);
    assert!(carry("map.toml").contains("did you mean 'Pelvis'?"));
    fs::write(at.join("map.toml"), "[nodes]\nhisp = \"Pelvis\"\n").unwrap();
    assert!(carry("map.toml").contains("did you mean 'hips'?"));
    fs::write(at.join("map.toml"), "[nodes\n").unwrap();
    assert!(carry("map.toml").contains("map.toml:1:"));
    let line = fail(at, &["reorder", cart, "--to", "zyx", "--only", "vain", "-o", "out.ncurve"]);
    assert!(line.contains("did you mean 'vane'?"), "{line}");
    assert_eq!(names(at), ["map.toml"]);
}

#[test]
fn wrong_usage_has_a_code_of_its_own() {
    let folder = tempdir().unwrap();
    for arguments in [
        vec!["inspcet", "x"],
        vec!["reorder", "x", "--to", "xyy", "-o", "y.ncurve"],
        vec!["unbake", "x", "-o", "y.ncurve", "--tolerance", "0.1parsec"],
        vec!["unbake", "x"],
    ] {
        assert_eq!(run(folder.path(), &arguments).status.code(), Some(2), "{arguments:?}");
    }
    let errors = run(folder.path(), &["inspcet", "x"]).stderr;
    assert!(String::from_utf8_lossy(&errors).contains("'inspect'"));
}

#[test]
fn rigs_without_common_names_need_a_map() {
    let folder = tempdir().unwrap();
    let (capture, stilt) = (sample("bramble_wade.bvh"), sample("stilt.ncurve"));
    let line = fail(
        folder.path(),
        &["carry", capture.to_str().unwrap(), "--target", stilt.to_str().unwrap(), "-o", "out.ncurve"],
    );
    assert!(line.contains("--map"), "{line}");
    let line = fail(
        folder.path(),
        &["carry", stilt.to_str().unwrap(), "--target", stilt.to_str().unwrap(), "-o", "out.ncurve"],
    );
    assert!(line.contains("no take"), "{line}");
}

#[test]
fn every_command_has_a_manual_page_and_a_completion() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    crate::common::succeed(at, &["man", "man1"]);
    let pages = names(&at.join("man1"));
    for page in [
        "nimble-curve.1",
        "nimble-curve-carry.1",
        "nimble-curve-clips-split.1",
        "nimble-curve-root-in-place.1",
    ] {
        assert!(pages.contains(&page.to_owned()), "{page}: {pages:?}");
    }
    let split = fs::read_to_string(at.join("man1/nimble-curve-clips-split.1")).unwrap();
    // Dashes are escaped in manual pages.
    assert!(split.contains("\\-\\-start") && split.contains("Write a file a clip"), "{split}");
    let bash = crate::common::succeed(at, &["completions", "bash"]);
    for page in &pages {
        let last = page.trim_end_matches(".1").rsplit('-').next().unwrap().to_owned();
        assert!(bash.contains(&last), "{last} is not completed");
    }
}
