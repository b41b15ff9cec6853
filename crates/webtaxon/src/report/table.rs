//! A preview as a table for a spreadsheet: one row for each change and for what was held back.

use super::tame;
use super::words::{self, short};
use indexmap::IndexSet;
use webtaxon_core::preview::Preview;

/// The changes as CSV (RFC 4180): `kind`, `login`, `person`, `dn`, `cause`, `why`, `path`, and for each
/// field that changes anywhere two columns, `FIELD now` and `FIELD after`. A group stands under `person`. Cells that a spreadsheet would
/// take for formulas are defused.
#[must_use]
pub fn preview_csv(preview: &Preview) -> String {
    let names: IndexSet<&str> =
        preview.changes.iter().flat_map(|change| change.fields.keys().map(String::as_str)).collect();
    let mut writer = csv::Writer::from_writer(Vec::new());
    let mut header: Vec<String> =
        ["kind", "login", "person", "dn", "cause", "why", "path"].map(str::to_owned).to_vec();
    for name in &names {
        header
            .extend([tame(&format!("{name} now")).into_owned(), tame(&format!("{name} after")).into_owned()]);
    }
    // Writing to memory does not fail.
    let _ = writer.write_record(&header);
    let person = |dn: &Option<String>| dn.as_deref().map(short).unwrap_or_default();
    for change in &preview.changes {
        let why = match (&change.clash, &change.detail, change.cause) {
            (Some(clash), _, _) => format!("{}; to do: {}", clash.message(), change.remedy()),
            (None, Some(detail), _) => detail.clone(),
            (None, None, Some(cause)) => words::cause(cause).to_owned(),
            (None, None, None) => String::new(),
        };
        let wait = change.wait.as_ref().map(|wait| format!("; {}", words::wait(wait)));
        let why = why + &wait.unwrap_or_default();
        let mut row = vec![
            change.kind.name().to_owned(),
            change.login.clone(),
            person(&change.dn),
            change.dn.clone().unwrap_or_default(),
            change.cause.map_or("", |cause| cause.name()).to_owned(),
            why,
            change.path.told(short).join(" > "),
        ];
        for name in &names {
            let field = change.fields.get(*name);
            row.extend(
                [field.and_then(|field| field.old.clone()), field.and_then(|field| field.new.clone())]
                    .map(Option::unwrap_or_default),
            );
        }
        let _ = writer.write_record(row.iter().map(|cell| tame(cell).into_owned()));
    }
    for held in &preview.held {
        let would = held.would.map(|kind| format!("would be {}; ", kind.name())).unwrap_or_default();
        let mut row = vec![
            "held".to_owned(),
            held.login.clone(),
            person(&held.dn),
            held.dn.clone().unwrap_or_default(),
            held.cause.map_or("", |cause| cause.name()).to_owned(),
            format!("{would}{}", held.reason.message()),
        ];
        row.resize(header.len(), String::new());
        let _ = writer.write_record(row.iter().map(|cell| tame(cell).into_owned()));
    }
    if let Some(groups) = &preview.groups {
        let changes = groups.changes.iter().map(|change| {
            let (come, leave) = (change.come.join(" "), change.leave.join(" "));
            let new = change.new_name.as_ref().map(|name| format!("gets the name {name}"));
            let come = (!come.is_empty()).then(|| format!("come in: {come}"));
            let leave = (!leave.is_empty()).then(|| format!("leave: {leave}"));
            let why: Vec<String> = [new, come, leave].into_iter().flatten().collect();
            (change.kind.name(), &change.name, &change.dn, why.join("; "))
        });
        let held = groups.held.iter().map(|held| ("group held", &held.name, &held.dn, held.message.clone()));
        for (kind, name, dn, why) in changes.chain(held) {
            let dn = dn.clone().unwrap_or_default();
            let mut row = vec![kind.to_owned(), String::new(), name.clone(), dn, String::new(), why];
            row.resize(header.len(), String::new());
            let _ = writer.write_record(row.iter().map(|cell| tame(cell).into_owned()));
        }
    }
    String::from_utf8(writer.into_inner().unwrap_or_default()).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;
    use webtaxon_core::account::{Account, State};
    use webtaxon_core::ldap::identity::Identity;
    use webtaxon_core::ldap::name::Dn;
    use webtaxon_core::preview::Memory;
    use webtaxon_core::preview::Situation;
    use webtaxon_core::reading::{Ended, Part, ReadingBuilder, Source};
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
            &sweep.finish(&settings.intakes.first),
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
