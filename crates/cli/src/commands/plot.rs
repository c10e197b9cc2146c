//! `plot`: pictures of curves, keys and poses.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use nimble_curve_core::address::{Addresses, COMPONENTS, NodeRef, without_namespace};
use nimble_curve_core::choice::chosen_nodes;
use nimble_curve_core::controller::Controller;
use nimble_curve_core::evaluate::{PropertySampler, Sampler};
use nimble_curve_core::ops::control_rig::{SolveKeys, SolveOptions, solve};
use nimble_curve_core::ops::is_hand_or_foot;
use nimble_curve_core::ops::survey::survey;
use nimble_curve_core::rig::{Node, NodeId, NodeKind};
use nimble_curve_core::scene::{PropertyKind, Scene, Take, Target, Track};
use nimble_curve_core::time::TimeRange;
use nimble_curve_core::value::{Quantity, Value};
use nimble_curve_draw::curves::{self, Channel, Source};
use nimble_curve_draw::keys::{self, Lane, Row};
use nimble_curve_draw::poses::{Figure, Strip, strip};
use nimble_curve_draw::{Size, to_png};

use crate::args::{Plot, View};
use crate::failure::Failure;
use crate::files;
use crate::named::{Named, stem};
use crate::report::{self, frame};
use crate::step::{SceneCache, Step, StepOutput};
use crate::terminal::{Report, Style};

/// How many poses there are where no frames are given.
const POSES: usize = 9;

pub fn run(args: &Plot) -> Result<(), Failure> {
    Picture::new(args.output.clone())?;
    if args.rest && args.view != View::Poses {
        return Err(Failure::new("a rig at rest has poses alone: say --view poses with --rest"));
    }
    if !args.beside.is_empty() && args.view != View::Curves {
        return Err(Failure::new("--beside draws curves alone: leave --view out"));
    }
    let scene = files::read(&args.file, args.input)?.scene;
    let scene = with_driven(args, &scene)?.unwrap_or(scene);
    let read = |path: &PathBuf| {
        let scene = files::read(path, args.input)?.scene;
        Ok::<_, Failure>(Arc::new(with_driven(args, &scene)?.unwrap_or(scene)))
    };
    let others = Others {
        against: args.against.as_ref().map(read).transpose()?,
        beside: args.beside.iter().map(read).collect::<Result<_, _>>()?,
    };
    let picture = pictured(args, &scene)?;
    picture.write(&drawn(args, &scene, &others)?)?;
    let take = if args.rest { None } else { chosen_take(args, &scene)? };
    let what = match args.view {
        View::Curves => "curves",
        View::Keys => "keys",
        View::Poses => "poses",
    };
    let of = take.map_or("the rig at rest".to_owned(), |take| {
        let (first, last) = range(args, &scene, take);
        format!("take {}, frames {}:{}", take.name, frame(first), frame(last))
    });
    let said = format!("{what} of {of}, {}x{} pixels", args.size.0, args.size.1);
    let title = format!("{} → {}", args.file.display(), picture.path.display());
    Ok(report::head(&mut Report::out(), &title, &(Style::Good, said))?)
}

/// A scene in which what constraints drive has samples, where channels are asked for by name; `None` where nothing is driven.
///
/// Such channels have no keys, so that none are drawn.
fn with_driven(args: &Plot, scene: &Scene) -> Result<Option<Scene>, Failure> {
    if args.view != View::Curves || args.choice.is_everything() || scene.constraints.is_empty() {
        return Ok(None);
    }
    let options = SolveOptions { keys: SolveKeys::Sampled, ..SolveOptions::default() };
    let made = solve(scene, &options);
    let made = made.map_err(|error| Failure::new(format!("{}: {error}", args.file.display())))?;
    Ok(Some(made.scene))
}

