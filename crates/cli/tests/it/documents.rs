//! The README's and the guide's commands run, and every message has its chapter.

use crate::command::{run, webtaxon};
use std::collections::BTreeSet;
use std::io::{BufRead, BufReader};
use std::path::Path;
use std::process::Stdio;

const README: &str = include_str!("../../../../README.md");
const CONNECTING: &str = include_str!("../../../../docs/connecting.md");
const HOUSE: &str = include_str!("../../../../docs/architecture.md");
const FILTERS: &str = include_str!("../../../../docs/writing-filters.md");
const GROUPS: &str = include_str!("../../../../docs/groups.md");
const GROUPS_TOO: &str = include_str!("../../../../docs/application-groups.md");
const CHOOSING: &str = include_str!("../../../../docs/choosing-people.md");
const FIELDS: &str = include_str!("../../../../docs/filling-fields.md");
const PREVIEW: &str = include_str!("../../../../docs/reading-a-preview.md");
const LEAVING: &str = include_str!("../../../../docs/when-people-leave.md");
const CLAIMS: &str = include_str!("../../../../docs/two-claims.md");
const LIVING: &str = include_str!("../../../../docs/where-accounts-live.md");
const APPLYING: &str = include_str!("../../../../docs/applying.md");
const MESSAGES: &str = include_str!("../../../../docs/messages.md");
const SETTINGS: &str = include_str!("../../../../docs/settings.md");
const HOW_CARGO_RUNS_IT: &str = "cargo run --release -p webtaxon-cli -- ";

fn root() -> std::path::PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

/// Lines in a document's `sh` blocks that run the command, as its arguments.
fn commands(document: &str) -> Vec<Vec<String>> {
    let blocks = document.split("```sh\n").skip(1).filter_map(|rest| rest.split("```").next());
    let lines = blocks.flat_map(str::lines).map(str::trim);
    lines
        .filter_map(|line| line.strip_prefix(HOW_CARGO_RUNS_IT).or_else(|| line.strip_prefix("webtaxon ")))
        .map(|line| words(line.split(" #").next().unwrap_or(line).split(" > ").next().unwrap_or(line)))
        .collect()
}

/// A command line's words; double quotes keep blanks inside.
fn words(line: &str) -> Vec<String> {
    let mut words = Vec::new();
    for (at, part) in line.split('"').enumerate() {
        match at % 2 {
            0 => words.extend(part.split_whitespace().map(str::to_owned)),
            _ => words.push(part.to_owned()),
        }
    }
    words
}

/// A demo that stays, ended when the test ends.
struct Staying(std::process::Child);

