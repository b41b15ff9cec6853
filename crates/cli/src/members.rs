//! `webtaxon members`: who is in a group, through which groups, and what is broken in its nest.

use crate::arguments::{Common, Format, Members as Options};
use crate::output::{Output, harmless, width};
use crate::run::{Exit, failed, open, same_options};
use crate::text;
use webtaxon::core::membership::Nest;
use webtaxon::core::name::Dn;
use webtaxon::core::schema::nearest;
use webtaxon::directory::survey::{self, EntryKind, Finding};
use webtaxon::{Error, Workspace, report};

/// Groups that are looked at for a name.
const FOUND: usize = 200;

pub(crate) async fn run(options: &Options, common: &Common, output: &Output) -> Exit {
    let workspace = match open(common, output) {
        Ok(workspace) => workspace,
        Err(exit) => return exit,
    };
    if let Some(person) = &options.of {
        return groups_of(&workspace, person, common, output).await;
    }
    let text = options.group.as_deref().unwrap_or_default();
    let group = match named(&workspace, text, EntryKind::Group, output).await {
        Ok(group) => group,
        Err(exit) => return exit,
    };
    let reading = match workspace.nest(&group).await {
        Ok(reading) => reading,
        Err(error) => return failed(&error, output),
    };
    let Some(nest) = Nest::of(&reading, &group.key()) else {
        for gap in reading.gaps() {
            output.error_text(&format!("{}: {}", gap.part, gap.reason));
        }
        let option = same_options(common);
        output
            .aside(&format!("  To do: webtaxon browse{option} --find NAME shows the full names of groups\n"));
        return Exit::Failed;
    };
    output.answer(&match common.format {
        Format::Json => format!("{:#}\n", report::members(&nest, &reading)),
        Format::Text if options.tree => text::nest_tree(&nest, &reading),
        Format::Text if options.broken => text::nest_broken(&nest, &reading),
        Format::Text => text::members(
            &nest,
            &reading,
            width(),
            &format!("{} \"{}\"", same_options(common), harmless(text)),
        ),
    });
    if reading.gaps().is_empty() { Exit::Done } else { Exit::NotWhole }
}

/// All groups of one person.
async fn groups_of(workspace: &Workspace, text: &str, common: &Common, output: &Output) -> Exit {
    let person = match named(workspace, text, EntryKind::Person, output).await {
        Ok(person) => person,
        Err(exit) => return exit,
    };
    let reading = match workspace.all_nests().await {
        Ok(reading) => reading,
        Err(error) => return failed(&error, output),
    };
    if !reading.is_person(&person.key()) {
        output.warning(
            "this is none of the people whom the intake reads: groups that do not list them are not seen",
        );
    }
    let groups = reading.graph().above(&person.key());
    output.answer(&match common.format {
        Format::Json => format!("{:#}\n", report::groups(&person.to_string(), &groups, &reading)),
        Format::Text => text::groups(&person.to_string(), &groups, &reading),
    });
    if reading.gaps().is_empty() { Exit::Done } else { Exit::NotWhole }
}

/// The group or the person that is meant: a name in full, or a piece of one that a single entry has.
async fn named(workspace: &Workspace, text: &str, kind: EntryKind, output: &Output) -> Result<Dn, Exit> {
    if let Ok(pasted) = Dn::parse_pasted(text)
        && pasted.dn.depth() > 0
    {
        output.pasted(&pasted);
        return Ok(pasted.dn);
    }
    let found = match find(workspace, text, kind).await {
        Ok(found) => found,
        Err(error) => return Err(failed(&error, output)),
    };
    let is_called = |one: &&Finding| {
        let login = one.login.as_deref().unwrap_or("");
        one.name.eq_ignore_ascii_case(text) || login.eq_ignore_ascii_case(text)
    };
    let exact: Vec<&Finding> = found.iter().filter(is_called).collect();
    let several: Vec<&Finding> = if exact.is_empty() { found.iter().collect() } else { exact };
    let (nobody, many) = match kind {
        EntryKind::Group => ("no group has", "groups"),
        _ => ("nobody has", "people"),
    };
    match several.as_slice() {
        [only] => Dn::parse(&only.dn).map_err(|error| {
            output.error(&error);
            Exit::Failed
        }),
        [] => {
            let hint = nearest_name(workspace, text, kind).await;
            let hint = hint.map(|near| format!("; did you mean {near}?")).unwrap_or_default();
            output.error_text(&format!("{nobody} \"{text}\" in the name{hint}"));
            Err(Exit::Failed)
        }
        _ => {
            output.error_text(&format!(
                "\"{text}\" is in the names of {} {many}; name one of them in full:",
                several.len()
            ));
            for group in several.iter().take(20) {
                output.aside(&format!("  {}\n", harmless(&group.dn)));
            }
            Err(Exit::Failed)
        }
    }
}

/// The groups, or the people, with a text in their names.
async fn find(workspace: &Workspace, text: &str, kind: EntryKind) -> Result<Vec<Finding>, Error> {
    let mut connection = workspace.connect().await?;
    let found = survey::find(&mut connection, text, FOUND).await;
    connection.close().await;
    Ok(found?.0.into_iter().filter(|one| one.kind == kind).collect())
}

/// The name that is most like one that nobody has: among those with one of its words.
async fn nearest_name(workspace: &Workspace, text: &str, kind: EntryKind) -> Option<String> {
    let mut words: Vec<&str> = text.split_whitespace().filter(|word| word.chars().count() > 2).collect();
    words.sort_by_key(|word| std::cmp::Reverse(word.len()));
    for word in words.into_iter().take(3) {
        let found = find(workspace, word, kind).await.ok()?;
        if let Some(near) = nearest(text, found.iter().map(|one| one.name.as_str())) {
            return Some(near.to_owned());
        }
    }
    None
}
