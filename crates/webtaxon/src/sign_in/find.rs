//! From a typed name to exactly one entry, and from its password to the directory's answer.

use super::pool::{Operation, Purpose};
use super::shared::Shared;
use super::tried::{Person, Tried};
use crate::directory::{Connection, DirectoryError, Query, as_reading};
use crate::error::Error;
use ring::rand::{SecureRandom as _, SystemRandom};
use secrecy::SecretString;
use std::fmt::Write as _;
use webtaxon_core::ldap::entry::Entries;
use webtaxon_core::ldap::filter::Filter;
use webtaxon_core::ldap::identity::Identity;
use webtaxon_core::ldap::name::Dn;
use webtaxon_core::ldap::schema::ServerKind;
use webtaxon_core::reading::{Reading, Request};
use webtaxon_core::settings::Intake;
use webtaxon_core::sign_in::{PasswordAnswer, Refusal, SignInName};

impl Shared {
    /// The one entry that is called so, among those that the intakes' filters find; or the refusal.
    pub(super) async fn find(&self, typed: &SignInName, tried: &mut Tried) -> Result<Option<Person>, Error> {
        let settings = &self.setup.settings;
        let mut all: Vec<Person> = Vec::new();
        for intake in self.intakes() {
            for person in self.in_intake(intake, typed).await? {
                let is_known = |one: &Person| {
                    one.directory == person.directory
                        && one.identity.is_some()
                        && one.identity == person.identity
                };
                if !all.iter().any(is_known) {
                    all.push(person);
                }
            }
        }
        // The first field in the settings that anybody is called by decides.
        let first = all.iter().map(|one| one.field).min();
        let mut called: Vec<Person> = all.into_iter().filter(|one| Some(one.field) == first).collect();
        let field = first.and_then(|field| settings.sign_in.names.get(field)).cloned().unwrap_or_default();
        match called.len() {
            0 => tried.refuse(Refusal::UnknownName),
            1 => {
                let person = called.pop();
                tried.found(person.as_ref(), &field);
                return Ok(person);
            }
            _ => {
                let names = called.into_iter().map(|one| one.dn).collect();
                tried.refuse(Refusal::SeveralEntries(names));
            }
        }
        Ok(None)
    }

    /// An intake's people who are called so.
    async fn in_intake(
        &self,
        (at, intake, request): (usize, &Intake, &Request),
        typed: &SignInName,
    ) -> Result<Vec<Person>, Error> {
        let sign_in = &self.setup.settings.sign_in;
        let Some(filter) = typed.filter(sign_in, intake) else { return Ok(Vec::new()) };
        let filter = Filter::all([request.filter.clone(), filter]);
        let below = |base: &Dn| Query::subtree(&base.to_string(), filter.clone(), &[]);
        let reading = self.searched(intake, request, request.bases.iter().map(below).collect()).await?;
        let person = |(person, field): (usize, usize)| Person::of(&reading, person, (at, intake, field));
        Ok(typed.people(sign_in, intake, &reading).into_iter().filter_map(person).collect())
    }

    /// The person of this name, as an intake's filter finds them; nobody if two directories have one.
    pub(super) async fn entry(&self, dn: &Dn) -> Result<Option<Person>, Error> {
        let mut found: Option<Person> = None;
        for (at, intake, request) in self.intakes() {
            if !request.bases.iter().any(|base| dn.key().is_within(&base.key())) {
                continue;
            }
            let query = Query { filter: request.filter.clone(), ..Query::base(&dn.to_string(), &[]) };
            let reading = self.searched(intake, request, vec![query]).await?;
            let Some(person) = Person::of(&reading, 0, (at, intake, 0)) else { continue };
            match &found {
                Some(known) if known.directory != person.directory => return Ok(None),
                Some(_) => {}
                None => found = Some(person),
            }
        }
        Ok(found)
    }

