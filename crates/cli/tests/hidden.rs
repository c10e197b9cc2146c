//! Names are data: nothing in them steers a terminal, leaves a folder, or becomes a formula.

use std::path::{Path, PathBuf};

use nimble_curve_core::scene::Scene;
use nimble_curve_formats::{Assume, Saving, read, write};

use crate::common::{run, sample, scene, succeed};

/// Escapes, a bell, overrides of direction, a line end, a formula, quotes, what other formats keep for themselves.
const ODD: [&str; 4] = [
    "=ca\u{1b}[2J\u{7}rt\u{202e}gnp\u{2066}\nerror: x|y",
    "-\u{9b}31m\"'\\/#:.[]{}<>&%",
    "@\r\u{85}\u{2028}\u{feff}\u{e0041}",
    "\u{f4a7}[1m+ ",
];

/// The cart with odd names everywhere: rig, nodes, a number, takes, folder, clips and markers.
fn odd(at: &Path) -> PathBuf {
    let mut scene: Scene = scene(&sample("cart.ncurve"));
    scene.rigs[0].name = ODD[0].to_owned();
    let ids: Vec<_> = scene.rigs[0].nodes().map(|(id, _)| id).collect();
    for (index, id) in ids.into_iter().enumerate() {
        let node = scene.rigs[0].node_mut(id).unwrap();
        node.name =
            format!("{}{}", ODD[index % 4], if index < 4 { String::new() } else { index.to_string() });
    }
    let take = &mut scene.takes[0];
    take.folder = Some("../../up\u{1b}/./x".to_owned());
    take.clips[0].name = "..".to_owned();
    take.clips[1].name = "CON".to_owned();
    let note = take.clips[0].note.insert(ODD[0].to_owned());
    assert!(note.contains('\n'));
    let mut twin = take.clone();
    take.name = "..".to_owned();
    twin.name = format!("../{}{}", ODD[1], "long".repeat(200));
    twin.clips.clear();
    scene.takes.push(twin);
    write(&scene, &at.join("odd.ncurve"), &Saving::default()).unwrap();
    at.join("odd.ncurve")
}

/// Whether a sign may reach a terminal.
fn may_show(sign: char) -> bool {
    sign == '\n'
        || !(sign.is_control()
            || ('\u{2028}'..='\u{202e}').contains(&sign)
            || ('\u{2066}'..='\u{2069}').contains(&sign))
}

#[test]
fn no_command_prints_what_steers_a_terminal_and_errors_stay_one_line() {
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path();
    odd(at);
    let mut failed: Vec<&str> = Vec::new();
    for command in [
        "inspect odd.ncurve",
        "inspect odd.ncurve --json",
        "check odd.ncurve",
        "convert odd.ncurve odd.glb",
        "convert odd.ncurve odd.gltf",
        "convert odd.ncurve odd.usda",
        "convert odd.ncurve odd.usdc --without-extra",
        "convert odd.ncurve odd.dae",
        "convert odd.ncurve odd.bvh",
        "convert odd.ncurve odd.csv",
        "inspect odd.glb",
        "inspect odd.usda",
        "inspect odd.usdc",
        "inspect odd.dae",
        "inspect odd.bvh",
        "inspect odd.csv",
        "map odd.ncurve odd.ncurve -o map.toml",
        "carry odd.ncurve --target odd.glb --map map.toml -o carried.ncurve",
        "bake odd.ncurve -o baked.ncurve",
        "unbake baked.ncurve -o unbaked.ncurve",
        "compare odd.ncurve unbaked.ncurve",
        "reorder odd.ncurve --to zxy -o reordered.ncurve",
        "clips odd.ncurve",
        "clips sheet odd.ncurve -o sheet.md",
        "plot odd.ncurve -o plot.svg",
        "root show odd.ncurve",
        "layers flatten odd.ncurve -o flat.ncurve",
        "convert odd.ncurve x.glb --take nope",
        "convert odd.ncurve x.glb --only nope",
        "inspect odd\u{1b}[2J.ncurve",
    ] {
        let words: Vec<&str> = command.split(' ').collect();
        let output = run(at, &words);
        let code = output.status.code();
        assert!(
            matches!(code, Some(0 | 1)),
            "{command}: {code:?} {}",
            String::from_utf8_lossy(&output.stderr)
        );
        for said in [&output.stdout, &output.stderr] {
            let said = String::from_utf8(said.clone()).unwrap();
            let wrong = said.chars().find(|sign| !may_show(*sign));
            assert_eq!(wrong, None, "{command}: {}", said.escape_debug());
            assert!(
                !said.lines().any(|line| line.starts_with("error: x")),
                "{command}: a name began a line: {said}"
            );
        }
        if code == Some(1) && output.stdout.is_empty() {
            failed.push(command);
            let errors = String::from_utf8(output.stderr).unwrap();
            assert_eq!(
                errors.lines().filter(|line| line.starts_with("error: ")).count(),
                1,
                "{command}: {errors}"
            );
        }
    }
    assert_eq!(failed.len(), 3, "{failed:?}");
    let svg = std::fs::read_to_string(at.join("plot.svg")).unwrap();
    assert!(svg.chars().all(may_show));
    let json = String::from_utf8(run(at, &["inspect", "odd.ncurve", "--json"]).stdout).unwrap();
    let json: serde_json::Value = serde_json::from_str(&json).unwrap();
    assert_eq!(json["rigs"][0]["name"], ODD[0]);
    // Nothing of it was lost on the way.
    let names = |name: &str| -> Vec<String> {
        let scene = read(&at.join(name), Assume::default()).unwrap().scene;
        scene.rigs[0].nodes().map(|(_, node)| node.name.clone()).collect()
    };
    for name in ["odd.glb", "odd.usda", "odd.dae", "baked.ncurve", "carried.ncurve"] {
        assert_eq!(names(name), names("odd.ncurve"), "{name}");
    }
}

