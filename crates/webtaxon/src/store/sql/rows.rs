//! Rows of a table as accounts.

use super::super::{Rows as List, StoreErrorKind, sound};
use super::Column;
use smol_str::SmolStr;
use std::borrow::Cow;
use std::collections::HashMap;
use webtaxon_core::account::{Account, Fields, State};
use webtaxon_core::ldap::identity::Identity;
use webtaxon_core::settings::rules::LIST;
use webtaxon_core::settings::{SideTable, SqlTable, States};

/// By field, the values of a side table by the key of their account.
pub(in super::super) type Sides = HashMap<String, Values>;

/// Values of a side table by the key of their account.
type Values = HashMap<String, Vec<String>>;

/// The content of a column.
enum Kind {
    Login,
    Link,
    State,
    Field(SmolStr),
    /// A list in JSON.
    List(SmolStr),
}

/// Converts rows to accounts; null fields are left out.
pub(in super::super) struct Rows<'t> {
    store: String,
    table: &'t SqlTable,
    kinds: Vec<Kind>,
    /// The values of the side tables, each with the column that they refer to.
    sides: Vec<(SmolStr, Option<usize>, Values)>,
    /// The words of the state column, as the database prints them.
    states: Option<States>,
    accounts: Vec<Account>,
}

impl<'t> Rows<'t> {
    pub(in super::super) fn new(
        store: String,
        table: &'t SqlTable,
        columns: &[Column],
        mut sides: Sides,
        states: Option<States>,
    ) -> Self {
        let kind = |column: &Column| match column.field.as_str() {
            "login" => Kind::Login,
            "link" => Kind::Link,
            "state" if table.states.is_some() => Kind::State,
            field if column.is_list => Kind::List(field.into()),
            field => Kind::Field(field.into()),
        };
        let side = |(field, side): (&String, &SideTable)| {
            let key = columns.iter().position(|column| column.name == side.key);
            (field.into(), key, sides.remove(field).unwrap_or_default())
        };
        let sides = table.sides.iter().map(side).collect();
        let kinds = columns.iter().map(kind).collect();
        Self { store, table, kinds, sides, states, accounts: Vec::new() }
    }

    /// The kind of rows.
    fn list(&self) -> List {
        if self.table.states.is_some() { List::Accounts } else { List::Groups }
    }

    /// Adds a row, whose values are read by column index.
    pub(in super::super) fn add<'v>(
        &mut self,
        value: impl Fn(usize) -> Option<Cow<'v, str>>,
    ) -> Result<(), StoreErrorKind> {
        let (mut login, mut link, mut state) = (String::new(), None, State::Active);
        let mut fields = Fields::with_capacity(self.kinds.len().saturating_sub(2));
        let words = self.states.as_ref();
        for (at, kind) in self.kinds.iter().enumerate() {
            let said = value(at);
            match kind {
                Kind::Login => said.as_deref().unwrap_or_default().trim().clone_into(&mut login),
                Kind::Link => {
                    link = said.as_deref().and_then(Identity::from_link);
                    if said.as_deref() == Some("") {
                        fields.insert("link".into(), SmolStr::default()); // no link, and not null
                    }
                }
                Kind::State => {
                    let said = said.as_deref().unwrap_or_default();
                    let place = |words: &[String]| words.iter().position(|word| word.trim() == said.trim());
                    let known = words.map(|words| (place(&words.active), place(&words.suspended)));
                    state = match known {
                        None | Some((Some(_), _)) => State::Active,
                        Some((None, Some(_))) => State::Suspended,
                        Some((None, None)) => State::Other,
                    };
                    // Another word than the one that is written is kept with the account.
                    if !matches!(known, None | Some((Some(0), _) | (None, Some(0)))) {
                        fields.insert("state".into(), said.into());
                    }
                }
                Kind::List(name) => fields.extend(said.map(|said| (name.clone(), items(&said).into()))),
                Kind::Field(name) => fields.extend(said.map(|said| (name.clone(), said.into()))),
            }
        }
        let bad = |what: String, help| StoreErrorKind::BadRow {
            store: self.store.clone(),
            row: self.list().one(),
            login: login.clone(),
            what,
            help,
        };
        if login.is_empty() {
            let help = match self.list() {
                List::Accounts => "every account needs a login, by which the person signs in",
                List::Groups => "every group needs a name",
            };
            return Err(bad(format!("has no {}", self.list().name()), help));
        }
        for (field, key, all) in &self.sides {
            let key = key.and_then(&value);
            let list = key.and_then(|key| all.get(&*key).or_else(|| all.get(key.trim())));
            let list = list.map(|list| list.join(&LIST.to_string())).unwrap_or_default();
            fields.insert(field.clone(), list.into());
        }
        self.accounts.push(Account { login, link, state, fields });
        Ok(())
    }

    /// The accounts, whatever occurs twice.
    pub(in super::super) fn all(self) -> Vec<Account> {
        self.accounts
    }

    /// The accounts, provided that no login or link occurs twice.
    pub(in super::super) fn finish(self) -> Result<Vec<Account>, StoreErrorKind> {
        // Links that are kept apart, and members of groups, go by login, in any case.
        let is_exact = self.list() == List::Accounts && self.table.has_links && self.table.groups.is_none();
        sound(&self.store, self.list(), &self.accounts, is_exact)?;
        // One odd state is that account's; if all are odd, the settings name none of the column's words.
        if let (Some(first), Some(states)) = (self.accounts.first(), &self.states)
            && self.accounts.iter().all(|account| account.state == State::Other)
        {
            let known = states.active.iter().chain(&states.suspended);
            let known: Vec<String> = known.map(|word| format!("`{word}`")).collect();
            return Err(StoreErrorKind::BadRow {
                store: self.store,
                row: self.table.states.as_ref().map_or("group", |_| "account"),
                login: first.login.clone(),
                what: format!(
                    "has the state `{}`, and no account has one of {}",
                    first.state_word(),
                    known.join(", ")
                ),
                help: "say what the column holds: states = { active = [\"1\", \"invited\"], suspended = \"0\" } in [accounts]",
            });
        }
        Ok(self.accounts)
    }
}

