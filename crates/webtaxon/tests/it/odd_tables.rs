//! Tables as real applications have them: types of every sort, conditions, columns that nobody fills, triggers, foreign
//! keys, several words for a state, marks for removed rows.

use crate::museum::{ACCOUNTS, DIRECTORY, Museum, told};
use crate::odd_schema::{Database, Kind, RULES};
use crate::stores::agreed;
use webtaxon::Workspace;
use webtaxon::apply::Consent;
use webtaxon::model::apply::Outcome;
use webtaxon::model::preview::{BrakeKind, ChangeKind, HeldReason, Preview};

/// A museum whose accounts are in an application's own table.
struct Odd {
    museum: Museum,
    database: Database,
}

impl Odd {
    async fn open(kind: Kind) -> Self {
        let museum = Museum::with(DIRECTORY, webtaxon_standin::Options::default()).await;
        let database = Database::open(kind, museum.path(), ACCOUNTS);
        let odd = Self { museum, database };
        odd.set(&[]);
        odd
    }

    /// Writes the settings, with some texts changed.
    fn set(&self, changes: &[(&str, &str)]) {
        let mut settings = self.museum.settings();
        let csv = "store     = \"csv\"\npath      = \"accounts.csv\"\nprotected";
        let store = self.database.settings();
        let own = [(csv, store.as_str()), ("\n[[intake.role]]", RULES)];
        for (from, to) in own.iter().chain(changes) {
            assert!(settings.contains(from), "{from}");
            settings = settings.replacen(from, to, 1);
        }
        self.museum.write("webtaxon.toml", settings);
    }

    fn table(&self, name: &str) -> String {
        self.database.table(name)
    }

    fn run(&self, sql: &str) {
        self.database.run(sql);
    }

    fn rows(&self, sql: &str) -> Vec<String> {
        self.database.rows(sql)
    }

    fn dump(&self) -> Vec<String> {
        self.database.dump()
    }

    fn workspace(&self) -> Workspace {
        self.museum.workspace().unwrap()
    }

    async fn preview(&self) -> Preview {
        self.museum.preview().await.unwrap()
    }

    /// Applies a preview, with these brakes released, and expects everything to be done.
    async fn apply(&self, release: &[&str]) -> Preview {
        let (preview, work) = self.workspace().work().await.unwrap();
        let mut consent = consent();
        consent.release.extend(release.iter().map(|name| (*name).to_owned()));
        let applied = self.workspace().apply(&work, &consent).await.unwrap();
        assert!(applied.is_complete(), "{applied:?}");
        preview
    }

    async fn undo(&self, run: i64) {
        let work = self.workspace().way_back(run).await.unwrap();
        let applied = self.workspace().apply(&work, &consent()).await.unwrap();
        assert!(applied.is_complete(), "{run}: {applied:?}");
    }
}

/// Consent to many removals.
fn consent() -> Consent {
    let mut consent = agreed();
    consent.release.push("removals".to_owned());
    consent
}

/// What the database prints otherwise is no difference; everything comes back, ids and words for states included.
async fn every_type_settles_and_comes_back(kind: Kind) {
    let odd = Odd::open(kind).await;
    let before = odd.dump();
    let preview = odd.apply(&[]).await;
    assert_eq!(preview.of_kind(ChangeKind::Import).count(), 7, "{kind:?}");
    let again = odd.preview().await;
    assert_eq!(again.kinds, [(ChangeKind::Clash, 2)], "{kind:?}: {:#?}", again.changes);
    let after = odd.dump();
    let new = after.iter().find(|row| row.contains("tashdown2")).unwrap();
    assert!(new.ends_with("|none|0"), "{new}: the database's own values");
    odd.undo(1).await;
    assert_eq!(odd.dump(), before, "{kind:?}");
    odd.undo(2).await;
    assert_eq!(odd.dump(), after, "{kind:?}: undone and done again, with ids");
    if kind == Kind::Postgres {
        assert_eq!(odd.rows("SELECT count(*) FROM public.role"), ["0"], "another table of that name");
    }
    let touched = format!("SELECT count(*) FROM {} WHERE updated_at > '2026'", odd.table("person"));
    assert_ne!(odd.rows(&touched.replace("'2026'", "'2026-01-01'")), ["0"], "the times of changes");
}

