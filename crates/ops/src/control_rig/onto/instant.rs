//! What a control has to do at an instant.

use glam::{DAffine3, DQuat, DVec3};
use nimble_curve_curves::rotation::nearest_turn;
use nimble_curve_curves::time::TimeRange;
use nimble_curve_scene::address::NodeRef;
use nimble_curve_scene::constraint::ConstraintKind;
use nimble_curve_scene::evaluate::{EvaluateError, SettingSampler, Solver, Wanted};
use nimble_curve_scene::rig::Canonical;
use nimble_curve_scene::scene::{Scene, Take};

use super::duties::{Duty, Keyed, Stage};
use crate::control_rig::written::with_three_steps;

/// Where a control has to stand beside its parent, at any instant: with all that it stands on as the result has it so far.
pub struct Instant<'a> {
    pose: Solver<'a>,
    so_far: Solver<'a>,
    stage: &'a Stage,
    /// Its own steps, where it is a control.
    view: Option<Canonical>,
    /// What twists a limb now.
    twist: Option<SettingSampler<'a>>,
    /// Outside these instants it is as at the nearest of them.
    between: (f64, f64),
    known: Option<(f64, At)>,
}

/// How what a control does comes out of what its joint does: `before · joint · after` of their rotations beside their parents, `place`
/// of their places.
#[derive(Clone, Copy, Debug)]
pub struct Rigid {
    pub before: DQuat,
    pub after: DQuat,
    pub place: DAffine3,
    /// Whether the places are one.
    pub keeps_place: bool,
}

/// What is wanted at an instant.
#[derive(Clone, Copy, Debug, Default)]
pub struct At {
    pub place: DVec3,
    /// The rotation that is animated.
    pub turn: DQuat,
    pub twist: f64,
    /// How far what the control does now is from what is wanted of it: a distance in proportion to how far it stands from what it
    /// serves, or an angle.
    pub away: f64,
}

