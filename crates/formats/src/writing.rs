//! Files written whole or not at all: to a temporary file beside them, which then takes their name.
//!
//! The name of a temporary file tells which process it belongs to, so that what one that was killed left is known for what it
//! is, and taken away by whoever writes there next.

use std::collections::HashSet;
use std::fs;
use std::io::{self, Write as _};
use std::path::{Path, PathBuf};
use std::sync::{LazyLock, Mutex, PoisonError};
use std::time::Duration;

use crate::error::FormatError;

/// How names of temporary files begin; the machine, the process, its mark and something that no other has follow.
const PREFIX: &str = ".nimble-curve-";

/// After how long a temporary file of another machine counts as left over, where it cannot be seen whether its process is there.
/// Such a file is written in one go, so that its time is never far behind while its process lives.
const LEFT_OVER: Duration = Duration::from_secs(3600);

/// Writes a file, whole or not at all. A link stays, and what it leads to is written; devices and pipes are written to.
/// What killed processes left in the folder is taken away, the first time that this one writes there.
///
/// # Errors
/// [`FormatError::Write`]; nothing is left behind.
pub fn write_bytes(bytes: &[u8], path: &Path) -> Result<(), FormatError> {
    if path != Path::new("-")
        && let Ok(target) = target_of(path)
    {
        take_away_left_overs(folder_of(&target));
    }
    write_bytes_only(bytes, path)
}

/// The same without a look at what else is in the folder, for one file of a folder of very many.
///
/// # Errors
/// [`FormatError::Write`]; nothing is left behind.
pub fn write_bytes_only(bytes: &[u8], path: &Path) -> Result<(), FormatError> {
    let failed = |source| FormatError::Write { path: path.to_owned(), source };
    if path == Path::new("-") {
        return io::stdout().lock().write_all(bytes).map_err(failed);
    }
    let target = target_of(path).map_err(failed)?;
    if target.is_dir() {
        return Err(failed(io::Error::other("it is a folder")));
    }
    if fs::metadata(&target).is_ok_and(|existing| !existing.is_file()) {
        // A device or pipe is written to, never replaced.
        return fs::OpenOptions::new()
            .write(true)
            .open(&target)
            .and_then(|mut file| file.write_all(bytes))
            .map_err(failed);
    }
    let folder = folder_of(&target);
    if !folder.is_dir() {
        return Err(failed(io::Error::other(format!("there is no folder '{}'", folder.display()))));
    }
    let own = own_prefix();
    let mut builder = tempfile::Builder::new();
    builder.prefix(&own);
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt as _;
        // What everybody may do is for the user's mask to say.
        builder.permissions(fs::Permissions::from_mode(0o666));
    }
    let mut file = builder.tempfile_in(folder).map_err(failed)?;
    file.write_all(bytes).and_then(|()| file.as_file().sync_data()).map_err(failed)?;
    if let Ok(existing) = fs::metadata(&target) {
        file.as_file().set_permissions(existing.permissions()).map_err(failed)?;
    }
    file.persist(&target).map_err(|error| failed(error.error))?;
    Ok(())
}

/// Whether files can be written in a folder, by a trial.
///
/// # Errors
/// The system's reason where they cannot.
pub fn try_writing(folder: &Path) -> io::Result<()> {
    take_away_left_overs(folder);
    tempfile::Builder::new().prefix(&own_prefix()).tempfile_in(folder)?.close()
}

/// How names of this process's temporary files begin.
fn own_prefix() -> String {
    format!("{PREFIX}{}-{}-{}-", machine(), std::process::id(), mark())
}

/// The file that is written: what a link leads to, or would, where there is nothing yet.
fn target_of(path: &Path) -> io::Result<PathBuf> {
    /// How many links may follow one another, as systems have it.
    const MOST_LINKS: usize = 40;
    let mut target = path.to_owned();
    for _ in 0..MOST_LINKS {
        match fs::symlink_metadata(&target) {
            Ok(found) if found.is_symlink() => target = folder_of(&target).join(fs::read_link(&target)?),
            _ => return Ok(target),
        }
    }
    Err(io::Error::other("its links lead in a circle"))
}

/// The folder that a file lies in.
fn folder_of(path: &Path) -> &Path {
    path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."))
}

/// The machine's name, as far as file names allow it.
pub fn machine() -> String {
    let named = fs::read_to_string("/proc/sys/kernel/hostname").ok();
    let named =
        named.or_else(|| std::env::var("HOSTNAME").ok()).or_else(|| std::env::var("COMPUTERNAME").ok());
    let named = named.unwrap_or_default();
    named.trim().chars().filter(char::is_ascii_alphanumeric).take(24).collect()
}

/// What tells this process from others that have its number: those of other machines and containers, which may have the name of
/// this one, and those that had it before or will have it. Empty where the system does not say.
pub fn mark() -> &'static str {
    static OWN: LazyLock<String> = LazyLock::new(|| {
        let since = since(std::process::id());
        SYSTEM.as_ref().zip(since).map_or_else(String::new, |(system, since)| format!("{system}.{since}"))
    });
    &OWN
}