/// A value for which there is no room is told beforehand, and nothing else is held up by it.
async fn what_does_not_fit_is_told_for_that_person_and_field(kind: Kind) {
    let odd = Odd::open(kind).await;
    let long = [
        ("\nlogin ", "\nnickname = { value = \"n\" }\nlogin "),
        (
            "badge   = { value = \"007\" }",
            "badge = { when = \"(sAMAccountName=bthornbury)\", value = \"none\" }",
        ),
        (
            "quota   = { value = \"10.5\" }",
            "quota = [{ when = \"(sAMAccountName=bedgeworth)\", value = \"0.005\" }, { value = \"1\" }]",
        ),
    ];
    odd.run(&format!("ALTER TABLE {} ADD nickname VARCHAR(1)", odd.table("person")));
    odd.set(&long);
    let preview = odd.preview().await;
    let held: Vec<_> = preview.held.iter().filter(|held| held.reason == HeldReason::Unfit).collect();
    assert_eq!(held.len(), 1, "{:?}", preview.held);
    assert!(held[0].login == "bthornbury" && held[0].message().contains("badge"), "{held:?}");
    let open: Vec<_> =
        preview.open_fields.iter().filter(|one| one.is_unfit).map(|one| (&*one.login, &*one.field)).collect();
    assert_eq!(open, [("bedgeworth", "quota")], "whoever gets no account keeps no value");
    odd.apply(&[]).await;
    let rows = odd.rows(&format!(
        "SELECT quota FROM {} WHERE login IN ('bedgeworth', 'bthornbury')",
        odd.table("person")
    ));
    assert_eq!(rows.len(), 1, "one person waits");
    assert!(["0", "0.00"].contains(&rows[0].as_str()), "{rows:?}: nothing rounded");
}

/// A column that must have a value and gets none is an error, with the line to write.
async fn a_column_that_nobody_fills_is_told(kind: Kind) {
    let odd = Odd::open(kind).await;
    let table = odd.table("person");
    match kind {
        Kind::Postgres => odd.run("ALTER TABLE desk.person ALTER password_hash DROP DEFAULT"),
        Kind::Mysql => odd.run("ALTER TABLE person ALTER password_hash DROP DEFAULT"),
        Kind::Sqlite => {
            odd.run("PRAGMA writable_schema = ON; UPDATE sqlite_schema SET sql = replace(sql, 'password_hash TEXT NOT NULL DEFAULT ''none''', 'password_hash TEXT NOT NULL') WHERE name = 'person'; PRAGMA writable_schema = RESET");
        }
    }
    let error = odd.museum.preview().await.unwrap_err();
    let (said, code, help) = told(&error);
    assert!(code == "WX0524" && said.contains("`password_hash`"), "{said}");
    assert!(help.contains("password_hash = { value ="), "{help}");
    odd.set(&[(
        "\n[[intake.role]]",
        "\npassword_hash = { value = \"!\", write = \"once\" }\n[[intake.role]]",
    )]);
    odd.apply(&[]).await;
    let hashes = odd.rows(&format!("SELECT password_hash FROM {table} WHERE login = 'bthornbury'"));
    assert_eq!(hashes, ["!"]);
}

