//! Records: from what a job was made, and what came of it.
//!
//! A record is a small file of its own, in one of 256 folders by what its name begins with. Files that are renamed into
//! place are what all drives can do, network ones too, with several machines at once: no machine needs a lock to keep them
//! whole, as one database for all would. Beside the records lie marks that say for an output which job made it, so that nobody needs to
//! read all records to know one thing.

use std::collections::{BTreeMap, HashSet};
use std::fmt;
use std::fs;
use std::io::ErrorKind;
use std::path::{Path, PathBuf};
use std::str::FromStr;
use std::time::{Duration, UNIX_EPOCH};

use nimble_curve_formats::{FormatError, write_bytes};
use serde::{Deserialize, Serialize};

use super::origin::Origin;
use crate::failure::Failure;
use crate::files::make_folder;

/// A fingerprint of contents, as hexadecimal digits.
pub type Digest = String;

/// The fingerprint of some bytes.
pub fn digest(bytes: &[u8]) -> Digest {
    blake3::hash(bytes).to_hex()[..32].to_owned()
}

/// The fingerprint of a file's contents; `None` where it cannot be read.
pub fn digest_of_file(path: &Path) -> Option<Digest> {
    let mut hasher = blake3::Hasher::new();
    hasher.update_reader(fs::File::open(path).ok()?).ok()?;
    Some(hasher.finalize().to_hex()[..32].to_owned())
}

/// What names the record of a source, or the mark of an output: a fingerprint of its name.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Id(pub u64);

impl Id {
    /// The id of a name.
    pub fn of(name: &str) -> Id {
        let hash = blake3::hash(name.as_bytes());
        Id(hash.as_bytes()[..8].iter().fold(0, |number, byte| number << 8 | u64::from(*byte)))
    }
}

impl fmt::Display for Id {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:016x}", self.0)
    }
}

impl FromStr for Id {
    type Err = std::num::ParseIntError;

    fn from_str(text: &str) -> Result<Id, Self::Err> {
        u64::from_str_radix(text, 16).map(Id)
    }
}

/// How fine the times of files are on the coarsest drives.
const SETTLING: Duration = Duration::from_secs(2);

/// Size and time of a file, by which `--quick` knows one that did not change.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Stamp {
    size: u64,
    /// Nanoseconds since 1970.
    modified: u64,
}

impl Stamp {
    /// Those of a file; `None` where there is none, or the drive keeps no times.
    pub fn of(path: &Path) -> Option<Stamp> {
        let found = fs::metadata(path).ok()?;
        let modified = found.modified().ok()?.duration_since(UNIX_EPOCH).ok()?.as_nanos();
        Some(Stamp { size: found.len(), modified: u64::try_from(modified).ok()? })
    }

    /// Whether its file was written some time ago: one that is being written may change once more without another time.
    pub fn is_settled(self) -> bool {
        let then = UNIX_EPOCH + Duration::from_nanos(self.modified);
        then.elapsed().is_ok_and(|ago| ago > SETTLING)
    }
}

/// How a job ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Outcome {
    /// Files are being written, or the run was killed while they were.
    Begun,
    /// All files are written.
    Done,
    /// Its source or a step gave an error; it would again, from the same contents.
    Failed,
    /// A place failed: it could not be read or written where it lies. The next run tries again, and that may be all it takes.
    Hindered,
    /// Something is in its way that a person has to look at; the next run tries again.
    Blocked,
}

/// From what a job was made, and what came of it.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Record {
    /// The source, as the recipe finds it.
    pub source: String,
    pub outcome: Outcome,
    /// The version of the program.
    pub program: String,
    /// What the recipe says for this source.
    pub steps: Digest,
    /// The contents of all files that were read, by their names in the recipe.
    pub inputs: BTreeMap<String, Digest>,
    pub outputs: Vec<Made>,
    /// Files of earlier runs that may still be there: by name, with their contents.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub earlier: Vec<(String, Digest)>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub error: Option<String>,
    /// How long it took.
    pub seconds: f64,
    /// By whom, where and when.
    #[serde(default)]
    pub origin: Origin,
    /// Sizes and times of inputs and outputs, by their names.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub stamps: BTreeMap<String, Stamp>,
}

/// A file that was made.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Made {
    /// Its path, as the recipe says it.
    pub file: String,
    pub contents: Digest,
    /// Whether it is the animation, and not a picture or ledger beside it.
    pub is_animation: bool,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub take: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub clip: Option<String>,
    /// Keys and samples in the source, and in the result.
    pub before: usize,
    pub after: usize,
    /// The largest errors of all steps together.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rotation_deg: Option<f64>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub position_mm: Option<f64>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub number: Option<f64>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub left_out: Vec<LeftOut>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub warnings: Vec<String>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub notes: Vec<String>,
}

/// A channel that did not come over.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct LeftOut {
    pub channel: String,
    pub why: String,
}

