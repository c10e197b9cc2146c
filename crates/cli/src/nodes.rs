//! Which nodes a result has.

use std::path::Path;

use clap::Args;
use nimble_curve_core::choice::chosen_nodes;
use nimble_curve_core::judge::Scope;
use nimble_curve_core::ops::Tolerance;
use nimble_curve_core::ops::nodes::{Thinned, thin};
use nimble_curve_core::scene::Scene;

use crate::failure::Failure;
use crate::gate::{InWorld, Promise};
use crate::step::StepOutput;

/// Nodes that stay, as they are typed.
#[derive(Args, Clone, Debug, Default)]
pub struct NodesArgs {
    /// Nodes that the result has, by name, address, pattern with *, as @SET, or by kind: @joints, @controls, @locators, @ends,
    /// @roots; all where left out. What hung on one that goes moves in the world as it did
    #[arg(long, value_name = "PATTERN", num_args = 1.., value_delimiter = ',')]
    pub nodes: Vec<String>,
}

impl NodesArgs {
    pub fn is_everything(&self) -> bool {
        self.nodes.is_empty()
    }

    /// The scene with these nodes only, where not all are meant.
    pub fn thinned(
        &self,
        scene: &Scene,
        file: &Path,
        tolerance: Tolerance,
    ) -> Result<Option<Thinned>, Failure> {
        if self.is_everything() {
            return Ok(None);
        }
        let named = |error: &dyn std::fmt::Display| Failure::new(format!("{}: {error}", file.display()));
        let keep = chosen_nodes(scene, &self.nodes).map_err(|error| named(&error))?;
        Ok(Some(thin(scene, &keep, tolerance).map_err(|error| named(&error))?))
    }

    /// The same as a step of its own.
    pub fn work(&self, scene: &Scene, file: &Path, tolerance: Tolerance) -> Result<StepOutput, Failure> {
        match self.thinned(scene, file, tolerance)? {
            None => Ok(StepOutput::unchanged(scene)),
            Some(thinned) => {
                let promise = promised(scene, &thinned, tolerance);
                let output = StepOutput::new(thinned.scene, thinned.ledger);
                Ok(StepOutput { promise: Some(promise), ..output })
            }
        }
    }
}

/// That what stayed moves in the world as it did: turns within the tolerance; places within it and what its angle comes to over the size of
/// the rigs, as turns add up along a chain.
pub fn promised(scene: &Scene, thinned: &Thinned, tolerance: Tolerance) -> Promise {
    let size = scene.rigs.iter().flat_map(|rig| rig.rest_world()).map(|place| place.translation.length());
    let size = size.fold(0.0, f64::max) * scene.space.metres_per_unit;
    let world = InWorld { metres: tolerance.length + tolerance.angle * size, angle: tolerance.angle };
    let promise = Promise::of(thinned.claim.clone(), tolerance, Scope::Timeline);
    // A claim that says nothing of motion is of a scene without takes.
    Promise { world: (!thinned.claim.spans.is_empty()).then_some(world), ..promise }
}
