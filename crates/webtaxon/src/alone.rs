//! The explanation of one person from a reading of their own, where it is the same as from a reading of everybody: of
//! somebody whose account stays as it is but for plain values, and of somebody who has none and is not selected.
//!
//! It costs by the person. Whoever claims something that others may claim as well, or loses something, is explained by a
//! reading of everybody.

use crate::directory::{Access, Connection, DirectoryError, Ground, OnePerson, Query, as_reading, read_one};
use crate::error::Error;
use crate::setup::{Lists, Setup};
use webtaxon_core::account::{Account, Replies, State};
use webtaxon_core::ldap::entry::Entries;
use webtaxon_core::ldap::filter::Filter;
use webtaxon_core::ldap::identity::Identity;
use webtaxon_core::ldap::name::Dn;
use webtaxon_core::preview::ChangeKind;
use webtaxon_core::preview::why::{Subject, Why};
use webtaxon_core::reading::{Reading, Request};
use webtaxon_core::settings::{Intake, SignIn};
use webtaxon_core::sign_in::SignInName;

/// The explanation of the person with a login or the name of their entry, with additional attributes of people; `None` if
/// only a reading of everybody can tell.
pub(crate) async fn why(setup: &Setup, text: &str, more: &[String]) -> Result<Option<Why>, Error> {
    let (settings, intake) = (&setup.settings, &setup.settings.intakes.first);
    if setup.snapshot.is_some() || settings.brings_groups() || !settings.intakes.is_single() {
        return Ok(None);
    }
    let request = Request::of(intake).with(more);
    let access = setup.access(intake).await?;
    let mut connection = access.open_first(&access.servers().await?).await?;
    let Some((dn, identity)) = person(&mut connection, intake, &request, text).await? else {
        return Ok(None);
    };
    let accounts = setup.accounts().await?;
    let own = accounts.iter().find(|one| one.link.is_some() && one.link == identity);
    if is_somebody_elses(&accounts, text, own)
        || !is_alone(&mut connection, intake, &dn, &own.map(|own| claims(intake, own)).unwrap_or_default())
            .await?
    {
        return Ok(None);
    }
    let has_account = own.is_some();
    let Some(reading) = read(setup, &access, connection, (intake, &request, &dn, has_account)).await? else {
        return Ok(None);
    };
    let memory = setup.memory().await?;
    let mut lists = Lists { accounts, groups: None, readings: vec![reading], replies: Replies::default() };
    let preview = lists.preview(settings, &memory, &*setup.store()).await?;
    let situation = lists.situation(settings, &memory);
    let account = lists.accounts.iter().position(|one| one.link.is_some() && one.link == identity);
    let is_same = lists.readings.first().is_some_and(|reading| identity_of(reading) == identity);
    let subject = Subject { person: Some((0, 0)), stranger: None, account };
    let why = Why::within(&preview, situation, subject).filter(|_| is_same);
    Ok(why.filter(|why| is_plain(why, intake, identity.as_ref())))
}

/// The reading of the person, if everything that decides about them was read.
async fn read(
    setup: &Setup,
    access: &Access,
    mut connection: Connection,
    (intake, request, dn, has_account): (&Intake, &Request, &str, bool),
) -> Result<Option<Reading>, Error> {
    let memory = setup.memory().await?;
    let before = memory.footprints.get(&intake.name);
    let ground = Ground::read(&mut connection, request, before).await?;
    let one = OnePerson { intake, request, dn, ground: &ground, before, has_account };
    let (connection, reading) = read_one(access, connection, one).await;
    if let Some(connection) = connection {
        connection.close().await;
    }
    Ok(Some(reading?).filter(|reading| reading.whole().is_some() && !reading.people().is_empty()))
}

fn identity_of(reading: &Reading) -> Option<Identity> {
    Identity::of(reading.people().get(0)?, &reading.source().identity)
}

