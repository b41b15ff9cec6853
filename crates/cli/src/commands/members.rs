//! `webtaxon members`: who is in a group, through which groups, and what is broken in its nest.

use crate::arguments::{Drawn, Format, Members as Options};
use crate::output::{harmless, width};
use crate::session::{Exit, Failure, Session};
use crate::text;
use std::path::Path;
use webtaxon::model::ldap::name::{Dn, short};
use webtaxon::model::membership::{Nest, Ways};
use webtaxon::model::reading::Reading;
use webtaxon::survey::EntryKind;
use webtaxon::{Named, Workspace, report};

/// Maximum paths to a person shown.
const MOST_WAYS: usize = 20;

pub(crate) async fn run(options: &Options, session: &Session<'_>) -> Result<Exit, Failure> {
    let workspace = session.open_for(options.looked_at.intake.as_deref())?;
    if let (Some(group), Some(file)) = (&options.group, &options.since) {
        return since(&workspace, group, file, session).await;
    }
    match (&options.group, &options.of) {
        (Some(group), Some(person)) => ways(&workspace, group, person, session).await,
        (None, Some(person)) => groups_of(&workspace, person, session).await,
        (group, None) => members_of(&workspace, group.as_deref().unwrap_or_default(), options, session).await,
    }
}

/// The members of a group.
async fn members_of(
    workspace: &Workspace,
    text: &str,
    options: &Options,
    session: &Session<'_>,
) -> Result<Exit, Failure> {
    let (group, reading) = nest_of(workspace, text, session).await?;
    let Some(nest) = Nest::of(&reading, &group.key()) else {
        return no_group(workspace, &group, &reading, session).await;
    };
    let (whole, intake) = (reading.gaps().is_empty(), &workspace.settings().intakes.first);
    session.output.answer(&match (options.drawn, session.common.format) {
        (Some(Drawn::Csv), _) => report::members_csv(&nest),
        (Some(Drawn::Svg), _) => report::nest_svg(&nest, whole),
        (Some(Drawn::Dot), _) => report::nest_dot(&nest),
        (None, Format::Json) => format!("{:#}\n", report::members(&nest, &reading)),
        (None, Format::Text) if options.tree => text::nest_tree(&nest, &reading),
        (None, Format::Text) if options.broken => text::nest_broken(&nest, &reading, intake),
        (None, Format::Text) => text::members(
            &nest,
            &reading,
            intake,
            width(),
            &format!("{} \"{}\"", session.same_options(), harmless(text)),
        ),
    });
    if options.drawn.is_some() {
        for gap in reading.gaps() {
            session.output.warning(&format!("not read to its end: {}: {}", gap.part, gap.reason));
        }
    }
    Ok(Exit::by_whole(whole))
}

/// Members gained and lost since a snapshot was taken.
async fn since(
    workspace: &Workspace,
    text: &str,
    file: &Path,
    session: &Session<'_>,
) -> Result<Exit, Failure> {
    let group = named(workspace, text, EntryKind::Group, session).await?;
    let [then, now] = workspace.nest_since(&group, file).await?;
    let Some(nest) = Nest::of(&now, &group.key()) else {
        return no_group(workspace, &group, &now, session).await;
    };
    let Some(earlier) = Nest::of(&then, &group.key()) else {
        let file = file.display();
        let reason =
            format!("{file} does not contain this group; a snapshot contains the groups of its settings");
        return Err(Failure::failed(reason));
    };
    let difference = nest.since(&earlier);
    session.output.answer(&match session.common.format {
        Format::Json => format!("{:#}\n", report::since(&nest, [&then, &now], &difference)),
        Format::Text => {
            let option = format!("{} \"{}\"", session.same_options(), harmless(text));
            text::since(&nest, [&then, &now], &difference, width(), &option)
        }
    });
    let is_whole = [&then, &now].iter().all(|reading| reading.gaps().is_empty());
    Ok(Exit::by_whole(is_whole))
}