impl<'a> Instant<'a> {
    pub fn new(
        motion: (&'a Scene, &'a Take),
        so_far: (&'a Scene, &'a Take),
        stage: &'a Stage,
    ) -> Result<Instant<'a>, EvaluateError> {
        let scene = so_far.0;
        let constraints = stage.constraints();
        let driven = constraints.iter().flat_map(|index| scene.constraints[*index].driven());
        let mut wanted: Vec<NodeRef> = driven.collect();
        if let Keyed::Held { control } = stage.keyed {
            wanted.push(control);
        }
        let pose = Solver::new(motion.0, Some(motion.1), wanted.iter().copied())?;
        let view = match &stage.keyed {
            Keyed::Control { control, .. } | Keyed::Held { control } => {
                wanted.push(*control);
                if let Keyed::Control { place, turn, .. } = &stage.keyed {
                    wanted.extend(place.iter().chain(turn).map(|duty| duty.node));
                }
                scene.rigs[control.0].node(control.1).and_then(|node| {
                    let transform = with_three_steps(node);
                    nimble_curve_scene::rig::Node { transform, ..node.clone() }.canonical()
                })
            }
            Keyed::Twist { .. } => None,
        };
        let twist = match &stage.keyed {
            Keyed::Twist { constraint, .. } => match &scene.constraints[*constraint].kind {
                ConstraintKind::Limb(limb) => Some(SettingSampler::new(scene, Some(so_far.1), &limb.twist)?),
                _ => None,
            },
            _ => None,
        };
        let so_far = Solver::new(scene, Some(so_far.1), wanted)?;
        if let Some(control) = stage.control()
            && (view.is_none() || so_far.stand(control).is_none())
        {
            return Err(EvaluateError::Missing(format!("a control of rig {}", control.0)));
        }
        let between = (f64::NEG_INFINITY, f64::INFINITY);
        Ok(Instant { pose, so_far, stage, view, twist, between, known: None })
    }

    /// The same up to an instant and from another one on, where all leaps back to what it was.
    pub fn within(self, range: TimeRange) -> Instant<'a> {
        Instant { between: (range.first.as_f64(), range.last.as_f64() - 1.0), ..self }
    }

    pub fn at(&mut self, time: f64) -> At {
        let time = time.clamp(self.between.0, self.between.1);
        if let Some((known, at)) = self.known
            && known == time
        {
            return at;
        }
        self.pose.solve(time);
        self.so_far.solve(time);
        let mut at = match &self.stage.keyed {
            Keyed::Twist { constraint, .. } => {
                let now = self.twist.as_mut().map_or(0.0, |setting| setting.at(time));
                // Where nothing says it, it stays as it is.
                let twist = self.so_far.wanted_twist(*constraint, &self.pose).unwrap_or(now);
                let away = (nearest_turn(twist, now) - now).abs();
                At { twist, away, ..At::default() }
            }
            Keyed::Held { control } => self.held_at(*control).unwrap_or_else(|| self.as_it_is(*control)),
            Keyed::Control { control, .. } => self.control_at().unwrap_or_else(|| self.as_it_is(*control)),
        };
        // What the joints do decides where controls do it in another way.
        at.away = at.away.min(self.joints_away());
        self.known = Some((time, at));
        at
    }

    /// How far the joints are from where they have to be with the control as it is.
    fn joints_away(&self) -> f64 {
        let mut most: f64 = 0.0;
        for joint in &self.stage.joints {
            let (Some(wanted), Some(now)) = (self.pose.stand(*joint), self.so_far.stand(*joint)) else {
                return f64::INFINITY;
            };
            let size = 1.0_f64.max(wanted.world.translation.length());
            let turned =
                (wanted.frame - now.frame).to_cols_array().iter().map(|part| part * part).sum::<f64>();
            let placed = (wanted.world.translation - now.world.translation).length() / size;
            most = most.max(placed).max(turned.sqrt());
        }
        most
    }

    /// How a joint that a control moves stands beside it; `None` where one of them is mirrored.
    pub fn relation(&mut self, joint: NodeRef, control: NodeRef, time: f64) -> Option<Rigid> {
        let at = self.at(time);
        let view = self.view.as_ref()?;
        let (above_joint, above_control) = (self.pose.above(joint), self.so_far.above(control));
        let (own, now) = (self.pose.stand(joint)?, self.so_far.stand(control)?);
        let frames = [above_joint.frame, above_control.frame, own.frame, now.frame];
        if frames.iter().any(|frame| frame.determinant() < 0.0) {
            return None;
        }
        let turn = view.local_rotation(at.turn);
        let before = (above_control.turn.conjugate() * above_joint.turn).normalize();
        let after = (own.rotation.conjugate() * before.conjugate() * turn).normalize();
        let place = above_control.world.inverse() * above_joint.world;
        let there = place.transform_point3(own.local.translation);
        let keeps_place = (there - at.place).length() <= 1e-9 * (1.0 + at.place.length());
        Some(Rigid { before, after, place, keeps_place })
    }

    fn control_at(&self) -> Option<At> {
        let Keyed::Control { control, place, turn } = &self.stage.keyed else { return None };
        let control = *control;
        let view = self.view.as_ref()?;
        let wanted = |duty: &Duty| {
            self.so_far.wanted(duty.constraint, duty.serves, &self.pose).map(|wanted| (*duty, wanted))
        };
        let (place, turn) = (place.as_ref().and_then(wanted), turn.as_ref().and_then(wanted));
        // The turn first: where it stands depends on it.
        let frame = turn.and_then(|(_, wanted)| wanted.frame);
        let below = turn.map_or(control, |(duty, _)| duty.node);
        let as_turned = Wanted { frame, ..Wanted::default() };
        let (mut translation, rotation) = self.so_far.local_for(control, below, &as_turned)?;
        let mut away: f64 = 0.0;
        if let Some((duty, wanted)) = place {
            (translation, _) = self.so_far.local_turned(control, duty.node, rotation, &wanted)?;
            // On the line where only what is across it counts, it does not do what it has to.
            away = away.max(self.place_away(&duty, &wanted).unwrap_or(f64::INFINITY));
        }
        if let Some(frame) = frame {
            let now = self.so_far.stand(below)?.frame;
            let off = (now - frame).to_cols_array().iter().map(|part| part * part).sum::<f64>().sqrt();
            away = away.max(off);
        }
        let turn = (view.before.conjugate() * rotation * view.after.conjugate()).normalize();
        Some(At { place: translation, turn, twist: 0.0, away })
    }

    /// A control as it is, which is not what is wanted of it.
    fn as_it_is(&self, control: NodeRef) -> At {
        let own = self.so_far.local_for(control, control, &Wanted::default());
        let (place, rotation) = own.unwrap_or((DVec3::ZERO, DQuat::IDENTITY));
        let turn = self.view.as_ref().map_or(rotation, |view| {
            (view.before.conjugate() * rotation * view.after.conjugate()).normalize()
        });
        At { place, turn, twist: 0.0, away: f64::INFINITY }
    }

    /// A control where it stands in the motion.
    fn held_at(&self, control: NodeRef) -> Option<At> {
        let (view, stand) = (self.view.as_ref()?, self.pose.stand(control)?);
        let point = Some((DVec3::ZERO, stand.world.translation));
        let wanted = Wanted { point, frame: Some(stand.frame), ..Wanted::default() };
        let (place, rotation) = self.so_far.local_for(control, control, &wanted)?;
        let turn = (view.before.conjugate() * rotation * view.after.conjugate()).normalize();
        Some(At { place, turn, twist: 0.0, away: f64::INFINITY })
    }

    /// How far a node is from where it has to be, as far as that counts.
    fn place_away(&self, duty: &Duty, wanted: &Wanted) -> Option<f64> {
        let (point, there) = wanted.point?;
        let stand = self.so_far.stand(duty.node)?;
        let here = stand.world.transform_point3(point);
        let Some(about) = wanted.about else {
            let size = 1.0_f64.max(there.length());
            return Some((here - there).length() / size);
        };
        let across = |place: DVec3| match wanted.line {
            Some(line) => (place - about) - line * line.dot(place - about),
            None => place - about,
        };
        let (a, b) = (across(here).try_normalize()?, across(there).try_normalize()?);
        Some((a - b).length())
    }
}
