//! `demo`: the whole job on the sample scenario.

use std::io::Write as _;
use std::path::Path;

use clap::Parser as _;

use crate::args::{Cli, Demo};
use crate::failure::Failure;
use crate::files::make_folder;
use crate::sheet;
use crate::terminal::{Report, Style};

/// The files of the scenario, as the generator in the repository makes them.
const FILES: &[(&str, &[u8])] = &[
    ("bramble_wade.bvh", include_bytes!("../../demo/bramble_wade.bvh")),
    ("moss_lifts.bvh", include_bytes!("../../demo/moss_lifts.bvh")),
    ("bramble.ncurve", include_bytes!("../../demo/bramble.ncurve")),
    ("stilt.ncurve", include_bytes!("../../demo/stilt.ncurve")),
    ("cart.ncurve", include_bytes!("../../demo/cart.ncurve")),
    ("crane.ncurve", include_bytes!("../../demo/crane.ncurve")),
    ("rounds.ncurve", include_bytes!("../../demo/rounds.ncurve")),
    ("faulty.ncurve", include_bytes!("../../demo/faulty.ncurve")),
    ("handover.ncurve", include_bytes!("../../demo/handover.ncurve")),
    ("stilt_satchel.ncurve", include_bytes!("../../demo/stilt_satchel.ncurve")),
    ("handover.toml", include_bytes!("../../demo/handover.toml")),
    ("bramble_controls.toml", include_bytes!("../../demo/bramble_controls.toml")),
    ("stilt_controls.toml", include_bytes!("../../demo/stilt_controls.toml")),
    ("bramble_to_stilt.toml", include_bytes!("../../demo/bramble_to_stilt.toml")),
];

/// The steps: what to say, and the command, in which `@/` stands for the folder.
const STEPS: &[(&str, &str)] = &[
    (
        "Bramble, an otter courier, was captured wading through the canal: a sample of every joint, 120 times a second.",
        "inspect @/bramble_wade.bvh --unit cm --rows 5",
    ),
    (
        "Nobody can edit that. Unbaked, it is sparse curves that stay within a tenth of a degree and half a millimetre.",
        "unbake @/bramble_wade.bvh --unit cm --tolerance 0.1deg,0.5mm -o @/bramble_wade.ncurve",
    ),
    (
        "Stilt, the stork postmaster, has other names, proportions, units and rotation orders. Here is the rig.",
        "inspect @/stilt.ncurve --tree",
    ),
    (
        "Who is who? A map is proposed, as a file to be edited.",
        "map @/bramble.ncurve @/stilt.ncurve -o @/proposed.toml --replace",
    ),
    (
        "With an edited map the curves move over; what could not come along is named.",
        "carry @/bramble_wade.ncurve --target @/stilt.ncurve --map @/bramble_to_stilt.toml -o @/stilt_wade.ncurve \
         --ledger @/stilt_wade.ledger.json",
    ),
    (
        "Keys that were fitted here are not the fewest there. The cheap order: the capture itself is carried, as samples ...",
        "carry @/bramble_wade.bvh --unit cm --target @/stilt.ncurve --map @/bramble_to_stilt.toml -o @/stilt_samples.ncurve",
    ),
    (
        "... and unbaked last, as closely as it will be seen: near, mid or far.",
        "unbake @/stilt_samples.ncurve --seen mid -o @/stilt_sparse.ncurve --no-other-tolerances",
    ),
    (
        "The dock crane's joints follow controls, which is what animators key. For other programs they get keys of their own.",
        "rig solve @/crane.ncurve -o @/crane_joints.ncurve",
    ),
    (
        "Back again: what the otter's joints do goes onto the stork's controls, for an animator to go on with.",
        "carry @/bramble.ncurve --target @/stilt.ncurve --map @/bramble_to_stilt.toml --sheet @/stilt_controls.toml \
         -o @/stilt_greets.ncurve",
    ),
    (
        "The parcel cart's wheels turn many times, and its weather vane goes through gimbal lock. The best order for each:",
        "reorder @/cart.ncurve --to best -o @/cart_best.ncurve",
    ),
    (
        "For an application that takes samples only, there is BVH.",
        "convert @/stilt_wade.ncurve @/stilt_wade.bvh",
    ),
];

pub fn run(args: &Demo) -> Result<(), Failure> {
    let folder = &args.folder;
    make_folder(folder)?;
    for (name, contents) in FILES {
        nimble_curve_formats::write_bytes(contents, &folder.join(name))?;
    }
    let names: Vec<&str> = FILES.iter().map(|(name, _)| *name).collect();
    let mut out = Report::out();
    writeln!(out, "The sample scenario is in {}: {}.", folder.display(), names.join(", "))?;
    for (number, (story, command)) in STEPS.iter().enumerate() {
        step(folder, number + 1, story, command)?;
    }
    writeln!(out, "\n{}", Style::Strong.paint("What to try next"))?;
    let prefix = folder.display();
    let next = [
        (
            format!("inspect {prefix}/bramble.ncurve"),
            "an authored take: five layers, every type of controller",
        ),
        (
            format!("unbake {prefix}/bramble_wade.bvh --world 0.5mm --planted foot_l foot_r -o feet.ncurve"),
            "planted feet",
        ),
        (
            format!(
                "plot {prefix}/stilt_wade.ncurve --beside {prefix}/stilt_sparse.ncurve --against {prefix}/stilt_samples.ncurve --only L_Knee:rotation.x -o knee.png"
            ),
            "one motion at two budgets",
        ),
        (
            format!("map {prefix}/moss_lifts.bvh {prefix}/stilt.ncurve -o moss.toml"),
            "a capture that rests at the origin, in a studio's names",
        ),
        (
            format!(
                "carry {prefix}/handover.ncurve --target {prefix}/stilt_satchel.ncurve --map {prefix}/handover.toml -o handed.ncurve"
            ),
            "two rigs at once, one in the hand of the other",
        ),
        (format!("layers {prefix}/bramble.ncurve"), "the stack of layers"),
        (format!("reorder {prefix}/cart.ncurve --to zyx --only vane -o vane.ncurve"), "one node only"),
        (format!("check {prefix}/faulty.ncurve"), "what bites later, with remedies"),
        (format!("clips {prefix}/rounds.ncurve"), "six clips on one timeline"),
        ("--help".to_owned(), "all commands"),
    ];
    for (command, why) in next {
        writeln!(out, "  {}", Style::Faint.paint(why))?;
        writeln!(out, "    nimble-curve {command}")?;
    }
    Ok(())
}

/// Runs one command as if it had been typed, and shows it.
fn step(folder: &Path, number: usize, story: &str, command: &str) -> Result<(), Failure> {
    let mut out = Report::out();
    let folder = folder.display().to_string();
    let words: Vec<String> = command.split_whitespace().map(|word| word.replace('@', &folder)).collect();
    writeln!(out, "\n{} {story}", Style::Strong.paint(&format!("{number}.")))?;
    writeln!(out, "{}", Style::Good.paint(&format!("$ nimble-curve {}", words.join(" "))))?;
    out.flush()?;
    let cli = Cli::try_parse_from(std::iter::once("nimble-curve".to_owned()).chain(words))
        .map_err(|error| Failure::new(error.to_string()))?;
    let path = cli.sheet.clone();
    sheet::during(path.as_deref(), || super::run(cli).map(|_| ()))
}