/// Rows that hang on an account: what a removal takes along is a brake, and what forbids it is told or respected.
async fn what_hangs_on_an_account_is_counted(kind: Kind) {
    let odd = Odd::open(kind).await;
    let [person, loan, note] = ["person", "loan", "note"].map(|name| odd.table(name));
    odd.run(&format!(
        "INSERT INTO {loan} (borrower) SELECT id FROM {person} WHERE login IN ('adrift', 'hvanish')"
    ));
    odd.run(&format!("INSERT INTO {note} SELECT id, 'owes a beetle' FROM {person} WHERE login = 'mfallow'"));
    let preview = odd.preview().await;
    let held: Vec<_> = preview.held.iter().filter(|held| held.reason == HeldReason::Dependents).collect();
    assert_eq!(held.iter().map(|held| &*held.login).collect::<Vec<_>>(), ["adrift", "hvanish"]);
    assert!(held[0].message().contains("1 row of"), "{}", held[0].message());
    let brake = preview.brakes.iter().find(|brake| brake.kind == BrakeKind::Cascades).unwrap();
    assert!(brake.figure == 1 && brake.in_words().contains("mfallow: 1 row of"), "{}", brake.in_words());
    let gone = "gone       = { do = \"remove\" }";
    odd.set(&[(gone, "gone       = { do = \"remove\", refused = \"suspend\" }")]);
    let preview = odd.apply(&["cascades"]).await;
    let suspended: Vec<_> = preview.of_kind(ChangeKind::Suspend).map(|change| change.login.clone()).collect();
    assert!(suspended.contains(&"hvanish".to_owned()), "{suspended:?}");
    assert_eq!(preview.of_kind(ChangeKind::Remove).count(), 1);
    assert_eq!(odd.preview().await.kinds, [(ChangeKind::Clash, 2)]);
    let states = odd
        .rows(&format!("SELECT standing FROM {person} WHERE login IN ('adrift', 'hvanish') ORDER BY login"));
    assert_eq!(states, ["locked", "off"], "adrift could not sign in before");
}

/// A removal that the database refuses for a reason of its own suspends the account instead, and is undone as that.
async fn a_removal_that_is_refused_suspends(kind: Kind) {
    let odd = Odd::open(kind).await;
    let person = odd.table("person");
    odd.database.keep_whoever_is_gone();
    let gone = "gone       = { do = \"remove\" }";
    odd.set(&[(gone, "gone       = { do = \"remove\", refused = \"suspend\" }")]);
    let states = || {
        odd.rows(&format!(
            "SELECT login, standing FROM {person} WHERE login IN ('adrift', 'hvanish', 'mfallow') ORDER BY 1"
        ))
    };
    let before = states();
    let (preview, work) = odd.workspace().work().await.unwrap();
    assert_eq!(preview.of_kind(ChangeKind::Remove).count(), 3);
    let applied = odd.workspace().apply(&work, &consent()).await.unwrap();
    let failed = applied.outcomes.iter().flatten().filter_map(|outcome| match outcome {
        Outcome::Failed(words) => Some(words.as_str()),
        _ => None,
    });
    let failed: Vec<&str> = failed.collect();
    assert!(
        failed.len() == 3 && failed.iter().all(|words| words.contains("an audit is under way")),
        "{failed:?}"
    );
    let suspended = failed.iter().filter(|words| words.ends_with("it is suspended instead")).count();
    assert_eq!(suspended, before.iter().filter(|row| row.ends_with("|on")).count(), "{failed:?}");
    assert!(states().iter().all(|row| !row.ends_with("|on")), "{:?}", states());
    odd.undo(1).await;
    assert_eq!(states(), before, "{kind:?}");
}

/// An undo removes an imported account only if it is as it was made, and says what was added since.
async fn an_undo_removes_only_what_is_as_it_was_made(kind: Kind) {
    let odd = Odd::open(kind).await;
    let [person, loan] = ["person", "loan"].map(|name| odd.table(name));
    let preview = odd.apply(&[]).await;
    let imported: Vec<_> = preview.of_kind(ChangeKind::Import).map(|change| change.login.clone()).collect();
    let [lender, active] = [&imported[0], &imported[1]];
    odd.run(&format!("INSERT INTO {loan} (borrower) SELECT id FROM {person} WHERE login = '{lender}'"));
    odd.run(&format!("UPDATE {person} SET logins = 3 WHERE login = '{active}'"));
    let work = odd.workspace().way_back(1).await.unwrap();
    assert_eq!(work.notes().len(), 2, "{:?}", work.notes());
    assert!(work.notes().iter().any(|note| note.starts_with(lender) && note.contains("1 row of")));
    assert!(work.notes().iter().any(|note| note.starts_with(active) && note.contains("logins has changed")));
    odd.undo(1).await;
    let rows = odd.rows(&format!("SELECT standing FROM {person} WHERE login IN ('{lender}', '{active}')"));
    assert_eq!(rows, ["off", "off"]);
    assert_eq!(odd.rows(&format!("SELECT count(*) FROM {loan}")), ["1"]);
    let gone = &imported[2];
    assert!(odd.rows(&format!("SELECT id FROM {person} WHERE login = '{gone}'")).is_empty());
}

