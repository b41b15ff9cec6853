//! A certificate's SHA-256 fingerprint, in the notation of the settings: `sha256:AB:CD:…`.

use crate::words::TextError;
use std::fmt;
use std::str::FromStr;

/// The SHA-256 of a certificate's DER form.
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
pub struct Fingerprint(pub [u8; 32]);

impl FromStr for Fingerprint {
    type Err = TextError;

    /// Parses `sha256:` and 64 hexadecimal digits, with or without colons between bytes.
    fn from_str(text: &str) -> Result<Self, TextError> {
        let rest = match text.split_at_checked(7) {
            Some((kind, rest)) if kind.eq_ignore_ascii_case("sha256:") => rest,
            _ => return Err("a fingerprint begins with sha256:".into()),
        };
        let digits: Option<Vec<u32>> =
            rest.chars().filter(|character| *character != ':').map(|digit| digit.to_digit(16)).collect();
        let digits = digits.ok_or("a fingerprint is written in hexadecimal digits")?;
        let bytes: Vec<u8> = digits
            .chunks_exact(2)
            .filter_map(|pair| u8::try_from(pair.first()? * 16 + pair.get(1)?).ok())
            .collect();
        match <[u8; 32]>::try_from(bytes) {
            Ok(bytes) if digits.len() == 64 => Ok(Self(bytes)),
            _ => Err(format!("a SHA-256 fingerprint has 64 digits, this one {}", digits.len()).into()),
        }
    }
}

impl Fingerprint {
    /// The form without colons, which fits on one line and can be copied; the form with colons is easier to read
    /// aloud.
    #[must_use]
    pub fn compact(self) -> String {
        self.0.iter().fold("sha256:".to_owned(), |mut text, byte| {
            let _ = fmt::Write::write_fmt(&mut text, format_args!("{byte:02x}"));
            text
        })
    }
}

impl fmt::Display for Fingerprint {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.write_str("sha256")?;
        self.0.iter().try_for_each(|byte| write!(out, ":{byte:02X}"))
    }
}

impl fmt::Debug for Fingerprint {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(out, "{self}")
    }
}

impl serde::Serialize for Fingerprint {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}
