//! The museum's settings are read whole; every fault is told at its place, with a way out.

use super::*;
use crate::ldap::url::Server;
use miette::Diagnostic as _;
use std::time::Duration;

const DEMO: &str = include_str!("../../../../demo/webtaxon.toml");

fn parse(text: &str) -> Result<Settings, SettingsError> {
    Settings::parse("webtaxon.toml", text.as_bytes())
}

#[test]
fn the_museums_settings_are_read_whole() {
    let settings = parse(DEMO).unwrap();
    let museum = settings.directory(&settings.intakes.first).unwrap();
    assert_eq!(museum.servers, Servers::Named(vec!["ldaps://localhost:6360".parse::<Server>().unwrap()]));
    assert_eq!(museum.trust, Trust::Authority("museum-ca.pem".into()));
    let password = Some(PasswordSource::File("museum-password.txt".into()));
    assert_eq!(museum.bind, Bind::Simple { name: "svc-loansdesk@quillmere.example".to_owned(), password });
    assert_eq!(
        (museum.page, museum.timeout, museum.deadline),
        (100, Duration::from_secs(10), Duration::from_secs(600))
    );
    let StoreSettings::Csv { path, columns, has_links: true, groups: None, .. } = &settings.accounts.store
    else {
        panic!()
    };
    assert_eq!((path.to_str(), columns.len(), settings.accounts.seats), (Some("accounts.csv"), 0, Some(75)));
    let intake = &settings.intakes.first;
    assert_eq!(intake.fields.keys().collect::<Vec<_>>(), ["login", "name", "email", "department", "room"]);
    assert!(intake.fields["login"].required && intake.fields["email"].unique);
    assert_eq!((&intake.adopt, intake.leaving.gone.action), (&Adopt::same_login(), LeavingAction::Remove));
    assert_eq!(settings.brakes.removals, Some(Removals::Number(15)));
}

#[test]
fn each_intake_fills_the_field_of_origin_with_its_directory() {
    let settings = parse(&DEMO.replacen("seats     = 75", "origin = \"source\"", 1)).unwrap();
    assert_eq!(settings.accounts.origin.as_deref(), Some("source"));
    let choices = &settings.intakes.first.fields["source"].choices;
    assert_eq!(
        choices.iter().map(|one| &one.source).collect::<Vec<_>>(),
        [&rules::ValueSource::Value("museum".into())]
    );
}

#[test]
fn what_is_left_out_has_a_careful_default() {
    let text = "[directory.d]\nservers = \"ldaps://dc1\"\n[accounts]\nstore = \"csv\"\npath = \"a.csv\"\n[[intake]]\nname = \"n\"\n\
                directory = \"d\"\nbases = \"OU=P\"\nfilter = \"(a=b)\"\nfields = { login = { from = \"uid\" } }\n";
    let settings = parse(text).unwrap();
    let directory = settings.directory(&settings.intakes.first).unwrap();
    assert_eq!((directory.page, directory.timeout, directory.plain), (500, Duration::from_secs(30), false));
    assert_eq!((&directory.trust, &directory.bind), (&Trust::System, &Bind::Anonymous));
    let intake = &settings.intakes.first;
    assert_eq!((&intake.adopt, intake.new, intake.leaving), (&Adopt::Never, true, Leaving::default()));
    assert_ne!(
        Leaving::default().gone.action,
        LeavingAction::Remove,
        "nobody is removed unless the settings say so"
    );
}