    /// The entries that an intake's searches find.
    async fn searched(
        &self,
        intake: &Intake,
        request: &Request,
        queries: Vec<Query>,
    ) -> Result<Reading, Error> {
        let read = |connection: Connection| -> Operation<'_, (Entries, ServerKind)> {
            Box::pin(entries(connection, request, queries.clone()))
        };
        let (entries, kind) = self.pool(intake)?.run(Purpose::Searches, &read).await?;
        Ok(as_reading(kind, request, &entries))
    }

    /// True if the directory accepts a person's password. Once it has judged the password, no other server is asked.
    pub(super) async fn is_right(
        &self,
        person: &Person,
        password: &SecretString,
        tried: &mut Tried,
    ) -> Result<bool, Error> {
        use secrecy::ExposeSecret as _;
        if password.expose_secret().is_empty() {
            tried.refuse(Refusal::NoPassword);
            self.decoy().await?;
            return Ok(false);
        }
        let answer = self.bind(&person.directory, &person.dn, password).await?;
        tried.answered(answer.clone());
        if !answer.is_yes() {
            tried.refuse(Refusal::Password(answer));
            return Ok(false);
        }
        Ok(true)
    }

    async fn bind(
        &self,
        directory: &str,
        dn: &str,
        password: &SecretString,
    ) -> Result<PasswordAnswer, Error> {
        let bind = |mut connection: Connection| -> Operation<'_, PasswordAnswer> {
            Box::pin(async move {
                match connection.bind_person(dn, password).await {
                    Ok(answer) => (Some(connection), Ok(answer)),
                    Err(error) => (None, Err(error)),
                }
            })
        };
        let pool = self.pools.get(directory);
        let pool =
            pool.ok_or_else(|| DirectoryError::from(crate::directory::DirectoryErrorKind::NoServer))?;
        Ok(pool.run(Purpose::Binds, &bind).await?)
    }

    /// A bind as nobody, so that an unknown name takes as long as a wrong password.
    pub(super) async fn decoy(&self) -> Result<(), Error> {
        let first = &self.setup.settings.intakes.first;
        let base = first.bases.first().map(Dn::to_string).unwrap_or_default();
        let made_up = random();
        let dn = format!("cn={made_up},{base}");
        match self.bind(&first.directory, &dn, &SecretString::from(random())).await {
            // A server that says why it knows nobody of this name says it in other ways as well.
            Ok(_) => Ok(()),
            Err(error) => Err(error),
        }
    }
}

impl Person {
    /// A person of a reading, with the number of the intake, the intake, and the field that they are called by.
    fn of(reading: &Reading, person: usize, (at, intake, field): (usize, &Intake, usize)) -> Option<Self> {
        let entry = reading.people().get(person)?;
        let identity = Identity::of(entry, &reading.source().identity);
        let (dn, directory) = (entry.dn().to_owned(), intake.directory.clone());
        Some(Self { intake: at, directory, dn, identity, field })
    }
}

/// Sixteen random bytes, in hexadecimal.
fn random() -> String {
    let mut bytes = [0_u8; 16];
    // Without randomness the name is only easier to guess: it is nobody's in any case.
    let _ = SystemRandom::new().fill(&mut bytes);
    bytes.iter().fold(String::new(), |mut text, byte| {
        let _ = write!(text, "{byte:02x}");
        text
    })
}

/// The entries that searches find, with the attributes of people.
async fn entries(
    mut connection: Connection,
    request: &Request,
    queries: Vec<Query>,
) -> (Option<Connection>, Result<(Entries, ServerKind), DirectoryError>) {
    let kind = connection.root().kind;
    let attributes = request.attributes(kind);
    let mut all = Entries::new();
    for query in queries {
        match connection.entries(Query { attributes: attributes.clone(), ..query }).await {
            Ok((entries, _)) => entries.iter().for_each(|entry| all.push(entry.dn(), entry.attributes())),
            Err(error) if error.is_no_such_object() => {}
            Err(error) => {
                let back = (!error.is_fatal()).then_some(connection);
                return (back, Err(error));
            }
        }
    }
    (Some(connection), Ok((all, kind)))
}
