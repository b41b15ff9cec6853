//! The explanation for one person: which step selected or excluded them, where each field comes from, which account
//! is theirs, what would happen to it, and what would have to change for another outcome.
//!
//! Nothing is decided here: every step asks the code that decided for the preview.

use super::belonging::{Belonging, belongings};
pub use super::found::{Found, find};
use super::situation::Situation;
use super::{Change, ChangeKind, Held, HeldReason, Preview};
use crate::account::{Account, State};
use crate::draw::{Drawer, Drawn};
use crate::graph::GroupPath;
use crate::ldap::entry::{Entries, Entry};
use crate::ldap::filter::{Filter, Ground, Judged, Truth, explain};
use crate::ldap::identity::Identity;
use crate::ldap::name::{Dn, DnKey, short};
use crate::ldap::schema::Schema;
use crate::ldap::schema::ServerKind;
use crate::reading::{Reading, Whereabouts};
use crate::selection::{Selection, Step, schema_for};
use crate::settings::{ActiveCondition, Intake, Settings, active_conditions, active_filter};
use serde::Serialize;

/// The verdict of a step.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Verdict {
    /// The person passes.
    Yes,
    /// The person is excluded.
    No,
    /// Unknown: something that decides it was not read.
    Unknown,
}

/// One step of the selection, applied to one person.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct WhyStep {
    /// The step: `base`, `filter`, `listed`, `groups`, `not_in_group`, `active`, `complete`.
    pub name: &'static str,
    /// Its verdict.
    pub verdict: Verdict,
    /// The reason, in words.
    pub message: String,
    /// The groups behind it, the named one first.
    #[serde(flatten)]
    pub path: GroupPath,
    /// The clauses of the filter behind it.
    pub clauses: Vec<Judged>,
    /// What would have to change for the person to pass; empty if they do.
    pub remedy: String,
}

/// One field of the person.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct WhyField {
    /// The field.
    pub field: String,
    /// The value drawn, if any.
    pub value: Option<String>,
    /// Its source, or why there is none.
    pub from: String,
    /// The account's current value.
    pub account: Option<String>,
}

/// One role of the person.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct WhyRole {
    /// The role.
    pub role: String,
    /// Whether the rule gives it; `None` if that is not known.
    pub given: Option<bool>,
    /// The rule's condition, in words.
    pub rule: String,
    /// The path of groups that meets the condition.
    #[serde(flatten)]
    pub path: GroupPath,
}

/// The person's account.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct WhyAccount {
    /// Its login.
    pub login: String,
    /// Active or suspended.
    pub state: State,
    /// The link to the person; `None` for an account made by hand.
    pub link: Option<Identity>,
    /// How it was matched, in words.
    pub found: String,
}

/// The explanation for one person, or for an account without one.
#[derive(Clone, Debug)]
pub struct Why {
    /// The intake that the steps are of.
    pub intake: String,
    /// The person's entry, if known.
    pub dn: Option<String>,
    /// The display name.
    pub name: String,
    /// Whether the person passes every step.
    pub selected: bool,
    /// Whether everything that decides it was read.
    pub whole: bool,
    /// The steps.
    pub steps: Vec<WhyStep>,
    /// The fields; empty for a person whom no intake reads.
    pub fields: Vec<WhyField>,
    /// The roles given by rules; empty in the same case.
    pub roles: Vec<WhyRole>,
    /// The account.
    pub account: Option<WhyAccount>,
    /// Why no change to the account is possible, whatever the directory says; empty if one is.
    pub untouched: &'static str,
    /// The change, if any.
    pub change: Option<Change>,
    /// Other changes to the same account, such as a clash over one field while the others change.
    pub also: Vec<Change>,
    /// The change held back, if any.
    pub held: Option<Held>,
    /// Clashes and waits in which other people claim the account.
    pub claims: Vec<Change>,
    /// The application's groups that the account is, or would be, a member of.
    pub groups: Vec<Belonging>,
}

/// The subject of an explanation.
#[derive(Clone, Copy, Debug)]
pub struct Subject<'a> {
    /// The index of the intake, and the index in its reading's [`Reading::people`]. If several intakes find the
    /// person, the selecting one, or else the one in which they got furthest.
    pub person: Option<(usize, usize)>,
    /// The entry of a person whom no intake reads.
    pub stranger: Option<Entry<'a>>,
    /// The index of the account.
    pub account: Option<usize>,
}

