//! What is known without asking a server agrees with what the servers publish.

use crate::Desk;
use webtaxon::directory::read_schema;
use webtaxon::model::ldap::schema::ServerKind;
use webtaxon::model::ldap::schema::{AttributeType, Schema};

#[tokio::test]
#[ignore = "needs scripts/real-directories up"]
async fn the_builtin_schema_agrees_with_real_servers() {
    for (desk, kind, fewest) in
        [(Desk::slapd(), ServerKind::Plain, 100), (Desk::samba(), ServerKind::Controller, 120)]
    {
        let mut connection = desk.workspace().unwrap().connect().await.unwrap();
        let published = read_schema(&mut connection).await.unwrap();
        assert_eq!(published.problems(), [], "{kind:?}: the whole subschema is read");
        let told = |known: &AttributeType| (known.rule, known.is_ordered, known.has_pieces, known.single);
        let mut compared = 0;
        for own in Schema::of(kind).types() {
            // Of another OID or syntax under one name it is another type.
            let same = |theirs: &&AttributeType| theirs.oid == own.oid && theirs.syntax == own.syntax;
            if let Some(theirs) = published.find(own.name()).filter(same) {
                // OpenLDAP compares these in no order; what is Webtaxon's own to judge is, all the same.
                let is_known = own.name().starts_with("shadow") && own.is_ordered && !theirs.is_ordered;
                assert!(is_known || told(own) == told(theirs), "{kind:?}: {}", own.name());
                compared += 1;
            }
        }
        assert!(compared > fewest, "{kind:?}: {compared} types were compared");
        let classes = Schema::of(kind).classes();
        let common = classes.filter(|own| {
            published.find_class(&own.oid).is_some_and(|theirs| theirs.superiors == own.superiors)
        });
        assert!(common.count() > 20, "{kind:?}");
    }
}
