//! The rig sheet that was given on the command line: attached to each file that has its nodes.

use std::path::{Path, PathBuf};
use std::sync::OnceLock;

use nimble_curve_core::scene::Scene;
use nimble_curve_formats::rig_sheet::RigSheet;

use crate::failure::Failure;
use crate::terminal;

static SHEET: OnceLock<(PathBuf, RigSheet)> = OnceLock::new();

/// Reads the sheet that all files get that are read from now on.
pub fn attach_from(path: &Path) -> Result<(), Failure> {
    let text = std::fs::read_to_string(path)
        .map_err(|error| Failure::new(format!("{}: cannot be read: {error}", path.display())))?;
    let sheet = RigSheet::parse(&text).map_err(|fault| Failure::from(fault.in_file(path)))?;
    // It is given once, before anything is read.
    SHEET.get_or_init(|| (path.to_owned(), sheet));
    Ok(())
}

/// A scene with the sheet, where one was given: a file without its nodes, such as the target of a carry, goes on as it is, and
/// that is said.
pub fn attached(scene: Scene, file: &Path) -> Scene {
    let Some((path, sheet)) = SHEET.get() else { return scene };
    match sheet.attached(&scene) {
        Ok(made) => made,
        Err(fault) => {
            let why = fault.in_file(path);
            terminal::remark(&format!("{}: read without the rig sheet: {why}", file.display()));
            scene
        }
    }
}