/// An account in a third state is left alone, and stops nothing else.
async fn a_third_state_stops_nothing_else(kind: Kind) {
    let odd = Odd::open(kind).await;
    let person = odd.table("person");
    odd.run(&format!(
        "UPDATE {person} SET standing = 'banned' WHERE login IN ('bedgeworth', 'adrift', 'kiosk')"
    ));
    odd.run(&format!("UPDATE {person} SET standing = 'invited' WHERE login = 'dpryce'"));
    let preview = odd.preview().await;
    let held: Vec<_> = preview.held.iter().filter(|held| held.reason == HeldReason::OtherState).collect();
    assert_eq!(held.iter().map(|held| &*held.login).collect::<Vec<_>>(), ["adrift", "bedgeworth"]);
    assert!(held[0].message().contains("banned"), "{}", held[0].message());
    odd.apply(&[]).await;
    let states = odd.rows(&format!(
        "SELECT login, standing FROM {person} WHERE standing IN ('banned', 'invited') ORDER BY 1"
    ));
    assert_eq!(states, ["adrift|banned", "bedgeworth|banned", "dpryce|invited", "kiosk|banned"]);
}

/// A removed row is marked, is no account, and comes back with its person or by an undo.
async fn a_removed_row_stays_and_comes_back(kind: Kind) {
    let odd = Odd::open(kind).await;
    let person = odd.table("person");
    let time = if kind == Kind::Postgres { "timestamptz" } else { "DATETIME" };
    odd.run(&format!("ALTER TABLE {person} ADD deleted_at {time}"));
    odd.set(&[("touched    =", "removed = { column = \"deleted_at\", value = \"now\" }\ntouched    =")]);
    let before = odd.dump();
    odd.apply(&[]).await;
    let marked = format!("SELECT login FROM {person} WHERE deleted_at IS NOT NULL ORDER BY 1");
    assert_eq!(odd.rows(&marked), ["adrift", "hvanish", "mfallow"]);
    assert_eq!(odd.preview().await.kinds, [(ChangeKind::Clash, 2)]);
    odd.undo(1).await;
    assert_eq!(odd.rows(&marked).len(), 7, "those who were imported are marked now");
    let there = format!("{person} WHERE deleted_at IS NULL");
    let columns = "id, login, directory, standing, name, email, department, room, badge, hired, quota, keeper, address, details, born, token, password_hash, logins";
    let rows = odd.rows(&format!("SELECT {columns} FROM {there} ORDER BY id"));
    assert_eq!(rows, before[..rows.len()], "{kind:?}");
    let ids = format!("SELECT id FROM {person} WHERE login = 'bthornbury'");
    let id = odd.rows(&ids);
    odd.apply(&[]).await;
    assert_eq!(odd.rows(&ids), id, "the same row, not a second one");
    assert_eq!(odd.preview().await.kinds, [(ChangeKind::Clash, 2)]);
}

