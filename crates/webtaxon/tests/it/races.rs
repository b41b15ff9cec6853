//! The directory changes while it is read: at a random moment, which is any request. A preview is right about everybody
//! as the directory was at some moment of the reading, and nobody leaves who was a member throughout.

use crate::museum::Museum;
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use jiff::Timestamp;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use webtaxon::model::preview::{ChangeKind, FieldChange, Held, HeldReason};
use webtaxon_standin::{Directory, Manner, Options};

const TOP: &str = "DC=quillmere,DC=example";
const SETTINGS: &str = r#"
[directory.museum]
servers = ["URL"]
trust = { authority = "museum-ca.pem" }
bind = "CN=svc,OU=Accounts,DC=quillmere,DC=example"
password = { file = "museum-password.txt" }
page = 4
[accounts]
store = "csv"
path = "accounts.csv"
[[intake]]
name = "staff"
directory = "museum"
bases = ["OU=People,DC=quillmere,DC=example"]
filter = "(objectClass=person)"
groups = ["CN=Users,OU=Groups,DC=quillmere,DC=example"]
not_in_group = ["CN=Leavers,OU=Groups,DC=quillmere,DC=example"]
strategy = "STRATEGY"
active = "(!(employeeType=off))"
[intake.fields]
login = { from = "cn" }
[[intake.role]]
name = "reader"
in_group = "CN=Users,OU=Groups,DC=quillmere,DC=example"
[intake.leaving]
gone = { do = "remove" }
outside = { do = "suspend" }
disabled = { do = "suspend" }
[brakes]
shrunk = "100%"
"#;

/// Numbers that look like chance, the same for each seed (xorshift).
struct Dice(u64);

impl Dice {
    /// A number below `sides`.
    fn roll(&mut self, sides: u64) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        self.0 % sides
    }

    fn pick<T: Copy>(&mut self, list: &[T]) -> T {
        list[usize::try_from(self.roll(list.len() as u64)).unwrap()]
    }
}

#[derive(Clone, Debug)]
struct Entry {
    /// Its lasting identity; people have small numbers, groups larger ones.
    id: u8,
    name: String,
    place: &'static str,
    members: BTreeSet<u8>,
    off: bool,
    changed: u64,
    /// Its first name.
    first: String,
}

impl Entry {
    fn new(id: u8, name: String, place: &'static str, members: BTreeSet<u8>) -> Self {
        Self { id, first: name.clone(), name, place, members, off: false, changed: 1 }
    }
}

#[derive(Clone, Debug, Default)]
struct State {
    entries: Vec<Entry>,
    /// The units by their first names, with the present ones and the number of the last change.
    units: BTreeMap<&'static str, (String, u64)>,
    /// The number of the last change.
    last: u64,
}

const PLACES: [&str; 3] = ["OU=A,OU=People", "OU=B,OU=People", "OU=C,OU=People"];
/// The unit of groups that others contain.
const NESTED: &str = "OU=Nested,OU=Groups";

impl State {
    fn begin(dice: &mut Dice) -> Self {
        let units = PLACES.into_iter().chain([NESTED]).map(|unit| (unit, (unit.to_owned(), 1))).collect();
        let mut state = Self { entries: Vec::new(), units, last: 1 };
        for id in 1..=12 {
            let place = dice.pick(&PLACES);
            state.entries.push(Entry::new(id, format!("p{id}"), place, BTreeSet::new()));
        }
        for (id, name) in [(101, "Users"), (102, "Leavers"), (103, "Inner"), (104, "Deep"), (105, "Former")] {
            let mut members: BTreeSet<u8> = match id {
                102 => [].into(),
                105 => (1..=12).filter(|_| dice.roll(10) == 0).collect(),
                _ => (1..=12).filter(|_| dice.roll(10) < 4).collect(),
            };
            members.extend(match id {
                101 => vec![103],
                102 => vec![105],
                103 => vec![104],
                _ => vec![],
            });
            let place = if id < 103 { "OU=Groups" } else { NESTED };
            state.entries.push(Entry::new(id, name.to_owned(), place, members));
        }
        state
    }

