//! The sample scenario: a canal-town post office, generated the same on every machine.
//!
//! `bramble`, an otter courier (an authored rig, and a capture of it wading); `stilt`, a stork postmaster with other
//! names, proportions and rotation orders; `moss`, a badger apprentice, captured with hips at the origin, and again with a parcel in one scene;
//! a parcel cart with turning wheels and a weather vane; a dock crane whose joints follow controls; controls for the otter and the stork; a timeline with six clips; and a file full of faults.

pub mod apprentice;
pub mod authored;
pub mod cart;
pub mod controls;
pub mod crane;
pub mod faulty;
pub mod handover;
pub mod otter;
pub mod rounds;
pub mod shapes;
pub mod stilt;
pub mod wade;

use nimble_curve_core::scene::Scene;
use nimble_curve_formats::rig_sheet::rig_sheet;
use nimble_curve_formats::{bvh, ncurve};

/// The files of the scenario: their names and contents.
///
/// # Panics
/// Where a scene cannot be written, which would be a mistake in this crate.
pub fn files() -> Vec<(&'static str, String)> {
    let capture = wade::scene();
    let rest =
        capture.rigs[0].nodes().next().map_or_else(Default::default, |(_, root)| root.rest().translation);
    let (capture, _) = bvh::write(&capture, capture.takes.first()).expect("the capture is a BVH scene");
    // The recorder that made it gives its root an offset; ours does not, as readers differ on what that means.
    let offset = format!("OFFSET {} {} {}", rest.x, rest.y, rest.z);
    let capture = capture.replacen("OFFSET 0 0 0", &offset, 1);
    let lifts = apprentice::scene();
    let (lifts, _) = bvh::write(&lifts, lifts.takes.first()).expect("the capture is a BVH scene");
    let own = |scene: &Scene| ncurve::write(scene);
    let sheet = |scene: &Scene| rig_sheet(scene).expect("the rig has constraints");
    vec![
        ("bramble_wade.bvh", capture),
        ("moss_lifts.bvh", lifts),
        ("bramble.ncurve", own(&authored::scene())),
        ("stilt.ncurve", own(&stilt::scene())),
        ("cart.ncurve", own(&cart::scene())),
        ("crane.ncurve", own(&crane::scene())),
        ("rounds.ncurve", own(&rounds::scene())),
        ("faulty.ncurve", own(&faulty::scene())),
        ("handover.ncurve", own(&handover::scene())),
        ("stilt_satchel.ncurve", own(&handover::target())),
        ("bramble_controls.toml", sheet(&controls::bramble(&authored::scene()))),
        ("stilt_controls.toml", sheet(&controls::stilt(&stilt::scene()))),
        ("bramble_to_stilt.toml", stilt::NAME_MAP.to_owned()),
        ("handover.toml", handover::NAME_MAP.to_owned()),
    ]
}
