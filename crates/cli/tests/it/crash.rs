//! Promise 4: killed at any place at which it writes, and run again, an apply ends in the same state.

use crate::apply::{clean, into_a_database, list};
use crate::cluster::Cluster;
use crate::command::Museum;

/// Where the accounts are.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Accounts {
    Csv,
    /// A file without links, which are kept apart from it.
    Bare,
    Sqlite,
    Postgres,
}

#[test]
fn killed_anywhere_and_run_again_it_ends_the_same() {
    assert!(dies_everywhere(Accounts::Csv, false, false) >= 12);
}

#[test]
fn killed_anywhere_with_links_apart_from_the_list_it_ends_the_same() {
    assert!(dies_everywhere(Accounts::Bare, false, false) >= 12);
}

#[test]
fn killed_anywhere_in_a_database_it_ends_the_same() {
    assert!(dies_everywhere(Accounts::Sqlite, false, false) >= 30);
}

#[test]
#[ignore = "needs PostgreSQL"]
fn killed_anywhere_in_postgres_it_ends_the_same() {
    assert!(dies_everywhere(Accounts::Postgres, false, false) >= 12);
}

#[test]
#[ignore = "needs PostgreSQL"]
fn killed_anywhere_with_its_state_in_postgres_it_ends_the_same() {
    assert!(dies_everywhere(Accounts::Bare, true, false) >= 12);
}

#[test]
fn killed_anywhere_with_groups_in_a_file_it_ends_the_same() {
    assert!(dies_everywhere(Accounts::Csv, false, true) >= 24);
}

#[test]
fn killed_anywhere_with_groups_in_a_database_it_ends_the_same() {
    assert!(dies_everywhere(Accounts::Sqlite, false, true) >= 45);
}

/// A museum whose accounts and whose state are somewhere.
struct Scene {
    museum: Museum,
    accounts: Accounts,
    cluster: Option<Cluster>,
    has_state_there: bool,
    has_groups: bool,
    /// The file with the accounts, as it is at first.
    bytes: Vec<u8>,
}

impl Scene {
    fn open(accounts: Accounts, has_state_there: bool, has_groups: bool) -> Self {
        let museum = Museum::open(&[]);
        let cluster = (has_state_there || accounts == Accounts::Postgres).then(Cluster::start);
        match accounts {
            Accounts::Csv => {}
            Accounts::Bare => into_a_list_without_links(&museum),
            Accounts::Sqlite => into_a_database(&museum),
            Accounts::Postgres => into_postgres(&museum, cluster.as_ref().unwrap()),
        }
        if has_state_there {
            let socket = cluster.as_ref().unwrap().socket().display().to_string();
            let state = format!(
                "[state]\nstore = \"postgres\"\nserver = \"{socket}\"\ndatabase = \"loans\"\nuser = \"postgres\"\n"
            );
            museum.change("[brakes]", &format!("{state}[brakes]"));
        }
        if has_groups {
            bring_groups(&museum, accounts);
        }
        let mut scene = Self { museum, accounts, cluster, has_state_there, has_groups, bytes: Vec::new() };
        scene.bytes = std::fs::read(scene.museum.file(scene.file())).unwrap();
        scene
    }