    /// Changes one thing, as a server does that keeps references right. Returns whom it concerns.
    fn change(&mut self, dice: &mut Dice) -> u8 {
        self.last += 1;
        let renamed = self.entries.iter().position(|one| one.name != one.first);
        // Whatever has another name often gets its first one back.
        if let Some(entry) = renamed.filter(|_| dice.roll(3) == 0).and_then(|at| self.entries.get_mut(at)) {
            entry.name = entry.first.clone();
            entry.changed = self.last;
            return entry.id;
        }
        let now = self.last;
        let renamed = self.units.iter_mut().find(|(first, (name, _))| *first != name);
        if let Some((first, unit)) = renamed.filter(|_| dice.roll(4) == 0) {
            *unit = ((*first).to_owned(), now);
            return u8::MAX;
        }
        let kind = dice.roll(12);
        let people: Vec<usize> = (0..self.entries.len()).filter(|at| self.entries[*at].id < 100).collect();
        let at = dice.pick(&people);
        let group = dice.pick(&[103, 104, 105]);
        let of_group = self.entries.iter().position(|one| one.id == group).unwrap();
        match kind {
            0 | 1 => {
                self.entries[at].name = format!("p{}-{now}", self.entries[at].id);
                self.entries[at].changed = now;
                self.entries[at].id
            }
            2 => {
                self.entries[at].place = dice.pick(&PLACES);
                self.entries[at].changed = now;
                self.entries[at].id
            }
            3 | 7..=9 => {
                self.entries[of_group].name = format!("g{group}-{now}");
                self.entries[of_group].changed = now;
                group
            }
            4 => {
                let person = self.entries[at].id;
                let members = &mut self.entries[of_group].members;
                if !members.remove(&person) {
                    members.insert(person);
                }
                self.entries[of_group].changed = now;
                person
            }
            5 => {
                self.entries[at].off = !self.entries[at].off;
                self.entries[at].changed = now;
                self.entries[at].id
            }
            10 | 11 => {
                // The entries below it have other names then, and the marks that they had.
                let unit = dice.pick(&[PLACES[0], PLACES[1], PLACES[2], NESTED]);
                let (_, above) = unit.split_once(',').unwrap();
                self.units.insert(unit, (format!("OU=unit-{now},{above}"), now));
                u8::MAX
            }
            _ if people.len() > 8 => {
                let gone = self.entries.remove(at).id;
                self.entries.iter_mut().for_each(|one| {
                    one.members.remove(&gone);
                });
                gone
            }
            _ => {
                self.last -= 1;
                0
            }
        }
    }

    fn dn(&self, id: u8) -> Option<String> {
        let one = self.entries.iter().find(|one| one.id == id)?;
        let place = self.units.get(one.place).map_or(one.place, |(now, _)| now);
        Some(format!("CN={},{place},{TOP}", one.name))
    }

    fn reach(&self, group: u8) -> BTreeSet<u8> {
        let (mut reached, mut waiting) = (BTreeSet::new(), vec![group]);
        while let Some(at) = waiting.pop() {
            for member in self.entries.iter().filter(|one| one.id == at).flat_map(|one| &one.members) {
                if reached.insert(*member) {
                    waiting.push(*member);
                }
            }
        }
        reached
    }

    /// The people who are selected.
    fn selected(&self) -> BTreeSet<u8> {
        let (users, leavers) = (self.reach(101), self.reach(102));
        let people = self.entries.iter().filter(|one| one.id < 100 && !one.off).map(|one| one.id);
        people.filter(|id| users.contains(id) && !leavers.contains(id)).collect()
    }

