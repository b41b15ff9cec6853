//! A search result entry (RFC 4511 §4.5.2), decoded by hand: most of a server's messages are entries, and the codec
//! allocates for every value.
//!
//! One pass checks every length; the checked bytes are kept in one allocation, and iterated without checks that could
//! fail. No recursion.

use crate::message::SearchResultEntry;
use crate::{ProtocolError, ProtocolErrorKind};
use std::ops::Range;

const SEQUENCE: u8 = 0x30;
const SET: u8 = 0x31;
const INTEGER: u8 = 0x02;
const OCTETS: u8 = 0x04;
/// The tag of a SearchResultEntry, and that of controls after it.
pub(crate) const ENTRY: u8 = 0x64;
const CONTROLS: u8 = 0xa0;

/// One entry as received: its name, and its attributes with their values.
#[derive(Clone, PartialEq, Eq)]
pub struct ReceivedEntry {
    /// The checked content of the attribute list.
    bytes: Box<[u8]>,
    name: usize,
}

impl std::fmt::Debug for ReceivedEntry {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(out, "ReceivedEntry({:?})", String::from_utf8_lossy(self.name()))
    }
}

/// A sequence of BER values with definite lengths (RFC 4511 §5.1).
#[derive(Clone, Copy)]
struct Elements<'b>(&'b [u8]);

impl<'b> Elements<'b> {
    /// The tag and the content of the next value; `None` if it is incomplete or invalid.
    fn next(&mut self) -> Option<(u8, &'b [u8])> {
        let (head, rest) = self.0.split_first_chunk::<2>()?;
        let [tag, first] = *head;
        let (length, rest) = if first < 0x80 {
            (usize::from(first), rest)
        } else {
            let count = usize::from(first & 0x7f);
            if !(1..=8).contains(&count) {
                return None;
            }
            let (digits, rest) = rest.split_at_checked(count)?;
            let length = digits.iter().fold(0_u64, |length, byte| (length << 8) | u64::from(*byte));
            (usize::try_from(length).ok()?, rest)
        };
        let (content, rest) = rest.split_at_checked(length)?;
        self.0 = rest;
        Some((tag, content))
    }

    fn take(&mut self, tag: u8) -> Option<&'b [u8]> {
        self.next().filter(|(its, _)| *its == tag).map(|(_, content)| content)
    }
}

/// The message id and the operation's tag of a complete message; `None` if it has no valid header.
pub(crate) fn head(message: &[u8]) -> Option<(u32, u8)> {
    let mut inside = Elements(Elements(message).take(SEQUENCE)?);
    let id = inside.take(INTEGER).filter(|digits| {
        (1..=4).contains(&digits.len()) && digits.first().is_some_and(|first| *first < 0x80)
    })?;
    let id = id.iter().fold(0, |id, byte| (id << 8) | u32::from(*byte));
    Some((id, *inside.0.first()?))
}

impl ReceivedEntry {
    /// Decodes a complete message that [`head`] identifies as an entry.
    ///
    /// # Errors
    /// [`ProtocolErrorKind::Malformed`] for anything that is not one.
    pub(crate) fn decode(message: &[u8]) -> Result<Self, ProtocolError> {
        Self::read(message).ok_or_else(|| ProtocolErrorKind::Malformed.into())
    }

    fn read(message: &[u8]) -> Option<Self> {
        let mut outer = Elements(message);
        let mut inside = Elements(outer.take(SEQUENCE)?);
        inside.take(INTEGER)?;
        let mut entry = Elements(inside.take(ENTRY)?);
        let name = entry.take(OCTETS)?;
        let attributes = entry.take(SEQUENCE)?;
        if !outer.0.is_empty() || !entry.0.is_empty() {
            return None;
        }
        if !inside.0.is_empty() && (inside.take(CONTROLS).is_none() || !inside.0.is_empty()) {
            return None;
        }
        let mut list = Elements(attributes);
        while !list.0.is_empty() {
            let mut attribute = Elements(list.take(SEQUENCE)?);
            attribute.take(OCTETS)?;
            let mut values = Elements(attribute.take(SET)?);
            if !attribute.0.is_empty() {
                return None;
            }
            while !values.0.is_empty() {
                values.take(OCTETS)?;
            }
        }
        Some(Self { bytes: [name, attributes].concat().into(), name: name.len() })
    }

    fn part(&self, range: Range<usize>) -> &[u8] {
        self.bytes.get(range).unwrap_or(&[])
    }

    /// The entry's name.
    #[must_use]
    pub fn name(&self) -> &[u8] {
        self.part(0..self.name)
    }

    /// Each attribute description with its values, in the order received.
    pub fn attributes(&self) -> impl Iterator<Item = (&[u8], impl Iterator<Item = &[u8]>)> {
        let mut list = Elements(self.part(self.name..self.bytes.len()));
        std::iter::from_fn(move || {
            let mut attribute = Elements(list.take(SEQUENCE)?);
            let description = attribute.take(OCTETS)?;
            let mut values = Elements(attribute.take(SET)?);
            Some((description, std::iter::from_fn(move || values.take(OCTETS))))
        })
    }