/// The items of a JSON list, separated as in every list; another text as it is.
fn items(text: &str) -> Cow<'_, str> {
    let item = |item: serde_json::Value| match item {
        serde_json::Value::String(text) => text,
        other => other.to_string(),
    };
    match serde_json::from_str::<Vec<serde_json::Value>>(text) {
        Ok(list) => Cow::Owned(list.into_iter().map(item).collect::<Vec<_>>().join(&LIST.to_string())),
        Err(_) => Cow::Borrowed(text),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use indexmap::IndexMap;

    /// Two keys that differ by a blank are two keys, and a login is found without the blanks around it.
    #[test]
    fn roles_are_found_by_the_key_as_it_stands() {
        let role_table = |key: &str| SideTable {
            name: "role".to_owned(),
            account: "account".to_owned(),
            key: key.to_owned(),
            value: "role".to_owned(),
            of: None,
            with: IndexMap::new(),
        };
        for (key, kept, row, roles) in [
            ("code", "a ", ["ada", "a "], "keeper"),
            ("code", "a ", ["ada", "b "], ""),
            ("login", "ada", [" ada ", "a"], "keeper"),
        ] {
            let table = SqlTable {
                name: "account".to_owned(),
                states: Some(States::default()),
                sides: IndexMap::from([("roles".to_owned(), role_table(key))]),
                has_links: true,
                ..SqlTable::default()
            };
            let columns = ["login", "code"].map(|name| Column::new(&table, name.to_owned()));
            let all = HashMap::from([(kept.to_owned(), vec!["keeper".to_owned()])]);
            let all = HashMap::from([("roles".to_owned(), all)]);
            let mut rows = Rows::new("a store".to_owned(), &table, &columns, all, table.states.clone());
            rows.add(|at| row.get(at).map(|text| Cow::Borrowed(*text))).unwrap();
            assert_eq!(rows.finish().unwrap()[0].field("roles"), roles, "{key} {row:?}");
        }
    }

    /// A column of the application's own that is called like a field which stands in another column.
    #[test]
    fn a_column_with_a_fields_name_is_not_that_field() {
        let columns = [("login", "user"), ("state", "standing"), ("email", "e_mail")];
        let columns = columns.map(|(field, column)| (field.to_owned(), column.to_owned()));
        let states = Some(States::default());
        let table =
            SqlTable { name: "account".to_owned(), columns: columns.into(), states, ..SqlTable::default() };
        let names = ["login", "user", "state", "standing", "email", "e_mail"];
        let columns = names.map(|name| Column::new(&table, name.to_owned()));
        let mut rows =
            Rows::new("a store".to_owned(), &table, &columns, HashMap::new(), table.states.clone());
        let row = ["x", "ada", "Ohio", "suspended", "home@x", "work@x"];
        rows.add(|at| row.get(at).map(|text| Cow::Borrowed(*text))).unwrap();
        let account = rows.finish().unwrap().remove(0);
        assert_eq!((account.login.as_str(), account.state), ("ada", State::Suspended));
        let fields = ["email", "\"email\"", "\"state\"", "\"login\""].map(|name| account.field(name));
        assert_eq!(fields, ["work@x", "home@x", "Ohio", "x"]);
    }
}
