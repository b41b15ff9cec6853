//! What of an account is written, and what stays: fields by `write`, roles by rule and by hand.

use super::*;

/// One account, linked to a person of the same name; what becomes of its field `name` and its roles.
fn outcome(extra: &str, name: &str, roles: &str, group: Ended) -> String {
    let text = format!(
        "[directory.d]\nservers = \"ldaps://dc1\"\n[accounts]\nstore = \"csv\"\npath = \"a.csv\"\n\
         [[intake]]\nname = \"staff\"\ndirectory = \"d\"\nbases = \"OU=People\"\nfilter = \"(cn=*)\"\n{extra}"
    );
    let settings = Settings::parse("test", text.as_bytes()).unwrap_or_else(|error| panic!("{error:?}"));
    let mut builder = ReadingBuilder::new(Source { identity: "entryUUID".into(), ..Source::default() });
    let values = [("entryUUID", "ada"), ("uid", "ada"), ("cn", "Ada"), ("tel", "b"), ("tel", "a")];
    let values = values.map(|(name, value)| (name, [value.as_bytes()]));
    builder.person("CN=ada,OU=People", values).unwrap();
    let part = builder.open(Part::People { base: dn("OU=People") });
    builder.close(part, Ended::Complete);
    let part = builder.open_group(&dn("CN=Some"), GroupPurpose::Decide);
    builder.close(part, group);
    let mut account = account("ada");
    account.fields.insert("name".into(), name.into());
    account.fields.insert("roles".into(), roles.into());
    let preview = Preview::of(Situation::new(
        &settings,
        &builder.finish_shown(&Request::of(&settings.intakes.first)),
        &[account],
        &today(),
    ));
    let fields = preview.changes.iter().flat_map(|change| &change.fields);
    let new = fields.map(|(name, field)| format!("{name}={}", field.new.as_deref().unwrap_or("?")));
    new.collect::<Vec<_>>().join(" ")
}

#[test]
fn a_field_is_written_as_its_rule_says() {
    for (rule, old, expected, why) in [
        ("{ from = \"cn\" }", "Old", "name=Ada", "always"),
        ("{ from = \"mail\" }", "Old", "name=", "the directory has none"),
        ("{ from = \"cn\", write = \"once\" }", "Old", "", "only when the account is made"),
        ("{ from = \"cn\", write = \"once\" }", "", "", "even where there is none"),
        ("{ from = \"cn\", write = \"empty\" }", "Old", "", "the application has one"),
        ("{ from = \"cn\", write = \"empty\" }", "", "name=Ada", "the application has none"),
        ("{ from = \"cn\", longest = 2 }", "Old", "", "a value that is not good changes nothing"),
        ("{ from = \"tel\", every = true }", "b;a", "", "values have no order"),
        ("{ from = \"tel\", every = true }", "b", "name=a;b", "one more"),
    ] {
        let extra = format!("[intake.fields]\nlogin = {{ from = \"uid\" }}\nname = {rule}\n");
        assert_eq!(outcome(&extra, old, "", Ended::Complete), expected, "{why}: {rule}");
    }
}

#[test]
fn roles_are_given_and_taken_by_rule_and_kept_by_hand() {
    let everybody = "[[intake.role]]\nname = \"borrower\"\n";
    let nobody = "[[intake.role]]\nname = \"approver\"\nunder = \"OU=Elsewhere\"\n";
    let some = "[[intake.role]]\nname = \"approver\"\nin_group = \"CN=Some\"\n";
    let cut = || Ended::Short("cut".into());
    for (other, roles, old, group, expected, why) in [
        ("", "", "admin", Ended::Complete, "", "no rules, nothing touched"),
        ("", everybody, "", Ended::Complete, "roles=borrower", "given"),
        ("", everybody, "admin; borrower", Ended::Complete, "", "there already"),
        ("", everybody, "admin", Ended::Complete, "roles=admin;borrower", "one given by hand stays"),
        (
            "other_roles = \"remove\"\n",
            everybody,
            "admin;borrower",
            Ended::Complete,
            "roles=borrower",
            "or goes",
        ),
        ("", nobody, "approver;admin", Ended::Complete, "roles=admin", "taken"),
        ("", some, "approver", Ended::Complete, "roles=", "not in the group"),
        ("", some, "approver", cut(), "", "the group was not read: kept"),
        ("", some, "", cut(), "", "the group was not read: not given"),
    ] {
        let extra = format!("{other}{roles}[intake.fields]\nlogin = {{ from = \"uid\" }}\n");
        // A table of the intake comes behind its keys.
        let extra = extra.replacen(roles, "", 1) + roles;
        assert_eq!(outcome(&extra, "ada", old, group), expected, "{why}");
    }
}

#[test]
fn a_gap_in_another_group_leaves_roles_known() {
    let role = crate::settings::rules::Condition { in_group: vec![dn("CN=Some")], ..Default::default() };
    let mut settings = settings();
    settings
        .intakes
        .first
        .roles
        .push(crate::settings::rules::RoleRule { name: "approver".into(), condition: role });
    for (unread, expected, why) in [
        ("CN=Else", Some(false), "a group beside it"),
        ("CN=Inner", None, "a nested one"),
        ("CN=Some", None, "the group itself"),
    ] {
        let mut builder = ReadingBuilder::new(Source { identity: "entryUUID".into(), ..Source::default() });
        builder.person("CN=ada,OU=People", [("uid", [b"ada".as_slice()]), ("mail", [b"a@x"])]).unwrap();
        builder.graph_mut().add_group(dn("CN=Some").key(), "CN=Some", [(dn("CN=Inner").key(), "CN=Inner")]);
        for name in ["CN=Some", "CN=Inner", "CN=Else"] {
            let part = builder.open_group(&dn(name), GroupPurpose::Decide);
            let ended = if name == unread { Ended::Short("cut".into()) } else { Ended::Complete };
            builder.close(part, ended);
        }
        let reading = builder.finish_shown(&Request::of(&settings.intakes.first));
        assert_eq!(crate::draw::Drawer::new(&settings.intakes.first, &reading).role(0, 0), expected, "{why}");
    }
}

#[test]
fn nobody_comes_in_whose_fields_hang_on_what_was_not_read() {
    let mut settings = settings();
    settings.intakes.first.roles.push(crate::settings::rules::RoleRule {
        name: "approver".into(),
        condition: crate::settings::rules::Condition { in_group: vec![dn("CN=Some")], ..Default::default() },
    });
    let mut list = vec![account("ben")];
    list[0].fields.insert("roles".into(), "approver".into());
    // The group was never read: a gap, so that nobody can say who is in it.
    let mut builder = ReadingBuilder::new(Source { identity: "entryUUID".into(), ..Source::default() });
    for uid in ["ada", "ben"] {
        let mail = format!("{uid}@quillmere.example");
        let values = [("entryUUID", uid), ("uid", uid), ("cn", uid), ("mail", &mail)];
        let values = values.map(|(name, value)| (name, [value.as_bytes()]));
        builder.person(&format!("CN={uid},OU=People"), values).unwrap();
    }
    let part = builder.open_group(&dn("CN=Out"), GroupPurpose::Exclude);
    builder.close(part, Ended::Complete);
    let preview = Preview::of(Situation::new(
        &settings,
        &builder.finish_shown(&Request::of(&settings.intakes.first)),
        &list,
        &today(),
    ));
    assert_eq!(words(&preview), ["held ada FieldsUnknown"]);
    assert_eq!(preview.unchanged, 1, "and ben keeps the role");
}
