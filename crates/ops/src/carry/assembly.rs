//! One take carried: its tracks made, measured, and made again closer where they have to be.

use std::collections::{HashMap, HashSet};

use nimble_curve_curves::curve::Curve;
use nimble_curve_curves::rotation::ConversionCache;
use nimble_curve_scene::address::Addresses;
use nimble_curve_scene::ledger::{Entry, Fate, Ledger};
use nimble_curve_scene::rig::TRANSLATION;
use nimble_curve_scene::rig::{NodeId, NodeKind};
use nimble_curve_scene::scene::{Take, Target, Track};
use rayon::prelude::*;

use super::error::CarryError;
use super::job::{Job, Measured};
use super::links::NodePairing;
use super::measure::Stale;
use super::output::{Output, Role};
use super::scenes::{empty_layers, in_order_of};
use super::shares::ToleranceBudget;
use super::side::Side;
use super::tracks::Tracks;
use super::{DirectionMismatch, TravelBy};
use crate::channel::count;
use crate::standing::Standing;

/// Why nothing came of a node that was taken out.
const TAKEN_OUT: &str = "its node goes";

/// How often tolerances are shared out anew where errors add up along chains.
pub(super) const ROUNDS: usize = 12;

/// The part of the tolerance that nodes have at first where all of it was too much.
const CLOSER: f64 = 0.6;

/// A take that was made, its entries, and how far it is off.
type TakeMade = (Take, Vec<Entry>, Measured);

