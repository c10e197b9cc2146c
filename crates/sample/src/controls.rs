//! Control rigs for the otter and the stork, as they are attached to any of their files: limbs that reach for goals and chains of
//! controls beside them, switches, feet with a roll, heads that go with chest or world, twist locators.

use glam::DVec3;
use nimble_curve_core::address::NodeRef;
use nimble_curve_core::angle;
use nimble_curve_core::constraint::{
    Channel, Constraint, ConstraintKind, Couple, EndTurn, Follow, Limb, Roll, RollAxes, Setting, Source,
    StretchBy, Towards,
};
use nimble_curve_core::rig::{Attribute, AttributeKind, Node, NodeId, NodeKind, ROTATION, Rig};
use nimble_curve_core::rotation::RotationOrder;
use nimble_curve_core::scene::{Scene, Target};
use nimble_curve_core::value::Quantity;

/// A rig that gets controls.
struct Rigger {
    rig: Rig,
    constraints: Vec<Constraint>,
}

/// What a control stands for.
struct Place<'a> {
    parent: Option<NodeId>,
    /// In the world.
    at: DVec3,
    kind: NodeKind,
    name: &'a str,
}

/// A chain of three joints with what reaches for its end.
struct LimbOf<'a> {
    joints: [&'a str; 3],
    name: &'a str,
    goal: NodeId,
    pole: NodeId,
    weight: Setting,
    /// The axis of the hinge in the world at rest, where it rests straight.
    hinge: Option<DVec3>,
}

fn full() -> Setting {
    Setting::Constant(1.0)
}

fn at(node: NodeId) -> NodeRef {
    (0, node)
}

fn source(node: NodeId, weight: Setting) -> Source {
    Source { node: at(node), weight, offset: None }
}

impl Rigger {
    fn new(scene: &Scene) -> Rigger {
        Rigger { rig: scene.rigs[0].clone(), constraints: Vec::new() }
    }

    fn joint(&self, name: &str) -> NodeId {
        self.rig.nodes().find(|(_, node)| node.name == name).map(|(id, _)| id).expect("a joint of the sample")
    }

    fn world(&self, node: NodeId) -> DVec3 {
        self.rig.rest_world()[self.rig.position(node).expect("a node of the rig")].translation
    }

    fn add(&mut self, place: &Place<'_>) -> NodeId {
        let base = place.parent.map_or(DVec3::ZERO, |parent| self.world(parent));
        // Nothing here is turned at rest.
        let node = Node::new(place.name, place.kind, place.at - base, RotationOrder::Zxy);
        self.rig.add(place.parent, node).expect("parents are added first")
    }

    fn control(&mut self, name: &str, parent: Option<NodeId>, at: DVec3) -> NodeId {
        self.add(&Place { parent, at, kind: NodeKind::Control, name })
    }

    fn attribute(&mut self, node: NodeId, name: &str, kind: AttributeKind) -> Target {
        let of = self.rig.node_mut(node).expect("a node of the rig");
        of.attributes.push(Attribute { name: name.to_owned(), kind });
        Target::new(0, node, name)
    }

    fn drive(&mut self, name: &str, node: NodeId, weight: Setting, kind: ConstraintKind) {
        self.constraints.push(Constraint { name: name.to_owned(), node: at(node), weight, kind });
    }

    fn follow(&mut self, joint: &str, control: NodeId, translation: bool) {
        let follow = Follow {
            sources: vec![source(control, full())],
            translation: [translation; 3],
            rotation: [true; 3],
            scale: [false; 3],
        };
        let node = self.joint(joint);
        self.drive(joint, node, full(), ConstraintKind::Follow(follow));
    }

    /// A chain of controls for joints, the first one below a control.
    fn chain(&mut self, joints: &[&str], parent: NodeId, ending: &str) {
        let mut parent = parent;
        for joint in joints {
            let place = self.world(self.joint(joint));
            parent = self.control(&format!("{joint}{ending}"), Some(parent), place);
            self.follow(joint, parent, false);
        }
    }