/// A person in one intake's reading.
#[derive(Clone, Copy)]
struct Asked<'a> {
    person: Option<usize>,
    stranger: Option<Entry<'a>>,
    account: Option<usize>,
}

/// The data for the steps of an explanation.
struct Teller<'a> {
    settings: &'a Settings,
    intake: &'a Intake,
    reading: &'a Reading,
    selection: Selection<'a>,
}

/// Changes and held changes of one person or account.
struct Told<'p> {
    change: Option<&'p Change>,
    also: Vec<Change>,
    held: Option<&'p Held>,
}

impl<'p> Told<'p> {
    /// A person is listed under their entry's name, an account without a person under its login.
    fn of(preview: &'p Preview, dn: Option<&String>, account: Option<&WhyAccount>) -> Self {
        let link = account.and_then(|account| account.link.as_ref());
        let is_called = |login: &str| account.is_some_and(|account| account.login == login);
        let is_theirs = |login: &str, its: Option<&String>| match dn {
            Some(_) => its == dn,
            None => is_called(login) && link.is_some(),
        };
        let theirs = preview.changes.iter().filter(|change| dn.is_some() || change.link.as_ref() == link);
        let mut theirs = theirs.filter(|change| is_theirs(&change.login, change.dn.as_ref()));
        let change = theirs.next();
        // Changes to the account that has the person's login, and is somebody else's.
        let is_others = |change: &&Change| {
            let is_of = link.is_some() && change.link.as_ref() == link && is_called(&change.login);
            is_of && dn.is_some() && change.dn.as_ref() != dn
        };
        let also = theirs.chain(preview.changes.iter().filter(is_others)).cloned().collect();
        let held = preview.held.iter().find(|held| is_theirs(&held.login, held.dn.as_ref()));
        let is_anew =
            |held: &&Held| link.is_some() && held.reason == HeldReason::MadeAnew && is_called(&held.login);
        Self { change, also, held: held.or_else(|| preview.held.iter().find(is_anew)) }
    }
}

/// The display name of an entry.
fn called(entry: Entry<'_>) -> String {
    let name = ["displayName", "cn"].iter().find_map(|name| entry.text(name));
    name.map_or_else(|| short(entry.dn()), str::to_owned)
}

/// The index of the intake with a base above an entry, or of the first.
fn intake_above(settings: &Settings, entry: Option<Entry<'_>>) -> usize {
    let key = entry.and_then(|entry| Dn::parse(entry.dn()).ok()).map(|dn| dn.key());
    let is_above = |intake: &Intake| {
        key.as_ref().is_some_and(|key| intake.bases.iter().any(|base| key.is_within(&base.key())))
    };
    settings.intakes.iter().position(is_above).unwrap_or(0)
}

impl Why {
    /// Explains `subject`. `None` if there is no reading of the intake that it names.
    #[must_use]
    pub fn of(situation: Situation<'_>, subject: Subject<'_>) -> Option<Self> {
        Self::by_preview(&Preview::of(situation), situation, subject)
    }

