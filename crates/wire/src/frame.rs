//! Where one LDAP message ends in a stream of bytes (RFC 4511 §5.1), within a size limit.
//!
//! A message's header announces its length; nothing is allocated before the length was checked, and nothing is kept
//! beyond the messages that have arrived.

use crate::{ProtocolError, ProtocolErrorKind};

/// The message limit, 16 MiB, for a peer that has not yet proved to speak LDAP.
pub const MESSAGE_LIMIT: usize = 16 << 20;

/// The message limit, 256 MiB, for an LDAP server: a group can have millions of members, and most servers return all
/// of them in one entry.
pub const ENTRY_LIMIT: usize = 256 << 20;

/// The size of the message at the front of `bytes`, including its header; `None` if the header is incomplete.
///
/// # Errors
/// [`ProtocolErrorKind::Malformed`] if this cannot be an LDAP message (another tag, an indefinite or oversized length
/// form), [`ProtocolErrorKind::TooLarge`] beyond `limit`.
pub fn size(bytes: &[u8], limit: usize) -> Result<Option<usize>, ProtocolError> {
    let malformed = || ProtocolError::from(ProtocolErrorKind::Malformed);
    match bytes.first() {
        None => return Ok(None),
        Some(0x30) => {}
        Some(_) => return Err(malformed()),
    }
    let Some(&first) = bytes.get(1) else { return Ok(None) };
    if first < 0x80 {
        return Ok(Some(2 + usize::from(first)));
    }
    let count = usize::from(first & 0x7f);
    if count == 0 || count > 8 {
        return Err(malformed());
    }
    let Some(digits) = bytes.get(2..2 + count) else { return Ok(None) };
    let announced = digits.iter().fold(0u64, |length, byte| (length << 8) | u64::from(*byte));
    match usize::try_from(announced) {
        Ok(length) if length <= limit => Ok(Some(2 + count + length)),
        _ => Err(ProtocolErrorKind::TooLarge { announced, limit }.into()),
    }
}

/// Received bytes not yet read as messages.
#[derive(Debug, Default)]
pub struct Inbox {
    bytes: Vec<u8>,
    read: usize,
    /// The position that [`Inbox::look_ahead`] has reached.
    looked: usize,
}

impl Inbox {
    /// Adds received bytes.
    pub fn feed(&mut self, bytes: &[u8]) {
        if self.read == self.bytes.len() {
            self.bytes.clear();
            (self.read, self.looked) = (0, 0);
        } else if self.read > self.bytes.len() / 2 {
            self.bytes.drain(..self.read);
            self.looked = self.looked.saturating_sub(self.read);
            self.read = 0;
        }
        self.bytes.extend_from_slice(bytes);
    }

    /// Whether every received byte has been read.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.read == self.bytes.len()
    }

    /// The next complete message after those already looked at. It remains to be read in its turn. An invalid one
    /// ends the look-ahead, and is reported when it is read.
    pub fn look_ahead(&mut self, limit: usize) -> Option<&[u8]> {
        let from = self.looked.max(self.read);
        let size = size(self.bytes.get(from..)?, limit).ok().flatten()?;
        let message = self.bytes.get(from..from + size)?;
        self.looked = from + size;
        Some(message)
    }

    /// The next complete message, if one has arrived.
    ///
    /// # Errors
    /// As [`size`].
    pub fn next(&mut self, limit: usize) -> Result<Option<&[u8]>, ProtocolError> {
        let waiting = self.bytes.get(self.read..).unwrap_or(&[]);
        let Some(size) = size(waiting, limit)? else { return Ok(None) };
        if waiting.len() < size {
            return Ok(None);
        }
        let start = self.read;
        self.read += size;
        Ok(self.bytes.get(start..self.read))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn the_header_tells_the_size_or_is_refused() {
        let too_large = |announced| Err(ProtocolErrorKind::TooLarge { announced, limit: 1000 });
        for (bytes, expected, why) in [
            (&[][..], Ok(None), "nothing yet"),
            (&[0x30], Ok(None), "half a header"),
            (&[0x30, 5], Ok(Some(7)), "the short form"),
            (&[0x30, 0x82, 1], Ok(None), "half a length"),
            (&[0x30, 0x82, 3, 0xe8], Ok(Some(1004)), "the limit itself"),
            (&[0x30, 0x82, 3, 0xe9], too_large(1001), "one more than the limit"),
            (&[0x30, 0x84, 0xff, 0xff, 0xff, 0xff], too_large(0xffff_ffff), "4 GiB"),
            (&[0x30, 0x88, 0xff, 0, 0, 0, 0, 0, 0, 0], too_large(0xff00_0000_0000_0000), "beyond any memory"),
            (&[0x30, 0x80], Err(ProtocolErrorKind::Malformed), "indefinite"),
            (&[0x30, 0x89], Err(ProtocolErrorKind::Malformed), "a length of nine bytes"),
            (b"HTTP/1.1 400", Err(ProtocolErrorKind::Malformed), "another protocol"),
        ] {
            assert_eq!(size(bytes, 1000).map_err(|error| error.kind().clone()), expected, "{why}");
        }
    }

    proptest! {
        /// Messages come out whole and in order, however the bytes are cut.
        #[test]
        fn messages_survive_any_cutting(
            bodies in proptest::collection::vec(proptest::collection::vec(any::<u8>(), 0..300), 0..12),
            cut in 1usize..64,
        ) {
            let frame = |body: &Vec<u8>| {
                let length = u16::try_from(body.len()).unwrap().to_be_bytes();
                [&[0x30, 0x82], &length[..], body].concat()
            };
            let frames: Vec<Vec<u8>> = bodies.iter().map(frame).collect();
            let mut inbox = Inbox::default();
            let mut out = Vec::new();
            for piece in frames.concat().chunks(cut) {
                inbox.feed(piece);
                while let Some(message) = inbox.next(1000).unwrap() {
                    out.push(message.to_vec());
                }
            }
            prop_assert_eq!(out, frames);
        }
    }
}
