//! Names of what is written, filled in by what it holds.

use std::path::{Path, PathBuf};

use nimble_curve_core::address::is_hidden;
use nimble_curve_core::scene::Take;
use nimble_curve_core::time::{FrameRate, TimeRange};

use crate::failure::Failure;
use crate::pattern::{Hole, Pattern};
use crate::report::frame;

/// What names of one part of a scene are made of.
pub struct Named<'a> {
    pub scene: &'a str,
    pub folder: &'a str,
    pub take: &'a str,
    pub clip: &'a str,
    pub range: Option<TimeRange>,
    pub rate: FrameRate,
    /// From 0 on.
    pub index: usize,
}

impl<'a> Named<'a> {
    /// Names of something that a take is in, or that is of a whole file where there is none.
    pub fn of(file: &'a Path, take: Option<&'a Take>, rate: FrameRate) -> Named<'a> {
        let name = take.map_or("", |take| take.name.as_str());
        Named {
            scene: stem(file),
            folder: take.and_then(|take| take.folder.as_deref()).unwrap_or(""),
            take: name,
            clip: name,
            range: take.map(|take| take.range),
            rate,
            index: 0,
        }
    }

    /// A path with its holes filled in; one without holes as it is.
    pub fn path(&self, path: &Path) -> Result<PathBuf, Failure> {
        let Some(text) = path.to_str().filter(|text| text.contains('{')) else { return Ok(path.to_owned()) };
        let pattern = Pattern::parse(text, Hole::OF_FILES).map_err(Failure::new)?;
        Ok(PathBuf::from(pattern.path(|hole| match hole {
            Hole::Folder => safe_folder(&self.fill(hole)),
            hole => safe(&self.fill(hole)),
        })))
    }

    pub fn fill(&self, hole: Hole) -> String {
        let of_range = |number: &dyn Fn(TimeRange) -> String| self.range.map_or(String::new(), number);
        match hole {
            Hole::Stem | Hole::Scene | Hole::Source => self.scene.to_owned(),
            Hole::Folder => self.folder.to_owned(),
            Hole::Take => self.take.to_owned(),
            Hole::Clip => self.clip.to_owned(),
            Hole::Frames => of_range(&|range| range.frames(self.rate).to_string()),
            Hole::First => of_range(&|range| frame(self.rate.frame(range.first))),
            Hole::Last => of_range(&|range| frame(self.rate.frame(range.last))),
            Hole::Rate => self.rate.to_string(),
            Hole::Index => (self.index + 1).to_string(),
            Hole::Ending | Hole::Star => String::new(),
        }
    }
}

/// A name as a part of a file's name: without what a file system would take for something else, no folder, and not one of
/// the names that some systems keep for devices.
pub fn safe(name: &str) -> String {
    /// File systems allow 255 bytes, and other parts and an ending stand beside it.
    const LONGEST: usize = 120;
    const DEVICES: [&str; 6] = ["con", "prn", "aux", "nul", "com", "lpt"];
    let plain = |c: char| if is_hidden(c) || "/\\:*?\"<>|".contains(c) { '_' } else { c };
    let mut safe: String = name.chars().map(plain).collect();
    safe.truncate(safe.floor_char_boundary(LONGEST));
    let end = safe.trim_end_matches(['.', ' ']).len();
    safe.replace_range(end.., &"_".repeat(safe.len() - end));
    let stem = safe.split('.').next().unwrap_or_default().to_ascii_lowercase();
    let number = stem.get(3..).unwrap_or_default();
    let is_device = stem.get(..3).is_some_and(|head| DEVICES.contains(&head))
        && match &stem[..3] {
            "com" | "lpt" => number.len() == 1 && number.bytes().all(|digit| digit.is_ascii_digit()),
            _ => number.is_empty(),
        };
    if is_device { format!("_{safe}") } else { safe }
}

/// A folder that a file names, part by part as [`safe`] has it: never above the one that it is put in.
pub fn safe_folder(folder: &str) -> String {
    let parts = folder.split(['/', '\\']).filter(|part| !part.is_empty() && *part != ".");
    parts.map(safe).collect::<Vec<_>>().join("/")
}

/// A file's name without its ending; nothing for standard input.
pub fn stem(path: &Path) -> &str {
    path.file_stem().and_then(|stem| stem.to_str()).filter(|stem| *stem != "-").unwrap_or("")
}