    fn file(&self) -> &'static str {
        match self.accounts {
            Accounts::Csv | Accounts::Postgres => "accounts.csv",
            Accounts::Bare => "bare.csv",
            Accounts::Sqlite => "loans.sqlite",
        }
    }

    fn psql(&self, sql: &str) -> String {
        self.cluster.as_ref().unwrap().run(sql)
    }

    /// The list, row by row or byte by byte.
    fn rows(&self) -> String {
        match self.accounts {
            Accounts::Csv | Accounts::Bare => std::fs::read_to_string(self.museum.file(self.file())).unwrap(),
            Accounts::Postgres => self.psql("SELECT * FROM account ORDER BY login"),
            Accounts::Sqlite => {
                let db = rusqlite::Connection::open(self.museum.file(self.file())).unwrap();
                let mut query = db.prepare("SELECT * FROM account ORDER BY login").unwrap();
                let row = |row: &rusqlite::Row<'_>| {
                    Ok((0..8).map(|at| format!("{:?}", row.get_ref(at))).collect::<Vec<_>>().join(" "))
                };
                let rows: Vec<String> = query.query_map([], row).unwrap().map(Result::unwrap).collect();
                rows.join("\n")
            }
        }
    }

    /// The groups and who is in them, row by row or byte by byte.
    fn groups(&self) -> String {
        if !self.has_groups || self.accounts == Accounts::Csv {
            return std::fs::read_to_string(self.museum.file("groups.csv")).unwrap_or_default();
        }
        let db = rusqlite::Connection::open(self.museum.file(self.file())).unwrap();
        let strangers = "SELECT count(*) FROM member WHERE account NOT IN (SELECT rowid FROM account)";
        let strangers: i64 = db.query_row(strangers, [], |row| row.get(0)).unwrap();
        assert_eq!(strangers, 0, "nobody is in a group without an account");
        let sql = "SELECT team.name, team.link, login FROM team LEFT JOIN member ON team = team.id LEFT JOIN account ON account.rowid = account ORDER BY 1, 3";
        let mut query = db.prepare(sql).unwrap();
        let row = |row: &rusqlite::Row<'_>| {
            Ok((0..3).map(|at| format!("{:?}", row.get_ref(at))).collect::<Vec<_>>().join(" "))
        };
        query.query_map([], row).unwrap().map(Result::unwrap).collect::<Vec<_>>().join("\n")
    }

    /// As if nothing had ever been applied.
    fn fresh(&self) {
        if self.has_groups {
            self.museum.write("groups.csv", GROUPS);
        }
        clean(&self.museum, &list(&self.museum));
        let _ = std::fs::remove_file(self.museum.file("loans.sqlite-journal"));
        self.museum.write(self.file(), &self.bytes);
        if self.has_state_there {
            self.psql("DROP SCHEMA IF EXISTS webtaxon CASCADE");
        }
        if self.accounts == Accounts::Postgres {
            self.psql("DELETE FROM account; INSERT INTO account SELECT * FROM before");
        }
    }

    /// What the state says to a question about a number.
    fn asked(&self, what: &str) -> i64 {
        if self.has_state_there {
            return self.psql(&format!("SELECT count(*) FROM webtaxon.{what}")).trim().parse().unwrap();
        }
        count(&self.museum, what)
    }

    /// Applies a saved preview. A server sees only after a moment that whoever had the lock has died.
    fn apply(&self, file: &str, die_at: Option<usize>) -> std::process::Output {
        let began = std::time::Instant::now();
        loop {
            let run = apply_until(&self.museum, file, die_at);
            let is_busy = String::from_utf8_lossy(&run.stderr).contains("WX0602");
            if !is_busy || !self.has_state_there || began.elapsed().as_secs() > 20 {
                return run;
            }
            std::thread::sleep(std::time::Duration::from_millis(50));
        }
    }
}

/// Saves a preview, sealed with the key of the state as it is now.
pub(crate) fn save(museum: &Museum) {
    let _ = std::fs::remove_file(museum.file("monday.json"));
    let saved = museum.run(&["preview", "--save", "monday.json"]);
    assert!(saved.code == 0, "{}", saved.err);
}

/// Applies a saved preview, and has the program die at one of its points.
pub(crate) fn apply_until(museum: &Museum, file: &str, die_at: Option<usize>) -> std::process::Output {
    let mut command =
        crate::command::webtaxon(&["apply", file, "--yes", "--release", "seats,first,removals"]);
    command.current_dir(museum.file(""));
    if let Some(point) = die_at {
        command.env("WEBTAXON_DIE_AT", point.to_string());
    }
    command.output().unwrap()
}

