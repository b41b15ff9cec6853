//! Tables as a real application has them, in each database, with the museum's accounts in them.

use crate::cluster::Cluster;
use crate::mariadb_server::Mariadb;
use rusqlite::Connection;
use rusqlite::types::Value;
use std::path::{Path, PathBuf};

#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) enum Kind {
    Postgres,
    Mysql,
    Sqlite,
}

/// The columns that rules fill with values which the database prints otherwise.
pub(crate) const RULES: &str = r#"
badge   = { value = "007" }
hired   = { value = "2026-01-02T03:04:05+02:00" }
quota   = { value = "10.5" }
keeper  = { value = "Yes" }
address = { value = "10.0.0.1/32" }
details = { value = '{"b": [1, 2], "a": null}' }
born    = { value = "1980-02-29" }
token   = { value = "A0EEBC99-9C0B-4EF8-BB6D-6BB9BD380A11" }
[[intake.role]]"#;

/// A database with the application's tables.
pub(crate) enum Database {
    Postgres(Cluster),
    Mysql(Mariadb),
    Sqlite(PathBuf),
}

const POSTGRES: &str = r#"
CREATE SCHEMA desk;
CREATE EXTENSION citext;
CREATE TYPE desk.standing AS ENUM ('invited', 'on', 'off', 'locked', 'banned');
CREATE TABLE desk.person (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  login varchar(24) NOT NULL UNIQUE CHECK (login <> 'nobody'),
  directory varchar(80) UNIQUE,
  standing desk.standing NOT NULL,
  name varchar(70) NOT NULL,
  email citext UNIQUE,
  department char(30),
  room text,
  badge integer, hired timestamptz, quota numeric(8,2) NOT NULL DEFAULT 0, keeper boolean, address inet,
  details jsonb, born date, token uuid,
  password_hash text NOT NULL DEFAULT 'none',
  logins integer NOT NULL DEFAULT 0,
  updated_at timestamptz NOT NULL DEFAULT '2020-01-01'
);
CREATE TABLE desk.role (person_id bigint NOT NULL REFERENCES desk.person (id), role varchar(30) NOT NULL, PRIMARY KEY (person_id, role));
CREATE TABLE role (person_id bigint, role text);
CREATE TABLE desk.loan (id serial PRIMARY KEY, borrower bigint REFERENCES desk.person (id));
CREATE TABLE desk.note (about bigint REFERENCES desk.person (id) ON DELETE CASCADE, text text);
"#;

const MYSQL: &str = r#"
CREATE TABLE person (
  id bigint unsigned AUTO_INCREMENT PRIMARY KEY,
  login varchar(24) NOT NULL UNIQUE CHECK (login <> 'nobody'),
  directory varchar(80) UNIQUE,
  standing enum('invited', 'on', 'off', 'locked', 'banned') NOT NULL,
  name varchar(70) NOT NULL,
  email varchar(100) UNIQUE,
  department char(30),
  room text,
  badge int, hired datetime(3), quota decimal(8,2) NOT NULL DEFAULT 0, keeper boolean, address varchar(20),
  details json, born date, token uuid,
  password_hash varchar(100) NOT NULL DEFAULT 'none',
  logins integer NOT NULL DEFAULT 0,
  updated_at timestamp NOT NULL DEFAULT '2020-01-01 00:00:00'
);
CREATE TABLE role (person_id bigint unsigned NOT NULL, role varchar(30) NOT NULL, PRIMARY KEY (person_id, role), FOREIGN KEY (person_id) REFERENCES person (id));
CREATE TABLE loan (id integer AUTO_INCREMENT PRIMARY KEY, borrower bigint unsigned, FOREIGN KEY (borrower) REFERENCES person (id));
CREATE TABLE note (about bigint unsigned, text text, FOREIGN KEY (about) REFERENCES person (id) ON DELETE CASCADE);
"#;

const SQLITE: &str = r#"
CREATE TABLE person (
  id INTEGER PRIMARY KEY AUTOINCREMENT,
  login VARCHAR(24) NOT NULL UNIQUE CHECK (login <> 'nobody'),
  directory VARCHAR(80) UNIQUE,
  standing TEXT NOT NULL CHECK (standing IN ('invited', 'on', 'off', 'locked', 'banned')),
  name VARCHAR(70) NOT NULL,
  email TEXT UNIQUE COLLATE NOCASE,
  department VARCHAR(30),
  room TEXT,
  badge INTEGER, hired TEXT, quota NUMERIC(8,2) NOT NULL DEFAULT 0, keeper BOOLEAN, address TEXT,
  details TEXT, born DATE, token TEXT,
  password_hash TEXT NOT NULL DEFAULT 'none',
  logins INTEGER NOT NULL DEFAULT 0,
  updated_at TEXT NOT NULL DEFAULT '2020-01-01'
);
CREATE TABLE role (person_id INTEGER NOT NULL REFERENCES person (id), role VARCHAR(30) NOT NULL, PRIMARY KEY (person_id, role));
CREATE TABLE loan (id INTEGER PRIMARY KEY, borrower INTEGER REFERENCES person (id));
CREATE TABLE note (about INTEGER REFERENCES person (id) ON DELETE CASCADE, text TEXT);
"#;

impl Database {
    /// A database with these accounts, as the museum's file has them; `folder` is for one that is a file.
    pub(crate) fn open(kind: Kind, folder: &Path, accounts: &str) -> Self {
        let own = match kind {
            Kind::Postgres => Self::Postgres(Cluster::start()),
            Kind::Mysql => Self::Mysql(Mariadb::start()),
            Kind::Sqlite => Self::Sqlite(folder.join("loans.sqlite")),
        };
        own.fill(accounts);
        own
    }

