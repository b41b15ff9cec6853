//! Replacing a file atomically, whatever happens meanwhile.

use crate::crash;
use crate::private;
use std::fs::{File, TryLockError};
use std::io::{self, Write as _};
use std::path::Path;
use std::time::Duration;

/// Ten seconds in all.
const TRIES: usize = 200;
const PAUSE: Duration = Duration::from_millis(50);

/// Locks a file until the result is dropped: of two that would replace it, the second waits, and then reads the
/// result of the first.
///
/// # Errors
/// The file does not exist, cannot be locked, or remains locked by another program.
pub(super) fn hold(file: &Path) -> io::Result<File> {
    for _ in 0..TRIES {
        let held = File::open(file)?;
        match held.try_lock() {
            // The previous holder may have replaced the file.
            Ok(()) if is_at(&held, file)? => return Ok(held),
            Ok(()) => {}
            Err(TryLockError::WouldBlock) => std::thread::sleep(PAUSE),
            Err(TryLockError::Error(error)) => return Err(error),
        }
    }
    Err(io::Error::other("it is locked by another program"))
}

#[cfg(unix)]
fn is_at(held: &File, file: &Path) -> io::Result<bool> {
    use std::os::unix::fs::MetadataExt as _;
    let (one, other) = (held.metadata()?, std::fs::metadata(file)?);
    Ok((one.dev(), one.ino()) == (other.dev(), other.ino()))
}

#[cfg(not(unix))]
fn is_at(_held: &File, _file: &Path) -> io::Result<bool> {
    Ok(true)
}

/// Replaces a file that contains `was` with `text`: written beside it, synced, and renamed. Permissions and owner are
/// kept.
///
/// # Errors
/// The file has changed, cannot be written, or its owner cannot be kept; it is then left as it is.
pub(super) fn replace(file: &Path, was: &[u8], text: &[u8]) -> io::Result<()> {
    // A symbolic link remains one.
    let file = file.canonicalize()?;
    let folder = file.parent().unwrap_or(Path::new("."));
    let name = file.file_name().unwrap_or_default().to_string_lossy();
    // Always the same name, so that the remains of an interrupted run are overwritten.
    let beside = folder.join(format!(".{name}.webtaxon-new"));
    let written = write_beside(&file, &beside, text).and_then(|()| {
        if std::fs::read(&file)? != was {
            return Err(io::Error::other("it was changed just now; make a new preview"));
        }
        crash::point();
        std::fs::rename(&beside, &file)
    });
    if written.is_err() {
        let _ = std::fs::remove_file(&beside);
    }
    written?;
    crash::point();
    lasting(folder)
}

/// Creates a file that only its owner can read, and syncs it.
///
/// # Errors
/// The file exists, or cannot be written.
pub(super) fn create(file: &Path, text: &[u8]) -> io::Result<()> {
    let mut out = private::file(file)?;
    out.write_all(text)?;
    out.sync_all()
}

fn write_beside(file: &Path, beside: &Path, text: &[u8]) -> io::Result<()> {
    // Left behind by an interrupted run.
    let _ = std::fs::remove_file(beside);
    let mut out = private::file(beside)?;
    crash::point();
    out.write_all(text)?;
    let like = std::fs::metadata(file)?;
    #[cfg(unix)]
    {
        use std::os::unix::fs::MetadataExt as _;
        let made = out.metadata()?;
        if (made.uid(), made.gid()) != (like.uid(), like.gid()) {
            std::os::unix::fs::fchown(&out, Some(like.uid()), Some(like.gid()))?;
        }
    }
    out.set_permissions(like.permissions())?;
    crash::point();
    out.sync_all()
}

/// Makes a rename durable.
fn lasting(folder: &Path) -> io::Result<()> {
    if cfg!(unix) { File::open(folder)?.sync_all() } else { Ok(()) }
}
