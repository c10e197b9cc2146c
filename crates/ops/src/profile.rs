//! Profiles: what a receiving application holds, and a scene adapted to it.

use std::collections::{HashMap, HashSet};

use nimble_curve_curves::fit::Handles;
use nimble_curve_curves::rotation::RotationOrder;
use nimble_curve_curves::time::FrameRate;
use nimble_curve_scene::address::{Addresses, without_namespace};
use nimble_curve_scene::ledger::{Fate, Ledger};
use nimble_curve_scene::rig::ROTATION;
use nimble_curve_scene::rig::{NodeId, OpValue};
use nimble_curve_scene::scene::Scene;
use nimble_curve_scene::space::{Space, UpAxis};
use thiserror::Error;

use super::adapt::{Capabilities, adapt};
use super::bake::{BakeOptions, bake};
use super::budget::{TooMany, affordable};
use super::channel::Tolerance;
use super::layers::LayersError;
use super::reorder::{NewOrder, ReorderOptions, reorder};
use super::space::in_space;

/// Upper or lower case of names.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
pub enum Case {
    /// As they are.
    #[default]
    Any,
    /// Lower case only.
    Lower,
    /// Upper case only.
    Upper,
}

/// What names of nodes may be.
#[derive(Clone, Debug, PartialEq, Eq, Default)]
pub struct NameRules {
    /// The most characters; any number where there is no limit.
    pub length: Option<usize>,
    /// Characters besides letters and digits of ASCII that may stand in a name; any at all where there is no rule.
    pub besides_letters: Option<String>,
    /// Their case.
    pub case: Case,
    /// Whether namespaces stay.
    pub namespaces: bool,
    /// Whether every name has to be unique.
    pub unique: bool,
}

/// What a receiving application holds.
#[derive(Clone, Debug, PartialEq)]
pub struct Profile {
    /// What it is called.
    pub name: String,
    /// Its frame rate; any where there is none.
    pub rate: Option<FrameRate>,
    /// Metres in its unit; any where there is none.
    pub metres_per_unit: Option<f64>,
    /// Its up axis; any where there is none.
    pub up: Option<UpAxis>,
    /// The frame at which takes start; any where there is none. Only looked at when a file is checked.
    pub first_frame: Option<i64>,
    /// Layers, rotations, handles, loops, lists of steps.
    pub holds: Capabilities,
    /// Whether it holds curves; else a sample a frame.
    pub curves: bool,
    /// Rotation orders that it holds; all where there are none. The first is taken for what is in another.
    pub orders: Vec<RotationOrder>,
    /// What names may be.
    pub names: NameRules,
}

/// Why a scene cannot be what a profile holds.
#[derive(Clone, Debug, PartialEq, Error)]
pub enum FitError {
    /// Layers cannot be written together.
    #[error(transparent)]
    Layers(#[from] LayersError),
    /// Samples would be too many.
    #[error(transparent)]
    TooMany(#[from] TooMany),
}

/// A scene with nothing but what a profile holds, and what became of every track.
///
/// # Errors
/// See [`FitError`].
pub fn fit(scene: &Scene, profile: &Profile, tolerance: &Tolerance) -> Result<(Scene, Ledger), FitError> {
    let (adapted, mut ledger) = adapt(scene, &profile.holds, tolerance)?;
    let space = Space {
        metres_per_unit: profile.metres_per_unit.unwrap_or(scene.space.metres_per_unit),
        up: profile.up.unwrap_or(scene.space.up),
        ..scene.space
    };
    let mut result = adapted;
    if space != scene.space {
        let (moved, more) = in_space(&result, &space);
        result = moved;
        ledger = ledger.followed_by(more);
    }
    if let Some(order) = profile.orders.first().copied() {
        let addresses = Addresses::new(&result);
        let odd = |rig: usize, id: NodeId| match result.rigs[rig].node(id)?.op(ROTATION)?.value {
            OpValue::Rotate { order, .. } => Some(!profile.orders.contains(&order)),
            _ => None,
        };
        let only: Vec<String> = (addresses.nodes().iter())
            .filter(|(rig, id)| odd(*rig, *id) == Some(true))
            .map(|node| addresses.node(*node).to_owned())
            .collect();
        if !only.is_empty() {
            let options = ReorderOptions {
                to: NewOrder::To(order),
                only,
                tolerance: tolerance.angle,
                handles: Some(Handles::Plain),
            };
            if let Ok((turned, mut more)) = reorder(&result, &options) {
                for entry in &mut more.entries {
                    // An order that has to change and cannot is a loss.
                    if entry.note.starts_with("stays: ") {
                        entry.fate = Fate::LeftOut;
                    }
                }
                result = turned;
                ledger = ledger.followed_by(more);
            }
        }
    }
    if let Some(rate) = profile.rate.filter(|rate| *rate != result.rate) {
        ledger
            .notes
            .push(format!("{} frames a second become {}; keys keep their seconds", result.rate, rate));
        result.rate = rate;
    }
    if !profile.curves {
        affordable(&result, None, profile.rate.unwrap_or(result.rate))?;
        let (baked, more) = bake(&result, &BakeOptions { rate: profile.rate, ..BakeOptions::default() });
        result = baked;
        ledger = ledger.followed_by(more);
    }
    rename(&mut result, &profile.names, &mut ledger);
    Ok((result, ledger))
}

/// Names that keep the rules; equal ones get numbers.
fn rename(scene: &mut Scene, rules: &NameRules, ledger: &mut Ledger) {
    let mut renamed: Vec<String> = Vec::new();
    let mut taken: HashSet<String> = HashSet::new();
    let mut counts: HashMap<String, usize> = HashMap::new();
    for rig in &mut scene.rigs {
        let ids: Vec<NodeId> = rig.nodes().map(|(id, _)| id).collect();
        for id in ids {
            let Some(node) = rig.node_mut(id) else { continue };
            let wanted = ruled(&node.name, rules);
            let mut name = wanted.clone();
            if rules.unique {
                let limit = rules.length.unwrap_or(usize::MAX);
                while !taken.insert(name.clone()) {
                    let count = counts.entry(wanted.clone()).or_insert(1);
                    *count += 1;
                    let number = format!("_{count}");
                    let keep = limit.saturating_sub(number.len());
                    name = wanted.chars().take(keep).collect::<String>() + &number;
                }
            }
            if name != node.name {
                renamed.push(format!("{} → {name}", node.name));
                node.name = name;
            }
        }
    }
    if !renamed.is_empty() {
        let more = renamed.len().saturating_sub(4);
        let shown = renamed.iter().take(4).cloned().collect::<Vec<_>>().join(", ");
        let more = if more > 0 { format!(" and {more} more") } else { String::new() };
        ledger.notes.push(format!("renamed: {shown}{more}"));
    }
}

/// A name as the rules make it.
pub(super) fn ruled(name: &str, rules: &NameRules) -> String {
    let name = if rules.namespaces { name } else { without_namespace(name) };
    let allowed = |c: char| {
        let Some(besides) = &rules.besides_letters else { return true };
        c.is_ascii_alphanumeric() || besides.contains(c) || rules.namespaces && c == ':'
    };
    let plain = name.chars().map(|c| if allowed(c) { c } else { '_' });
    let cased: String = match rules.case {
        Case::Any => plain.collect(),
        Case::Lower => plain.flat_map(char::to_lowercase).collect(),
        Case::Upper => plain.flat_map(char::to_uppercase).collect(),
    };
    let cut: String = cased.chars().take(rules.length.unwrap_or(usize::MAX)).collect();
    if cut.is_empty() { "node".into() } else { cut }
}