/// The picture's file, with the parts of its name filled in.
fn pictured(args: &Plot, scene: &Scene) -> Result<Picture, Failure> {
    let named = Named { clip: "", ..Named::of(&args.file, chosen_take(args, scene)?, scene.rate) };
    let chosen = args
        .frames
        .map(|(first, last)| TimeRange::new(scene.rate.ticks_at(first), scene.rate.ticks_at(last)));
    Picture::new(Named { range: chosen.or(named.range), ..named }.path(&args.output)?)
}

/// The other files of a picture.
struct Others {
    against: Option<Arc<Scene>>,
    beside: Vec<Arc<Scene>>,
}

fn drawn(args: &Plot, scene: &Scene, others: &Others) -> Result<String, Failure> {
    match args.view {
        View::Curves => draw_curves(args, scene, others),
        View::Keys => draw_keys(args, scene),
        View::Poses => draw_poses(args, scene, others.against.as_deref()),
    }
}

/// In a recipe, a picture is made beside the scene, which stays as it is.
impl Step for Plot {
    fn work(&self, scene: &Scene, file: &Path, shelf: &SceneCache) -> Result<StepOutput, Failure> {
        let driven = with_driven(self, scene)?;
        let shown = driven.as_ref().unwrap_or(scene);
        let read = |path: &PathBuf| {
            let scene = shelf.scene(path, self.input)?;
            Ok::<_, Failure>(with_driven(self, &scene)?.map_or(scene, Arc::new))
        };
        let others = Others {
            against: self.against.as_ref().map(read).transpose()?,
            beside: self.beside.iter().map(read).collect::<Result<_, _>>()?,
        };
        let args = Plot { file: file.to_owned(), ..self.clone() };
        let picture = pictured(&args, scene)?;
        let bytes = picture.bytes(&drawn(&args, shown, &others)?)?;
        let mut worked = StepOutput::unchanged(scene);
        worked.pictures.push((picture.path, bytes));
        Ok(worked)
    }
}

/// A picture's file, whose ending is known to be one that can be written.
pub struct Picture {
    path: PathBuf,
    is_png: bool,
}

impl Picture {
    pub fn new(path: PathBuf) -> Result<Picture, Failure> {
        let ending = path.extension().and_then(|ending| ending.to_str()).map(str::to_ascii_lowercase);
        match ending.as_deref() {
            Some("png") => Ok(Picture { path, is_png: true }),
            Some("svg") => Ok(Picture { path, is_png: false }),
            _ => Err(Failure::new(format!("{}: pictures are .png or .svg", path.display()))),
        }
    }

    /// What the file is to hold.
    fn bytes(&self, svg: &str) -> Result<Vec<u8>, Failure> {
        if self.is_png {
            to_png(svg).map_err(|error| Failure::new(format!("{}: {error}", self.path.display())))
        } else {
            Ok(svg.as_bytes().to_vec())
        }
    }

    pub fn write(&self, svg: &str) -> Result<(), Failure> {
        Ok(nimble_curve_formats::write_bytes(&self.bytes(svg)?, &self.path)?)
    }
}

fn size(args: &Plot) -> Size {
    Size { width: f64::from(args.size.0), height: f64::from(args.size.1) }
}

/// The take that is meant; the first where none is named.
fn chosen_take<'a>(args: &Plot, scene: &'a Scene) -> Result<Option<&'a Take>, Failure> {
    let Some(name) = &args.take else { return Ok(scene.takes.first()) };
    let found = scene.takes.iter().find(|take| take.name == *name);
    let names = || scene.takes.iter().map(|take| take.name.as_str());
    found.map(Some).ok_or_else(|| Failure::unknown("take", name, names(), &args.file))
}

fn needed_take<'a>(args: &Plot, scene: &'a Scene) -> Result<&'a Take, Failure> {
    let none = || Failure::new(format!("{}: there is no take to plot", args.file.display()));
    chosen_take(args, scene)?.ok_or_else(none)
}

