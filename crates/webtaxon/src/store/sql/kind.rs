//! Declared types, and what their columns hold.

use smol_str::SmolStr;
use webtaxon_core::account::Form;

/// The kind of values of a column, as far as its declaration says.
#[derive(Clone, Debug, PartialEq)]
pub(in super::super) enum Kind {
    /// Text of at most this many characters.
    Text(Option<usize>),
    /// A whole number between two limits.
    Integer(i128, i128),
    /// A number with at most this many digits, and as many of them behind the point.
    Decimal(Option<(usize, usize)>),
    /// Yes or no, as 1 and 0.
    Boolean,
    /// Anything else.
    Any,
}

impl Kind {
    /// A declared type by the rules of SQLite: what its name contains decides
    /// (<https://www.sqlite.org/datatype3.html>, section 3.1).
    pub(in super::super) fn of_sqlite(declared: &str) -> Self {
        let upper = declared.to_uppercase();
        let has = |part: &str| upper.contains(part);
        match () {
            () if has("BOOL") => Self::Boolean,
            () if has("INT") && !has("POINT") => Self::Integer(i64::MIN.into(), i64::MAX.into()),
            () if has("CHAR") => Self::Text(sizes(declared).map(|(most, _)| most)),
            () if has("CLOB") || has("TEXT") => Self::Text(None),
            () if has("REAL") || has("FLOA") || has("DOUB") => Self::Decimal(None),
            () if has("NUMERIC") || has("DECIMAL") => Self::Decimal(sizes(declared)),
            () => Self::Any,
        }
    }

    /// The form of a value; `None` if it is kept as it is, as far as the declaration tells.
    pub(in super::super) fn form(&self, text: &str, declared: &str) -> Option<Form> {
        let unfit = |why: String| Some(Form::Unfit(why));
        match self {
            Self::Any => None,
            Self::Text(most) => {
                let most = (*most)?;
                let count = text.chars().count();
                (count > most)
                    .then(|| Form::Unfit(format!("has {count} characters, and {declared} holds {most}")))
            }
            Self::Boolean => match text.trim().to_ascii_lowercase().as_str() {
                "1" | "true" | "t" | "yes" | "y" | "on" => Some(Form::As("1".into())),
                "0" | "false" | "f" | "no" | "n" | "off" => Some(Form::As("0".into())),
                _ => unfit("is neither true nor false".to_owned()),
            },
            Self::Integer(least, most) => {
                let Some(number) = Number::read(text).filter(|number| number.places.is_empty()) else {
                    return unfit("is not a whole number".to_owned());
                };
                match number.print().parse::<i128>() {
                    Ok(value) if (*least..=*most).contains(&value) => Some(Form::As(number.print())),
                    _ => unfit(format!("is out of the range of {declared}")),
                }
            }
            Self::Decimal(sizes) => {
                let Some(number) = Number::read(text) else { return unfit("is not a number".to_owned()) };
                match sizes {
                    Some((digits, places))
                        if number.places.len() > *places || number.digits.len() + places > *digits =>
                    {
                        unfit(format!("does not fit into {declared}"))
                    }
                    _ => None,
                }
            }
        }
    }
}

/// The numbers in the parentheses of a declared type.
fn sizes(declared: &str) -> Option<(usize, usize)> {
    let (_, inner) = declared.split_once('(')?;
    let mut sizes = inner.split_once(')')?.0.split(',').map(|size| size.trim().parse::<usize>().ok());
    Some((sizes.next()??, sizes.next().flatten().unwrap_or(0)))
}

/// A decimal number without leading zeros in front of the point, and without trailing ones behind it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(in super::super) struct Number {
    is_negative: bool,
    digits: String,
    places: String,
}

impl Number {
    /// Reads a number; an exponent is applied. `None` if it is none, or is absurdly long.
    pub(in super::super) fn read(text: &str) -> Option<Self> {
        let text = text.trim();
        let (sign, rest) = match text.strip_prefix(['-', '+']) {
            Some(rest) => (text.starts_with('-'), rest),
            None => (false, text),
        };
        let (number, exponent) = match rest.split_once(['e', 'E']) {
            Some((number, exponent)) => (number, exponent.parse::<i32>().ok()?),
            None => (rest, 0),
        };
        let (whole, places) = number.split_once('.').unwrap_or((number, ""));
        let is_digits = |part: &str| part.bytes().all(|byte| byte.is_ascii_digit());
        if (whole.is_empty() && places.is_empty()) || !is_digits(whole) || !is_digits(places) {
            return None;
        }
        let point = i32::try_from(whole.len()).ok()?.checked_add(exponent)?;
        let all = format!("{whole}{places}");
        if point.unsigned_abs() > 400 || all.len() > 400 {
            return None;
        }
        let (before, after) = match usize::try_from(point) {
            Ok(point) if point >= all.len() => {
                (format!("{all}{}", "0".repeat(point - all.len())), String::new())
            }
            Ok(point) => (all.get(..point)?.to_owned(), all.get(point..)?.to_owned()),
            Err(_) => (String::new(), format!("{}{all}", "0".repeat(usize::try_from(-point).ok()?))),
        };
        let digits = before.trim_start_matches('0').to_owned();
        let places = after.trim_end_matches('0').to_owned();
        let is_negative = sign && !(digits.is_empty() && places.is_empty());
        Some(Self { is_negative, digits, places })
    }