    fn limb(&mut self, of: LimbOf<'_>) {
        let [upper, lower, end] = of.joints.map(|joint| self.joint(joint));
        let limb = Limb {
            lower: at(lower),
            end: at(end),
            goal: source(of.goal, full()),
            pole: Some(Towards::Node(at(of.pole))),
            bends_other: false,
            hinge: of.hinge,
            stretch: Setting::Constant(0.0),
            stretch_by: StretchBy::Translation,
            slack: 0.0,
            end_turn: EndTurn::Goal,
            twist: Setting::Constant(0.0),
            lengths: [full(), full()],
        };
        self.drive(of.name, upper, of.weight, ConstraintKind::Limb(Box::new(limb)));
    }

    /// A control for a head, below a locator that goes with one of two spaces.
    fn head(&mut self, joint: &str, name: &str, spaces: [(&str, NodeId); 2]) {
        let place = self.world(self.joint(joint));
        let group = self.add(&Place {
            parent: None,
            at: place,
            kind: NodeKind::Locator,
            name: &format!("{name}_space"),
        });
        let control = self.control(name, Some(group), place);
        let options = spaces.iter().map(|(name, _)| (*name).to_owned()).collect();
        let kind = AttributeKind::Choice { options, default: spaces[0].0.to_owned() };
        let menu = self.attribute(control, "space", kind);
        let sources =
            spaces.iter().map(|(name, node)| source(*node, Setting::Is(menu.clone(), (*name).to_owned())));
        let follow = Follow {
            sources: sources.collect(),
            translation: [true; 3],
            rotation: [true; 3],
            scale: [false; 3],
        };
        self.drive(&format!("{name} space"), group, full(), ConstraintKind::Follow(follow));
        self.follow(joint, control, false);
    }

    fn done(self, scene: &Scene) -> Scene {
        Scene { rigs: vec![self.rig], constraints: self.constraints, takes: Vec::new(), ..scene.clone() }
    }
}

fn switch() -> AttributeKind {
    AttributeKind::Number { default: 1.0, min: Some(0.0), max: Some(1.0), quantity: Quantity::Number }
}

/// The stork with a body control, legs that reach for feet with a hock, chains for its wings and a head.
pub fn stilt(scene: &Scene) -> Scene {
    let mut own = Rigger::new(scene);
    let hips = own.world(own.joint("Pelvis"));
    let base = own.control("Base_ctrl", None, DVec3::ZERO);
    let body = own.control("Body_ctrl", Some(base), hips);
    own.follow("Pelvis", body, true);
    for side in ["L", "R"] {
        let joints = ["Hip", "Knee", "Hock"].map(|part| format!("{side}_{part}"));
        let [hock, claws] =
            [joints[2].clone(), format!("{side}_Claws")].map(|joint| own.world(own.joint(&joint)));
        let knee = own.world(own.joint(&joints[1]));
        // The foot turns about where it stands; the hock control lifts the heel about the claws.
        let foot = own.control(&format!("{side}_Foot_ctrl"), Some(base), DVec3::new(hock.x, 0.0, hock.z));
        own.rig.node_mut(foot).expect("it was added").primary = true;
        let lift = own.control(&format!("{side}_Hock_ctrl"), Some(foot), claws);
        let name = format!("{side}_Leg_goal");
        let goal = own.add(&Place { parent: Some(lift), at: hock, kind: NodeKind::Locator, name: &name });
        let pole = own.control(&format!("{side}_Knee_ctrl"), Some(base), knee + DVec3::new(0.0, 0.0, 0.5));
        own.limb(LimbOf {
            joints: joints.each_ref().map(String::as_str),
            name: &format!("{side}_Leg"),
            goal,
            pole,
            weight: full(),
            hinge: Some(DVec3::NEG_X),
        });
    }
    for side in ["L", "R"] {
        let joints = ["Wing", "Elbow", "Pinion"].map(|part| format!("{side}_{part}"));
        let collar = own.joint(&format!("{side}_Collar"));
        own.chain(&joints.each_ref().map(String::as_str), collar, "_ctrl");
    }
    let chest = own.joint("Throat3");
    own.head("Skull", "Skull_ctrl", [("neck", chest), ("world", base)]);
    own.done(scene)
}

