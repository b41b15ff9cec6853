//! Steps on the bind account: whether it can bind, the identity that the server assumes, the expiry of its password,
//! and rights beyond what this job needs.

use super::steps::{Finding, StepOutcome, Steps, bad, good, warning};
use crate::directory::client::Connection;
use crate::directory::{Access, DirectoryError, Query};
use crate::secure::password_warning;
use crate::setup::Setup;
use jiff::Timestamp;
use std::collections::HashSet;
use std::ops::ControlFlow;
use std::time::Instant;
use webtaxon_core::ldap::entry::{Entries, Entry};
use webtaxon_core::ldap::filter::Filter;
use webtaxon_core::ldap::name::{self, Dn, DnKey};
use webtaxon_core::ldap::schema::ServerKind;
use webtaxon_core::ldap::url::Server;
use webtaxon_core::ldap::value::{FileTime, relative_id, sid};
use webtaxon_core::settings::{Bind, Directory, Intake};
use webtaxon_core::words::counted;
use webtaxon_wire::control::WHO_AM_I;

/// Days before the expiry of a password at which to warn.
const SOON: i64 = 30;
/// Maximum levels of groups above the bind account.
const LEVELS: usize = 8;

/// Groups of a domain controller that can change accounts or servers: the last part of the SID ([MS-DTYP] §2.4.2.4),
/// and the usual name.
const POWERFUL: [(u32, &str); 9] = [
    (512, "Domain Admins"),
    (518, "Schema Admins"),
    (519, "Enterprise Admins"),
    (520, "Group Policy Creator Owners"),
    (544, "Administrators"),
    (548, "Account Operators"),
    (549, "Server Operators"),
    (550, "Print Operators"),
    (551, "Backup Operators"),
];

const LESS: &str =
    "reading is enough: ask the directory's administrators for an account that can do nothing else";

/// Fetches the password and binds; false if a run would fail here.
pub(crate) async fn bind(
    setup: &Setup,
    directory: &Directory,
    connection: &mut Connection,
    steps: &mut Steps<'_>,
) -> bool {
    let began = Instant::now();
    let secret = match setup.password(directory).await {
        Ok(secret) => secret,
        Err(error) => {
            steps.end("password", began, bad(&error));
            return false;
        }
    };
    if secret.is_some() {
        let finding = match password_warning(directory, &setup.folder) {
            None => good("found"),
            Some(open) => warning(open, "make it readable only by the user who runs this"),
        };
        steps.end("password", began, finding);
    }
    let began = Instant::now();
    let bound = match connection.server().parse::<Server>() {
        Ok(server) => Access::new(directory, &setup.folder, secret).bind(connection, &server).await,
        Err(_) => connection.bind(directory, secret.as_ref()).await,
    };
    if let Err(error) = bound {
        steps.end("bind", began, bad(&error));
        return false;
    }
    if directory.bind == Bind::Anonymous {
        steps.end("bind", began, good("anonymous, as set in the settings"));
        return true;
    }
    match account(directory, connection, steps, began).await {
        Ok(()) => true,
        Err(error) => {
            steps.end("rights", Instant::now(), bad(&error));
            !error.is_fatal()
        }
    }
}

/// The bind account and its rights.
async fn account(
    directory: &Directory,
    connection: &mut Connection,
    steps: &mut Steps<'_>,
    began: Instant,
) -> Result<(), DirectoryError> {
    let shown = directory.bind.name().unwrap_or("the identity of the connection");
    let told = match connection.root().extends(WHO_AM_I) {
        true => connection.who_am_i().await?,
        false => None,
    };
    if told.as_deref() == Some("") {
        let finding = Finding {
            outcome: StepOutcome::Bad,
            message: format!("the server accepted {shown}, but treats it as anonymous"),
            remedy: "ask the directory's administrators how this account should bind".to_owned(),
            code: Some("WX0316".to_owned()),
        };
        steps.end("bind", began, finding);
        return Ok(());
    }
    let own = own_entry(directory, connection, told.as_deref()).await?;
    let dn = own.get(0).map(Entry::dn).filter(|dn| !dn.is_empty());
    let finding = match (dn, &told) {
        (Some(dn), _) => good(format!("accepted as {shown}: {dn}")),
        (None, Some(told)) => good(format!("accepted as {shown}: {told}")),
        (None, None) => good(format!("accepted as {shown}; it cannot see its own entry")),
    };
    steps.end("bind", began, finding);
    let began = Instant::now();
    if let Some(finding) = expiry(connection, own.get(0)) {
        steps.end("password", began, finding);
    }
    let began = Instant::now();
    let mut powers = match own.get(0) {
        Some(entry) => powers(connection, entry).await?,
        None => Vec::new(),
    };
    if can_read_configuration(connection).await? {
        powers.push("it can read the server's own configuration (cn=config)".to_owned());
    }
    let finding = match powers.is_empty() {
        true => good("the bind account appears to be able only to read"),
        false => warning(format!("the bind account can do more than read: {}", powers.join("; ")), LESS),
    };
    steps.end("rights", began, finding);
    Ok(())
}