/// The frames that are drawn.
fn range(args: &Plot, scene: &Scene, take: &Take) -> (f64, f64) {
    args.frames.unwrap_or_else(|| (scene.rate.frame(take.range.first), scene.rate.frame(take.range.last)))
}

/// The other file's take that belongs to one: of its name, else the first.
fn partner<'a>(other: &'a Scene, take: Option<&Take>) -> Option<&'a Take> {
    let same = take.and_then(|take| other.takes.iter().find(|own| own.name == take.name));
    same.or_else(|| other.takes.first())
}

fn title(args: &Plot, take: &Take, other: Option<&Take>) -> String {
    let named = |path: &Path, name: &str| {
        let stem = stem(path);
        if stem == name { stem.to_owned() } else { format!("{stem}, take {name}") }
    };
    let beside: Vec<&str> = args.beside.iter().map(|path| stem(path)).collect();
    let own = match beside.is_empty() {
        true => named(&args.file, &take.name),
        false => format!("{}, {}", stem(&args.file), beside.join(", ")),
    };
    match (&args.against, other) {
        (Some(against), Some(other)) => format!("{own} against {}", named(against, &other.name)),
        _ => own,
    }
}

fn draw_poses(args: &Plot, scene: &Scene, other: Option<&Scene>) -> Result<String, Failure> {
    let take = if args.rest { None } else { chosen_take(args, scene)? };
    let mut figures = vec![Figure { name: stem(&args.file), scene, take }];
    if let (Some(other), Some(path)) = (other, &args.against) {
        figures.push(Figure { name: stem(path), scene: other, take: partner(other, take) });
    }
    let trails = trailed(&figures, &args.trail, &args.file)?;
    let spread: Vec<f64> = match (args.frames, args.at.is_empty()) {
        (Some((first, last)), true) => {
            let at = |index: usize| first + (last - first) * index as f64 / (POSES - 1) as f64;
            (0..POSES).map(|index| at(index).round()).collect()
        }
        _ => args.at.clone(),
    };
    let what = Strip { count: POSES, frames: &spread, trails: &trails, size: size(args) };
    Ok(strip(&figures, &what)?)
}

