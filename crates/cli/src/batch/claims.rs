//! Claims: of several workers that go through the same jobs, who does which.
//!
//! A claim is a file beside the job's record that only one worker can make. Whoever holds it changes its time every few seconds; one
//! whose time stays as it is belongs to nobody any more. That needs no locks, no clock that two machines agree on, and no word from
//! a worker that was killed.

use std::collections::HashMap;
use std::fs::{self, File};
use std::io::{ErrorKind, Write as _};
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant, SystemTime};

use nimble_curve_formats::{FormatError, is_running, reason};

use super::origin::Origin;
use super::record::{CLAIM, Id, Records, removed};
use crate::terminal;

/// How often a claim is renewed.
const RENEWAL: Duration = Duration::from_secs(10);
/// After how long without a renewal a claim is nobody's.
const PATIENCE: Duration = Duration::from_secs(60);

/// After how long a claim of another machine is nobody's, whatever clocks say.
const OLD: Duration = Duration::from_secs(3600);

/// The claims of one worker, and what it knows of those of others.
pub struct Claims<'a> {
    records: &'a Records,
    origin: Origin,
    patience: Duration,
    /// Those that this worker holds.
    held: Mutex<Vec<PathBuf>>,
    /// When others' claims were first seen as they are.
    seen: Mutex<HashMap<PathBuf, (Option<SystemTime>, Instant)>>,
}

/// A claim that is held until it is dropped.
pub struct Claim<'c> {
    claims: &'c Claims<'c>,
    path: PathBuf,
}

impl<'a> Claims<'a> {
    pub fn new(records: &'a Records) -> Claims<'a> {
        Claims {
            records,
            origin: Origin::now(),
            patience: PATIENCE,
            held: Mutex::default(),
            seen: Mutex::default(),
        }
    }

    /// Claims a job; `None` where another worker has it.
    ///
    /// # Errors
    /// Where claims cannot be written.
    pub fn claim(&self, id: Id) -> Result<Option<Claim<'_>>, FormatError> {
        let path = self.records.place(id, CLAIM);
        let failed = |source| FormatError::Write { path: path.clone(), source };
        if let Some(folder) = path.parent() {
            fs::create_dir_all(folder).map_err(failed)?;
        }
        for _ in 0..2 {
            match File::create_new(&path) {
                Ok(mut file) => {
                    self.held.lock().unwrap_or_else(PoisonError::into_inner).push(path.clone());
                    // Given up where it cannot be signed: nobody is to wait for it.
                    let claim = Claim { claims: self, path: path.clone() };
                    let by = serde_json::to_vec(&self.origin).map_err(|error| failed(error.into()))?;
                    file.write_all(&by).map_err(failed)?;
                    return Ok(Some(claim));
                }
                Err(error) if error.kind() == ErrorKind::AlreadyExists => {
                    if !self.is_nobodys(&path) {
                        return Ok(None);
                    }
                    self.take_away(&path)?;
                }
                Err(error) => return Err(failed(error)),
            }
        }
        Ok(None)
    }

    /// Takes a claim away that is nobody's. Of several that do so only one can give it another name; where that takes away one that
    /// was made anew meanwhile, two workers do one job, and both write the same.
    fn take_away(&self, path: &Path) -> Result<(), FormatError> {
        let own = path.with_extension(format!("{}-{}", self.origin.machine, self.origin.process));
        match fs::rename(path, &own) {
            Ok(()) => removed(own),
            Err(error) if error.kind() == ErrorKind::NotFound => Ok(()),
            Err(source) => Err(FormatError::Write { path: path.to_owned(), source }),
        }
    }

    /// Takes away what killed workers left: claims of processes of this machine that are no more, and old ones of others.
    ///
    /// # Errors
    /// Where such a claim stays.
    pub fn tidy(claims: &[PathBuf]) -> Result<(), FormatError> {
        for path in claims {
            let age = fs::metadata(path).ok().and_then(|found| found.modified().ok()?.elapsed().ok());
            if is_left(path) || age.is_some_and(|age| age > OLD) {
                removed(path.clone())?;
            }
        }
        Ok(())
    }

    /// Whether who made a claim is gone: a process of this machine that is no more, or one that has not been heard of for long.
    fn is_nobodys(&self, path: &Path) -> bool {
        if is_left(path) {
            return true;
        }
        let renewed = fs::metadata(path).ok().and_then(|found| found.modified().ok());
        let now = Instant::now();
        let mut seen = self.seen.lock().unwrap_or_else(PoisonError::into_inner);
        let (then, since) = seen.entry(path.to_owned()).or_insert((renewed, now));
        if *then != renewed {
            (*then, *since) = (renewed, now);
        }
        now.duration_since(*since) >= self.patience
    }

