//! Settling clashes: the questions of a preview, and an administrator's answers in the settings file.

use crate::setup::Lists;
use std::path::Path;
use toml_edit::{DocumentMut, InlineTable, Item, TableLike, Value, value};
use webtaxon_core::account::folded;
use webtaxon_core::preview::{Memory, Preview, Question, Word};
use webtaxon_core::settings::{Settings, SettingsError};

/// The clashes of one preview, with what is needed to look at the effect of answers.
pub struct Clashes {
    /// The preview.
    pub preview: Preview,
    /// Its clashes with both sides, in order.
    pub questions: Vec<Question>,
    lists: Lists,
    memory: Memory,
}

impl std::fmt::Debug for Clashes {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        out.debug_struct("Clashes").field("questions", &self.questions).finish_non_exhaustive()
    }
}

impl Clashes {
    pub(crate) fn of(settings: &Settings, preview: Preview, lists: Lists, memory: Memory) -> Self {
        let questions = Question::all(lists.situation(settings, &memory), &preview);
        Self { preview, questions, lists, memory }
    }

    /// The preview of the same reading by other settings: with the answers.
    #[must_use]
    pub fn after(&self, settings: &Settings) -> Preview {
        Preview::of(self.lists.situation(settings, &self.memory))
    }
}

/// The reason why answers cannot be written into the settings.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum SettleError {
    /// The text is not TOML, or has no `[accounts]` with a table `whose`.
    #[error("the settings cannot be changed: {0}")]
    Text(String),
    /// The changed settings would be wrong.
    #[error(transparent)]
    Settings(#[from] Box<SettingsError>),
    /// The file cannot be read or written.
    #[error("{0}")]
    File(#[from] std::io::Error),
    /// Somebody changed the file meanwhile.
    #[error("the settings were changed by somebody else meanwhile; nothing was written")]
    Changed,
}

/// The text of a settings file with these entries of `whose` in `[accounts]`. Everything else stays as it is, comments
/// included.
///
/// # Errors
/// The text is no settings file.
pub fn with_words(name: &str, text: &str, words: &[Word]) -> Result<String, SettleError> {
    let odd = |error: &dyn std::fmt::Display| SettleError::Text(error.to_string());
    let (mark, bare) = match text.strip_prefix('\u{feff}') {
        Some(bare) => ("\u{feff}", bare),
        None => ("", text),
    };
    let mut document: DocumentMut = bare.parse().map_err(|error: toml_edit::TomlError| odd(&error))?;
    let accounts = document.get_mut("accounts").and_then(Item::as_table_like_mut);
    let accounts = accounts.ok_or_else(|| odd(&"there is no [accounts]"))?;
    if accounts.get("whose").is_none() {
        accounts.insert("whose", value(InlineTable::new()));
    }
    let whose = accounts.get_mut("whose").and_then(Item::as_table_like_mut);
    let whose = whose.ok_or_else(|| odd(&"whose is no table"))?;
    words.iter().for_each(|word| put(whose, word));
    let mut changed = mark.to_owned() + &document.to_string();
    if text.contains("\r\n") && !changed.contains("\r\n") {
        changed = changed.replace('\n', "\r\n");
    }
    let (before, after) = (Settings::parse(name, text.as_bytes()), Settings::parse(name, changed.as_bytes()));
    let (mut before, after) = (before.map_err(Box::new)?, after.map_err(Box::new)?);
    // Nothing but these entries may differ.
    before.accounts.whose.clone_from(&after.accounts.whose);
    let has = |word: &Word| after.accounts.whose.get(&word.account) == Some(&word.link);
    let same = serde_json::to_value(&before).ok() == serde_json::to_value(&after).ok();
    if same && words.iter().all(has) { Ok(changed) } else { Err(odd(&"whose cannot be written there")) }
}

/// Sets one entry, in place of one for the same account.
fn put(whose: &mut dyn TableLike, word: &Word) {
    let known = whose.iter().map(|(login, _)| login.to_owned());
    let known = known.filter(|login| *login != word.account && folded(login) == folded(&word.account));
    let known: Vec<String> = known.collect();
    for login in known {
        whose.remove(&login);
    }
    let link = Value::from(word.link.as_str());
    match whose.get_mut(&word.account).and_then(Item::as_value_mut) {
        Some(there) => {
            let decor = there.decor().clone();
            *there = link;
            *there.decor_mut() = decor;
        }
        None => drop(whose.insert(&word.account, Item::Value(link))),
    }
}

/// Replaces a settings file, unless it has changed since it was read: a crash leaves the old one or the new one.
///
/// # Errors
/// The file cannot be written, or somebody changed it.
pub fn replace(file: &Path, before: &str, after: &str) -> Result<(), SettleError> {
    if std::fs::read(file)? != before.as_bytes() {
        return Err(SettleError::Changed);
    }
    // Where the file is a link, what it points to is replaced.
    let file = std::fs::canonicalize(file)?;
    let mut name = file.file_name().unwrap_or_default().to_owned();
    name.push(".new");
    let new = file.with_file_name(name);
    let written = std::fs::write(&new, after)
        .and_then(|()| std::fs::set_permissions(&new, std::fs::metadata(&file)?.permissions()))
        .and_then(|()| std::fs::File::open(&new)?.sync_all())
        .and_then(|()| std::fs::rename(&new, &file));
    if written.is_err() {
        let _ = std::fs::remove_file(&new);
    }
    Ok(written?)
}

#[cfg(test)]
mod tests {
    use super::*;
    use webtaxon_core::ldap::identity::Identity;

    const REST: &str = "[[intake]]\nname = \"staff\"\ndirectory = \"d\"\nbases = \"DC=x\"\nfilter = \"(cn=*)\"\n\
        [intake.fields]\nlogin = { from = \"uid\" }\n";

    fn word(account: &str, link: &str) -> Word {
        Word { account: account.to_owned(), link: Identity::from_link(link).unwrap() }
    }

    #[test]
    fn answers_are_written_beside_everything_else() {
        let head = "# Who may in.\n[directory.d]\nservers = \"ldaps://dc1\"   # the first\n\n";
        let accounts = "[accounts]  # the list\nstore = \"csv\"\npath = \"a.csv\"  # ours\n";
        for (why, own, words, expected) in [
            ("none yet", "", vec![word("a.b", "1")], "whose = { \"a.b\" = \"1\" }\n"),
            (
                "one more",
                "whose = { old = \"9\" } # since May\n",
                vec![word("ada", "1")],
                "whose = { old = \"9\" , ada = \"1\" } # since May\n",
            ),
            (
                "the same account",
                "whose = { Ada = \"9\" }\n",
                vec![word("ada", "1")],
                "whose = { ada = \"1\" }\n",
            ),
            (
                "another answer",
                "whose = { ada = \"9\" }\n",
                vec![word("ada", "1")],
                "whose = { ada = \"1\" }\n",
            ),
            (
                "a table",
                "[accounts.whose]\n# from the audit\nold = \"9\" # x\n",
                vec![word("ada", "1"), word("old", "2")],
                "[accounts.whose]\n# from the audit\nold = \"2\" # x\nada = \"1\"\n",
            ),
            ("hostile names", "", vec![word("a\"]\n[x]", "1")], "whose = { 'a\"]\n[x]' = \"1\" }\n"),
        ] {
            let text = format!("{head}{accounts}{own}\n# the rest\n{REST}");
            let written = with_words("test", &text, &words).unwrap();
            let normal = |text: &str| text.replace(' ', "");
            if why != "hostile names" {
                let expected = format!("{head}{accounts}{expected}\n# the rest\n{REST}");
                assert_eq!(normal(&written), normal(&expected), "{why}");
            }
            let read = Settings::parse("test", written.as_bytes()).unwrap();
            for word in &words {
                assert_eq!(read.accounts.whose.get(&word.account), Some(&word.link), "{why}");
            }
            let other = text.replace('\n', "\r\n");
            let written = with_words("test", &other, &words).unwrap();
            assert!(written.matches('\n').count() == written.matches("\r\n").count(), "{why}: {written:?}");
        }
        assert!(with_words("test", "x = ", &[]).is_err());
    }

    #[test]
    fn a_file_that_somebody_changed_stays() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("webtaxon.toml");
        std::fs::write(&file, "one").unwrap();
        replace(&file, "one", "two").unwrap();
        assert!(matches!(replace(&file, "one", "three"), Err(SettleError::Changed)));
        assert_eq!(std::fs::read_to_string(&file).unwrap(), "two");
        assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 1, "nothing is left over");
    }
}
