//! Poses that correspond: as they are made, and kept as a file.

use nimble_curve_core::ops::carry::{CarryOptions, MatchingPose, NameMap, keyed, matching_pose};
use nimble_curve_core::scene::Scene;

use crate::args::{Carry, MatchPoses};
use crate::failure::Failure;
use crate::files::Output;

/// Where no poses are given and the reference poses clearly differ: a pose of the target that corresponds, put into the options.
pub fn matched(
    args: &Carry,
    (source, target): (&Scene, &Scene),
    map: &NameMap,
    options: &mut CarryOptions,
) -> Result<Option<MatchingPose>, Failure> {
    let is_asked =
        args.match_poses == MatchPoses::Auto && args.source_pose.is_none() && args.target_pose.is_none();
    if !is_asked {
        return Ok(None);
    }
    let matched = matching_pose(source, target, map, options)?;
    options.target_pose = matched.as_ref().map(|matched| matched.pose.clone());
    Ok(matched)
}

/// What was done, for people.
pub fn remark(matched: &MatchingPose) -> String {
    let worst = &matched.bones[0];
    let count = match matched.bones.len() {
        1 => "1 bone of the limbs points".to_owned(),
        count => format!("{count} bones of the limbs point"),
    };
    format!(
        "{count} elsewhere in the two rest poses, by up to {:.0} deg ({} → {}): limbs carry as they point, feet by their soles (--match-poses off keeps the rest poses, --keep-pose FILE keeps the pose that was made)",
        worst.angle.to_degrees(),
        worst.source,
        worst.target,
    )
}

/// Whether there is a pose to keep where that is asked for.
pub fn check(args: &Carry, matched: Option<&MatchingPose>) -> Result<(), Failure> {
    match &args.keep_pose {
        Some(path) if matched.is_none() => Err(Failure::new(format!(
            "{}: no pose was made to be kept: the limbs do not point clearly elsewhere in the two poses",
            path.display()
        ))),
        _ => Ok(()),
    }
}

/// Writes the target in the pose that was made, where that is asked for.
pub fn keep(args: &Carry, matched: Option<&MatchingPose>, target: &Scene) -> Result<(), Failure> {
    let (Some(path), Some(matched)) = (&args.keep_pose, matched) else { return Ok(()) };
    let output = Output::new(path.clone(), args.over);
    output.check(&[&args.source, &args.target])?;
    let posed = Scene { takes: vec![keyed(&matched.pose.take)], ..target.clone() };
    output.write(&posed, &args.target, None)?;
    Ok(())
}
