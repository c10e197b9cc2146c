//! Clips named by a list.

use std::path::Path;

use nimble_curve_core::ledger::Ledger;
use nimble_curve_core::scene::{Clip, Scene};
use nimble_curve_core::time::TimeRange;
use nimble_curve_formats::sheet::read_clip_list;

use super::{no_take, take_index};
use crate::args::ClipsName;
use crate::failure::Failure;
use crate::report::{counted, frame};
use crate::step::{SceneCache, Step, StepOutput};

impl Step for ClipsName {
    fn work(&self, scene: &Scene, file: &Path, _: &SceneCache) -> Result<StepOutput, Failure> {
        if scene.takes.is_empty() {
            return Err(no_take(file));
        }
        let listed = read_clip_list(&self.list)?;
        let rate = scene.rate;
        let mut made: Vec<Vec<Clip>> = vec![Vec::new(); scene.takes.len()];
        for clip in &listed {
            let index = take_index(scene, clip.take.as_ref().or(self.take.as_ref()), file)?;
            let range = TimeRange::new(rate.ticks_at(clip.first), rate.ticks_at(clip.last));
            let take = &scene.takes[index];
            let own = take.key_range().map_or(take.range, |keys| keys.union(take.range));
            if !(own.contains(range.first) && own.contains(range.last)) {
                return Err(Failure::new(format!(
                    "{}: clip '{}' is {}:{}, take '{}' {}:{}",
                    self.list.display(),
                    clip.name,
                    frame(clip.first),
                    frame(clip.last),
                    take.name,
                    frame(rate.frame(own.first)),
                    frame(rate.frame(own.last))
                )));
            }
            made[index].push(Clip { name: clip.name.clone(), range, note: clip.note.clone() });
        }
        let mut result = scene.clone();
        for (take, clips) in result.takes.iter_mut().zip(made) {
            if !clips.is_empty() {
                take.clips = clips;
            }
        }
        let mut worked = StepOutput::new(result, Ledger::default());
        worked.ledger.notes.push(format!("{} named", counted(listed.len(), "clip")));
        Ok(worked)
    }
}
