//! Pairs of nodes of which one, or both, are lists of steps such as pivots, and not the same ones: carried by what their steps come to.

use std::collections::{BTreeMap, HashMap};

use glam::DAffine3;
use nimble_curve_curves::rotation::RotationOrder;
use nimble_curve_scene::address::{Addresses, NodeRef};
use nimble_curve_scene::ledger::{Entry, Fate, Ledger};
use nimble_curve_scene::parts::decomposed;
use nimble_curve_scene::rig::{Node, OpValue, ROTATION, SCALE, TRANSLATION, TransformOp};
use nimble_curve_scene::scene::{Scene, Target, Track};

use super::map::NameMap;
use super::steps::{OwnSteps, Restated};
use super::{Carried, CarryError, CarryOptions, Job, PoseAt, carry_said};
use crate::adapt::as_wholes;

/// Nodes of a target whose own steps cannot say what is to come to them, and why.
pub(super) type Unsaid = HashMap<NodeRef, String>;

/// Nodes that have to be plain before their motion can go over.
#[derive(Debug, Default)]
pub(super) struct Unlike {
    source: HashMap<NodeRef, RotationOrder>,
    target: BTreeMap<NodeRef, OwnSteps>,
}

impl Unlike {
    /// Those of all pairs. A partner whose own steps can say no turn is not among them: it is left out, and named.
    pub fn of(jobs: &[Job<'_>]) -> Unlike {
        let mut unlike = Unlike::default();
        for job in jobs.iter().filter(|job| !job.same_rigs) {
            for link in &job.links.all {
                let (node, partner) = (link.place.node, link.target);
                let (is_list, onto_list) = (job.from.view(node).is_none(), job.onto.view(partner).is_none());
                if !(is_list || onto_list) || job.is_untouched(link) || job.is_same_list(link) {
                    continue;
                }
                let is_hopeless = job.unsaid.contains_key(&job.onto.node(partner));
                let is_plain = |node: Option<&Node>| node.is_some_and(|node| !is_sheared(node));
                if !is_plain(job.from.rig.node(node)) || !is_plain(job.onto.rig.node(partner)) {
                    continue;
                }
                let own = job.onto.rig.node(partner).and_then(OwnSteps::of).filter(|_| !is_hopeless);
                match (onto_list, own) {
                    (true, None) => continue,
                    (true, Some(own)) => {
                        unlike.target.insert(job.onto.node(partner), own);
                    }
                    (false, _) => {}
                }
                if is_list {
                    unlike.source.insert(job.from.node(node), RotationOrder::Xyz);
                }
            }
        }
        unlike
    }

    pub fn is_empty(&self) -> bool {
        self.source.is_empty() && self.target.is_empty()
    }

    /// Carries by what the steps come to, and says that by the target's own steps again; else which nodes' steps cannot say it, and why.
    ///
    /// # Errors
    /// As carrying itself.
    pub fn carried(
        &self,
        (source, target): (&Scene, &Scene),
        map: &NameMap,
        options: &CarryOptions,
        unsaid: &Unsaid,
    ) -> Result<Result<Carried, Unsaid>, CarryError> {
        let mut options = options.clone();
        // Half for the way over, a quarter for what the steps come to, and a quarter for the target's own steps.
        options.tolerance = options.tolerance.times(0.5);
        let followed_to = options.tolerance.times(0.5);
        let (plain_source, followed) =
            with_pose(source, &mut options.source_pose, |scene| as_wholes(scene, &self.source, &followed_to));
        let orders = self.target.iter().map(|(node, steps)| (*node, steps.order())).collect();
        let (plain_target, _) =
            with_pose(target, &mut options.target_pose, |scene| as_wholes(scene, &orders, &followed_to));
        let mut carried = carry_said(&plain_source, &plain_target, map, &options, unsaid)?;
        let failed = self.restate(target, &mut carried, &options);
        if !failed.is_empty() {
            return Ok(Err(failed));
        }
        let addresses = (Addresses::new(source), Addresses::new(target));
        carried.ledger = self.ledger(followed, &carried, (&addresses.0, &addresses.1));
        carried.claim = carried.claim.excusing(source, &carried.ledger);
        Ok(Ok(carried))
    }

    /// Puts the target's own lists back, and the carried tracks onto their steps; says of which nodes that could not be, and why.
    fn restate(&self, target: &Scene, carried: &mut Carried, options: &CarryOptions) -> Unsaid {
        let mut failed = Unsaid::new();
        let own = target.takes.len();
        let plain = carried.scene.clone();
        for (take, made) in plain.takes.iter().zip(&mut carried.scene.takes).skip(own) {
            for (&node, steps) in &self.target {
                let is_of = |track: &Track| {
                    (track.target.rig, track.target.node) == node && is_placing(&track.target.property)
                };
                let mut layers: Vec<usize> =
                    take.tracks().filter(|(_, track)| is_of(track)).map(|(layer, _)| layer).collect();
                layers.dedup();
                let restated = match layers[..] {
                    [] => continue,
                    [0] => Restated { scene: &plain, take, node, steps, options }.tracks(),
                    _ => Err("layers cannot be said by the partner's steps: --flatten writes them together"
                        .to_owned()),
                };
                for layer in &mut made.layers {
                    layer.tracks.retain(|track| !is_of(track));
                }
                match (restated, made.layers.first_mut()) {
                    (Ok(tracks), Some(base)) => base.tracks.extend(tracks),
                    (Ok(_), None) => {}
                    (Err(why), _) => {
                        failed.insert(node, why);
                    }
                }
            }
        }
        carried.scene.rigs.clone_from(&target.rigs);
        carried.scene.takes.splice(..own, target.takes.iter().cloned());
        failed
    }

    /// What became of the source's own steps, on the target's own steps.
    fn ledger(&self, followed: Ledger, carried: &Carried, (from, onto): (&Addresses, &Addresses)) -> Ledger {
        let mut over = carried.ledger.clone();
        // The target's own steps, by the addresses of the plain ones.
        let mut steps: HashMap<String, String> = HashMap::new();
        for (&(rig, node), own) in &self.target {
            for property in [TRANSLATION, ROTATION] {
                if let Some(name) = own.name_of(property) {
                    let address = |property: &str| onto.property(&Target::new(rig, node, property));
                    steps.insert(address(property), address(name));
                }
            }
        }
        for entry in &mut over.entries {
            let Some(address) = entry.to.as_ref().or(Some(&entry.channel)).and_then(|to| steps.get(to))
            else {
                continue;
            };
            if entry.fate.is_gone() {
                continue;
            }
            entry.to = Some(address.clone());
            entry.fate = entry.fate.max(Fate::Refitted);
            add(&mut entry.note, "said by the partner's own steps");
        }
        let plain =
            |target: &Target, property: &str| from.property(&Target::new(target.rig, target.node, property));
        let mut taken: Vec<(String, String)> = Vec::new();
        let mut entries = Vec::with_capacity(followed.entries.len());
        for mut entry in followed.entries {
            let target =
                entry.target.clone().filter(|target| self.source.contains_key(&(target.rig, target.node)));
            let Some(target) = target.filter(|_| !entry.fate.is_gone()) else {
                entries.push(entry);
                continue;
            };
            let by = |property: &str| {
                let channel = plain(&target, property);
                over.entries.iter().find(|own| own.take == entry.take && own.channel == channel)
            };
            let mut to = [ROTATION, TRANSLATION, SCALE].into_iter().filter_map(by).peekable();
            let Some(first) = to.peek().copied() else {
                // What all its steps come to stands still.
                add(&mut entry.note, "nothing moves");
                entries.push(Entry { after: 0, ..entry });
                continue;
            };
            let is_first = !taken.contains(&(entry.take.clone(), first.channel.clone()));
            let all: Vec<&Entry> = to.collect();
            taken.extend(all.iter().map(|own| (own.take.clone(), own.channel.clone())));
            let gone = all.iter().find(|own| own.fate.is_gone());
            entry.after = if is_first { all.iter().map(|own| own.after).sum() } else { 0 };
            entry.to.clone_from(&first.to);
            entry.error = first.error.or(entry.error);
            entry.fate = all.iter().map(|own| own.fate).fold(entry.fate, Fate::max);
            match gone {
                Some(gone) => entry.note.clone_from(&gone.note),
                None => add(&mut entry.note, &first.note),
            }
            entries.push(entry);
        }
        over.entries.retain(|entry| !taken.contains(&(entry.take.clone(), entry.channel.clone())));
        Ledger { entries, notes: followed.notes }.followed_by(over)
    }
}

/// Whether a node's steps shear, or may: a place, a turn and a size do not say that.
fn is_sheared(node: &Node) -> bool {
    let rest = node.rest();
    let (scale, turn, place) = decomposed(&rest);
    let plain = DAffine3::from_scale_rotation_translation(scale, turn, place);
    let can_shear = |step: &TransformOp| matches!(step.value, OpValue::Shear(_));
    node.transform.iter().any(can_shear) || !plain.abs_diff_eq(rest, 1e-9 * (1.0 + place.length()))
}

/// Whether a property places or turns a node as a whole.
fn is_placing(property: &str) -> bool {
    matches!(property, TRANSLATION | ROTATION)
}

fn add(note: &mut String, more: &str) {
    if !more.is_empty() && !note.contains(more) {
        if !note.is_empty() {
            note.push_str("; ");
        }
        note.push_str(more);
    }
}

/// A scene that was changed together with a pose of it, which is an instant of a take of its rigs.
fn with_pose(
    scene: &Scene,
    pose: &mut Option<PoseAt>,
    change: impl Fn(&Scene) -> (Scene, Ledger),
) -> (Scene, Ledger) {
    let takes = scene.takes.iter().cloned().chain(pose.iter().map(|pose| pose.take.clone())).collect();
    let (mut changed, mut ledger) = change(&Scene { takes, ..scene.clone() });
    if let Some(pose) = pose
        && let Some(take) = changed.takes.pop()
    {
        pose.take = take;
        let count = scene.takes.iter().map(|take| take.tracks().count()).sum();
        ledger.entries.truncate(count);
    }
    (changed, ledger)
}
