//! Definitions as a server publishes them in its subschema (RFC 4512 §4.1, §4.2).
//!
//! Tolerant on purpose: servers add words of their own, and quote what the standard does not.
//! One pass, no recursion; a text longer than [`LONGEST`] is refused.

use super::{AttributeType, ClassKind, MatchingRule, ObjectClass, Syntax};
use thiserror::Error;

/// The longest definition that is read, in bytes.
pub const LONGEST: usize = 1 << 18;

/// Why a definition cannot be read.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum DefinitionError {
    /// It does not stand in parentheses.
    #[error("a definition stands in parentheses, as in ( 2.5.4.3 NAME 'cn' )")]
    NoParentheses,
    /// The numeric OID in front is missing.
    #[error("a definition begins with its numeric OID")]
    NoOid,
    /// It ends in the middle.
    #[error("the definition ends in the middle")]
    NotEnded,
    /// It is longer than is allowed.
    #[error("it is longer than is allowed")]
    TooLong,
}

impl AttributeType {
    /// Reads a definition like `( 2.5.4.3 NAME ( 'cn' 'commonName' ) SUP name )` (§4.1.2).
    ///
    /// # Errors
    /// It is none.
    pub fn parse(text: &str) -> Result<Self, DefinitionError> {
        let mut read = Self::default();
        read.oid = definition(text, |word, values| match word {
            "NAME" => read.names = values,
            "DESC" => read.description = values.concat(),
            "SUP" => read.superior = values.into_iter().next(),
            "EQUALITY" => read.equality = values.into_iter().next(),
            "ORDERING" => read.ordering = values.into_iter().next(),
            "SUBSTR" => read.substrings = values.into_iter().next(),
            // The length that may follow in braces is a suggestion (RFC 4517 §3.2).
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
    /// Reads a definition like `( 2.5.13.2 NAME 'caseIgnoreMatch' SYNTAX … )` (§4.1.3).
    ///
    /// # Errors
    /// It is none.
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
    /// Reads a definition like `( 1.3.6.1.4.1.1466.115.121.1.27 DESC 'Integer' )` (§4.1.5).
    ///
    /// # Errors
    /// It is none.
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
    /// Reads a definition like `( 2.5.6.6 NAME 'person' SUP top STRUCTURAL MUST ( sn $ cn ) )`
    /// (§4.1.1).
    ///
    /// # Errors
    /// It is none.
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

/// Words that stand alone.
const ALONE: [&str; 7] =
    ["OBSOLETE", "SINGLE-VALUE", "COLLECTIVE", "NO-USER-MODIFICATION", "ABSTRACT", "STRUCTURAL", "AUXILIARY"];

/// Reads one definition: its OID, and each word with its values.
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

/// Whether something can be asked for by this name: options follow behind a semicolon.
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
        // A dollar sign stands between the OIDs of a list.
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

    /// One value, or several in parentheses; none where the text ends first.
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