/// The group that the text refers to, and its nest.
async fn nest_of(workspace: &Workspace, text: &str, session: &Session<'_>) -> Result<(Dn, Reading), Failure> {
    let group = named(workspace, text, EntryKind::Group, session).await?;
    let reading = workspace.nest(&group).await?;
    Ok((group, reading))
}

/// Reports why a name was not read as a group.
async fn no_group(
    workspace: &Workspace,
    group: &Dn,
    reading: &Reading,
    session: &Session<'_>,
) -> Result<Exit, Failure> {
    for gap in reading.gaps() {
        session.output.error_text(&format!("{}: {}", gap.part, gap.reason));
    }
    if let Ok(Some(near)) = workspace.nearest(&short(&group.to_string()), EntryKind::Group).await
        && Dn::parse(&near.dn).is_ok_and(|near| near.key() != group.key())
    {
        session.output.aside(&format!("  did you mean {}?\n", harmless(&near.dn)));
    }
    let option = session.same_options();
    session
        .output
        .aside(&format!("  To do: webtaxon browse{option} --find NAME shows the full names of groups\n"));
    Ok(Exit::Failed)
}

/// Every path from a group to one person.
async fn ways(
    workspace: &Workspace,
    group: &str,
    person: &str,
    session: &Session<'_>,
) -> Result<Exit, Failure> {
    let (group, reading) = nest_of(workspace, group, session).await?;
    let person = named(workspace, person, EntryKind::Person, session).await?;
    if !reading.graph().is_group(&group.key()) {
        return no_group(workspace, &group, &reading, session).await;
    }
    let ways = Ways::of(&reading, &group.key(), &person.key(), MOST_WAYS);
    session.output.answer(&match session.common.format {
        Format::Json => format!("{:#}\n", report::ways(&group, &person, &ways, &reading)),
        Format::Text => text::ways(&group.to_string(), &person.to_string(), &ways, &reading),
    });
    Ok(Exit::by_whole(reading.gaps().is_empty()))
}

/// All groups of one person.
async fn groups_of(workspace: &Workspace, text: &str, session: &Session<'_>) -> Result<Exit, Failure> {
    let person = named(workspace, text, EntryKind::Person, session).await?;
    let reading = workspace.all_nests().await?;
    if !reading.is_person(&person.key()) {
        session.output.warning(
            "this person is not among the intake's people: groups that do not list them are not seen",
        );
    }
    let groups = reading.graph().above(&person.key());
    session.output.answer(&match session.common.format {
        Format::Json => format!("{:#}\n", report::groups(&person.to_string(), &groups, &reading)),
        Format::Text => text::groups(&person.to_string(), &groups, &reading),
    });
    Ok(Exit::by_whole(reading.gaps().is_empty()))
}

/// The group or person that the text refers to: a full name, or a part of one that matches a single entry.
async fn named(
    workspace: &Workspace,
    text: &str,
    kind: EntryKind,
    session: &Session<'_>,
) -> Result<Dn, Failure> {
    if let Ok(pasted) = Dn::parse_pasted(text)
        && pasted.dn.depth() > 0
    {
        session.output.pasted(&pasted);
        return Ok(pasted.dn);
    }
    let (found, nobody, many) = match kind {
        EntryKind::Group => (workspace.find_group(text).await?, "no group has", "groups"),
        _ => (workspace.find_person(text).await?, "nobody has", "people"),
    };
    match found {
        Named::One(dn) => Ok(dn),
        Named::Nothing => {
            let near = workspace.nearest(text, kind).await.ok().flatten();
            let hint = near.map(|near| format!("; did you mean {}?", near.name)).unwrap_or_default();
            Err(Failure::failed(format!("{nobody} \"{text}\" in the name{hint}")))
        }
        Named::Several(names) => {
            let count = names.len();
            let reason = format!("\"{text}\" is in the names of {count} {many}; give one of them in full:");
            let list: String = names.iter().take(20).map(|name| format!("  {}\n", harmless(name))).collect();
            Err(Failure::failed(reason).with(list))
        }
    }
}
