//! Promise 4 in an application's own tables, where a trigger refuses removals, so that these are suspended instead.

use crate::apply::{clean, list};
use crate::command::Museum;
use crate::crash::{apply_until, count, museum_runs, save};
use crate::odd_schema::{Database, Kind, RULES};
use std::collections::BTreeSet;
use std::process::Output;

#[test]
fn killed_anywhere_in_an_odd_table_it_ends_the_same() {
    assert!(dies_everywhere(Kind::Sqlite) >= 30);
}

#[test]
#[ignore = "needs PostgreSQL"]
fn killed_anywhere_in_an_odd_table_of_postgres_it_ends_the_same() {
    assert!(dies_everywhere(Kind::Postgres) >= 12);
}

#[test]
#[ignore = "needs MariaDB"]
fn killed_anywhere_in_an_odd_table_of_mariadb_it_ends_the_same() {
    assert!(dies_everywhere(Kind::Mysql) >= 12);
}

/// What the application wrote to a new account before anybody found out that the apply had been killed is no work of the
/// apply: an undo does not remove it.
#[test]
fn what_is_written_after_a_kill_is_not_undone() {
    let scene = Scene::open(Kind::Sqlite);
    let all = points(|die_at| scene.fresh_apply(die_at));
    let is_imported = |point: &usize| {
        scene.fresh_apply(Some(*point));
        by_login(&scene.database).iter().any(|row| row.starts_with("fcotterill|"))
    };
    let first = (all - 25..=all).find(is_imported).unwrap();
    for point in [first, first + 1] {
        scene.fresh_apply(Some(point));
        scene.database.run("UPDATE person SET logins = 3 WHERE login = 'fcotterill'");
        scene.apply("monday.json", None);
        scene.undo_all(&format!("point {point}"));
        let left = scene.database.rows("SELECT login, standing, logins FROM person WHERE badge = 7");
        assert_eq!(left, ["fcotterill|off|3"], "point {point} of {all}");
    }
}

/// A museum whose accounts are in an application's own table.
struct Scene {
    museum: Museum,
    accounts: String,
    database: Database,
}

impl Scene {
    fn open(kind: Kind) -> Self {
        let museum = Museum::open(&[]);
        let accounts = list(&museum);
        let database = Database::open(kind, &museum.file(""), &accounts);
        museum.change("store     = \"csv\"\npath      = \"accounts.csv\"\nprotected", &database.settings());
        let settings = std::fs::read_to_string(museum.file("webtaxon.toml")).unwrap();
        museum.write("webtaxon.toml", settings.replacen("\n[[intake.role]]", RULES, 1));
        museum.change("{ do = \"remove\" }", "{ do = \"remove\", refused = \"suspend\" }");
        Self { museum, accounts, database }
    }

    /// As if nothing had ever been applied, with a saved preview.
    fn fresh(&self) {
        renew(&self.database, &self.accounts);
        self.database.keep_whoever_is_gone();
        clean(&self.museum, &self.accounts);
        save(&self.museum);
    }

    fn apply(&self, file: &str, die_at: Option<usize>) -> Output {
        apply_until(&self.museum, file, die_at)
    }

    fn fresh_apply(&self, die_at: Option<usize>) -> Output {
        self.fresh();
        self.apply("monday.json", die_at)
    }

    /// Undoes all runs, the latest first.
    fn undo_all(&self, told: &str) {
        for run in museum_runs(&self.museum) {
            self.museum.run(&["journal", &run, "--undo", "--save", "undo.json"]);
            let undone = self.apply("undo.json", None);
            let out = String::from_utf8_lossy(&undone.stdout);
            assert!(undone.status.success(), "{told}, run {run}: {out}");
            std::fs::remove_file(self.museum.file("undo.json")).unwrap();
        }
    }
}

/// Kills an apply at each of its points, and looks at the tables before and after. How many points there were.
fn dies_everywhere(kind: Kind) -> usize {
    let scene = Scene::open(kind);
    let Scene { museum, database, .. } = &scene;
    scene.fresh();
    let (before, ids) = (by_login(database), database.dump());
    scene.apply("monday.json", None);
    let after = by_login(database);
    let standing = |rows: &[String], login: &str| {
        let row = rows.iter().find(|row| row.starts_with(login)).unwrap();
        row.split('|').nth(2).unwrap().to_owned()
    };
    assert!(standing(&before, "mfallow") == "on" && standing(&after, "mfallow") == "off");
    let mut seen = BTreeSet::from([before.clone(), after.clone()]);
    let all = points(|die_at| scene.fresh_apply(die_at));
    // The rows of one transaction are alike.
    for point in (1..=all).filter(|point| point % 10 == 1 || point + 25 > all) {
        let told = format!("{kind:?}, point {point} of {all}");
        assert!(!scene.fresh_apply(Some(point)).status.success(), "{told}");
        seen.insert(by_login(database));
        let again = scene.apply("monday.json", None);
        let out = String::from_utf8_lossy(&again.stdout);
        assert_eq!(differing(&by_login(database), &after), [""; 0], "{told}: {out}");
        assert_eq!(count(museum, "edit WHERE outcome IS NULL"), 0, "{told}");
        scene.undo_all(&told);
        assert_eq!(differing(&database.dump(), &ids), [""; 0], "{told}: undone, row by row");
    }
    // Before, after, and after all but the suspensions in place of removals.
    assert_eq!(seen.len(), 3, "{kind:?}");
    all
}

/// The tables as they were created, with these accounts.
fn renew(database: &Database, accounts: &str) {
    match database {
        Database::Postgres(_) => {
            database.run("DROP SCHEMA desk CASCADE; DROP TABLE role; DROP EXTENSION citext")
        }
        Database::Mysql(_) => database.run("DROP TABLE note, loan, role, person"),
        Database::Sqlite(file) => std::fs::remove_file(file).unwrap(),
    }
    database.fill(accounts);
}

/// Everything in the tables by login, without ids, which no transaction that is rolled back gives back.
fn by_login(database: &Database) -> Vec<String> {
    let [person, role] = ["person", "role"].map(|name| database.table(name));
    let columns = "login, directory, standing, name, email, department, room, badge, hired, quota, keeper, address, details, born, token, password_hash, logins";
    let mut all = database.rows(&format!("SELECT {columns} FROM {person} ORDER BY login"));
    all.extend(
        database
            .rows(&format!("SELECT login, role FROM {role} JOIN {person} ON id = person_id ORDER BY 1, 2")),
    );
    all
}

/// The number of points at which an apply can die.
fn points(apply: impl Fn(Option<usize>) -> Output) -> usize {
    let survives = |point| apply(Some(point)).status.code().is_some();
    let mut last = 1;
    while !survives(last) {
        last *= 2;
    }
    let mut first = last / 2;
    while first + 1 < last {
        let middle = usize::midpoint(first, last);
        if survives(middle) { last = middle } else { first = middle }
    }
    first
}

/// The rows that only one of two lists has.
fn differing<'r>(one: &'r [String], other: &'r [String]) -> Vec<&'r str> {
    let only = |one: &'r [String], other: &'r [String]| {
        one.iter().filter(|row| !other.contains(row)).map(String::as_str)
    };
    only(one, other).chain(only(other, one)).collect()
}
