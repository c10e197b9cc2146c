//! From a COLLADA document to a scene.

use std::collections::{HashMap, HashSet};

use nimble_curve_core::controller::{Controller, SampleKind};
use nimble_curve_core::ops::retime::shifted;
use nimble_curve_core::rig::{NodeId, Rig};
use nimble_curve_core::scene::{Clip, Layer, Scene, Take, Target, Track};
use nimble_curve_core::space::{Handedness, Space, UpAxis};
use nimble_curve_core::time::{FrameRate, TimeRange};
use roxmltree::{Document, Node};

use super::Named;
use super::curves::{Factor, Sampler, fault, shown, slack};
use super::deform::Deformers;
use super::nodes::{FileNode, Hierarchy};
use super::part::{Channel, Part, sampled};
use crate::error::Fault;
use crate::grid::{Clock, Said};
use crate::steps::Mapped;

/// What a document says, without our extra data.
pub struct Plain {
    /// The scene.
    pub scene: Scene,
    /// The id of each node of its rig.
    pub ids: Vec<String>,
    /// What was let pass.
    pub notes: Vec<String>,
}

/// The scene of a document.
///
/// `with_hints`: our own notes of the frame rate and of where takes start count; other programs do not know them.
pub fn read(
    document: &Document<'_>,
    name: &str,
    rate: Option<FrameRate>,
    with_hints: bool,
) -> Result<Plain, Fault> {
    let root = document.root_element();
    if !root.has_tag_name_in("COLLADA") {
        return Err(fault(root, format!("this is <{}>, not <COLLADA>", shown(root.tag_name().name()))));
    }
    let by_id: HashMap<&str, Node<'_, '_>> =
        root.descendants().filter_map(|node| Some((node.attribute("id")?, node))).collect();
    let space = space(root);
    let nodes = Hierarchy::read(root, &by_id)?;
    let deformers = Deformers::read(&nodes.list, &by_id)?;
    let channels = channels(root, &by_id, &nodes, &deformers)?;
    let mut notes = channels.notes.clone();
    notes.extend(unit_note(root));
    let stated = || stated_rate(root).filter(|_| with_hints);
    let times = channels.samplers().flat_map(|sampler| sampler.seconds.iter().map(|&s| (s, slack(s))));
    let clock = Clock::of(&times.collect::<Vec<Said>>(), rate.or_else(stated)).unwrap_or_else(|| {
        if channels.samplers().next().is_some() {
            notes.push("no frame rate fits its key times: took 30 (--rate says otherwise)".to_owned());
        }
        Clock::tolerant(FrameRate::FPS_30)
    });
    let rate = clock.rate;
    let clock = if with_hints { clock } else { Clock::exact(rate) };
    let animated: HashSet<(usize, usize)> =
        channels.list.iter().map(|channel| (channel.node, channel.step)).collect();
    let (mut rig, ids, mapped) = nodes.rig(name, &animated)?;
    for (&node, &bind) in &deformers.binds {
        rig.node_mut(ids[node]).expect("it was added").bind = Some(bind);
    }
    for morph in &deformers.morphs {
        let node = rig.node_mut(ids[morph.node]).expect("it was added");
        node.attributes.extend(morph.weights.iter().cloned());
    }
    let file = File {
        root,
        channels: &channels,
        deformers: &deformers,
        rig: &rig,
        ids: &ids,
        mapped: &mapped,
        clock: &clock,
    };
    let takes = file.takes(name, with_hints, &mut notes);
    notes.extend(clock.note());
    let scene = Scene { rate, space, rigs: vec![rig], sets: Vec::new(), constraints: Vec::new(), takes };
    Ok(Plain { scene, ids: nodes.list.into_iter().map(|node| node.id).collect(), notes })
}

/// The unit and the axes that a document states.
pub fn space(root: Node<'_, '_>) -> Space {
    let asset = root.children().find(|node| node.has_tag_name_in("asset"));
    let child = |name: &str| asset.and_then(|asset| asset.children().find(|node| node.has_tag_name_in(name)));
    let metre = child("unit").and_then(|unit| unit.attribute("meter")?.trim().parse::<f64>().ok());
    let up = match child("up_axis").and_then(|up| up.text()).map(str::trim) {
        Some("X_UP") => UpAxis::X,
        Some("Z_UP") => UpAxis::Z,
        _ => UpAxis::Y,
    };
    Space {
        metres_per_unit: metre.filter(|metre| metre.is_finite() && *metre > 0.0).unwrap_or(1.0),
        up,
        handedness: Handedness::Right,
    }
}

