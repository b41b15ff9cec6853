//! A preview, and a group's members, as tables for spreadsheets (CSV, RFC 4180). Cells that look like formulas are
//! defused.

use super::words::{self, short};
use indexmap::IndexSet;
use std::borrow::Cow;
use webtaxon_core::membership::Nest;
use webtaxon_core::preview::{Cause, Change, GroupChange, Held, Preview};

/// A table written row by row.
struct Table {
    writer: csv::Writer<Vec<u8>>,
    columns: usize,
}

impl Table {
    fn new(header: &[String]) -> Self {
        let mut table = Self { writer: csv::Writer::from_writer(Vec::new()), columns: header.len() };
        table.row(header.to_vec());
        table
    }

    /// Writes a row, padded with empty cells.
    fn row(&mut self, mut cells: Vec<String>) {
        cells.resize(self.columns, String::new());
        // Writing to memory cannot fail.
        let _ = self.writer.write_record(cells.iter().map(|cell| tame(cell).into_owned()));
    }

    fn text(self) -> String {
        String::from_utf8(self.writer.into_inner().unwrap_or_default()).unwrap_or_default()
    }
}

/// The changes, and those held back: `kind`, `login`, `person`, `dn`, `cause`, `why`, `path`, and two columns, `FIELD
/// now` and `FIELD after`, for each field that changes anywhere. A group's name is under `person`.
#[must_use]
pub fn preview_csv(preview: &Preview) -> String {
    let fields: IndexSet<&str> =
        preview.changes.iter().flat_map(|change| change.fields.keys().map(String::as_str)).collect();
    let own = ["kind", "login", "person", "dn", "cause", "why", "path"].map(str::to_owned);
    let of_fields = fields.iter().flat_map(|name| [format!("{name} now"), format!("{name} after")]);
    let mut table = Table::new(&own.into_iter().chain(of_fields).collect::<Vec<_>>());
    for change in &preview.changes {
        let mut row = change_row(change);
        for name in &fields {
            let field = change.fields.get(*name);
            row.push(field.and_then(|field| field.old.clone()).unwrap_or_default());
            row.push(field.and_then(|field| field.new.clone()).unwrap_or_default());
        }
        table.row(row);
    }
    for held in &preview.held {
        table.row(held_row(held));
    }
    if let Some(groups) = &preview.groups {
        for change in &groups.changes {
            table.row(group_row(change.kind.name(), &change.name, change.dn.as_deref(), group_why(change)));
        }
        for held in &groups.held {
            table.row(group_row("group held", &held.name, held.dn.as_deref(), held.message.clone()));
        }
    }
    table.text()
}

fn change_row(change: &Change) -> Vec<String> {
    let why = match (change.clash(), change.detail(), change.cause()) {
        (Some(clash), _, _) => format!("{}; to do: {}", clash.message(), change.remedy()),
        (None, Some(detail), _) => detail.into_owned(),
        (None, None, Some(cause)) => words::cause(cause).to_owned(),
        (None, None, None) => String::new(),
    };
    let wait = words::wait(change).map(|wait| format!("; {wait}"));
    vec![
        change.kind().name().to_owned(),
        change.login.clone(),
        change.dn.as_deref().map(short).unwrap_or_default(),
        change.dn.clone().unwrap_or_default(),
        change.cause().map_or("", Cause::name).to_owned(),
        why + &wait.unwrap_or_default(),
        change.path.told(short).join(" > "),
    ]
}

fn held_row(held: &Held) -> Vec<String> {
    let would = held.would.map(|kind| format!("would be {}; ", kind.name())).unwrap_or_default();
    vec![
        "held".to_owned(),
        held.login.clone(),
        held.dn.as_deref().map(short).unwrap_or_default(),
        held.dn.clone().unwrap_or_default(),
        held.cause.map_or("", |cause| cause.name()).to_owned(),
        format!("{would}{}", held.message()),
    ]
}

fn group_row(kind: &str, name: &str, dn: Option<&str>, why: String) -> Vec<String> {
    let dn = dn.unwrap_or_default().to_owned();
    vec![kind.to_owned(), String::new(), name.to_owned(), dn, String::new(), why]
}

