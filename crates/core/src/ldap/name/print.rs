//! From a [`Dn`] to its string form (RFC 4514 §2).

use super::{Ava, Dn, Rdn};
use std::fmt::{self, Display, Formatter};
use std::str::FromStr;

impl Display for Dn {
    fn fmt(&self, out: &mut Formatter<'_>) -> fmt::Result {
        for (index, rdn) in self.rdns.iter().enumerate() {
            write!(out, "{}{rdn}", if index == 0 { "" } else { "," })?;
        }
        Ok(())
    }
}

impl Display for Rdn {
    fn fmt(&self, out: &mut Formatter<'_>) -> fmt::Result {
        for (index, ava) in self.avas.iter().enumerate() {
            write!(out, "{}{ava}", if index == 0 { "" } else { "+" })?;
        }
        Ok(())
    }
}

impl Display for Ava {
    fn fmt(&self, out: &mut Formatter<'_>) -> fmt::Result {
        write!(out, "{}=", self.attribute)?;
        if self.encoded {
            out.write_str("#")?;
            return self.value.iter().try_for_each(|byte| write!(out, "{byte:02X}"));
        }
        let Ok(text) = std::str::from_utf8(&self.value) else {
            return self.value.iter().try_for_each(|byte| write!(out, "\\{byte:02X}"));
        };
        let last = text.chars().count().saturating_sub(1);
        for (index, character) in text.chars().enumerate() {
            match character {
                '"' | '+' | ',' | ';' | '<' | '>' | '\\' => write!(out, "\\{character}")?,
                '#' if index == 0 => out.write_str("\\#")?,
                ' ' if index == 0 || index == last => out.write_str("\\ ")?,
                control if control.is_ascii_control() => write!(out, "\\{:02X}", u32::from(control))?,
                other => write!(out, "{other}")?,
            }
        }
        Ok(())
    }
}

impl FromStr for Dn {
    type Err = super::DnError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        Self::parse(text)
    }
}

impl serde::Serialize for Dn {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}