/// The bind account's own entry; empty if it cannot be found.
async fn own_entry(
    directory: &Directory,
    connection: &mut Connection,
    told: Option<&str>,
) -> Result<Entries, DirectoryError> {
    const WANTED: [&str; 10] = [
        "memberOf",
        "adminCount",
        "tokenGroups",
        "userAccountControl",
        "accountExpires",
        "msDS-UserPasswordExpiryTimeComputed",
        "pwdChangedTime",
        "pwdPolicySubentry",
        "allowedAttributesEffective",
        "objectClass",
    ];
    let named = told.and_then(|told| told.strip_prefix("dn:")).or_else(|| {
        let name = directory.bind.name()?;
        Dn::parse(name).is_ok_and(|dn| dn.first().is_some()).then_some(name)
    });
    let dn = match named {
        Some(dn) => Some(dn.to_owned()),
        None => {
            let login = told.and_then(|told| told.strip_prefix("u:")).or(directory.bind.name());
            match login.map(by_login) {
                Some(filter) => find(connection, filter).await?,
                None => None,
            }
        }
    };
    let Some(dn) = dn else { return Ok(Entries::new()) };
    match connection.entries(Query::base(&dn, &WANTED)).await {
        Ok((entries, _)) => Ok(entries),
        Err(error) if error.is_fatal() => Err(error),
        Err(_) => Ok(Entries::new()),
    }
}

/// The filter for `user@domain` or `DOMAIN\user` on a domain controller.
fn by_login(name: &str) -> Filter {
    let short = name.rsplit('\\').next().unwrap_or(name);
    let short = short.split('@').next().unwrap_or(short);
    Filter::Or(vec![Filter::equal("userPrincipalName", name), Filter::equal("sAMAccountName", short)])
}

/// The first entry in the naming contexts that matches a filter.
async fn find(connection: &mut Connection, filter: Filter) -> Result<Option<String>, DirectoryError> {
    for top in connection.root().tops().to_vec() {
        match connection.entries(Query::subtree(&top.to_string(), filter.clone(), &["1.1"])).await {
            Ok((entries, _)) => {
                if let Some(entry) = entries.get(0) {
                    return Ok(Some(entry.dn().to_owned()));
                }
            }
            Err(error) if error.is_fatal() => return Err(error),
            Err(_) => {}
        }
    }
    Ok(None)
}

/// When the password expires, if that is known or soon.
fn expiry(connection: &Connection, own: Option<Entry<'_>>) -> Option<Finding> {
    const RENEW: &str = "ask the directory's administrators for a password that does not expire, or renew it in time and put the new one where `password` says";
    let now = Timestamp::now().as_second();
    if let Some(state) = connection.password_state() {
        if let Some(left) = state.grace_left {
            return Some(warning(format!("the password has expired; {left} more binds are accepted"), RENEW));
        }
        if let Some(seconds) = state.expires_in {
            let message =
                format!("the server reports that the password expires {}", when(i64::from(seconds)));
            return Some(warning(message, RENEW));
        }
    }
    let at = |attribute| own?.text(attribute).and_then(FileTime::parse);
    let days = |at: Timestamp| (at.as_second() - now).div_euclid(24 * 60 * 60);
    if let Some(FileTime::At(end)) = at("accountExpires") {
        let left = days(end);
        if left <= SOON {
            let message = format!("the bind account itself expires {}", when(end.as_second() - now));
            return Some(warning(message, "ask the directory's administrators to extend it"));
        }
    }
    match at("msDS-UserPasswordExpiryTimeComputed")? {
        FileTime::Never => Some(good("the password does not expire")),
        FileTime::At(end) => {
            let message = format!("the password expires {}", when(end.as_second() - now));
            Some(if days(end) <= SOON { warning(message, RENEW) } else { good(message) })
        }
    }
}

/// A time to come, in words.
fn when(seconds: i64) -> String {
    const DAY: i64 = 24 * 60 * 60;
    match seconds {
        ..0 => "now".to_owned(),
        0..DAY => "within a day".to_owned(),
        _ => format!("in {}", counted(usize::try_from(seconds / DAY).unwrap_or(usize::MAX), "day", "days")),
    }
}