#[test]
fn files_that_are_named_by_takes_and_clips_stay_in_their_folder() {
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path().join("deep/er");
    std::fs::create_dir_all(&at).unwrap();
    odd(&at);
    for (output, name) in [
        ("a", "{take}.ncurve"),
        ("b", "{clip}.ncurve"),
        ("c", "{folder}/{take}/{clip}.ncurve"),
        ("d", "{take}{index}.glb"),
        ("e/{folder}/{clip}_{index}.ncurve", ""),
    ] {
        let mut words = vec!["clips", "split", "odd.ncurve", "-o", output];
        if !name.is_empty() {
            words.extend(["--name", name]);
        }
        let said = run(&at, &words);
        let errors = String::from_utf8_lossy(&said.stderr).into_owned();
        // Clips of one take have one name.
        assert!(said.status.success() || errors.contains("two clips would be written"), "{errors}");
    }
    let mut found = Vec::new();
    let mut open = vec![folder.path().to_owned()];
    while let Some(path) = open.pop() {
        if path.is_dir() {
            open.extend(std::fs::read_dir(&path).unwrap().map(|entry| entry.unwrap().path()));
        } else {
            found.push(path);
        }
    }
    let made: Vec<&PathBuf> = found.iter().filter(|path| !path.ends_with("odd.ncurve")).collect();
    assert!(made.len() >= 8, "{found:?}");
    for path in made {
        let inside = path.strip_prefix(&at).unwrap_or_else(|_| panic!("{} is outside", path.display()));
        let text = inside.to_str().unwrap();
        assert!(
            text.chars().all(may_show) && inside.components().all(|part| part.as_os_str() != ".."),
            "{text}"
        );
        let stem = inside.file_stem().unwrap().to_str().unwrap().to_ascii_lowercase();
        assert!(stem != "con" && stem.len() < 250, "{text}");
    }
}

#[test]
fn sheets_hold_no_formulas_unless_they_are_wanted() {
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path();
    let mut scene: Scene = scene(&sample("cart.ncurve"));
    scene.takes[0].clips[0].name = "=1+1".to_owned();
    scene.takes[0].name = "@quay".to_owned();
    write(&scene, &at.join("odd.ncurve"), &Saving::default()).unwrap();
    succeed(
        at,
        &["clips", "sheet", "odd.ncurve", "-o", "safe.csv", "--columns", "name,take,first,last,jump"],
    );
    succeed(
        at,
        &["clips", "sheet", "odd.ncurve", "-o", "raw.csv", "--columns", "name,take,first,last", "--formulas"],
    );
    let text = |name: &str| std::fs::read_to_string(at.join(name)).unwrap();
    assert!(text("safe.csv").contains("\n'=1+1,'@quay,1,"), "{}", text("safe.csv"));
    assert!(text("raw.csv").contains("\n=1+1,@quay,1,"), "{}", text("raw.csv"));
    // A list that went through a spreadsheet names the same clips.
    succeed(at, &["clips", "name", "odd.ncurve", "--list", "safe.csv", "-o", "named.ncurve"]);
    let named = read(&at.join("named.ncurve"), Assume::default()).unwrap().scene;
    assert!(named.takes[0].clips.iter().any(|clip| clip.name == "=1+1"));
    succeed(at, &["convert", "odd.ncurve", "odd.csv"]);
    assert!(text("odd.csv").lines().skip(2).all(|line| line.starts_with("'@quay,")));
    let back = read(&at.join("odd.csv"), Assume::default()).unwrap().scene;
    assert_eq!(back.takes[0].name, "@quay");
}

/// Names that are no text are found on some file systems: such files are left aside, and that is said.
#[cfg(target_os = "linux")]
#[test]
fn a_file_whose_name_is_no_text_is_left_aside_by_recipes() {
    use std::os::unix::ffi::OsStrExt as _;
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path();
    std::fs::create_dir(at.join("in")).unwrap();
    std::fs::copy(sample("cart.ncurve"), at.join("in/cart.ncurve")).unwrap();
    std::fs::copy(sample("cart.ncurve"), at.join(std::ffi::OsStr::from_bytes(b"in/b\xffd.ncurve"))).unwrap();
    // A link that leads back up is no way without end, and what it leads to is no source twice.
    std::os::unix::fs::symlink("..", at.join("in/loop")).unwrap();
    let whole = format!("{}/in/*.ncurve", at.display());
    for pattern in ["in/*.ncurve", "./in/*.ncurve", "in/**/*.ncurve", "**/cart.ncurve", &whole] {
        std::fs::write(
            at.join("pack.toml"),
            format!("sources = [\"{pattern}\"]\noutput = \"out/{{stem}}.glb\"\n"),
        )
        .unwrap();
        // The recipe by its whole path, so that its folder is one that a whole pattern begins with.
        let said = run(at, &["run", at.join("pack.toml").to_str().unwrap(), "--dry-run"]);
        let errors = String::from_utf8_lossy(&said.stderr).into_owned();
        let out = String::from_utf8_lossy(&said.stdout).into_owned();
        assert!(said.status.success() && out.contains("1 file to do"), "{pattern}: {out}{errors}");
        assert!(errors.contains("its name is no UTF-8, so it is left aside"), "{pattern}: {errors}");
    }
}
