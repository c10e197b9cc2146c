//! `rig switch`: limbs and controls that go by something else for some frames.

use std::path::Path;

use nimble_curve_core::judge::Scope;
use nimble_curve_core::ops::control_rig::{SwitchOptions, Switched, To, switch};
use nimble_curve_core::scene::Scene;

use crate::args::{KindArg, RigSwitch};
use crate::failure::Failure;
use crate::gate::{InWorld, Promise};
use crate::step::{BoxedStep, SceneCache, Step, StepOutput, between_files};

impl Step for RigSwitch {
    fn work(&self, scene: &Scene, file: &Path, _: &SceneCache) -> Result<StepOutput, Failure> {
        let to = match (&self.limb, self.to, &self.control, &self.space) {
            (Some(limb), Some(to), ..) => To::Limb { limb: limb.clone(), by_goal: to == KindArg::Ik },
            (_, _, Some(control), Some(space)) => {
                To::Space { control: control.clone(), space: space.clone() }
            }
            _ => return Err(Failure::new("say --limb and --to, or --control and --space")),
        };
        let ticks = |frame: i64| scene.rate.ticks(frame);
        let options = SwitchOptions {
            to,
            from: ticks(self.frames.0),
            until: self.frames.1.map(ticks),
            over: scene.rate.ticks(self.over),
            take: self.take.clone(),
            between_frames: self.between_frames,
            tolerance: self.tolerance,
        };
        let Switched { scene: result, ledger, claim } =
            switch(scene, &options).map_err(|error| Failure::new(format!("{}: {error}", file.display())))?;
        let mut worked = StepOutput::new(result, ledger);
        let promise = Promise::of(claim, self.tolerance, Scope::Everything);
        let world = InWorld { metres: self.tolerance.length, angle: self.tolerance.angle };
        worked.promise = Some(Promise { world: Some(world), ..promise });
        Ok(worked)
    }

    fn closer(&self, factor: f64) -> Option<BoxedStep> {
        Some(Box::new(RigSwitch { tolerance: self.tolerance.times(factor), ..self.clone() }))
    }
}

pub fn run(args: &RigSwitch) -> Result<(), Failure> {
    let output = args.output.of(&args.file);
    let done = between_files(args, &args.file, args.input, &output)?;
    super::told((&args.file, &output), args.json, done, |_| String::new())
}
