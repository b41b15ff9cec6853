//! Putting a new file in an old one's place, at once or not at all, whatever happens meanwhile.

use crate::crash;
use crate::private;
use std::fs::{File, TryLockError};
use std::io::{self, Write as _};
use std::path::Path;
use std::time::Duration;

/// Ten seconds in all.
const TRIES: usize = 200;
const PAUSE: Duration = Duration::from_millis(50);

/// Holds a file until what comes back is dropped: of two that would replace it, the second waits, and
/// then reads what the first has made of it.
///
/// # Errors
/// There is no such file, it cannot be held, or another program holds it for long.
pub(super) fn hold(file: &Path) -> io::Result<File> {
    for _ in 0..TRIES {
        let held = File::open(file)?;
        match held.try_lock() {
            // Whoever had it before may have put another file in its place.
            Ok(()) if is_at(&held, file)? => return Ok(held),
            Ok(()) => {}
            Err(TryLockError::WouldBlock) => std::thread::sleep(PAUSE),
            Err(TryLockError::Error(error)) => return Err(error),
        }
    }
    Err(io::Error::other("another program holds it"))
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

/// Puts `text` in the place of a file that holds `was`: written beside it, made lasting, and renamed.
/// Rights and owner stay.
///
/// # Errors
/// The file is not what it was any more, cannot be written, or its owner cannot be kept; it then stays
/// as it is.
pub(super) fn replace(file: &Path, was: &[u8], text: &[u8]) -> io::Result<()> {
    // A link to a file elsewhere stays a link.
    let file = file.canonicalize()?;
    let folder = file.parent().unwrap_or(Path::new("."));
    let name = file.file_name().unwrap_or_default().to_string_lossy();
    // Always the same name, so that what a run left behind that was cut off goes with the next.
    let beside = folder.join(format!(".{name}.webtaxon-new"));
    let written = write_beside(&file, &beside, text).and_then(|()| {
        if std::fs::read(&file)? != was {
            return Err(io::Error::other("somebody changed it just now; look again"));
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

/// Writes a new file, for its owner's eyes only, and makes it lasting.
///
/// # Errors
/// There is a file of this name, or it cannot be written.
pub(super) fn create(file: &Path, text: &[u8]) -> io::Result<()> {
    let mut out = private::file(file)?;
    out.write_all(text)?;
    out.sync_all()
}

fn write_beside(file: &Path, beside: &Path, text: &[u8]) -> io::Result<()> {
    // Left behind by a run that was cut off.
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

/// Makes a renaming lasting.
fn lasting(folder: &Path) -> io::Result<()> {
    if cfg!(unix) { File::open(folder)?.sync_all() } else { Ok(()) }
}
