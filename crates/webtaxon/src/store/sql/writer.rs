//! Writes the statements for edits of a table.

use super::super::{Secrets, Terms};
use super::bound::{Bound, Statement, Text};
use super::column::Column;
use super::dialect::{Dialect, Expression, SideForm};
use crate::sql_names::quoted;
use std::collections::HashMap;
use webtaxon_core::account::{Account, folded};
use webtaxon_core::apply::{Outcome, Plan, Step, Unit};
use webtaxon_core::ldap::identity::Identity;
use webtaxon_core::settings::rules::LIST;
use webtaxon_core::settings::{SideTable, SqlTable};

/// The assumptions of a script, as comments at its beginning.
pub(in super::super) const ASSUMES: &str = "-- One transaction. It is right for the list as it was when this was written:\n-- run it before anybody changes the accounts below, or make a new one.\n";

/// Writes the statements for edits. The INSERT for each set of columns is built once.
pub(in super::super) struct Writer<'t> {
    table: &'t SqlTable,
    columns: &'t [Column],
    dialect: &'t Dialect,
    /// The fields that rules fill.
    fields: &'t [String],
    /// The secret fields of new accounts.
    secrets: &'t Secrets,
    inserts: HashMap<Vec<usize>, Text>,
    /// The INSERT for each side table.
    side_inserts: HashMap<&'t str, Text>,
    /// Rows that are marked as removed, which come back in place of new ones.
    removed: Vec<Account>,
    removed_by_link: HashMap<Identity, usize>,
    removed_by_login: HashMap<String, usize>,
}

/// A change to an account, as it is known.
struct Row<'a> {
    there: &'a Account,
    /// Whether the row is marked as removed, and comes back.
    is_removed: bool,
}

impl<'t> Writer<'t> {
    pub(in super::super) fn new(
        table: &'t SqlTable,
        columns: &'t [Column],
        dialect: &'t Dialect,
        terms: &'t Terms,
    ) -> Self {
        let mut writer = Self {
            table,
            columns,
            dialect,
            fields: &terms.fields,
            secrets: &terms.secrets,
            inserts: HashMap::new(),
            side_inserts: HashMap::new(),
            removed: Vec::new(),
            removed_by_link: HashMap::new(),
            removed_by_login: HashMap::new(),
        };
        for (field, side) in &table.sides {
            let insert = dialect.sides.get(field).map(|form| writer.side_insert(side, form));
            writer.side_inserts.extend(insert.map(|insert| (field.as_str(), insert)));
        }
        writer
    }

    /// With these rows, which are marked as removed.
    pub(in super::super) fn with_removed(mut self, removed: Vec<Account>) -> Self {
        for (at, account) in removed.iter().enumerate() {
            match &account.link {
                Some(link) => drop(self.removed_by_link.insert(link.clone(), at)),
                None => drop(self.removed_by_login.insert(folded(&account.login).into_owned(), at)),
            }
        }
        self.removed = removed;
        self
    }

    /// Adds a value to a side table: of the account with a login, and the fixed columns.
    fn side_insert(&self, side: &SideTable, form: &SideForm) -> Text {
        let names = [&side.account, &side.value].into_iter().chain(side.with.keys());
        let names: Vec<String> = names.map(|name| quoted(name)).collect();
        let into = format!("INSERT INTO {} ({})", form.table, names.join(", "));
        let Dialect { table, .. } = self.dialect;
        let key = |mark: &str| {
            let is_login = self.dialect.is_login_at(self.table, mark);
            format!("(SELECT {} FROM {table} WHERE {is_login})", quoted(&side.key))
        };
        let value = |mark: &str| Dialect::value(form, side, mark);
        let fixed: Vec<_> =
            form.with.iter().map(|with| move |mark: &str| with.replace(super::column::MARK, mark)).collect();
        let mut values: Vec<Expression<'_>> = vec![&key, &value];
        values.extend(fixed.iter().map(|one| one as &dyn Fn(&str) -> String));
        self.dialect.adding(&into, (&values, &[]), false)
    }

