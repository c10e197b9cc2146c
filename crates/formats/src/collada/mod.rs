//! COLLADA 1.4.1 and 1.5: transform stacks in order, and curves with tangents for each number in them.
//!
//! Angles are in degrees, times in seconds. Transforms of a node act like a product from the first to the last, so that of
//! three rotates in a row the first is the outermost. The tangents of a Bézier piece are its control points, absolute in
//! time and value; those of one number alone lie at thirds of the piece; Hermite tangents are three times the handles
//! (*COLLADA 1.5.0 Specification*, chapter 4, "Curve Interpolation"). What the format cannot hold travels in an `<extra>`
//! with a profile of our own, see [`crate::extra_data`].

mod base;
mod channels;
mod curves;
mod deform;
mod matrices;
mod nodes;
mod part;
mod read;
mod write;

use std::collections::HashMap;

use nimble_curve_core::address::{NodeRef, visible};
use nimble_curve_core::ops::Tolerance;
use nimble_curve_core::ops::adapt::{Capabilities, adapt};
use nimble_curve_core::ops::retime::shifted;
use nimble_curve_core::ops::space::in_space;
use nimble_curve_core::scene::Scene;
use nimble_curve_core::space::{Handedness, Space};
use nimble_curve_core::time::{FrameRate, Ticks};

use self::base::Base;
use crate::encoded::{Encoded, Plain};
use crate::error::Fault;
use crate::extra_data::{self, Marks};
use crate::format::Format;

/// The profile under which extra data stands.
const PROFILE: &str = "NIMBLE_CURVE";

/// What COLLADA 1.4.1 holds of an animation by itself.
const HOLDS: Capabilities = Capabilities { outside: false, inverses: false, ..Capabilities::ANGLES };

/// Reads the scene in a `.dae`. Also what was let pass.
///
/// # Errors
/// With the line or the element that is wrong.
pub fn read(text: &str, name: &str, rate: Option<FrameRate>) -> Result<(Scene, Vec<String>), Fault> {
    let document = parsed(text)?;
    let is_ours = |node: &roxmltree::Node<'_, '_>| {
        node.has_tag_name_in("data")
            && node.parent().is_some_and(|above| above.attribute("profile") == Some(PROFILE))
    };
    let data = document.root_element().descendants().find(is_ours);
    let data = data.map(|data| data.text().unwrap_or_default().to_owned());
    extra_data::read_with(data.as_deref().map(str::trim), rate, |rate| {
        read::read(&document, name, rate, true).map(|plain| (plain.scene, Marks::default(), plain.notes))
    })
}

/// The scene as any other program reads it.
pub(crate) fn read_plain(text: &str, name: &str, rate: Option<FrameRate>) -> Result<Plain, Fault> {
    let document = parsed(text)?;
    let plain = read::read(&document, name, rate, false)?;
    Ok(Plain { scene: plain.scene, keys: plain.ids, notes: plain.notes, mended: Vec::new() })
}

/// The most attributes of an element: the parser behind this looks at each for each.
const MOST_ATTRIBUTES: usize = 256;

/// Refuses a text with an element of more attributes than are read.
fn has_few_attributes(text: &str) -> Result<(), Fault> {
    let bytes = text.as_bytes();
    let skipped = |at: usize, start: &str, end: &str| {
        let rest = text.get(at..).filter(|rest| rest.starts_with(start))?;
        Some(rest.find(end).map_or(text.len(), |length| at + length))
    };
    let (mut at, mut is_inside, mut quote, mut count) = (0, false, None, 0);
    while let Some(&byte) = bytes.get(at) {
        match (quote, byte) {
            (Some(open), byte) if byte == open => quote = None,
            (Some(_), _) => {}
            (None, b'<') => {
                let end = skipped(at, "<!--", "-->").or_else(|| skipped(at, "<![CDATA[", "]]>"));
                (at, is_inside, count) = (end.unwrap_or(at), end.is_none(), 0);
            }
            (None, b'>') => is_inside = false,
            (None, b'"' | b'\'') if is_inside => {
                (quote, count) = (Some(byte), count + 1);
                if count > MOST_ATTRIBUTES {
                    let line = bytes[..at].iter().filter(|byte| **byte == b'\n').count() + 1;
                    return Err(Fault::on_line(
                        line,
                        format!("an element has more than {MOST_ATTRIBUTES} attributes, which are not read"),
                    ));
                }
            }
            _ => {}
        }
        at += 1;
    }
    Ok(())
}