/// The only person with a login or a name, as the intake's filter finds them.
async fn person(
    connection: &mut Connection,
    intake: &Intake,
    request: &Request,
    text: &str,
) -> Result<Option<(String, Option<Identity>)>, Error> {
    let by_login = SignIn::default();
    let dn = Dn::parse(text).ok().filter(|dn| dn.depth() > 0);
    let name = SignInName::new(text).ok();
    let filter = name.as_ref().and_then(|name| name.filter(&by_login, intake));
    let queries: Vec<Query> = match (&dn, filter) {
        (Some(dn), _) => vec![Query { filter: request.filter.clone(), ..Query::base(&dn.to_string(), &[]) }],
        (None, Some(filter)) => {
            let filter = Filter::all([request.filter.clone(), filter]);
            let below = |base: &Dn| Query::subtree(&base.to_string(), filter.clone(), &[]);
            request.bases.iter().map(below).collect()
        }
        (None, None) => return Ok(None),
    };
    let mut found = Entries::new();
    for query in queries {
        let attributes = request.attributes(connection.root().kind);
        match connection.entries(Query { attributes, ..query }).await {
            Ok((entries, _)) => entries.iter().for_each(|entry| found.push(entry.dn(), entry.attributes())),
            Err(error) if error.is_fatal() => return Err(error.into()),
            // A reading of everybody says what is wrong.
            Err(_) => return Ok(None),
        }
    }
    let reading = as_reading(connection.root().kind, request, &found);
    let is_it = dn.is_some()
        || name.is_some_and(|name| name.people(&by_login, intake, &reading).len() == 1 && found.len() == 1);
    let entry = reading.people().get(0).filter(|_| is_it && found.len() == 1);
    Ok(entry.map(|entry| (entry.dn().to_owned(), Identity::of(entry, &reading.source().identity))))
}

/// True if the text is the login, name or mail of somebody else's account.
fn is_somebody_elses(accounts: &[Account], text: &str, own: Option<&Account>) -> bool {
    let is = |account: &&Account| {
        ["login", "name", "email"].iter().any(|field| account.field(field).eq_ignore_ascii_case(text))
    };
    accounts.iter().filter(is).any(|account| own.is_none_or(|own| own.login != account.login))
}

/// The login and the unique values of an account.
fn claims(intake: &Intake, account: &Account) -> Vec<(String, String)> {
    let unique = intake.fields.iter().filter(|(field, rule)| rule.unique || *field == "login");
    let values = unique.map(|(field, _)| (field.clone(), account.field(field).to_owned()));
    values.filter(|(_, value)| !value.is_empty()).collect()
}

/// True if nobody else below the bases may draw one of these values of fields; false, too, if the directory cannot be
/// searched for one.
///
/// # Errors
/// A search failed.
pub(crate) async fn is_alone(
    connection: &mut Connection,
    intake: &Intake,
    dn: &str,
    claims: &[(String, String)],
) -> Result<bool, DirectoryError> {
    let own_key = Dn::parse(dn).map(|dn| dn.key()).ok();
    for (field, value) in claims {
        let Some(rule) = intake.fields.get(field) else { continue };
        let Some(filter) = rule.filter_for(value) else { return Ok(false) };
        let filter = Filter::all([intake.filter.clone(), filter]);
        for base in &intake.bases {
            let query = Query::subtree(&base.to_string(), filter.clone(), &["1.1"]);
            let (entries, _) = connection.entries(query).await?;
            let is_other = |dn: &str| Dn::parse(dn).map(|dn| dn.key()).ok() != own_key;
            if entries.iter().any(|entry| is_other(entry.dn())) {
                return Ok(false);
            }
        }
    }
    Ok(true)
}

/// True if nothing in an explanation depends on others.
fn is_plain(why: &Why, intake: &Intake, identity: Option<&Identity>) -> bool {
    if why.held.is_some() || !why.also.is_empty() || !why.claims.is_empty() {
        return false;
    }
    let own = why.account.as_ref();
    if !why.selected {
        return own.is_none() && why.change.is_none();
    }
    let is_theirs = own
        .is_some_and(|own| own.link.is_some() && own.link.as_ref() == identity && own.state == State::Active);
    let is_plain_value = |(name, new): (&String, Option<&str>)| {
        let is_unique = intake.fields.get(name).is_none_or(|rule| rule.unique) || name == "login";
        !is_unique && new.is_some_and(|new| !new.is_empty())
    };
    let is_plain_change = why.change.as_ref().is_none_or(|change| {
        let mut fields = change.fields.iter().map(|(name, field)| (name, field.new.as_deref()));
        change.kind() == ChangeKind::Update && fields.all(is_plain_value)
    });
    is_theirs && is_plain_change
}