/// Moves the museum's accounts to a file without links, which are kept apart from it.
fn into_a_list_without_links(museum: &Museum) {
    let mut reader =
        csv::ReaderBuilder::new().has_headers(false).from_path(museum.file("accounts.csv")).unwrap();
    let mut writer = csv::Writer::from_path(museum.file("bare.csv")).unwrap();
    for row in reader.records() {
        let row = row.unwrap();
        writer.write_record(row.iter().enumerate().filter(|(at, _)| *at != 1).map(|(_, cell)| cell)).unwrap();
    }
    writer.flush().unwrap();
    museum.change("\"csv\"", "\"csv\"\nlinks = \"apart\"");
    museum.change("accounts.csv", "bare.csv");
}

const GROUPS: &str = include_str!("../../../../demo/groups.csv");

/// Brings groups into the museum's application, whose accounts are in a file or in a database.
fn bring_groups(museum: &Museum, accounts: Accounts) {
    let mut too = include_str!("../../../../demo/application-groups.toml").to_owned();
    if accounts == Accounts::Sqlite {
        let there = "table = \"team\"\nmembers = { table = \"member\", group = \"team\", group_key = \"id\", account = \"account\", account_key = \"rowid\" }";
        too = too.replace("path = \"groups.csv\"", there);
        let db = rusqlite::Connection::open(museum.file("loans.sqlite")).unwrap();
        db.execute_batch("CREATE TABLE team (id INTEGER PRIMARY KEY, name TEXT UNIQUE, link TEXT); CREATE TABLE member (team INTEGER REFERENCES team (id), account INTEGER);").unwrap();
        for row in csv::Reader::from_reader(GROUPS.as_bytes()).records() {
            let row = row.unwrap();
            let link = Some(&row[1]).filter(|link| !link.is_empty());
            db.execute("INSERT INTO team (name, link) VALUES (?, ?)", rusqlite::params![&row[0], link])
                .unwrap();
            let id = db.last_insert_rowid();
            for login in row[2].split(';') {
                let sql = "INSERT INTO member SELECT ?, rowid FROM account WHERE login = ?";
                assert_eq!(db.execute(sql, rusqlite::params![id, login]).unwrap(), 1);
            }
        }
    }
    museum.write("groups.csv", GROUPS);
    let settings = std::fs::read_to_string(museum.file("webtaxon.toml")).unwrap();
    museum.write("webtaxon.toml", settings + &too);
}

/// Moves the museum's accounts to a table of PostgreSQL.
fn into_postgres(museum: &Museum, cluster: &Cluster) {
    let columns = "login text UNIQUE, link text, state text, name text, email text, department text, room text, roles text";
    let mut sql = format!("CREATE TABLE account ({columns});\n");
    let mut reader = csv::Reader::from_path(museum.file("accounts.csv")).unwrap();
    for row in reader.records() {
        let row = row.unwrap();
        let cells: Vec<String> = row.iter().map(|cell| format!("'{}'", cell.replace('\'', "''"))).collect();
        sql += &format!("INSERT INTO account VALUES ({});\n", cells.join(", "));
    }
    cluster.run(&(sql + "CREATE TABLE before AS TABLE account;"));
    let server = cluster.socket().display();
    museum.change(
        "\"csv\"",
        &format!("\"postgres\"\nserver = \"{server}\"\ndatabase = \"loans\"\nuser = \"postgres\"\ntable = \"account\""),
    );
    museum.change("path      = \"accounts.csv\"", "");
}

