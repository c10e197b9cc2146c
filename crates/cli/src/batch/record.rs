//! Records: from what a job was made, and what came of it.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};

use nimble_curve_formats::write_bytes_by;
use serde::{Deserialize, Serialize};

use crate::failure::Failure;

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

impl Records {
    pub fn new(folder: PathBuf) -> Records {
        Records { folder }
    }

    /// The folder, which is made where there is none.
    pub fn made(&self) -> Result<&Path, Failure> {
        let folder = &self.folder;
        fs::create_dir_all(folder).map_err(|error| {
            Failure::new(format!("{}: the folder cannot be made: {error}", folder.display()))
        })?;
        Ok(folder)
    }

    /// All records, by the ids of their jobs. One that cannot be read counts for nothing: its job is done again.
    pub fn all(&self) -> BTreeMap<String, Record> {
        let Ok(entries) = fs::read_dir(&self.folder) else { return BTreeMap::new() };
        let record = |entry: fs::DirEntry| {
            let name = entry.file_name().into_string().ok()?;
            let id = name.strip_suffix(".json")?.to_owned();
            let record = serde_json::from_slice(&fs::read(entry.path()).ok()?).ok()?;
            Some((id, record))
        };
        entries.flatten().filter_map(record).collect()
    }

    /// Writes a job's record, whole or not at all.
    pub fn write(&self, id: &str, record: &Record) -> Result<(), Failure> {
        let mut bytes = serde_json::to_vec_pretty(record).map_err(|error| Failure::new(error.to_string()))?;
        bytes.push(b'\n');
        let path = self.folder.join(format!("{id}.json"));
        Ok(write_bytes_by(&bytes, &path, Some(&temporary(id)))?)
    }

    /// Takes away what killed runs left of a job's record, and of the files in it, while they wrote them.
    pub fn tidy(&self, id: &str, record: Option<&Record>, resolved: impl Fn(&str) -> PathBuf) {
        let name = temporary(id);
        let _ = fs::remove_file(self.folder.join(&name));
        let begun = record.filter(|record| record.outcome == Outcome::Begun);
        for (file, _) in begun.into_iter().flat_map(Record::written) {
            let _ = fs::remove_file(resolved(file).with_file_name(&name));
        }
    }

    /// Takes a job's record away.
    pub fn remove(&self, id: &str) {
        let _ = fs::remove_file(self.folder.join(format!("{id}.json")));
    }
}

/// The name of the temporary files of a job. It is always the same, so that the next run finds what a killed one left.
pub fn temporary(id: &str) -> String {
    format!(".{id}.part")
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
    fn a_broken_record_counts_for_nothing() {
        let folder = tempfile::tempdir().unwrap();
        let records = Records::new(folder.path().join("made"));
        assert!(records.all().is_empty());
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
        };
        records.write("one", &record).unwrap();
        std::fs::write(folder.path().join("made/two.json"), b"{\"source\":").unwrap();
        assert_eq!(records.all(), BTreeMap::from([("one".to_owned(), record)]));
    }
}
