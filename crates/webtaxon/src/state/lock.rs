//! One apply at a time: a lock on a file beside the state, released when the program ends, however it ends.

use super::{StateError, StateErrorKind};
use std::fs::{File, OpenOptions, TryLockError};
use std::io::{Read as _, Write as _};
use std::path::Path;

/// The lock, held until dropped.
#[derive(Debug)]
pub(super) struct Lock(#[expect(dead_code, reason = "the lock goes with the open file")] File);

/// Takes the lock, and writes its holder into the file.
pub(super) fn take(state: &Path, who: &str) -> Result<Lock, StateError> {
    let file = state.with_extension("lock");
    let broken =
        |source: std::io::Error| StateErrorKind::Broken { file: file.clone(), source: source.into() };
    let mut options = OpenOptions::new();
    options.read(true).write(true).create(true).truncate(false);
    #[cfg(unix)]
    {
        use std::os::unix::fs::OpenOptionsExt as _;
        options.mode(0o600);
    }
    let mut lock = options.open(&file).map_err(broken)?;
    match lock.try_lock() {
        Ok(()) => {}
        Err(TryLockError::WouldBlock) => {
            let mut holder = String::new();
            let _ = lock.read_to_string(&mut holder);
            let holder = if holder.is_empty() { "holder unknown".to_owned() } else { holder };
            return Err(StateErrorKind::Busy { holder }.into());
        }
        Err(TryLockError::Error(error)) => return Err(broken(error).into()),
    }
    let words = format!("{who}, process {}, since {:.0}", std::process::id(), jiff::Timestamp::now());
    lock.set_len(0).and_then(|()| lock.write_all(words.as_bytes())).map_err(broken)?;
    Ok(Lock(lock))
}
