//! Preparing text for comparison (RFC 4518 §2): values that a reader takes for equal become equal bytes.
//!
//! The steps are the standard's: map, normalise (NFKC), prohibit, and remove insignificant blanks. Outer blanks are
//! dropped and inner runs become one blank, which distinguishes the same values as the two blanks of §2.6.1. No I/O,
//! no recursion; memory is linear in the value.
//!
//! # Why are characters newer than Unicode 3.2 not refused?
//! RFC 4518 §2.4 refuses them, and with them every emoji and every script added since. No server does, and a person
//! with such a name would match no filter.

use std::borrow::Cow;
use stringprep::tables;
use unicode_normalization::UnicodeNormalization as _;
use unicode_normalization::char::is_combining_mark;

/// The differences that a comparison ignores.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Fold {
    /// None.
    Nothing,
    /// Case (RFC 3454 B.2).
    Case,
    /// Case, marks on letters, and hiragana against katakana, as on a domain controller ([MS-ADTS] §3.1.1.2.2.4; the
    /// width goes with NFKC).
    Marks,
    /// Case only, letter by letter, with nothing removed: how OpenLDAP compares the names of entries. Fewer texts are
    /// equal than the standard says, on purpose: two entries that a server keeps apart must never become one here.
    Letters,
}

/// The prepared form of a whole text, in which equal texts are equal bytes; `None` if the value is not text.
#[must_use]
pub fn text(value: &[u8], fold: Fold) -> Option<Cow<'_, [u8]>> {
    prepared(value, fold, true)
}

/// The prepared form of a substring. Its outer blanks count, since they stand inside the whole.
#[must_use]
pub fn piece(value: &[u8], fold: Fold) -> Option<Cow<'_, [u8]>> {
    prepared(value, fold, false)
}

/// Whether preparation only lowers the case: ASCII without control characters, without outer or repeated blanks.
#[must_use]
pub(crate) fn is_simple(value: &[u8]) -> bool {
    let mut before = b' ';
    for &byte in value {
        if !(b' '..=b'~').contains(&byte) || (byte == b' ' && before == b' ') {
            return false;
        }
        before = byte;
    }
    before != b' ' || value.is_empty()
}

fn prepared(value: &[u8], fold: Fold, whole: bool) -> Option<Cow<'_, [u8]>> {
    let is_plain =
        |byte: &u8| byte.is_ascii_graphic() && (fold == Fold::Nothing || !byte.is_ascii_uppercase());
    if value.iter().all(is_plain) {
        return Some(Cow::Borrowed(value));
    }
    let mut out = if value.is_ascii() { ascii(value, fold) } else { unicode(value, fold)? };
    if whole {
        if out.last() == Some(&b' ') {
            out.pop();
        }
        if out.first() == Some(&b' ') && !begins_with_mark(out.get(1..).unwrap_or_default()) {
            out.remove(0);
        }
    }
    Some(Cow::Owned(out))
}

/// Whether a blank before `rest` carries a combining mark, and so is not a blank (§2.6.1).
fn begins_with_mark(rest: &[u8]) -> bool {
    let first = std::str::from_utf8(rest).ok().and_then(|rest| rest.chars().next());
    first.is_some_and(is_combining_mark)
}

fn ascii(value: &[u8], fold: Fold) -> Vec<u8> {
    let mut out = Vec::with_capacity(value.len());
    for byte in value {
        match byte {
            b'\t'..=b'\r' | b'\x7f' | ..b' ' if fold == Fold::Letters => out.push(*byte),
            b' ' | b'\t'..=b'\r' => {
                if out.last() != Some(&b' ') {
                    out.push(b' ');
                }
            }
            control if control.is_ascii_control() => {}
            other if fold == Fold::Nothing => out.push(*other),
            other => out.push(other.to_ascii_lowercase()),
        }
    }
    out
}

fn unicode(value: &[u8], fold: Fold) -> Option<Vec<u8>> {
    let text = std::str::from_utf8(value).ok()?;
    let lower = char::to_lowercase;
    let kept = text.chars().filter(|character| !is_nothing(*character));
    let spaced = kept.map(|character| if tables::x520_mapped_to_space(character) { ' ' } else { character });
    let normalized: String = match fold {
        Fold::Nothing => spaced.nfkc().collect(),
        Fold::Letters => text.chars().flat_map(lower).nfkc().flat_map(lower).nfkc().collect(),
        // Twice: some characters newer than Unicode 3.2 decompose into capital letters.
        Fold::Case => spaced.flat_map(small).nfkc().flat_map(small).nfkc().collect(),
        Fold::Marks => {
            let bare = spaced.flat_map(small).nfkd().flat_map(small).nfkd();
            bare.filter(|character| !is_combining_mark(*character)).map(hiragana).nfkc().collect()
        }
    };
    let mut out = Vec::with_capacity(normalized.len());
    let mut characters = normalized.chars().peekable();
    while let Some(character) = characters.next() {
        if fold != Fold::Letters && is_prohibited(character) {
            return None;
        }
        // A blank that carries a combining mark is a character of its own (§2.6.1).
        let is_blank = character == ' ' && !characters.peek().is_some_and(|next| is_combining_mark(*next));
        if !is_blank || out.last() != Some(&b' ') {
            out.extend_from_slice(character.encode_utf8(&mut [0; 4]).as_bytes());
        }
    }
    Some(out)
}

/// Lower case: of RFC 3454 B.2, and of the scripts added since.
fn small(character: char) -> impl Iterator<Item = char> {
    character.to_lowercase().flat_map(tables::case_fold_for_nfkc)
}