    /// Each attribute whose description is valid text, as the standard requires.
    pub fn attributes_as_text(&self) -> impl Iterator<Item = (&str, impl Iterator<Item = &[u8]>)> {
        self.attributes().filter_map(|(name, values)| Some((std::str::from_utf8(name).ok()?, values)))
    }
}

impl From<&SearchResultEntry> for ReceivedEntry {
    fn from(from: &SearchResultEntry) -> Self {
        let mut bytes = from.name.to_vec();
        for attribute in &from.attributes {
            let mut values = Vec::new();
            attribute.values.iter().for_each(|value| put(&mut values, OCTETS, value));
            let mut inside = Vec::new();
            put(&mut inside, OCTETS, &attribute.description);
            put(&mut inside, SET, &values);
            put(&mut bytes, SEQUENCE, &inside);
        }
        Self { bytes: bytes.into(), name: from.name.len() }
    }
}

fn put(out: &mut Vec<u8>, tag: u8, content: &[u8]) {
    out.push(tag);
    match u8::try_from(content.len()) {
        Ok(length) if length < 0x80 => out.push(length),
        _ => {
            out.push(0x88);
            out.extend(u64::try_from(content.len()).unwrap_or(u64::MAX).to_be_bytes());
        }
    }
    out.extend_from_slice(content);
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::message::{Message, Octets, Operation, PartialAttribute};
    use proptest::prelude::*;

    fn message(id: u32, entry: &SearchResultEntry) -> Vec<u8> {
        Message::new(id, Operation::SearchResultEntry(entry.clone())).encode().unwrap()
    }

    #[test]
    fn what_is_not_sound_is_refused() {
        let good = [
            0x30, 0x1b, 2, 1, 1, 0x64, 0x16, 4, 4, b'c', b'n', b'=', b'a', 0x30, 0x0e, 0x30, 0x0c, 4, 2,
            b'c', b'n', 0x31, 6, 4, 1, b'b', 4, 1, b'a',
        ];
        let entry = ReceivedEntry::decode(&good).unwrap();
        assert_eq!(entry.name(), b"cn=a");
        let values: Vec<&[u8]> = entry.attributes().flat_map(|(_, values)| values).collect();
        assert_eq!(values, [b"b", b"a"]);
        for at in 0..good.len() {
            assert!(ReceivedEntry::decode(&good[..at]).is_err(), "cut at {at}");
        }
        for (at, byte, why) in [
            (6, 0x17, "a length beyond the message"),
            (6, 0x15, "something behind the attributes"),
            (8, 5, "a name beyond the entry"),
            (7, 0x24, "a name in pieces (RFC 4511 5.1 (2))"),
            (13, 0x31, "a set in place of the list"),
            (16, 0x80, "an indefinite length"),
            (21, 0x30, "a list in place of the set"),
            (24, 2, "a value beyond its set"),
        ] {
            let mut bad = good;
            bad[at] = byte;
            assert!(ReceivedEntry::decode(&bad).is_err(), "{why}");
        }
    }

    proptest! {
        /// By hand and by the codec, the same is read.
        #[test]
        fn what_the_codec_writes_is_read(
            id in 1u32..0x7fff_ffff,
            name in proptest::collection::vec(any::<u8>(), 0..300),
            attributes in proptest::collection::vec(
                (proptest::collection::vec(any::<u8>(), 0..20),
                 proptest::collection::vec(proptest::collection::vec(any::<u8>(), 0..300), 0..4)), 0..5),
        ) {
            let octets = |bytes: &Vec<u8>| Octets::from_slice(bytes);
            let entry = SearchResultEntry {
                name: octets(&name),
                attributes: attributes.iter().map(|(description, values)| PartialAttribute {
                    description: octets(description),
                    values: values.iter().map(octets).collect(),
                }).collect(),
            };
            let bytes = message(id, &entry);
            prop_assert_eq!(head(&bytes), Some((id, ENTRY)));
            let read = ReceivedEntry::decode(&bytes).unwrap();
            prop_assert_eq!(read.name(), &name);
            let found: Vec<(Vec<u8>, Vec<Vec<u8>>)> = read
                .attributes()
                .map(|(description, values)| (description.to_vec(), values.map(<[u8]>::to_vec).collect()))
                .collect();
            prop_assert_eq!(&found, &attributes);
            let built = ReceivedEntry::from(&entry);
            prop_assert_eq!(built.name(), read.name());
            prop_assert_eq!(built.attributes().count(), attributes.len());
        }

        /// Any bytes are read or refused; what is accepted can be gone through.
        #[test]
        fn any_bytes_are_read_or_refused(bytes in proptest::collection::vec(any::<u8>(), 0..60), front in 0usize..3) {
            let fronts: [&[u8]; 3] = [&[], &[0x30, 30, 2, 1, 1, 0x64, 25], &[0x30, 30, 2, 1, 1, 0x64, 25, 4, 1, b'a', 0x30, 20]];
            let bytes = [fronts[front], &bytes].concat();
            let _ = head(&bytes);
            if let Ok(entry) = ReceivedEntry::decode(&bytes) {
                prop_assert!(Message::decode(&bytes).is_ok(), "the codec takes it, too");
                let _ = entry.attributes().map(|(_, values)| values.count()).sum::<usize>();
            }
        }
    }
}