    fn ldif(&self, manner: Manner, tells_changes: bool) -> String {
        let controller = manner == Manner::Controller;
        let csn = |number: u64| format!("20261130{number:06}.000000Z#000000#000#000000");
        let mut text = format!("dn: {TOP}\nobjectClass: domain\ndc: quillmere\n");
        if tells_changes && !controller {
            text += &format!("contextCSN: {}\n", csn(self.last));
        }
        text += "\n";
        let mark = |number: u64| match controller {
            true => format!("uSNChanged: {number}\n"),
            false => format!("entryCSN: {}\n", csn(number)),
        };
        let lasting = ["OU=People", "OU=Groups", "OU=Accounts"].map(|unit| (unit, 1));
        for (unit, changed) in
            lasting.into_iter().chain(self.units.values().map(|(unit, changed)| (unit.as_str(), *changed)))
        {
            text += &format!("dn: {unit},{TOP}\nobjectClass: organizationalUnit\n{}\n", mark(changed));
        }
        text += &format!(
            "dn: CN=svc,OU=Accounts,{TOP}\nobjectClass: top\ncn: svc\nuserPassword: botanical-garden-42\n\n"
        );
        for one in &self.entries {
            let class = match (one.id < 100, controller) {
                (true, _) => "person",
                (false, true) => "group",
                (false, false) => "groupOfNames",
            };
            let dn = self.dn(one.id).unwrap();
            text += &format!("dn: {dn}\nobjectClass: {class}\ncn: {}\n", one.name);
            if one.off {
                text += "employeeType: off\n";
            }
            if controller {
                let sid =
                    [&[1, 2, 0, 0, 0, 0, 0, 5][..], &7_u32.to_le_bytes(), &u32::from(one.id).to_le_bytes()];
                text += &format!(
                    "objectGUID:: {}\n",
                    STANDARD.encode([0, 0, 0, 0, 0, 0, 0, 0x40, 0x80, 0, 0, 0, 0, 0, 0, one.id])
                );
                text +=
                    &format!("objectSid:: {}\nuSNChanged: {}\n", STANDARD.encode(sid.concat()), one.changed);
                if one.id < 100 {
                    text += "userAccountControl: 512\nprimaryGroupID: 513\n";
                }
            } else {
                text += &format!("entryUUID: {}\nentryCSN: {}\n", identity(one.id), csn(one.changed));
            }
            if one.id > 100 && !controller {
                // No such group can be empty.
                text += &format!("member: CN=svc,OU=Accounts,{TOP}\n");
            }
            for member in &one.members {
                text += &self.dn(*member).map(|dn| format!("member: {dn}\n")).unwrap_or_default();
            }
            text += "\n";
        }
        text
    }
}

fn identity(id: u8) -> String {
    format!("00000000-0000-4000-8000-0000000000{id:02x}")
}

/// One reading during which the directory changes.
async fn race(dice: &mut Dice, manner: Manner, strategy: &str, tells_changes: bool) -> Result<(), String> {
    let mut state = State::begin(dice);
    let mut states = vec![state.clone()];
    let mut moments = Vec::new();
    let mut touched: Vec<u8> = Vec::new();
    let mut after = 0;
    // Few changes, or one at nearly every request.
    let (changes, apart) = dice.pick(&[(4, 12), (30, 3)]);
    for _ in 0..dice.roll(changes) + 1 {
        after += dice.roll(apart) + 1;
        touched.push(state.change(dice));
        let ldif = state.ldif(manner, tells_changes);
        moments.push((after, Arc::new(Directory::with_manner(ldif.as_bytes(), manner).unwrap())));
        states.push(state.clone());
    }
    let first = Directory::with_manner(states[0].ldif(manner, tells_changes).as_bytes(), manner).unwrap();
    let museum = Museum::of(&Arc::new(first), Options { moments, ..Options::default() }).await;
    let settings = SETTINGS.replace("URL", &museum.standin().url()).replace("STRATEGY", strategy);
    museum.write("webtaxon.toml", settings);
    let had: BTreeSet<u8> = states[0].selected().into_iter().filter(|_| dice.roll(10) < 7).collect();
    let rows: String = had.iter().map(|id| format!("p{id},{},active,reader\n", identity(*id))).collect();
    museum.write("accounts.csv", format!("login,link,state,roles\n{rows}"));
    let preview = museum.preview().await.map_err(|error| error.to_string())?;
    let all: Vec<BTreeSet<u8>> = states.iter().map(State::selected).collect();
    for id in 1..=12_u8 {
        let link = identity(id);
        let change =
            preview.changes.iter().find(|one| one.link.as_ref().is_some_and(|own| own.as_str() == link));
        let kind = change.map(|change| change.kind());
        let leaves = matches!(kind, Some(ChangeKind::Suspend | ChangeKind::Remove));
        let comes = matches!(kind, Some(ChangeKind::Import | ChangeKind::Restore | ChangeKind::Adopt));
        let is_of_role = |(field, value): (&String, &FieldChange)| field == "roles" && value.new.is_none();
        let loses = change.is_some_and(|change| change.fields.iter().any(is_of_role));
        if (leaves || loses) && all.iter().all(|selected| selected.contains(&id)) {
            return Err(format!("p{id} was selected throughout, and leaves or loses a role: {change:?}"));
        }
        if comes && all.iter().all(|selected| !selected.contains(&id)) {
            return Err(format!(
                "p{id} was never selected, and comes in: {:?}",
                change.map(|one| &one.action)
            ));
        }
    }
    if touched.iter().all(|id| *id == 0) && !preview.is_whole() {
        return Err(format!("nothing changed, and it is not whole: {:?}", preview.gaps));
    }
    Ok(())
}

