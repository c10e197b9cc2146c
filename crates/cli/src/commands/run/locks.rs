//! Keeping two runs of one recipe out of each other's way.

use std::fs::{File, TryLockError};
use std::io::ErrorKind;
use std::path::Path;

use nimble_curve_formats::{reason, try_writing};

use crate::args::Run;
use crate::batch::{Records, Shard};
use crate::failure::Failure;
use crate::terminal;

/// Keeps other runs of the recipe away, as long as what it gives is held: from all of it, or from the same share.
pub fn held(args: &Run, shard: Option<Shard>, records: &Records) -> Result<Vec<File>, Failure> {
    let folder = records.made()?;
    is_writable(folder)?;
    let is_part = args.shard.is_some() || shard.is_some() || !args.source.is_empty();
    let mut files = Vec::new();
    let mut unknown = None;
    let mut hold = |name: String, is_shared: bool| -> Result<(), Failure> {
        let path = folder.join(name);
        let file = opened(&path)
            .map_err(|error| Failure::Hindered(format!("{}: {}", path.display(), reason(&error))))?;
        match if is_shared { file.try_lock_shared() } else { file.try_lock() } {
            Ok(()) => {}
            Err(TryLockError::WouldBlock) => {
                return Err(Failure::Busy(format!(
                    "another run of this recipe is under way ({} is locked)",
                    path.display()
                )));
            }
            Err(TryLockError::Error(error)) => unknown = Some(error),
        }
        files.push(file);
        Ok(())
    };
    hold("lock".to_owned(), is_part)?;
    if let Some(shard) = shard {
        hold(format!("lock-{}", shard.to_string().replace('/', "-of-")), false)?;
    }
    if let Some(error) = unknown {
        terminal::remark(&format!(
            "{}: this drive keeps no locks ({}), so that another run at the same time is not noticed; both would write the same",
            folder.display(),
            reason(&error)
        ));
    }
    Ok(files)
}

/// Refuses a folder in which nothing can be written, before hours are spent on what could not be recorded.
fn is_writable(folder: &Path) -> Result<(), Failure> {
    try_writing(folder).map_err(|error| {
        let hint = match error.kind() {
            ErrorKind::PermissionDenied => ": whoever made it has to let its group write (umask 002)",
            _ => "",
        };
        Failure::Hindered(format!("{}: cannot be written: {}{hint}", folder.display(), reason(&error)))
    })
}

/// A file to lock. One that another user made may be locked, too, where it can be read.
fn opened(path: &Path) -> std::io::Result<File> {
    match File::options().create(true).truncate(false).write(true).open(path) {
        Err(error) if error.kind() == ErrorKind::PermissionDenied => File::open(path).map_err(|_| error),
        result => result,
    }
}
