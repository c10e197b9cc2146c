//! `inspect`: what is in a file.

use std::collections::BTreeMap;
use std::io::Write;

use nimble_curve_core::controller::Controller;
use nimble_curve_core::hierarchy::Hierarchy;
use nimble_curve_core::ops::survey::{Movement, survey};
use nimble_curve_core::rig::{NodeId, NodeKind, OpValue, Rig};
use nimble_curve_core::scene::{LayerMode, PropertyKind, Scene, Take};
use nimble_curve_core::space::Space;
use nimble_curve_core::value::Quantity;
use serde::Serialize;

use crate::args::Inspect;
use crate::failure::Failure;
use crate::files;
use crate::report::{self, amount, counted, frame, print_json};
use crate::table::{Align, Table};
use crate::terminal::{self, Report, Style};

pub fn run(args: &Inspect) -> Result<(), Failure> {
    let loaded = files::read(&args.file, args.input)?;
    let scene = &loaded.scene;
    let mut out = Report::out();
    if args.json {
        return Ok(print_json(&mut out, &SceneJson::new(scene))?);
    }
    let said = format!("{}, {}; {}", loaded.format.name(), space_name(&scene.space), held(scene));
    report::head(&mut out, &args.file.display().to_string(), &(Style::Plain, said))?;
    for rig in &scene.rigs {
        writeln!(out, "  rig   {}: {}", rig.name, kinds(rig))?;
        if args.tree {
            print_tree(&mut out, rig)?;
        }
    }
    if scene.rigs.is_empty() {
        writeln!(out, "  no rig")?;
    }
    if !scene.constraints.is_empty() {
        let count = counted(scene.constraints.len(), "constraint");
        writeln!(out, "  by    {count}, which nimble-curve rig shows")?;
    }
    for set in &scene.sets {
        writeln!(out, "  set   {}: {}", set.name, set.patterns.join(" "))?;
    }
    if scene.takes.is_empty() {
        writeln!(out, "  no take: the rig stands at rest")?;
    }
    for take in &scene.takes {
        print_take(&mut out, scene, take, args.rows)?;
    }
    Ok(())
}

fn space_name(space: &Space) -> String {
    let unit = space.unit_name().map_or_else(|| format!("{} m a unit", space.metres_per_unit), str::to_owned);
    format!("{unit}, {} up, {}-handed", space.up, space.handedness)
}

/// How much there is in a file.
fn held(scene: &Scene) -> String {
    let tracks = || scene.takes.iter().flat_map(Take::tracks).map(|(_, track)| &track.controller);
    let samples: usize = tracks().map(Controller::sample_count).sum();
    let keys: usize = tracks().map(Controller::key_count).sum();
    let counts = [
        (scene.rigs.len(), "rig"),
        (scene.takes.len(), "take"),
        (tracks().count(), "track"),
        (keys, "key"),
        (samples, "sample"),
    ];
    let there = counts.into_iter().filter(|(count, _)| *count > 0);
    let said: Vec<String> = there.map(|(count, thing)| counted(count, thing)).collect();
    if said.is_empty() { "nothing in it".to_owned() } else { said.join(", ") }
}

/// How many nodes there are of each kind.
fn kinds(rig: &Rig) -> String {
    let count = |kind: NodeKind| rig.nodes().filter(|(_, node)| node.kind == kind).count();
    let names = [
        (NodeKind::Root, "root"),
        (NodeKind::Joint, "joint"),
        (NodeKind::Control, "control"),
        (NodeKind::End, "end"),
        (NodeKind::Locator, "locator"),
        (NodeKind::Other, "other node"),
    ];
    let parts: Vec<String> = names
        .into_iter()
        .filter(|(kind, _)| count(*kind) > 0)
        .map(|(kind, name)| counted(count(kind), name))
        .collect();
    if parts.is_empty() { "no nodes".to_owned() } else { parts.join(", ") }
}

