//! Extra data: the whole scene beside what a format can hold of it, with fingerprints of what it belongs to.
//!
//! Whoever writes a format writes the scene into it as well as it can be held, reads that back, takes fingerprints of
//! every rest transform and every track, and puts the scene and the prints into the place that the format has for extra
//! data. Whoever reads it compares: what is as it was is restored from the scene; what another program has changed wins.

use std::collections::{BTreeMap, HashMap, HashSet};

use nimble_curve_core::address::{Addresses, NodeRef};
use nimble_curve_core::controller::{Controller, SampleKind, Samples, TcbKeys};
use nimble_curve_core::curve::{Behaviour, Curve, Ticks};
use nimble_curve_core::ledger::{Entry, Fate, Ledger};
use nimble_curve_core::ops::adapt::turned;
use nimble_curve_core::ops::space::in_space;
use nimble_curve_core::rig::{Node, OpValue, Rig, TransformOp};
use nimble_curve_core::rotation::{RotationOrder, nearest_euler};
use nimble_curve_core::scene::{Layer, Scene, Take, Target, Track};
use nimble_curve_core::time::FrameRate;
use nimble_curve_core::value::Value;
use serde::{Deserialize, Serialize};

use crate::error::Fault;
use crate::ncurve;

/// The version of the extra data.
const VERSION: u32 = 1;

/// Extra data as it stands in a file.
#[derive(Serialize, Deserialize)]
pub struct Companion {
    version: u32,
    /// For each node, as the format alone gives it, its address in the scene.
    nodes: BTreeMap<String, String>,
    /// Fingerprints of rest transforms, by node.
    rests: BTreeMap<String, String>,
    /// Fingerprints of tracks, by take and channel.
    tracks: BTreeMap<String, BTreeMap<String, String>>,
    /// Tracks of samples, which the format holds as they are, to single precision: they are not in the scene.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    sampled: Vec<Sampled>,
    /// The text of the scene in our own format; as text, so that no program that passes it on touches its numbers.
    scene: String,
}

/// A track of samples that is not in the scene: where it belongs.
#[derive(Serialize, Deserialize)]
struct Sampled {
    take: usize,
    layer: usize,
    /// Its place among the layer's tracks.
    at: usize,
    /// Its channel, as the scene calls it.
    channel: String,
    /// The rotation order, for angles.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    order: Option<String>,
}

/// Extra data out of a file, and the scene in it.
pub struct Opened {
    data: Companion,
    original: Scene,
}

/// The extra data for a scene that a format alone gives as `plain`; `origin` says which node of the scene a node of the
/// plain one is.
pub fn of(scene: &Scene, plain: &Scene, origin: impl Fn(NodeRef) -> Option<NodeRef>) -> Companion {
    let (from, to) = (nameless(plain), Addresses::new(scene));
    let nodes = from
        .nodes()
        .iter()
        .filter_map(|&node| Some((from.node(node).to_owned(), to.node(origin(node)?).to_owned())));
    let mut bare = Scene { rigs: scene.rigs.clone(), sets: scene.sets.clone(), takes: Vec::new(), ..*scene };
    let placed = (plain.space != scene.space).then(|| in_space(plain, &scene.space).0);
    let held: HashMap<(&str, NodeRef, &str), &Controller> = (placed.as_ref().unwrap_or(plain).takes.iter())
        .flat_map(|take| take.tracks().map(move |(_, track)| (take, track)))
        .filter_map(|(take, track)| {
            let node = origin((track.target.rig, track.target.node))?;
            Some(((take.name.as_str(), node, track.target.property.as_str()), &track.controller))
        })
        .collect();
    let mut sampled = Vec::new();
    for (index, take) in scene.takes.iter().enumerate() {
        let mut thin = Take {
            layers: Vec::new(),
            clips: take.clips.clone(),
            markers: take.markers.clone(),
            name: take.name.clone(),
            folder: take.folder.clone(),
            range: take.range,
        };
        for (place, layer) in take.layers.iter().enumerate() {
            let mut kept = Vec::new();
            for (at, track) in layer.tracks.iter().enumerate() {
                let target = &track.target;
                let twin =
                    held.get(&(take.name.as_str(), (target.rig, target.node), target.property.as_str()));
                let order = match (&track.controller, twin) {
                    (Controller::Samples(own), Some(twin))
                        if take.layers.len() == 1 && are_twins(own, twin, &scene.rigs, target) =>
                    {
                        match own.kind {
                            SampleKind::Euler(order) => Some(Some(order.name().to_owned())),
                            SampleKind::Matrix => None,
                            _ => Some(None),
                        }
                    }
                    _ => None,
                };
                match order {
                    Some(order) => sampled.push(Sampled {
                        take: index,
                        layer: place,
                        at,
                        channel: to.property(target),
                        order,
                    }),
                    None => kept.push(track.clone()),
                }
            }
            thin.layers.push(Layer {
                tracks: kept,
                name: layer.name.clone(),
                weight: layer.weight.clone(),
                ..*layer
            });
        }
        bare.takes.push(thin);
    }
    Companion {
        sampled,
        version: VERSION,
        nodes: nodes.collect(),
        rests: rest_prints(plain, &from),
        tracks: plain.takes.iter().map(|take| (take.name.clone(), track_prints(take, &from))).collect(),
        scene: ncurve::write(&bare),
    }
}