/// Kills an apply at each of its points, and looks at the list before and after. How many points there were.
fn dies_everywhere(accounts: Accounts, has_state_there: bool, has_groups: bool) -> usize {
    let scene = Scene::open(accounts, has_state_there, has_groups);
    let museum = &scene.museum;
    let (before, groups) = (scene.rows(), scene.groups());
    save(museum);
    assert!(scene.apply("monday.json", None).status.success());
    let after = scene.rows();
    assert_ne!(after, before);
    // Groups change twice: who leaves before the accounts do, who comes behind them.
    let (groups_before, groups_after) = (groups, scene.groups());
    let mut seen = std::collections::BTreeSet::from([groups_before.clone(), groups_after.clone()]);
    let (changes, tied) = (scene.asked("edit"), scene.asked("kept"));
    assert_eq!(
        (changes, tied),
        if accounts == Accounts::Bare { (71, 71) } else { (31 + 5 * i64::from(has_groups), 0) }
    );
    let mut points = 0;
    loop {
        scene.fresh();
        save(museum);
        let killed = scene.apply("monday.json", Some(points + 1));
        if killed.status.success() {
            assert_eq!(seen.len(), if has_groups { 3 } else { 1 }, "{seen:?}");
            return points;
        }
        points += 1;
        let groups_now = scene.groups();
        seen.insert(groups_now);
        let now = scene.rows();
        assert!(now == before || now == after, "point {points}: half of it was done");
        // Looking is not hindered by what was left behind, and changes nothing.
        let journal = museum.run(&["journal"]);
        assert_eq!(journal.code, 0, "point {points}: {}", journal.err);
        assert!(scene.rows() == now, "point {points}: looking changed something");
        let again = scene.apply("monday.json", None);
        let out = String::from_utf8_lossy(&again.stdout);
        assert!(again.status.success(), "point {points}: {out}{}", String::from_utf8_lossy(&again.stderr));
        assert!(scene.rows() == after && scene.groups() == groups_after, "point {points}");
        let [done, open] =
            ["edit WHERE outcome = 'done'", "edit WHERE outcome IS NULL"].map(|what| scene.asked(what));
        assert_eq!((done, open, scene.asked("kept")), (changes, 0, tied), "point {points}: each once");
        leaves_nothing_behind(museum, points);
        // And back again, run by run.
        for number in museum_runs(museum) {
            museum.run(&["journal", &number, "--undo", "--save", "undo.json"]);
            assert!(scene.apply("undo.json", None).status.success(), "point {points}");
            std::fs::remove_file(museum.file("undo.json")).unwrap();
        }
        assert!(scene.rows() == before && scene.asked("kept") == 0, "point {points}: undone, byte for byte");
        assert!(scene.groups() == groups_before, "point {points}: groups undone");
    }
}

/// Cut off among groups, and then nobody wants groups any more: the next apply goes on with the accounts.
#[test]
fn killed_among_groups_that_are_given_up_it_goes_on() {
    let scene = Scene::open(Accounts::Csv, false, true);
    let with_groups = std::fs::read_to_string(scene.museum.file("webtaxon.toml")).unwrap();
    let without = with_groups.split("\n# Groups that come into the Loans Desk").next().unwrap();
    let mut open = 0;
    for point in 1..24 {
        scene.fresh();
        scene.museum.write("webtaxon.toml", &with_groups);
        save(&scene.museum);
        assert!(!scene.apply("monday.json", Some(point)).status.success(), "point {point}");
        open += usize::from(scene.asked("edit WHERE outcome IS NULL AND edit LIKE '%update members%'") > 0);
        scene.museum.write("webtaxon.toml", without);
        let run = scene.museum.run(&["apply", "--yes", "--release", "seats,settings_changed,first"]);
        assert_eq!(run.code, 0, "point {point}: {}{}", run.out, run.err);
        assert_eq!(scene.asked("edit WHERE outcome IS NULL"), 0, "point {point}");
    }
    assert!(open > 5, "{open} of them were cut off among groups");
}

/// Behind a service there are no transactions: each account is as it was or as it will be, and run again, the
/// apply ends the same, with each change done once.
#[test]
fn killed_anywhere_at_a_service_it_ends_the_same() {
    killed_at_a_service(false);
}

/// The same where the service refuses an address that another user has.
#[test]
fn killed_anywhere_at_a_strict_service_it_ends_the_same() {
    killed_at_a_service(true);
}