    fn print(&self) -> SmolStr {
        let sign = if self.is_negative { "-" } else { "" };
        let digits = if self.digits.is_empty() { "0" } else { &self.digits };
        let point = if self.places.is_empty() { "" } else { "." };
        smol_str::format_smolstr!("{sign}{digits}{point}{}", self.places)
    }
}

/// The conditions of the CHECK constraints in the statement that created a table, as written.
pub(in super::super) fn checks(create: &str) -> Vec<String> {
    let characters: Vec<char> = create.chars().collect();
    let mut checks = Vec::new();
    let mut at = 0;
    let mut word = String::new();
    let mut open: Option<(usize, usize)> = None;
    let mut depth = 0_usize;
    while let Some(character) = characters.get(at).copied() {
        let end = skipped(&characters, at);
        if end > at + 1 || matches!(character, '\'' | '"' | '`' | '[') {
            word.clear();
            at = end;
            continue;
        }
        match character {
            '(' => {
                if word.trim().eq_ignore_ascii_case("check") && open.is_none() {
                    open = Some((at + 1, depth));
                }
                depth += 1;
                word.clear();
            }
            ')' => {
                depth = depth.saturating_sub(1);
                if let Some((start, level)) = open
                    && level == depth
                {
                    checks.extend(characters.get(start..at).map(String::from_iter));
                    open = None;
                }
                word.clear();
            }
            character if character.is_whitespace() => {
                // Blanks may stand between the word and its parenthesis.
                if !word.trim().eq_ignore_ascii_case("check") {
                    word.clear();
                }
            }
            character if character.is_alphanumeric() || character == '_' => word.push(character),
            _ => word.clear(),
        }
        at += 1;
    }
    checks
}

/// The place behind a quoted text or a comment that begins here; the next place if none does.
fn skipped(characters: &[char], at: usize) -> usize {
    let until = |from: usize, end: &[char]| {
        let rest = characters.get(from..).unwrap_or_default();
        let found = rest.windows(end.len()).position(|window| window == end);
        found.map_or(characters.len(), |found| from + found + end.len())
    };
    match (characters.get(at), characters.get(at + 1)) {
        (Some('-'), Some('-')) => until(at + 2, &['\n']),
        (Some('/'), Some('*')) => until(at + 2, &['*', '/']),
        (Some('['), _) => until(at + 1, &[']']),
        (Some(quote @ ('\'' | '"' | '`')), _) => until(at + 1, &[*quote]),
        _ => at + 1,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_number_is_one_number_however_it_is_written() {
        for (text, printed) in [
            ("007", Some("7")),
            ("+7.50", Some("7.5")),
            ("-0", Some("0")),
            ("1e3", Some("1000")),
            ("12.5E-3", Some("0.0125")),
            (".5", Some("0.5")),
            ("abc", None),
            ("", None),
            ("1e999999", None),
            ("0x10", None),
        ] {
            let number = Number::read(text);
            assert_eq!(number.map(|number| number.print().to_string()).as_deref(), printed, "{text}");
        }
    }

    #[test]
    fn what_a_declaration_cannot_hold_is_told() {
        let form = |declared: &str, text: &str| Kind::of_sqlite(declared).form(text, declared);
        for (declared, text, kept) in [
            ("VARCHAR(3)", "äöü", None),
            ("VARCHAR(3)", "äöüß", Some(None)),
            ("INTEGER", "007", Some(Some("7"))),
            ("INTEGER", "7.5", Some(None)),
            ("BIGINT", "9223372036854775808", Some(None)),
            ("BOOLEAN", "Yes", Some(Some("1"))),
            ("BOOLEAN", "maybe", Some(None)),
            ("DECIMAL(5,2)", "123.45", None),
            ("DECIMAL(5,2)", "1234.5", Some(None)),
            ("DECIMAL(5,2)", "1.234", Some(None)),
            ("DATETIME", "2026-12-01", None),
            ("TEXT", "anything", None),
        ] {
            let form = form(declared, text).map(|form| match form {
                Form::As(kept) => Some(kept.to_string()),
                _ => None,
            });
            let kept = kept.map(|kept| kept.map(str::to_owned));
            assert_eq!(form, kept, "{declared} {text}");
        }
    }

    #[test]
    fn checks_are_found_and_nothing_else() {
        let create = r#"CREATE TABLE "check (" (a TEXT CHECK (length(a) > 1 AND a <> ')'), -- CHECK (no)
            b INT /* CHECK (no) */ CHECK(b IN (1, 2)), c TEXT DEFAULT 'CHECK (no)', recheck (x),
            CONSTRAINT both CHECK
              ((a IS NULL) = (b IS NULL)))"#;
        assert_eq!(
            checks(create),
            ["length(a) > 1 AND a <> ')'", "b IN (1, 2)", "(a IS NULL) = (b IS NULL)"]
        );
    }
}