/// The account's rights beyond reading, as far as the server shows them.
async fn powers(connection: &mut Connection, own: Entry<'_>) -> Result<Vec<String>, DirectoryError> {
    let mut powers = Vec::new();
    for group in own.values("tokenGroups") {
        let known = relative_id(group).and_then(|id| POWERFUL.iter().find(|(known, _)| *known == id));
        if let Some((_, name)) = known {
            powers.push(format!("it is in {name} ({})", sid(group).unwrap_or_default()));
        }
    }
    if powers.is_empty() {
        for group in groups_of(connection, own.dn()).await? {
            if name::short(&group).to_lowercase().contains("admin") {
                powers.push(format!("it is in {group}"));
            }
        }
    }
    if own.text("adminCount").is_some_and(|count| count != "0") {
        powers.push("it is, or was, protected as an administrator (adminCount)".to_owned());
    }
    powers.extend(writable(connection, own.dn()).await?);
    Ok(powers)
}

/// The groups that list the account, and the groups that list those.
async fn groups_of(connection: &mut Connection, dn: &str) -> Result<Vec<String>, DirectoryError> {
    let mut all = Vec::new();
    let mut seen: HashSet<DnKey> = HashSet::new();
    let mut level = vec![dn.to_owned()];
    let tops = connection.root().tops().to_vec();
    for _ in 0..LEVELS {
        let mut above = Vec::new();
        for member in &level {
            let lists =
                ["member", "uniqueMember"].map(|list| Filter::equal(list, member.as_bytes())).to_vec();
            for top in &tops {
                let query = Query::subtree(&top.to_string(), Filter::Or(lists.clone()), &["1.1"]);
                match connection.entries(query).await {
                    Ok((entries, _)) => above.extend(entries.iter().map(|entry| entry.dn().to_owned())),
                    Err(error) if error.is_fatal() => return Err(error),
                    Err(_) => {}
                }
            }
        }
        above.retain(|group| Dn::parse(group).is_ok_and(|dn| seen.insert(dn.key())));
        if above.is_empty() {
            break;
        }
        all.extend(above.iter().cloned());
        level = above;
    }
    Ok(all)
}

/// Attributes of other people that the account may write, if the server shows them ([MS-ADTS] §3.1.1.4.5.22).
async fn writable(connection: &mut Connection, own: &str) -> Result<Option<String>, DirectoryError> {
    if connection.root().kind != ServerKind::Controller {
        return Ok(None);
    }
    let own = Dn::parse(own).map(|dn| dn.key()).ok();
    let Some(top) = connection.root().tops().first().cloned() else { return Ok(None) };
    let people =
        Filter::And(vec![Filter::equal("objectCategory", "person"), Filter::equal("objectClass", "user")]);
    let query = Query::subtree(&top.to_string(), people, &["1.1"]);
    let mut other = None;
    // Any other person will do.
    let take = |entry: Entry<'_>| {
        if Dn::parse(entry.dn()).map(|dn| dn.key()).ok() == own {
            return ControlFlow::Continue(());
        }
        other = Some(entry.dn().to_owned());
        ControlFlow::Break(())
    };
    match connection.each(query, take).await {
        Err(error) if error.is_fatal() => return Err(error),
        _ => {}
    }
    let Some(other) = other else { return Ok(None) };
    let entries = match connection.entries(Query::base(&other, &["allowedAttributesEffective"])).await {
        Ok((entries, _)) => entries,
        Err(error) if error.is_fatal() => return Err(error),
        Err(_) => return Ok(None),
    };
    let count = entries.get(0).map_or(0, |entry| entry.values("allowedAttributesEffective").count());
    Ok((count > 0).then(|| format!("it may write {count} attributes of {}", name::short(&other))))
}

async fn can_read_configuration(connection: &mut Connection) -> Result<bool, DirectoryError> {
    if connection.root().kind == ServerKind::Controller {
        return Ok(false);
    }
    match connection.entries(Query::base("cn=config", &["1.1"])).await {
        Ok((entries, _)) => Ok(!entries.is_empty()),
        Err(error) if error.is_fatal() => Err(error),
        Err(_) => Ok(false),
    }
}

/// Reports if the same people can be read without a bind.
pub(crate) async fn anonymous(
    access: &Access,
    intake: &Intake,
    candidates: Option<usize>,
) -> Option<Finding> {
    let candidates = candidates.filter(|count| *count > 0)?;
    let nobody = access.anonymous();
    let mut connection = nobody.open_first(&nobody.servers().await.ok()?).await.ok()?;
    let counted = crate::check::content::count(&mut connection, intake).await;
    connection.close().await;
    counted.is_ok_and(|counted| counted.entries == candidates).then(|| {
        good("an anonymous search finds the same people: unless an attribute is missing then, bind and password are not needed")
    })
}
