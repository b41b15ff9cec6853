//! CHECK constraints in the statement that created a table.

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