    /// Renews the claims that are held, until it is told that there is nothing more to do.
    pub fn renew_until(&self, is_over: impl Fn() -> bool) {
        /// How often it is asked whether it is over.
        const STEP: Duration = Duration::from_millis(50);
        let mut last = Instant::now();
        let mut is_told = false;
        while !is_over() {
            std::thread::sleep(STEP);
            if last.elapsed() < RENEWAL {
                continue;
            }
            last = Instant::now();
            for path in self.held.lock().unwrap_or_else(PoisonError::into_inner).iter() {
                let file = File::options().append(true).open(path);
                match file.and_then(|file| file.set_modified(SystemTime::now())) {
                    // One that somebody took away is that one's.
                    Err(error) if error.kind() != ErrorKind::NotFound && !is_told => {
                        is_told = true;
                        let (path, why) = (path.display(), reason(&error));
                        terminal::remark(&format!(
                            "{path}: cannot be renewed ({why}), so that another worker may do the same file, too"
                        ));
                    }
                    _ => {}
                }
            }
        }
    }
}

/// Whether a process of this machine made a claim and is no more.
fn is_left(path: &Path) -> bool {
    let by = fs::read(path).ok().and_then(|bytes| serde_json::from_slice::<Origin>(&bytes).ok());
    by.and_then(|by| is_running(by.process, &by.mark)) == Some(false)
}

impl Drop for Claim<'_> {
    fn drop(&mut self) {
        let mut held = self.claims.held.lock().unwrap_or_else(PoisonError::into_inner);
        held.retain(|path| *path != self.path);
        // It is nobody's as soon as this process ends; until then others wait for it.
        if let Err(error) = removed(self.path.clone()) {
            terminal::remark(&format!("the claim of a file that is done stays for a while: {error}"));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of(records: &Records) -> Claims<'_> {
        Claims { patience: Duration::from_millis(100), ..Claims::new(records) }
    }

    #[test]
    fn one_of_several_workers_has_a_job_until_it_is_done() {
        let folder = tempfile::tempdir().unwrap();
        let records = Records::new(folder.path().to_owned());
        let all: Vec<Claims<'_>> = (0..8).map(|_| of(&records)).collect();
        let (id, other) = (Id::of("a"), Id::of("b"));
        let won = Mutex::new(Vec::new());
        std::thread::scope(|scope| {
            for claims in &all {
                scope.spawn(|| won.lock().unwrap().extend(claims.claim(id).unwrap()));
            }
        });
        let mut won = won.into_inner().unwrap();
        assert_eq!(won.len(), 1);
        assert!(all[0].claim(other).unwrap().is_some());
        won.clear();
        assert!(all[0].claim(id).unwrap().is_some());
        assert!(!records.place(id, "claim").exists());
    }

    #[test]
    fn a_worker_that_is_gone_or_not_heard_of_loses_its_claims() {
        let folder = tempfile::tempdir().unwrap();
        let records = Records::new(folder.path().to_owned());
        let claims = of(&records);
        let id = Id::of("a");
        let path = records.place(id, "claim");
        let by = |process: u32, mark: &str| {
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            let origin = Origin { process, mark: mark.to_owned(), ..Origin::default() };
            fs::write(&path, serde_json::to_vec(&origin).unwrap()).unwrap();
        };
        // A process of this machine that is no more, and one that had the number of another.
        by(4_194_999, nimble_curve_formats::mark());
        assert!(claims.claim(id).unwrap().is_some());
        let (system, _) = nimble_curve_formats::mark().split_once('.').unwrap();
        by(std::process::id(), &format!("{system}.1"));
        assert!(claims.claim(id).unwrap().is_some());
        // One of another machine, that is heard of for a while and then not.
        by(std::process::id(), "elsewhere.1");
        for second in 0..4 {
            assert!(claims.claim(id).unwrap().is_none(), "{second}");
            std::thread::sleep(Duration::from_millis(60));
            let renewed = SystemTime::now() + Duration::from_secs(second);
            File::options().append(true).open(&path).unwrap().set_modified(renewed).unwrap();
        }
        assert!(claims.claim(id).unwrap().is_none());
        std::thread::sleep(Duration::from_millis(120));
        assert!(claims.claim(id).unwrap().is_some());
        // What nobody could read is as one of another machine.
        fs::write(&path, "").unwrap();
        assert!(claims.claim(id).unwrap().is_none());
        std::thread::sleep(Duration::from_millis(120));
        assert!(claims.claim(id).unwrap().is_some());
    }
}
