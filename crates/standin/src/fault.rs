//! Faults of a server, or of something in front of it, for tests.

use std::fmt;
use std::str::FromStr;

/// One fault, and when it occurs.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Fault {
    /// The kind of fault.
    pub kind: FaultKind,
    /// The number of messages on a connection before it occurs; for [`FaultKind::Busy`] and [`FaultKind::Hurried`]
    /// the number of searches affected, for [`FaultKind::Short`] the number of entries.
    pub after: u64,
}

/// The kinds of fault.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum FaultKind {
    /// The connection ends between two messages.
    Cut,
    /// The connection ends in the middle of a message.
    CutInside,
    /// Nothing more arrives, and the connection stays open.
    Stall,
    /// One byte a second arrives.
    Drip,
    /// The first searches fail with busy (RFC 4511 appendix A.2).
    Busy,
    /// The first searches end with timeLimitExceeded after one entry.
    Hurried,
    /// Every search ends with success after so many entries, also if there are more.
    Short,
    /// A message with an unknown id.
    WrongId,
    /// The end of a search arrives as an extended response.
    OddEnd,
    /// Every page is empty, and always followed by another.
    EmptyPages,
    /// The same page again and again.
    SamePage,
    /// A Notice of Disconnection (RFC 4511 §4.4.1).
    Notice,
    /// A message that announces 4 GiB.
    Huge,
    /// A length inside a message that exceeds it.
    Lie,
    /// Sequences nested 10,000 deep.
    Nested,
    /// Plain text after the response to StartTLS.
    Injected,
}

/// Every kind with its name.
const KINDS: [(&str, FaultKind); 16] = [
    ("cut", FaultKind::Cut),
    ("cut-inside", FaultKind::CutInside),
    ("stall", FaultKind::Stall),
    ("drip", FaultKind::Drip),
    ("busy", FaultKind::Busy),
    ("hurried", FaultKind::Hurried),
    ("short", FaultKind::Short),
    ("wrong-id", FaultKind::WrongId),
    ("odd-end", FaultKind::OddEnd),
    ("empty-pages", FaultKind::EmptyPages),
    ("same-page", FaultKind::SamePage),
    ("notice", FaultKind::Notice),
    ("huge", FaultKind::Huge),
    ("lie", FaultKind::Lie),
    ("nested", FaultKind::Nested),
    ("injected", FaultKind::Injected),
];

impl Fault {
    /// Bytes sent instead of a message, for faults in the bytes.
    pub(crate) fn bytes(self, id: u32) -> Option<Vec<u8>> {
        let id = u8::try_from(id & 0x7f).unwrap_or(1);
        match self.kind {
            FaultKind::Huge => Some(vec![0x30, 0x84, 0xff, 0xff, 0xff, 0xff, 2, 1, id]),
            FaultKind::Lie => Some(vec![0x30, 7, 2, 1, id, 0x64, 0x7f, 4, 0]),
            FaultKind::Nested => Some(nested(10_000)),
            _ => None,
        }
    }
}

/// Nested sequences, as one message.
fn nested(depth: usize) -> Vec<u8> {
    let mut backwards: Vec<u8> = Vec::new();
    for _ in 0..depth {
        let length = u32::try_from(backwards.len()).unwrap_or(u32::MAX).to_le_bytes();
        backwards.extend(length);
        backwards.extend([0x84, 0x30]);
    }
    backwards.reverse();
    backwards
}

impl FromStr for Fault {
    type Err = String;

    /// Parses `cut@50`: the kind, and the number of messages before it.
    fn from_str(text: &str) -> Result<Self, String> {
        let (name, after) = text.split_once('@').unwrap_or((text, "0"));
        let kind = KINDS.iter().find(|(known, _)| *known == name).map(|(_, kind)| *kind);
        let names = || KINDS.map(|(name, _)| name).join(", ");
        let kind = kind.ok_or_else(|| format!("{name} is no fault; there are {}", names()))?;
        let after = after.parse().map_err(|_| format!("{after} is not a number of messages"))?;
        Ok(Self { kind, after })
    }
}

impl fmt::Display for Fault {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        let name = KINDS.iter().find(|(_, kind)| *kind == self.kind).map_or("", |(name, _)| name);
        write!(out, "{name}@{}", self.after)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn faults_are_read_as_they_are_written() {
        for (name, kind) in KINDS {
            let fault = Fault { kind, after: 7 };
            assert_eq!(format!("{name}@7").parse(), Ok(fault));
            assert_eq!(fault.to_string().parse(), Ok(fault));
        }
        assert_eq!("cut".parse(), Ok(Fault { kind: FaultKind::Cut, after: 0 }));
        assert!(
            "cut@soon".parse::<Fault>().is_err() && "nap@1".parse::<Fault>().unwrap_err().contains("stall")
        );
    }

    #[test]
    fn nested_sequences_are_one_message() {
        assert_eq!(nested(2), [0x30, 0x84, 0, 0, 0, 6, 0x30, 0x84, 0, 0, 0, 0]);
        assert_eq!(webtaxon_wire::frame::size(&nested(10_000), 1 << 20), Ok(Some(60_000)));
    }
}
