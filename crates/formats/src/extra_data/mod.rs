//! Extra data: the whole scene beside what a format can hold of it, with fingerprints of what it belongs to.
//!
//! Whoever writes a format writes the scene into it as well as it can be held, reads that back, takes fingerprints of
//! every rest transform and every track, and puts the scene and the prints into the place that the format has for extra
//! data. Whoever reads it compares: what is as it was is restored from the scene; what another program has changed wins.

mod build;
mod fingerprint;
mod restore;
mod samples;
pub use self::build::of;

use std::collections::{BTreeMap, HashMap, HashSet};

use nimble_curve_core::address::NodeRef;
use nimble_curve_core::ledger::{Entry, Fate, Ledger};
use nimble_curve_core::scene::{Scene, Take, Target};
use nimble_curve_core::time::FrameRate;
use serde::{Deserialize, Serialize};

use crate::error::Fault;
use crate::ncurve;

/// The note of a track that the format itself has no place for.
pub const ASIDE: &str = "in the extra data only: other programs do not see it";

/// The version of the extra data.
const VERSION: u32 = 2;

/// Extra data as it stands in a file.
#[derive(Serialize, Deserialize)]
pub struct ExtraData {
    version: u32,
    /// For each node, as the format alone gives it, its address in the scene.
    nodes: BTreeMap<String, String>,
    /// The same keys by the marks that nodes carry in the file, where the format has a place for one: a mark stays with its
    /// node whatever it is called and wherever it hangs.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    marks: BTreeMap<u64, String>,
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

/// What each node of a plain scene was called when the file was written: its key.
type Keys = HashMap<NodeRef, String>;

/// What a file says of its nodes beside what they are.
#[derive(Clone, Debug, Default)]
pub struct Marks {
    /// The marks that nodes carry.
    pub by_node: HashMap<NodeRef, u64>,
    /// The program that wrote it knows of no numbers that move: those that are missing are not taken out.
    pub without_numbers: bool,
}

/// The key of a property.
fn channel(keys: &Keys, node: NodeRef, property: &str) -> String {
    format!("{}:{property}", keys[&node])
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
    data: ExtraData,
    original: Scene,
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
    takes: &[Take],
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
    let hidden = hidden(ledger, takes);
    for entry in ledger.entries.iter_mut().filter(|entry| in_extra && entry.fate == Fate::LeftOut) {
        (entry.fate, entry.after) = (Fate::Kept, entry.before);
        entry.note = ASIDE.to_owned();
    }
    if in_extra && ledger.count(Fate::Refitted) + ledger.count(Fate::Sampled) > 0 {
        let note = "the curves as they were travel as extra data; the table says what other programs see";
        ledger.notes.push(note.to_owned());
    }
    hidden
}

/// The properties that a file does not hold, by take.
pub(crate) fn hidden(ledger: &Ledger, takes: &[Take]) -> Vec<(String, Target)> {
    let gone = ledger.wholly_left_out(&ledger.takes(takes)).into_iter();
    gone.map(|(_, target, entry)| (entry.take.clone(), target.clone())).collect()
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
    let data: ExtraData = serde_json::from_str(json).map_err(fault)?;
    let original = ncurve::read(&data.scene)
        .map_err(|fault| Fault::in_part("extra data", format!("does not hold a scene: {}", fault.message)))?;
    Ok(Some(Opened { data, original }))
}

/// Reads a file with its extra data, if it has any: `plain` reads what the format says by itself, at the rate of the scene
/// that was written where the user gives none. Also what was let pass or let go.
pub(crate) fn read_with(
    extra: Option<&str>,
    rate: Option<FrameRate>,
    plain: impl FnOnce(Option<FrameRate>) -> Result<(Scene, Marks, Vec<String>), Fault>,
) -> Result<(Scene, Vec<String>), Fault> {
    let Some(opened) = extra.map(open).transpose()?.flatten() else {
        let (scene, _, mut notes) = plain(rate)?;
        if extra.is_some() {
            notes.push(
                "its extra data is of another version than is read here and was passed over".to_owned(),
            );
        }
        return Ok((scene, notes));
    };
    let (scene, marks, mut notes) = plain(rate.or(Some(opened.original.rate)))?;
    let (restored, more) = opened.restore(scene, &marks)?;
    notes.extend(more);
    Ok((restored, notes))
}