    /// The same by the preview of the situation, if that was worked out already.
    #[must_use]
    pub fn by_preview(preview: &Preview, situation: Situation<'_>, subject: Subject<'_>) -> Option<Self> {
        let Situation { settings, readings, accounts, groups, .. } = situation;
        let Subject { person, stranger, account } = subject;
        let part = person.map(|(part, _)| part).unwrap_or_else(|| intake_above(settings, stranger));
        let (intake, reading) = (settings.intakes.iter().nth(part)?, readings.get(part)?);
        let subject = Asked { person: person.map(|(_, person)| person), stranger, account };
        let selection = situation.selections().into_iter().nth(part)?;
        let teller = Teller { settings, intake, reading, selection };
        let entry = subject.person.and_then(|person| reading.people().get(person)).or(subject.stranger);
        let key = entry.and_then(|entry| Dn::parse(entry.dn()).ok()).map(|dn| dn.key());
        let steps = match (entry, &key) {
            (Some(entry), Some(key)) => teller.steps(entry, key, subject.person),
            _ => Vec::new(),
        };
        let candidate =
            teller.selection.candidates.iter().find(|candidate| Some(candidate.person) == subject.person);
        let account = teller.account(accounts, subject);
        let dn = entry.map(|entry| entry.dn().to_owned());
        let Told { change, also, held } = Told::of(preview, dn.as_ref(), account.as_ref());
        let name = entry.map(called).or_else(|| Some(account.as_ref()?.login.clone())).unwrap_or_default();
        let login = account.as_ref().map(|account| account.login.as_str());
        let stored = accounts.iter().find(|one| Some(one.login.as_str()) == login);
        let claimed = stored.map(|stored| stored.login.as_str());
        let claims =
            |claim: &&Change| claim.dn != dn && claimed.is_some() && claim.claimed_account() == claimed;
        let (fields, roles) = match subject.person {
            Some(person) => teller.fields(person, stored),
            None => (Vec::new(), Vec::new()),
        };
        let new_login = change.and_then(|change| change.fields.get("login")?.new.as_deref());
        let after = new_login.or(login).unwrap_or_default();
        let groups = groups.map(|groups| belongings(preview, groups, readings, (login, after), key.as_ref()));
        Some(Self {
            groups: groups.unwrap_or_default(),
            intake: intake.name.clone(),
            dn: dn.clone(),
            name,
            selected: candidate.is_some(),
            whole: readings.iter().all(|reading| reading.whole().is_some()),
            untouched: teller.untouched(stored, candidate.is_some()),
            steps,
            fields,
            roles,
            account,
            change: change.cloned(),
            also,
            held: held.cloned(),
            claims: preview.changes.iter().filter(claims).cloned().collect(),
        })
    }

    /// The steps that exclude the person.
    pub fn against(&self) -> impl Iterator<Item = &WhyStep> {
        self.steps.iter().filter(|step| step.verdict != Verdict::Yes)
    }

    /// The kind of change, if any.
    #[must_use]
    pub fn kind(&self) -> Option<ChangeKind> {
        self.change.as_ref().map(|change| change.kind())
    }
}

fn step(name: &'static str, is_good: bool, message: String, remedy: &str) -> WhyStep {
    let verdict = if is_good { Verdict::Yes } else { Verdict::No };
    let remedy = if is_good { String::new() } else { remedy.to_owned() };
    WhyStep { name, verdict, message, path: GroupPath::default(), clauses: Vec::new(), remedy }
}

/// Evaluates a filter for an entry: the result, each clause's, and the facts that decide it, in words.
pub(super) fn judge(filter: &Filter, entry: Entry<'_>, reading: &Reading) -> (bool, Vec<Judged>, String) {
    judge_by(filter, entry, reading.schema())
}

/// The same by a given schema.
fn judge_by(filter: &Filter, entry: Entry<'_>, schema: &Schema) -> (bool, Vec<Judged>, String) {
    let mut one = Entries::new();
    one.push(entry.dn(), entry.attributes());
    let ground = Ground { schema, names: one.names(), chain: None };
    let clauses = one.get(0).map(|entry| explain(filter, entry, ground)).unwrap_or_default();
    let is_good = clauses.first().is_some_and(|whole| whole.truth == Truth::True);
    let mut why: Vec<String> = Vec::new();
    for (clause, one) in filter.clauses().iter().zip(&clauses).filter(|(_, one)| one.decides) {
        let attribute = match clause.filter {
            Filter::Item(item) => item.attribute().unwrap_or("something"),
            _ => continue,
        };
        let fact = match one.values.is_empty() {
            true => format!("there is no {attribute}"),
            false => format!("{attribute} is {}", one.values.join(", ")),
        };
        if !why.contains(&fact) {
            why.push(fact);
        }
    }
    (is_good, clauses, why.join("; "))
}

fn full(list: &[Dn]) -> String {
    list.iter().map(ToString::to_string).collect::<Vec<_>>().join("; ")
}

fn names(list: &[Dn]) -> String {
    list.iter().map(|dn| short(&dn.to_string())).collect::<Vec<_>>().join(" or ")
}

