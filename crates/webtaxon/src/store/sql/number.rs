//! Decimal numbers, however they are written.

use smol_str::SmolStr;

/// A decimal number without leading zeros in front of the point, and without trailing ones behind it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(in super::super) struct Number {
    is_negative: bool,
    /// In front of the point.
    pub(super) digits: String,
    /// Behind the point.
    pub(super) places: String,
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

    /// With exactly this many places.
    pub(super) fn fixed(&self, places: usize) -> SmolStr {
        let printed = self.print();
        let zeros = "0".repeat(places.saturating_sub(self.places.len()));
        let point = if self.places.is_empty() && places > 0 { "." } else { "" };
        smol_str::format_smolstr!("{printed}{point}{zeros}")
    }

    pub(super) fn print(&self) -> SmolStr {
        let sign = if self.is_negative { "-" } else { "" };
        let digits = if self.digits.is_empty() { "0" } else { &self.digits };
        let point = if self.places.is_empty() { "" } else { "." };
        smol_str::format_smolstr!("{sign}{digits}{point}{}", self.places)
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
}