impl Made {
    /// The clip or take that it holds.
    pub fn part(&self) -> Option<&str> {
        self.clip.as_deref().or(self.take.as_deref())
    }

    /// Whether a person should look at it.
    pub fn needs_a_look(&self) -> bool {
        !self.left_out.is_empty() || !self.warnings.is_empty()
    }
}

impl Record {
    /// All files that the job has written and that may be there, with their contents.
    pub fn written(&self) -> impl Iterator<Item = (&str, &Digest)> {
        let outputs = self.outputs.iter().map(|made| (made.file.as_str(), &made.contents));
        outputs.chain(self.earlier.iter().map(|(file, contents)| (file.as_str(), contents)))
    }
}

/// The folder in which the records of a recipe lie.
#[derive(Clone, Debug)]
pub struct Records {
    folder: PathBuf,
}

/// What lies in a folder of records, by names alone.
#[derive(Debug, Default)]
pub struct Listing {
    /// The jobs that have records.
    pub jobs: Vec<Id>,
    /// The outputs that have marks, by the ids of their names.
    pub made: HashSet<Id>,
    /// Folders in which killed runs may have left something.
    pub littered: Vec<PathBuf>,
    /// Claims, which killed workers may have left.
    pub claims: Vec<PathBuf>,
}

/// What says which job made an output.
#[derive(Serialize, Deserialize)]
struct Mark {
    file: String,
    by: String,
}

impl Records {
    pub fn new(folder: PathBuf) -> Records {
        Records { folder }
    }

    /// The folder, which is made where there is none.
    pub fn made(&self) -> Result<&Path, Failure> {
        let folder = &self.folder;
        make_folder(folder)?;
        Ok(folder)
    }

    /// A file of a job or output, in the folder of all whose ids begin alike.
    pub fn place(&self, id: Id, ending: &str) -> PathBuf {
        let name = id.to_string();
        self.folder.join(&name[..2]).join(format!("{name}.{ending}"))
    }

    /// What there is, without a look into any file.
    ///
    /// # Errors
    /// Where a folder cannot be looked into: what is in it would count for nothing.
    pub fn listing(&self) -> Result<Listing, FormatError> {
        let mut listing = Listing::default();
        let folders = entries(&self.folder)?;
        for folder in folders.iter().filter(|folder| folder.file_name().len() == 2) {
            let mut is_littered = false;
            for entry in entries(&folder.path())? {
                let name = entry.file_name();
                let Some((id, ending)) = name.to_str().and_then(|name| name.split_once('.')) else {
                    continue;
                };
                is_littered |= id.is_empty();
                let Ok(id) = id.parse::<Id>() else { continue };
                match ending {
                    RECORD => listing.jobs.push(id),
                    MARK => drop(listing.made.insert(id)),
                    CLAIM => listing.claims.push(entry.path()),
                    _ => {}
                }
            }
            if is_littered {
                listing.littered.push(folder.path());
            }
        }
        listing.jobs.sort_unstable();
        Ok(listing)
    }

    /// A job's record. One that is none counts for nothing: its job is done again.
    ///
    /// # Errors
    /// Where there is one that cannot be read.
    pub fn read(&self, id: Id) -> Result<Option<Record>, FormatError> {
        Ok(contents(self.place(id, RECORD))?.and_then(|bytes| serde_json::from_slice(&bytes).ok()))
    }

    /// Writes a job's record, whole or not at all. Only on a drive without room for a second one it is written over, so that
    /// what came of the job is told, if anything can be.
    pub fn write(&self, id: Id, record: &Record) -> Result<(), Failure> {
        let mut bytes = serde_json::to_vec(record).map_err(|error| Failure::new(error.to_string()))?;
        bytes.push(b'\n');
        let path = self.place(id, RECORD);
        match self.put(&bytes, &path) {
            Err(FormatError::Write { source, .. })
                if source.kind() == ErrorKind::StorageFull && path.is_file() =>
            {
                fs::write(&path, &bytes).map_err(|source| FormatError::Write { path, source }.into())
            }
            result => Ok(result?),
        }
    }

    /// Takes a job's record away.
    pub fn remove(&self, id: Id) -> Result<(), FormatError> {
        removed(self.place(id, RECORD))
    }

    /// The job that made an output the last time, and may have others by now.
    ///
    /// # Errors
    /// Where there is a mark that cannot be read.
    pub fn maker(&self, file: &str) -> Result<Option<Id>, FormatError> {
        let mark = contents(self.place(Id::of(file), MARK))?;
        let mark: Option<Mark> = mark.and_then(|bytes| serde_json::from_slice(&bytes).ok());
        Ok(mark.filter(|mark| mark.file == file).and_then(|mark| mark.by.parse().ok()))
    }

