//! Files and folders that only their owner may read.

use std::fs::{DirBuilder, File, OpenOptions};
use std::io;
use std::path::Path;

/// Makes a new file for its owner's eyes only.
pub(crate) fn file(file: &Path) -> io::Result<File> {
    let mut options = OpenOptions::new();
    options.write(true).create_new(true);
    #[cfg(unix)]
    {
        use std::os::unix::fs::OpenOptionsExt as _;
        options.mode(0o600);
    }
    options.open(file)
}

/// Makes a folder, and those above it, for its owner's eyes only, if it is not there.
pub(crate) fn folder(folder: &Path) -> io::Result<()> {
    let mut builder = DirBuilder::new();
    #[cfg(unix)]
    {
        use std::os::unix::fs::DirBuilderExt as _;
        builder.mode(0o700);
    }
    builder.recursive(true).create(folder)
}
