//! `rig match`: joint motion put onto controls.

use std::path::Path;
use std::sync::Arc;

use nimble_curve_core::judge::Scope;
use nimble_curve_core::ledger::Fate;
use nimble_curve_core::ops::control_rig::{BetweenFrames, Limbs, MatchKeys, MatchOptions, match_controls};
use nimble_curve_core::ops::layers::match_onto_layer;
use nimble_curve_core::scene::Scene;

use crate::args::{KeysArg, LimbArg, RigMatch};
use crate::failure::Failure;
use crate::gate::{Beside, Held, InWorld, Promise};
use crate::report::counted;
use crate::step::{BoxedStep, SceneCache, Step, StepOutput, between_files};

impl Step for RigMatch {
    fn work(&self, scene: &Scene, file: &Path, _: &SceneCache) -> Result<StepOutput, Failure> {
        let keys = match self.keys {
            KeysArg::Same => MatchKeys::Same,
            KeysArg::Bounded => MatchKeys::Bounded,
        };
        let limbs = match self.limb {
            LimbArg::AsIs => Limbs::AsIs,
            LimbArg::Ik => Limbs::Ik,
            LimbArg::Fk => Limbs::Fk,
        };
        let options = MatchOptions {
            tolerance: self.tolerance,
            only: self.only.clone(),
            keys,
            limbs,
            clear_others: self.clear_others,
            between_frames: if self.between_frames { BetweenFrames::Always } else { BetweenFrames::Never },
            near_enough: false,
        };
        let matched = match &self.layer {
            Some(name) => match_onto_layer(scene, &options, name).map_err(|error| error.to_string()),
            None => match_controls(scene, &options).map_err(|error| error.to_string()),
        };
        let matched = matched.map_err(|error| Failure::new(format!("{}: {error}", file.display())))?;
        let mut claims = matched.claims.into_iter();
        let mut worked = StepOutput::new(matched.scene, matched.ledger);
        // Of the same keys that is promised where they stand; what lies between is in the notes.
        let world = Some(InWorld { metres: self.tolerance.length, angle: self.tolerance.angle });
        if let Some(first) = claims.next() {
            let promise = Promise::of(first.claim, self.tolerance, Scope::MotionAlone);
            let beside = claims.map(|other| Beside {
                source: Arc::new(other.motion),
                claim: other.claim,
                scope: None,
                held: Held::ToLimits,
            });
            let on_frames = keys == MatchKeys::Bounded && !self.between_frames;
            let remedy = on_frames.then_some("--between-frames");
            worked.promise = Some(Promise { world, beside: beside.collect(), remedy, ..promise });
            worked.origin = Some(first.motion);
        }
        Ok(worked)
    }

    fn closer(&self, factor: f64) -> Option<BoxedStep> {
        let closer = || RigMatch { tolerance: self.tolerance.times(factor), ..self.clone() };
        (self.keys == KeysArg::Bounded).then(|| Box::new(closer()) as BoxedStep)
    }
}

pub fn run(args: &RigMatch) -> Result<(), Failure> {
    let output = args.output.of(&args.file);
    let done = between_files(args, &args.file, args.input, &output)?;
    super::told((&args.file, &output), args.json, done, |ledger| {
        let changed = || ledger.entries.iter().filter(|entry| entry.fate != Fate::Kept);
        let keys: usize = changed().map(|entry| entry.after).sum();
        let before: usize = changed().filter(|entry| entry.after == 0).map(|entry| entry.before).sum();
        format!(
            "{} on controls, for {} on joints that these drive now",
            counted(keys, "key"),
            counted(before, "key")
        )
    })
}