/// Whether what the format gives back are the same samples, to single precision.
fn are_twins(own: &Samples, twin: &Controller, rigs: &[Rig], target: &Target) -> bool {
    let order = match own.kind {
        SampleKind::Euler(order) => Some(order),
        _ => None,
    };
    let Some(Controller::Samples(twin)) = given_back(twin, order, rigs, target) else { return false };
    let is_near = |(a, b): (&f64, &f64)| (a - b).abs() <= 1e-6 * (1.0 + a.abs());
    (own.start, own.rate, own.kind, own.len()) == (twin.start, twin.rate, twin.kind, twin.len())
        && own.values.iter().zip(&twin.values).all(is_near)
}

/// Samples as a format has them on a property that was written; quaternions as angles of an order, where there is one.
fn given_back(
    held: &Controller,
    order: Option<RotationOrder>,
    rigs: &[Rig],
    target: &Target,
) -> Option<Controller> {
    let mut controller = unfolded(held, rigs, target)?;
    if let (Some(order), Controller::Samples(samples)) = (order, &mut controller)
        && samples.kind == SampleKind::Quaternion
    {
        let mut last = match rigs[target.rig].rest_value(target.node, &target.property) {
            Some(Value::Euler { angles, .. }) => angles,
            _ => glam::DVec3::ZERO,
        };
        let rows = samples.values.chunks_exact(4).flat_map(|row| {
            last = nearest_euler(order, glam::DQuat::from_slice(row).normalize(), last);
            last.to_array()
        });
        *samples = Samples { kind: SampleKind::Euler(order), values: rows.collect(), ..*samples };
    }
    Some(controller)
}

/// Fates that a change of space makes worse: what was kept is said in other numbers.
pub(crate) fn remap_fates(ledger: &mut Ledger, respaced: &Ledger) {
    let place = |entry: &Entry| (entry.take.clone(), entry.channel.clone());
    let moved: HashMap<_, Fate> = respaced.entries.iter().map(|entry| (place(entry), entry.fate)).collect();
    for entry in &mut ledger.entries {
        if let Some(&fate) = moved.get(&place(entry)) {
            entry.fate = entry.fate.max(fate);
        }
    }
}