impl Drop for Staying {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// Types a document's commands one after the other in an empty folder. The directory may have
/// another port than the document says, where that one is taken.
fn type_all(document: &str, least: usize) {
    let commands = commands(document);
    assert!(commands.len() >= least, "{commands:?}");
    let folder = tempfile::tempdir().unwrap();
    let mut staying = Vec::new();
    for arguments in commands {
        let settings =
            std::fs::read_to_string(folder.path().join("museum/webtaxon.toml")).unwrap_or_default();
        let url =
            settings.split('"').find(|text| text.starts_with("ldaps://")).unwrap_or("ldaps://localhost:6360");
        let arguments: Vec<String> =
            arguments.iter().map(|argument| argument.replace("ldaps://localhost:6360", url)).collect();
        let mut command = webtaxon(&arguments.iter().map(String::as_str).collect::<Vec<_>>());
        command.current_dir(folder.path());
        if arguments.iter().any(|argument| argument == "--stay") {
            let mut child = command.stdout(Stdio::piped()).spawn().unwrap();
            let mut lines = BufReader::new(child.stdout.take().unwrap()).lines().map_while(Result::ok);
            assert!(lines.any(|line| line.contains("Ctrl-C here stops")), "{arguments:?}");
            staying.push((Staying(child), lines));
        } else {
            let run = run(&mut command);
            assert_eq!(run.code, 0, "{arguments:?}: {}{}", run.out, run.err);
        }
    }
    assert_eq!(staying.len(), 1, "the commands behind it need a directory");
}

#[test]
fn the_readmes_commands_run_one_after_the_other() {
    type_all(README, 8);
}

#[test]
fn the_guides_commands_run_one_after_the_other() {
    type_all(CONNECTING, 10);
    type_all(FILTERS, 5);
    type_all(GROUPS, 5);
    type_all(GROUPS_TOO, 4);
    type_all(CHOOSING, 4);
    type_all(PREVIEW, 6);
    type_all(CLAIMS, 3);
    type_all(APPLYING, 8);
}

#[test]
fn documents_name_only_what_exists() {
    let mut documents =
        vec![(root().join("README.md"), root()), (root().join("demo/README.md"), root().join("demo"))];
    let chapters = std::fs::read_dir(root().join("docs")).unwrap().map(|entry| entry.unwrap().path());
    let chapters = chapters.filter(|path| path.extension().is_some_and(|end| end == "md"));
    documents.extend(chapters.map(|path| (path, root().join("docs"))));
    assert!(documents.len() > 10);
    for (document, folder) in documents {
        let text = std::fs::read_to_string(&document).unwrap();
        for part in text.split("](").skip(1).filter_map(|rest| rest.split(')').next()) {
            if !part.contains("://") && !part.starts_with('#') {
                let file = part.split('#').next().unwrap_or_default();
                assert!(folder.join(file).exists(), "{}: {part}", document.display());
            }
        }
    }
}

/// What the drawing of the house names is there: files and folders, and words of the code.
#[test]
fn the_house_names_only_what_exists() {
    let (mut files, mut words, mut open) = (BTreeSet::new(), BTreeSet::new(), vec![root().to_owned()]);
    while let Some(path) = open.pop() {
        let own = path.strip_prefix(root()).unwrap().to_string_lossy().replace("/src/", "/");
        files.insert(format!("/{own}"));
        if path.is_dir() && own != "target" && !own.ends_with(".git") {
            open.extend(std::fs::read_dir(path).unwrap().map(|entry| entry.unwrap().path()));
        } else if own.ends_with(".rs") {
            let text = std::fs::read_to_string(path).unwrap();
            let is_sign = |sign: char| !(sign.is_alphanumeric() || sign == '_');
            words.extend(text.split(is_sign).map(str::to_owned));
        }
    }
    let missing: Vec<&str> = HOUSE
        .split('`')
        .skip(1)
        .step_by(2)
        .filter(|name| !name.contains(' '))
        .filter(|name| {
            let path = format!("/{}", name.trim_end_matches('/'));
            let is_file = files.iter().any(|file| file.ends_with(&path));
            !is_file && !name.split("::").all(|word| words.contains(word.trim_end_matches("()")))
        })
        .collect();
    assert!(missing.is_empty(), "{missing:?}");
}

/// Every code that stands in the sources.
fn codes() -> BTreeSet<String> {
    let mut open = vec![root().join("crates")];
    let mut codes = BTreeSet::new();
    while let Some(path) = open.pop() {
        if path.is_dir() {
            open.extend(std::fs::read_dir(path).unwrap().map(|entry| entry.unwrap().path()));
        } else if path.extension().is_some_and(|extension| extension == "rs")
            && !path.ends_with("arguments.rs")
        {
            let text = std::fs::read_to_string(path).unwrap();
            let found =
                text.match_indices("WX0").map(|(at, _)| text[at..].chars().take(6).collect::<String>());
            codes.extend(
                found.filter(|code| code[2..].chars().all(|digit| digit.is_ascii_digit()) && code.len() == 6),
            );
        }
    }
    codes
}

#[test]
fn every_message_has_its_chapter_and_every_chapter_its_message() {
    let chapters: BTreeSet<String> = MESSAGES
        .lines()
        .filter_map(|line| line.strip_prefix("## "))
        .map(|line| line[..6].to_owned())
        .collect();
    assert_eq!(codes(), chapters);
}

#[test]
fn the_guides_settings_are_valid() {
    use webtaxon::model::settings::Settings;
    for document in [GROUPS, CHOOSING, FIELDS, PREVIEW, LEAVING, CLAIMS, LIVING, APPLYING] {
        let blocks = document.split("```toml\n").skip(1).filter_map(|rest| rest.split("```").next());
        for block in blocks.filter(|block| !block.contains("[directory")) {
            // A block is a part of an intake, or of the file behind it.
            let (keys, tables) = block
                .split_at(block.find('[').filter(|at| *at == 0).or(block.find("\n[")).unwrap_or(block.len()));
            let usual = [
                ("name", "\"staff\""),
                ("directory", "\"d\""),
                ("bases", "\"OU=People\""),
                ("filter", "\"(cn=*)\""),
            ];
            let has = |key: &str| {
                keys.lines().any(|line| line.split('=').next().is_some_and(|name| name.trim() == key))
            };
            let missing: String = usual
                .iter()
                .filter(|(key, _)| !has(key))
                .map(|(key, value)| format!("{key} = {value}\n"))
                .collect();
            let fields =
                "[intake.fields]\nlogin = { from = \"uid\" }\nemail = { from = \"mail\", unique = true }\n";
            let fields = if tables.contains("[intake.fields]") { "" } else { fields };
            let accounts = "[accounts]\nstore = \"csv\"\npath = \"a.csv\"\n";
            let accounts = if tables.contains("[accounts]") { "" } else { accounts };
            let text = format!(
                "[directory.d]\nservers = \"ldaps://dc1\"\n{accounts}[[intake]]\n{missing}{keys}\n{fields}{tables}"
            );
            if let Err(error) = Settings::parse("guide", text.as_bytes()) {
                panic!("{error}\n{text}");
            }
        }
    }
}

/// The reference has every key that a settings file may have: each is read somewhere by its name.
#[test]
fn every_setting_is_in_the_reference() {
    let readers = [
        include_str!("../../../core/src/settings/parse/mod.rs"),
        include_str!("../../../core/src/settings/parse/accounts.rs"),
        include_str!("../../../core/src/settings/parse/directory.rs"),
        include_str!("../../../core/src/settings/parse/fields.rs"),
        include_str!("../../../core/src/settings/parse/groups.rs"),
        include_str!("../../../core/src/settings/parse/intake.rs"),
    ];
    let source = readers.join("\n");
    let keys = keys_in(&source);
    assert!(keys.len() > 80, "{keys:?}");
    for key in keys {
        let forms = [format!("`{key}`"), format!("{key} = "), format!("{key}]`")];
        assert!(forms.iter().any(|form| SETTINGS.contains(form)), "{key}");
    }
}

/// The names that stand in lists of keys.
fn keys_in(source: &str) -> Vec<&str> {
    let lists = ["table(&[", "known = &[", "FIELD: [&str; 20] = [", "CHOOSING: [&str; 6] = ["];
    let lists = lists.into_iter().flat_map(|start| source.split(start).skip(1));
    let lists = lists.filter_map(|rest| rest.split(']').next());
    lists.flat_map(|list| list.split('"').skip(1).step_by(2)).collect()
}

#[test]
fn every_filter_in_the_guide_is_one() {
    use webtaxon::model::ldap::filter::Filter;
    let patterns = FILTERS.split("## A dozen patterns").nth(1).unwrap().split("\n## ").next().unwrap();
    let quoted: Vec<String> =
        patterns.split('`').skip(1).step_by(2).map(|text| text.replace("\\|", "|")).collect();
    let filters: Vec<&String> = quoted.iter().filter(|text| text.starts_with('(')).collect();
    assert!(filters.len() >= 12);
    for text in filters {
        let filter = Filter::parse(text).unwrap_or_else(|error| panic!("{text}: {error}"));
        assert_eq!(filter.to_string(), *text);
    }
}

#[test]
fn a_code_is_explained() {
    let known = run(&mut webtaxon(&["code", "wx0307"]));
    assert_eq!(known.code, 0);
    assert!(
        known.out.starts_with("WX0307 The certificate is not trusted\n") && !known.out.contains("WX0308"),
        "{}",
        known.out
    );
    let last = run(&mut webtaxon(&["code", "WX0703"]));
    assert!(last.code == 0 && last.out.contains("loopback"));
    assert_eq!(run(&mut webtaxon(&["code", "WX9999"])).code, 2);
}
