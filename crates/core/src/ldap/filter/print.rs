//! The canonical text of a [`Filter`] (RFC 4515 §3), printed without recursion.

use super::{Filter, Item, Octets};
use std::fmt::{self, Display, Formatter, Write};

impl Display for Filter {
    fn fmt(&self, out: &mut Formatter<'_>) -> fmt::Result {
        self.print(out, None)
    }
}

impl Filter {
    /// One clause to a line, children indented by two blanks. [`Filter::parse_pasted`] reads it back.
    #[must_use]
    pub fn indented(&self) -> String {
        let mut out = String::new();
        // Writing to a string cannot fail.
        let _ = self.print(&mut out, Some(0));
        out
    }

    /// Prints on one line, or, with `indent`, one clause to a line.
    fn print(&self, out: &mut impl Write, mut indent: Option<usize>) -> fmt::Result {
        enum Step<'a> {
            Print(&'a Filter),
            Close,
        }
        let begin = |indent: Option<usize>| " ".repeat(indent.unwrap_or(0));
        let end = if indent.is_some() { "\n" } else { "" };
        let mut open = vec![Step::Print(self)];
        while let Some(step) = open.pop() {
            let (sign, parts) = match step {
                Step::Close => {
                    indent = indent.map(|indent| indent - 2);
                    write!(out, "{}){end}", begin(indent))?;
                    continue;
                }
                Step::Print(Filter::Item(item)) => {
                    write!(out, "{}({item}){end}", begin(indent))?;
                    continue;
                }
                Step::Print(Filter::And(parts)) => ("(&", parts.as_slice()),
                Step::Print(Filter::Or(parts)) => ("(|", parts.as_slice()),
                Step::Print(Filter::Not(part)) => ("(!", std::slice::from_ref(&**part)),
            };
            write!(out, "{}{sign}{end}", begin(indent))?;
            indent = indent.map(|indent| indent + 2);
            open.push(Step::Close);
            open.extend(parts.iter().rev().map(Step::Print));
        }
        Ok(())
    }
}

impl Display for Item {
    /// Without the parentheses.
    fn fmt(&self, out: &mut Formatter<'_>) -> fmt::Result {
        match self {
            Item::Equal { attribute, value } => write!(out, "{attribute}={}", Escaped(value)),
            Item::GreaterOrEqual { attribute, value } => write!(out, "{attribute}>={}", Escaped(value)),
            Item::LessOrEqual { attribute, value } => write!(out, "{attribute}<={}", Escaped(value)),
            Item::Approx { attribute, value } => write!(out, "{attribute}~={}", Escaped(value)),
            Item::Present { attribute } => write!(out, "{attribute}=*"),
            Item::Substrings { attribute, initial, any, last } => {
                let end = |piece: &Option<Octets>| Escaped(piece.as_deref().unwrap_or_default()).to_string();
                write!(out, "{attribute}={}*", end(initial))?;
                any.iter().try_for_each(|piece| write!(out, "{}*", Escaped(piece)))?;
                out.write_str(&end(last))
            }
            Item::Extensible { attribute, rule, dn, value } => {
                out.write_str(attribute.as_deref().unwrap_or(""))?;
                out.write_str(if *dn { ":dn" } else { "" })?;
                if let Some(rule) = rule {
                    write!(out, ":{rule}")?;
                }
                write!(out, ":={}", Escaped(value))
            }
        }
    }
}

/// A value with everything escaped but plain text (RFC 4515 §3).
struct Escaped<'a>(&'a [u8]);

impl Display for Escaped<'_> {
    fn fmt(&self, out: &mut Formatter<'_>) -> fmt::Result {
        let Ok(text) = std::str::from_utf8(self.0) else {
            return self.0.iter().try_for_each(|byte| write!(out, "\\{byte:02x}"));
        };
        for character in text.chars() {
            match character {
                '*' | '(' | ')' | '\\' => write!(out, "\\{:02x}", u32::from(character))?,
                control if control.is_ascii_control() => write!(out, "\\{:02x}", u32::from(control))?,
                other => write!(out, "{other}")?,
            }
        }
        Ok(())
    }
}

impl serde::Serialize for Filter {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}
