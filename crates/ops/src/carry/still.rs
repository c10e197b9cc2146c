//! What moves in the source and whose partner stays put: a hand that ranges over a metre beside a control that stands under
//! another parent and was given turns only. Turns agree there, and the motion is lost all the same.

use glam::DVec3;
use nimble_curve_scene::evaluate::{EvaluateError, Evaluator, Pose};
use nimble_curve_scene::ledger::{Entry, Fate, Ledger};
use nimble_curve_scene::rig::TRANSLATION;
use nimble_curve_scene::scene::{Scene, Take};

use super::Job;

/// How many instants of a take are looked at.
const LOOKS: i64 = 96;

/// In metres: what ranges less than this beside the body is not missed.
const LEAST: f64 = 0.05;

/// A partner that ranges over less than this part of what it should stays put.
const PART: f64 = 0.2;

impl Job<'_> {
    /// Names pairs of which the source's node ranges about beside the body and the target's does not. Both are looked at in
    /// the world, relative to the highest pair.
    pub(super) fn list_still(
        &self,
        result: &Scene,
        (take, made): (&Take, &Take),
        ledger: &mut Ledger,
    ) -> Result<(), EvaluateError> {
        let Some(first) = self.links.all.first() else { return Ok(()) };
        let places = (self.from.position(first.place.node), self.onto.position(first.target));
        let own = Ranges::of(self.source, take, (self.from.index, places.0))?;
        let theirs = Ranges::of(result, made, (self.onto.index, places.1))?;
        let least = LEAST / self.target.space.metres_per_unit;
        // The end of a chain goes as far as the chain that it stands for lets it.
        for link in self.links.all.iter().filter(|link| !link.in_chain) {
            let (node, target) = (link.place.node, link.target);
            let ranged = own.over[self.from.position(node)] * self.scale;
            let came = theirs.over[self.onto.position(target)];
            let name = |property: &str| self.from.target(node, property);
            let is_known = ledger.entries.iter().any(|entry| {
                entry.take == take.name
                    && entry.fate.is_gone()
                    && entry.target.as_ref() == Some(&name(TRANSLATION))
            });
            if ranged < least || came >= PART * ranged || is_known {
                continue;
            }
            let metres = |length: f64| length * self.target.space.metres_per_unit;
            ledger.entries.push(Entry {
                take: take.name.clone(),
                layer: take.layers.first().map_or(String::new(), |layer| layer.name.clone()),
                channel: self.source_addresses.property(&name(TRANSLATION)),
                to: Some(self.target_addresses.property(&self.onto.target(target, TRANSLATION))),
                target: Some(name(TRANSLATION)),
                fate: Fate::LeftOut,
                error: None,
                before: 0,
                after: 0,
                note: format!(
                    "its place in the world did not come over: it ranges over {:.2} m beside the body, its partner over {:.2} m, as it stands elsewhere in the hierarchy",
                    metres(ranged),
                    metres(came),
                ),
            });
        }
        Ok(())
    }
}

/// How far each node of a rig ranges in the world, beside one of them.
struct Ranges {
    over: Vec<f64>,
}

impl Ranges {
    fn of(scene: &Scene, take: &Take, (rig, beside): (usize, usize)) -> Result<Ranges, EvaluateError> {
        let mut poses = Evaluator::new(scene, Some(take), rig)?;
        let mut pose = Pose::default();
        let span = (take.range.last - take.range.first).as_f64();
        let mut bounds: Vec<(DVec3, DVec3)> = Vec::new();
        for look in 0..=LOOKS {
            poses.pose_at(take.range.first.as_f64() + span * look as f64 / LOOKS as f64, &mut pose);
            let (origin, turn) = (pose.world[beside].translation, pose.world_rotation[beside].conjugate());
            for (index, world) in pose.world.iter().enumerate() {
                let place = turn * (world.translation - origin);
                match bounds.get_mut(index) {
                    Some((low, high)) => (*low, *high) = (low.min(place), high.max(place)),
                    None => bounds.push((place, place)),
                }
            }
        }
        Ok(Ranges { over: bounds.into_iter().map(|(low, high)| (high - low).length()).collect() })
    }
}
