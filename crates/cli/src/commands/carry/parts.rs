//! What came over, by parts of the body.

use std::collections::{BTreeMap, HashSet};

use nimble_curve_core::address::{Addresses, NodeRef};
use nimble_curve_core::ledger::{Entry, Fate, Ledger};
use nimble_curve_core::ops::carry::{Carried, CarriedRig};
use nimble_curve_core::ops::{body_part, body_part_rank};
use nimble_curve_core::rig::{NodeId, Rig};
use nimble_curve_core::scene::{Scene, Take};
use nimble_curve_core::value::Quantity;
use serde::Serialize;

use crate::failure::Failure;
use crate::report::amount;
use crate::table::{Align, Table};
use crate::terminal::{Report, Style};

/// What came over to one part of the body.
#[derive(Clone, Debug, Default, Serialize)]
pub(super) struct Part {
    /// The two rigs, where a scene has several.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(super) rig: Option<String>,
    pub(super) part: String,
    /// Tracks of the source that are on it.
    pub(super) tracks: usize,
    pub(super) exact: usize,
    pub(super) refitted: usize,
    pub(super) left_out: usize,
    pub(super) not_selected: usize,
    /// Joints of the target that move, and how many there are.
    pub(super) moved: usize,
    pub(super) joints: usize,
    #[serde(skip)]
    pub(super) largest: f64,
    /// Whether the source has such a part at all.
    #[serde(skip)]
    in_source: bool,
}

/// What came over, by rigs and parts of the body: tracks by where they are on the source, joints by where they are on the target.
pub(super) fn parts(ledger: &Ledger, source: &Scene, target: &Scene, carried: &Carried) -> Vec<Part> {
    let mut all = Parts::of(source, target, &carried.rigs);
    for entry in ledger.entries.iter().filter(|entry| entry.before > 0 || entry.fate != Fate::Kept) {
        all.take_in(entry);
    }
    let own = target.takes.len();
    let moved: HashSet<NodeRef> = (carried.scene.takes[own..].iter().flat_map(Take::tracks))
        .map(|(_, track)| (track.target.rig, track.target.node))
        .collect();
    for (index, pair) in carried.rigs.iter().enumerate() {
        let rig = pair.rigs.target;
        for (id, node) in target.rigs[rig].nodes().filter(|(_, node)| !node.kind.is_support()) {
            let part = all.part(index, part_of(&target.rigs[rig], id, !node.attributes.is_empty()));
            part.joints += 1;
            part.moved += usize::from(moved.contains(&(rig, id)));
        }
        let from = &source.rigs[pair.rigs.source];
        for (id, node) in from.nodes().filter(|(_, node)| !node.kind.is_support()) {
            all.is_in_source(index, &part_of(from, id, !node.attributes.is_empty()));
        }
    }
    all.by_rank.into_values().collect()
}

fn part_of(rig: &Rig, node: NodeId, is_control: bool) -> String {
    if is_control { "controls".to_owned() } else { body_part(rig, node) }
}

/// The parts of all rigs, in their order.
struct Parts<'a> {
    source: &'a Scene,
    addresses: Addresses,
    /// For each rig of the source, where its parts stand and what they go by.
    rigs: Vec<(usize, Option<String>)>,
    by_rank: BTreeMap<(usize, usize, String), Part>,
}