/// What has no place in a format itself is left out, or where there is extra data in that only.
///
/// Returns the tracks that other programs do not see.
pub(crate) fn note_left_out(
    left_out: &[(String, Target)],
    why: &str,
    in_extra: bool,
    ledger: &mut Ledger,
) -> Vec<(String, Target)> {
    let gone: HashSet<(&str, &Target)> =
        left_out.iter().map(|(take, target)| (take.as_str(), target)).collect();
    for entry in &mut ledger.entries {
        let is_gone =
            entry.target.as_ref().is_some_and(|target| gone.contains(&(entry.take.as_str(), target)));
        if is_gone {
            *entry =
                Entry { fate: Fate::LeftOut, after: 0, error: None, note: why.to_owned(), ..entry.clone() };
        }
    }
    let hidden = hidden(ledger);
    for entry in ledger.entries.iter_mut().filter(|entry| in_extra && entry.fate == Fate::LeftOut) {
        (entry.fate, entry.after) = (Fate::Kept, entry.before);
        entry.note = "in the extra data only: other programs do not see it".to_owned();
    }
    if in_extra && ledger.count(Fate::Refitted) + ledger.count(Fate::Sampled) > 0 {
        let note = "the curves as they were travel as extra data; the table says what other programs see";
        ledger.notes.push(note.to_owned());
    }
    hidden
}

/// The properties that a file does not hold, by take.
pub(crate) fn hidden(ledger: &Ledger) -> Vec<(String, Target)> {
    let gone = ledger.wholly_left_out().into_iter();
    gone.map(|(take, target, _)| (take.to_owned(), target.clone())).collect()
}

/// The extra data in some JSON; `None` where it is of a version that is not known here.
///
/// # Errors
/// Where it is broken.
pub fn open(json: &str) -> Result<Option<Opened>, Fault> {
    #[derive(Deserialize)]
    struct Version {
        version: u32,
    }
    let fault = |error: serde_json::Error| {
        Fault::in_part("extra data", format!("is broken: {}", crate::said::json(&error)))
    };
    let version: Version = serde_json::from_str(json).map_err(fault)?;
    if version.version != VERSION {
        return Ok(None);
    }
    let data: Companion = serde_json::from_str(json).map_err(fault)?;
    let original = ncurve::read(&data.scene)
        .map_err(|fault| Fault::in_part("extra data", format!("does not hold a scene: {}", fault.message)))?;
    Ok(Some(Opened { data, original }))
}

/// Reads a file with its extra data, if it has any: `plain` reads what the format says by itself, at the rate of the scene
/// that was written where the user gives none. Also what was let pass or let go.
pub(crate) fn read_with(
    extra: Option<&str>,
    rate: Option<FrameRate>,
    plain: impl FnOnce(Option<FrameRate>) -> Result<(Scene, Vec<String>), Fault>,
) -> Result<(Scene, Vec<String>), Fault> {
    let Some(extra) = extra else { return plain(rate) };
    let Some(opened) = open(extra)? else {
        let (scene, mut notes) = plain(rate)?;
        notes.push("its extra data is of a newer version and was passed over".to_owned());
        return Ok((scene, notes));
    };
    let (scene, mut notes) = plain(rate.or(Some(opened.original.rate)))?;
    let (restored, more) = opened.restore(scene)?;
    notes.extend(more);
    Ok((restored, notes))
}

impl Opened {
    /// The scene that was written, with what has changed since taken from `plain`; and what was let go.
    ///
    /// # Errors
    /// Where the extra data speaks of nodes that its own scene has not.
    pub fn restore(self, plain: Scene) -> Result<(Scene, Vec<String>), Fault> {
        Restoring::new(&self.data, self.original, plain)?.run()
    }
}

fn rest_prints(scene: &Scene, addresses: &Addresses) -> BTreeMap<String, String> {
    let mut prints = BTreeMap::new();
    for &(rig, id) in addresses.nodes() {
        let mut print = Print::new();
        if let Some(parent) = scene.rigs[rig].parent(id) {
            print.text(addresses.node((rig, parent)));
        }
        for op in scene.rigs[rig].node(id).into_iter().flat_map(|node| &node.transform) {
            print.text(&op.name);
            print.step(&op.value);
        }
        prints.insert(addresses.node((rig, id)).to_owned(), print.done());
    }
    prints
}

fn track_prints(take: &Take, addresses: &Addresses) -> BTreeMap<String, String> {
    let print = |track: &Track| {
        let mut print = Print::new();
        print.controller(&track.controller);
        (addresses.property(&track.target), print.done())
    };
    take.tracks().map(|(_, track)| print(track)).collect()
}

