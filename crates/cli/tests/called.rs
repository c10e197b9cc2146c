//! All commands take names of nodes the same way: with the namespace and without, as a path, by pattern, as a set and by kind.

use std::path::Path;

use tempfile::tempdir;

use crate::common::{fail, run, sample};

fn text(name: &str) -> String {
    sample(name).display().to_string()
}

/// Whether a command takes a name of the courier's head, and what it says where it does not.
fn taken(at: &Path, line: &[&str]) -> Result<(), String> {
    let output = run(at, line);
    // What is found, or differs, ends with code 1 and is no mistake in a name.
    let said = String::from_utf8(output.stderr).unwrap();
    if said.contains("no node") || said.contains("there is no") || said.contains("matches") {
        Err(said)
    } else {
        Ok(())
    }
}

#[test]
fn names_are_taken_the_same_way_everywhere() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    let (file, wade) = (text("bramble.ncurve"), text("bramble_wade.bvh"));
    let own = ["head", "courier:head", "*:head", "h?ad", "@joints", "@arms"];
    for name in own {
        let lines: [&[&str]; 12] = [
            &["convert", &file, "o.ncurve", "--replace", "--only", name],
            &["convert", &file, "o.ncurve", "--replace", "--nodes", name],
            &["check", &file, "--only", name],
            &["compare", &file, &file, "--only", name],
            &["reorder", &file, "--to", "xyz", "-o", "o.ncurve", "--replace", "--only", name],
            &["bake", &file, "-o", "o.ncurve", "--replace", "--only", name],
            &["unbake", &file, "-o", "o.ncurve", "--replace", "--refit", "--only", name],
            &["unbake", &file, "-o", "o.ncurve", "--replace", "--world", "1mm", "--planted", name],
            &[
                "unbake",
                &file,
                "-o",
                "o.ncurve",
                "--replace",
                "--refit",
                "--tolerance-for",
                &format!("{name}=1deg"),
            ],
            &["plot", &file, "-o", "o.svg", "--view", "poses", "--trail", name],
            &["clips", "shift", &file, "--by", "3", "-o", "o.ncurve", "--replace", "--only", name],
            &["layers", "flatten", &file, "-o", "o.ncurve", "--replace", "--only", name],
        ];
        for line in lines {
            assert_eq!(taken(at, line), Ok(()), "{line:?}");
        }
    }
    for (name, node) in
        [("hips", "courier:hips"), ("courier:hips", "courier:hips"), ("bramble/courier:hips", "courier:hips")]
    {
        for line in [
            &["root", "in-place", &file, "-o", "o.ncurve", "--replace", "--node", name][..],
            &["root", "centre", &file, name, "-o", "o.ncurve", "--replace"],
        ] {
            assert_eq!(taken(at, line), Ok(()), "{line:?} {node}");
        }
    }
    // What is not there is said by every one of them, with what is like it.
    for line in [
        &["unbake", &wade, "--unit", "cm", "-o", "x.ncurve", "--world", "1mm", "--planted", "fot_l"][..],
        &["unbake", &wade, "--unit", "cm", "-o", "x.ncurve", "--tolerance-for", "fot_l=1deg"],
        &["plot", &file, "-o", "x.svg", "--view", "poses", "--trail", "fot_l"],
        &["reorder", &file, "--to", "xyz", "-o", "x.ncurve", "--only", "fot_l"],
        &["convert", &file, "x.ncurve", "--nodes", "fot_l"],
    ] {
        let why = fail(at, line);
        assert!(why.contains("did you mean") && why.contains("foot_l"), "{line:?}: {why}");
    }
}
