//! The floors of the house: in each crate a module imports only modules below it, and no files import each
//! other in a circle. The order stands in `docs/architecture.md`.
//!
//! What a file imports is read from its text: its `use` lines and the paths in its code, followed through
//! re-exports to the file that defines a name. Test code does not count.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

const DOCUMENT: &str = include_str!("../../../../docs/architecture.md");

/// A module's path within its crate; empty for the crate itself.
type Module = Vec<String>;

/// The files of one crate, by their modules.
#[derive(Default)]
struct Crate {
    tokens: BTreeMap<Module, Vec<String>>,
    /// For each module, the names that it hands on, and what they stand for.
    handed_on: BTreeMap<Module, BTreeMap<String, Module>>,
}

/// One file that imports a name of another.
type Arrow = (Module, Module);

#[test]
fn every_module_stands_above_all_that_it_imports() {
    for (name, places) in [
        ("core", &[""][..]),
        ("wire", &[""]),
        ("webtaxon", &["", "directory"]),
        ("standin", &[""]),
        ("cli", &[""]),
    ] {
        let files = Crate::read(name);
        for place in places {
            let title = if place.is_empty() { name.to_owned() } else { format!("{name}, {place}") };
            let faults = files.faults(place, &order(&title));
            assert!(faults.is_empty(), "{title}:\n{}", faults.join("\n"));
        }
        let circle = files.circle();
        assert!(circle.is_empty(), "{name}: files that import each other:\n{}", circle.join("\n"));
    }
}

/// The test can fail: an arrow that is turned round, a module that nobody wrote down, a circle.
#[test]
fn an_arrow_that_runs_up_and_a_circle_are_found() {
    let lower = ("lower/mod.rs", "mod deep;\npub use deep::Thing;\npub fn f(_: Thing) {}");
    let deep = ("lower/deep.rs", "pub struct Thing;");
    let upper = ("upper.rs", "use crate::lower::Thing;\n/// [`crate::nowhere`]\nfn f(_: Thing) {}");
    let order = ["lower".to_owned(), "upper".to_owned()];
    let sound = Crate::of([lower, deep, upper]);
    assert_eq!((sound.faults("", &order), sound.circle()), (vec![], vec![]));
    for (deep, faults, circles, why) in [
        ("use crate::upper::f;\npub struct Thing;", 1, 2, "up, by a use line"),
        ("pub struct Thing;\nfn g() { crate::upper::f(todo!()) }", 1, 2, "up, by a path"),
        ("pub struct Thing;\n#[cfg(test)]\nmod tests { use crate::upper::f; }", 0, 0, "tests do not count"),
        ("use crate::lower::f;\npub struct Thing;", 0, 2, "into the file that hands it on, and uses it"),
        ("pub struct Thing; // use crate::upper::f;\nconst S: &str = \"crate::upper::f\";", 0, 0, "words"),
    ] {
        let files = Crate::of([lower, ("lower/deep.rs", deep), upper]);
        assert_eq!(files.faults("", &order).len(), faults, "{why}");
        assert_eq!(files.circle().len(), circles, "{why}");
    }
    let faults = sound.faults("", &order[..1]);
    assert!(faults.len() == 1 && faults[0].contains("upper"), "not written down: {faults:?}");
    let turned = sound.faults("", &[order[1].clone(), order[0].clone()]);
    assert_eq!(turned, ["upper.rs imports lower/deep.rs, which stands above it"]);
}

/// The modules under one heading of the document, from the ground up.
fn order(title: &str) -> Vec<String> {
    let heading = format!("### {title}\n");
    let section = DOCUMENT.split(&heading).nth(1).unwrap_or_else(|| panic!("no heading {title}"));
    let section = section.split("\n#").next().unwrap();
    let rows = section.lines().filter_map(|line| line.strip_prefix("| `")?.split('`').next());
    rows.map(|module| module.trim_end_matches('/').to_owned()).collect()
}