/// A fingerprint: FNV-1a over numbers in single precision, which is what formats keep.
struct Print(u64);

impl Print {
    fn new() -> Print {
        Print(0xcbf2_9ce4_8422_2325)
    }

    fn done(self) -> String {
        format!("{:016x}", self.0)
    }

    fn bytes(&mut self, bytes: &[u8]) {
        for &byte in bytes {
            self.0 = (self.0 ^ u64::from(byte)).wrapping_mul(0x0000_0100_0000_01b3);
        }
    }

    fn text(&mut self, text: &str) {
        self.bytes(text.as_bytes());
        self.bytes(&[0]);
    }

    fn number(&mut self, number: f64) {
        // Zero has two signs and one print.
        self.bytes(&(number as f32 + 0.0).to_bits().to_le_bytes());
    }

    fn numbers(&mut self, numbers: &[f64]) {
        numbers.iter().for_each(|&number| self.number(number));
    }

    fn time(&mut self, time: Ticks) {
        self.number(time.seconds());
    }

    fn step(&mut self, value: &OpValue) {
        match value {
            OpValue::Translate(v) | OpValue::Scale(v) | OpValue::Shear(v) => self.numbers(&v.to_array()),
            OpValue::RotateAxis { axis, angle } => {
                self.numbers(&axis.to_array());
                self.number(*angle);
            }
            OpValue::Rotate { order, angles } => {
                self.text(order.name());
                self.numbers(&angles.to_array());
            }
            OpValue::Orient(q) => self.numbers(&q.to_array()),
            OpValue::Matrix(m) => self.numbers(&m.to_cols_array()),
        }
    }

    fn behaviour(&mut self, behaviour: Behaviour) {
        self.text(&format!("{behaviour:?}"));
    }

    fn curve(&mut self, curve: &Curve) {
        for key in curve.keys() {
            self.time(key.time);
            self.number(key.value);
            self.number(key.left_value());
            self.bytes(&[key.interpolation as u8]);
            for tangent in [key.tangent_in, key.tangent_out] {
                self.number(tangent.slope_per_second());
                self.number(tangent.length().unwrap_or(-1.0));
            }
        }
        self.behaviour(curve.before);
        self.behaviour(curve.after);
        self.bytes(b"|");
    }

    fn controller(&mut self, controller: &Controller) {
        self.text(controller.type_name());
        match controller {
            Controller::Constant(value) => self.numbers(&value.numbers().unwrap_or_default()),
            Controller::Components(curves) => curves.iter().for_each(|curve| self.curve(curve)),
            Controller::Euler(euler) => {
                self.text(euler.order.name());
                euler.curves.iter().for_each(|curve| self.curve(curve));
            }
            Controller::Quaternion(curve) => {
                for key in &curve.keys {
                    self.time(key.time);
                    self.numbers(&key.value.to_array());
                    self.bytes(&[key.interpolation as u8]);
                    self.numbers(&key.tangent_in.to_array());
                    self.numbers(&key.tangent_out.to_array());
                }
                self.behaviour(curve.before);
                self.behaviour(curve.after);
            }
            Controller::Tcb(curve) => self.tcb(&curve.keys),
            Controller::Discrete(curve) => {
                for (time, value) in curve.keys() {
                    self.time(*time);
                    self.text(&format!("{value:?}"));
                }
            }
            Controller::Samples(samples) => {
                self.time(samples.start);
                self.number(samples.rate.fps());
                self.numbers(&samples.values);
            }
            Controller::Stack(entries) => entries.iter().for_each(|entry| self.controller(&entry.controller)),
            Controller::Procedural(procedural) => self.text(&procedural.text),
        }
    }

