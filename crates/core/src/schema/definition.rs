//! Attribute types as a server publishes them in its subschema (RFC 4512 §4.1.2, §4.2).
//!
//! Tolerant on purpose: servers add words of their own, and quote what the standard does not.

/// One attribute type as a server publishes it.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Published {
    /// The numeric OID, or whatever the server puts in its place.
    pub oid: String,
    /// The short names, the usual one first.
    pub names: Vec<String>,
    /// What it is for, in the server's words.
    pub description: String,
    /// Whether an entry has at most one value.
    pub single: bool,
    /// Whether the server itself keeps it.
    pub operational: bool,
}

impl Published {
    /// Reads a definition like `( 2.5.4.3 NAME ( 'cn' 'commonName' ) SUP name )`; none if it has
    /// no OID.
    #[must_use]
    pub fn parse(text: &str) -> Option<Self> {
        let mut tokens = Tokens(text);
        if tokens.next()? != Token::Open {
            return None;
        }
        let Token::Word(oid) = tokens.next()? else { return None };
        let mut published = Self { oid: oid.to_owned(), ..Self::default() };
        while let Some(token) = tokens.next() {
            match token {
                Token::Word("NAME") => published.names = tokens.list(),
                Token::Word("DESC") => published.description = tokens.list().concat(),
                Token::Word("USAGE") => {
                    published.operational = tokens.list().concat() != "userApplications";
                }
                Token::Word("SINGLE-VALUE") => published.single = true,
                _ => {}
            }
        }
        Some(published)
    }
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
        let rest = self.0.trim_start();
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
                let end = rest.find(|end: char| end.is_whitespace() || matches!(end, '(' | ')' | '\''));
                let end = end.unwrap_or(rest.len());
                (Token::Word(rest.get(..end)?), end)
            }
        };
        self.0 = rest.get(taken..)?;
        Some(token)
    }

    /// One value, or several in parentheses.
    fn list(&mut self) -> Vec<String> {
        let mut list = Vec::new();
        match self.next() {
            Some(Token::Quoted(one) | Token::Word(one)) => list.push(one.to_owned()),
            Some(Token::Open) => {
                while let Some(Token::Quoted(one) | Token::Word(one)) = self.next() {
                    list.push(one.to_owned());
                }
            }
            _ => {}
        }
        list
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn definitions_are_read_as_servers_write_them() {
        for (text, oid, names, single, operational, why) in [
            (
                "( 2.5.4.3 NAME ( 'cn' 'commonName' ) SUP name )",
                "2.5.4.3",
                "cn commonName",
                false,
                false,
                "RFC 4519",
            ),
            (
                "( 1.3.6.1.1.16.4 NAME 'entryUUID' DESC 'UUID of (the) entry' EQUALITY UUIDMatch SINGLE-VALUE NO-USER-MODIFICATION USAGE directoryOperation )",
                "1.3.6.1.1.16.4",
                "entryUUID",
                true,
                true,
                "RFC 4530: parentheses in a quoted text",
            ),
            (
                "( 1.2.840.113556.1.4.221 NAME 'sAMAccountName' SYNTAX '1.3.6.1.4.1.1466.115.121.1.15' SINGLE-VALUE )",
                "1.2.840.113556.1.4.221",
                "sAMAccountName",
                true,
                false,
                "a controller quotes the syntax",
            ),
            ("(2.5.4.0 NAME 'objectClass')", "2.5.4.0", "objectClass", false, false, "without blanks"),
            ("( 1.2 )", "1.2", "", false, false, "no name"),
        ] {
            let read = Published::parse(text).unwrap();
            let found = (read.oid.as_str(), read.names.join(" "), read.single, read.operational);
            assert_eq!(found, (oid, names.to_owned(), single, operational), "{why}");
        }
        for text in ["", "cn", "(", "()", "( 'a' )"] {
            assert_eq!(Published::parse(text), None, "{text}");
        }
    }

    #[test]
    fn what_this_schema_publishes_is_read_back() {
        for known in crate::schema::Schema::builtin().types() {
            let read = Published::parse(&known.definition()).unwrap();
            assert_eq!(
                (read.oid.as_str(), read.names, read.single),
                (known.oid, known.names.iter().map(|name| (*name).to_owned()).collect(), known.single)
            );
        }
    }

    proptest! {
        /// A server may publish anything.
        #[test]
        fn any_text_is_read_or_refused(text in "[( )'A-Z0-9.ä]{0,60}") {
            let _ = Published::parse(&text);
        }
    }
}