/// The users of a service by link, or by login where there is none, without what the service gives them.
fn users(list: &webtaxon_standin::List) -> std::collections::BTreeMap<String, String> {
    let user = |user: serde_json::Value| {
        let mut user = user.as_object().unwrap().clone();
        user.remove("id");
        user.remove("meta");
        let key = user.get("externalId").unwrap_or(&user["userName"]).as_str().unwrap().to_owned();
        let user: std::collections::BTreeMap<_, _> = user.into_iter().collect();
        (key, format!("{user:?}"))
    };
    list.users().into_iter().map(user).collect()
}

/// The entries of two maps that differ.
fn differing(
    one: &std::collections::BTreeMap<String, String>,
    other: &std::collections::BTreeMap<String, String>,
) -> Vec<String> {
    let keys: std::collections::BTreeSet<&String> = one.keys().chain(other.keys()).collect();
    let differs = keys.into_iter().filter(|key| one.get(*key) != other.get(*key));
    differs.map(|key| format!("{:?} is not {:?}", one.get(key), other.get(key))).collect()
}

fn killed_at_a_service(unique_emails: bool) {
    use webtaxon_standin::{Application, ApplicationOptions, List};
    let runtime = tokio::runtime::Runtime::new().unwrap();
    let museum = Museum::open(&[]);
    // Two people have each other's logins, beside the two who have each other's addresses.
    let swapped = list(&museum).replace("\naibbotson,", "\n<a>,").replace("\nainglewood,", "\naibbotson,");
    museum.write("accounts.csv", swapped.replace("\n<a>,", "\nainglewood,"));
    let before = List::from_csv(&list(&museum), false).unwrap();
    // One request for each change, so that there is a point at each.
    let offer = ApplicationOptions { bulk: None, unique_emails, ..ApplicationOptions::default() };
    let application = runtime.block_on(Application::start(before.clone(), offer)).unwrap();
    let service = format!("\"scim\"\nservice = \"{}\"\nplain = true", application.url());
    museum.change("\"csv\"", &service);
    museum.change("path      = \"accounts.csv\"", "attributes.room = \"urn:quillmere:loans:2.0:User:room\"");
    let swap = ["Ibbotson", "Inglewood", "Isaac Heatherly", "Isaac Underhill"];
    save(&museum);
    let apply = |file: &str, die_at| apply_until(&museum, file, die_at);
    assert!(apply("monday.json", None).status.success());
    let after = users(&application.list());
    let (mut points, mut halves) = (0, 0);
    loop {
        clean(&museum, &list(&museum));
        application.set_list(before.clone());
        save(&museum);
        if apply("monday.json", Some(points + 1)).status.success() {
            break;
        }
        points += 1;
        let now = users(&application.list());
        let was = users(&before);
        for (key, user) in &now {
            let is_put_aside = swap.iter().any(|name| user.contains(name));
            assert!(
                was.get(key) == Some(user) || after.get(key) == Some(user) || is_put_aside,
                "point {points}: {user}"
            );
        }
        halves += usize::from(now != was && now != after);
        let again = apply("monday.json", None);
        assert!(again.status.success(), "point {points}: {}", String::from_utf8_lossy(&again.stdout));
        assert_eq!(differing(&users(&application.list()), &after), Vec::<String>::new(), "point {points}");
        assert_eq!(done_in_all(&museum), (33, 0), "point {points}: each once");
        // And back, run by run.
        for run in museum_runs(&museum) {
            museum.run(&["journal", &run, "--undo", "--save", "undo.json"]);
            assert!(apply("undo.json", None).status.success(), "point {points}: run {run}");
            std::fs::remove_file(museum.file("undo.json")).unwrap();
        }
        assert_eq!(
            differing(&users(&application.list()), &was),
            Vec::<String>::new(),
            "point {points}: undone"
        );
    }
    assert!(points >= 30 && halves >= 20, "{points} points, {halves} of them in the middle");
}

