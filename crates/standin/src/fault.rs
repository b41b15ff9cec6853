//! Faults on request: what a server, or something on the way to it, does wrong.

use std::fmt;
use std::str::FromStr;

/// One fault, and when it comes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Fault {
    /// What goes wrong.
    pub kind: FaultKind,
    /// After so many messages of the server's on a connection; for [`FaultKind::Busy`] and
    /// [`FaultKind::Hurried`] so many searches of it are the ones concerned.
    pub after: u64,
}

/// What goes wrong.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum FaultKind {
    /// The connection ends between two messages.
    Cut,
    /// The connection ends in the middle of a message.
    CutInside,
    /// Nothing comes any more, and the connection stays open.
    Stall,
    /// One byte a second.
    Drip,
    /// The first searches are answered with busy (RFC 4511 appendix A.2).
    Busy,
    /// The first searches end with timeLimitExceeded after one entry; later ones are given time.
    Hurried,
    /// A message with an id that nobody asked with.
    WrongId,
    /// The end of a search comes as an extended response.
    OddEnd,
    /// Every page is empty, and there is always another one.
    EmptyPages,
    /// The same page again and again.
    SamePage,
    /// A Notice of Disconnection (RFC 4511 §4.4.1).
    Notice,
    /// A message that announces 4 GiB.
    Huge,
    /// A length inside a message that reaches beyond it.
    Lie,
    /// Sequences nested 10,000 deep.
    Nested,
    /// Something in plain text behind the answer to StartTLS.
    Injected,
}

/// Every kind with its name.
const KINDS: [(&str, FaultKind); 15] = [
    ("cut", FaultKind::Cut),
    ("cut-inside", FaultKind::CutInside),
    ("stall", FaultKind::Stall),
    ("drip", FaultKind::Drip),
    ("busy", FaultKind::Busy),
    ("hurried", FaultKind::Hurried),
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
    /// Bytes that are sent in place of a message, where the fault is in the bytes.
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

/// Sequences inside each other, as one message.
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

    /// Reads `cut@50`: the kind, and after how many messages.
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