impl Job<'_> {
    pub(super) fn take(&self, tracks: &Tracks<'_>) -> Result<TakeMade, CarryError> {
        let (made, too_far) = self.take_by(tracks, 1.0, false)?;
        let fitted = || {
            let curves = tracks.take.tracks().flat_map(|(_, track)| track.controller.curves());
            curves.flat_map(Curve::keys).any(|key| key.fitted)
        };
        if !too_far || !fitted() {
            return Ok(made);
        }
        // A curve that is fitted anew changes everywhere, which may never come to rest along a chain: closer from the first it may,
        // with fewer keys than key by key.
        let (closer, too_far) = self.take_by(tracks, CLOSER, false)?;
        if too_far { Ok(self.take_by(tracks, 1.0, true)?.0) } else { Ok(closer) }
    }

    /// The take with all keys converted one by one, or those that a fit chose by fitting anew, each node within a part of the tolerance at
    /// first; and whether something is still too far off.
    fn take_by(
        &self,
        tracks: &Tracks<'_>,
        part: f64,
        key_by_key: bool,
    ) -> Result<(TakeMade, bool), CarryError> {
        let links = &self.links.all;
        let mut shares = ToleranceBudget::new(self.tolerance.angle * part, links.len(), tracks.take.range);
        let caches: Vec<ConversionCache> = links.iter().map(|_| ConversionCache::new(key_by_key)).collect();
        let turn = |shares: &ToleranceBudget, index: usize| {
            self.rotation(tracks, &links[index], shares.of(index), &caches[index])
        };
        let mut rotations: Vec<Vec<Output>> =
            (0..links.len()).into_par_iter().map(|index| turn(&shares, index)).collect();
        let length = self.tolerance.length / self.target.space.metres_per_unit;
        let shifts: Vec<Vec<Output>> =
            links.par_iter().map(|link| self.translation(tracks, link, length)).collect();
        let others: Vec<Output> = tracks
            .others
            .par_iter()
            .flat_map_iter(|&(layer, track)| self.other(tracks, layer, track, &self.tolerance))
            .collect();
        let is_refitted = |outputs: &[Output]| {
            outputs.iter().filter_map(|output| output.made.as_ref()).any(|made| made.fate >= Fate::Refitted)
        };
        // Errors add up along chains: shares shrink where they do too much.
        let world = self.world();
        let mut result = self.assembled(tracks, &rotations, &shifts, &others);
        let refitted: Vec<bool> = rotations.iter().map(|outputs| is_refitted(outputs)).collect();
        let any_refitted = refitted.contains(&true);
        let mut seen = self.measure(&world, (tracks.take, &result.0), any_refitted, &shares, None)?;
        let mut is_whole = true;
        // Each node by itself is within its share already.
        let rounds = if self.per_joint { 0 } else { ROUNDS };
        for _ in 0..rounds {
            let closer = shares.tighten(&world.compared, seen.excess(), &refitted);
            if closer.is_empty() {
                break;
            }
            let again: Vec<(usize, Vec<Output>)> =
                closer.into_par_iter().map(|index| (index, turn(&shares, index))).collect();
            let mut stale = Stale::default();
            for (index, outputs) in again {
                stale.note(index, &rotations[index], &outputs);
                rotations[index] = outputs;
            }
            result = self.assembled(tracks, &rotations, &shifts, &others);
            let known = Some((seen, stale));
            seen = self.measure(&world, (tracks.take, &result.0), true, &shares, known)?;
            is_whole = false;
        }
        if !is_whole {
            seen = self.measure(&world, (tracks.take, &result.0), true, &shares, None)?;
        }
        let too_far = rounds > 0 && !seen.excess().is_empty();
        Ok(((result.0, result.1, seen.measured(&world)), too_far))
    }

    /// The take that all outputs make, and its entries.
    pub(super) fn assembled(
        &self,
        tracks: &Tracks<'_>,
        rotations: &[Vec<Output>],
        shifts: &[Vec<Output>],
        others: &[Output],
    ) -> (Take, Vec<Entry>) {
        let take = tracks.take;
        let mut outputs: Vec<&Output> =
            rotations.iter().zip(shifts).flat_map(|(a, b)| b.iter().chain(a)).collect();
        outputs.extend(others);
        let mut made = empty_layers(take);
        let order: HashMap<(usize, &Target), usize> = (take.tracks().enumerate())
            .map(|(index, (layer, track))| ((layer, &track.target), index))
            .collect();
        let mut placed: Vec<(usize, usize, Track)> = Vec::new();
        let mut entries = Vec::new();
        let mut answered: HashMap<(usize, Target), Option<Role>> = HashMap::new();
        for &output in &outputs {
            let Some((entry, track)) = self.entry(take, output) else { continue };
            if let Some(track) = track {
                let from = output.from.as_ref().map(|(layer, from, _)| (*layer, from));
                let rank = from.and_then(|from| order.get(&from).copied()).unwrap_or(usize::MAX);
                placed.push((rank, output.layer, track));
            }
            if let (Some((layer, from, _)), Role::Main | Role::Failed) = (&output.from, output.role) {
                // One answer a track: that it was carried counts for more than that it was not.
                let place = (*layer, from.clone());
                if output.role == Role::Failed && answered.contains_key(&place) {
                    continue;
                }
                answered.insert(place, Some(output.role));
                entries.push(entry);
            }
        }
        // In the order in which the source has them.
        placed.sort_by_key(|(rank, ..)| *rank);
        for (_, layer, track) in placed {
            made.layers[layer].tracks.push(track);
        }
        for &output in outputs.iter().filter(|output| output.role == Role::Beside) {
            let Some((mut entry, _)) = self.entry(take, output) else { continue };
            if let Some((layer, from, _)) = &output.from {
                // A track without a main answer is answered for by the first one beside; its keys count once.
                let place = (*layer, from.clone());
                if answered.insert(place, Some(output.role)).is_some() {
                    entry.before = 0;
                }
            }
            entries.push(entry);
        }
        for &output in outputs.iter().filter(|output| output.role == Role::Folded) {
            let Some((layer, from, _)) = &output.from else { continue };
            if answered.contains_key(&(*layer, from.clone())) {
                continue;
            }
            answered.insert((*layer, from.clone()), None);
            entries.extend(self.entry(take, output).map(|(entry, _)| entry));
        }
        // What nobody has answered for.
        let nobody = take.tracks().filter(|(layer, track)| {
            track.target.rig == self.from.index && !answered.contains_key(&(*layer, track.target.clone()))
        });
        for (layer, track) in nobody {
            // The second track of one property on a layer counts as the first.
            let is_left_out = self.links.left_out.contains(&track.target.node);
            let is_taken_out = self.is_taken_out(track.target.node);
            let own = [
                self.source_addresses.property(&track.target),
                self.source_addresses.node(self.from.node(track.target.node)).to_owned(),
            ];
            let is_selected = self.chosen.is_everything() || self.chosen.takes(&own);
            let goes = is_left_out || is_taken_out || !is_selected;
            let fate = if goes { Fate::NotSelected } else { Fate::LeftOut };
            let why = if is_left_out {
                "left out by the map"
            } else if is_taken_out {
                TAKEN_OUT
            } else if !is_selected {
                ""
            } else if self.links.of_source(track.target.node).is_some() {
                "its chain has no place for it"
            } else {
                "no partner in the target"
            };
            entries.push(self.bare(take, layer, &track.target, count(track), fate, why.into()));
        }
        in_order_of(take, self.source_addresses, &mut entries);
        (made, entries)
    }

    /// Whether a node of the source was taken out of the target on purpose.
    fn is_taken_out(&self, node: NodeId) -> bool {
        self.same_rigs && !self.links.is_source(node)
    }

    pub(super) fn bare(
        &self,
        take: &Take,
        layer: usize,
        from: &Target,
        before: usize,
        fate: Fate,
        note: String,
    ) -> Entry {
        Entry {
            take: take.name.clone(),
            layer: take.layers[layer].name.clone(),
            channel: self.source_addresses.property(from),
            to: None,
            target: Some(from.clone()),
            fate,
            error: None,
            before,
            after: 0,
            note,
        }
    }

    /// The entry of an output and the track that it gives, selection and locks counted.
    pub(super) fn entry(&self, take: &Take, output: &Output) -> Option<(Entry, Option<Track>)> {
        let target = output.target.as_ref();
        let (layer, from, before) = match &output.from {
            Some((layer, from, count)) => (*layer, from.clone(), *count),
            None => (output.layer, target?.clone(), 0),
        };
        let fate = output.made.as_ref().map_or(Fate::Refitted, |made| made.fate);
        let mut entry = match output.from {
            Some(_) => self.bare(take, layer, &from, before, fate, output.note.clone()),
            None => Entry {
                channel: self.target_addresses.property(&from),
                target: None,
                ..self.bare(
                    take,
                    layer,
                    &self.from.target(self.links.all[0].place.node, &from.property),
                    0,
                    fate,
                    output.note.clone(),
                )
            },
        };
        if output.role == Role::Failed {
            let gone = match self.is_taken_out(from.node) {
                true => Entry { fate: Fate::NotSelected, note: TAKEN_OUT.into(), ..entry },
                false => Entry { fate: Fate::LeftOut, ..entry },
            };
            return Some((gone, None));
        }
        let target = target?;
        entry.to = Some(self.target_addresses.property(target));
        let mut names = vec![entry.channel.clone(), self.target_addresses.property(target)];
        names.push(self.target_addresses.node(self.onto.node(target.node)).to_owned());
        if output.from.is_some() {
            names.push(self.source_addresses.node(self.from.node(from.node)).to_owned());
        }
        if !self.chosen.takes(&names) {
            let left = Entry { fate: Fate::NotSelected, to: None, note: String::new(), ..entry };
            return (output.role != Role::Beside).then_some((left, None));
        }
        let node = self.onto.rig.node(target.node)?;
        if node.is_locked(&target.property, None) {
            return Some((Entry { fate: Fate::LeftOut, note: "locked in the target".into(), ..entry }, None));
        }
        if output.role == Role::Folded {
            return Some((entry, None));
        }
        let made = output.made.as_ref()?;
        let mut controller = made.controller.clone();
        let locked = (0..3).filter(|&axis| node.is_locked(&target.property, Some(axis)));
        let locked: Vec<usize> = locked.collect();
        if !locked.is_empty() {
            let curves: Option<&mut [nimble_curve_curves::curve::Curve]> = match &mut controller {
                nimble_curve_scene::controller::Controller::Components(curves) if curves.len() == 3 => {
                    Some(curves)
                }
                nimble_curve_scene::controller::Controller::Euler(euler) => Some(&mut euler.curves),
                _ => None,
            };
            let letters: Vec<&str> =
                locked.iter().map(|&axis| nimble_curve_scene::address::COMPONENTS[axis]).collect();
            let Some(curves) = curves else {
                let note = format!("{} locked in the target", letters.join(" and "));
                return Some((Entry { fate: Fate::LeftOut, note, ..entry }, None));
            };
            let moving = locked.iter().any(|&axis| !curves[axis].is_empty());
            for &axis in &locked {
                curves[axis] = nimble_curve_curves::curve::Curve::default();
            }
            if moving {
                let more = format!("{} locked in the target: left at rest", letters.join(" and "));
                entry.note = if entry.note.is_empty() { more } else { format!("{}; {more}", entry.note) };
            }
        }
        let track = Track { target: target.clone(), controller };
        entry.after = count(&track);
        entry.error = made.error;
        let was_changed = self.changed.contains(&(take.name.clone(), entry.channel.clone()));
        if entry.fate == Fate::Kept && was_changed {
            entry.fate = Fate::Exact;
        }
        Some((entry, Some(track)))
    }

    /// The ratio of the legs below the topmost paired nodes that move, else below the topmost that are paired; of the heights of those
    /// that move where a rig has no legs, or none that can be told, or of what controls drive where these alone move, as they may stand
    /// anywhere; 1 where there is nothing to compare.
    pub(super) fn leg_ratio(&self, are_legged: bool) -> (f64, TravelBy) {
        let by = |are_legged: bool| if are_legged { TravelBy::Legs } else { TravelBy::Heights };
        let heights = || self.ratio(false).filter(|_| are_legged).map(|ratio| (ratio, by(false)));
        let found = self.ratio(are_legged).map(|ratio| (ratio, by(are_legged))).or_else(heights);
        let (ratio, by) = found.unwrap_or((1.0, TravelBy::Nothing));
        // The same rig in another unit is the same size.
        (if (ratio - 1.0).abs() < 1e-9 { 1.0 } else { ratio }, by)
    }

    /// The ratio of legs, or of heights.
    fn ratio(&self, are_legged: bool) -> Option<f64> {
        let shifts: HashSet<NodeId> = (self.source.takes.iter().flat_map(Take::tracks))
            .filter(|(_, track)| track.target.rig == self.from.index && track.target.property == TRANSLATION)
            .map(|(_, track)| track.target.node)
            .collect();
        let up = self.target.space.up.index();
        let legs = |link: &NodePairing| {
            if !are_legged {
                let height = |side: &Side<'_>, node: NodeId| side.places[side.position(node)].translation[up];
                let heights = (height(&self.from, link.place.node), height(&self.onto, link.target));
                return Some(heights).filter(|(own, other)| *own > 1e-6 && *other > 1e-6);
            }
            let leg = |side: &Side<'_>, node: NodeId| Standing::of(side.rig, node, up)?.leg(&side.places);
            Some((leg(&self.from, link.place.node)?, leg(&self.onto, link.target)?))
        };
        let moves = |link: &&NodePairing| link.translation.is_some_and(|node| shifts.contains(&node));
        let all = &self.links.all;
        let is_control = |link: &&NodePairing| {
            let node = self.from.rig.node(link.place.node);
            node.is_some_and(|node| node.kind.is_for_controls())
        };
        let moving = || all.iter().filter(moves);
        let found = moving().filter(|link| !is_control(link)).find_map(legs);
        let controls_alone = moving().next().is_some() && moving().all(|link| is_control(&link));
        let body = || all.iter().filter(|link| !is_control(link) && (are_legged || controls_alone));
        let found = found.or_else(|| body().find_map(legs)).or_else(|| moving().find_map(legs));
        found.map(|(own, other)| other / own)
    }

    /// Names the nodes of both sides that have no partner.
    pub(super) fn list_unpaired(&self, moved: &HashSet<NodeId>, ledger: &mut Ledger) {
        if self.same_rigs {
            return;
        }
        let names =
            |side: &Side<'_>, addresses: &Addresses, is_paired: &dyn Fn(NodeId) -> bool| -> Vec<String> {
                (side.rig.nodes())
                    .filter(|(id, node)| !is_paired(*id) && !node.kind.is_support())
                    .map(|(id, _)| addresses.node(side.node(id)).to_owned())
                    .collect()
            };
        let is_control =
            |id: NodeId| self.onto.rig.node(id).is_some_and(|node| node.kind == NodeKind::Control);
        let missing = names(&self.onto, self.target_addresses, &|id| {
            self.links.is_target(id) || moved.contains(&id) || self.onto_controls && is_control(id)
        });
        if !missing.is_empty() {
            ledger
                .notes
                .push(format!("stay at rest in the target, having no partner: {}", missing.join(", ")));
        }
        let carried: HashSet<&str> = (ledger.entries.iter())
            .filter(|entry| !entry.fate.is_gone())
            .filter_map(|entry| entry.channel.rsplit_once(':').map(|(node, _)| node))
            .collect();
        let idle = names(&self.from, self.source_addresses, &|id| {
            self.links.is_source(id) || carried.contains(self.source_addresses.node(self.from.node(id)))
        });
        if !idle.is_empty() {
            ledger.notes.push(format!("of the source, without a partner on the target: {}", idle.join(", ")));
        }
    }

    /// Paired bones that point elsewhere in the two reference poses.
    pub(super) fn apart(&self) -> Vec<DirectionMismatch> {
        let mut found = Vec::new();
        for link in self.links.all.iter().filter(|link| !link.in_chain) {
            // A bone points to the next pair below it.
            let below = self.links.all.iter().find(|below| {
                self.links.above(self.onto.rig, below.target).is_some_and(|above| above.target == link.target)
                    && self.from.upwards(below.place.node).skip(1).any(|id| id == link.place.node)
            });
            let Some(below) = below else { continue };
            let point = |side: &Side<'_>, a: NodeId, b: NodeId| {
                (side.places[side.position(b)].translation - side.places[side.position(a)].translation)
                    .try_normalize()
            };
            let (Some(a), Some(b)) = (
                point(&self.from, link.place.node, below.place.node),
                point(&self.onto, link.target, below.target),
            ) else {
                continue;
            };
            found.push(DirectionMismatch {
                source: self.source_addresses.node(self.from.node(link.place.node)).to_owned(),
                target: self.target_addresses.node(self.onto.node(link.target)).to_owned(),
                angle: a.dot(b).clamp(-1.0, 1.0).acos(),
            });
        }
        found
    }
}
