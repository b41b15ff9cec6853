//! Rows of a table as accounts.

use super::super::{Rows as List, StoreErrorKind, sound};
use super::Column;
use smol_str::SmolStr;
use std::borrow::Cow;
use std::collections::HashMap;
use webtaxon_core::account::{Account, Fields, State};
use webtaxon_core::ldap::identity::Identity;
use webtaxon_core::settings::SqlTable;
use webtaxon_core::settings::rules::LIST;

/// The content of a column.
enum Kind {
    Login,
    Link,
    State,
    Field(SmolStr),
}

/// Converts rows to accounts; null fields are left out.
pub(in super::super) struct Rows<'t> {
    store: String,
    table: &'t SqlTable,
    kinds: Vec<Kind>,
    /// The roles by the key of their account, if they have a table of their own.
    roles: Option<HashMap<String, Vec<String>>>,
    /// The column that they refer to.
    key: Option<usize>,
    accounts: Vec<Account>,
}

impl<'t> Rows<'t> {
    pub(in super::super) fn new(
        store: String,
        table: &'t SqlTable,
        columns: &[Column],
        roles: Option<HashMap<String, Vec<String>>>,
    ) -> Self {
        let kind = |column: &Column| match column.field.as_str() {
            "login" => Kind::Login,
            "link" => Kind::Link,
            "state" if table.states.is_some() => Kind::State,
            field => Kind::Field(field.into()),
        };
        let key = table.roles.as_ref();
        let key = key.and_then(|roles| columns.iter().position(|column| column.name == roles.key));
        let kinds = columns.iter().map(kind).collect();
        Self { store, table, kinds, roles, key, accounts: Vec::new() }
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
        let mut odd_state = None;
        let mut fields = Fields::with_capacity(self.kinds.len().saturating_sub(2));
        let words = self.table.states.as_ref();
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
                Kind::State => match (words, said.as_deref().unwrap_or_default().trim()) {
                    (None, _) => {}
                    (Some([active, _]), said) if said == active => state = State::Active,
                    (Some([_, suspended]), said) if said == suspended => state = State::Suspended,
                    (Some(_), said) => odd_state = Some(said.to_owned()),
                },
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
        if let Some((said, [active, suspended])) = odd_state.zip(words) {
            let what = format!("has the state `{said}`, which is neither `{active}` nor `{suspended}`");
            return Err(bad(
                what,
                "say what the column holds: states = { active = \"1\", suspended = \"0\" }",
            ));
        }
        if let Some(all) = &self.roles {
            let key = self.key.and_then(&value);
            let list = key.and_then(|key| all.get(&*key).or_else(|| all.get(key.trim())));
            let list = list.map(|list| list.join(&LIST.to_string())).unwrap_or_default();
            fields.insert("roles".into(), list.into());
        }
        self.accounts.push(Account { login, link, state, fields });
        Ok(())
    }

    /// The accounts, provided that no login or link occurs twice.
    pub(in super::super) fn finish(self) -> Result<Vec<Account>, StoreErrorKind> {
        sound(&self.store, self.list(), &self.accounts)?;
        Ok(self.accounts)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use indexmap::IndexMap;
    use webtaxon_core::settings::RoleTable;

    /// Two keys that differ by a blank are two keys, and a login is found without the blanks around it.
    #[test]
    fn roles_are_found_by_the_key_as_it_stands() {
        let role_table = |key: &str| RoleTable {
            name: "role".to_owned(),
            account: "account".to_owned(),
            key: key.to_owned(),
            role: "role".to_owned(),
            of: None,
        };
        for (key, kept, row, roles) in [
            ("code", "a ", ["ada", "a "], "keeper"),
            ("code", "a ", ["ada", "b "], ""),
            ("login", "ada", [" ada ", "a"], "keeper"),
        ] {
            let table = SqlTable {
                name: "account".to_owned(),
                columns: IndexMap::new(),
                states: Some(["active", "suspended"].map(str::to_owned)),
                roles: Some(role_table(key)),
                has_links: true,
                groups: None,
            };
            let columns = ["login", "code"].map(|name| Column::new(&table, name.to_owned()));
            let all = HashMap::from([(kept.to_owned(), vec!["keeper".to_owned()])]);
            let mut rows = Rows::new("a store".to_owned(), &table, &columns, Some(all));
            rows.add(|at| row.get(at).map(|text| Cow::Borrowed(*text))).unwrap();
            assert_eq!(rows.finish().unwrap()[0].field("roles"), roles, "{key} {row:?}");
        }
    }

    /// A column of the application's own that is called like a field which stands in another column.
    #[test]
    fn a_column_with_a_fields_name_is_not_that_field() {
        let columns = [("login", "user"), ("state", "standing"), ("email", "e_mail")];
        let columns = columns.map(|(field, column)| (field.to_owned(), column.to_owned()));
        let states = Some(["active", "suspended"].map(str::to_owned));
        let table = SqlTable {
            name: "account".to_owned(),
            columns: columns.into(),
            states,
            roles: None,
            has_links: false,
            groups: None,
        };
        let names = ["login", "user", "state", "standing", "email", "e_mail"];
        let columns = names.map(|name| Column::new(&table, name.to_owned()));
        let mut rows = Rows::new("a store".to_owned(), &table, &columns, None);
        let row = ["x", "ada", "Ohio", "suspended", "home@x", "work@x"];
        rows.add(|at| row.get(at).map(|text| Cow::Borrowed(*text))).unwrap();
        let account = rows.finish().unwrap().remove(0);
        assert_eq!((account.login.as_str(), account.state), ("ada", State::Suspended));
        let fields = ["email", "\"email\"", "\"state\"", "\"login\""].map(|name| account.field(name));
        assert_eq!(fields, ["work@x", "home@x", "Ohio", "x"]);
    }
}
