//! Poses as they are typed.

use std::path::Path;

use nimble_curve_core::ops::carry::{PoseAt, held, pose_from};
use nimble_curve_core::ops::space::in_space;
use nimble_curve_core::scene::Scene;
use nimble_curve_core::similar::similar;

use crate::failure::Failure;
use crate::files::{self, InputArgs};

/// A pose as it is typed: a frame of the first take, `TAKE@FRAME`, or a file with the same rig.
pub fn pose(text: &str, scene: &Scene) -> Result<PoseAt, Failure> {
    let at = |name: Option<&str>, frame: f64| -> Result<PoseAt, Failure> {
        let take = match name {
            None => scene.takes.first(),
            Some(name) => scene.takes.iter().find(|take| take.name == name),
        };
        let Some(take) = take else {
            let names = || scene.takes.iter().map(|take| take.name.as_str());
            let hint =
                name.and_then(|name| similar(name, names())).map(|name| format!(": did you mean '{name}'?"));
            let what = name.map_or("no take".to_owned(), |name| format!("no take '{name}'"));
            return Err(Failure::new(format!(
                "the pose '{text}': there is {what}{}",
                hint.unwrap_or_default()
            )));
        };
        let time = scene.rate.ticks_at(frame);
        Ok(PoseAt { take: held(scene, take, time)?, time })
    };
    if let Ok(frame) = text.parse::<f64>() {
        return at(None, frame);
    }
    if let Some((name, Ok(frame))) = text.rsplit_once('@').map(|(name, frame)| (name, frame.parse::<f64>())) {
        return at(Some(name), frame);
    }
    let other = files::read(Path::new(text), InputArgs::default())?.scene;
    // What is a pose there is one here, whatever its axes and unit.
    let (other, _) = in_space(&other, &scene.space);
    let take = other.takes.first().map(|take| (take, take.range.first));
    Ok(pose_from(scene, &other, take)?)
}
