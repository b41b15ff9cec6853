//! LDIF in pieces: bytes in, records out, one record in memory.

use super::{LONGEST, LdifError, LdifErrorKind, Record, Records};

/// Reads a file piece by piece.
///
/// # Examples
/// ```
/// let mut dns = Vec::new();
/// let mut stream = webtaxon_core::ldap::ldif::Stream::new();
/// for piece in [&b"dn: cn=A"[..], b"da\n\ndn: ", b"cn=Rosa\n"] {
///     stream.push(piece, |record| dns.push(record.unwrap().dn.into_owned()));
/// }
/// stream.end(|record| dns.push(record.unwrap().dn.into_owned()));
/// assert_eq!(dns, ["cn=Ada", "cn=Rosa"]);
/// ```
#[derive(Debug, Default)]
pub struct Stream {
    /// Bytes received and not read yet.
    held: Vec<u8>,
    /// Bytes of it already searched for the end of a record.
    searched: usize,
    /// Lines read.
    line: usize,
    started: bool,
    /// Whether the rest of an oversized record is being skipped.
    skipping: bool,
    longest: usize,
}

impl Stream {
    /// A stream of records of at most [`LONGEST`] bytes.
    #[must_use]
    pub fn new() -> Self {
        Self::within(LONGEST)
    }

    /// A stream of records of at most `longest` bytes.
    #[must_use]
    pub fn within(longest: usize) -> Self {
        Self { longest, ..Self::default() }
    }

    /// Bytes held, for tests of the limit.
    #[cfg(test)]
    pub(super) fn held(&self) -> usize {
        self.held.capacity()
    }

    /// Takes a piece, and passes on each record that ends in it.
    pub fn push(&mut self, piece: &[u8], mut each: impl FnMut(Result<Record<'_>, LdifError>)) {
        self.held.extend_from_slice(piece);
        let mut end = None;
        // A record ends at an empty line; several records in one piece are read together.
        while let Some(at) = self.held.get(self.searched..).and_then(|rest| memchr::memchr(b'\n', rest)) {
            let line = self.searched + at;
            let rest = self.held.get(line + 1..).unwrap_or(&[]);
            // The next line may be an empty one that has not fully arrived.
            let empty = match rest {
                [b'\n', ..] => Some(2),
                [b'\r', b'\n', ..] => Some(3),
                [] | [b'\r'] => break,
                _ => None,
            };
            self.searched = line + 1;
            if let Some(width) = empty {
                end = Some(line + width);
            }
        }
        if let Some(end) = end {
            self.read(end, &mut each);
        }
        if self.held.len() > self.longest {
            if !self.skipping {
                each(Err(LdifErrorKind::TooLong.at(self.line + 1)));
            }
            self.skipping = true;
            // Only the lines of a skipped record count. The last one may still turn out to end it.
            let keep = self.held.len().saturating_sub(2);
            self.line += memchr::memchr_iter(b'\n', self.held.get(..keep).unwrap_or(&[])).count();
            self.held.drain(..keep);
            self.searched = 0;
        }
    }

    /// Passes on what is left at the end of the file.
    pub fn end(mut self, mut each: impl FnMut(Result<Record<'_>, LdifError>)) {
        self.read(self.held.len(), &mut each);
    }

    fn read(&mut self, end: usize, each: &mut impl FnMut(Result<Record<'_>, LdifError>)) {
        let mut text = self.held.get(..end).unwrap_or(&[]);
        if std::mem::take(&mut self.skipping) {
            let ended = [memchr::memmem::find(text, b"\n\n"), memchr::memmem::find(text, b"\n\r\n")];
            let at = ended.into_iter().flatten().min().map_or(text.len(), |at| at + 1);
            let (passed, rest) = text.split_at_checked(at).unwrap_or((text, &[]));
            self.line += memchr::memchr_iter(b'\n', passed).count();
            text = rest;
        }
        let mut records = Records::new(text, self.line, self.started, self.longest);
        records.by_ref().for_each(each);
        (self.line, self.started) = (records.line(), records.started());
        self.held.drain(..end);
        self.searched = self.searched.saturating_sub(end);
    }
}
