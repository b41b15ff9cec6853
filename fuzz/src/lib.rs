//! What each fuzz target tries: any bytes, no panic, and the laws that hold for whatever is read.
//!
//! The bodies stand here, without a fuzzer, so that the tests try them on every seed of `corpus/`.
//! `scripts/fuzz` runs the fuzzer itself.

use webtaxon_core::ldap::entry::Entries;
use webtaxon_core::ldap::filter::advice::{Context, advise};
use webtaxon_core::ldap::filter::{Filter, Ground, Matcher, count, explain};
use webtaxon_core::ldap::ldif::{self, LdifError, Record, Stream};
use webtaxon_core::ldap::name::Dn;
use webtaxon_core::ldap::schema::{Schema, ServerKind};

/// A name: what is printed is read back, in any form, and lies under its parents.
pub fn name(data: &[u8]) {
    let Ok(text) = std::str::from_utf8(data) else { return };
    for dn in
        [Dn::parse(text).ok(), Dn::parse_pasted(text).ok().map(|pasted| pasted.dn)].into_iter().flatten()
    {
        let again = Dn::parse(&dn.to_string()).expect("what is printed is a name");
        assert_eq!(again, dn);
        assert_eq!(dn.key().depth(), dn.depth());
        if let Some(parent) = dn.parent() {
            assert!(dn.key().is_within(&parent.key()));
            assert_eq!(dn.key().parent(), Some(parent.key()));
            assert_eq!(dn.relative_to(&parent).map(|front| front.depth()), Some(1));
        }
    }
}

/// A filter: what is printed is read back; what explains it agrees with what evaluates it.
pub fn filter(data: &[u8]) {
    let Ok(text) = std::str::from_utf8(data) else { return };
    let Ok(read) = Filter::parse_pasted(text) else {
        assert!(Filter::parse(text).is_err());
        return;
    };
    let filter = read.filter;
    assert_eq!(Filter::parse(&filter.to_string()).as_ref(), Ok(&filter));
    let mut entries = Entries::new();
    let ada: [(&str, &[u8]); 5] = [
        ("cn", b"Ada Ibbotson"),
        ("objectClass", b"person"),
        ("uidNumber", b"42"),
        ("member", b"CN=Ada,DC=x"),
        ("createTimestamp", b"20261125120000Z"),
    ];
    entries.push("CN=Ada,DC=x", ada.map(|(name, value)| (name, [value])));
    let entry = entries.get(0).expect("it was put there");
    for kind in [ServerKind::Plain, ServerKind::Controller] {
        let schema = Schema::of(kind);
        let ground = Ground { schema, names: entries.names(), chain: None };
        let truth = Matcher::on(&filter, ground).truth(entry);
        assert_eq!(explain(&filter, entry, ground).first().map(|whole| whole.truth), Some(truth));
        assert_eq!(count(&filter, entries.iter(), ground).first().map(|whole| whole.reached), Some(1));
        let context = Context { kind, schema, unknown: &|_| None, active_elsewhere: false, entries: None };
        for advice in advise(&filter, context) {
            if let Some(rewrite) = advice.rewrite {
                assert_eq!(Filter::parse(&rewrite.to_string()), Ok(rewrite));
            }
        }
    }
}

/// LDIF: in pieces it gives what it gives at once, and what is written is read back.
pub fn ldif(data: &[u8]) {
    type Told = Result<(usize, String, usize, bool), LdifError>;
    let told = |record: Result<Record<'_>, LdifError>| -> Told {
        record.map(|one| (one.line, one.dn.into_owned(), one.attributes.len(), one.change.is_some()))
    };
    let whole: Vec<Told> = ldif::records(data).map(told).collect();
    let mut given = Vec::new();
    let mut stream = Stream::new();
    let piece = 1 + data.first().map_or(0, |first| usize::from(*first) % 32);
    for piece in data.chunks(piece) {
        stream.push(piece, |record| given.push(told(record)));
    }
    stream.end(|record| given.push(told(record)));
    assert_eq!(given, whole);
    if let Ok(entries) = ldif::entries(data) {
        let mut text = String::new();
        for entry in entries.iter() {
            ldif::write_record(&mut text, entry.dn(), entry.attributes());
        }
        let again = ldif::entries(text.as_bytes()).expect("what is written is read");
        assert_eq!(again.len(), entries.len());
    }
    let _ = ldif::changed(&Entries::new(), data);
}

/// A subschema, a definition on each line: whatever a server publishes, filters are evaluated.
pub fn schema(data: &[u8]) {
    let kinds = ["attributeTypes", "objectClasses", "matchingRules", "ldapSyntaxes"];
    let lines = data.split(|byte| *byte == b'\n');
    let definitions = lines.flat_map(|line| kinds.map(|kind| (kind, line)));
    let schema = Schema::read(ServerKind::Plain, definitions);
    let mut entries = Entries::new();
    entries.push("CN=Ada", [("cn", [b"Ada".as_slice()])]);
    let names: Vec<String> = schema.types().take(20).map(|known| known.name().to_owned()).collect();
    for name in names {
        assert!(schema.find(&name).is_some());
        assert!(schema.covered(&name).contains(&name));
        let filter = Filter::And(vec![Filter::equal(&name, "Ada"), Filter::present(&name)]);
        let _ =
            Matcher::new(&filter, &schema, entries.names()).truth(entries.get(0).expect("it was put there"));
    }
}

#[cfg(test)]
mod tests {
    /// Tries a target on every seed.
    fn tried(folder: &str, target: fn(&[u8])) {
        let folder = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("corpus").join(folder);
        let mut count = 0;
        for seed in std::fs::read_dir(&folder).unwrap_or_else(|error| panic!("{}: {error}", folder.display()))
        {
            target(&std::fs::read(seed.unwrap().path()).unwrap());
            count += 1;
        }
        assert!(count > 4, "{}: {count} seeds", folder.display());
    }

    #[test]
    fn every_seed_of_a_name_is_tried() {
        tried("name", super::name);
    }

    #[test]
    fn every_seed_of_a_filter_is_tried() {
        tried("filter", super::filter);
    }

    #[test]
    fn every_seed_of_ldif_is_tried() {
        tried("ldif", super::ldif);
    }

    #[test]
    fn every_seed_of_a_schema_is_tried() {
        tried("schema", super::schema);
    }
}