/// For each figure the positions of its first rig's nodes that leave a trail. A pattern may mean nodes of one of them only.
fn trailed(figures: &[Figure<'_>], patterns: &[String], file: &Path) -> Result<Vec<Vec<usize>>, Failure> {
    let mut meant: Vec<BTreeSet<NodeRef>> = vec![BTreeSet::new(); figures.len()];
    for pattern in patterns {
        let mut nothing = None;
        let mut is_found = false;
        for (figure, meant) in figures.iter().zip(&mut meant) {
            match chosen_nodes(figure.scene, std::slice::from_ref(pattern)) {
                Ok(nodes) => {
                    is_found = true;
                    meant.extend(nodes);
                }
                Err(error) => nothing = nothing.or(Some(error)),
            }
        }
        if let Some(error) = nothing.filter(|_| !is_found) {
            return Err(Failure::new(format!("{}: {error}", file.display())));
        }
    }
    let positions = |(figure, meant): (&Figure<'_>, &BTreeSet<NodeRef>)| {
        let Some(rig) = figure.scene.rigs.first() else { return Vec::new() };
        let is_meant = |(id, node): (NodeId, &Node)| match patterns.is_empty() {
            true => is_hand_or_foot(&node.name) && node.kind == NodeKind::Joint,
            false => meant.contains(&(0, id)),
        };
        rig.nodes().enumerate().filter(|(_, node)| is_meant(*node)).map(|(position, _)| position).collect()
    };
    Ok(figures.iter().zip(&meant).map(positions).collect())
}

fn draw_keys(args: &Plot, scene: &Scene) -> Result<String, Failure> {
    if args.against.is_some() {
        return Err(Failure::new("--view keys draws one file: compare lists how the keys of two differ"));
    }
    let take = needed_take(args, scene)?;
    let addresses = Addresses::new(scene);
    let frame = |time| scene.rate.frame(time);
    let chosen = args.choice.nodes(scene, &args.file)?;
    let mut rows: Vec<Row> = Vec::new();
    let mut last: Option<NodeRef> = None;
    let mut tracks: Vec<&Track> = take.tracks().map(|(_, track)| track).collect();
    // In the order of the rig, whatever the layers.
    tracks.sort_by_key(|track| (track.target.rig, scene.rigs[track.target.rig].position(track.target.node)));
    for track in tracks {
        let node = (track.target.rig, track.target.node);
        let name = addresses.node(node);
        if !chosen.is_empty() && !chosen.iter().any(|own| own == name) {
            continue;
        }
        if last != Some(node) {
            rows.push(Row { name: name.to_owned(), ..Row::default() });
            last = Some(node);
        }
        let Some(row) = rows.last_mut() else { continue };
        let lane = match scene.rigs[node.0].property_kind(node.1, &track.target.property) {
            Some(PropertyKind::Rotation | PropertyKind::Number(Quantity::Angle)) => Lane::Rotation,
            Some(PropertyKind::Vector(Quantity::Length)) => Lane::Position,
            _ => Lane::Other,
        } as usize;
        if track.controller.sample_count() > 0
            && let Some(own) = track.controller.range()
        {
            let (first, end) = (frame(own.first), frame(own.last));
            let (a, b) = row.samples[lane].unwrap_or((first, end));
            row.samples[lane] = Some((a.min(first), b.max(end)));
        }
        row.keys[lane].extend(track.controller.own_key_times().into_iter().flatten().map(frame));
    }
    // What is constant has no keys.
    rows.retain(|row| row.count() > 0 || row.samples.iter().any(Option::is_some));
    if rows.is_empty() {
        return Err(Failure::new(format!("{}: no animated node matches", args.file.display())));
    }
    for keys in rows.iter_mut().flat_map(|row| &mut row.keys) {
        keys.sort_by(f64::total_cmp);
        keys.dedup();
        if let Some((first, last)) = args.frames {
            keys.retain(|key| (first..=last).contains(key));
        }
    }
    let sheet = keys::Sheet {
        title: format!("{}: keys", title(args, take, None)),
        range: range(args, scene, take),
        clips: take
            .clips
            .iter()
            .map(|clip| (clip.name.clone(), frame(clip.range.first), frame(clip.range.last)))
            .collect(),
        markers: take.markers.iter().map(|marker| (marker.name.clone(), frame(marker.time))).collect(),
        size: size(args),
    };
    Ok(keys::draw(&sheet, &rows))
}

fn draw_curves(args: &Plot, scene: &Scene, others: &Others) -> Result<String, Failure> {
    let take = needed_take(args, scene)?;
    let mut left = 0;
    let names: Vec<String> = if args.choice.is_everything() {
        most_moving(scene, take, args.channels.into())
    } else {
        let all: Vec<String> = survey(scene, take).into_iter().map(|m| m.channel).collect();
        let mut names = args.choice.components(scene, &all, &args.file)?;
        left = names.len().saturating_sub(args.channels.into());
        names.truncate(args.channels.into());
        names
    };
    let against = others.against.as_deref();
    let theirs = against.and_then(|other| Some((other, partner(other, Some(take))?)));
    let mut channels = channels_of(scene, take, &names);
    if !others.beside.is_empty() {
        label(&mut channels, &args.file);
    }
    for (path, other) in args.beside.iter().zip(&others.beside) {
        let none = || Failure::new(format!("{}: there is no take to plot", path.display()));
        let mut own = channels_of(other, partner(other, Some(take)).ok_or_else(none)?, &names);
        if own.len() < names.len() {
            let lacks = names.iter().find(|name| own.iter().all(|channel| channel.name != **name));
            let lacks = lacks.map_or("", String::as_str);
            return Err(Failure::new(format!("{}: there is no animated channel {lacks}", path.display())));
        }
        let unit = other.space.metres_per_unit / scene.space.metres_per_unit;
        own.iter_mut().filter(|channel| channel.is_length).for_each(|channel| channel.factor *= unit);
        for channel in &mut own {
            // Frames are those of the first file.
            if let Source::Values(values) = &mut channel.source {
                values.iter_mut().for_each(|(at, _)| *at *= scene.rate.fps() / other.rate.fps());
            }
        }
        label(&mut own, path);
        channels.extend(own);
    }
    if let Some((other, their_take)) = theirs {
        for (channel, name) in channels.iter_mut().zip(names.iter().cycle()) {
            channel.against = values_of(scene, other, their_take, name)?;
        }
    }
    if channels.is_empty() {
        return Err(Failure::new(format!("{}: nothing in the take moves", args.file.display())));
    }
    let mut title = title(args, take, theirs.map(|(_, take)| take));
    if left > 0 {
        // What was asked for by name is not left out in silence.
        let all = names.len() + left;
        title = format!("{title}: {} of {all} channels, --channels {all} draws them all", names.len());
    }
    let range = range(args, scene, take);
    let overlaid = args.overlay;
    let sheet = curves::Sheet { title: &title, rate: scene.rate, range, overlaid, size: size(args) };
    Ok(curves::draw(&sheet, &channels))
}

/// Says of each channel whose it is, and how many keys it has there.
fn label(channels: &mut [Channel<'_>], path: &Path) {
    for channel in channels {
        let keys = match &channel.source {
            Source::Curve(curve) => report::counted(curve.keys().len(), "key"),
            Source::Values(values) => report::counted(values.len(), "value"),
        };
        channel.name = format!("{}: {}, {keys}", stem(path), channel.name);
    }
}

/// The channels that move most: of positions the one, of rotations the others, then anything else.
fn most_moving(scene: &Scene, take: &Take, count: usize) -> Vec<String> {
    let mut all = survey(scene, take);
    all.retain(|movement| movement.span() > 1e-9);
    all.sort_by(|a, b| b.span().total_cmp(&a.span()).then_with(|| a.channel.cmp(&b.channel)));
    let mut names: Vec<String> = Vec::new();
    for (quantity, most) in [
        (Quantity::Length, count.div_ceil(3)),
        (Quantity::Angle, count),
        (Quantity::Number, count),
        (Quantity::Length, count),
    ] {
        for movement in all.iter().filter(|movement| movement.quantity == quantity).take(most) {
            if names.len() < count && !names.contains(&movement.channel) {
                names.push(movement.channel.clone());
            }
        }
    }
    names
}

/// The first track of each channel, by its address with component.
pub fn channels_of<'a>(scene: &'a Scene, take: &'a Take, names: &[String]) -> Vec<Channel<'a>> {
    let addresses = Addresses::new(scene);
    let mut channels = Vec::new();
    for name in names {
        let found = take.tracks().find_map(|(layer, track)| {
            let address = addresses.property(&track.target);
            let component = component_of(name, &address)?;
            let kind =
                scene.rigs[track.target.rig].property_kind(track.target.node, &track.target.property)?;
            let is_one = matches!(kind, PropertyKind::Number(_));
            // Of several components one has to be named.
            (is_one || *name != address).then_some((layer, track, component))
        });
        let Some((layer, track, component)) = found else { continue };
        let kind = scene.rigs[track.target.rig].property_kind(track.target.node, &track.target.property);
        let quantity = kind.map_or(Quantity::Number, |kind| kind.quantity());
        let (factor, unit) = match quantity {
            Quantity::Angle => (1_f64.to_degrees(), "°"),
            Quantity::Length => (1.0, scene.space.unit_name().unwrap_or("")),
            Quantity::Number => (1.0, ""),
        };
        let source = match track.controller.curves().get(component).filter(|curve| !curve.is_empty()) {
            Some(curve) => Source::Curve(curve),
            None => Source::Values(sampled(scene, take, layer, track, component)),
        };
        let is_length = quantity == Quantity::Length;
        channels.push(Channel { name: name.clone(), source, factor, unit, is_length, against: Vec::new() });
    }
    channels
}

/// Which component of an address a channel is: none stands for the only one.
fn component_of(name: &str, address: &str) -> Option<usize> {
    let rest = name.strip_prefix(address)?;
    if rest.is_empty() {
        return Some(0);
    }
    let rest = rest.strip_prefix('.')?;
    COMPONENTS.iter().position(|letter| *letter == rest).or_else(|| rest.parse().ok())
}

/// What a track comes to by itself, at whole frames or its own samples.
fn sampled(scene: &Scene, take: &Take, layer: usize, track: &Track, component: usize) -> Vec<(f64, f64)> {
    let Some(mut sampler) = Sampler::of_track(scene, take, layer, track) else { return Vec::new() };
    let range = track.controller.range().unwrap_or(take.range);
    let rate = match &track.controller {
        Controller::Samples(samples) => samples.rate,
        _ => scene.rate,
    };
    let (first, last) = (rate.nearest_frame(range.first), rate.nearest_frame(range.last));
    (first..=last)
        .filter_map(|frame| {
            let time = rate.ticks(frame);
            Some((scene.rate.frame(time), number(&sampler.value_at(time.as_f64()), component)?))
        })
        .collect()
}

/// One number of a value; rotations without angles give their axis times their angle.
fn number(value: &Value, component: usize) -> Option<f64> {
    match value {
        Value::Quaternion(q) => q.to_scaled_axis().to_array().get(component).copied(),
        Value::Number(number) => (component == 0).then_some(*number),
        Value::Vector(v) | Value::Euler { angles: v, .. } => v.to_array().get(component).copied(),
        Value::Matrix(m) => m.to_cols_array().get(component).copied(),
        Value::Discrete(_) => None,
    }
}

/// Another scene's values of a channel at its own whole frames, as frames of the first scene and in its unit.
pub fn values_of(scene: &Scene, other: &Scene, take: &Take, name: &str) -> Result<Vec<(f64, f64)>, Failure> {
    let addresses = Addresses::new(other);
    let found = addresses.nodes().iter().find_map(|&(rig, node)| {
        let own = other.rigs[rig].node(node)?;
        let properties =
            own.transform.iter().map(|op| &op.name).chain(own.attributes.iter().map(|a| &a.name));
        properties.into_iter().find_map(|property| {
            let target = Target { rig, node, property: property.clone() };
            let address = addresses.property(&target);
            let component =
                component_of(name, &address).or_else(|| component_of(&bare_node(name), &bare_node(&address)));
            component.map(|component| (target, component))
        })
    });
    let Some((target, component)) = found else { return Ok(Vec::new()) };
    let mut sampler = PropertySampler::new(other, take, &target)?;
    let is_length = sampler.kind().quantity() == Quantity::Length;
    let factor = if is_length { other.space.metres_per_unit / scene.space.metres_per_unit } else { 1.0 };
    let (first, last) =
        (other.rate.nearest_frame(take.range.first), other.rate.nearest_frame(take.range.last));
    let at = |frame: i64| {
        let time = other.rate.ticks(frame);
        let number = number(&sampler.value_at(time.as_f64()), component)?;
        Some((scene.rate.frame(time), number * factor))
    };
    Ok((first..=last).filter_map(at).collect())
}

/// A channel's address with the node's namespaces left out.
fn bare_node(address: &str) -> String {
    match address.rsplit_once(':') {
        Some((node, property)) => format!("{}:{property}", without_namespace(node)),
        None => address.to_owned(),
    }
}
