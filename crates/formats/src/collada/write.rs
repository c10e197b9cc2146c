//! From a scene to the text of a COLLADA 1.4.1 document.

use std::collections::{HashMap, HashSet};
use std::fmt::Write as _;

use glam::{DMat4, DQuat, DVec3};
use nimble_curve_core::address::NodeRef;
use nimble_curve_core::angle::degrees;
use nimble_curve_core::rig::{Node, NodeId, NodeKind, OpValue, ROTATION, Rig, TransformOp};
use nimble_curve_core::rotation::RotationOrder;
use nimble_curve_core::scene::{Scene, Take, Target};
use nimble_curve_core::space::UpAxis;
use nimble_curve_core::time::Ticks;

use super::PROFILE;

/// A document, and the ids of the nodes in it.
pub struct Written {
    pub text: String,
    pub ids: Vec<(String, NodeRef)>,
    /// Tracks that COLLADA has no place for.
    pub left_out: Vec<(String, Target)>,
}

/// The document of a scene whose tracks are angles, vectors and numbers on one layer; with extra data, if there is some.
///
/// `starts` says by how much each take was moved; it is noted beside it.
pub fn write(scene: &Scene, extra: Option<&str>, starts: &[(String, Ticks)]) -> Written {
    let mut writer = Writer::new(scene, starts);
    writer.name_nodes(&mut HashSet::new());
    writer.document(extra);
    let ids = writer.ids.into_iter().map(|(node, id)| (id, node)).collect();
    Written { text: writer.text, ids, left_out: writer.left_out }
}

pub struct Writer<'a> {
    pub scene: &'a Scene,
    /// By how much each take was moved.
    pub starts: &'a [(String, Ticks)],
    pub text: String,
    /// How the ids of animations begin.
    pub prefix: String,
    pub ids: HashMap<NodeRef, String>,
    /// What channels drive that are no steps of nodes, such as weights of morphs.
    pub weights: HashMap<Target, String>,
    pub left_out: Vec<(String, Target)>,
    /// What any take drives.
    pub driven: HashSet<&'a Target>,
}

/// The children of each node, so that no pass over all nodes is needed for each.
pub type Below = HashMap<Option<NodeId>, Vec<NodeId>>;

/// Those of a rig.
pub fn below(rig: &Rig) -> Below {
    let mut below = Below::new();
    for (id, _) in rig.nodes() {
        below.entry(rig.parent(id)).or_default().push(id);
    }
    below
}

/// A text with what XML does not allow replaced.
pub fn allowed(text: &str) -> String {
    let allowed = |c: char| match c {
        '\n' | '\t' | '\r' => ' ',
        c if c.is_control() || c == '\u{fffe}' || c == '\u{ffff}' => '\u{fffd}',
        c => c,
    };
    text.chars().map(allowed).collect()
}

/// The same, with the characters that XML keeps for itself escaped.
pub fn escaped(text: &str) -> String {
    let mut safe = String::with_capacity(text.len());
    for c in allowed(text).chars() {
        match c {
            '&' => safe.push_str("&amp;"),
            '<' => safe.push_str("&lt;"),
            '>' => safe.push_str("&gt;"),
            '"' => safe.push_str("&quot;"),
            c => safe.push(c),
        }
    }
    safe
}

/// A name as an id: letters, digits and a few signs, not starting with a digit.
fn id_of(name: &str) -> String {
    let plain = |c: char| if c.is_ascii_alphanumeric() || "_-.".contains(c) { c } else { '_' };
    let id: String = name.chars().map(plain).collect();
    match id.starts_with(|c: char| c.is_ascii_alphabetic() || c == '_') {
        true => id,
        false => format!("_{id}"),
    }
}

/// Numbers separated by spaces.
pub fn listed(numbers: impl IntoIterator<Item = f64>) -> String {
    let mut text = String::new();
    for number in numbers {
        // No minus zero.
        let _ = write!(text, "{} ", number + 0.0);
    }
    text.pop();
    text
}