/// That the unit that is stated is none, where that is so.
fn unit_note(root: Node<'_, '_>) -> Option<String> {
    let asset = root.children().find(|node| node.has_tag_name_in("asset"))?;
    let said = asset.children().find(|node| node.has_tag_name_in("unit"))?.attribute("meter")?;
    let is_one = said.trim().parse::<f64>().is_ok_and(|metre| metre.is_finite() && metre > 0.0);
    (!is_one).then(|| {
        format!("it states '{}' metres as its unit: took one metre (--unit says otherwise)", shown(said))
    })
}

/// The frame rate, where an `<extra>` says one: our own, if it is there.
fn stated_rate(root: Node<'_, '_>) -> Option<FrameRate> {
    let extras = root.descendants().filter(|node| node.has_tag_name_in("extra"));
    let rates =
        extras.flat_map(|extra| extra.descendants()).filter(|node| node.has_tag_name_in("frame_rate"));
    let is_ours = |node: &Node<'_, '_>| {
        node.parent().is_some_and(|above| above.attribute("profile") == Some(super::PROFILE))
    };
    let (ours, others): (Vec<_>, Vec<_>) = rates.partition(is_ours);
    ours.into_iter().chain(others).filter_map(|node| node.text()?.trim().parse().ok()).next()
}

/// Where a take started, in seconds, that starts at zero in the file: our own note.
fn stated_start(animation: Node<'_, '_>) -> Option<f64> {
    let notes = animation.descendants().filter(|node| node.has_tag_name_in("technique"));
    let ours = notes.filter(|node| node.attribute("profile") == Some(super::PROFILE));
    let starts = ours.flat_map(|ours| ours.children()).filter(|node| node.has_tag_name_in("start"));
    let mut seconds = starts.filter_map(|node| node.text()?.trim().parse::<f64>().ok());
    seconds.find(|seconds| seconds.is_finite() && seconds.abs() < 3.0e6)
}

/// A channel that drives the weights of morphs.
struct WeightChannel {
    /// Which animation at the top of the library it stands in.
    animation: usize,
    /// The morphs, by position, and which of their weights; all where there is none.
    morphs: Vec<usize>,
    weight: Option<usize>,
    sampler: Sampler,
}

struct Channels {
    list: Vec<Channel>,
    weights: Vec<WeightChannel>,
    notes: Vec<String>,
}

impl Channels {
    fn samplers(&self) -> impl Iterator<Item = &Sampler> + Clone {
        let of_steps = self.list.iter().map(|channel| &channel.sampler);
        of_steps.chain(self.weights.iter().map(|channel| &channel.sampler))
    }
}

fn channels<'a, 'i>(
    root: Node<'a, 'i>,
    by_id: &HashMap<&str, Node<'a, 'i>>,
    nodes: &Hierarchy<'a, 'i>,
    deformers: &Deformers<'a>,
) -> Result<Channels, Fault> {
    let by_node: HashMap<&str, usize> =
        nodes.list.iter().enumerate().map(|(index, node)| (node.id.as_str(), index)).collect();
    let mut found = Channels { list: Vec::new(), weights: Vec::new(), notes: Vec::new() };
    for (animation, top) in animations(root).into_iter().enumerate() {
        for channel in top.descendants().filter(|node| node.has_tag_name_in("channel")) {
            let target = channel.attribute("target").unwrap_or_default().trim();
            let step = resolve(target, nodes, &by_node);
            let driven = if step.is_none() { deformers.driven(target) } else { None };
            if step.is_none() && driven.is_none() {
                found.notes.push(format!(
                    "channel '{}' drives nothing that is known and was passed over",
                    shown(target)
                ));
                continue;
            }
            let url = channel.attribute("source").unwrap_or_default().trim_start_matches('#');
            let sampler = by_id.get(url).filter(|node| node.has_tag_name_in("sampler"));
            let sampler =
                *sampler.ok_or_else(|| fault(channel, format!("there is no sampler '{}'", shown(url))))?;
            let sampler = Sampler::read(sampler, by_id)?;
            if sampler.seconds.is_empty() {
                continue;
            }
            if sampler.has_ease() {
                found.notes.push(format!("channel '{}': ease is not read", shown(target)));
            }
            let takes = |width: usize| {
                let message = format!(
                    "'{}' takes {width} numbers, but its sampler gives {}",
                    shown(target),
                    sampler.width
                );
                if sampler.width == width { Ok(()) } else { Err(fault(channel, message)) }
            };
            if let Some((morphs, weight)) = driven {
                for &morph in &morphs {
                    takes(weight.map_or(deformers.morphs[morph].weights.len(), |_| 1))?;
                }
                found.weights.push(WeightChannel { animation, morphs, weight, sampler });
                continue;
            }
            let Some((node, step, member)) = step else { continue };
            let element = nodes.list[node].elements[step].tag_name().name();
            let size = match element {
                "matrix" => 16,
                "rotate" => 4,
                "translate" | "scale" => 3,
                _ => {
                    found
                        .notes
                        .push(format!("channel '{}': animated <{element}> is not read", shown(target)));
                    continue;
                }
            };
            let Some((first, width)) = numbers_of(&member, element, size) else {
                return Err(fault(channel, format!("'{}' is no part of a <{element}>", shown(target))));
            };
            takes(width)?;
            found.list.push(Channel { animation, node, step, first, width, sampler });
        }
    }
    Ok(found)
}