    fn tcb(&mut self, keys: &TcbKeys) {
        match keys {
            TcbKeys::Number(keys) => {
                for key in keys {
                    self.time(key.time);
                    self.numbers(&[
                        key.value,
                        key.tension,
                        key.continuity,
                        key.bias,
                        key.ease_in,
                        key.ease_out,
                    ]);
                }
            }
            TcbKeys::Vector(keys) => {
                for key in keys {
                    self.time(key.time);
                    self.numbers(&key.value.to_array());
                    self.numbers(&[key.tension, key.continuity, key.bias, key.ease_in, key.ease_out]);
                }
            }
            TcbKeys::Rotation(keys) => {
                for key in keys {
                    self.time(key.time);
                    self.numbers(&key.value.to_array());
                    self.numbers(&[key.tension, key.continuity, key.bias, key.ease_in, key.ease_out]);
                }
            }
        }
    }
}

/// The work of putting a scene together from what was and what is.
struct Restoring<'a> {
    companion: &'a Companion,
    original: Scene,
    /// What the format alone gives, in the space of the original.
    plain: Scene,
    addresses: Addresses,
    /// For each node of the plain scene, the one of the original.
    origin: HashMap<NodeRef, NodeRef>,
    rests: BTreeMap<String, String>,
    tracks: HashMap<String, BTreeMap<String, String>>,
}

/// The addresses of a plain scene without the names of its rigs, which are those of files.
fn nameless(plain: &Scene) -> Addresses {
    let mut bare = Scene { rigs: plain.rigs.clone(), sets: Vec::new(), takes: Vec::new(), ..*plain };
    for (index, rig) in bare.rigs.iter_mut().enumerate() {
        rig.name = format!("rig{index}");
    }
    Addresses::new(&bare)
}

