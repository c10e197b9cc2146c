//! The rig sheet that was given on the command line: attached to each file that has its nodes.

use std::path::{Path, PathBuf};
use std::sync::{Arc, PoisonError, RwLock};

use nimble_curve_core::scene::Scene;
use nimble_curve_formats::rig_sheet::RigSheet;

use crate::failure::Failure;
use crate::terminal;

/// Its path, and what it says.
type Given = Option<Arc<(PathBuf, RigSheet)>>;

static SHEET: RwLock<Given> = RwLock::new(None);

/// Gives all files that are read during some work the sheet of a file, where there is one.
pub fn during<T>(path: Option<&Path>, work: impl FnOnce() -> Result<T, Failure>) -> Result<T, Failure> {
    let Some(path) = path else { return work() };
    let text = std::fs::read_to_string(path)
        .map_err(|error| Failure::new(format!("{}: cannot be read: {error}", path.display())))?;
    let sheet = RigSheet::parse(&text).map_err(|fault| Failure::from(fault.in_file(path)))?;
    let before = given(Some(Arc::new((path.to_owned(), sheet))));
    let done = work();
    given(before);
    done
}

/// Gives another sheet, and gives back the one before.
fn given(sheet: Given) -> Given {
    std::mem::replace(&mut *SHEET.write().unwrap_or_else(PoisonError::into_inner), sheet)
}

/// A scene with the sheet, where one was given: a file without its nodes, such as the target of a carry, goes on as it is, and
/// that is said.
pub fn attached(scene: Scene, file: &Path) -> Scene {
    let given = SHEET.read().unwrap_or_else(PoisonError::into_inner).clone();
    let Some((path, sheet)) = given.as_deref() else { return scene };
    match sheet.attached(&scene) {
        Ok(made) => made,
        Err(fault) => {
            let why = fault.in_file(path);
            terminal::remark(&format!("{}: read without the rig sheet: {why}", file.display()));
            scene
        }
    }
}