/// The animations at the top of the libraries.
pub fn animations<'a, 'i>(root: Node<'a, 'i>) -> Vec<Node<'a, 'i>> {
    let libraries = root.children().filter(|node| node.has_tag_name_in("library_animations"));
    libraries
        .flat_map(|library| library.children())
        .filter(|node| node.has_tag_name_in("animation"))
        .collect()
}

/// What follows the name of an element in a target.
pub enum Member {
    Whole,
    Named(String),
    Index(Vec<usize>),
}

/// The node and the transform element that a target like `hips/rotateX.ANGLE` means.
pub fn resolve(
    target: &str,
    nodes: &Hierarchy<'_, '_>,
    by_node: &HashMap<&str, usize>,
) -> Option<(usize, usize, Member)> {
    let (node, rest) = target.split_once('/')?;
    let mut node = *by_node.get(node)?;
    let mut parts: Vec<&str> = rest.split('/').collect();
    let last = parts.pop()?;
    for sid in parts {
        let child = |(index, child): &(usize, &FileNode<'_, '_>)| {
            *index > node && child.parent == Some(node) && child.xml.attribute("sid") == Some(sid)
        };
        node = nodes.list.iter().enumerate().find(child)?.0;
    }
    let (sid, member) = match last.find(['.', '(']) {
        None => (last, Member::Whole),
        Some(at) if last[at..].starts_with('.') => (&last[..at], Member::Named(last[at + 1..].to_owned())),
        Some(at) => {
            let indices = last[at..].split(['(', ')']).filter(|part| !part.is_empty());
            (&last[..at], Member::Index(indices.map(|part| part.trim().parse().ok()).collect::<Option<_>>()?))
        }
    };
    let step = nodes.list[node].elements.iter().position(|element| element.attribute("sid") == Some(sid))?;
    Some((node, step, member))
}

/// The first number of an element that a member means, and how many.
fn numbers_of(member: &Member, element: &str, size: usize) -> Option<(usize, usize)> {
    match member {
        Member::Whole => Some((0, size)),
        Member::Named(name) => match (name.to_ascii_uppercase().as_str(), element) {
            ("ANGLE", "rotate") => Some((3, 1)),
            ("X", _) if element != "matrix" => Some((0, 1)),
            ("Y", _) if element != "matrix" => Some((1, 1)),
            ("Z", _) if element != "matrix" => Some((2, 1)),
            _ => None,
        },
        Member::Index(indices) => match indices[..] {
            [index] if index < size => Some((index, 1)),
            // Row and column; written by rows.
            [row, column] if size == 16 && row < 4 && column < 4 => Some((row * 4 + column, 1)),
            _ => None,
        },
    }
}

/// The groups of animations that are takes, with their names, and the ranges that are clips.
#[allow(clippy::type_complexity)]
fn groups(root: Node<'_, '_>, channels: &Channels, name: &str) -> (Vec<Group>, Vec<(String, f64, f64)>) {
    let tops = animations(root);
    let mut clips: Vec<(String, f64, f64, Vec<usize>)> = Vec::new();
    for clip in root.descendants().filter(|node| node.has_tag_name_in("animation_clip")) {
        let number = |name: &str| clip.attribute(name).and_then(|text| text.trim().parse::<f64>().ok());
        let label = clip.attribute("name").or(clip.attribute("id")).unwrap_or("clip").to_owned();
        let instances = clip.children().filter(|node| node.has_tag_name_in("instance_animation"));
        let urls: Vec<&str> = instances
            .filter_map(|node| node.attribute("url"))
            .map(|url| url.trim_start_matches('#'))
            .collect();
        let own = (0..tops.len()).filter(|&top| {
            let ids = tops[top].descendants().filter(|node| node.has_tag_name_in("animation"));
            ids.filter_map(|node| node.attribute("id")).any(|id| urls.contains(&id))
        });
        let last = channels.samplers().filter_map(|sampler| sampler.seconds.last()).copied();
        let end = number("end").unwrap_or_else(|| last.fold(0.0, f64::max));
        clips.push((label, number("start").unwrap_or(0.0), end, own.collect()));
    }
    // Others drive what is not read.
    let read: HashSet<usize> = (channels.list.iter().map(|channel| channel.animation))
        .chain(channels.weights.iter().map(|channel| channel.animation))
        .collect();
    let all: Vec<usize> = (0..tops.len()).filter(|top| read.contains(top)).collect();
    let parts: Vec<&Vec<usize>> = clips.iter().map(|(_, _, _, own)| own).collect();
    let disjoint = parts.len() > 1
        && parts.iter().all(|part| !part.is_empty())
        && parts.iter().map(|part| part.len()).sum::<usize>()
            == parts.iter().flat_map(|part| part.iter()).collect::<HashSet<_>>().len();
    if disjoint {
        let takes = clips.into_iter().map(|(name, start, end, tops)| Group {
            name,
            tops,
            range: Some((start, end)).filter(|(start, end)| start <= end),
        });
        return (takes.collect(), Vec::new());
    }
    let ranges = clips.into_iter().map(|(label, start, end, _)| (label, start, end)).collect();
    // A file with one animation that has a name is a take of that name.
    let named = match all.as_slice() {
        [only] => tops[*only].attribute("name").filter(|name| !name.is_empty()),
        _ => None,
    };
    (vec![Group { name: named.unwrap_or(name).to_owned(), tops: all, range: None }], ranges)
}