fn print_tree(out: &mut impl Write, rig: &Rig) -> Result<(), Failure> {
    fn branch(
        out: &mut impl Write,
        (rig, hierarchy): (&Rig, &Hierarchy<'_>),
        id: NodeId,
        lead: &str,
        is_last: bool,
    ) -> Result<(), Failure> {
        let Some(node) = rig.node(id) else { return Ok(()) };
        let order = match node.op("rotation").map(|op| op.value) {
            Some(OpValue::Rotate { order, .. }) => order.to_string(),
            Some(OpValue::Orient(_)) => "quaternion".to_owned(),
            _ => counted(node.transform.len(), "step"),
        };
        let mut about = match node.kind {
            NodeKind::Joint => order,
            NodeKind::End => "end".to_owned(),
            NodeKind::Locator => "locator".to_owned(),
            NodeKind::Root => format!("root, {order}"),
            NodeKind::Control => format!("control, {order}"),
            NodeKind::Other => format!("other, {order}"),
        };
        if !node.attributes.is_empty() {
            let names: Vec<&str> = node.attributes.iter().map(|attribute| attribute.name.as_str()).collect();
            about = format!("{about}; {}", names.join(", "));
        }
        let fork = if is_last { "└ " } else { "├ " };
        writeln!(out, "        {lead}{fork}{}  {}", node.name, Style::Faint.paint(&about))?;
        let below = format!("{lead}{}", if is_last { "  " } else { "│ " });
        let children = hierarchy.children(id);
        for (index, child) in children.iter().enumerate() {
            branch(out, (rig, hierarchy), *child, &below, index + 1 == children.len())?;
        }
        Ok(())
    }
    let hierarchy = Hierarchy::new(rig);
    let roots = hierarchy.roots();
    for (index, root) in roots.iter().enumerate() {
        branch(out, (rig, &hierarchy), *root, "", index + 1 == roots.len())?;
    }
    Ok(())
}

fn print_take(out: &mut impl Write, scene: &Scene, take: &Take, most: usize) -> Result<(), Failure> {
    let rate = scene.rate;
    let (first, last) = (rate.frame(take.range.first), rate.frame(take.range.last));
    writeln!(
        out,
        "  take  {}: frames {}:{} ({} frames, {:.2} s) at {rate} fps",
        Style::Strong.paint(&take.name),
        frame(first),
        frame(last),
        take.range.frames(rate),
        take.range.seconds(),
    )?;
    if let Some(keys) = take.key_range()
        && (keys.first < take.range.first || keys.last > take.range.last)
    {
        let (first, last) = (rate.frame(keys.first), rate.frame(keys.last));
        let text = format!("keys reach beyond the range: frames {}:{}", frame(first), frame(last));
        writeln!(out, "        {}", Style::Warn.paint(&text))?;
    }
    for clip in &take.clips {
        let (first, last) = (rate.frame(clip.range.first), rate.frame(clip.range.last));
        let note = clip.note.as_ref().map_or(String::new(), |note| format!("  {note}"));
        writeln!(
            out,
            "        clip {}: frames {}:{} ({} frames){note}",
            clip.name,
            frame(first),
            frame(last),
            clip.range.frames(rate)
        )?;
    }
    if take.layers.len() > 1 {
        for layer in &take.layers {
            let weight = match layer.weight.constant() {
                Some(weight) => format!("weight {weight}"),
                None => "animated weight".to_owned(),
            };
            let mode = if layer.mode == LayerMode::Additive { "additive" } else { "override" };
            let muted = if layer.muted { ", muted" } else { "" };
            writeln!(
                out,
                "        layer {}: {mode}, {weight}{muted}, {}",
                layer.name,
                counted(layer.tracks.len(), "track")
            )?;
        }
    }
    let movements = survey(scene, take);
    kind_table(scene, take).print(out)?;
    let layers: Vec<&str> = take.layers.iter().map(|layer| layer.name.as_str()).collect();
    print_most(out, scene, (&layers, &movements), most)
}

/// Whether a component counts as moving: by more than rounding.
fn moves(movement: &Movement) -> bool {
    movement.span() > 1e-9
}

fn kind_table(scene: &Scene, take: &Take) -> Table {
    #[derive(Default)]
    struct Row {
        tracks: usize,
        keys: usize,
        samples: usize,
        controllers: BTreeMap<&'static str, usize>,
    }
    let mut rows: BTreeMap<&'static str, Row> = BTreeMap::new();
    for (_, track) in take.tracks() {
        let kind = scene.rigs[track.target.rig].property_kind(track.target.node, &track.target.property);
        let row = rows.entry(property_name(kind, &track.target.property)).or_default();
        row.tracks += 1;
        row.keys += track.controller.key_count();
        row.samples += track.controller.sample_count();
        *row.controllers.entry(track.controller.type_name()).or_default() += 1;
    }
    let mut table = Table::new(&[
        ("kind", Align::Left),
        ("tracks", Align::Right),
        ("keys", Align::Right),
        ("sampled values", Align::Right),
        ("controllers", Align::Left),
    ]);
    for (name, row) in rows {
        let controllers: Vec<String> =
            row.controllers.iter().map(|(name, count)| format!("{count} {name}")).collect();
        table.row([
            name.to_owned(),
            row.tracks.to_string(),
            row.keys.to_string(),
            row.samples.to_string(),
            controllers.join(", "),
        ]);
    }
    table
}

fn property_name(kind: Option<PropertyKind>, property: &str) -> &'static str {
    match kind {
        Some(PropertyKind::Rotation) => "rotation",
        Some(PropertyKind::Vector(Quantity::Length)) if property == "translation" => "translation",
        Some(PropertyKind::Scale) => "scale",
        Some(PropertyKind::Discrete) => "discrete",
        Some(PropertyKind::Matrix) => "matrix",
        _ => "attribute",
    }
}