/// The otter with a body control, arms and legs by goals and by chains, feet that roll, and a head.
pub fn bramble(scene: &Scene) -> Scene {
    let mut own = Rigger::new(scene);
    let name = |part: &str| format!("courier:{part}");
    let hips = own.world(own.joint(&name("hips")));
    let master = own.control("master_ctrl", None, DVec3::ZERO);
    let body = own.control("body_ctrl", Some(master), hips);
    own.follow(&name("hips"), body, true);
    own.chain(&[name("chest").as_str()], body, "_ctrl");
    let chest = own.joint(&name("chest"));
    for side in ["l", "r"] {
        let limbs = [
            (["arm", "forearm", "hand"], "hand", DVec3::new(0.0, 20.0, 0.0), chest),
            (["thigh", "shin", "foot"], "foot", DVec3::new(0.0, -25.0, 0.0), own.joint(&name("hips"))),
        ];
        for (parts, end, out, under) in limbs {
            let joints = parts.map(|part| name(&format!("{part}_{side}")));
            let [middle, tip] = [&joints[1], &joints[2]].map(|joint| own.world(own.joint(joint)));
            let goal_name = format!("{end}_{side}_ctrl");
            let control = own.control(&goal_name, Some(master), tip);
            own.rig.node_mut(control).expect("it was added").primary = true;
            let ik = own.attribute(control, "ik", switch());
            // A foot rolls about its toes.
            let goal = if end == "foot" {
                let toes = own.world(own.joint(&name(&format!("toes_{side}"))));
                let ball = format!("foot_{side}_ball");
                let ball =
                    own.add(&Place { parent: Some(control), at: toes, kind: NodeKind::Locator, name: &ball });
                let roll = own.attribute(
                    control,
                    "roll",
                    AttributeKind::Number { default: 0.0, min: None, max: None, quantity: Quantity::Angle },
                );
                let couple = Couple {
                    channel: Channel { target: Target::new(0, ball, ROTATION), component: 0 },
                    from: Channel { target: roll, component: 0 },
                    points: vec![(0.0, 0.0), (angle::radians(90.0), angle::radians(-90.0))],
                };
                own.drive(&format!("foot_{side} roll"), ball, full(), ConstraintKind::Couple(couple));
                let goal = format!("foot_{side}_goal");
                own.add(&Place { parent: Some(ball), at: tip, kind: NodeKind::Locator, name: &goal })
            } else {
                control
            };
            let pole = own.control(&format!("{}_{side}_pole", parts[1]), Some(master), middle + out);
            let joints = joints.each_ref().map(String::as_str);
            own.chain(&joints, under, "_fk");
            // Elbows bend back and knees forward; both rest straight.
            let hinge = (tip - middle).normalize().cross(out.normalize());
            own.limb(LimbOf {
                joints,
                name: &format!("{}_{side}", if end == "hand" { "arm" } else { "leg" }),
                goal,
                pole,
                weight: Setting::Attribute(ik),
                hinge: Some(hinge),
            });
        }
        let forearm = own.joint(&name(&format!("forearm_{side}")));
        let hand = own.joint(&name(&format!("hand_{side}")));
        let halfway = 0.5 * (own.world(forearm) + own.world(hand));
        let twist = format!("forearm_{side}_twist");
        let twist =
            own.add(&Place { parent: Some(forearm), at: halfway, kind: NodeKind::Locator, name: &twist });
        let roll =
            Roll { source: at(hand), fraction: Setting::Constant(0.5), axes: Some(RollAxes::both(DVec3::X)) };
        own.drive(&format!("forearm_{side} twist"), twist, full(), ConstraintKind::Roll(roll));
    }
    let neck = own.joint(&name("neck"));
    own.head(&name("head"), "head_ctrl", [("chest", neck), ("world", master)]);
    own.done(scene)
}