fn parsed(text: &str) -> Result<roxmltree::Document<'_>, Fault> {
    has_few_attributes(text)?;
    let options =
        roxmltree::ParsingOptions { allow_dtd: false, nodes_limit: 4_000_000, ..Default::default() };
    roxmltree::Document::parse_with_options(text, options).map_err(|error| match error {
        roxmltree::Error::UnexpectedEndOfStream | roxmltree::Error::UnclosedRootNode => {
            Fault::of_whole(plainly(&error))
        }
        _ => Fault::on_line(error.pos().row as usize, plainly(&error)),
    })
}

/// What is wrong with an XML text, without its place.
fn plainly(error: &roxmltree::Error) -> String {
    use roxmltree::Error;
    match error {
        Error::DtdDetected => "it has a DTD, which is not read: take the DOCTYPE out".to_owned(),
        Error::UnexpectedEndOfStream | Error::UnclosedRootNode | Error::NoRootNode => {
            "the file ends in the middle: it was cut off, or not written to its end; make it again".to_owned()
        }
        Error::UnexpectedCloseTag(open, close, _) => {
            format!("</{close}> stands where </{open}> belongs: an element is not closed, or closed twice")
        }
        Error::UnknownEntityReference(name, _) => {
            format!("'&{name};' is no character that XML knows: write '&amp;{name};' for the text itself")
        }
        Error::MalformedEntityReference(_) => "a lone '&' is not XML: write '&amp;'".to_owned(),
        Error::DuplicatedAttribute(name, _) => format!("the attribute '{name}' stands twice in one element"),
        Error::UnknownNamespace(prefix, _) => {
            format!("the prefix '{prefix}' is not declared: give the root element an xmlns:{prefix}")
        }
        Error::InvalidAttributeValue(_) => "a '<' inside an attribute is not XML: write '&lt;'".to_owned(),
        Error::NonXmlChar(sign, _) => {
            format!("the character U+{:04X} may not stand in XML: take it out", u32::from(*sign))
        }
        Error::NodesLimitReached | Error::AttributesLimitReached | Error::NamespacesLimitReached => {
            "it has more than four million elements: more than is read".to_owned()
        }
        _ => "is not XML here: elements are like <name attribute=\"value\">text</name>".to_owned(),
    }
}

/// Element names whatever their namespace: files of both versions, and sloppy ones, are read alike.
trait Named {
    fn has_tag_name_in(&self, name: &str) -> bool;
}

impl Named for roxmltree::Node<'_, '_> {
    fn has_tag_name_in(&self, name: &str) -> bool {
        self.is_element() && self.tag_name().name() == name
    }
}

/// How to write.
#[derive(Clone, Copy, Debug)]
pub struct WriteOptions<'a> {
    /// The text of a document that is written into: everything but the animation stays.
    pub into: Option<&'a str>,
    /// Leave out the extra data.
    pub without_extra: bool,
    /// How far curves may be from their source where COLLADA cannot hold them exactly.
    pub tolerance: Tolerance,
    /// Leave takes where they start; else each starts at zero.
    pub keep_start: bool,
    /// Write a matrix a frame for each node that moves, in place of its steps and curves.
    pub matrices: bool,
}

