//! A document that another one is written into: its meshes, materials, skins, lights and whatever else is in it stay, and it
//! moves otherwise.
//!
//! The text is edited, not made anew: transform elements of nodes, channels that drive these or weights of morphs, and our own
//! notes are taken out, and others put in. Channels that are not read stay.

use std::collections::{HashMap, HashSet};
use std::ops::Range;

use nimble_curve_core::address::{Addresses, NodeRef};
use nimble_curve_core::rig::{Node as RigNode, Rig};
use nimble_curve_core::scene::{Scene, Take, Target};
use nimble_curve_core::space::Space;
use nimble_curve_core::time::Ticks;
use roxmltree::{Document, Node, NodeId};

use super::deform::Deformers;
use super::nodes::{FileNode, Hierarchy};
use super::read::{animations, read, resolve, space};
use super::write::{Below, Writer, Written, allowed, below};
use super::{Named, PROFILE};
use crate::error::Fault;

/// A document that is written into.
pub struct Base<'a> {
    document: &'a Document<'a>,
    nodes: Hierarchy<'a, 'a>,
    deformers: Deformers<'a>,
    /// What it says, node by node as in `nodes`.
    scene: Scene,
}

impl<'a> Base<'a> {
    /// A document as one that can be written into; where it cannot, why.
    ///
    /// # Errors
    /// Where it cannot be read.
    pub fn open(document: &'a Document<'a>) -> Result<Result<Base<'a>, &'static str>, Fault> {
        let root = document.root_element();
        let by_id: HashMap<&str, Node<'_, '_>> =
            root.descendants().filter_map(|node| Some((node.attribute("id")?, node))).collect();
        let plain = read(document, "", None, true)?;
        let nodes = Hierarchy::read(root, &by_id)?;
        let deformers = Deformers::read(&nodes.list, &by_id)?;
        if document.input_text()[root.range()].starts_with("<COLLADA") && nodes.scene.is_some() {
            if nodes.has_instances {
                return Ok(Err("its nodes are instances of others"));
            }
            return Ok(Ok(Base { document, nodes, deformers, scene: plain.scene }));
        }
        Ok(Err("its elements have a prefix, or it has no scene"))
    }

    /// The unit and the axes that it states, which what is written into it has to be in.
    pub fn space(&self) -> Space {
        space(self.document.root_element())
    }

    /// Which of its nodes each node of a scene is; `None` where they hang together in another way.
    pub fn matched(&self, scene: &Scene) -> Option<HashMap<NodeRef, usize>> {
        let (ours, theirs) = (Addresses::new(scene), Addresses::new(&self.scene));
        let mut found: HashMap<NodeRef, usize> = HashMap::new();
        let mut taken = HashSet::new();
        let own_rig = &self.scene.rigs[0];
        for &(rig, id) in ours.nodes() {
            let name = scene.rigs[rig].node(id).map_or("", |node| node.name.as_str());
            let text = ours.node((rig, id));
            // A path starts with the name of its rig, which a document has no place for.
            let tail = text.split_once('/').map_or(text, |(_, tail)| tail);
            let path = format!("\"\"/{tail}");
            // What XML does not allow in a name stands there as something else.
            let written = allowed(name);
            let place = [text, &path, name, &written].into_iter().find_map(|text| theirs.find(text).ok());
            let place = place.and_then(|(_, id)| own_rig.position(id)).filter(|place| !taken.contains(place));
            let Some(place) = place else { continue };
            let above = scene.rigs[rig].parent(id).map(|parent| found.get(&(rig, parent)).copied());
            match above {
                None if self.nodes.list[place].parent.is_none() => {}
                Some(above) if above.is_some() && above == self.nodes.list[place].parent => {}
                _ => return None,
            }
            taken.insert(place);
            found.insert((rig, id), place);
        }
        (!found.is_empty()).then_some(found)
    }

    /// The document with the animation of a scene in its space.
    pub fn write(
        &self,
        scene: &Scene,
        matched: &HashMap<NodeRef, usize>,
        extra: Option<&str>,
        starts: &[(String, Ticks)],
    ) -> Written {
        let root = self.document.root_element();
        let gone = self.gone(root);
        let stays = |node: &Node<'_, '_>| !node.ancestors().any(|above| gone.contains(&above.id()));
        let mut taken: HashSet<String> = root
            .descendants()
            .filter(stays)
            .filter_map(|node| node.attribute("id").map(str::to_owned))
            .collect();
        let mut writer = Writer::new(scene, starts);
        while taken.iter().any(|id| id.starts_with(&writer.prefix)) {
            writer.prefix.push('-');
        }
        for (&node, &place) in matched {
            if let Some(id) = self.nodes.list[place].xml.attribute("id") {
                writer.ids.insert(node, id.to_owned());
            }
        }
        writer.name_nodes(&mut taken);
        writer.weights = self.weights(matched);
        let mut edits = Edits { text: self.document.input_text(), all: Vec::new(), filled: HashMap::new() };
        for (index, rig) in scene.rigs.iter().enumerate() {
            self.nodes(&mut edits, &mut writer, (scene, index, rig), matched);
        }
        self.take_out(&mut edits, root, &gone);
        writer.text.clear();
        writer.animations();
        let libraries = std::mem::take(&mut writer.text);
        let shown = root.children().find(|node| node.has_tag_name_in("scene"));
        edits.put(shown.map_or_else(|| edits.end(root), |shown| edits.line(shown.range().start)), libraries);
        writer.extras(extra);
        let notes = std::mem::take(&mut writer.text);
        edits.put(edits.line(edits.end(root)), notes);
        let ids = writer.ids.into_iter().map(|(node, id)| (id, node)).collect();
        Written { text: edits.made(), ids, left_out: writer.left_out }
    }