impl<'a> Restoring<'a> {
    fn new(companion: &'a Companion, mut original: Scene, plain: Scene) -> Result<Restoring<'a>, Fault> {
        let (addresses, there) = (nameless(&plain), Addresses::new(&original));
        let mut origin = HashMap::new();
        for (now, then) in &companion.nodes {
            let then = there.find(then).map_err(|error| Fault::in_part("extra data", error))?;
            if let Ok(now) = addresses.find(now) {
                origin.insert(now, then);
            }
        }
        let rests = rest_prints(&plain, &addresses);
        let tracks =
            (plain.takes.iter()).map(|take| (take.name.clone(), track_prints(take, &addresses))).collect();
        let (plain, _) = in_space(&plain, &original.space);
        for sampled in &companion.sampled {
            fill_in(&mut original, &there, &plain, &origin, sampled)
                .map_err(|error| Fault::in_part("extra data", error))?;
        }
        Ok(Restoring { companion, original, plain, addresses, origin, rests, tracks })
    }

    fn run(self) -> Result<(Scene, Vec<String>), Fault> {
        let same_takes = self.plain.takes.iter().map(|take| &take.name).collect::<HashSet<_>>()
            == self.companion.tracks.keys().collect::<HashSet<_>>();
        let unchanged = self.rests == self.companion.rests
            && same_takes
            && self.companion.tracks.iter().all(|(take, prints)| self.tracks.get(take) == Some(prints));
        if unchanged {
            return Ok((self.original, Vec::new()));
        }
        let mut notes = Vec::new();
        // The original's rigs where all their nodes are still there and no others; else those of the file.
        let same_nodes = self.origin.len() == self.addresses.nodes().len()
            && self.origin.len() == self.companion.nodes.len();
        let (mut rigs, place): (Vec<Rig>, HashMap<NodeRef, NodeRef>) = if same_nodes {
            (self.original.rigs.clone(), self.origin.clone())
        } else {
            notes.push(
                "its nodes are others than those that were written: their hierarchy is taken as it is"
                    .to_owned(),
            );
            (self.plain.rigs.clone(), self.addresses.nodes().iter().map(|&node| (node, node)).collect())
        };
        let mut whole_again: HashSet<NodeRef> = HashSet::new();
        let mut moved_rests = 0;
        for &node in self.addresses.nodes() {
            let text = self.addresses.node(node);
            let (rig, id) = place[&node];
            let (Some(now), Some(then)) =
                (self.node(node), self.origin.get(&node).and_then(|&then| self.then(then)))
            else {
                continue;
            };
            let same = self.rests.get(text) == self.companion.rests.get(text);
            let mut joined = then.clone();
            joined.name.clone_from(&now.name);
            moved_rests += usize::from(!same);
            if !same && !set_rest(&mut joined.transform, now) {
                joined.transform.clone_from(&now.transform);
                whole_again.insert(node);
            }
            if then.canonical().is_none() && self.any_track_changed(node) {
                joined.transform.clone_from(&now.transform);
                whole_again.insert(node);
            }
            if let Some(target) = rigs.get_mut(rig).and_then(|rig| rig.node_mut(id)) {
                *target = joined;
            }
        }
        if moved_rests > 0 {
            notes.push(format!(
                "{moved_rests} nodes rest elsewhere than when they were written: they rest as they are now"
            ));
        }
        let mut takes = Vec::with_capacity(self.plain.takes.len());
        for take in &self.plain.takes {
            takes.push(self.take(take, &rigs, &place, &whole_again, &mut notes));
        }
        let names: HashSet<&str> = self.plain.takes.iter().map(|take| take.name.as_str()).collect();
        for gone in self.original.takes.iter().filter(|take| {
            !names.contains(take.name.as_str()) && self.companion.tracks.contains_key(&take.name)
        }) {
            notes.push(format!("the take '{}' was taken out: its extra data was let go", gone.name));
        }
        // Takes that the format could not show at all are as they were.
        let hidden =
            self.original.takes.iter().filter(|take| !self.companion.tracks.contains_key(&take.name));
        if same_nodes {
            takes.extend(hidden.cloned());
        }
        let scene = Scene { rigs, takes, ..self.original };
        Ok((scene, notes))
    }

    fn node(&self, (rig, id): NodeRef) -> Option<&Node> {
        self.plain.rigs.get(rig)?.node(id)
    }

    fn then(&self, (rig, id): NodeRef) -> Option<&Node> {
        self.original.rigs.get(rig)?.node(id)
    }

    fn any_track_changed(&self, node: NodeRef) -> bool {
        ["translation", "rotation", "scale"].into_iter().any(|property| {
            let channel = self.channel(node, property);
            let names = self.companion.tracks.keys().chain(self.tracks.keys());
            names.into_iter().any(|take| self.is_changed(take, &channel))
        })
    }

    fn channel(&self, (rig, node): NodeRef, property: &str) -> String {
        self.addresses.property(&Target { rig, node, property: property.to_owned() })
    }

    fn is_changed(&self, take: &str, channel: &str) -> bool {
        let now = self.tracks.get(take).and_then(|prints| prints.get(channel));
        let then = self.companion.tracks.get(take).and_then(|prints| prints.get(channel));
        now != then
    }

    fn take(
        &self,
        now: &Take,
        rigs: &[Rig],
        place: &HashMap<NodeRef, NodeRef>,
        whole_again: &HashSet<NodeRef>,
        notes: &mut Vec<String>,
    ) -> Take {
        let then = self.original.takes.iter().find(|take| take.name == now.name);
        let mut take = match then {
            Some(then) => then.clone(),
            None => Take { layers: vec![Layer::base(Vec::new())], ..now.clone() },
        };
        // What stands in the scene for a node of the original, and whether its tracks are as they were.
        let back: HashMap<NodeRef, NodeRef> = self.origin.iter().map(|(now, then)| (*then, *now)).collect();
        let mut let_go: Vec<String> = Vec::new();
        let mut restored_channels = HashSet::new();
        for layer in &mut take.layers {
            layer.tracks.retain_mut(|track| {
                let Some(&node) = back.get(&(track.target.rig, track.target.node)) else { return false };
                let is_step = self
                    .then((track.target.rig, track.target.node))
                    .is_some_and(|node| node.op(&track.target.property).is_some());
                let channel = self.channel(node, &track.target.property);
                let changed =
                    self.is_changed(&now.name, &channel) || (is_step && whole_again.contains(&node));
                if changed {
                    let_go.push(channel);
                    return false;
                }
                restored_channels.insert(channel);
                (track.target.rig, track.target.node) = place[&node];
                true
            });
        }
        for (_, track) in now.tracks() {
            let node = (track.target.rig, track.target.node);
            let channel = self.addresses.property(&track.target);
            let is_fresh = self.is_changed(&now.name, &channel) || whole_again.contains(&node);
            if !is_fresh || restored_channels.contains(&channel) {
                continue;
            }
            let (rig, id) = place[&node];
            let target = Target { rig, node: id, property: track.target.property.clone() };
            let Some(controller) = unfolded(&track.controller, rigs, &target) else { continue };
            if let Some(base) = take.layers.first_mut() {
                base.tracks.push(Track { target, controller });
            }
        }
        let_go.sort();
        let_go.dedup();
        if !let_go.is_empty() {
            notes.push(format!(
                "take '{}': changed since it was written, so that its curves as they are now win and the extra data was let go: {}",
                now.name,
                listed(&let_go)
            ));
        }
        if let Some(keys) = take.key_range() {
            take.range = if then.is_some() { take.range } else { keys };
        }
        take
    }
}

/// Puts samples that the format held into the scene that was written; without effect where they are gone.
fn fill_in(
    original: &mut Scene,
    addresses: &Addresses,
    plain: &Scene,
    origin: &HashMap<NodeRef, NodeRef>,
    sampled: &Sampled,
) -> Result<(), String> {
    let target =
        addresses.find_property(&original.rigs, &sampled.channel).map_err(|error| error.to_string())?;
    let order = sampled.order.as_ref().map(|order| order.parse::<RotationOrder>());
    let order = order.transpose().map_err(|error| error.to_string())?;
    let take = original.takes.get_mut(sampled.take).ok_or("speaks of a take that is not there")?;
    let now = plain.takes.iter().find(|now| now.name == take.name);
    let is_it = |track: &&Track| {
        track.target.property == target.property
            && origin.get(&(track.target.rig, track.target.node)) == Some(&(target.rig, target.node))
    };
    let Some(track) = now.and_then(|now| now.tracks().map(|(_, track)| track).find(is_it)) else {
        return Ok(());
    };
    let Some(controller) = given_back(&track.controller, order, &original.rigs, &target) else {
        return Ok(());
    };
    let layer = take.layers.get_mut(sampled.layer).ok_or("speaks of a layer that is not there")?;
    layer.tracks.insert(sampled.at.min(layer.tracks.len()), Track { target, controller });
    Ok(())
}

fn listed(channels: &[String]) -> String {
    let shown = channels.iter().take(6).cloned().collect::<Vec<_>>().join(", ");
    match channels.len() {
        0..=6 => shown,
        more => format!("{shown} and {} more", more - 6),
    }
}

/// A whole local rotation as what the animated step of a node has to be.
fn unfolded(controller: &Controller, rigs: &[Rig], target: &Target) -> Option<Controller> {
    let node = rigs.get(target.rig)?.node(target.node)?;
    match node.canonical() {
        Some(view) if target.property == "rotation" => {
            let (before, after) = (view.before.conjugate(), view.after.conjugate());
            if before.w.abs() >= 1.0 && after.w.abs() >= 1.0 {
                return Some(controller.clone());
            }
            turned(controller, before, after)
        }
        _ => {
            node.op(&target.property).map(|_| ()).or(node.attribute(&target.property).map(|_| ()))?;
            Some(controller.clone())
        }
    }
}

/// Gives the steps of a canonical transform the rest of a plain node; whether that could be done.
fn set_rest(transform: &mut [TransformOp], now: &Node) -> bool {
    let holder = Node { transform: transform.to_vec(), ..now.clone() };
    let (Some(then), Some(now)) = (holder.canonical(), now.canonical()) else { return false };
    let rotation = then.before.conjugate() * now.rest_rotation() * then.after.conjugate();
    for op in transform {
        op.value = match (op.name.as_str(), op.value) {
            ("translation", _) => OpValue::Translate(now.translation),
            ("scale", _) => OpValue::Scale(now.scale),
            ("rotation", OpValue::Rotate { order, angles }) => {
                OpValue::Rotate { order, angles: nearest_euler(order, rotation, angles) }
            }
            ("rotation", _) => OpValue::Orient(rotation),
            (_, same) => same,
        };
    }
    true
}