/// What all processes have in common that can see each other, since the machine was started: its start, and the space of their
/// numbers.
static SYSTEM: LazyLock<Option<String>> = LazyLock::new(|| {
    let start = fs::read_to_string("/proc/sys/kernel/random/boot_id").ok()?;
    let numbers = fs::read_link("/proc/self/ns/pid").ok()?;
    let kept = |text: &str, most: usize| -> String {
        text.chars().filter(char::is_ascii_alphanumeric).take(most).collect()
    };
    Some(kept(&start, 12) + &kept(&numbers.to_string_lossy(), 24))
});

/// When a process was begun, in the system's own count; `None` where it is not there.
fn since(process: u32) -> Option<String> {
    let text = fs::read_to_string(format!("/proc/{process}/stat")).ok()?;
    // The name of the program may have anything in it; it ends with the last bracket.
    let (_, rest) = text.rsplit_once(')')?;
    rest.split_whitespace().nth(19).map(str::to_owned)
}

/// Whether a process is there that had such a number and mark; `None` where that cannot be seen from here.
pub fn is_running(process: u32, mark: &str) -> Option<bool> {
    let (system, begun) = mark.split_once('.')?;
    (SYSTEM.as_deref() == Some(system)).then(|| since(process).as_deref() == Some(begun))
}

/// Takes away the temporary files of processes that are gone, once in each folder. That it cannot be done is no reason not to write.
pub fn take_away_left_overs(folder: &Path) {
    static SEEN: Mutex<Option<HashSet<PathBuf>>> = Mutex::new(None);
    let mut seen = SEEN.lock().unwrap_or_else(PoisonError::into_inner);
    if !seen.get_or_insert_default().insert(folder.to_owned()) {
        return;
    }
    let Ok(entries) = fs::read_dir(folder) else { return };
    for entry in entries.flatten() {
        let name = entry.file_name();
        let Some(owner) = name.to_str().and_then(|name| name.strip_prefix(PREFIX)) else { continue };
        let mut parts = owner.split('-');
        let (Some(_), Some(process), Some(mark), Some(_)) =
            (parts.next(), parts.next(), parts.next(), parts.next())
        else {
            continue;
        };
        let Ok(process) = process.parse::<u32>() else { continue };
        let is_old = || {
            let age = entry.metadata().ok().and_then(|found| found.modified().ok()?.elapsed().ok());
            age.is_some_and(|age| age > LEFT_OVER)
        };
        let is_gone = is_running(process, mark).map_or_else(is_old, |is_running| !is_running);
        if is_gone {
            // Somebody else may be quicker, or not allow it: it stays a stranger's file then.
            fs::remove_file(entry.path()).ok();
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[cfg(target_os = "linux")]
    #[test]
    fn links_stay_and_what_killed_runs_left_goes() {
        use std::os::unix::fs::{PermissionsExt as _, symlink};
        let folder = tempfile::tempdir().unwrap();
        let at = folder.path();
        fs::create_dir(at.join("elsewhere")).unwrap();
        fs::write(at.join("elsewhere/real.txt"), "old").unwrap();
        fs::set_permissions(at.join("elsewhere/real.txt"), fs::Permissions::from_mode(0o640)).unwrap();
        symlink("elsewhere/real.txt", at.join("link")).unwrap();
        symlink("link", at.join("second")).unwrap();
        symlink("elsewhere/new.txt", at.join("ahead")).unwrap();
        symlink("circle", at.join("circle")).unwrap();
        let (own, me) = (format!("{PREFIX}{}-", machine()), std::process::id());
        let (system, begun) = mark().split_once('.').unwrap();
        let mine = format!("{own}{me}-{}-x", mark());
        // No process has such a number; one that had ours, before; one elsewhere, of which nothing is known.
        let gone = format!("{own}4194999-{system}.{begun}-abc");
        let before = format!("{own}{me}-{system}.1-abc");
        let elsewhere = format!("{own}4194999-0{system}.{begun}-abc");
        let left = [gone, before, elsewhere, mine, format!("{PREFIX}odd")];
        left.iter().for_each(|name| fs::write(at.join(name), "part").unwrap());
        write_bytes(b"new", &at.join("second")).unwrap();
        write_bytes(b"new", &at.join("ahead")).unwrap();
        write_bytes(b"new", &at.join("plain")).unwrap();
        let is_link = |name: &str| fs::symlink_metadata(at.join(name)).unwrap().is_symlink();
        assert!(is_link("link") && is_link("second") && is_link("ahead"));
        let text = |name: &str| fs::read_to_string(at.join(name)).unwrap();
        assert_eq!(
            [text("elsewhere/real.txt"), text("elsewhere/new.txt"), text("plain")],
            ["new", "new", "new"]
        );
        let mode = |name: &str| fs::metadata(at.join(name)).unwrap().permissions().mode() & 0o777;
        assert_eq!(mode("elsewhere/real.txt"), 0o640);
        let there = |name: &String| at.join(name).exists();
        assert_eq!(left.iter().map(there).collect::<Vec<_>>(), [false, false, true, true, true]);
        let error = write_bytes(b"new", &at.join("circle")).unwrap_err().to_string();
        assert!(error.contains("lead in a circle"), "{error}");
        assert!(fs::read_dir(at.join("elsewhere")).unwrap().count() == 2);
    }
}