fn hiragana(character: char) -> char {
    match character {
        'ァ'..='ヶ' => char::from_u32(u32::from(character) - 0x60).unwrap_or(character),
        other => other,
    }
}

/// Mapped to nothing: format and control characters (RFC 4518 §2.2).
fn is_nothing(character: char) -> bool {
    tables::x520_mapped_to_nothing(character)
        || matches!(character,
            '\u{6dd}' | '\u{70f}' | '\u{180e}' | '\u{200c}'..='\u{200f}' | '\u{202a}'..='\u{202e}'
            | '\u{2060}'..='\u{2063}' | '\u{206a}'..='\u{206f}' | '\u{feff}' | '\u{fff9}'..='\u{fffb}'
            | '\u{1d173}'..='\u{1d17a}' | '\u{e0001}' | '\u{e0020}'..='\u{e007f}')
}

/// Prohibited (RFC 4518 §2.4): private use, non-characters, and the replacement character.
fn is_prohibited(character: char) -> bool {
    character == '\u{fffd}' || tables::private_use(character) || tables::non_character_code_point(character)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn what_is_equal_to_a_reader_is_equal() {
        use Fold::{Case, Letters, Marks, Nothing};
        for (fold, left, right, same, why) in [
            (
                Case,
                "  Ada \t Ibbotson ",
                "ada ibbotson",
                true,
                "§2.6.1: blanks at the ends, and runs of them",
            ),
            (Nothing, "Ada", "ada", false, "case matters"),
            (Nothing, "a\u{a0}b", "a b", true, "§2.2: every separator is a blank"),
            (Case, "co\u{ad}op", "coop", true, "§2.2: the soft hyphen is nothing"),
            (Case, "a\u{200b}\u{200f}\u{feff}b", "ab", true, "§2.2: signs that only steer are nothing"),
            (Case, "a\u{7}b", "ab", true, "§2.2: control characters are nothing"),
            (Case, "ÅSA", "a\u{30a}sa", true, "§2.3: composed and decomposed"),
            (Case, "ﬁn", "FIN", true, "§2.3: ligatures"),
            (Case, "ＡＢＣ", "abc", true, "§2.3: full-width letters"),
            (Case, "STRASSE", "straße", true, "RFC 3454 B.2: ß is ss"),
            (Case, "ΟΔΟΣ", "οδος", true, "RFC 3454 B.2: both small sigmas are one"),
            (Case, "Müller", "muller", false, "marks matter"),
            (Marks, "Müller", "MULLER", true, "marks do not matter to a controller"),
            (Marks, "カタカナ", "かたかな", true, "nor does the kind of kana"),
            (Marks, "ﾊﾝ", "ハン", true, "nor the width"),
            (Letters, "ADA  Ä ", "ada ä", true, "case and blanks, of names, too"),
            (Letters, "Ａda", "ada", true, "and width"),
            (Letters, "Weiß", "Weiss", false, "two people to OpenLDAP"),
            (Letters, "co\u{ad}op", "coop", false, "and here"),
            (Letters, "a\tb", "a b", false, "and here"),
            (Case, "ĸა", "ĸა", true, "scripts that came after Unicode 3.2"),
            (Case, "A 😀", "a 😀", true, "and emoji"),
            (Case, "a \u{308}b", "a  \u{308}b", false, "§2.6.1: a blank that carries a mark is none"),
            (Case, " \u{308}b", "\u{308}b", false, "nor is it one at the front"),
            (Case, "\t\u{1fbd}", " \u{313}", true, "whichever way it is written, behind blanks or not"),
        ] {
            let (one, other) = (text(left.as_bytes(), fold), text(right.as_bytes(), fold));
            assert!(one.is_some() && other.is_some(), "{why}");
            assert_eq!(one == other, same, "{why}: {left} {right}");
        }
    }

    #[test]
    fn what_is_prohibited_has_no_form() {
        for (value, why) in [
            (&b"A\xff"[..], "not UTF-8"),
            ("a\u{fffd}".as_bytes(), "the sign for a character that was lost"),
            ("a\u{e000}".as_bytes(), "private use"),
            ("a\u{fdd0}".as_bytes(), "no character"),
        ] {
            assert_eq!(text(value, Fold::Case), None, "{why}");
        }
    }

    proptest! {
        /// Prepared once is prepared for good; pieces put together are the whole.
        #[test]
        fn preparing_is_stable(value in r"([ A-Zäß\t-]|\PC){0,12}") {
            for fold in [Fold::Nothing, Fold::Case, Fold::Marks, Fold::Letters] {
                let Some(once) = text(value.as_bytes(), fold).map(Cow::into_owned) else { continue };
                prop_assert_eq!(text(&once, fold).map(Cow::into_owned), Some(once.clone()), "{:?}", fold);
                let inner = piece(value.as_bytes(), fold).unwrap();
                prop_assert_eq!(inner.trim_ascii(), once.trim_ascii());
            }
        }

        /// ASCII goes a shorter way to the same end.
        #[test]
        fn the_short_way_gives_the_same(value in "[ -~\t\n\r\x01]{0,12}") {
            for fold in [Fold::Nothing, Fold::Case, Fold::Marks, Fold::Letters] {
                prop_assert_eq!(Some(ascii(value.as_bytes(), fold)), unicode(value.as_bytes(), fold));
            }
            if is_simple(value.as_bytes()) {
                let lower = value.to_ascii_lowercase().into_bytes();
                prop_assert_eq!(text(value.as_bytes(), Fold::Case).unwrap().into_owned(), lower);
            }
        }
    }
}
