//! The rig sheet that was given on the command line: attached to each file that has its nodes.

use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError, RwLock};

use nimble_curve_core::scene::Scene;
use nimble_curve_formats::rig_sheet::RigSheet;

use crate::failure::Failure;
use crate::terminal;

/// A sheet that was given, and what became of it.
struct Given {
    path: PathBuf,
    sheet: RigSheet,
    fate: Mutex<Fate>,
}

/// Which files a sheet was attached to.
#[derive(Default)]
struct Fate {
    /// The first file that has its nodes.
    taken_by: Option<PathBuf>,
    /// The first file that has not, and why.
    without: Option<(PathBuf, String)>,
    /// How many files have not.
    count: usize,
}

static SHEET: RwLock<Option<Arc<Given>>> = RwLock::new(None);

/// Gives all files that are read during some work the sheet of a file, where there is one. Files that it is not of, such as the
/// source of a carry onto a rig with controls, are said afterwards, in one line.
pub fn during<T>(path: Option<&Path>, work: impl FnOnce() -> Result<T, Failure>) -> Result<T, Failure> {
    let Some(path) = path else { return work() };
    let text = std::fs::read_to_string(path)
        .map_err(|error| Failure::new(format!("{}: cannot be read: {error}", path.display())))?;
    let sheet = RigSheet::parse(&text).map_err(|fault| Failure::from(fault.in_file(path)))?;
    let given = Arc::new(Given { path: path.to_owned(), sheet, fate: Mutex::default() });
    let before = replaced(Some(Arc::clone(&given)));
    let done = work();
    replaced(before);
    if let Some(said) = given.said() {
        terminal::remark(&said);
    }
    done
}

/// Gives another sheet, and gives back the one before.
fn replaced(sheet: Option<Arc<Given>>) -> Option<Arc<Given>> {
    std::mem::replace(&mut *SHEET.write().unwrap_or_else(PoisonError::into_inner), sheet)
}

/// A scene with the sheet, where one was given and the file has its nodes; else as it is.
pub fn attached(scene: Scene, file: &Path) -> Scene {
    let given = SHEET.read().unwrap_or_else(PoisonError::into_inner).clone();
    let Some(given) = given else { return scene };
    let made = given.sheet.attached(&scene);
    let mut fate = given.fate.lock().unwrap_or_else(PoisonError::into_inner);
    match made {
        Ok(made) => {
            fate.taken_by.get_or_insert_with(|| file.to_owned());
            made
        }
        Err(fault) => {
            fate.without.get_or_insert_with(|| (file.to_owned(), fault.in_file(&given.path).to_string()));
            fate.count += 1;
            scene
        }
    }
}

impl Given {
    /// The files that were read without it, in a line.
    fn said(&self) -> Option<String> {
        let fate = self.fate.lock().unwrap_or_else(PoisonError::into_inner);
        let (file, why) = fate.without.as_ref()?;
        let file = file.display();
        let others = match fate.count - 1 {
            0 => String::new(),
            1 => ", and so was another file".to_owned(),
            more => format!(", and so were {more} others"),
        };
        Some(match &fate.taken_by {
            Some(taken_by) => format!(
                "{}: taken for {}, not for {file}, whose nodes are others{others}",
                self.path.display(),
                taken_by.display()
            ),
            None => format!("{file}: read without the rig sheet{others}: {why}"),
        })
    }
}