    /// What drives each number of a node that is a weight of a morph; of several nodes that show one, the first.
    fn weights(&self, matched: &HashMap<NodeRef, usize>) -> HashMap<Target, String> {
        let by_place: HashMap<usize, NodeRef> = matched.iter().map(|(&node, &place)| (place, node)).collect();
        let mut driven = HashSet::new();
        let mut found = HashMap::new();
        for morph in &self.deformers.morphs {
            let (Some(&(rig, node)), Some(id)) =
                (by_place.get(&morph.node), morph.ids.iter().flatten().next())
            else {
                continue;
            };
            for (index, weight) in morph.weights.iter().enumerate() {
                let place = format!("{id}({index})");
                if driven.insert(place.clone()) {
                    found.insert(Target { rig, node, property: weight.name.clone() }, place);
                }
            }
        }
        found
    }

    /// The transforms of nodes that are there, and nodes that are not.
    fn nodes(
        &self,
        edits: &mut Edits<'_>,
        writer: &mut Writer<'_>,
        (scene, index, rig): (&Scene, usize, &Rig),
        matched: &HashMap<NodeRef, usize>,
    ) {
        let children: Below = below(rig);
        let tracks = scene.takes.iter().flat_map(Take::tracks);
        let moving: HashSet<NodeRef> =
            tracks.map(|(_, track)| (track.target.rig, track.target.node)).collect();
        let resting: Vec<&RigNode> = self.scene.rigs[0].nodes().map(|(_, node)| node).collect();
        for (id, node) in rig.nodes() {
            let place = matched.get(&(index, id));
            let parent = rig.parent(id).map(|parent| matched.get(&(index, parent)));
            let Some(&place) = place else {
                // Below another one that is not there it is written with that.
                let above = match parent {
                    None => self.nodes.scene,
                    Some(Some(&above)) => Some(self.nodes.list[above].xml),
                    Some(None) => None,
                };
                if let Some(above) = above {
                    writer.text.clear();
                    writer.subtree((index, rig), id, &children, 3);
                    edits.put_inside(above, &["extra", "evaluate_scene"], std::mem::take(&mut writer.text));
                }
                continue;
            };
            let file = &self.nodes.list[place];
            if file.xml.attribute("id").is_none() {
                let id = &writer.ids[&(index, id)];
                edits.put(file.xml.range().start + "<node".len(), format!(" id=\"{id}\""));
            }
            if resting[place].transform == node.transform && !moving.contains(&(index, id)) {
                continue;
            }
            for element in &file.elements {
                edits.take_out(element.range());
            }
            edits.put_steps(file, writer.steps((index, id), node).into_iter());
        }
    }

    /// Whether a channel drives what is read, and so is written anew.
    fn is_read(&self, by_node: &HashMap<&str, usize>, channel: Node<'_, '_>) -> bool {
        let target = channel.attribute("target").unwrap_or_default().trim();
        resolve(target, &self.nodes, by_node).is_some() || self.deformers.driven(target).is_some()
    }

    fn by_node(&self) -> HashMap<&str, usize> {
        self.nodes.list.iter().enumerate().map(|(index, node)| (node.id.as_str(), index)).collect()
    }

    /// The animations that drive nothing else, and the clips.
    fn gone(&self, root: Node<'_, '_>) -> HashSet<NodeId> {
        let by_node = self.by_node();
        let is_gone = |top: &Node<'_, '_>| channels(*top).all(|channel| self.is_read(&by_node, channel));
        let clips = root.children().filter(|node| node.has_tag_name_in("library_animation_clips"));
        animations(root)
            .iter()
            .filter(|top| is_gone(top))
            .map(Node::id)
            .chain(clips.map(|node| node.id()))
            .collect()
    }

    /// Takes out what is written anew: channels that are read, clips, and our own notes.
    fn take_out(&self, edits: &mut Edits<'_>, root: Node<'_, '_>, gone: &HashSet<NodeId>) {
        let by_node = self.by_node();
        for top in animations(root).iter().filter(|top| !gone.contains(&top.id())) {
            let read = channels(*top).filter(|channel| self.is_read(&by_node, *channel));
            read.for_each(|channel| edits.take_out(channel.range()));
        }
        for child in root.children().filter(Node::is_element) {
            let is_ours = || {
                let technique = child.children().filter(Node::is_element);
                technique.clone().count() > 0
                    && technique.into_iter().all(|node| node.attribute("profile") == Some(PROFILE))
            };
            match child.tag_name().name() {
                "library_animations" => {
                    let own: Vec<Node<'_, '_>> = child.children().filter(Node::is_element).collect();
                    if own.iter().all(|node| gone.contains(&node.id())) {
                        edits.take_out(child.range());
                    } else {
                        own.iter()
                            .filter(|node| gone.contains(&node.id()))
                            .for_each(|node| edits.take_out(node.range()));
                    }
                }
                _ if gone.contains(&child.id()) => edits.take_out(child.range()),
                "extra" if is_ours() => edits.take_out(child.range()),
                _ => {}
            }
        }
    }
}