impl Teller<'_> {
    /// Every step, including those after an excluding one.
    fn steps(&self, entry: Entry<'_>, key: &DnKey, person: Option<usize>) -> Vec<WhyStep> {
        let intake = self.intake;
        let base = intake.bases.iter().find(|base| key.is_within(&base.key()));
        let mut steps = vec![match base {
            Some(base) => step("base", true, format!("under {base}"), ""),
            None => step(
                "base",
                false,
                format!("under none of the bases: {}", full(&intake.bases)),
                "add the entry's place to bases, or have the entry moved in the directory",
            ),
        }];
        // The server matched the filter; attributes that it hides need not be tested again.
        steps.push(match person {
            Some(_) => step("filter", true, format!("found by {}", intake.filter), ""),
            None => self.judged(
                "filter",
                &intake.filter,
                entry,
                "change filter in the settings (try it with `webtaxon filter`), or have the entry changed",
            ),
        });
        if !(intake.only.is_empty() && intake.except.is_empty())
            && let Some(person) = person
        {
            let is_out =
                self.selection.dropped.iter().any(|one| one.person == person && one.step == Step::Listed);
            let message = if is_out { "not in only, or in except" } else { "not excluded by only or except" };
            steps.push(step("listed", !is_out, message.to_owned(), "change only or except in the settings"));
        }
        steps.extend(self.member("groups", key));
        steps.extend(self.member("not_in_group", key));
        steps.extend(self.active(entry));
        if let Some(person) = person {
            steps.push(self.complete(entry, person));
        }
        steps
    }

    fn judged(&self, name: &'static str, filter: &Filter, entry: Entry<'_>, remedy: &str) -> WhyStep {
        let (is_good, clauses, why) = judge(filter, entry, self.reading);
        let word = if is_good { "is true" } else { "is not true" };
        let why = if why.is_empty() { why } else { format!(": {why}") };
        WhyStep { clauses, ..step(name, is_good, format!("{filter} {word}{why}"), remedy) }
    }

    /// The step on activity, with the condition that fails; `None` if the directory says nothing about it.
    fn active(&self, entry: Entry<'_>) -> Option<WhyStep> {
        let source = self.reading.source();
        let conditions = active_conditions(self.intake, source.kind, source.at);
        let remedy = "have the directory account enabled, or change active in the settings";
        let fails = |one: &&ActiveCondition| !judge_by(&one.filter, entry, schema_for(one, self.reading)).0;
        // The built-in conditions contain a server's numbers, which mean little to a reader.
        let own = |filter: &Filter, words: &str| {
            let (is_good, clauses, why) = judge_by(filter, entry, Schema::of(source.kind));
            WhyStep { clauses, ..step("active", is_good, format!("{words}: {why}"), remedy) }
        };
        match conditions.iter().find(fails) {
            Some(ActiveCondition { filter, otherwise: Some(words), .. }) => Some(own(filter, words)),
            Some(one) => Some(self.judged("active", &one.filter, entry, remedy)),
            None => {
                let all = active_filter(self.intake, source.kind, source.at);
                match (&self.intake.active, source.kind) {
                    (Some(_), _) => Some(self.judged("active", &all, entry, remedy)),
                    (None, ServerKind::Controller) => Some(own(&all, "neither disabled nor expired")),
                    (None, ServerKind::Plain) => None,
                }
            }
        }
    }

    /// A step on group membership: selecting or excluding groups.
    fn member(&self, name: &'static str, key: &DnKey) -> Option<WhyStep> {
        let keeps_out = name == "not_in_group";
        let groups = if keeps_out { &self.intake.not_in_group } else { &self.intake.groups };
        if groups.is_empty() {
            return None;
        }
        let path = self.selection.path_of(self.reading, key, keeps_out);
        let is_in = !path.is_empty();
        let remedy = if keeps_out {
            "have the person removed from the last of these groups, or remove the group from not_in_group"
        } else {
            "have the person added to one of these groups or a nested one, or add another group to groups"
        };
        let message = match is_in {
            true => format!("in {}", path.told(short).join(" > ")),
            false => format!("not in {}, nor in any nested group", names(groups)),
        };
        let mut step = WhyStep { path, ..step(name, is_in != keeps_out, message, remedy) };
        if !is_in && self.selection.hides(self.reading, groups, keeps_out) {
            step.verdict = Verdict::Unknown;
            step.message.push_str(", as far as the groups were read");
        }
        Some(step)
    }

    fn complete(&self, entry: Entry<'_>, person: usize) -> WhyStep {
        let attribute = &self.reading.source().identity;
        if Identity::of(entry, attribute).is_none() {
            return step(
                "complete",
                false,
                format!("no {attribute}, which links an account to the person"),
                "give the bind account the right to read it, or name another attribute in identity",
            );
        }
        match Drawer::new(self.intake, self.reading).draw(person) {
            Ok(_) => {
                let required = self.intake.fields.iter().filter(|(_, rule)| rule.required);
                let required: Vec<&str> = required.map(|(name, _)| name.as_str()).collect();
                step("complete", true, format!("with a value for {}", required.join(" and ")), "")
            }
            Err(missing) => step(
                "complete",
                false,
                format!("{} {}", missing.field, missing.why),
                "have it filled in the directory, or change the field's rule in the settings",
            ),
        }
    }

    fn fields(&self, person: usize, account: Option<&Account>) -> (Vec<WhyField>, Vec<WhyRole>) {
        let drawer = Drawer::new(self.intake, self.reading);
        let rules = self.intake.fields.iter().enumerate();
        let fields = rules.map(|(at, (name, rule))| {
            let (value, from) = match drawer.field(person, at) {
                Drawn::Value(value, choice) => (
                    Some(value.into_owned()),
                    rule.choices.get(choice).map_or_else(String::new, |one| one.in_words()),
                ),
                Drawn::Nothing => {
                    let from = rule.from_attributes().join(" or ");
                    (
                        None,
                        if from.is_empty() {
                            "no choice applies to them".to_owned()
                        } else {
                            format!("no value in {from}")
                        },
                    )
                }
                Drawn::Open(open) => (None, open.in_words()),
            };
            let account = account.map(|account| account.field(name).to_owned());
            WhyField { field: name.clone(), value, from, account }
        });
        let roles = self.intake.roles.iter().enumerate().map(|(at, rule)| {
            let groups = rule.condition.in_group.iter();
            let path = groups.map(|group| drawer.path(person, group)).find(|path| !path.is_empty());
            WhyRole {
                role: rule.name.clone(),
                given: drawer.role(person, at),
                rule: rule.condition.in_words(),
                path: path.unwrap_or_default(),
            }
        });
        (fields.collect(), roles.collect())
    }

    /// The account that is the person's, or that has the person's future login.
    fn account(&self, accounts: &[Account], subject: Asked<'_>) -> Option<WhyAccount> {
        let entry = subject.person.and_then(|person| self.reading.people().get(person)).or(subject.stranger);
        let identity = entry.and_then(|entry| Identity::of(entry, &self.reading.source().identity));
        let linked = identity.and_then(|own| accounts.iter().find(|one| one.link.as_ref() == Some(&own)));
        let told = |account: &Account, found: String| WhyAccount {
            login: account.login.clone(),
            state: account.state,
            link: account.link.clone(),
            found,
        };
        if let Some(account) = linked {
            return Some(told(account, "linked to this person".to_owned()));
        }
        let alone = subject.account.filter(|_| subject.person.is_none());
        if let Some(account) = alone.and_then(|at| accounts.get(at)) {
            let found = match &account.link {
                None => "made by hand: it has no link to a person".to_owned(),
                Some(link) => match self.reading.whereabouts(link) {
                    Some(Whereabouts::Nowhere) => {
                        "linked to a person whose entry no longer exists".to_owned()
                    }
                    Some(Whereabouts::Elsewhere(dn)) => format!("linked to {dn}, which is not selected"),
                    None => "linked to a person who could not be looked up".to_owned(),
                },
            };
            return Some(told(account, found));
        }
        let key = Drawer::new(self.intake, self.reading).login(subject.person?)?;
        let named = accounts.iter().find(|one| Account::login_key(&one.login) == key)?;
        let whose = match &named.link {
            None => "made by hand".to_owned(),
            Some(link) => match self.reading.whereabouts(link) {
                Some(Whereabouts::Nowhere) => "linked to an entry that is gone".to_owned(),
                Some(Whereabouts::Elsewhere(dn)) => format!("linked to {dn}"),
                None => "linked to another person".to_owned(),
            },
        };
        Some(told(named, format!("{whose}, with the login that this person would get")))
    }

    fn untouched(&self, account: Option<&Account>, selected: bool) -> &'static str {
        let Some(account) = account else { return "" };
        let key = Account::login_key(&account.login);
        if self.settings.accounts.protected.iter().any(|login| Account::login_key(login) == key) {
            "it is protected"
        } else if account.link.is_none() && !selected {
            "it was made by hand"
        } else {
            ""
        }
    }
}