/// The animations that are one take.
struct Group {
    name: String,
    /// Which animations at the top of the library.
    tops: Vec<usize>,
    /// From when to when it lasts, in seconds, where a clip says so.
    range: Option<(f64, f64)>,
}

/// All that takes are made of.
struct File<'a, 'i> {
    root: Node<'a, 'i>,
    channels: &'a Channels,
    deformers: &'a Deformers<'a>,
    rig: &'a Rig,
    /// For each node of the file its id in the rig.
    ids: &'a [NodeId],
    /// For each node of the file what became of its transform elements.
    mapped: &'a [Mapped],
    clock: &'a Clock,
}

impl File<'_, '_> {
    fn takes(&self, name: &str, with_starts: bool, notes: &mut Vec<String>) -> Vec<Take> {
        let tops = animations(self.root);
        let (groups, ranges) = groups(self.root, self.channels, name);
        let mut takes = Vec::new();
        for Group { name, tops: own, range: stated } in groups {
            let mut tracks = self.steps(&own, notes);
            tracks.extend(self.weights(&own));
            let Some(range) =
                tracks.iter().filter_map(|track| track.controller.range()).reduce(TimeRange::union)
            else {
                continue;
            };
            let at = |seconds: f64| self.clock.time((seconds, slack(seconds)));
            let clip = |(name, start, end): &(String, f64, f64)| Clip {
                name: name.clone(),
                range: TimeRange::new(at(*start), at(*end)),
                note: None,
            };
            let take = Take {
                name,
                folder: None,
                range: stated.map_or(range, |(first, last)| TimeRange::new(at(first), at(last))),
                clips: ranges.iter().map(clip).collect(),
                markers: Vec::new(),
                layers: vec![Layer::base(tracks)],
            };
            let start = own.iter().find_map(|&top| stated_start(tops[top])).filter(|_| with_starts);
            takes.push(match start {
                Some(start) => shifted(&take, at(start)),
                None => take,
            });
        }
        takes
    }

    /// The tracks of transforms that some animations drive.
    fn steps(&self, animations: &[usize], notes: &mut Vec<String>) -> Vec<Track> {
        let mut parts: Vec<Part<'_>> = Vec::new();
        for channel in self.channels.list.iter().filter(|channel| animations.contains(&channel.animation)) {
            let Some(place) = &self.mapped[channel.node].places[channel.step] else { continue };
            let id = self.ids[channel.node];
            match parts.iter_mut().rev().find(|part| part.node == id && part.property == place.property) {
                Some(part) => part.pieces.push((channel, place)),
                None => {
                    parts.push(Part { node: id, property: &place.property, pieces: vec![(channel, place)] })
                }
            }
        }
        let mut tracks = Vec::new();
        for part in parts {
            part.into_tracks(self.rig, self.clock, &mut tracks, notes);
        }
        tracks
    }

    /// The tracks of morph weights that some animations drive.
    fn weights(&self, animations: &[usize]) -> Vec<Track> {
        let own = self.channels.weights.iter().filter(|channel| animations.contains(&channel.animation));
        own.flat_map(|channel| {
            channel.morphs.iter().flat_map(move |&morph| {
                let morph = &self.deformers.morphs[morph];
                let weights = match channel.weight {
                    Some(only) => only..only + 1,
                    None => 0..morph.weights.len(),
                };
                weights.enumerate().map(move |(index, weight)| {
                    let column = (&channel.sampler, index, Factor { by: 1.0, is_angle: false });
                    let curve = || channel.sampler.curve(index, column.2, self.clock);
                    let controller = sampled(&[Some(column)], SampleKind::Number, self.clock)
                        .unwrap_or_else(|| Controller::Components(vec![curve()]));
                    let property = morph.weights[weight].name.clone();
                    Track { target: Target { rig: 0, node: self.ids[morph.node], property }, controller }
                })
            })
        })
        .collect()
    }
}
