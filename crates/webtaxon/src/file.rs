//! Reading LDIF files, one record in memory at a time.

use std::fs::File;
use std::io::{self, Read as _};
use std::path::Path;
use webtaxon_core::ldap::entry::Entries;
use webtaxon_core::ldap::ldif::{Gathered, LdifError, Record, Stream};

/// Bytes read at once.
const PIECE: usize = 1 << 16;

/// Reads the entries of an LDIF file. Records that cannot be read are left out, and returned as errors.
///
/// # Errors
/// The file cannot be read.
pub fn read_entries(file: &Path) -> io::Result<(Entries, Vec<LdifError>)> {
    let mut file = File::open(file)?;
    let mut stream = Stream::new();
    let mut gathered = Gathered::default();
    let mut faults = Vec::new();
    let mut piece = vec![0; PIECE];
    loop {
        let mut take = |record: Result<Record<'_>, LdifError>| {
            faults.extend(record.and_then(|one| gathered.add(one)).err())
        };
        match file.read(&mut piece)? {
            0 => {
                stream.end(take);
                return Ok((gathered.entries, faults));
            }
            count => stream.push(piece.get(..count).unwrap_or(&[]), &mut take),
        }
    }
}