async fn races(manner: Manner, strategies: &[&str], tells_changes: bool, times: usize) {
    for seed in 0..times {
        let mut dice = Dice(seed as u64 * 7919 + 104_729 + u64::from(tells_changes));
        dice.roll(2);
        let strategy = strategies[seed % strategies.len()];
        let raced = race(&mut dice, manner, strategy, tells_changes).await;
        assert!(raced.is_ok(), "seed {seed}, {manner:?}, {strategy}: {}", raced.unwrap_err());
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn at_a_domain_controller_nobody_leaves_who_was_a_member_throughout() {
    races(Manner::Controller, &["downwards", "sweep", "upwards", "chain", "tokens"], true, 120).await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn at_a_server_that_tells_changes_nobody_leaves_who_was_a_member_throughout() {
    races(Manner::Plain, &["downwards", "sweep"], true, 80).await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn at_a_server_that_tells_none_nobody_leaves_who_was_a_member_throughout() {
    races(Manner::Dirsrv, &["downwards", "sweep"], false, 80).await;
}

/// Who is renamed may be in a list by the former name for a moment, where the server, or somebody, changes it later.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn whoever_was_just_renamed_stays_while_a_list_names_nobody() {
    let now = Timestamp::now().strftime("%Y%m%d%H%M%SZ").to_string();
    let long_ago = "20261001000000Z";
    for (listed, created, modified, deleted, held) in [
        ("was-p1", long_ago, now.as_str(), false, true),
        ("was-p1", long_ago, long_ago, false, false),
        ("was-p1", &now, &now, false, false),
        ("was-p1", long_ago, &now, true, false),
        ("p3", long_ago, &now, false, false),
    ] {
        let mut state = State::begin(&mut Dice(7));
        state.entries.retain(|one| one.id <= 3 || one.id == 101 || one.id == 102);
        for one in &mut state.entries {
            one.place = if one.id <= 3 { PLACES[0] } else { one.place };
            one.members = if one.id == 101 { [2, 3].into() } else { BTreeSet::new() };
        }
        let times = format!("cn: p1\ncreateTimestamp: {created}\nmodifyTimestamp: {modified}\n");
        let name = format!("CN={listed},OU=A,OU=People,{TOP}");
        let ldif = state.ldif(Manner::Plain, false).replace("cn: p1\n", &times);
        let ldif = ldif.replace("cn: Users\n", &format!("cn: Users\nmember: {name}\n"));
        let directory = Arc::new(Directory::with_manner(ldif.as_bytes(), Manner::Plain).unwrap());
        let museum = Museum::of(&directory, Options::default()).await;
        let deleted = if deleted {
            format!("deleted = [\"{name}\"]\n[intake.fields]")
        } else {
            "[intake.fields]".into()
        };
        let settings = SETTINGS.replace("URL", &museum.standin().url()).replace("[intake.fields]", &deleted);
        museum.write("webtaxon.toml", settings.replace("STRATEGY", "lists"));
        let rows: String = (1..=3).map(|id| format!("p{id},{},active,reader\n", identity(id))).collect();
        museum.write("accounts.csv", format!("login,link,state,roles\n{rows}"));
        let preview = museum.preview().await.unwrap();
        let kinds: Vec<ChangeKind> = preview.changes.iter().map(|one| one.kind()).collect();
        let reasons: Vec<HeldReason> = preview.held.iter().map(|one| one.reason).collect();
        let expected =
            if held { (vec![], vec![HeldReason::Moving]) } else { (vec![ChangeKind::Suspend], vec![]) };
        assert_eq!((kinds, reasons), expected, "{listed} {created} {modified}: {:?}", preview.gaps);
    }
}

/// A person whose name changes with every search keeps the account, as do all people of such a unit; the others come in.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_person_who_never_stops_moving_is_held_and_the_others_come_in() {
    for (manner, strategy, reason) in [
        (Manner::Controller, "downwards", HeldReason::Moving),
        // The newest names are in lists already, and nowhere: a gap.
        (Manner::Dirsrv, "sweep", HeldReason::NotWhole),
    ] {
        for unit in [false, true] {
            let mut state = State::begin(&mut Dice(7));
            for one in &mut state.entries {
                match one.id {
                    101 => one.members = (1..=12).collect(),
                    102.. => one.members.clear(),
                    _ => one.place = if one.id <= 4 { PLACES[0] } else { PLACES[1] },
                }
            }
            let first = Directory::with_manner(state.ldif(manner, true).as_bytes(), manner).unwrap();
            let mut moments = Vec::new();
            for searches in 1..300 {
                state.last += 1;
                let now = state.last;
                if unit {
                    state.units.insert(PLACES[0], (format!("OU=unit-{now},OU=People"), now));
                } else {
                    let one = state.entries.iter_mut().find(|one| one.id == 1).unwrap();
                    (one.name, one.changed) = (format!("p1-{now}"), now);
                }
                let later = Directory::with_manner(state.ldif(manner, true).as_bytes(), manner).unwrap();
                moments.push((searches, Arc::new(later)));
            }
            let museum = Museum::of(&Arc::new(first), Options { moments, ..Options::default() }).await;
            let settings = SETTINGS.replace("URL", &museum.standin().url()).replace("STRATEGY", strategy);
            museum.write("webtaxon.toml", settings);
            let moving = if unit { 1..=4 } else { 1..=1 };
            let rows: String = moving.clone().map(|id| format!("p{id},{},active,\n", identity(id))).collect();
            museum.write("accounts.csv", format!("login,link,state,roles\n{rows}"));
            let preview = museum.preview().await.unwrap();
            let reason = if unit { HeldReason::NotWhole } else { reason };
            let is_told = |one: &&Held| one.reason == reason;
            let held: Vec<&str> = preview.held.iter().filter(is_told).map(|one| one.login.as_str()).collect();
            let all: Vec<String> = moving.map(|id| format!("p{id}")).collect();
            assert_eq!(held, all, "{manner:?}, {unit}: {:?} {:?}", preview.gaps, preview.held);
            let kinds = preview.changes.iter().map(|one| one.kind());
            // The unit may hold excluding groups, as far as the marks tell.
            let comes = if unit { 0 } else { 12 - all.len() };
            assert_eq!(kinds.collect::<Vec<_>>(), vec![ChangeKind::Import; comes], "{manner:?}, {unit}");
        }
    }
}

/// More than a page of people change between two requests, whichever these are.
#[tokio::test]
async fn everybody_who_gets_another_name_at_once_stays() {
    for manner in [Manner::Controller, Manner::Plain] {
        for searches in 1..25 {
            let mut state = State::begin(&mut Dice(7));
            for one in &mut state.entries {
                match one.id {
                    101 => one.members = (1..=12).collect(),
                    102.. => one.members.clear(),
                    _ => {}
                }
            }
            let rows: String = (1..=12).map(|id| format!("p{id},{},active,\n", identity(id))).collect();
            let first = Directory::with_manner(state.ldif(manner, true).as_bytes(), manner).unwrap();
            state.last += 1;
            for one in state.entries.iter_mut().filter(|one| one.id <= 12) {
                (one.name, one.changed) = (format!("{}-new", one.name), state.last);
            }
            let later = Directory::with_manner(state.ldif(manner, true).as_bytes(), manner).unwrap();
            let options = Options { moments: vec![(searches, Arc::new(later))], ..Options::default() };
            let museum = Museum::of(&Arc::new(first), options).await;
            let settings = SETTINGS.replace("URL", &museum.standin().url()).replace("STRATEGY", "downwards");
            museum.write("webtaxon.toml", settings);
            museum.write("accounts.csv", format!("login,link,state,roles\n{rows}"));
            let preview = museum.preview().await.unwrap();
            let leave = |kind| matches!(kind, ChangeKind::Suspend | ChangeKind::Remove);
            let left = preview.changes.iter().filter(|one| leave(one.kind())).count();
            assert_eq!((left, preview.held.len()), (0, 0), "{manner:?}, {searches}: {:?}", preview.held);
        }
    }
}