    /// Creates the tables, with these accounts.
    pub(crate) fn fill(&self, accounts: &str) {
        let mut sql = match self {
            Self::Postgres(_) => POSTGRES,
            Self::Mysql(_) => MYSQL,
            Self::Sqlite(_) => SQLITE,
        }
        .to_owned();
        let text = |text: &str| match text {
            "" => "NULL".to_owned(),
            text => format!("'{}'", text.replace('\'', "''")),
        };
        let (table, roles) = (self.table("person"), self.table("role"));
        let mut reader = csv::Reader::from_reader(accounts.as_bytes());
        for row in reader.records().map(Result::unwrap) {
            let standing = if row[2] == *"active" { "on" } else { "locked" };
            let cells: Vec<String> = [0, 1, 3, 4, 5, 6].iter().map(|at| text(&row[*at])).collect();
            let [login, link, name, email, department, room] = cells.try_into().unwrap();
            sql += &format!(
                "INSERT INTO {table} (login, directory, standing, name, email, department, room) VALUES ({login}, {link}, '{standing}', {name}, {email}, {department}, {room});\n"
            );
            for role in row[7].split(';').filter(|role| !role.is_empty()) {
                sql +=
                    &format!("INSERT INTO {roles} SELECT id, '{role}' FROM {table} WHERE login = {login};\n");
            }
        }
        self.run(&sql);
    }

    /// The name of a table, with its schema where there is one.
    pub(crate) fn table(&self, name: &str) -> String {
        match self {
            Self::Postgres(_) => format!("desk.{name}"),
            Self::Mysql(_) | Self::Sqlite(_) => name.to_owned(),
        }
    }

    /// The settings of the store, up to `protected`.
    pub(crate) fn settings(&self) -> String {
        let server = |store: &str, socket: PathBuf, user: &str| {
            format!(
                "store = \"{store}\"\nserver = \"{}\"\ndatabase = \"loans\"\nuser = \"{user}\"",
                socket.display()
            )
        };
        let store = match self {
            Self::Postgres(cluster) => server("postgres", cluster.socket().to_owned(), "postgres"),
            Self::Mysql(mariadb) => server("mysql", mariadb.socket(), "root"),
            Self::Sqlite(_) => "store = \"sqlite\"\npath = \"loans.sqlite\"".to_owned(),
        };
        let (person, role) = (self.table("person"), self.table("role"));
        format!(
            r#"{store}
table      = "{person}"
columns    = {{ link = "directory", state = "standing" }}
states     = {{ active = ["on", "invited"], suspended = ["off", "locked"] }}
role_table = {{ table = "{role}", account = "person_id", key = "id", role = "role" }}
touched    = "updated_at"
protected"#
        )
    }

    pub(crate) fn run(&self, sql: &str) {
        match self {
            Self::Postgres(cluster) => drop(cluster.run(sql)),
            Self::Mysql(mariadb) => drop(mariadb.run(sql)),
            Self::Sqlite(file) => {
                let db = Connection::open(file).unwrap();
                db.execute_batch("PRAGMA synchronous = OFF; PRAGMA foreign_keys = ON").unwrap();
                db.execute_batch(sql).unwrap();
            }
        }
    }

    /// The rows of a query.
    pub(crate) fn rows(&self, sql: &str) -> Vec<String> {
        match self {
            Self::Postgres(cluster) => cluster.run(sql).lines().map(str::to_owned).collect(),
            Self::Mysql(mariadb) => mariadb.run(sql).lines().map(str::to_owned).collect(),
            Self::Sqlite(file) => {
                let db = Connection::open(file).unwrap();
                let mut query = db.prepare(sql).unwrap();
                let columns = query.column_count();
                let rows = query.query_map([], |row| {
                    let cells = (0..columns).map(|at| match row.get::<_, Value>(at).unwrap() {
                        Value::Null => String::new(),
                        Value::Integer(number) => number.to_string(),
                        Value::Real(number) => number.to_string(),
                        Value::Text(text) => text,
                        Value::Blob(bytes) => format!("{bytes:?}"),
                    });
                    Ok(cells.collect::<Vec<_>>().join("|"))
                });
                rows.unwrap().map(Result::unwrap).collect()
            }
        }
    }

    /// Everything in the tables, but for the times of changes.
    pub(crate) fn dump(&self) -> Vec<String> {
        let columns = "id, login, directory, standing, name, email, department, room, badge, hired, quota, keeper, address, details, born, token, password_hash, logins";
        let mut all = self.rows(&format!("SELECT {columns} FROM {} ORDER BY id", self.table("person")));
        all.extend(self.rows(&format!("SELECT * FROM {} ORDER BY 1, 2", self.table("role"))));
        all
    }

    /// A trigger that refuses to remove the people who are gone from the museum's directory.
    pub(crate) fn keep_whoever_is_gone(&self) {
        let gone = "OLD.login IN ('adrift', 'hvanish', 'mfallow')";
        self.run(&match self {
            Self::Postgres(_) => format!("CREATE FUNCTION desk.keep() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN IF {gone} THEN RAISE EXCEPTION 'an audit is under way'; END IF; RETURN OLD; END $$; CREATE TRIGGER keep BEFORE DELETE ON desk.person FOR EACH ROW EXECUTE FUNCTION desk.keep()"),
            Self::Mysql(_) => format!("DELIMITER //\nCREATE TRIGGER keep BEFORE DELETE ON person FOR EACH ROW IF {gone} THEN SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'an audit is under way'; END IF//"),
            Self::Sqlite(_) => format!("CREATE TRIGGER keep BEFORE DELETE ON person WHEN {gone} BEGIN SELECT RAISE(ABORT, 'an audit is under way'); END"),
        });
    }
}
