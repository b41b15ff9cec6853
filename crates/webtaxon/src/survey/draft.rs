//! A first settings file from what the directory shows: where people and groups are, which attributes name people,
//! how inactive people are marked. Ready to run, and commented.

use crate::directory::{Connection, DirectoryError, DirectoryErrorKind, GROUP_CLASSES, Query};
use crate::survey::fields::{LOGINS, NAMES};
use crate::survey::{Container, FieldFacts, Survey, Tree, fields};
use std::fmt::Write as _;
use std::ops::ControlFlow;
use std::path::Path;
use webtaxon_core::ldap::entry::Entry;
use webtaxon_core::ldap::filter::Filter;
use webtaxon_core::ldap::name::Dn;
use webtaxon_core::ldap::schema::ServerKind;
use webtaxon_core::settings::{Bind, Directory, PasswordSource, Servers, Trust};

/// The column of comments.
const COLUMN: usize = 60;
/// Number of groups named in the file, largest first.
const GROUPS: usize = 8;

/// Input of a draft, beside the directory itself.
#[derive(Clone, Debug)]
pub struct DraftOptions<'o> {
    /// The directory's settings and name.
    pub directory: &'o Directory,
    /// The application's accounts file.
    pub accounts: &'o str,
}

/// A first settings file.
#[derive(Clone, Debug)]
pub struct Draft {
    /// The file's text.
    pub text: String,
    /// The findings, one line each, for the user.
    pub found: Vec<String>,
    /// The fields that the file fills: columns that the accounts file needs.
    pub fields: Vec<String>,
}

/// The findings in the directory.
struct Facts {
    described: String,
    base: Container,
    group_base: Option<Container>,
    filter: Filter,
    /// The `active` setting, and its explanation.
    active: Option<(&'static str, &'static str)>,
    survey: Survey,
    /// Groups with the number of their members.
    groups: Vec<(String, usize)>,
}

/// Examines the directory and writes a first settings file.
///
/// # Errors
/// The directory shows no people, or the connection is unusable.
pub async fn draft(connection: &mut Connection, options: &DraftOptions<'_>) -> Result<Draft, DirectoryError> {
    let facts = look(connection).await?;
    let rules = rules(&facts.survey);
    let mut found =
        vec![format!("{}", facts.described), format!("{} people under {}", facts.base.people, facts.base.dn)];
    found.extend(facts.group_base.iter().map(|base| format!("{} groups under {}", base.groups, base.dn)));
    found.push(format!("{} people by the filter {}", facts.survey.people, facts.filter));
    for (field, rule) in &rules {
        found.push(format!("{field} from {}", rule.from.join(", then ")));
    }
    let fields = rules.iter().map(|(field, _)| (*field).to_owned()).collect();
    Ok(Draft { text: write(options, &facts, &rules), found, fields })
}

async fn look(connection: &mut Connection) -> Result<Facts, DirectoryError> {
    let root = connection.root().clone();
    let mut best: Option<Tree> = None;
    for top in root.tops() {
        // A tree that the account may not read is not the one it is for.
        let tree = match Tree::read(connection, top).await {
            Ok(tree) => tree,
            Err(error) if error.is_fatal() => return Err(error),
            Err(_) => continue,
        };
        let people = |tree: &Tree| tree.containers.first().map_or(0, |top| top.people);
        if best.as_ref().is_none_or(|best| people(&tree) > people(best)) {
            best = Some(tree);
        }
    }
    let nobody =
        || DirectoryError::from(DirectoryErrorKind::Nobody { server: connection.server().to_owned() });
    let tree = best.ok_or_else(nobody)?;
    let base = tree.home(|container| container.people).cloned().ok_or_else(nobody)?;
    let group_base = tree.home(|container| container.groups).cloned();
    let Ok(base_name) = Dn::parse(&base.dn) else { return Err(nobody()) };
    let base_name = std::slice::from_ref(&base_name);
    let (filter, survey) = match root.kind {
        ServerKind::Controller => {
            let parts = vec![Filter::equal("objectCategory", "person"), Filter::equal("objectClass", "user")];
            let filter = Filter::And(parts);
            let survey = fields(connection, base_name, &filter, true).await?;
            (filter, survey)
        }
        _ => people_of(connection, base_name, base.people).await?,
    };
    let groups = match &group_base {
        Some(base) => groups(connection, &base.dn).await?,
        None => Vec::new(),
    };
    let active = active(root.kind, &survey);
    Ok(Facts { described: root.described(), base, group_base, filter, active, survey, groups })
}

