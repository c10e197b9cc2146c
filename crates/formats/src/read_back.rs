//! What other programs find in a file that was made, and the claim that it is what was written.
//!
//! Whether it holds is for the judge to say, who reads the very bytes as a stranger would: without our extra data and without
//! hints about rate and start.

use std::collections::HashMap;
use std::path::Path;

use nimble_curve_core::address::NodeRef;
use nimble_curve_core::judge::{By, Claim, Clock, Excuse, Span};
use nimble_curve_core::scene::{Scene, Take, Target, take_partners};
use nimble_curve_core::space::AxisMap;
use nimble_curve_core::time::{TICKS_PER_SECOND, Ticks, TimeRange};

use crate::encoded::Encoded;
use crate::error::FormatError;
use crate::files::{in_format, plain_of};
use crate::format::{Assume, Format};

/// A scene read back, the claim that it is the one that was written, and how well it tells instants apart, in ticks.
#[derive(Debug)]
pub struct ReadBack {
    /// What other programs see.
    pub scene: Scene,
    /// Which node and which time of it is which.
    pub claim: Claim,
    /// See [`nimble_curve_core::judge::judge`].
    pub precision: f64,
}

impl Encoded {
    /// What other programs see in the bytes; `scene` is the one that was written.
    ///
    /// # Errors
    /// Where the bytes cannot be read: then they may not be written.
    pub fn read_back(&self, scene: &Scene, path: &Path) -> Result<ReadBack, FormatError> {
        let assume = match self.states {
            Some(space) => Assume {
                metres_per_unit: Some(space.metres_per_unit),
                up: Some(space.up),
                ..Assume::default()
            },
            None => Assume::default(),
        };
        // What it stands on is what it was written over, wherever that lies.
        let assume = Assume { without_extra: true, files_anywhere: true, ..assume };
        let mut plain = plain_of(&self.bytes, self.buffer.as_deref(), self.format, path, assume)?;
        if self.format == Format::Ncurve {
            let claim = Claim::same(scene, &plain.scene);
            return Ok(ReadBack { scene: plain.scene, claim, precision: 1.0 });
        }
        let by_key: HashMap<&str, NodeRef> =
            self.nodes.iter().map(|(key, node)| (key.as_str(), *node)).collect();
        let all = plain.scene.rigs.iter().enumerate();
        let refs = all.flat_map(|(rig, of)| of.nodes().map(move |(id, _)| (rig, id)));
        let nodes =
            refs.zip(&plain.keys).filter_map(|(own, key)| Some((*by_key.get(key.as_str())?, own))).collect();
        // Where nothing moves, formats have no animation: what stands there is what the take comes to all the same.
        if let (true, Some(first)) = (plain.scene.takes.is_empty(), scene.takes.first()) {
            let still = Take::new(&first.name, first.range, Vec::new());
            plain.scene.takes.push(Take { folder: first.folder.clone(), ..still });
        }
        let mut spans = Vec::new();
        // A format that has no names for takes has one take, or all of them in order.
        let partners = take_partners(&scene.takes, &plain.scene.takes);
        let partners: Vec<usize> = partners.into_iter().map(|from| from.unwrap_or(0)).collect();
        for ((index, take), &from) in plain.scene.takes.iter().enumerate().zip(&partners) {
            let Some(source) = scene.takes.get(from) else { continue };
            let by_name = |wanted: &str| self.shifts.iter().find(|(name, _)| name == wanted);
            let shift = by_name(&take.name).or_else(|| by_name(&source.name));
            let by = shift.map_or(Ticks::ZERO, |(_, by)| *by);
            let clock = Clock::shifted(Ticks::ZERO, by);
            // Keys may lie outside a take's range; what happens between and beyond them there is nobody's claim.
            let first = take.range.first.max(source.range.first + by);
            let last = take.range.last.min(source.range.last + by);
            if first <= last {
                spans.push(Span { source: from, result: index, range: TimeRange::new(first, last), clock });
            }
        }
        let excuse = |(take, target): &(String, Target)| {
            // As it is called there, or was before.
            let there = plain.scene.takes.iter().position(|other| other.name == *take);
            let before = || scene.takes.iter().position(|other| other.name == *take);
            let take = there.map(|there| partners[there]).or_else(before)?;
            let why = format!("{} has no place for it", self.format.name());
            Excuse::of(scene, take, target, why)
        };
        let mut excuses: Vec<Excuse> = self.hidden.iter().filter_map(excuse).collect();
        if self.is_skeletal {
            excuses.extend(numbers_of(scene));
        }
        let last = spans.iter().map(|span| span.range.last.as_f64().abs()).fold(0.0, f64::max);
        let claim = Claim {
            spans,
            nodes,
            space: AxisMap::between(&scene.space, &plain.scene.space),
            excuses,
            by: if self.format == Format::Csv { By::Properties } else { By::Transforms },
            ..Claim::nothing()
        };
        let claim = match &self.unscaled {
            Some(first) => first.then(&claim),
            None => claim,
        };
        // Two numbers in single precision beside each other, and half a thousandth of a second's tick at least.
        let precision = (last * 2.4e-7).max(TICKS_PER_SECOND as f64 * 1e-9);
        Ok(ReadBack { scene: plain.scene, claim, precision })
    }

    /// Whether the bytes give back the very scene, bit for bit; only our own format promises that.
    ///
    /// # Errors
    /// Where the bytes cannot be read.
    pub fn is_lossless(&self, scene: &Scene, path: &Path) -> Result<bool, FormatError> {
        let back = in_format(&self.bytes, self.format, path, Assume::default())?.scene;
        Ok(back == *scene || back.renumbered() == scene.renumbered())
    }
}

/// All animated attributes, excused from comparison: they are weights of blend shapes, which a skeleton has as a whole.
fn numbers_of(scene: &Scene) -> impl Iterator<Item = Excuse> {
    scene.takes.iter().enumerate().flat_map(move |(take, of)| {
        let tracks = of.tracks().map(|(_, track)| &track.target);
        let numbers = tracks.filter(|target| {
            let node = scene.rigs.get(target.rig).and_then(|rig| rig.node(target.node));
            node.is_some_and(|node| node.attribute(&target.property).is_some())
        });
        numbers
            .map(move |target| Excuse::new(take, target.clone(), "it is the weight of a blend shape there"))
    })
}
