//! Names of clips and of their files: made of parts, and changed many at once.

use std::collections::{HashMap, HashSet};
use std::io::Write;
use std::path::Path;

use nimble_curve_core::address::matches;
use nimble_curve_core::ledger::Ledger;
use nimble_curve_core::scene::{Scene, Take};
use nimble_curve_core::time::TimeRange;

use super::{noted, unmoved};
use crate::args::ClipsRename;
use crate::failure::Failure;
use crate::files::{self, Output};
use crate::named::Named;
use crate::pattern::{Hole, Pattern};
use crate::report::counted;
use crate::step::{SceneCache, Step, StepOutput};
use crate::table::{Align, Table};
use crate::terminal::Report;

/// What each star of a pattern stands for in a name; `None` where the name does not match.
fn stars<'a>(pattern: &str, name: &'a str) -> Option<Vec<&'a str>> {
    let Some((before, after)) = pattern.split_once('*') else {
        return matches(pattern, name).then(Vec::new);
    };
    let rest = match before.is_empty() {
        true => name,
        false => {
            let end = name.char_indices().map(|(at, _)| at).chain([name.len()]).find(|end| {
                name[..*end].chars().count() == before.chars().count() && matches(before, &name[..*end])
            })?;
            &name[end..]
        }
    };
    // As short as the rest of the pattern allows.
    rest.char_indices().map(|(at, _)| at).chain([rest.len()]).find_map(|end| {
        let mut found = vec![&rest[..end]];
        found.extend(stars(after, &rest[end..])?);
        Some(found)
    })
}

impl ClipsRename {
    /// The old and the new name of each clip that the pattern names, or of each take where it names no clip.
    fn renamed(&self, scene: &Scene, file: &Path) -> Result<Vec<(bool, String, String)>, Failure> {
        let pattern = Pattern::parse(&self.new, Hole::OF_NAMES).map_err(Failure::new)?;
        let stem = file.file_stem().and_then(|stem| stem.to_str()).unwrap_or("scene");
        let new = |take: &Take, name: &str, range: TimeRange, index: usize| {
            let part = Named {
                scene: stem,
                folder: take.folder.as_deref().unwrap_or(""),
                take: &take.name,
                clip: name,
                range: Some(range),
                rate: scene.rate,
                index,
            };
            let found = stars(&self.old, name)?;
            let left = std::cell::Cell::new(0);
            Some(pattern.filled(|hole| match hole {
                Hole::Star => {
                    let at = left.replace(left.get() + 1);
                    found.get(at).or(found.last()).map_or(String::new(), |text| (*text).to_owned())
                }
                hole => part.fill(hole),
            }))
        };
        let mut made: Vec<(bool, String, String)> = Vec::new();
        for take in &scene.takes {
            for clip in &take.clips {
                let name = new(take, &clip.name, clip.range, made.len());
                made.extend(name.map(|name| (true, clip.name.clone(), name)));
            }
        }
        if made.is_empty() {
            for take in &scene.takes {
                let name = new(take, &take.name, take.range, made.len());
                made.extend(name.map(|name| (false, take.name.clone(), name)));
            }
        }
        if made.is_empty() {
            let names = scene.takes.iter().flat_map(|take| {
                std::iter::once(take.name.as_str()).chain(take.clips.iter().map(|clip| clip.name.as_str()))
            });
            return Err(Failure::unknown("clip or take", &self.old, names, file));
        }
        self.refuse_twins(scene, &made, file)?;
        Ok(made)
    }

    /// Two of one name could not be told apart.
    fn refuse_twins(
        &self,
        scene: &Scene,
        made: &[(bool, String, String)],
        file: &Path,
    ) -> Result<(), Failure> {
        let of_clips = made.first().is_some_and(|(is_clip, ..)| *is_clip);
        let others = scene.takes.iter().flat_map(|take| {
            std::iter::once((false, &take.name)).chain(take.clips.iter().map(|clip| (true, &clip.name)))
        });
        let stay = others
            .filter(|(is_clip, name)| *is_clip == of_clips && !made.iter().any(|(_, old, _)| old == *name));
        let mut names: HashSet<&str> = stay.map(|(_, name)| name.as_str()).collect();
        let mut olds = HashSet::new();
        for (_, old, new) in made {
            if !olds.insert(old.as_str()) {
                let text =
                    format!("{}: several are called '{old}': they cannot be told apart", file.display());
                return Err(Failure::new(text));
            }
            if new.is_empty() || !names.insert(new) {
                let text = match new.is_empty() {
                    true => format!("{}: '{old}' would have no name", file.display()),
                    false => format!("{}: two would be called '{new}'", file.display()),
                };
                return Err(Failure::new(text));
            }
        }
        Ok(())
    }
}

pub fn run_rename(args: &ClipsRename) -> Result<(), Failure> {
    if !args.dry_run {
        let path = args.output.as_ref().unwrap_or(&args.file);
        return noted(args, &args.file, args.input, &Output::new(path.clone(), args.over));
    }
    let scene = files::read(&args.file, args.input)?.scene;
    let made = args.renamed(&scene, &args.file)?;
    let mut out = Report::out();
    writeln!(out, "{} would be renamed; nothing was written", counted(made.len(), "name"))?;
    let mut table = Table::new(&[("old", Align::Left), ("new", Align::Left)]);
    for (_, old, new) in made {
        table.row([old, new]);
    }
    Ok(table.print(&mut out)?)
}

impl Step for ClipsRename {
    fn work(&self, source: &Scene, file: &Path, _: &SceneCache) -> Result<StepOutput, Failure> {
        let made = self.renamed(source, file)?;
        let new: HashMap<(bool, &str), &str> =
            made.iter().map(|(is_clip, old, new)| ((*is_clip, old.as_str()), new.as_str())).collect();
        let mut scene = source.clone();
        for take in &mut scene.takes {
            if let Some(name) = new.get(&(false, take.name.as_str())) {
                take.name = (*name).to_owned();
            }
            for clip in &mut take.clips {
                if let Some(name) = new.get(&(true, clip.name.as_str())) {
                    clip.name = (*name).to_owned();
                }
            }
        }
        let promise = Some(unmoved(source, &scene));
        let mut worked = StepOutput { promise, ..StepOutput::new(scene, Ledger::default()) };
        let note = |(_, old, new): &(bool, String, String)| format!("'{old}' is called '{new}' now");
        worked.ledger.notes.extend(made.iter().map(note));
        Ok(worked)
    }
}