/// The object class of people on a server other than a domain controller, and the filter's other conditions.
async fn people_of(
    connection: &mut Connection,
    bases: &[Dn],
    people: usize,
) -> Result<(Filter, Survey), DirectoryError> {
    const CLASSES: [&str; 4] = ["inetOrgPerson", "posixAccount", "account", "person"];
    let mut best: Option<(Filter, usize)> = None;
    for class in CLASSES {
        let filter = Filter::equal("objectClass", class);
        let survey = fields(connection, bases, &filter, true).await?;
        if best.as_ref().is_none_or(|(_, most)| survey.people > *most) {
            // An entry without a login cannot sign in: a contact, a shared mailbox.
            let login = LOGINS.iter().filter_map(|login| survey.find(login)).find(|login| login.unique);
            let narrowed =
                |login: &FieldFacts| Filter::And(vec![filter.clone(), Filter::present(&login.attribute)]);
            best = Some((login.map_or(filter.clone(), narrowed), survey.people));
        }
        if survey.people * 10 >= people * 9 {
            break;
        }
    }
    let filter = best.map_or_else(|| Filter::present("objectClass"), |(filter, _)| filter);
    let survey = fields(connection, bases, &filter, true).await?;
    Ok((filter, survey))
}

/// The definition of active people, by what this kind of server offers.
fn active(kind: ServerKind, survey: &Survey) -> Option<(&'static str, &'static str)> {
    let known = ["pwdAccountLockedTime", "nsAccountLock", "shadowExpire"];
    if kind == ServerKind::Controller || known.iter().any(|attribute| survey.find(attribute).is_some()) {
        return Some(("# active  = \"(…)\"", "default: whoever is neither disabled nor expired"));
    }
    let own = ("active    = \"(!(loginDisabled=TRUE))\"", "not disabled");
    survey.find("loginDisabled").is_some().then_some(own)
}

/// The groups under a base with the number of members that each lists, largest first.
async fn groups(connection: &mut Connection, base: &str) -> Result<Vec<(String, usize)>, DirectoryError> {
    let classes = GROUP_CLASSES.map(|class| Filter::equal("objectClass", class));
    let listed = ["member", "uniqueMember", "memberUid"];
    let query = Query::subtree(base, Filter::any(classes), &listed);
    let mut groups = Vec::new();
    let take = |entry: Entry<'_>| {
        let members = entry.attributes().map(|(_, values)| values.count()).sum();
        groups.push((entry.dn().to_owned(), members));
        ControlFlow::Continue(())
    };
    match connection.each(query, take).await {
        Err(error) if error.is_fatal() => return Err(error),
        _ => {} // the groups are there to choose from; some are better than none
    }
    groups.sort_by(|left, right| (right.1, &left.0).cmp(&(left.1, &right.0)));
    Ok(groups)
}

/// The rule for a field.
struct Rule {
    from: Vec<String>,
    rest: &'static str,
    comment: String,
}

/// Rules for the fields that nearly every application has, given the attributes of people.
fn rules(survey: &Survey) -> Vec<(&'static str, Rule)> {
    let share = |attribute: &str| {
        let filled = survey.find(attribute).map_or(0, |facts| facts.filled);
        if filled == survey.people {
            "everybody has it".to_owned()
        } else {
            format!("{filled} of {} have it", survey.people)
        }
    };
    let some = |wanted: &[&str]| -> Option<String> {
        let enough = |name: &&&str| survey.find(name).is_some_and(|facts| facts.filled * 4 >= survey.people);
        wanted.iter().find(enough).and_then(|name| survey.find(name)).map(|facts| facts.attribute.clone())
    };
    let mut rules = Vec::new();
    let login = survey.best(&LOGINS, true).or_else(|| survey.best(&LOGINS, false));
    let login = login.map_or_else(|| "uid".to_owned(), |facts| facts.attribute.clone());
    rules.push(("login", Rule { comment: share(&login), from: vec![login], rest: ", case = \"lower\"" }));
    let names: Vec<String> = NAMES.iter().filter_map(|name| some(&[name])).take(2).collect();
    if let Some(first) = names.first() {
        rules.push(("name", Rule { comment: share(first), from: names, rest: "" }));
    }
    if let Some(mail) = some(&["mail"]) {
        rules.push(("email", Rule { comment: share(&mail), from: vec![mail], rest: ", unique = true" }));
    }
    for (field, wanted) in [
        ("department", &["department", "departmentNumber", "ou"][..]),
        ("phone", &["telephoneNumber", "mobile"]),
        ("room", &["physicalDeliveryOfficeName", "roomNumber"]),
    ] {
        if let Some(attribute) = some(wanted) {
            rules.push((field, Rule { comment: share(&attribute), from: vec![attribute], rest: "" }));
        }
    }
    rules
}