/// Where roles are groups of a service, somebody and their groups are changed by different requests: killed between
/// them or anywhere else, a fresh apply ends the same, and nobody is there twice.
#[test]
fn killed_anywhere_where_roles_are_groups_a_fresh_apply_ends_the_same() {
    use webtaxon_standin::{Application, ApplicationOptions, List};
    let runtime = tokio::runtime::Runtime::new().unwrap();
    let museum = Museum::open(&[]);
    let before = List::from_csv(&list(&museum), true).unwrap();
    let offer = ApplicationOptions { bulk: None, ..ApplicationOptions::default() };
    let application = runtime.block_on(Application::start(before.clone(), offer)).unwrap();
    let service = format!("\"scim\"\nservice = \"{}\"\nplain = true\nrole_groups = true", application.url());
    museum.change("\"csv\"", &service);
    museum.change("path      = \"accounts.csv\"", "attributes.room = \"urn:quillmere:loans:2.0:User:room\"");
    let told = |list: &List| -> Vec<String> {
        let users = list.users();
        let name = |id: &serde_json::Value| {
            let user = users.iter().find(|user| user["id"] == *id).unwrap();
            user["userName"].as_str().unwrap().to_owned()
        };
        let mut told: Vec<String> = users
            .iter()
            .map(|user| {
                let mut user = user.as_object().unwrap().clone();
                user.retain(|name, _| !["id", "meta", "groups"].contains(&name.as_str()));
                format!("{user:?}")
            })
            .collect();
        for group in list.groups() {
            let members = group["members"].as_array().unwrap().iter().map(|member| name(&member["value"]));
            told.extend(members.map(|member| format!("{} {member}", group["displayName"])));
        }
        told.sort();
        told
    };
    let apply = |die_at: Option<usize>| {
        let mut command = crate::command::webtaxon(&["apply", "--yes", "--release", "seats,first"]);
        command.current_dir(museum.file(""));
        if let Some(point) = die_at {
            command.env("WEBTAXON_DIE_AT", point.to_string());
        }
        command.output().unwrap()
    };
    assert!(apply(None).status.success());
    let after = told(&application.list());
    let mut points = 0;
    loop {
        clean(&museum, &list(&museum));
        application.set_list(before.clone());
        if apply(Some(points + 1)).status.success() {
            break;
        }
        points += 1;
        let again = apply(None);
        assert!(again.status.success(), "point {points}: {}", String::from_utf8_lossy(&again.stdout));
        // What a first apply looked at as new is an update of the second: the groups of somebody who came in before.
        assert_eq!(told(&application.list()), after, "point {points}");
    }
    assert!(points >= 30, "{points} points");
}

/// The numbers of the runs that changed something, the latest first.
pub(crate) fn museum_runs(museum: &Museum) -> Vec<String> {
    let runs = museum.run(&["journal", "--format", "json"]);
    let runs: serde_json::Value = serde_json::from_str(&runs.out).unwrap();
    let mut numbers: Vec<i64> =
        runs["runs"].as_array().unwrap().iter().map(|run| run["run"].as_i64().unwrap()).collect();
    numbers.sort_unstable_by(|one, other| other.cmp(one));
    numbers.into_iter().map(|number| number.to_string()).collect()
}

/// How many there are in the state's file of what a question names.
pub(crate) fn count(museum: &Museum, what: &str) -> i64 {
    let db = rusqlite::Connection::open(museum.file("webtaxon.state.sqlite")).unwrap();
    db.query_row(&format!("SELECT count(*) FROM {what}"), [], |row| row.get(0)).unwrap()
}

/// How many edits the journal has as done, and how many of which nobody knows.
fn done_in_all(museum: &Museum) -> (i64, i64) {
    (count(museum, "edit WHERE outcome = 'done'"), count(museum, "edit WHERE outcome IS NULL"))
}

fn leaves_nothing_behind(museum: &Museum, point: usize) {
    let left: Vec<String> = std::fs::read_dir(museum.file(""))
        .unwrap()
        .map(|file| file.unwrap().file_name().to_string_lossy().into_owned())
        .filter(|name| name.ends_with(".new") || name.ends_with("-journal"))
        .collect();
    assert!(left.is_empty(), "point {point}: {left:?}");
}
