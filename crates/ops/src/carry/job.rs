//! What carrying a take needs, and what comes of it in the world.

use std::collections::HashSet;

use nimble_curve_curves::fit::Handles;
use nimble_curve_scene::address::Addresses;
use nimble_curve_scene::choice::Choice;
use nimble_curve_scene::ledger::MeasuredError;
use nimble_curve_scene::rig::NodeId;
use nimble_curve_scene::scene::Scene;

use super::attributes::AttributeMap;
use super::links::Links;
use super::side::Side;
use crate::Tolerance;

pub(super) struct Job<'a> {
    /// In the target's space, mirrored where the map says so.
    pub(super) source: &'a Scene,
    pub(super) target: &'a Scene,
    pub(super) from: Side<'a>,
    pub(super) onto: Side<'a>,
    pub(super) links: &'a Links,
    pub(super) numbers: &'a AttributeMap,
    pub(super) chosen: &'a Choice,
    pub(super) source_addresses: &'a Addresses,
    pub(super) target_addresses: &'a Addresses,
    /// Takes and channels that the target's space changed.
    pub(super) changed: &'a HashSet<(String, String)>,
    pub(super) scale: f64,
    pub(super) tolerance: Tolerance,
    pub(super) handles: Option<Handles>,
}

/// How far a take's result is from its source.
pub(super) struct Measured {
    pub(super) error: MeasuredError,
    pub(super) worst: Option<NodeId>,
}
