//! Definitions as a server publishes them in its subschema (RFC 4512 §4.1, §4.2).
//!
//! Tolerant on purpose: servers add keywords of their own, and quote what the standard does not. One pass, no
//! recursion; a text longer than [`LONGEST`] is refused.

use super::{AttributeType, ClassKind, MatchingRule, ObjectClass, Syntax};
use thiserror::Error;

/// The longest definition accepted, in bytes.
pub const LONGEST: usize = 1 << 18;

/// Why a definition was refused.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum DefinitionError {
    /// It is not in parentheses.
    #[error("a definition is written in parentheses, as in ( 2.5.4.3 NAME 'cn' )")]
    NoParentheses,
    /// The numeric OID is missing.
    #[error("a definition begins with its numeric OID")]
    NoOid,
    /// It ends too early.
    #[error("the definition ends too early")]
    NotEnded,
    /// It is longer than [`LONGEST`].
    #[error("it is too long")]
    TooLong,
}

impl AttributeType {
    /// Parses a definition like `( 2.5.4.3 NAME ( 'cn' 'commonName' ) SUP name )` (§4.1.2).
    ///
    /// # Errors
    /// The text is not such a definition.
    pub fn parse(text: &str) -> Result<Self, DefinitionError> {
        let mut read = Self::default();
        read.oid = definition(text, |word, values| match word {
            "NAME" => read.names = values,
            "DESC" => read.description = values.concat(),
            "SUP" => read.superior = values.into_iter().next(),
            "EQUALITY" => read.equality = values.into_iter().next(),
            "ORDERING" => read.ordering = values.into_iter().next(),
            "SUBSTR" => read.substrings = values.into_iter().next(),
            // The length in braces is only a suggestion (RFC 4517 §3.2).
            "SYNTAX" => {
                read.syntax = values.first().and_then(|syntax| syntax.split('{').next()).map(str::to_owned)
            }
            "SINGLE-VALUE" => read.single = true,
            "USAGE" => read.operational = values.concat() != "userApplications",
            _ => {}
        })?;
        Ok(read)
    }
}

impl MatchingRule {
    /// Parses a definition like `( 2.5.13.2 NAME 'caseIgnoreMatch' SYNTAX … )` (§4.1.3).
    ///
    /// # Errors
    /// The text is not such a definition.
    pub fn parse(text: &str) -> Result<Self, DefinitionError> {
        let mut read = Self::default();
        read.oid = definition(text, |word, values| match word {
            "NAME" => read.names = values,
            "SYNTAX" => read.syntax = values.concat(),
            _ => {}
        })?;
        Ok(read)
    }
}

impl Syntax {
    /// Parses a definition like `( 1.3.6.1.4.1.1466.115.121.1.27 DESC 'Integer' )` (§4.1.5).
    ///
    /// # Errors
    /// The text is not such a definition.
    pub fn parse(text: &str) -> Result<Self, DefinitionError> {
        let mut read = Self::default();
        read.oid = definition(text, |word, values| {
            if word == "DESC" {
                read.description = values.concat();
            }
        })?;
        Ok(read)
    }
}

impl ObjectClass {
    /// Parses a definition like `( 2.5.6.6 NAME 'person' SUP top STRUCTURAL MUST ( sn $ cn ) )` (§4.1.1).
    ///
    /// # Errors
    /// The text is not such a definition.
    pub fn parse(text: &str) -> Result<Self, DefinitionError> {
        let mut read = Self::default();
        read.oid = definition(text, |word, values| match word {
            "NAME" => read.names = values,
            "SUP" => read.superiors = values,
            "ABSTRACT" => read.kind = ClassKind::Abstract,
            "AUXILIARY" => read.kind = ClassKind::Auxiliary,
            "MUST" => read.must = values,
            "MAY" => read.may = values,
            _ => {}
        })?;
        Ok(read)
    }
}

/// Keywords without a value.
const ALONE: [&str; 7] =
    ["OBSOLETE", "SINGLE-VALUE", "COLLECTIVE", "NO-USER-MODIFICATION", "ABSTRACT", "STRUCTURAL", "AUXILIARY"];

/// Parses one definition: its OID, and each keyword with its values.
fn definition(text: &str, mut found: impl FnMut(&str, Vec<String>)) -> Result<String, DefinitionError> {
    if text.len() > LONGEST {
        return Err(DefinitionError::TooLong);
    }
    let mut tokens = Tokens(text);
    if tokens.next() != Some(Token::Open) {
        return Err(DefinitionError::NoParentheses);
    }
    let Some(Token::Word(oid)) = tokens.next() else { return Err(DefinitionError::NoOid) };
    if !is_name(oid) {
        return Err(DefinitionError::NoOid);
    }
    loop {
        match tokens.next() {
            Some(Token::Word(word)) if ALONE.contains(&word) => found(word, Vec::new()),
            Some(Token::Word(word)) => {
                let mut values = tokens.list().ok_or(DefinitionError::NotEnded)?;
                if word == "NAME" {
                    values.retain(|name| is_name(name));
                }
                found(word, values);
            }
            Some(Token::Close) => return Ok(oid.to_owned()),
            Some(_) => {}
            None => return Err(DefinitionError::NotEnded),
        }
    }
}

/// Whether the name can be requested as an attribute; options would follow a semicolon.
fn is_name(name: &str) -> bool {
    !name.is_empty() && !name.contains(';')
}

#[derive(Debug, PartialEq, Eq)]
enum Token<'t> {
    Open,
    Close,
    Word(&'t str),
    Quoted(&'t str),
}

struct Tokens<'t>(&'t str);

impl<'t> Tokens<'t> {
    fn next(&mut self) -> Option<Token<'t>> {
        // A dollar sign separates the OIDs of a list.
        let rest = self.0.trim_start_matches(|between: char| between.is_whitespace() || between == '$');
        let first = rest.chars().next()?;
        let (token, taken) = match first {
            '(' => (Token::Open, 1),
            ')' => (Token::Close, 1),
            '\'' => {
                let inside = rest.get(1..)?;
                let end = inside.find('\'').unwrap_or(inside.len());
                (Token::Quoted(inside.get(..end)?), (end + 2).min(rest.len()))
            }
            _ => {
                let end = rest.find(|end: char| end.is_whitespace() || matches!(end, '(' | ')' | '\'' | '$'));
                let end = end.unwrap_or(rest.len());
                (Token::Word(rest.get(..end)?), end)
            }
        };
        self.0 = rest.get(taken..)?;
        Some(token)
    }

    /// One value, or several in parentheses; `None` if the text ends first.
    fn list(&mut self) -> Option<Vec<String>> {
        let mut list = Vec::new();
        match self.next()? {
            Token::Quoted(one) | Token::Word(one) => list.push(one.to_owned()),
            Token::Open => loop {
                match self.next()? {
                    Token::Quoted(one) | Token::Word(one) => list.push(one.to_owned()),
                    Token::Close => break,
                    Token::Open => {}
                }
            },
            Token::Close => {}
        }
        Some(list)
    }
}