impl Crate {
    fn read(name: &str) -> Self {
        let source = Path::new(env!("CARGO_MANIFEST_DIR")).join("..").join(name).join("src");
        let mut files = Vec::new();
        let mut folders = vec![source.clone()];
        while let Some(folder) = folders.pop() {
            for entry in std::fs::read_dir(folder).unwrap() {
                let path = entry.unwrap().path();
                let own = path.strip_prefix(&source).unwrap().to_string_lossy().replace('\\', "/");
                match path.is_dir() {
                    true if own.split('/').all(|part| part != "tests") => folders.push(path),
                    false if own.ends_with(".rs") && !own.ends_with("tests.rs") => {
                        files.push((own, std::fs::read_to_string(path).unwrap()));
                    }
                    _ => {}
                }
            }
        }
        assert!(!files.is_empty(), "{name}");
        Self::of(files.iter().map(|(path, text)| (path.as_str(), text.as_str())))
    }

    fn of<'f>(files: impl IntoIterator<Item = (&'f str, &'f str)>) -> Self {
        let mut all = Self::default();
        for (path, text) in files {
            let mut module: Module = path.trim_end_matches(".rs").split('/').map(str::to_owned).collect();
            if module.last().is_some_and(|last| ["mod", "lib", "main"].contains(&last.as_str())) {
                module.pop();
            }
            all.tokens.insert(module, without_tests(&tokens(text)));
        }
        for (module, tokens) in &all.tokens {
            let handed = uses(tokens).into_iter().filter(|one| one.is_public);
            let handed =
                handed.filter_map(|one| Some((one.called.clone(), all.absolute(module, &one.path)?)));
            all.handed_on.insert(module.clone(), handed.collect());
        }
        all
    }

    /// A path as seen from the crate; none for a path into another crate.
    fn absolute(&self, from: &[String], path: &[String]) -> Option<Module> {
        let mut base = from.to_vec();
        let mut rest = path;
        match rest.first()?.as_str() {
            "crate" => (base, rest) = (Vec::new(), rest.get(1..)?),
            "self" => rest = rest.get(1..)?,
            "super" => {
                while rest.first().is_some_and(|part| part == "super") {
                    base.pop()?;
                    rest = rest.get(1..)?;
                }
            }
            child => {
                let inner: Module = from.iter().cloned().chain([child.to_owned()]).collect();
                self.tokens.contains_key(&inner).then_some(())?;
            }
        }
        base.extend(rest.iter().cloned());
        Some(base)
    }

    /// The file that defines the end of a path; none for a path that ends with a module.
    fn definition(&self, path: &[String], hops: usize) -> Option<Module> {
        let length = (0..=path.len()).rev().find(|length| self.tokens.contains_key(&path[..*length]))?;
        let (module, rest) = path.split_at(length);
        let name = rest.first()?;
        match self.handed_on.get(module).and_then(|names| names.get(name)).filter(|_| hops > 0) {
            Some(target) => {
                let further: Module = target.iter().chain(&rest[1..]).cloned().collect();
                self.definition(&further, hops - 1)
            }
            None => Some(module.to_vec()),
        }
    }

    fn arrows(&self) -> BTreeSet<Arrow> {
        let mut arrows = BTreeSet::new();
        for (module, tokens) in &self.tokens {
            let mut named: Vec<Vec<String>> = Vec::new();
            let mut modules: BTreeMap<String, Module> = BTreeMap::new();
            let code = without_uses(tokens);
            for one in uses(tokens) {
                let Some(path) = self.absolute(module, &one.path) else { continue };
                // What is handed on counts where it is used here, too.
                let is_used = code
                    .windows(2)
                    .any(|pair| ![".", "mod"].contains(&pair[0].as_str()) && pair[1] == one.called);
                if !one.is_public || is_used {
                    named.push(path.clone());
                }
                if self.tokens.contains_key(&path) {
                    modules.insert(one.called, path);
                }
            }
            for path in paths(&code) {
                let known = modules.get(&path[0]).map(|base| [base, &path[1..]].concat());
                named.extend(known.or_else(|| self.absolute(module, &path)));
            }
            let definitions = named.iter().filter_map(|path| self.definition(path, 8));
            arrows.extend(definitions.filter(|to| to != module).map(|to| (module.clone(), to)));
        }
        arrows
    }

    /// Arrows that run up between the modules in a folder, and modules that the order does not have.
    fn faults(&self, place: &str, order: &[String]) -> Vec<String> {
        let place: Module = place.split('/').filter(|part| !part.is_empty()).map(str::to_owned).collect();
        let room = |module: &Module| module.strip_prefix(place.as_slice())?.first().cloned();
        let rooms: BTreeSet<String> = self.tokens.keys().filter_map(room).collect();
        let written: BTreeSet<String> = order.iter().cloned().collect();
        let odd = rooms.symmetric_difference(&written);
        let mut faults: Vec<String> = odd
            .map(|room| format!("{room}: in the code or in docs/architecture.md, but not in both"))
            .collect();
        let floor = |room: &String| order.iter().position(|one| one == room);
        for (from, to) in self.arrows() {
            if let (Some(upper), Some(lower)) = (room(&from), room(&to))
                && upper != lower
                && floor(&upper).zip(floor(&lower)).is_some_and(|(upper, lower)| upper < lower)
            {
                faults.push(format!(
                    "{} imports {}, which stands above it",
                    self.file(&from),
                    self.file(&to)
                ));
            }
        }
        faults
    }

    /// The arrows among files that reach each other; none where there is no circle.
    fn circle(&self) -> Vec<String> {
        let arrows = self.arrows();
        let reached = |from: &Module| {
            let (mut seen, mut open) = (BTreeSet::new(), vec![from.clone()]);
            while let Some(at) = open.pop() {
                let next = arrows.iter().filter(|(from, _)| *from == at).map(|(_, to)| to);
                open.extend(next.filter(|to| seen.insert((*to).clone())).cloned());
            }
            seen
        };
        let is_back = |(from, to): &&Arrow| reached(to).contains(from);
        let line = |(from, to): &Arrow| format!("{} imports {}", self.file(from), self.file(to));
        arrows.iter().filter(is_back).map(line).collect()
    }

    fn file(&self, module: &[String]) -> String {
        let has_inner =
            self.tokens.keys().any(|other| other.len() > module.len() && other.starts_with(module));
        let end = if module.is_empty() || has_inner { "/mod.rs" } else { ".rs" };
        format!("{}{end}", module.join("/"))
    }
}

