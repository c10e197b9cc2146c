//! `rig match`: joint motion put onto controls.

use std::io::Write;
use std::path::Path;
use std::sync::Arc;

use nimble_curve_core::judge::Scope;
use nimble_curve_core::ledger::Fate;
use nimble_curve_core::ops::control_rig::{Limbs, MatchKeys, MatchOptions, match_controls};
use nimble_curve_core::scene::Scene;

use crate::args::{KeysArg, LimbArg, RigMatch};
use crate::failure::Failure;
use crate::gate::{Beside, Held, InWorld, Promise};
use crate::report::{self, LedgerJson, counted};
use crate::step::{SceneCache, Step, StepOutput, between_files};
use crate::terminal::Report;

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
            between_frames: self.between_frames,
        };
        let matched = match_controls(scene, &options)
            .map_err(|error| Failure::new(format!("{}: {error}", file.display())))?;
        let mut claims = matched.claims.into_iter();
        let mut worked = StepOutput::new(matched.scene, matched.ledger);
        // Between keys nothing is promised of the same keys; what lies there is in the notes.
        let world = (keys == MatchKeys::Bounded)
            .then_some(InWorld { metres: self.tolerance.length, angle: self.tolerance.angle });
        if let Some(first) = claims.next() {
            let promise = Promise::of(first.claim, self.tolerance, Scope::MotionAlone);
            let beside = claims.map(|other| Beside {
                source: Arc::new(other.motion),
                claim: other.claim,
                scope: None,
                held: Held::ToLimits,
            });
            worked.promise = Some(Promise { world, beside: beside.collect(), ..promise });
            worked.origin = Some(first.motion);
        }
        Ok(worked)
    }

    fn closer(&self, factor: f64) -> Option<RigMatch> {
        (self.keys == KeysArg::Bounded)
            .then(|| RigMatch { tolerance: self.tolerance.times(factor), ..self.clone() })
    }
}

pub fn run(args: &RigMatch) -> Result<(), Failure> {
    let output = args.output.of(&args.file);
    let (scene, StepOutput { ledger, outcome, closing, .. }) =
        between_files(args, &args.file, args.input, &output)?;
    let mut out = Report::beside(&output.path);
    if args.json {
        return Ok(report::print_json(&mut out, &LedgerJson::new(&ledger, &scene.space))?);
    }
    let arrow = format!("{} → {}", args.file.display(), output.path.display());
    report::head(&mut out, &arrow, &outcome)?;
    let is_told = |fate: Fate| fate != Fate::Kept;
    let on_controls = ledger.entries.iter().filter(|entry| is_told(entry.fate) && entry.after > 0);
    let keys: usize = on_controls.clone().map(|entry| entry.after).sum();
    let gone = ledger.entries.iter().filter(|entry| is_told(entry.fate) && entry.after == 0);
    report::print_entries(&mut out, on_controls, &scene.space)?;
    let before: usize = gone.clone().map(|entry| entry.before).sum();
    writeln!(
        out,
        "  {} on controls, for {} on joints that these drive now",
        counted(keys, "key"),
        counted(before, "key")
    )?;
    let kept = ledger.count(Fate::Kept);
    if kept > 0 {
        writeln!(out, "  {} kept", counted(kept, "track"))?;
    }
    report::print_remarks(&mut out, &ledger.notes)?;
    Ok(report::close(&mut out, &closing)?)
}