/// A COLLADA 1.4.1 file that holds a scene, and what became of its channels.
///
/// # Errors
/// Where layers cannot be written together.
pub fn write(scene: &Scene, options: &WriteOptions<'_>) -> Result<Encoded, Fault> {
    let (own_space, mut ledger) =
        adapt(scene, &HOLDS, &options.tolerance).map_err(|error| Fault::of_whole(error.to_string()))?;
    let document = options.into.map(parsed).transpose()?;
    let base = document.as_ref().map(Base::open).transpose()?;
    let base = match base {
        Some(Ok(base)) => match base.matched(scene) {
            Some(matched) => Some((base, matched)),
            None => {
                ledger.notes.push(not_kept("its nodes are others, or hang together in another way"));
                None
            }
        },
        Some(Err(why)) => {
            ledger.notes.push(not_kept(why));
            None
        }
        None => None,
    };
    // Meshes stay in the unit and the axes that they are in, and so does what moves them.
    let space = base
        .as_ref()
        .map_or(Space { handedness: Handedness::Right, ..scene.space }, |(base, _)| base.space());
    if space.metres_per_unit != scene.space.metres_per_unit || space.up != scene.space.up {
        ledger.notes.push(format!("written in the unit and the axes of the file that it is written into ({} m, {} up), as its meshes are in them", space.metres_per_unit, space.up));
    }
    let (mut adapted, respaced) = in_space(&own_space, &space);
    drop(own_space);
    extra_data::remap_fates(&mut ledger, &respaced);
    crate::ends::keep_ranges(&mut adapted, &mut ledger);
    if options.matrices {
        adapted = matrices::as_matrices(&adapted, &mut ledger)
            .map_err(|error| Fault::of_whole(error.to_string()))?;
    }
    let shifts = match options.keep_start {
        true => Vec::new(),
        false => start_at_zero(&mut adapted),
    };
    let starts = if options.without_extra { &[][..] } else { &shifts[..] };
    let document_of = |extra: Option<&str>| match &base {
        Some((base, matched)) => base.write(&adapted, matched, extra, starts),
        None => write::write(&adapted, extra, starts),
    };
    let written = document_of(None);
    let hidden = extra_data::note_left_out(
        &written.left_out,
        "COLLADA holds transforms only",
        !options.without_extra,
        &mut ledger,
        &scene.takes,
    );
    let made = |text: String, nodes| Encoded {
        format: Format::Collada,
        bytes: text.into_bytes(),
        buffer: None,
        ledger,
        nodes,
        hidden,
        is_skeletal: false,
        states: None,
        shifts: shifts.clone(),
        unscaled: None,
    };
    if options.without_extra {
        return Ok(made(written.text, written.ids));
    }
    let document = roxmltree::Document::parse(&written.text)
        .map_err(|error| Fault::of_whole(format!("wrote broken XML: {error}")))?;
    let plain = read::read(&document, "", Some(scene.rate), true)?;
    let origin: HashMap<&str, NodeRef> = written.ids.iter().map(|(id, node)| (id.as_str(), *node)).collect();
    let position = |(rig, id): NodeRef| plain.scene.rigs.get(rig).and_then(|rig| rig.position(id));
    let data = extra_data::of(scene, &plain.scene, &Marks::default(), |node| {
        origin.get(plain.ids.get(position(node)?)?.as_str()).copied()
    });
    let data = serde_json::to_string(&data).map_err(|error| Fault::of_whole(error.to_string()))?;
    // XML holds no control characters; JSON can say them.
    let whole = document_of(Some(&visible(&data)));
    Ok(made(whole.text, whole.ids))
}

fn not_kept(why: &str) -> String {
    format!("of the file that it is written into nothing is kept, neither meshes nor materials: {why}")
}

/// Moves each take so that it starts at zero, whatever its first frame is; by how much.
fn start_at_zero(scene: &mut Scene) -> Vec<(String, Ticks)> {
    let mut shifts = Vec::with_capacity(scene.takes.len());
    for take in &mut scene.takes {
        let by = -take.key_range().map_or(take.range.first, |keys| keys.union(take.range).first);
        if by != Ticks::ZERO {
            *take = shifted(take, by);
        }
        shifts.push((take.name.clone(), by));
    }
    shifts
}