    /// Marks an output as a job's.
    pub fn mark(&self, file: &str, by: Id) -> Result<(), Failure> {
        if self.maker(file)? == Some(by) {
            return Ok(());
        }
        let mark = Mark { file: file.to_owned(), by: by.to_string() };
        let bytes = serde_json::to_vec(&mark).map_err(|error| Failure::new(error.to_string()))?;
        Ok(self.put(&bytes, &self.place(Id::of(file), MARK))?)
    }

    /// Takes the mark of an output away.
    pub fn unmark(&self, file: &str) -> Result<(), FormatError> {
        removed(self.place(Id::of(file), MARK))
    }

    fn put(&self, bytes: &[u8], path: &Path) -> Result<(), FormatError> {
        if let Some(folder) = path.parent() {
            fs::create_dir_all(folder)
                .map_err(|source| FormatError::Write { path: folder.to_owned(), source })?;
        }
        write_bytes(bytes, path)
    }
}

const RECORD: &str = "json";
const MARK: &str = "made";
/// The ending of claims.
pub const CLAIM: &str = "claim";

/// What is in a folder; nothing where there is none.
fn entries(folder: &Path) -> Result<Vec<fs::DirEntry>, FormatError> {
    match fs::read_dir(folder).and_then(Iterator::collect) {
        Err(error) if error.kind() == ErrorKind::NotFound => Ok(Vec::new()),
        result => result.map_err(|source| FormatError::Read { path: folder.to_owned(), source }),
    }
}

/// What is in a file; `None` where there is none.
fn contents(path: PathBuf) -> Result<Option<Vec<u8>>, FormatError> {
    match fs::read(&path) {
        Ok(bytes) => Ok(Some(bytes)),
        Err(error) if error.kind() == ErrorKind::NotFound => Ok(None),
        Err(source) => Err(FormatError::Read { path, source }),
    }
}

/// Takes a file away that may not be there.
pub fn removed(path: PathBuf) -> Result<(), FormatError> {
    match fs::remove_file(&path) {
        Err(source) if source.kind() != ErrorKind::NotFound => Err(FormatError::Write { path, source }),
        _ => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn contents_have_one_fingerprint_as_bytes_and_as_a_file() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("a");
        std::fs::write(&path, b"wading").unwrap();
        assert_eq!(digest_of_file(&path), Some(digest(b"wading")));
        assert_ne!(digest(b"wading"), digest(b"wading "));
        assert_eq!(digest_of_file(&folder.path().join("b")), None);
    }

    #[test]
    fn a_broken_record_counts_for_nothing_and_one_that_cannot_be_read_is_told() {
        let folder = tempfile::tempdir().unwrap();
        let records = Records::new(folder.path().join("made"));
        let (one, two) = (Id::of("a.bvh"), Id::of("b.bvh"));
        assert_eq!(records.read(one).unwrap(), None);
        records.made().unwrap();
        let record = Record {
            source: "a.bvh".into(),
            outcome: Outcome::Done,
            program: "1".into(),
            steps: digest(b""),
            inputs: BTreeMap::from([("a.bvh".into(), digest(b"a"))]),
            outputs: Vec::new(),
            earlier: vec![("old.glb".into(), digest(b"old"))],
            error: None,
            seconds: 0.5,
            origin: Origin::now(),
            stamps: BTreeMap::new(),
        };
        records.write(one, &record).unwrap();
        records.write(two, &record).unwrap();
        std::fs::write(records.place(two, RECORD), b"{\"source\":").unwrap();
        assert_eq!(records.read(one).unwrap(), Some(record));
        assert_eq!(records.read(two).unwrap(), None);
        records.remove(two).unwrap();
        std::fs::create_dir(records.place(two, RECORD)).unwrap();
        assert!(records.read(two).is_err());
    }

    #[test]
    fn marks_say_who_made_an_output_and_the_listing_what_there_is() {
        let folder = tempfile::tempdir().unwrap();
        let records = Records::new(folder.path().to_owned());
        assert_eq!(records.maker("game/a.glb").unwrap(), None);
        records.mark("game/a.glb", Id::of("a.bvh")).unwrap();
        records.mark("game/a.glb", Id::of("b.bvh")).unwrap();
        assert_eq!(records.maker("game/a.glb").unwrap(), Some(Id::of("b.bvh")));
        let listing = records.listing().unwrap();
        assert!(listing.made.contains(&Id::of("game/a.glb")) && listing.jobs.is_empty());
        records.unmark("game/a.glb").unwrap();
        records.unmark("game/a.glb").unwrap();
        assert!(records.listing().unwrap().made.is_empty());
    }

    #[test]
    fn an_id_is_read_as_it_is_written() {
        let id = Id::of("exports/otter/idle.bvh");
        assert_eq!(id.to_string().parse(), Ok(id));
        assert_eq!(id.to_string().len(), 16);
        assert_eq!(Id(7).to_string(), "0000000000000007");
    }
}