fn print_most(
    out: &mut impl Write,
    scene: &Scene,
    (layers, movements): (&[&str], &[Movement]),
    most: usize,
) -> Result<(), Failure> {
    let moving: Vec<&Movement> = movements.iter().filter(|movement| moves(movement)).collect();
    writeln!(out, "        {} of {} move", moving.len(), counted(movements.len(), "component"))?;
    if most == 0 || moving.is_empty() {
        return Ok(());
    }
    let with_shape = terminal::is_read_by_a_person();
    let mut heads =
        vec![("moves most", Align::Left), ("by", Align::Right), ("from", Align::Right), ("to", Align::Right)];
    if with_shape {
        heads.push(("over time", Align::Left));
    }
    let mut table = Table::new(&heads);
    for quantity in [Quantity::Length, Quantity::Angle, Quantity::Number] {
        let mut kind: Vec<&&Movement> =
            moving.iter().filter(|movement| movement.quantity == quantity).collect();
        kind.sort_by(|a, b| b.span().total_cmp(&a.span()).then_with(|| a.channel.cmp(&b.channel)));
        let share = if quantity == Quantity::Angle { most } else { most.div_ceil(3) };
        for movement in kind.into_iter().take(share) {
            let shown = |value: f64| amount(value, quantity, &scene.space);
            let again = moving.iter().filter(|other| other.channel == movement.channel).count() > 1;
            let layer = layers.get(movement.layer).filter(|_| again);
            let mut cells = vec![
                layer.map_or(movement.channel.clone(), |layer| format!("{} ({layer})", movement.channel)),
                shown(movement.span()),
                shown(movement.range.0),
                shown(movement.range.1),
            ];
            if with_shape {
                cells.push(terminal::spark(&movement.shape));
            }
            table.row(cells);
        }
    }
    Ok(table.print(out)?)
}

#[derive(Serialize)]
struct SceneJson<'a> {
    rate: String,
    metres_per_unit: f64,
    up: String,
    handedness: String,
    rigs: Vec<RigJson<'a>>,
    takes: Vec<TakeJson<'a>>,
}

#[derive(Serialize)]
struct RigJson<'a> {
    name: &'a str,
    nodes: usize,
    joints: usize,
}

#[derive(Serialize)]
struct TakeJson<'a> {
    name: &'a str,
    first_frame: f64,
    last_frame: f64,
    frames: i64,
    seconds: f64,
    layers: Vec<LayerJson<'a>>,
    channels: Vec<ChannelJson>,
}

#[derive(Serialize)]
struct LayerJson<'a> {
    name: &'a str,
    mode: &'static str,
    muted: bool,
    tracks: usize,
    keys: usize,
    sampled_values: usize,
}

#[derive(Serialize)]
struct ChannelJson {
    layer: usize,
    channel: String,
    unit: &'static str,
    least: f64,
    greatest: f64,
}

impl<'a> SceneJson<'a> {
    fn new(scene: &'a Scene) -> SceneJson<'a> {
        let rig = |rig: &'a Rig| RigJson {
            name: &rig.name,
            nodes: rig.len(),
            joints: rig.nodes().filter(|(_, node)| node.kind == NodeKind::Joint).count(),
        };
        SceneJson {
            rate: scene.rate.to_string(),
            metres_per_unit: scene.space.metres_per_unit,
            up: scene.space.up.to_string(),
            handedness: scene.space.handedness.to_string(),
            rigs: scene.rigs.iter().map(rig).collect(),
            takes: scene.takes.iter().map(|take| TakeJson::new(scene, take)).collect(),
        }
    }
}

impl<'a> TakeJson<'a> {
    fn new(scene: &Scene, take: &'a Take) -> TakeJson<'a> {
        let layers = take.layers.iter().map(|layer| LayerJson {
            name: &layer.name,
            mode: if layer.mode == LayerMode::Additive { "additive" } else { "override" },
            muted: layer.muted,
            tracks: layer.tracks.len(),
            keys: layer.tracks.iter().map(|track| track.controller.key_count()).sum(),
            sampled_values: layer.tracks.iter().map(|track| track.controller.sample_count()).sum(),
        });
        let channels = survey(scene, take).into_iter().map(|movement| {
            let (unit, factor) = match movement.quantity {
                Quantity::Angle => ("deg", 1_f64.to_degrees()),
                Quantity::Length => ("unit", 1.0),
                Quantity::Number => ("", 1.0),
            };
            let (least, greatest) = (movement.range.0 * factor, movement.range.1 * factor);
            ChannelJson { layer: movement.layer, channel: movement.channel, unit, least, greatest }
        });
        TakeJson {
            name: &take.name,
            first_frame: scene.rate.frame(take.range.first),
            last_frame: scene.rate.frame(take.range.last),
            frames: take.range.frames(scene.rate),
            seconds: take.range.seconds(),
            layers: layers.collect(),
            channels: channels.collect(),
        }
    }
}