/// A TOML string: JSON's escapes are valid in TOML.
fn quoted(text: &str) -> String {
    serde_json::Value::from(text).to_string()
}

/// Text for a comment, without control characters, which would end it.
fn plain(text: &str) -> String {
    text.chars().map(|character| if character.is_control() { '?' } else { character }).collect()
}

/// A line with its comment, in a common column where possible.
fn line(out: &mut String, code: &str, comment: &str) {
    let _ = match comment {
        "" => writeln!(out, "{code}"),
        _ => writeln!(out, "{code:<COLUMN$} # {}", plain(comment)),
    };
}

/// Lines with their comments.
fn lines(out: &mut String, lines: &[(&str, &str)]) {
    for (code, comment) in lines {
        line(out, code, comment);
    }
}

fn write(options: &DraftOptions<'_>, facts: &Facts, rules: &[(&'static str, Rule)]) -> String {
    let mut out = String::new();
    let _ = writeln!(
        out,
        "# The people of the directory who have an account in the application.\n\
         # Drafted from what was found at {}.\n\
         # `webtaxon check` tests every line; `webtaxon preview` shows what would happen.\n",
        plain(&facts.described)
    );
    connection(&mut out, options.directory);
    out.push('\n');
    let path = format!("path  = {}", quoted(options.accounts));
    lines(
        &mut out,
        &[
            ("[accounts]", "the application's accounts"),
            ("store = \"csv\"", ""),
            (&path, "login, link and state, and a column for each field"),
            ("# protected = [\"admin\"]", "logins that are never touched"),
            ("# seats = 100", "number of active accounts that the licence allows"),
        ],
    );
    intake(&mut out, options, facts);
    out.push_str("\n[intake.fields]\n");
    for (field, rule) in rules {
        let from: Vec<String> = rule.from.iter().map(|name| quoted(name)).collect();
        let from = if from.len() == 1 { from.concat() } else { format!("[{}]", from.join(", ")) };
        line(&mut out, &format!("{field:<10} = {{ from = {from}{} }}", rule.rest), &rule.comment);
    }
    out.push('\n');
    lines(
        &mut out,
        &[
            ("[intake.leaving]", "what happens to an account, by cause"),
            (
                "gone       = { do = \"suspend\" }",
                "the entry no longer exists; \"remove\" deletes the account",
            ),
            ("outside    = { do = \"suspend\" }", "it exists, but is no longer selected"),
            ("disabled   = { do = \"suspend\" }", "no longer active"),
            ("incomplete = { do = \"keep\" }", "a required field is missing"),
        ],
    );
    let few = if facts.survey.people < 20 { "# " } else { "" };
    let fewest = format!("{few}fewest   = {}", facts.survey.people / 2);
    out.push_str("\n[brakes]\n");
    let removals = ("removals = \"5%\"", "maximum removed or suspended at once");
    lines(&mut out, &[removals, (&fewest, "minimum number of people")]);
    out
}

/// The section on the people to be imported.
fn intake(out: &mut String, options: &DraftOptions<'_>, facts: &Facts) {
    out.push_str("\n[[intake]]\nname      = \"people\"\n");
    let base = (
        format!("bases     = [{}]", quoted(&facts.base.dn)),
        format!("{} people are there", facts.base.people),
    );
    let filter = format!("filter    = {}", quoted(&facts.filter.to_string()));
    let active = facts.active.unwrap_or((
        "# active  = \"(!(employeeType=left))\"",
        "no attribute marks leavers: ask the directory's administrators",
    ));
    lines(
        out,
        &[
            (&format!("directory = {}", quoted(&options.directory.name)), ""),
            (&base.0, &base.1),
            (&filter, &format!("matches {} of them", facts.survey.people)),
            active,
        ],
    );
    groups_in(out, facts);
    let identity = match facts.survey.suggestions().find(|(what, _)| *what == "identity") {
        Some((_, identity)) => (
            format!("# identity = {}", quoted(&identity.attribute)),
            "the attribute of the link; found automatically",
        ),
        None => (
            "# identity = \"employeeNumber\"".to_owned(),
            "no lasting identity is visible, but links need one",
        ),
    };
    lines(
        out,
        &[
            ("match     = [\"link\", \"login\"]", "how a person's account is found, in this order"),
            ("# adopt   = \"same-login\"", "link accounts made by hand to people with the same login"),
            (&identity.0, identity.1),
        ],
    );
}

