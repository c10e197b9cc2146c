//! Scenes of any content through every command: each does its work or says in one line why not.

mod common;
#[path = "../../core/tests/common/mod.rs"]
#[allow(unused_imports)]
mod generated;

use common::{run, sample};
use generated::scenes::{Contents, any_scene};
use nimble_curve_formats::{Saving, write};
use proptest::prelude::*;

/// Commands on `a.ncurve` and `b.ncurve`; `stilt.ncurve` is the demo's.
const COMMANDS: [&str; 36] = [
    "inspect a.ncurve",
    "inspect a.ncurve --json",
    "check a.ncurve b.ncurve",
    "check a.ncurve --rig b.ncurve --json",
    "convert a.ncurve a.glb",
    "convert a.ncurve a.gltf --without-extra --buffer-beside",
    "convert a.ncurve a.dae --without-extra --to-up z --to-unit cm",
    "convert a.ncurve a.usda --without-extra",
    "convert a.ncurve skeletons.usdz --skeletons --without-extra",
    "convert a.ncurve a.bvh",
    "convert a.ncurve a.csv --frames 2:9",
    "convert a.ncurve plain.ncurve --profile plain-curves --to-rate 30",
    "convert a.ncurve samples.ncurve --controllers samples",
    "inspect a.glb",
    "inspect a.dae",
    "inspect a.usda",
    "inspect skeletons.usdz",
    "inspect a.bvh",
    "unbake a.ncurve -o sparse.ncurve --again",
    "unbake samples.ncurve -o sparse.ncurve --world 1mm --keys node",
    "bake a.ncurve -o baked.ncurve --step 3",
    "reorder a.ncurve -o ordered.ncurve --to best",
    "reorder a.ncurve --survey",
    "layers a.ncurve",
    "layers flatten a.ncurve -o flat.ncurve",
    "map a.ncurve b.ncurve -o map.toml",
    "carry a.ncurve --onto b.ncurve --map map.toml -o carried.ncurve",
    "carry a.ncurve --onto stilt.ncurve -o on_stilt.ncurve",
    "carry a.ncurve --onto a.ncurve -o again.ncurve --place ripple",
    "clips a.ncurve",
    "clips split a.ncurve -o clips",
    "clips find a.ncurve",
    "cycle find a.ncurve",
    "cycle close a.ncurve -o closed.ncurve --over 4",
    "compare a.ncurve b.ncurve",
    "plot a.ncurve -o a.svg",
];

proptest! {
    #![proptest_config(ProptestConfig {
        cases: 4, max_shrink_iters: 0, failure_persistence: None, ..ProptestConfig::default()
    })]

    #[test]
    fn every_command_does_its_work_or_says_why_not(a in any_scene(Contents::ALL), b in any_scene(Contents::ALL)) {
        let folder = tempfile::tempdir().unwrap();
        let at = folder.path();
        for (scene, name) in [(&a, "a.ncurve"), (&b, "b.ncurve")] {
            write(scene, &at.join(name), &Saving::default()).unwrap();
        }
        std::fs::copy(sample("stilt.ncurve"), at.join("stilt.ncurve")).unwrap();
        let before = std::fs::read(at.join("a.ncurve")).unwrap();
        for command in COMMANDS {
            let output = run(at, &command.split(' ').collect::<Vec<_>>());
            let errors = String::from_utf8_lossy(&output.stderr);
            // Differences and findings are told by code 1, without an error.
            let said: Vec<&str> = errors.lines().filter(|line| line.starts_with("error: ")).collect();
            prop_assert!(matches!(output.status.code(), Some(0 | 1)), "{command}: {:?} {errors}", output.status);
            prop_assert!(said.len() <= 1 && !errors.contains("panicked"), "{command}: {errors}");
            if output.status.code() == Some(1) && said.is_empty() {
                prop_assert!(!output.stdout.is_empty(), "{command} failed in silence");
            }
        }
        prop_assert!(std::fs::read(at.join("a.ncurve")).unwrap() == before, "the source is as it was");
        let left: Vec<_> = std::fs::read_dir(at).unwrap().map(|entry| entry.unwrap().file_name()).collect();
        prop_assert!(left.iter().all(|name| !name.to_string_lossy().starts_with('.')), "{left:?}");
    }
}