/// The demo's settings with one line changed, the text under the caret, words of the message and
/// of the help.
#[test]
fn each_fault_is_told_at_its_place_with_a_way_out() {
    for (from, to, caret, message, help) in [
        ("page     = 100", "page     = ", "", "not valid TOML", "name = \"value\""),
        ("page     = 100", "pages    = 100", "pages", "unknown key `pages`", "did you mean `page`?"),
        ("page     = 100", "zebra    = 100", "zebra", "unknown key `zebra`", "servers, domain, trust"),
        (
            "page     = 100",
            "page     = \"many\"",
            "\"many\"",
            "`directory.museum.page` must be a whole number, not a text",
            "",
        ),
        ("page     = 100", "page     = 0", "0", "1 or more", ""),
        ("page     = 100", "page     = -5", "-5", "1 or more", ""),
        ("\"10s\"", "\"soon\"", "\"soon\"", "not a duration", "30s"),
        ("\"10s\"", "\"0s\"", "\"0s\"", "not a duration", "30s"),
        ("ldaps://localhost:6360", "ldapi://slapd", "\"ldapi://slapd\"", "%2F", ""),
        (
            "ldaps://localhost:6360",
            "https://localhost",
            "\"https://localhost\"",
            "not a scheme",
            "ldaps://HOST",
        ),
        ("ldaps://localhost:6360", "localhost", "\"localhost\"", "begins with ldaps://", ""),
        (
            "ldaps://localhost:6360",
            "ldaps://localhost:99999",
            "\"ldaps://localhost:99999\"",
            "a port is a number",
            "",
        ),
        ("ldaps://localhost:6360", "ldaps://::1", "\"ldaps://::1\"", "brackets", ""),
        ("ldaps://localhost:6360", "ldaps://", "\"ldaps://\"", "host name is missing", ""),
        ("{ authority = \"museum-ca.pem\" }", "{ }", "{ }", "only one kind is possible", "PEM"),
        (
            "{ authority = \"museum-ca.pem\" }",
            "{ fingerprint = \"sha1:AB\" }",
            "\"sha1:AB\"",
            "begins with sha256:",
            "webtaxon check",
        ),
        (
            "{ authority = \"museum-ca.pem\" }",
            "{ fingerprint = \"sha256:ABC\" }",
            "\"sha256:ABC\"",
            "has 64 digits, this one 3",
            "",
        ),
        (
            "page     = 100",
            "domain = \"quillmere.example\"",
            "\"quillmere.example\"",
            "given already",
            "keep either",
        ),
        ("page     = 100", "references = \"chase\"", "\"chase\"", "`chase` is not a keyword", "\"follow\""),
        (
            "\"svc-loansdesk@quillmere.example\"",
            "{ external = false }",
            "{ external",
            "not a kind of bind",
            "true",
        ),
        ("\"svc-loansdesk@quillmere.example\"", "{ external = true }", "{ file", "it is not used", ""),
        ("{ file = \"museum-password.txt\" }", "{ command = [] }", "[]", "it is empty", "command = ["),
        ("{ file = \"museum-password.txt\" }", "{ credential = \"../pw\" }", "\"../pw\"", "not a path", ""),
        (
            "{ file = \"museum-password.txt\" }",
            "{ ask = false }",
            "false",
            "disables the prompt",
            "{ ask = true }",
        ),
        ("{ file = \"museum-password.txt\" }", "{ env = \"A\", file = \"b\" }", "{ env", "one source", ""),
        ("{ authority = \"museum-ca.pem\" }", "{ verify = false }", "verify", "unknown key", ""),
        ("{ file = \"museum-password.txt\" }", "{ }", "{ }", "one source", ""),
        ("{ file = \"museum-password.txt\" }", "{ env = \"\" }", "\"\"", "it is empty", ""),
        ("\"svc-loansdesk@quillmere.example\"", "\"\"", "\"\"", "it is empty", "an anonymous bind"),
        ("path      = \"accounts.csv\"", "", "[accounts]", "`accounts.path` is missing", "accounts.csv"),
        ("store     = \"csv\"", "store     = \"xls\"", "\"xls\"", "`xls` is not a keyword", "\"csv\""),
        (
            "directory    = \"museum\"",
            "directory    = \"musuem\"",
            "\"musuem\"",
            "no directory of this name",
            "\"museum\"",
        ),
        ("filter       = ", "filtr        = ", "filtr", "unknown key `filtr`", "did you mean `filter`?"),
        ("(objectClass=user))\"", "(objectClass=user)\"", "(", "closing parenthesis", "add a )"),
        ("(objectClass=user))", "(objectClass=u(ser))", "(", "escaped", "\\28"),
        (
            "\"OU=People,DC=quillmere,DC=example\"",
            "\"People,DC=quillmere\"",
            ",",
            "equals sign",
            "type=value",
        ),
        ("[\"OU=People,DC=quillmere,DC=example\"]", "[]", "[]", "it is empty", "where people are"),
        ("CN=Leavers,OU=Groups", "CN=Leavers,,OU=Groups", ",", "attribute type", ""),
        ("[\"link\", \"login\"]", "[\"login\"]", "[\"login\"]", "the link comes first", ""),
        (
            "[\"link\", \"login\"]",
            "[\"link\", \"phone\"]",
            "\"phone\"",
            "`phone` is neither a keyword",
            "\"login\"",
        ),
        ("[\"link\", \"login\"]", "[\"link\", \"room\"]", "\"room\"", "the same value", "unique = true"),
        ("\"same-login\"", "\"same-email\"", "\"same-email\"", "not matched by this", "add it to match"),
        ("\"same-login\"", "[\"ask\", \"same-login\"]", "\"ask\"", "cannot be combined", "alone"),
        (
            "adopt        = \"same-login\"",
            "adopt        = \"always\"",
            "\"always\"",
            "`always` is not a keyword",
            "never",
        ),
        ("case = \"lower\"", "case = \"title\"", "\"title\"", "`title` is not a keyword", "\"upper\""),
        ("from = \"mail\"", "from = \"e mail\"", "\"e mail\"", "not an attribute name", ""),
        (
            "{ from = \"department\" }",
            "{ from = \"department\", value = \"x\" }",
            "{ from",
            "comes from attributes, is joined from several, or has a fixed value",
            "",
        ),
        ("{ from = \"department\" }", "\"department\"", "\"department\"", "must be a table", ""),
        (
            "{ from = \"department\" }",
            "{ from = \"department\", follow = \"phone\" }",
            "\"phone\"",
            "no field of this name",
            "\"email\"",
        ),
        (
            "{ from = \"department\" }",
            "{ from = \"manager\", follow = \"room\" }
rooms = { from = \"x\", follow = \"department\" }",
            "\"department\"",
            "itself comes from another entry",
            "own attributes",
        ),
        (
            "{ from = \"department\" }",
            "{ from = \"department\", longst = 3 }",
            "longst",
            "unknown key",
            "longest",
        ),
        ("{ from = \"department\" }", "{ from = \"department\", longest = 0 }", "0", "1 or more", ""),
        (
            "{ from = \"department\" }",
            "{ from = \"department\", pattern = \"(a\" }",
            "\"(a\"",
            "unclosed group",
            "single quotes",
        ),
        (
            "{ from = \"department\" }",
            "{ from = \"department\", read_as = \"day\" }",
            "\"day\"",
            "`day` is not a keyword",
            "\"date\"",
        ),
        ("{ from = \"department\" }", "{ from = \"department\", map = {} }", "{}", "it is empty", "\"*\""),
        (
            "{ from = \"department\" }",
            "{ from = \"department\", before = \"\" }",
            "\"\"",
            "it is empty",
            "remove the key",
        ),
        ("{ from = \"department\" }", "{ join = \"{cn\" }", "\"{cn\"", "without its }", "physicalDelivery"),
        ("{ from = \"department\" }", "{ choose = [] }", "{ choose", "it is empty", "at least one"),
        (
            "{ from = \"department\" }",
            "{ choose = [{ from = \"cn\" }], from = \"mail\" }",
            "from",
            "unknown key",
            "choose",
        ),
        ("{ from = \"department\" }", "[{ when = \"(cn=\", value = \"1\" }]", "", "closing parenthesis", ""),
        ("{ from = \"department\" }", "[{ from = \"cn\", required = true }]", "required", "unknown key", ""),
        (
            "{ from = \"department\" }",
            "{ from = \"department\", write = \"never\" }",
            "\"never\"",
            "`never` is not a keyword",
            "\"once\"",
        ),
        (
            "login      = {",
            "login      = { value = \"x\" }\nlogon = {",
            "{ value",
            "the same login",
            "from an attribute",
        ),
        ("department = {", "roles      = {", "{", "managed by Webtaxon", "[[intake.role]]"),
        (
            "[intake.leaving]",
            "[[intake.role]]\nname = \"a;b\"\n[intake.leaving]",
            "\"a;b\"",
            "name of a role",
            "semicolon",
        ),
        (
            "[intake.leaving]",
            "[[intake.role]]\nname = \"borrower\"\n[[intake.role]]\nname = \"borrower\"\n[intake.leaving]",
            "\"borrower\"",
            "has a rule already",
            "combine the two",
        ),
        ("login      = {", "logon      = {", "login", "`login` is missing", ""),
        ("department = {", "state      = {", "{", "managed by Webtaxon", ""),
        (
            "{ do = \"remove\" }",
            "{ do = \"delete\" }",
            "\"delete\"",
            "`delete` is not a keyword",
            "\"remove\"",
        ),
        (
            "{ do = \"remove\" }",
            "{ do = \"remove\", after_days = 9999 }",
            "9999",
            "more than ten years",
            "14",
        ),
        (
            "{ do = \"keep\" }",
            "{ do = \"keep\", after_days = 3 }",
            "3",
            "nothing happens",
            "remove after_days",
        ),
        (
            "match        = ",
            "strategy = \"chain\"\nmatch        = ",
            "\"chain\"",
            "not only under group_bases",
            "another strategy",
        ),
        (
            "match        = ",
            "member_attribute = { name = \"isMemberOf\" }\nmatch        = ",
            "{",
            "member_attribute.of` is missing",
            "of = \"people\"",
        ),
        (
            "match        = ",
            "member_attribute = { name = \"isMemberOf\", of = \"people\", holds = \"logins\" }\nmatch        = ",
            "\"logins\"",
            "`logins` is not a keyword",
            "\"cn\"",
        ),
        (
            "match        = ",
            "member_attribute = { name = \"isMemberOf\", of = \"people\" }\nstrategy = \"auto\"\nmatch        = ",
            "\"auto\"",
            "nothing to choose",
            "remove strategy",
        ),
        ("removals = 15", "removals = \"lots\"", "\"lots\"", "neither a number nor a percentage", "5%"),
        ("removals = 15", "removals = \"101%\"", "\"101%\"", "neither a number nor a percentage", "5%"),
        ("seats     = 75", "seats     = true", "true", "a whole number, not true or false", ""),
        ("seats     = 75", "origin = \"state\"", "\"state\"", "kept otherwise", "a field of its own"),
        (
            "seats     = 75",
            "origin = \"room\"",
            "[[intake]]",
            "filled with the directory's name",
            "remove room",
        ),
        ("[[intake]]", "[intake]", "", "must be a list", "[[intake]]"),
    ] {
        assert!(DEMO.contains(from), "{from}");
        let text = DEMO.replacen(from, to, 1);
        let error = parse(&text).expect_err(to);
        let under = text.get(error.span().offset()..error.span().offset() + error.span().len()).unwrap();
        let (told, way_out) = (error.to_string(), error.help().unwrap().to_string());
        assert!(told.contains(message), "{to}: {told}");
        assert!(way_out.contains(help), "{to}: {way_out}");
        assert!(error.code().is_some(), "{to}");
        if caret != "login" {
            assert!(under.starts_with(caret), "{to}: the caret is under {under:?}");
        }
    }
}

#[test]
fn the_caret_inside_a_filter_counts_in_the_files_own_bytes() {
    // An escape of TOML's before the fault moves it in the file, not in the filter.
    let text = DEMO.replacen("\"(&(objectCategory=person)", "\"(&(cn=\\u00e9\\\\2a)(cn=\\\\zz)", 1);
    let error = parse(&text).unwrap_err();
    assert_eq!(text.get(error.span().offset()..).unwrap().get(..2), Some("\\\\"));
    assert!(text.get(..error.span().offset()).unwrap().ends_with("(cn="));
}

#[test]
fn several_intakes_stand_in_their_order_each_with_a_name_of_its_own() {
    let at = DEMO.find("[[intake]]").unwrap();
    let end = DEMO.find("[brakes]").unwrap();
    let (before, own, after) = (&DEMO[..at], &DEMO[at..end], &DEMO[end..]);
    let second = own.replace("\"staff\"", "\"guests\"").replace("room ", "room2 ");
    let settings = parse(&format!("{before}{own}{second}{after}")).unwrap();
    let names: Vec<&str> = settings.intakes.iter().map(|intake| intake.name.as_str()).collect();
    assert_eq!(names, ["staff", "guests"]);
    let fields = settings.account_fields();
    assert!(fields.contains(&"room") && fields.contains(&"room2"), "{fields:?}");
    assert_eq!(fields.iter().filter(|name| **name == "login").count(), 1);
    assert!(settings.selecting().contains_key("guests: filter"));
    let error = parse(&format!("{before}{own}{own}{after}")).unwrap_err();
    assert!(error.to_string().contains("staff exists already"), "{error}");
    let error = parse(&format!("intake = []\n{before}{after}")).unwrap_err();
    assert!(error.help().unwrap().to_string().contains("[[intake]]"), "{error}");
}

#[test]
fn a_password_in_the_settings_is_refused_and_never_shown() {
    for (written, why) in [
        ("password = \"geheim-42\"", "as a text"),
        ("password = { value = \"geheim-42\" }", "in a table"),
        ("password = \"geheim-42\"\nservers = [", "with another fault behind it"),
        ("password = \"geheim-42", "with its own quote missing"),
        ("password = '''geheim-42\ngeheim-42'''\nzebra = 1", "over two lines"),
    ] {
        let text = DEMO.replacen("password = { file = \"museum-password.txt\" }", written, 1);
        let error = parse(&text).expect_err(why);
        let mut shown = String::new();
        miette::NarratableReportHandler::new().render_report(&mut shown, &error).unwrap();
        assert!(shown.contains("webtaxon.toml"), "{why}: {shown}");
        assert!(!shown.contains("geheim") && !format!("{error:?}").contains("geheim"), "{why}: {shown}");
    }
}

/// The demo's settings with one more field.
fn with_field(rule: &str) -> Result<Settings, SettingsError> {
    parse(&DEMO.replacen("\nlogin ", &format!("\n{rule}\nlogin "), 1))
}

#[test]
fn a_secret_field_is_random_shared_or_drawn() {
    for (rule, wanted) in [
        ("pin = { secret = true }", SecretRule::Random),
        (
            "pin = { secret = true, value = { env = \"FIRST_PIN\" } }",
            SecretRule::Shared(PasswordSource::Env("FIRST_PIN".to_owned())),
        ),
        (
            "pin = { secret = true, from = \"employeeNumber\", required = true }",
            SecretRule::Drawn(rules::FieldRule {
                required: true,
                ..rules::FieldRule::from(&["employeeNumber"])
            }),
        ),
    ] {
        let settings = with_field(rule).unwrap();
        let intake = &settings.intakes.first;
        assert_eq!(intake.secrets["pin"], wanted);
        assert!(!intake.fields.contains_key("pin") && settings.secret_fields() == ["pin"]);
        let StoreSettings::Csv { secrets, .. } = &settings.accounts.store else { panic!() };
        assert_eq!(secrets, &["pin"], "the store knows what it must not read");
    }
}

#[test]
fn a_secret_beside_the_accounts_would_be_read_and_is_refused() {
    let csv = "store     = \"csv\"\npath      = \"accounts.csv\"";
    let more = "{ pin = { table = \"pin\", account = \"account\", key = \"id\", value = \"pin\" } }";
    let store = format!("store = \"sqlite\"\npath = \"loans.sqlite\"\ntable = \"account\"\nmore = {more}");
    assert!(DEMO.contains(csv));
    let text = DEMO.replacen("\nlogin ", "\npin = { secret = true }\nlogin ", 1);
    let error = parse(&text.replacen(csv, &store, 1)).unwrap_err();
    assert!(error.to_string().contains("pin is secret"), "{error}");
    assert!(parse(&text).is_ok(), "in a column");
}

#[test]
fn a_secret_that_would_be_written_down_read_or_compared_is_refused() {
    for (rule, code, reason) in [
        ("pin = { secret = true, value = \"geheim\" }", "WX0106", "clear text"),
        ("pin = { value = \"geheim\", secret = false }", "WX0105", "does nothing"),
        ("pin = { secret = true, unique = true }", "WX0102", "unique"),
        ("pin = { secret = true, write = \"always\" }", "WX0102", "write"),
        ("pin = { secret = true, case = \"lower\" }", "WX0105", "nothing to work on"),
        ("pin = { secret = true, from = \"a\", value = { env = \"PIN\" } }", "WX0105", "one source"),
        ("roles = { secret = true }", "WX0105", "managed by Webtaxon"),
    ] {
        let error = with_field(rule).unwrap_err();
        let mut said = error.to_string();
        miette::NarratableReportHandler::new().render_report(&mut said, &error).unwrap();
        assert_eq!(error.code().unwrap().to_string(), code, "{rule}: {said}");
        assert!(said.contains(reason), "{rule}: {said}");
        assert!(!said.contains("geheim"), "{rule}: {said}");
    }
}

#[test]
fn bytes_that_are_no_text_are_refused_at_their_place() {
    let mut bytes = DEMO.as_bytes().to_vec();
    bytes[40] = 0xff;
    let error = Settings::parse("webtaxon.toml", &bytes).unwrap_err();
    assert_eq!((error.span().offset(), error.to_string().contains("UTF-8")), (40, true));
    bytes[40] = 0;
    assert!(matches!(Settings::parse("x", &bytes).unwrap_err().kind(), SettingsErrorKind::Syntax(_)));
}

#[test]
fn every_way_to_reach_and_to_bind_is_read() {
    let directory = |from: &str, to: &str| {
        assert!(DEMO.contains(from), "{from}");
        let read = parse(&DEMO.replacen(from, to, 1)).unwrap_or_else(|error| panic!("{to}: {error}"));
        read.directory(&read.intakes.first).unwrap().clone()
    };
    const SERVER: &str = "ldaps://localhost:6360";
    for (text, shown) in [
        ("ldaps://dc1", "ldaps://dc1:636"),
        ("LDAP://dc1/", "ldap://dc1:389"),
        ("ldap://[::1]:3890", "ldap://[::1]:3890"),
        ("ldapi://%2Frun%2fslapd%2Fldapi", "ldapi://%2Frun%2Fslapd%2Fldapi"),
    ] {
        let Servers::Named(list) = directory(SERVER, text).servers else { panic!("{text}") };
        assert_eq!(list[0].to_string(), shown);
        assert_eq!(shown.parse::<Server>().as_ref(), Ok(&list[0]));
    }
    let domain = directory("servers  = [\"ldaps://localhost:6360\"]", "domain = \"quillmere.example\"");
    assert_eq!(domain.servers, Servers::Domain("quillmere.example".to_owned()));
    let pin = format!("sha256:{}", "0a:".repeat(32).trim_end_matches(':'));
    let pinned = directory("{ authority = \"museum-ca.pem\" }", &format!("{{ fingerprint = [\"{pin}\"] }}"));
    assert_eq!(pinned.trust, Trust::Pinned(vec![Fingerprint([10; 32])]));
    assert_eq!(Fingerprint([10; 32]).to_string().to_lowercase(), pin);
    assert_eq!(Fingerprint([10; 32]).compact().parse(), Ok(Fingerprint([10; 32])));
    const FILE: &str = "{ file = \"museum-password.txt\" }";
    for (text, source) in [
        ("{ env = \"PW\" }", PasswordSource::Env("PW".to_owned())),
        (
            "{ command = [\"show\", \"it\"] }",
            PasswordSource::Command(vec!["show".to_owned(), "it".to_owned()]),
        ),
        ("{ credential = \"museum\" }", PasswordSource::Credential("museum".to_owned())),
        ("{ ask = true }", PasswordSource::Ask),
    ] {
        let Bind::Simple { password, .. } = directory(FILE, text).bind else { panic!("{text}") };
        assert_eq!(password, Some(source));
    }
    let external = "bind     = \"svc-loansdesk@quillmere.example\"     # a DN or user@domain; default: anonymous\npassword = { file = \"museum-password.txt\" }";
    let own = "bind = { external = true }\ncertificate = { chain = \"l.pem\", key = \"l.key\" }\nreferences = \"follow\"";
    let external = directory(external, own);
    assert_eq!((external.bind, external.references), (Bind::External, References::Follow));
    assert_eq!(external.certificate.unwrap().key.to_str(), Some("l.key"));
}

#[test]
fn the_state_is_a_file_or_in_a_database() {
    let with = |state: &str| parse(&format!("{DEMO}\n[state]\n{state}"));
    assert_eq!(parse(DEMO).unwrap().state, None);
    let postgres = "store = \"postgres\"\nserver = \"/run/postgresql\"\ndatabase = \"ops\"\nuser = \"w\"";
    let state = with(postgres).unwrap().state.unwrap();
    assert_eq!((state.schema.as_str(), state.server.host.as_str()), ("webtaxon", "/run/postgresql"));
    let named = with(&format!("{postgres}\nschema = \"loans\"")).unwrap().state.unwrap();
    assert_eq!(named.schema, "loans");
    for (state, message) in [
        ("store = \"sqlite\"", "not a keyword"),
        ("server = \"db\"", "state.store"),
        (&postgres.replace("database", "# database"), "state.database"),
        (&format!("{postgres}\nschema = \"\""), "not a name"),
        (&format!("{postgres}\ntable = \"x\""), "unknown key"),
        (&format!("{postgres}\npassword = {{ ask = true }}"), "a prompt is not possible"),
    ] {
        let error = with(state).unwrap_err();
        assert!(error.to_string().contains(message), "{message}: {error}");
    }
}

#[test]
fn the_list_of_accounts_is_a_file_or_a_table() {
    let csv = "store     = \"csv\"\npath      = \"accounts.csv\"";
    let with = |accounts: &str| parse(&DEMO.replacen(csv, accounts, 1));
    let sqlite = "store = \"sqlite\"\npath = \"a.sqlite\"\ntable = \"account\"";
    let postgres = "store = \"postgres\"\nserver = \"[::1]:5433\"\ndatabase = \"loans\"\nuser = \"desk\"\ntable = \"account\"";
    let scim = "store = \"scim\"\nservice = \"https://loans.example/scim/v2/\"";
    let StoreSettings::Scim(service) = with(scim).unwrap().accounts.store else { panic!() };
    assert_eq!(service.service, "https://loans.example/scim/v2");
    assert_eq!(service.attribute("email").to_string(), "emails[type eq \"work\"].value");
    assert_eq!(service.attribute("nickName").to_string(), "nickName");
    let StoreSettings::Sqlite { table, .. } = with(sqlite).unwrap().accounts.store else { panic!() };
    assert_eq!((table.column("login"), &table.states), ("login", &Some(crate::settings::States::default())));
    let StoreSettings::Postgres { server, .. } = with(postgres).unwrap().accounts.store else { panic!() };
    assert_eq!((server.host.as_str(), server.port, server.plain), ("::1", 5433, false));
    assert_eq!(server.trust, Trust::System);
    for kind in [csv, sqlite, postgres] {
        assert!(with(kind).unwrap().accounts.store.has_links(), "{kind}");
        let apart = with(&format!("{kind}\nlinks = \"apart\"")).unwrap();
        assert!(!apart.accounts.store.has_links(), "{kind}");
    }
    for (accounts, message) in [
        ("store = \"csv\"\npath = \"a.csv\"\ntable = \"account\"", "has none"),
        ("store = \"csv\"\npath = \"\"", "empty"),
        ("store = \"sqlite\"\npath = \"a.sqlite\"", "accounts.table"),
        ("store = \"sqlite\"\npath = \"a.sqlite\"\ntable = \"\"", "not a name"),
        (&format!("{sqlite}\nserver = \"db\""), "has none"),
        (&format!("{sqlite}\nstates = {{ active = \"1\", suspended = \"1\" }}"), "both are the same"),
        (&format!("{sqlite}\nrole_table = {{ table = \"r\" }}"), "role_table.account"),
        (&format!("{sqlite}\ncolumns = {{ login = 3 }}"), "columns.login"),
        (&postgres.replace("[::1]:5433", "db:x"), "not a server"),
        (&postgres.replace("database = \"loans\"\n", ""), "accounts.database"),
        (&format!("{postgres}\npassword = \"geheim\""), "must not contain secrets"),
        (&format!("{postgres}\npath = \"x\""), "has none"),
        (&format!("{postgres}\npassword = {{ ask = true }}"), "a prompt is not possible"),
        (&format!("{scim}\ntoken = {{ ask = true }}"), "a prompt is not possible"),
        (&format!("{sqlite}\nlinks = \"state\""), "not a keyword"),
        (&format!("{sqlite}\nlinks = \"apart\"\ncolumns = {{ link = \"x\" }}"), "need no column"),
        (&format!("{csv}\nlinks = \"apart\"\ncolumns = {{ link = \"x\" }}"), "need no column"),
        (&format!("{scim}\nlinks = \"apart\""), "has none"),
        (&format!("{csv}\nwhose = {{ old = \" \" }}"), "it is empty"),
        ("store = \"ldap\"", "not a keyword"),
        ("store = \"scim\"", "accounts.service"),
        (&scim.replace("https", "http"), "not encrypted"),
        (&scim.replace("https://", "ftp://"), "not the URL"),
        (&scim.replace("loans", "me:geheim@loans"), "not the URL"),
        (&format!("{scim}\ntoken = \"geheim\""), "must not contain secrets"),
        (&format!("{scim}\nuser = \"desk\""), "without a password"),
        (&format!("{scim}\npassword = {{ env = \"P\" }}"), "incomplete"),
        (&format!("{scim}\nuser = \"desk\"\ntoken = {{ env = \"P\" }}"), "incomplete"),
        (&format!("{scim}\nattributes = {{ link = \"id\" }}"), "always externalId"),
        (&format!("{scim}\nattributes = {{ room = \"emails[\" }}"), "not closed"),
        (&format!("{scim}\ncolumns = {{ login = \"x\" }}"), "has none"),
    ] {
        let error = with(accounts).unwrap_err();
        assert!(error.to_string().contains(message), "{message}: {error}");
        assert!(!format!("{error:?}").contains("geheim"));
    }
}

#[test]
fn groups_come_in_where_they_have_a_place() {
    const TOO: &str = include_str!("../../../../demo/application-groups.toml");
    let settings = parse(&format!("{DEMO}{TOO}")).unwrap();
    let StoreSettings::Csv { groups: Some(place), .. } = &settings.accounts.store else { panic!() };
    let groups = settings.intakes.first.application_groups.as_ref().unwrap();
    assert_eq!((place.path.to_str(), groups.bases.len()), (Some("groups.csv"), 1));
    assert_eq!((groups.gone, groups.adopt), (GroupLeaving::Remove, false));
    assert!(settings.brings_groups() && settings.selecting()["application_groups"].contains("Curators"));
    let place = "[accounts.groups]                                # where the application keeps its groups\npath = \"groups.csv\"";
    let sql = "[accounts.groups]\ntable = \"team\"\nmembers = { table = \"m\", group = \"g\", group_key = \"id\", account = \"a\", account_key = \"id\" }";
    let csv = "store     = \"csv\"\npath      = \"accounts.csv\"";
    let sqlite = "store = \"sqlite\"\npath = \"a.sqlite\"\ntable = \"account\"";
    let scim = "store = \"scim\"\nservice = \"https://loans.example/scim/v2\"";
    let name = "name    = { from = \"cn\" }";
    for (changes, message) in [
        (vec![(place, "")], "the application has no place"),
        (vec![(csv, sqlite)], "unknown key"),
        (vec![(csv, scim)], "has none"),
        (vec![(csv, scim), (place, "")], ""),
        (vec![(csv, &format!("{scim}\nrole_groups = true")), (place, "")], "the application has no place"),
        (vec![(csv, sqlite), (place, sql)], ""),
        (vec![(csv, sqlite), (place, &sql.replace(", group = \"g\"", ""))], "groups.members.group"),
        (vec![(name, "")], "application_groups.name"),
        (vec![(name, "name = { value = \"x\" }")], "the same name"),
        (vec![(name, "name = { from = \"cn\", every = true }")], "a name has one value"),
        (vec![(name, "name = { from = \"cn\", follow = \"name\" }")], "from the entry itself"),
        (vec![(name, "name = { from = \"cn\", write = \"once\" }")], "always written"),
        (vec![(name, "name = { from = \"cn\", in_group = \"CN=x\" }")], "a group is not a person"),
        (vec![("\"remove\"                               # a", "\"suspend\" # a")], "not a keyword"),
        (
            vec![("[intake.fields]", "strategy = \"chain\"\n[intake.fields]"), ("group_bases  =", "# =")],
            "member lists",
        ),
        (vec![("bases   = [\"OU=Groups,DC=quillmere,DC=example\"]", "bases = []")], "it is empty"),
    ] {
        let mut text = format!("{DEMO}{TOO}");
        for (from, to) in changes {
            assert!(text.contains(from), "{from}");
            text = text.replacen(from, to, 1);
        }
        match parse(&text) {
            Ok(_) => assert!(message.is_empty(), "{message}"),
            Err(error) => {
                assert!(!message.is_empty() && error.to_string().contains(message), "{message}: {error}")
            }
        }
    }
}

/// Settings that a program puts together are held to the rules of a file, and are the same settings.
#[test]
fn a_value_in_the_shape_of_a_file_is_read_as_the_file() {
    let text = include_str!("../../../../demo/webtaxon.toml");
    let value: toml::Table = text.parse().unwrap();
    let json = serde_json::to_value(&value).unwrap();
    let of_file = serde_json::to_value(Settings::parse("file", text.as_bytes()).unwrap()).unwrap();
    for settings in [Settings::from_value(&value), Settings::from_value(&json)] {
        assert_eq!(serde_json::to_value(settings.unwrap()).unwrap(), of_file);
    }
    type Spoil = fn(&mut serde_json::Value);
    let rows: [(Spoil, &str); 5] = [
        (|value| drop(value["intake"][0]["fields"].as_object_mut().unwrap().remove("login")), "login"),
        (|value| value["directory"]["museum"]["page"] = 0.into(), "page"),
        (|value| value["intake"][0]["directory"] = "elsewhere".into(), "directory"),
        (|value| value["directory"]["museum"]["password"] = "botanical-garden-42".into(), "secret"),
        (|value| value["intake"][0]["filter"] = serde_json::Value::Null, "not valid TOML"),
    ];
    for (spoil, wanted) in rows {
        let mut value = json.clone();
        spoil(&mut value);
        let error = Settings::from_value(&value).unwrap_err();
        let told = format!("{:?}", miette::Report::new(error));
        assert!(told.contains(wanted) && !told.contains("botanical"), "{wanted}: {told}");
    }
}