/// One name of a `use` line.
struct Use {
    is_public: bool,
    path: Vec<String>,
    called: String,
}

/// The words and signs of a text; comments and what stands in quotes are left out.
fn tokens(text: &str) -> Vec<String> {
    let mut tokens = Vec::new();
    let mut rest = text;
    while let Some(first) = rest.chars().next() {
        let taken = if rest.starts_with("//") {
            rest.find('\n').unwrap_or(rest.len())
        } else if rest.starts_with("/*") {
            rest.find("*/").map_or(rest.len(), |end| end + 2)
        } else if let Some(hashes) = rest
            .strip_prefix('r')
            .and_then(|raw| raw.find('"').filter(|at| raw[..*at].chars().all(|sign| sign == '#')))
        {
            let end = format!("\"{}", "#".repeat(hashes));
            rest[hashes + 2..].find(&end).map_or(rest.len(), |at| at + hashes + 2 + end.len())
        } else if first == '"' {
            let mut escaped = false;
            let end = rest[1..].find(|sign| {
                let ends = sign == '"' && !escaped;
                escaped = sign == '\\' && !escaped;
                ends
            });
            end.map_or(rest.len(), |at| at + 2)
        } else if first == '\'' {
            // A character in quotes, or a lifetime.
            let inner = rest[1..].chars().next().unwrap_or(' ');
            let plain = 1 + inner.len_utf8();
            if inner == '\\' {
                rest[3..].find('\'').map_or(rest.len(), |at| at + 4)
            } else if rest[plain..].starts_with('\'') {
                plain + 1
            } else {
                1
            }
        } else if first.is_alphabetic() || first == '_' {
            let end = rest.find(|sign: char| !(sign.is_alphanumeric() || sign == '_')).unwrap_or(rest.len());
            tokens.push(rest[..end].to_owned());
            end
        } else if rest.starts_with("::") {
            tokens.push("::".to_owned());
            2
        } else {
            if !first.is_whitespace() {
                tokens.push(first.to_string());
            }
            first.len_utf8()
        };
        rest = &rest[taken..];
    }
    tokens
}

