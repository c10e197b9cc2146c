//! Controls that go with a joint rigidly: their curves are the joint's own, in other axes.

use std::cell::RefCell;

use glam::{DAffine3, DQuat, DVec3};
use nimble_curve_curves::rotation::angle_between;
use nimble_curve_curves::value::Value;
use nimble_curve_scene::constraint::ConstraintKind;
use nimble_curve_scene::controller::Controller;
use nimble_curve_scene::ledger::{Fate, MeasuredError};
use nimble_curve_scene::rig::{ROTATION, TRANSLATION};
use nimble_curve_scene::scene::{Layer, Scene, Take, Target, Track};

use super::curves::{Channel, Part, Setting, stands_at};
use super::duties::{Duty, Stage};
use super::instant::{Instant, Rigid};
use super::options::MatchKeys;
use crate::conversion::ConvertedController;
use crate::rotation_conversion::RotationConversion;
use crate::vectors::{Linear, snapped_turn};

/// How far what should stand still may move, in radians and in proportion to lengths.
const STILL: f64 = 1e-9;

/// The curves of the joint that a control goes with, as the control's own; `None` where they do not go over.
pub fn exact(
    scene: &Scene,
    take: &Take,
    stage: &Stage,
    duty: &Duty,
    (instant, channel): (&RefCell<Instant<'_>>, &Channel),
    setting: &Setting<'_>,
) -> Option<ConvertedController> {
    let control = stage.control()?;
    let constraint = &scene.constraints[duty.constraint];
    if duty.node != control || !matches!(constraint.kind, ConstraintKind::Follow(_)) {
        return None;
    }
    let joint = constraint.node;
    let (from, onto) = (scene.rigs[joint.0].node(joint.1)?, scene.rigs[control.0].node(control.1)?);
    let (own, view) = (from.canonical()?, onto.canonical()?);
    let property = if channel.part == Part::Place { TRANSLATION } else { ROTATION };
    let controller = only_track(take, &Target::new(joint.0, joint.1, property))?;
    let rigid = constant_relation(instant, joint, control, setting)?;
    let made = match channel.part {
        Part::Turn => {
            let conversion = RotationConversion {
                order: channel.rest.order()?,
                before: snapped_turn(view.before.conjugate() * rigid.before * own.before),
                after: snapped_turn(own.after * rigid.after * view.after.conjugate()),
                tolerance: (setting.tolerance[1] * setting.least()).into(),
                handles: None,
                cache: None,
                rate: setting.rate,
                range: setting.range,
                at_home: false,
            };
            let rest = scene.rigs[joint.0].rest_value(joint.1, ROTATION)?;
            let made = conversion.apply(controller, &rest)?;
            // Places of errors are in ticks as long as something is made.
            let in_ticks = |error: MeasuredError| MeasuredError {
                frame: error.frame * setting.rate.ticks_per_frame(),
                ..error
            };
            let fate = made.fate.max(Fate::Exact);
            ConvertedController { controller: made.controller, fate, error: made.error.map(in_ticks) }
        }
        Part::Place => {
            if !rigid.keeps_place {
                return None;
            }
            let linear = Linear::through(
                rigid.place.matrix3,
                1.0,
                (DVec3::ZERO, rigid.place.translation),
                (own.translation, view.translation),
            );
            ConvertedController { controller: linear.controller(controller)?, fate: Fate::Exact, error: None }
        }
        Part::Twist => return None,
    };
    let fits = setting.keys == MatchKeys::Bounded
        || made.fate == Fate::Exact && stands_at(made.controller.curves(), setting.times);
    fits.then_some(made)
}

/// The controller of a property, where it has one track that counts in full.
fn only_track<'t>(take: &'t Take, target: &Target) -> Option<&'t Controller> {
    let mut own = take.active_tracks().filter(|(_, track)| track.target == *target);
    let (layer, track): (&Layer, &Track) = own.next()?;
    (own.next().is_none() && layer.is_whole()).then_some(&track.controller)
}

/// How a control stands beside the joint that it goes with, where that is the same always.
fn constant_relation(
    instant: &RefCell<Instant<'_>>,
    joint: (usize, nimble_curve_scene::rig::NodeId),
    control: (usize, nimble_curve_scene::rig::NodeId),
    setting: &Setting<'_>,
) -> Option<Rigid> {
    let grid = setting.grid();
    let mut first: Option<Rigid> = None;
    for time in grid.iter().chain(setting.times) {
        let now = instant.borrow_mut().relation(joint, control, time.as_f64())?;
        let Some(known) = &mut first else {
            first = Some(now);
            continue;
        };
        let same_turn = |a: DQuat, b: DQuat| angle_between(a, b) < STILL;
        if !same_turn(known.before, now.before) || !same_turn(known.after, now.after) {
            return None;
        }
        known.keeps_place &= now.keeps_place && is_near(&known.place, &now.place);
    }
    first
}

fn is_near(a: &DAffine3, b: &DAffine3) -> bool {
    a.matrix3.abs_diff_eq(b.matrix3, STILL)
        && (a.translation - b.translation).length() <= STILL * (1.0 + a.translation.length())
}

/// What a property rests at, as its curves are said.
pub fn rest_of(scene: &Scene, target: &Target) -> Option<Value> {
    scene.rigs.get(target.rig)?.rest_value(target.node, &target.property)
}
