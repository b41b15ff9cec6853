//! Counts with their nouns.

/// A number with its noun: "1 group", "3 groups".
#[must_use]
pub fn counted(count: usize, one: &str, many: &str) -> String {
    format!("{count} {}", if count == 1 { one } else { many })
}