/// The same without items that only tests have.
fn without_tests(tokens: &[String]) -> Vec<String> {
    let mut kept = Vec::new();
    let mut at = 0;
    let mark = ["#", "[", "cfg", "(", "test", ")", "]"];
    while at < tokens.len() {
        if !tokens[at..].iter().map(String::as_str).take(mark.len()).eq(mark) {
            kept.push(tokens[at].clone());
            at += 1;
            continue;
        }
        // To the end of the item: a semicolon, or the brace that closes it.
        let mut depth = 0_usize;
        for token in &tokens[at..] {
            at += 1;
            depth += usize::from(["{", "(", "["].contains(&token.as_str()));
            depth -= usize::from(["}", ")", "]"].contains(&token.as_str()));
            if depth == 0 && (token == ";" || token == "}") {
                break;
            }
        }
    }
    kept
}

/// The names of every `use` line.
fn uses(tokens: &[String]) -> Vec<Use> {
    let mut all = Vec::new();
    for (at, _) in tokens.iter().enumerate().filter(|(_, token)| *token == "use") {
        let before = at.checked_sub(1).and_then(|before| tokens.get(before)).map(String::as_str);
        let is_public = matches!(before, Some("pub" | ")"));
        if !matches!(before, None | Some("pub" | ")" | "]" | ";" | "}" | "{")) {
            continue; // `+ use<…>` in a type
        }
        let mut outer: Vec<Vec<String>> = vec![Vec::new()];
        let mut path: Vec<String> = Vec::new();
        let mut renamed = None;
        let mut end = |path: &mut Vec<String>, renamed: &mut Option<String>| {
            if path.last().is_some_and(|last| last == "self") {
                path.pop();
            }
            if let Some(last) = path.last() {
                let called = renamed.take().unwrap_or_else(|| last.clone());
                all.push(Use { is_public, path: path.clone(), called });
            }
        };
        let mut rest = tokens[at + 1..].iter();
        while let Some(token) = rest.next() {
            match token.as_str() {
                ";" => {
                    end(&mut path, &mut renamed);
                    break;
                }
                "{" => outer.push(path.clone()),
                "}" => {
                    end(&mut path, &mut renamed);
                    outer.pop();
                    path.clear();
                }
                "," => {
                    end(&mut path, &mut renamed);
                    path = outer.last().cloned().unwrap_or_default();
                }
                "as" => renamed = rest.next().cloned(),
                "::" => {}
                word => path.push(word.to_owned()),
            }
        }
    }
    all
}

/// The same without `use` lines.
fn without_uses(tokens: &[String]) -> Vec<String> {
    let mut is_inside = false;
    let mut kept = Vec::new();
    for token in tokens {
        is_inside |= token == "use";
        if !is_inside {
            kept.push(token.clone());
        }
        is_inside &= token != ";";
    }
    kept
}

/// Every path with more than one part.
fn paths(tokens: &[String]) -> Vec<Vec<String>> {
    let is_word = |token: &String| token.starts_with(|sign: char| sign.is_alphabetic() || sign == '_');
    let mut all = Vec::new();
    let mut at = 0;
    while at < tokens.len() {
        let mut path = Vec::new();
        while tokens.get(at).is_some_and(is_word) {
            path.push(tokens[at].clone());
            at += 1;
            if tokens.get(at).is_some_and(|token| token == "::") { at += 1 } else { break }
        }
        if path.len() > 1 {
            all.push(path);
        } else if path.is_empty() {
            at += 1;
        }
    }
    all
}
