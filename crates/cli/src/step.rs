//! Commands as steps: what they make of a scene, whichever file it came from and goes to.

use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

use nimble_curve_core::ledger::Ledger;
use nimble_curve_core::scene::Scene;

use crate::failure::Failure;
use crate::files::{self, InputArgs, OutputArgs};
use crate::terminal;

/// What a step made of a scene.
#[derive(Debug)]
pub struct Worked {
    pub scene: Scene,
    pub ledger: Ledger,
    /// What a person should look at, beside what the ledger says was left out.
    pub warnings: Vec<String>,
    /// Files that were made beside the scene: pictures, by their path.
    pub pictures: Vec<(PathBuf, Vec<u8>)>,
}

impl Worked {
    pub fn new(scene: Scene, ledger: Ledger) -> Worked {
        Worked { scene, ledger, warnings: Vec::new(), pictures: Vec::new() }
    }
}

/// A command that makes one scene of another, between files or in a recipe.
pub trait Step: Sync {
    /// Does it; `file` names the scene in messages, other files come off the shelf.
    fn work(&self, scene: &Scene, file: &Path, shelf: &Shelf) -> Result<Worked, Failure>;
}

/// Does a step between two files; also gives the scene as it was.
pub fn between_files(
    step: &impl Step,
    file: &Path,
    input: InputArgs,
    output: &OutputArgs,
) -> Result<(Scene, Worked), Failure> {
    output.check(&[file])?;
    let scene = files::read(file, input)?.scene;
    let worked = step.work(&scene, file, &Shelf::default())?;
    output.write(&worked.scene, file)?;
    Ok((scene, worked))
}

/// The other files that steps need, such as target rigs.
#[derive(Default)]
pub struct Shelf {
    kept: Option<Mutex<HashMap<String, Arc<Scene>>>>,
}

impl Shelf {
    /// A shelf that keeps what was read, for many scenes that need the same; it says nothing of what had to be assumed.
    pub fn that_keeps() -> Shelf {
        Shelf { kept: Some(Mutex::default()) }
    }

    /// The scene of a file.
    pub fn scene(&self, path: &Path, input: InputArgs) -> Result<Arc<Scene>, Failure> {
        let Some(kept) = &self.kept else { return Ok(Arc::new(files::read(path, input)?.scene)) };
        // Whoever else needs the file waits until it is read.
        let mut kept = kept.lock().unwrap_or_else(PoisonError::into_inner);
        let key = format!("{} {input:?}", path.display());
        if let Some(scene) = kept.get(&key) {
            return Ok(Arc::clone(scene));
        }
        let scene = Arc::new(nimble_curve_formats::read(path, input.assumed())?.scene);
        kept.insert(key, Arc::clone(&scene));
        Ok(scene)
    }
}

/// Says the warnings of a step on standard error.
pub fn say_warnings(worked: &Worked) {
    for warning in &worked.warnings {
        terminal::remark(warning);
    }
}
