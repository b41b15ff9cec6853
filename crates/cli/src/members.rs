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
    let group = match named(&workspace, &options.group, output).await {
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
            &format!("{} \"{}\"", same_options(common), harmless(&options.group)),
        ),
    });
    if reading.gaps().is_empty() { Exit::Done } else { Exit::NotWhole }
}

/// The group that is meant: a name in full, or one that a single group has.
async fn named(workspace: &Workspace, text: &str, output: &Output) -> Result<Dn, Exit> {
    if let Ok(pasted) = Dn::parse_pasted(text)
        && pasted.dn.depth() > 0
    {
        output.pasted(&pasted);
        return Ok(pasted.dn);
    }
    let groups = match find(workspace, text).await {
        Ok(groups) => groups,
        Err(error) => return Err(failed(&error, output)),
    };
    let is_called = |group: &&Finding| {
        let login = group.login.as_deref().unwrap_or("");
        group.name.eq_ignore_ascii_case(text) || login.eq_ignore_ascii_case(text)
    };
    let exact: Vec<&Finding> = groups.iter().filter(is_called).collect();
    let several: Vec<&Finding> = if exact.is_empty() { groups.iter().collect() } else { exact };
    match several.as_slice() {
        [only] => Dn::parse(&only.dn).map_err(|error| {
            output.error(&error);
            Exit::Failed
        }),
        [] => {
            let hint = nearest_group(workspace, text).await;
            let hint = hint.map(|near| format!("; did you mean {near}?")).unwrap_or_default();
            output.error_text(&format!("no group has \"{text}\" in its name{hint}"));
            Err(Exit::Failed)
        }
        _ => {
            output.error_text(&format!(
                "\"{text}\" is in the names of {} groups; name one of them in full:",
                several.len()
            ));
            for group in several.iter().take(20) {
                output.aside(&format!("  {}\n", harmless(&group.dn)));
            }
            Err(Exit::Failed)
        }
    }
}

/// The groups with a text in their names.
async fn find(workspace: &Workspace, text: &str) -> Result<Vec<Finding>, Error> {
    let mut connection = workspace.connect().await?;
    let found = survey::find(&mut connection, text, FOUND).await;
    connection.close().await;
    Ok(found?.0.into_iter().filter(|one| one.kind == EntryKind::Group).collect())
}

/// The name of a group that is most like one that nobody has: among those with one of its words.
async fn nearest_group(workspace: &Workspace, text: &str) -> Option<String> {
    let mut words: Vec<&str> = text.split_whitespace().filter(|word| word.chars().count() > 2).collect();
    words.sort_by_key(|word| std::cmp::Reverse(word.len()));
    for word in words.into_iter().take(3) {
        let groups = find(workspace, word).await.ok()?;
        if let Some(near) = nearest(text, groups.iter().map(|group| group.name.as_str())) {
            return Some(near.to_owned());
        }
    }
    None
}