/// The section on the directory.
fn connection(out: &mut String, directory: &Directory) {
    let _ = writeln!(out, "[directory.{}]", key(&directory.name));
    match &directory.servers {
        Servers::Named(list) => {
            let list: Vec<String> = list.iter().map(|server| quoted(&server.to_string())).collect();
            let _ = writeln!(out, "servers  = [{}]", list.join(", "));
        }
        Servers::Domain(domain) => {
            let _ = writeln!(out, "domain   = {}", quoted(domain));
        }
    }
    match &directory.trust {
        Trust::System => {
            line(out, "# trust  = { authority = \"ca.pem\" }", "default: the system's authorities")
        }
        Trust::Authority(file) => line(
            out,
            &format!("trust    = {{ authority = {} }}", path(file)),
            "the authority that signed the servers' certificates",
        ),
        Trust::Pinned(list) => {
            let list: Vec<String> = list.iter().map(|pin| quoted(&pin.compact())).collect();
            let list = if list.len() == 1 { list.concat() } else { format!("[{}]", list.join(", ")) };
            line(out, &format!("trust    = {{ fingerprint = {list} }}"), "this certificate and no other");
        }
    }
    if let Some(own) = &directory.certificate {
        let _ = writeln!(out, "certificate = {{ chain = {}, key = {} }}", path(&own.chain), path(&own.key));
    }
    match &directory.bind {
        Bind::Anonymous => line(out, "# bind   = \"svc-app@quillmere.example\"", "default: anonymous"),
        Bind::External => line(out, "bind     = { external = true }", ""),
        Bind::Simple { name, password } => {
            line(out, &format!("bind     = {}", quoted(name)), "an account that can only read");
            let source = match password {
                Some(PasswordSource::Env(variable)) => format!("{{ env = {} }}", quoted(variable)),
                Some(PasswordSource::File(file)) => format!("{{ file = {} }}", path(file)),
                Some(PasswordSource::Credential(name)) => format!("{{ credential = {} }}", quoted(name)),
                Some(PasswordSource::Command(words)) => {
                    let words: Vec<String> = words.iter().map(|word| quoted(word)).collect();
                    format!("{{ command = [{}] }}", words.join(", "))
                }
                Some(PasswordSource::Ask) | None => "{ ask = true }".to_owned(),
            };
            line(out, &format!("password = {source}"), "or { env = \"…\" }, { file = \"…\" }; never here");
        }
    }
    if directory.plain {
        line(out, "plain    = true", "without TLS: only for tests on one machine");
    }
}

/// The section on groups: none is chosen, since only the administrator knows which one is meant.
fn groups_in(out: &mut String, facts: &Facts) {
    // The root is not a useful base.
    if let Some(base) = facts.group_base.as_ref().filter(|base| base.depth > 0) {
        line(
            out,
            &format!("group_bases = [{}]", quoted(&base.dn)),
            &format!("{} groups are there", base.groups),
        );
    }
    let listed: Vec<&(String, usize)> =
        facts.groups.iter().filter(|(_, members)| *members > 0).take(GROUPS).collect();
    if listed.is_empty() {
        return;
    }
    out.push_str(
        "# Only direct or nested members of one of these groups are selected; default: everybody.\n",
    );
    out.push_str("# These are the largest ones; `webtaxon browse --find TEXT` finds others.\n# groups = [\n");
    for (dn, members) in listed {
        let members = if *members == 1 { "1 member".to_owned() } else { format!("{members} members") };
        line(out, &format!("#   {},", quoted(dn)), &members);
    }
    out.push_str("# ]\n");
    line(out, "# not_in_group = []", "and nobody in one of these");
}

fn path(file: &Path) -> String {
    quoted(&file.to_string_lossy())
}

/// A key, bare if possible.
fn key(name: &str) -> String {
    let bare = !name.is_empty()
        && name.bytes().all(|byte| byte.is_ascii_alphanumeric() || matches!(byte, b'-' | b'_'));
    if bare { name.to_owned() } else { quoted(name) }
}
