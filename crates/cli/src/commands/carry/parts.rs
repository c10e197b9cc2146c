//! What came over, by parts of the body.

use std::collections::{BTreeMap, HashSet};

use nimble_curve_core::address::Addresses;
use nimble_curve_core::ledger::{Fate, Ledger};
use nimble_curve_core::ops::{body_part, body_part_rank};
use nimble_curve_core::rig::NodeId;
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
    pub(super) part: String,
    /// Tracks of the source that are on it.
    pub(super) tracks: usize,
    pub(super) exact: usize,
    pub(super) refitted: usize,
    pub(super) left_out: usize,
    /// Joints of the target that move, and how many there are.
    pub(super) moved: usize,
    pub(super) joints: usize,
    #[serde(skip)]
    pub(super) largest: f64,
}

/// What came over, by parts of the body: tracks by where they are on the source, joints by where they are on the target.
pub(super) fn parts(ledger: &Ledger, source: &Scene, target: &Scene, result: &Scene) -> Vec<Part> {
    let addresses = Addresses::new(source);
    let part_of = |scene: &Scene, node: NodeId, is_attribute: bool| {
        if is_attribute { "controls".to_owned() } else { body_part(&scene.rigs[0], node) }
    };
    let mut parts: BTreeMap<(usize, String), Part> = BTreeMap::new();
    fn of(parts: &mut BTreeMap<(usize, String), Part>, name: String) -> &mut Part {
        let rank = if name == "controls" { 100 } else { body_part_rank(&name) };
        parts.entry((rank, name.clone())).or_insert(Part { part: name, ..Part::default() })
    }
    for entry in ledger.entries.iter().filter(|entry| entry.before > 0 || entry.fate != Fate::Kept) {
        let Ok(place) = addresses.find_property(&source.rigs, &entry.channel) else { continue };
        if place.rig != 0 {
            continue;
        }
        let node = source.rigs[0].node(place.node);
        let is_attribute = node.is_some_and(|node| node.attribute(&place.property).is_some());
        let part = of(&mut parts, part_of(source, place.node, is_attribute));
        part.tracks += 1;
        match entry.fate {
            Fate::Kept | Fate::Exact => part.exact += 1,
            Fate::Refitted | Fate::Sampled => part.refitted += 1,
            Fate::LeftOut => part.left_out += 1,
        }
        if let Some(error) = entry.error.filter(|error| error.quantity == Quantity::Angle) {
            part.largest = part.largest.max(error.largest);
        }
    }
    let own = target.takes.len();
    let moved: HashSet<NodeId> =
        (result.takes[own..].iter().flat_map(Take::tracks)).map(|(_, track)| track.target.node).collect();
    for (id, node) in target.rigs[0].nodes().filter(|(_, node)| !node.kind.is_support()) {
        let is_control = !node.attributes.is_empty();
        let part = of(&mut parts, part_of(target, id, is_control));
        part.joints += 1;
        part.moved += usize::from(moved.contains(&id));
    }
    parts.into_values().collect()
}

pub(super) fn print_parts(
    out: &mut Report,
    parts: &[Part],
    space: &nimble_curve_core::space::Space,
) -> Result<(), Failure> {
    let mut table = Table::new(&[
        ("part", Align::Left),
        ("in source", Align::Right),
        ("exact", Align::Right),
        ("refitted", Align::Right),
        ("error", Align::Right),
        ("left out", Align::Right),
        ("moving", Align::Right),
        ("remark", Align::Left),
    ]);
    for part in parts.iter().filter(|part| part.tracks > 0 || part.joints > 0) {
        let came = part.exact + part.refitted;
        let remark = match (part.tracks, came, part.joints) {
            (0, _, _) => "still in the source",
            (_, 0, _) => "did not come over",
            (_, _, 0) => "",
            _ if part.left_out > 0 => "some left out",
            _ => "",
        };
        let zero = |count: usize| if count == 0 { "·".to_owned() } else { count.to_string() };
        let cells = [
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
            "still in the source" => table.styled(Style::Faint, cells),
            _ => table.row(cells),
        }
    }
    table.least_telling(&["moving", "in source"]).without_empty_columns().print(out)?;
    Ok(())
}
