//! Repairs of pasted text that is nearly a filter and has only one possible meaning: missing outer parentheses,
//! blanks between clauses, quotation marks around it, typographic characters from a mail or a document. Each repair
//! is reported.

use super::{Filter, FilterError, Limits};
use std::borrow::Cow;

/// A filter, and the repairs that its text needed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Repaired {
    /// The filter.
    pub filter: Filter,
    /// The repairs, in words; empty if the text was a filter as it stood.
    pub remarks: Vec<&'static str>,
}

/// Full-width and typographic characters, and what they stand for.
const PLAIN: [(char, char); 14] = [
    ('（', '('),
    ('）', ')'),
    ('＆', '&'),
    ('｜', '|'),
    ('！', '!'),
    ('＝', '='),
    ('＊', '*'),
    ('＞', '>'),
    ('＜', '<'),
    ('～', '~'),
    ('：', ':'),
    ('＼', '\\'),
    ('\u{a0}', ' '),
    ('\u{200b}', ' '),
];

/// Character references of HTML (the five of XML, and parentheses).
const REFERENCES: [(&str, &str); 9] = [
    ("&lt;", "<"),
    ("&gt;", ">"),
    ("&quot;", "\""),
    ("&apos;", "'"),
    ("&#39;", "'"),
    ("&#40;", "("),
    ("&#41;", ")"),
    ("&#42;", "*"),
    ("&amp;", "&"),
];

/// Quotation marks that may surround a text.
const QUOTES: [(char, char); 6] = [('"', '"'), ('\'', '\''), ('“', '”'), ('„', '“'), ('‘', '’'), ('`', '`')];

impl Filter {
    /// Parses a filter as [`Filter::parse`] does, and repairs the text where that fails.
    ///
    /// # Errors
    /// The first fault left after every possible repair.
    pub fn parse_pasted(text: &str) -> Result<Repaired, FilterError> {
        type Repair = (&'static str, fn(&str) -> Cow<'_, str>);
        let repairs: [Repair; 5] = [
            ("HTML character references were resolved", references),
            ("typographic characters were replaced by plain ones", plain),
            ("surrounding quotation marks and blanks were removed", unquoted),
            ("blanks and line breaks between clauses were removed", tight),
            ("the outer parentheses were added", wrapped),
        ];
        let mut remarks = Vec::new();
        let mut text = Cow::Borrowed(text);
        let mut failed = match Filter::parse(&text) {
            Ok(filter) => return Ok(Repaired { filter, remarks }),
            Err(error) => error,
        };
        if text.len() > Limits::default().bytes {
            return Err(failed);
        }
        for (remark, repair) in repairs {
            let mended = repair(&text).into_owned();
            if mended == *text {
                continue;
            }
            text = Cow::Owned(mended);
            remarks.push(remark);
            failed = match Filter::parse(&text) {
                Ok(filter) => return Ok(Repaired { filter, remarks }),
                Err(error) => error,
            };
        }
        Err(failed)
    }
}

fn references(text: &str) -> Cow<'_, str> {
    REFERENCES.iter().fold(Cow::Borrowed(text), |text, (reference, character)| {
        if text.contains(reference) { Cow::Owned(text.replace(reference, character)) } else { text }
    })
}

fn plain(text: &str) -> Cow<'_, str> {
    let of = |character: char| PLAIN.iter().find(|(odd, _)| *odd == character).map(|(_, plain)| *plain);
    if text.chars().any(|character| of(character).is_some()) {
        Cow::Owned(text.chars().map(|character| of(character).unwrap_or(character)).collect())
    } else {
        Cow::Borrowed(text)
    }
}

fn unquoted(text: &str) -> Cow<'_, str> {
    let trimmed = text.trim();
    let inside = QUOTES.iter().find_map(|(open, close)| trimmed.strip_prefix(*open)?.strip_suffix(*close));
    Cow::Borrowed(inside.unwrap_or(trimmed).trim())
}

/// Removes blanks that cannot belong to a value: after an opening parenthesis or an operator, and after a closing
/// parenthesis.
fn tight(text: &str) -> Cow<'_, str> {
    let mut out = String::with_capacity(text.len());
    let mut between = true;
    for character in text.chars() {
        if between && character.is_whitespace() {
            continue;
        }
        between = match character {
            '(' | ')' => true,
            '&' | '|' | '!' => between,
            _ => false,
        };
        out.push(character);
    }
    if out == text { Cow::Borrowed(text) } else { Cow::Owned(out) }
}

fn wrapped(text: &str) -> Cow<'_, str> {
    // One comparison, or a joining clause with its children: anything else is ambiguous.
    let begins = text.starts_with(['&', '|', '!']) || (!text.starts_with('(') && !text.contains(")("));
    if begins && !text.is_empty() { Cow::Owned(format!("({text})")) } else { Cow::Borrowed(text) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn what_can_mean_one_thing_only_is_repaired_and_told() {
        for (text, filter, remarks) in [
            ("(cn=Ada)", "(cn=Ada)", 0),
            ("cn=Ada", "(cn=Ada)", 1),
            ("&(cn=a)(cn=b)", "(&(cn=a)(cn=b))", 1),
            ("  (cn=Ada)\n", "(cn=Ada)", 1),
            ("“(cn=Ada)”", "(cn=Ada)", 1),
            ("\"(cn=Ada)\"", "(cn=Ada)", 1),
            ("(& (cn=a)\n   (! (cn=b)) )", "(&(cn=a)(!(cn=b)))", 1),
            ("(&amp;(cn=a)(uidNumber&gt;=5))", "(&(cn=a)(uidNumber>=5))", 1),
            ("（＆（cn＝a）（cn＝b））", "(&(cn=a)(cn=b))", 1),
            ("'& (cn=a) (cn=two words) '", "(&(cn=a)(cn=two words))", 3),
        ] {
            let repaired = Filter::parse_pasted(text).unwrap_or_else(|error| panic!("{text}: {error}"));
            assert_eq!(
                (repaired.filter.to_string().as_str(), repaired.remarks.len()),
                (filter, remarks),
                "{text}"
            );
        }
        for text in ["", "(cn=a)(cn=b)", "(cn=a", "cn", "(&(cn=a)"] {
            assert!(Filter::parse_pasted(text).is_err(), "{text}: it could mean several things");
        }
    }

    proptest! {
        /// A filter is never repaired, and whatever is repaired reads as what it is.
        #[test]
        fn repairs_leave_filters_alone(text in "[(&|!)a=* \n\"“”（）;]{0,20}") {
            let strict = Filter::parse(&text);
            if let Ok(pasted) = Filter::parse_pasted(&text) {
                prop_assert_eq!(strict.is_ok(), pasted.remarks.is_empty());
                prop_assert_eq!(Filter::parse(&pasted.filter.to_string()).unwrap(), pasted.filter);
            } else {
                prop_assert!(strict.is_err());
            }
        }
    }
}