/// The channels in an animation and those in it.
fn channels<'a, 'i>(animation: Node<'a, 'i>) -> impl Iterator<Item = Node<'a, 'i>> {
    animation.descendants().filter(|node| node.has_tag_name_in("channel"))
}

/// Changes of a text: ranges of it, and what comes in their place.
struct Edits<'t> {
    text: &'t str,
    all: Vec<(Range<usize>, String)>,
    /// Which of them fills an element that had no content, by where that ends.
    filled: HashMap<usize, usize>,
}

impl Edits<'_> {
    fn put(&mut self, at: usize, text: String) {
        if !text.is_empty() {
            self.all.push((at..at, text));
        }
    }

    /// Takes an element out, with its line where nothing else is on it.
    fn take_out(&mut self, range: Range<usize>) {
        let start = self.line(range.start);
        // No farther than the blanks: a document may be one line.
        let rest = self.text[range.end..].trim_start_matches([' ', '\t', '\r']);
        let has_line = rest.starts_with('\n') && self.text[..start].ends_with('\n');
        let range = if has_line { start..self.text.len() - rest.len() + 1 } else { range };
        self.all.push((range, String::new()));
    }

    /// The blanks before an element that begins its line.
    fn indent(&self, node: Node<'_, '_>) -> &str {
        let start = node.range().start;
        &self.text[self.line(start)..start]
    }

    /// The start of the line of a place, where only blanks stand between.
    fn line(&self, at: usize) -> usize {
        let blank = self.text[..at].trim_end_matches([' ', '\t']).len();
        if self.text[..blank].ends_with('\n') { blank } else { at }
    }

    /// Where an element ends, before its closing tag.
    fn end(&self, node: Node<'_, '_>) -> usize {
        let range = node.range();
        range.start + self.text[range].rfind("</").unwrap_or(0)
    }

    fn is_closed(&self, node: Node<'_, '_>) -> bool {
        self.text[node.range()].ends_with("/>")
    }

    /// Puts transform elements into a node, a line each, before all other children but its asset.
    fn put_steps(&mut self, node: &FileNode<'_, '_>, lines: impl Iterator<Item = String>) {
        let indent = self.indent(node.xml).to_owned();
        let mut steps: String = lines.map(|line| format!("\n{indent}  {line}")).collect();
        let asset = node.xml.children().rfind(|child| child.has_tag_name_in("asset"));
        let at = match (asset, node.xml.first_child()) {
            (Some(asset), _) => asset.range().end,
            (None, Some(first)) => first.range().start,
            (None, None) if self.is_closed(node.xml) => {
                steps.push_str(&format!("\n{indent}"));
                return self.fill(node.xml, &steps);
            }
            (None, None) => self.end(node.xml),
        };
        let behind = node.elements.last().map_or(at, |last| last.range().end);
        if !self.text[behind..].trim_start_matches([' ', '\t', '\r']).starts_with('\n') {
            steps.push_str(&format!("\n{indent}"));
        }
        self.put(at, steps);
    }

    /// Puts a text into an element behind all children, or before those that have to be last.
    fn put_inside(&mut self, node: Node<'_, '_>, last: &[&str], text: String) {
        if self.is_closed(node) {
            return self.fill(node, &text);
        }
        let is_last = |child: &Node<'_, '_>| last.iter().any(|name| child.has_tag_name_in(name));
        let at = node.children().find(is_last).map_or_else(|| self.end(node), |child| child.range().start);
        self.put(self.line(at), text);
    }

    /// Puts a text into an element that has no content, which may have been filled before.
    fn fill(&mut self, node: Node<'_, '_>, text: &str) {
        let slash = node.range().end - 2..node.range().end;
        let close = format!("</{}>", node.tag_name().name());
        match self.filled.get(&slash.end) {
            Some(&at) => {
                let filled = &mut self.all[at].1;
                filled.insert_str(filled.len() - close.len(), text);
            }
            None => {
                self.filled.insert(slash.end, self.all.len());
                self.all.push((slash, format!(">{text}{close}")));
            }
        }
    }

    /// The text with all of them.
    fn made(mut self) -> String {
        self.all.sort_by_key(|(range, _)| (range.start, range.end));
        let added: usize = self.all.iter().map(|(_, text)| text.len()).sum();
        let mut made = String::with_capacity(self.text.len() + added);
        let mut at = 0;
        for (range, text) in self.all {
            made.push_str(&self.text[at..range.start.max(at)]);
            made.push_str(&text);
            at = range.end.max(at);
        }
        made.push_str(&self.text[at..]);
        made
    }
}