impl<'a> Parts<'a> {
    fn of(source: &'a Scene, target: &Scene, pairs: &[CarriedRig]) -> Parts<'a> {
        let is_single = source.rigs.len() == 1 && target.rigs.len() == 1;
        let place = |(rig, own): (usize, &Rig)| match pairs.iter().position(|pair| pair.rigs.source == rig) {
            _ if is_single => (0, None),
            Some(at) => (at, Some(format!("{} → {}", own.name, target.rigs[pairs[at].rigs.target].name))),
            None => (pairs.len() + rig, Some(own.name.clone())),
        };
        let rigs = source.rigs.iter().enumerate().map(place).collect();
        Parts { source, addresses: Addresses::new(source), rigs, by_rank: BTreeMap::new() }
    }

    /// Where a part stands among the others.
    fn rank(name: &str) -> usize {
        if name == "controls" { 100 } else { body_part_rank(name) }
    }

    /// Notes that the source has a part, where that is one that is told of.
    fn is_in_source(&mut self, at: usize, name: &str) {
        if let Some(part) = self.by_rank.get_mut(&(at, Parts::rank(name), name.to_owned())) {
            part.in_source = true;
        }
    }

    /// A part of the rigs that stand at a place.
    fn part(&mut self, at: usize, name: String) -> &mut Part {
        let rank = Parts::rank(&name);
        let rig = self.rigs.iter().find(|(place, _)| *place == at).and_then(|(_, name)| name.clone());
        let part = || Part { rig, part: name.clone(), ..Part::default() };
        self.by_rank.entry((at, rank, name.clone())).or_insert_with(part)
    }

    fn take_in(&mut self, entry: &Entry) {
        let Ok(place) = self.addresses.find_property(&self.source.rigs, &entry.channel) else { return };
        let rig = &self.source.rigs[place.rig];
        let is_attribute = rig.node(place.node).is_some_and(|node| node.attribute(&place.property).is_some());
        let part = self.part(self.rigs[place.rig].0, part_of(rig, place.node, is_attribute));
        part.tracks += 1;
        match entry.fate {
            Fate::Kept | Fate::Exact => part.exact += 1,
            Fate::Refitted | Fate::Sampled => part.refitted += 1,
            Fate::LeftOut => part.left_out += 1,
            Fate::NotSelected => part.not_selected += 1,
        }
        if let Some(error) = entry.error.filter(|error| error.quantity == Quantity::Angle) {
            part.largest = part.largest.max(error.largest);
        }
    }
}

pub(super) fn print_parts(
    out: &mut Report,
    parts: &[Part],
    space: &nimble_curve_core::space::Space,
) -> Result<(), Failure> {
    let mut table = Table::new(&[
        ("rigs", Align::Left),
        ("part", Align::Left),
        ("in source", Align::Right),
        ("exact", Align::Right),
        ("refitted", Align::Right),
        ("error", Align::Right),
        ("left out", Align::Right),
        ("moving", Align::Right),
        ("remark", Align::Left),
    ]);
    let mut last_rig = None;
    for part in parts.iter().filter(|part| part.tracks > 0 || part.joints > 0) {
        let came = part.exact + part.refitted;
        let remark = match (part.tracks, came, part.joints) {
            (0, _, _) if part.moved > 0 => "moves with others",
            (0, _, _) if part.in_source => "still in the source",
            (0, _, _) => "not in the source",
            (tracks, 0, _) if part.not_selected == tracks => "stays behind, as asked",
            (_, 0, _) => "did not come over",
            (_, _, 0) => "",
            _ if part.left_out > 0 => "some left out",
            _ => "",
        };
        let zero = |count: usize| if count == 0 { "·".to_owned() } else { count.to_string() };
        let rig = if part.rig == last_rig { None } else { part.rig.clone() };
        last_rig.clone_from(&part.rig);
        let cells = [
            rig.unwrap_or_default(),
            part.part.clone(),
            zero(part.tracks),
            zero(part.exact),
            zero(part.refitted),
            if part.largest > 0.0 { amount(part.largest, Quantity::Angle, space) } else { String::new() },
            zero(part.left_out),
            if part.joints > 0 { format!("{} of {}", part.moved, part.joints) } else { String::new() },
            remark.to_owned(),
        ];
        match remark {
            "did not come over" => table.styled(Style::Bad, cells),
            "some left out" => table.styled(Style::Warn, cells),
            "still in the source" | "not in the source" | "stays behind, as asked" => {
                table.styled(Style::Faint, cells)
            }
            _ => table.row(cells),
        }
    }
    table.least_telling(&["moving", "in source"]).without_empty_columns().print(out)?;
    Ok(())
}