fn group_why(change: &GroupChange) -> String {
    let (come, leave) = (change.come.join(" "), change.leave.join(" "));
    let new = change.new_name.as_ref().map(|name| format!("gets the name {name}"));
    let come = (!come.is_empty()).then(|| format!("members added: {come}"));
    let leave = (!leave.is_empty()).then(|| format!("members removed: {leave}"));
    [new, come, leave].into_iter().flatten().collect::<Vec<_>>().join("; ")
}

/// The members: `name`, `dn`, `how` (`directly`, `nested`), `listed` (`no` for membership by primary group or login
/// only), `groups` (the length of the path), and `path`, the groups from the named one down.
#[must_use]
pub fn members_csv(nest: &Nest<'_>) -> String {
    let mut table = Table::new(&["name", "dn", "how", "listed", "groups", "path"].map(str::to_owned));
    for member in nest.people() {
        let how = if member.path.len() == 1 { "directly" } else { "nested" };
        let listed = if member.unlisted { "no" } else { "yes" };
        let path = member.path.told(str::to_owned).join(" > ");
        let (name, dn) = (member.name.to_string(), member.dn.to_string());
        let groups = member.path.len().to_string();
        table.row(vec![name, dn, how.to_owned(), listed.to_owned(), groups, path]);
    }
    table.text()
}

/// Untrusted text for a table: a cell that looks like a formula is prefixed with an apostrophe.
fn tame(text: &str) -> Cow<'_, str> {
    let is_formula = text.starts_with(['\t', '\r']) || text.trim_start().starts_with(['=', '+', '-', '@']);
    if is_formula { Cow::Owned(format!("'{text}")) } else { Cow::Borrowed(text) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use webtaxon_core::account::{Account, State};
    use webtaxon_core::ldap::identity::Identity;
    use webtaxon_core::ldap::name::Dn;
    use webtaxon_core::preview::Memory;
    use webtaxon_core::preview::Situation;
    use webtaxon_core::reading::{Ended, Part, ReadingBuilder, Request, Source};
    use webtaxon_core::settings::Settings;

    #[test]
    fn formulas_are_defused_and_every_row_has_every_column() {
        let text = "[directory.d]\nservers = \"ldaps://dc1\"\n[accounts]\nstore = \"csv\"\npath = \"a.csv\"\n\
             [[intake]]\nname = \"n\"\ndirectory = \"d\"\nbases = \"OU=P\"\nfilter = \"(cn=*)\"\n\
             [intake.fields]\nlogin = { from = \"uid\" }\nname = { from = \"cn\" }\n";
        let settings = Settings::parse("test", text.as_bytes()).unwrap();
        let mut sweep = ReadingBuilder::new(Source { identity: "entryUUID".into(), ..Source::default() });
        let part = sweep.open(Part::People { base: Dn::parse("OU=P").unwrap() });
        let values = [("entryUUID", "a"), ("uid", "=cmd"), ("cn", "a \"b\", c\n=d")];
        sweep.person("CN=\\=x,OU=P", values.map(|(name, value)| (name, [value.as_bytes()]))).unwrap();
        sweep.close(part, Ended::Complete);
        let lost = Identity::from_link("lost");
        let accounts = [Account {
            login: "@lost".into(),
            link: lost,
            state: State::Active,
            fields: [].into_iter().collect(),
        }];
        let table = preview_csv(&Preview::of(Situation::new(
            &settings,
            &sweep.finish_shown(&Request::of(&settings.intakes.first)),
            &accounts,
            &Memory::on(jiff::civil::date(2026, 11, 25)),
        )));
        let rows: Vec<csv::StringRecord> =
            csv::Reader::from_reader(table.as_bytes()).records().map(Result::unwrap).collect();
        let cells: Vec<Vec<&str>> = rows.iter().map(|row| row.iter().collect()).collect();
        assert_eq!(cells[0][..4], ["import", "'=cmd", "'=x", "CN=\\=x,OU=P"]);
        assert_eq!(cells[0][7..], ["", "'=cmd", "", "a \"b\", c\n=d"]);
        assert_eq!(cells[1][..2], ["held", "'@lost"]);
    }
}