/// A field in a table of its own, beside rows of another kind; a list as JSON; the time of creation.
async fn values_beside_the_table_and_lists_are_kept(kind: Kind) {
    let odd = Odd::open(kind).await;
    let [person, email] = ["person", "address"].map(|name| odd.table(name));
    let time = if kind == Kind::Sqlite { "TEXT" } else { "timestamp NULL" };
    let id = if kind == Kind::Mysql { "bigint unsigned" } else { "bigint" };
    odd.run(&format!(
        "CREATE TABLE {email} (person_id {id} NOT NULL, value varchar(80) NOT NULL, sort varchar(9) NOT NULL)"
    ));
    odd.run(&format!("INSERT INTO {email} SELECT id, email, 'work' FROM {person} WHERE email IS NOT NULL"));
    odd.run(&format!(
        "INSERT INTO {email} SELECT id, 'home@x.example', 'home' FROM {person} WHERE login = 'bedgeworth'"
    ));
    odd.run(&format!("ALTER TABLE {person} ADD created_at {time}"));
    odd.run(&format!("ALTER TABLE {person} ADD skills text"));
    let more = format!(
        "created = \"created_at\"\nmore = {{ email = {{ table = \"{email}\", account = \"person_id\", key = \"id\", value = \"value\", with = {{ sort = \"work\" }} }} }}\ntouched    ="
    );
    odd.set(&[
        ("touched    =", &more),
        (
            "state = \"standing\" }",
            "state = \"standing\", skills = { name = \"skills\", as = \"json\" }, old_email = \"email\" }",
        ),
        ("\n[[intake.role]]", "\nskills = { from = \"objectClass\", every = true }\n[[intake.role]]"),
    ]);
    let dump = || odd.rows(&format!("SELECT * FROM {email} ORDER BY 1, 2, 3"));
    let (before, rows) = (dump(), odd.dump());
    odd.apply(&[]).await;
    assert_eq!(odd.preview().await.kinds, [(ChangeKind::Clash, 2)], "{kind:?}");
    let skills = odd.rows(&format!("SELECT skills FROM {person} WHERE login = 'bthornbury'"));
    let skills: Vec<String> = serde_json::from_str(&skills[0]).unwrap();
    assert!(skills.contains(&"user".to_owned()), "{skills:?}");
    let made = odd.rows(&format!("SELECT login FROM {person} WHERE created_at IS NOT NULL"));
    assert_eq!(made.len(), 7, "{made:?}");
    assert_ne!(dump(), before);
    odd.undo(1).await;
    assert_eq!((dump(), odd.dump()), (before, rows), "{kind:?}");
}

/// A first password is set once, and neither it nor an older one is read, compared, shown or kept anywhere.
async fn a_first_password_is_set_once_and_never_seen(kind: Kind) {
    let odd = Odd::open(kind).await;
    let person = odd.table("person");
    odd.run(&format!("UPDATE {person} SET password_hash = 'hush-hush' WHERE login IN ('dpryce', 'mfallow')"));
    odd.set(&[(
        "\n[[intake.role]]",
        "\npassword_hash = { secret = true, join = \"first-of-{sAMAccountName}\", required = true }\n[[intake.role]]",
    )]);
    let (preview, work) = odd.workspace().work().await.unwrap();
    let file = odd.museum.path().join("work.json");
    odd.workspace().save(&work, &file, "ada").await.unwrap();
    let mut shown =
        format!("{preview:?} {work:?} {}", odd.workspace().statements(&work, &consent()).await.unwrap());
    odd.apply(&[]).await;
    let hashes = || odd.rows(&format!("SELECT login, password_hash FROM {person} ORDER BY login"));
    assert!(hashes().contains(&"bthornbury|first-of-bthornbury".to_owned()), "{:?}", hashes());
    assert_eq!(hashes().iter().filter(|row| row.contains("first-of-")).count(), 7, "who is new");
    assert!(hashes().contains(&"dpryce|hush-hush".to_owned()), "who was there keeps what they have");
    let again = odd.preview().await;
    assert_eq!(again.kinds, [(ChangeKind::Clash, 2)], "{:#?}", again.changes);
    odd.run(&format!("UPDATE {person} SET password_hash = 'hush-hush' WHERE login = 'bthornbury'"));
    let way_back = odd.workspace().way_back(1).await.unwrap();
    assert!(way_back.notes().is_empty(), "a password that was changed is nobody's business");
    shown += &format!("{again:?} {way_back:?}");
    odd.undo(1).await;
    assert!(odd.rows(&format!("SELECT login FROM {person} WHERE login = 'bthornbury'")).is_empty());
    assert!(
        hashes().contains(&"mfallow|none".to_owned()),
        "the database's own for who returns: {:?}",
        hashes()
    );
    for secret in ["first-of-", "hush-hush"] {
        assert!(!shown.contains(secret), "{kind:?}: {shown}");
        assert_eq!(kept(odd.museum.path(), secret), [] as [std::path::PathBuf; 0], "{kind:?}");
    }
}