impl<'a> Writer<'a> {
    pub fn new(scene: &'a Scene, starts: &'a [(String, Ticks)]) -> Writer<'a> {
        Writer {
            scene,
            starts,
            text: String::new(),
            prefix: "take".to_owned(),
            ids: HashMap::new(),
            weights: HashMap::new(),
            left_out: Vec::new(),
            driven: scene.takes.iter().flat_map(Take::tracks).map(|(_, track)| &track.target).collect(),
        }
    }

    /// Gives each node that has none an id that is not `taken`.
    pub fn name_nodes(&mut self, taken: &mut HashSet<String>) {
        // The next number to try of each name: nodes of one name may be many.
        let mut next: HashMap<String, usize> = HashMap::new();
        for (index, rig) in self.scene.rigs.iter().enumerate() {
            for (id, node) in rig.nodes() {
                if self.ids.contains_key(&(index, id)) {
                    continue;
                }
                let wanted = id_of(&node.name);
                let mut name = wanted.clone();
                while !taken.insert(name.clone()) {
                    let number = next.entry(wanted.clone()).or_insert(2);
                    name = format!("{wanted}-{number}");
                    *number += 1;
                }
                self.ids.insert((index, id), name);
            }
        }
    }

    pub fn line(&mut self, depth: usize, text: &str) {
        for _ in 0..depth {
            self.text.push(' ');
        }
        self.text.push_str(text);
        self.text.push('\n');
    }

    fn document(&mut self, extra: Option<&str>) {
        let scene = self.scene;
        self.line(0, r#"<?xml version="1.0" encoding="utf-8"?>"#);
        self.line(0, r#"<COLLADA xmlns="http://www.collada.org/2005/11/COLLADASchema" version="1.4.1">"#);
        self.line(1, "<asset>");
        self.line(
            2,
            concat!(
                "<contributor><authoring_tool>nimble-curve ",
                env!("CARGO_PKG_VERSION"),
                "</authoring_tool></contributor>"
            ),
        );
        // The same scene gives the same bytes, so that there is no clock in it.
        self.line(2, "<created>2000-01-01T00:00:00Z</created>");
        self.line(2, "<modified>2000-01-01T00:00:00Z</modified>");
        let unit = scene.space.unit_name().unwrap_or("unit");
        self.line(2, &format!(r#"<unit name="{unit}" meter="{}"/>"#, scene.space.metres_per_unit));
        let up = match scene.space.up {
            UpAxis::X => "X_UP",
            UpAxis::Y => "Y_UP",
            UpAxis::Z => "Z_UP",
        };
        self.line(2, &format!("<up_axis>{up}</up_axis>"));
        self.line(1, "</asset>");
        self.animations();
        self.visual_scene();
        self.line(1, "<scene><instance_visual_scene url=\"#scene\"/></scene>");
        self.extras(extra);
        self.line(0, "</COLLADA>");
    }

    /// Our own notes: the frame rate, and extra data, if there is some.
    pub fn extras(&mut self, extra: Option<&str>) {
        self.line(1, "<extra>");
        self.line(2, &format!("<technique profile=\"{PROFILE}\">"));
        self.line(3, &format!("<frame_rate>{}</frame_rate>", self.scene.rate));
        self.line(2, "</technique>");
        self.line(1, "</extra>");
        if let Some(extra) = extra {
            self.line(1, "<extra>");
            self.line(2, &format!("<technique profile=\"{PROFILE}\">"));
            self.line(3, &format!("<data>{}</data>", escaped(extra)));
            self.line(2, "</technique>");
            self.line(1, "</extra>");
        }
    }

    fn visual_scene(&mut self) {
        self.line(1, "<library_visual_scenes>");
        let name = self.scene.rigs.first().map_or("scene", |rig| rig.name.as_str());
        self.line(2, &format!("<visual_scene id=\"scene\" name=\"{}\">", escaped(name)));
        let scene = self.scene;
        for (index, rig) in scene.rigs.iter().enumerate() {
            let below = below(rig);
            for &id in below.get(&None).into_iter().flatten() {
                self.subtree((index, rig), id, &below, 3);
            }
        }
        self.line(2, "</visual_scene>");
        self.line(1, "</library_visual_scenes>");
    }

    /// A node and all below it.
    pub fn subtree(&mut self, (index, rig): (usize, &Rig), top: NodeId, below: &Below, depth: usize) {
        let mut open: Vec<(NodeId, usize, bool)> = vec![(top, depth, true)];
        while let Some((id, depth, opens)) = open.pop() {
            if !opens {
                self.line(depth, "</node>");
                continue;
            }
            self.open_node(index, rig, id, depth);
            open.push((id, depth, false));
            open.extend(below.get(&Some(id)).into_iter().flatten().rev().map(|&id| (id, depth + 1, true)));
        }
    }

    fn open_node(&mut self, index: usize, rig: &Rig, id: NodeId, depth: usize) {
        let Some(node) = rig.node(id) else { return };
        let name = self.ids[&(index, id)].clone();
        let kind = if node.kind == NodeKind::Joint { "JOINT" } else { "NODE" };
        self.line(
            depth,
            &format!("<node id=\"{name}\" sid=\"{name}\" name=\"{}\" type=\"{kind}\">", escaped(&node.name)),
        );
        for element in self.steps((index, id), node) {
            self.line(depth + 1, &element);
        }
    }

    /// The elements of a node's steps.
    pub fn steps(&self, (rig, id): NodeRef, node: &Node) -> Vec<String> {
        let is_driven =
            |op: &TransformOp| self.driven.contains(&Target { rig, node: id, property: op.name.clone() });
        let named = node.transform.iter().zip(sids(node));
        named.flat_map(|(op, sid)| elements(node, (op, &sid), is_driven(op))).collect()
    }
}

/// The name by which channels find a step; no other step of its node has it.
pub fn sid(node: &Node, op: &TransformOp) -> String {
    let mut own = node.transform.iter().zip(sids(node));
    own.find(|(step, _)| std::ptr::eq(*step, op)).map_or_else(String::new, |(_, sid)| sid)
}

/// The names of all steps of a node.
fn sids(node: &Node) -> Vec<String> {
    let mut taken: HashSet<String> = HashSet::with_capacity(2 * node.transform.len());
    let mut all = Vec::with_capacity(node.transform.len());
    for step in &node.transform {
        // A dot or a bracket in it would end it.
        let wanted = id_of(&step.name).replace('.', "_");
        let is_turn = matches!(step.value, OpValue::Rotate { .. } | OpValue::Orient(_));
        let ends: &[&str] = if is_turn { &["", "X", "Y", "Z"] } else { &[""] };
        let is_free = |name: &String| !ends.iter().any(|end| taken.contains(&format!("{name}{end}")));
        let numbered = (2..).map(|number| format!("{wanted}_{number}"));
        let own = std::iter::once(wanted.clone()).chain(numbered).find(is_free).unwrap_or(wanted);
        taken.extend(ends.iter().map(|end| format!("{own}{end}")));
        all.push(own);
    }
    all
}

/// The order in which the angles of a rotation are written.
pub fn order_of(op: &TransformOp) -> RotationOrder {
    match op.value {
        OpValue::Rotate { order, .. } => order,
        _ => RotationOrder::Xyz,
    }
}

/// A step as elements; a rotation in three, where it is one that moves.
fn elements(node: &Node, (op, sid): (&TransformOp, &str), is_driven: bool) -> Vec<String> {
    let about = |axis: DVec3, angle: f64, sid: &str| {
        format!("<rotate sid=\"{sid}\">{} {}</rotate>", listed(axis.to_array()), listed([shown(angle, true)]))
    };
    let matrix =
        |m: DMat4| format!("<matrix sid=\"{sid}\">{}</matrix>", listed(m.transpose().to_cols_array()));
    if op.inverse {
        return vec![match op.value {
            OpValue::Translate(v) => {
                format!("<translate sid=\"{sid}\">{}</translate>", listed((-v).to_array()))
            }
            _ => matrix(DMat4::from(op.value.affine().inverse())),
        }];
    }
    match op.value {
        OpValue::Translate(v) => {
            vec![format!("<translate sid=\"{sid}\">{}</translate>", listed(v.to_array()))]
        }
        OpValue::Scale(v) => vec![format!("<scale sid=\"{sid}\">{}</scale>", listed(v.to_array()))],
        OpValue::RotateAxis { axis, angle } => vec![about(axis, angle, sid)],
        OpValue::Rotate { order, angles } => three(order, angles, sid, &about),
        // A constant rotation beside the animated one is one turn; the animated one is three.
        OpValue::Orient(q) if is_driven || op.name == ROTATION || node.canonical().is_none() => three(
            RotationOrder::Xyz,
            nimble_curve_core::rotation::principal_euler(RotationOrder::Xyz, q),
            sid,
            &about,
        ),
        OpValue::Orient(q) => {
            let q: DQuat = q.normalize();
            let (axis, angle) = q.to_axis_angle();
            vec![about(axis, angle, sid)]
        }
        OpValue::Shear(_) => vec![matrix(DMat4::from(op.value.affine()))],
        OpValue::Matrix(m) => vec![matrix(m)],
    }
}

/// Three turns about coordinate axes, the outermost first.
fn three(
    order: RotationOrder,
    angles: DVec3,
    sid: &str,
    about: &dyn Fn(DVec3, f64, &str) -> String,
) -> Vec<String> {
    let (a, b, c) = order.axes();
    let turn =
        |axis: usize| about(DVec3::AXES[axis], angles[axis], &format!("{sid}{}", ["X", "Y", "Z"][axis]));
    vec![turn(a), turn(b), turn(c)]
}

/// A number as it is written: angles in degrees, with six decimals where these lead back to the very radians.
pub fn shown(number: f64, is_angle: bool) -> f64 {
    if is_angle { degrees(number) } else { number }
}