    /// The statements of each unit of a plan, with its edits.
    pub(in super::super) fn units<'w>(
        &'w mut self,
        plan: &'w Plan<'w>,
    ) -> impl Iterator<Item = (Vec<usize>, Vec<Statement>)> + use<'w, 't> {
        plan.units().map(|unit| {
            let statements = self.statements(&unit, plan.accounts());
            (unit.edits.to_vec(), statements)
        })
    }

    /// The statements of all edits, for an administrator to review and run in one transaction. Edits that cannot be made
    /// become comments.
    pub(in super::super) fn script(mut self, plan: &Plan<'_>) -> String {
        let dialect = self.dialect;
        let of_what = if self.table.states.is_some() { "" } else { " group" };
        let about = |place: usize| {
            plan.edits().get(place).map_or_else(String::new, |edit| {
                plain(&format!("{}{} {}", edit.kind.name(), of_what, edit.login()))
            })
        };
        let mut script = String::new();
        for (edits, statements) in self.units(plan) {
            for place in edits {
                script += &format!("-- {}\n", about(place));
            }
            for statement in statements {
                script += &format!("{};\n", dialect.written_out(&statement));
            }
        }
        for (place, outcome) in plan.left_out() {
            match outcome {
                Outcome::Left(words) => {
                    script += &format!("-- left out: {}: {}\n", about(place), plain(&words));
                }
                _ => script += &format!("-- there already: {}\n", about(place)),
            }
        }
        script
    }

    /// The statements of a unit. Accounts are found by the login that they have at that moment.
    fn statements(&mut self, unit: &Unit<'_>, accounts: &[Account]) -> Vec<Statement> {
        let mut aside: HashMap<usize, Account> = HashMap::new();
        let mut all = Vec::new();
        for step in &unit.steps {
            let there = |at: &usize| aside.get(at).or_else(|| accounts.get(*at));
            match step {
                Step::Insert { account } => match self.removed_row(account).cloned() {
                    Some(removed) => all.extend(self.return_of(&removed, account)),
                    None => all.extend(self.addition(&self.secrets.complete(account))),
                },
                Step::Delete { at } => {
                    all.extend(there(at).into_iter().flat_map(|there| self.removal(there)))
                }
                Step::Update { at, set } => {
                    let row = there(at).map(|there| Row { there, is_removed: false });
                    all.extend(row.into_iter().flat_map(|row| self.update(&row, set)));
                }
                Step::PutAside { at, field } => {
                    let Some(mut there) = there(at).cloned() else { continue };
                    all.extend(self.put_aside(&mut there, field));
                    aside.insert(*at, there);
                }
            }
        }
        all
    }

    /// The row of an account that was marked as removed.
    fn removed_row(&self, account: &Account) -> Option<&Account> {
        let at = match &account.link {
            Some(link) => self.removed_by_link.get(link),
            None => self.removed_by_login.get(folded(&account.login).as_ref()),
        };
        self.removed.get(*at?)
    }

    /// Replaces the value of a unique field by none, or by one that no account has.
    fn put_aside(&self, there: &mut Account, field: &str) -> Option<Statement> {
        let column = self.columns.iter().find(|column| column.field == field)?;
        // A login has no line break, and hardly any other unique value begins with one.
        let other = format!("\n{}", there.value(field));
        let row = |there| Row { there, is_removed: false };
        if field == "login" {
            let statement = self.setting(&row(there), &[column], vec![Bound::of(&other)]);
            there.login = other;
            return Some(statement);
        }
        let value = if column.may_be_null { Bound::Null } else { Bound::Text(other) };
        Some(self.setting(&row(there), &[column], vec![value]))
    }

    /// Deletes an account's values from a side table, restricted by `more`.
    fn without_values(&self, (side, form): (&SideTable, &SideForm), more: &str) -> Text {
        let key = self.dialect.key(self.table, side, 1);
        let fixed = side.with.iter().zip(&form.with).map(|((column, value), form)| {
            let value = super::bound::literal(&Bound::of(value));
            format!(" AND {} = {}", quoted(column), form.replace(super::column::MARK, &value))
        });
        let fixed: String = fixed.collect();
        format!("DELETE FROM {} WHERE {} = {key}{fixed}{more}", form.table, quoted(&side.account)).into()
    }

    /// The side tables, by field.
    fn sides(&self) -> impl Iterator<Item = (&'t str, &'t SideTable, &'t SideForm)> {
        let dialect = self.dialect;
        let form = |(field, side): (&'t String, &'t SideTable)| {
            Some((field.as_str(), side, dialect.sides.get(field)?))
        };
        self.table.sides.iter().filter_map(form)
    }

    fn removal(&self, there: &Account) -> Vec<Statement> {
        let login = || vec![Bound::of(&there.login)];
        if let Some(removed) = &self.table.removed {
            // Its values in other tables stay, and come back with it.
            let Some(column) = self.columns.iter().find(|column| column.name == removed.column) else {
                return Vec::new();
            };
            let mark = match &removed.value {
                None => (self.dialect.now)(column).to_owned(),
                Some(value) => column.writes(&super::bound::literal(&Bound::of(value))),
            };
            let sets = [format!("{} = {mark}", quoted(&column.name))].into_iter().chain(self.touches(&[]));
            let sets: Vec<String> = sets.collect();
            let such = self.dialect.is_login(self.table, 1);
            let one = format!("UPDATE {} SET {} WHERE {such}", self.dialect.table, sets.join(", "));
            return vec![self.statement(one, login())];
        }
        let sides = self.sides().map(|(_, side, form)| {
            let text = self.without_values((side, form), "");
            Statement { text, values: login(), is_one: false, comes_after: false }
        });
        let such = self.dialect.is_login(self.table, 1);
        let one = format!("DELETE FROM {} WHERE {such}", self.dialect.table);
        sides.chain([self.statement(one, login())]).collect()
    }

    /// A statement that changes one row of the table.
    fn statement(&self, text: String, values: Vec<Bound>) -> Statement {
        let is_one = !self.dialect.is_uncounted;
        Statement { text: text.into(), values, is_one, comes_after: false }
    }

    /// The time of the change, unless it is among the columns that are set anyway.
    fn touches(&self, set: &[&Column]) -> Option<String> {
        let touched = self.table.times.touched.as_ref()?;
        let column = self.columns.iter().find(|column| column.name == *touched)?;
        let is_set = set.iter().any(|one| one.name == column.name);
        (!is_set).then(|| format!("{} = {}", quoted(&column.name), (self.dialect.now)(column)))
    }

    fn addition(&mut self, after: &Account) -> Vec<Statement> {
        // A column without a value from the account gets the database's own.
        let has = |column: &Column| {
            let field = column.field.as_str();
            ["login", "link"].contains(&field)
                || (field == "state" && self.table.states.is_some())
                || after.fields.contains_key(field)
                || (self.fields.contains(&column.field)
                    && column.is_text
                    && !(column.may_be_null || column.has_default))
        };
        let own: Vec<usize> =
            self.columns.iter().enumerate().filter(|(_, column)| has(column)).map(|(at, _)| at).collect();
        let columns = || own.iter().filter_map(|at| self.columns.get(*at));
        let value = |column: &Column| column.bound(self.table, after.get(&column.field));
        let values: Vec<Bound> = columns().map(value).collect();
        let insert = self.inserts.get(&own).cloned().unwrap_or_else(|| {
            let times = [&self.table.times.created, &self.table.times.touched].into_iter().flatten();
            let times = times.filter_map(|name| self.columns.iter().find(|column| column.name == *name));
            let times: Vec<&Column> =
                times.filter(|time| !columns().any(|one| one.name == time.name)).collect();
            let names = columns().chain(times.iter().copied()).map(|column| quoted(&column.name));
            let names: Vec<String> = names.collect();
            let into = format!("INSERT INTO {} ({})", self.dialect.table, names.join(", "));
            let writes: Vec<_> = columns().map(|column| |mark: &str| column.writes(mark)).collect();
            let writes: Vec<Expression<'_>> =
                writes.iter().map(|write| write as &dyn Fn(&str) -> String).collect();
            let nows: Vec<&str> = times.iter().map(|column| (self.dialect.now)(column)).collect();
            let overrides = self.dialect.overrides && columns().any(|column| column.is_always);
            self.dialect.adding(&into, (&writes, &nows), overrides)
        });
        let is_one = !self.dialect.is_uncounted;
        let mut all = vec![Statement { text: insert.clone(), values, is_one, comes_after: false }];
        for (field, side, _) in self.sides() {
            all.extend(
                items(after.field(field))
                    .into_iter()
                    .filter_map(|item| self.added(field, side, &after.login, item)),
            );
        }
        self.inserts.entry(own).or_insert(insert);
        all
    }

    /// Adds a value to a side table.
    fn added(&self, field: &str, side: &SideTable, login: &str, item: &str) -> Option<Statement> {
        let text = self.side_inserts.get(field)?.clone();
        let values = [login, item].into_iter().chain(side.with.values().map(String::as_str));
        Some(Statement { text, values: values.map(Bound::of).collect(), is_one: true, comes_after: true })
    }

    /// Brings a row back that was marked as removed, as the account after it.
    fn return_of(&self, removed: &Account, after: &Account) -> Vec<Statement> {
        let own = ["login", "link", "state"].into_iter();
        let fields =
            own.chain(after.fields.keys().map(smol_str::SmolStr::as_str).filter(|name| *name != "state"));
        let mark = self.table.removed.as_ref().map(|removed| removed.column.as_str());
        let is_mark = |name: &str| {
            self.columns.iter().any(|column| column.field == name && Some(column.name.as_str()) == mark)
        };
        let set: Vec<(&str, Option<&str>)> = fields
            .filter(|name| !is_mark(name) && removed.get(name) != after.get(name))
            .map(|name| (name, after.get(name)))
            .collect();
        self.update(&Row { there: removed, is_removed: true }, &set)
    }

    fn update(&self, row: &Row<'_>, set: &[(&str, Option<&str>)]) -> Vec<Statement> {
        let there = row.there;
        let new = |name: &str| set.iter().find(|(field, _)| *field == name).map(|(_, value)| *value);
        let mut sides = Vec::new();
        // A row that comes back has its new login when its values in other tables are changed.
        let login =
            if row.is_removed { new("login").flatten().unwrap_or(&there.login) } else { &there.login };
        for (field, side, form) in self.sides() {
            let Some(new) = new(field) else { continue };
            let (old, new) = (items(there.field(field)), items(new.unwrap_or_default()));
            let value = Dialect::value(form, side, &self.dialect.mark(2));
            for item in old.iter().filter(|item| !new.contains(item)) {
                let this = format!(" AND {} = {value}", quoted(&side.value));
                let text = self.without_values((side, form), &this);
                let values = vec![Bound::of(login), Bound::of(item)];
                sides.push(Statement { text, values, is_one: false, comes_after: false });
            }
            let added = new.iter().filter(|item| !old.contains(item));
            sides.extend(added.filter_map(|item| self.added(field, side, login, item)));
        }
        let own = self.columns.iter().filter_map(|column| Some((column, new(&column.field)?)));
        let (own, values): (Vec<&Column>, Vec<Bound>) =
            own.map(|(column, value)| (column, column.bound(self.table, value))).unzip();
        let is_changed =
            !own.is_empty() || row.is_removed || (!sides.is_empty() && self.table.times.touched.is_some());
        let setting = is_changed.then(|| self.setting(row, &own, values));
        match row.is_removed {
            true => setting.into_iter().chain(sides).collect(),
            false => sides.into_iter().chain(setting).collect(),
        }
    }

    /// Sets columns of a row.
    fn setting(&self, row: &Row<'_>, columns: &[&Column], mut values: Vec<Bound>) -> Statement {
        let set = |(at, column): (usize, &&Column)| {
            format!("{} = {}", quoted(&column.name), column.writes(&self.dialect.mark(at + 1)))
        };
        let mut sets: Vec<String> = columns.iter().enumerate().map(set).collect();
        sets.extend(self.touches(columns));
        values.push(Bound::of(&row.there.login));
        let mut such = self.dialect.is_login(self.table, values.len());
        if let Some(removed) = self.table.removed.as_ref().filter(|_| row.is_removed) {
            let column = self.columns.iter().find(|column| column.name == removed.column);
            let nothing = column
                .filter(|column| !column.may_be_null)
                .map_or("NULL".to_owned(), |column| column.writes(&super::bound::literal(&Bound::of("0"))));
            sets.push(format!("{} = {nothing}", quoted(&removed.column)));
            such = self.dialect.is_removed_login(self.table, values.len());
            if let Some(link) = self.columns.iter().find(|column| column.field == "link")
                && let Some(old) = &row.there.link
            {
                values.push(Bound::of(old.as_str()));
                such += &format!(
                    " AND {} = {}",
                    quoted(&link.name),
                    link.writes(&self.dialect.mark(values.len()))
                );
            }
        }
        let one = format!("UPDATE {} SET {} WHERE {such}", self.dialect.table, sets.join(", "));
        self.statement(one, values)
    }
}

fn items(list: &str) -> Vec<&str> {
    list.split(LIST).map(str::trim).filter(|item| !item.is_empty()).collect()
}

/// A text on one line, for a comment.
pub(in super::super) fn plain(text: &str) -> String {
    let is_break = |character: char| character.is_control() || matches!(character, '\u{2028}' | '\u{2029}');
    text.chars().map(|character| if is_break(character) { ' ' } else { character }).collect()
}