/// Where the table has logins that differ by case only, they are two accounts, and each stays its own.
async fn logins_that_differ_by_case_are_two(kind: Kind) {
    let odd = Odd::open(kind).await;
    let person = odd.table("person");
    if kind == Kind::Mysql {
        odd.run("ALTER TABLE person MODIFY login varchar(24) COLLATE utf8mb4_bin NOT NULL UNIQUE");
    }
    let usual = odd.preview().await;
    for login in ["BEDGEWORTH", "HVanish"] {
        odd.run(&format!(
            "INSERT INTO {person} (login, standing, name) VALUES ('{login}', 'on', 'somebody else')"
        ));
    }
    let before = odd.dump();
    let preview = odd.apply(&[]).await;
    let count = |preview: &Preview, kind| preview.of_kind(kind).count();
    for same in [ChangeKind::Update, ChangeKind::Remove, ChangeKind::Suspend] {
        assert_eq!(count(&preview, same), count(&usual, same), "{kind:?} {same:?}");
    }
    let others =
        format!("SELECT login FROM {person} WHERE name = 'somebody else' AND standing = 'on' ORDER BY 1");
    assert_eq!(odd.rows(&others), ["BEDGEWORTH", "HVanish"]);
    assert!(odd.rows(&format!("SELECT login FROM {person} WHERE login = 'hvanish'")).is_empty());
    let work = odd.workspace().way_back(1).await.unwrap();
    let applied = odd.workspace().apply(&work, &consent()).await.unwrap();
    let left = Outcome::Left("HVanish has the same login now".to_owned());
    assert_eq!(
        applied.outcomes.iter().flatten().filter(|one| **one != Outcome::Done).collect::<Vec<_>>(),
        [&left]
    );
    let is_hvanish = |row: &&String| row.contains("|hvanish|");
    let role =
        before.iter().find(is_hvanish).map(|row| format!("{}|", row.split('|').next().unwrap())).unwrap();
    let others = before.iter().filter(|row| !row.starts_with(&role) || row.contains("somebody else"));
    assert_eq!(odd.dump().iter().collect::<Vec<_>>(), others.collect::<Vec<_>>(), "{kind:?}");
}

/// The files that contain a text, but for the settings and the application's own database.
fn kept(folder: &std::path::Path, text: &str) -> Vec<std::path::PathBuf> {
    let mut all = Vec::new();
    for entry in std::fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path()) {
        let name = entry.file_name().unwrap().to_string_lossy().into_owned();
        if entry.is_dir() {
            all.extend(kept(&entry, text));
        } else if !["webtaxon.toml", "loans.sqlite"].contains(&name.as_str()) {
            let bytes = std::fs::read(&entry).unwrap();
            all.extend(bytes.windows(text.len()).any(|part| part == text.as_bytes()).then_some(entry));
        }
    }
    all
}

/// Runs a case for SQLite, and, where a server is at hand, for the others.
macro_rules! for_each_database {
    ($($case:ident),* $(,)?) => {
        mod sqlite_tables {
            $(#[tokio::test]
            async fn $case() {
                super::$case(super::Kind::Sqlite).await;
            })*
        }
        mod mariadb_tables {
            $(#[tokio::test]
            #[ignore = "needs MariaDB"]
            async fn $case() {
                super::$case(super::Kind::Mysql).await;
            })*
        }
        mod postgres_tables {
            $(#[tokio::test]
            #[ignore = "needs PostgreSQL"]
            async fn $case() {
                super::$case(super::Kind::Postgres).await;
            })*
        }
    };
}

for_each_database!(
    every_type_settles_and_comes_back,
    what_does_not_fit_is_told_for_that_person_and_field,
    a_column_that_nobody_fills_is_told,
    what_hangs_on_an_account_is_counted,
    a_removal_that_is_refused_suspends,
    an_undo_removes_only_what_is_as_it_was_made,
    a_third_state_stops_nothing_else,
    a_removed_row_stays_and_comes_back,
    values_beside_the_table_and_lists_are_kept,
    a_first_password_is_set_once_and_never_seen,
    logins_that_differ_by_case_are_two,
);
