//! Nimble Curve: moves editable keyframe curves between rigs and applications.

use std::process::ExitCode;

fn main() -> ExitCode {
    nimble_curve::run()
}
