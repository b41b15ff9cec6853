//! The application's groups: each kind of change from its own case, and the promises by laws.

use super::*;
use crate::account::{Group, Groups};
use crate::apply::{GroupEdit, Standing, group_standings, made_groups};
use std::collections::{BTreeMap, BTreeSet};

fn bringing(more: &str) -> Settings {
    let text = format!(
        "[directory.d]\nservers = \"ldaps://dc1\"\n[accounts]\nstore = \"csv\"\npath = \"a.csv\"\nprotected = [\"root\"]\n\
         [accounts.groups]\npath = \"g.csv\"\n[[intake]]\nname = \"staff\"\ndirectory = \"d\"\nbases = \"OU=People\"\n\
         filter = \"(objectClass=person)\"\nactive = \"(!(employeeType=off))\"\n\
         [intake.fields]\nlogin = {{ from = \"uid\" }}\nname = {{ from = \"cn\" }}\n\
         [intake.leaving]\ngone = {{ do = \"remove\" }}\n\
         [intake.application_groups]\nbases = \"OU=Groups\"\nfilter = \"(cn=*)\"\nname = {{ from = \"cn\" }}\n{more}"
    );
    Settings::parse("test", text.as_bytes()).unwrap()
}

/// A group of the directory: its id, its name, and its members by their ids.
type Team = (&'static str, String, Vec<String>);

fn team(id: &'static str, name: &str, members: &[&str]) -> Team {
    (id, name.to_owned(), members.iter().map(|member| (*member).to_owned()).collect())
}

/// People and groups as they are read; `whole` says whether to the end.
fn read_teams(
    settings: &Settings,
    people: &[Person],
    teams: &[Team],
    absent: &[&str],
    whole: bool,
) -> Reading {
    read_more(settings, people, teams, (absent, &[]), whole)
}

/// The same with people who are outside of what is read.
fn read_more(
    settings: &Settings,
    people: &[Person],
    teams: &[Team],
    (absent, outside): (&[&str], &[&str]),
    whole: bool,
) -> Reading {
    let mut builder = ReadingBuilder::new(Source { identity: "entryUUID".into(), ..Source::default() });
    let part = builder.open(Part::People { base: dn("OU=People") });
    for one in people {
        let off = if one.off { "off" } else { "" };
        let values =
            [("entryUUID", one.id.as_str()), ("uid", &one.uid), ("cn", &one.name), ("employeeType", off)];
        let values = values.into_iter().filter(|(_, value)| !value.is_empty());
        let name = format!("CN={},OU=People", one.id);
        builder.person(&name, values.map(|(name, value)| (name, [value.as_bytes()]))).unwrap();
    }
    builder.close(part, Ended::Complete);
    let part = builder.open(Part::ApplicationGroups { base: dn("OU=Groups") });
    let of = |id: &str| match teams.iter().any(|(known, ..)| *known == id) {
        true => format!("CN={id},OU=Groups"),
        false => format!("CN={id},OU=People"),
    };
    for (id, name, _) in teams {
        let values = [("entryUUID", *id), ("cn", name.as_str())];
        let values = values.into_iter().filter(|(_, value)| !value.is_empty());
        builder.application_group(&of(id), values.map(|(name, value)| (name, [value.as_bytes()]))).unwrap();
    }
    let (attribute, hidden) = builder.identify_groups();
    assert_eq!((attribute.as_str(), hidden), ("entryUUID", 0));
    builder.close(part, Ended::Complete);
    for (id, _, members) in teams {
        let part = builder.open_group(&dn(&of(id)), GroupPurpose::Import);
        let members: Vec<String> = members.iter().map(|member| of(member)).collect();
        let members = members.iter().map(|name| (dn(name).key(), name.as_str()));
        builder.graph_mut().add_group(dn(&of(id)).key(), &of(id), members);
        builder.close(part, if whole { Ended::Complete } else { Ended::Short("cut".into()) });
    }
    let people = absent.iter().chain(outside).filter_map(|id| Identity::from_link(id)).collect();
    let part = builder.open(Part::Lookup { people });
    for id in outside {
        builder.found(Identity::from_link(id).unwrap(), &of(id), [("uid", [id.as_bytes()])]).unwrap();
    }
    builder.close(part, if whole { Ended::Complete } else { Ended::Short("cut".into()) });
    builder.finish_shown(&Request::of(&settings.intakes.first))
}

fn group(name: &str, link: &str, members: &[&str]) -> Group {
    let members = members.iter().map(|login| (*login).to_owned()).collect();
    Group { name: name.to_owned(), link: Identity::from_link(link), members, ..Group::default() }
}

fn plan(
    settings: &Settings,
    reading: &Reading,
    accounts: &[Account],
    groups: &[Group],
    by_login: bool,
) -> Preview {
    let groups = Groups { list: groups.to_vec(), by_login };
    Preview::of(Situation::new(settings, reading, accounts, &today()).with_groups(Some(&groups)))
}

/// Each change as words: kind, name, who comes and who leaves; then what was held.
fn told(preview: &Preview) -> Vec<String> {
    let groups = preview.groups.as_ref().unwrap();
    let change = |one: &GroupChange| {
        let come = one.come.iter().map(|login| format!(" +{login}"));
        let leave = one.leave.iter().map(|login| format!(" -{login}"));
        let new = one.relabelled.iter().map(|[old, new]| format!(" {old}>{new}"));
        let name = one.new_name.as_ref().map(|name| format!(" >{name}"));
        let rest: String = name.into_iter().chain(come).chain(leave).chain(new).collect();
        format!("{} {}{rest}", one.kind.name(), one.name)
    };
    let held = groups.held.iter().map(|one| format!("held {}", one.name));
    groups.changes.iter().map(change).chain(held).collect()
}

#[test]
fn each_kind_of_change_of_a_group_comes_from_its_own_case() {
    let off = |id| Person { off: true, ..person(id) };
    let suspended = |id| Account { state: State::Suspended, ..account(id) };
    let renamed = |id: &str, uid: &str| Person { uid: uid.into(), ..person(id) };
    type Row = (Vec<Person>, Vec<Team>, Vec<Account>, Vec<Group>, &'static [&'static str], &'static str);
    let rows: [Row; 19] = [
        (
            vec![person("ada")],
            vec![team("g", "Botany", &["ada"])],
            vec![],
            vec![],
            &["import group Botany +ada"],
            "with somebody who comes in now",
        ),
        (
            vec![person("ada")],
            vec![team("g", "Botany", &[])],
            vec![],
            vec![],
            &["import group Botany"],
            "an empty one",
        ),
        (
            vec![person("ada"), person("ben")],
            vec![team("g", "Botany", &["h"]), team("h", "Moss", &["ada", "g"])],
            vec![account("ada")],
            vec![group("Botany", "g", &[]), group("Moss", "h", &[])],
            &["update members Botany +ada", "update members Moss +ada"],
            "in each other",
        ),
        (
            vec![person("ada")],
            vec![team("g", "Botany", &["ada"])],
            vec![account("ada")],
            vec![group("Botany", "g", &["ADA"])],
            &[],
            "as it should be, in any case",
        ),
        (
            vec![person("ada")],
            vec![team("g", "Botany", &["ada"])],
            vec![account("ada")],
            vec![group("Plants", "g", &["ada"])],
            &["rename group Plants >Botany"],
            "found by its link",
        ),
        (
            vec![person("ada")],
            vec![team("g", "Botany", &[])],
            vec![account("ada")],
            vec![group("Botany", "g", &["ada"])],
            &["update members Botany -ada"],
            "no member any more",
        ),
        (
            vec![person("ada")],
            vec![team("g", "Botany", &[])],
            vec![account("ada"), by_hand("kiosk"), account("root")],
            vec![group("Botany", "g", &["kiosk", "root", "ghost"])],
            &[],
            "put there by hand",
        ),
        (
            vec![person("root")],
            vec![team("g", "Botany", &["root"])],
            vec![account("root")],
            vec![group("Botany", "g", &[])],
            &[],
            "protected, and left out by hand",
        ),
        (
            vec![off("ada")],
            vec![team("g", "Botany", &["ada"])],
            vec![suspended("ada")],
            vec![group("Botany", "g", &["ada"])],
            &[],
            "suspended, and still a member",
        ),
        (
            vec![off("ada")],
            vec![team("g", "Botany", &["ada"])],
            vec![account("ada")],
            vec![group("Botany", "g", &[])],
            &[],
            "nobody comes in while being suspended",
        ),
        (
            vec![person("ben")],
            vec![team("g", "Botany", &[])],
            vec![account("ada")],
            vec![group("Botany", "g", &["ada"])],
            &["update members Botany -ada"],
            "leaves with the account",
        ),
        (
            vec![renamed("ada", "ada2")],
            vec![team("g", "Botany", &["ada"])],
            vec![account("ada")],
            vec![group("Botany", "g", &["ada"])],
            &["update members Botany ada>ada2"],
            "listed under the new login",
        ),
        (
            vec![person("ada")],
            vec![team("g", "Botany", &["ada"])],
            vec![account("ada")],
            vec![group("botany", "", &["kiosk"])],
            &["held Botany"],
            "made by hand",
        ),
        (
            vec![person("ada")],
            vec![team("g", "Botany", &["ada"])],
            vec![account("ada")],
            vec![group("Botany", "x", &[])],
            &["remove group Botany", "held Botany"],
            "another's name, for this once",
        ),
        (
            vec![],
            vec![team("g", "Botany", &[]), team("h", "BOTANY", &[])],
            vec![],
            vec![],
            &["held BOTANY", "held Botany"],
            "two of one name",
        ),
        (vec![], vec![team("g", "", &[])], vec![], vec![], &["held g"], "without a name"),
        (
            vec![],
            vec![team("g", "", &[])],
            vec![],
            vec![group("Botany", "g", &[])],
            &[],
            "a name that is not known any more stays",
        ),
        (
            vec![person("ada")],
            vec![team("h", "Moss", &[])],
            vec![account("ada")],
            vec![group("Botany", "g", &["ada"]), group("Night", "", &["ada"])],
            &["import group Moss", "remove group Botany -ada"],
            "gone; by hand stays",
        ),
        (
            vec![person("ada")],
            vec![],
            vec![account("ada")],
            vec![group("Botany", "g", &["ada"])],
            &["held Botany"],
            "no group is found at all",
        ),
    ];
    let settings = bringing("gone = \"remove\"");
    for (people, teams, accounts, groups, expected, why) in rows {
        let reading = read_teams(&settings, &people, &teams, &["ada"], true);
        assert_eq!(told(&plan(&settings, &reading, &accounts, &groups, true)), expected, "{why}");
    }
}

#[test]
fn the_settings_say_who_is_a_member_and_what_becomes_of_a_group() {
    let people = [person("ada"), person("ben")];
    let teams = [team("g", "Botany", &["ada", "h"]), team("h", "Moss", &["ben"])];
    let accounts = [account("ada"), account("ben")];
    let gone = group("Ferns", "f", &["ada"]);
    let by_hand = group("botany", "", &["ben"]);
    for (more, groups, expected, why) in [
        ("", vec![], &["import group Botany +ada +ben", "import group Moss +ben"][..], "flattened"),
        ("members = \"direct\"", vec![], &["import group Botany +ada", "import group Moss +ben"], "direct"),
        (
            "",
            vec![gone.clone()],
            &["import group Botany +ada +ben", "import group Moss +ben", "held Ferns"],
            "kept",
        ),
        (
            "adopt = \"same-name\"",
            vec![by_hand],
            &["import group Moss +ben", "adopt group botany +ada"],
            "adopted",
        ),
    ] {
        let settings = bringing(more);
        let reading = read_teams(&settings, &people, &teams, &[], true);
        assert_eq!(told(&plan(&settings, &reading, &accounts, &groups, false)), expected, "{why}");
    }
    let settings = bringing("gone = \"remove\"\n[brakes]\nmemberships = \"40%\"");
    let reading = read_teams(&settings, &people, &teams, &[], true);
    let full = group("Botany", "g", &["ada", "ben"]);
    let brakes = |groups: &[Group]| {
        let preview = plan(&settings, &reading, &accounts, groups, false);
        preview
            .brakes
            .iter()
            .map(|brake| (brake.kind.to_string(), brake.figure, brake.limit))
            .collect::<Vec<_>>()
    };
    assert_eq!(brakes(&[gone.clone(), full]), [], "one place of three may go, and does");
    assert_eq!(brakes(&[gone]), [("memberships".to_owned(), 1, 0)], "the only one there is");
}

/// Somebody whom the filter does not find any more, and whose account is suspended: still a member of the one group
/// of the directory, and of the other not.
#[test]
fn whoever_is_outside_of_what_is_read_stays_where_they_are() {
    for more in ["members = \"flattened\"", "members = \"direct\""] {
        let settings = bringing(more);
        let teams = [team("g", "Botany", &["ada"]), team("h", "Moss", &[])];
        let reading = read_more(&settings, &[], &teams, (&[], &["ada"]), true);
        let accounts = [Account { state: State::Suspended, ..account("ada") }];
        let groups = [group("Botany", "g", &["ada"]), group("Moss", "h", &["ada"])];
        let preview = plan(&settings, &reading, &accounts, &groups, false);
        assert_eq!(told(&preview), ["update members Moss -ada"], "{more}");
    }
}

#[test]
fn a_member_of_two_intakes_counts_for_the_group_of_either() {
    let mut settings = bringing("gone = \"remove\"");
    let mut second = settings.intakes.first.clone();
    second.name = "guests".into();
    second.application_groups = None;
    settings.intakes.further.push(second);
    let teams = [team("g", "Botany", &["ada", "ben"])];
    let one = read_teams(&settings, &[person("ada")], &teams, &[], true);
    let two = read_teams(&settings, &[person("ben")], &teams, &[], true);
    let accounts = [account("ada"), account("ben")];
    let groups = Groups { list: vec![group("Botany", "g", &["ben"])], by_login: false };
    let preview =
        Preview::of(Situation::new(&settings, &[one, two], &accounts, &today()).with_groups(Some(&groups)));
    assert_eq!(told(&preview), ["update members Botany +ada"]);
}

/// Of two intakes that bring groups, one finds none any more: whose the group was, nobody knows, and it stays.
#[test]
fn an_intake_that_finds_no_group_removes_none() {
    let mut settings = bringing("gone = \"remove\"");
    let second = crate::settings::Intake { name: "guests".into(), ..settings.intakes.first.clone() };
    settings.intakes.further.push(second);
    let groups = Groups { list: vec![group("Moss", "h", &["ada"])], by_login: false };
    let some = || read_teams(&settings, &[person("ada")], &[team("g", "Botany", &[])], &[], true);
    let none = || read_teams(&settings, &[person("ada")], &[], &[], true);
    for (readings, expected) in [
        ([some(), none()], &["import group Botany", "held Moss"][..]),
        ([some(), some()], &["import group Botany", "remove group Moss -ada"]),
    ] {
        let preview = Preview::of(
            Situation::new(&settings, &readings, &[account("ada")], &today()).with_groups(Some(&groups)),
        );
        assert_eq!(told(&preview), expected);
    }
}

/// Carries a preview out, accounts and groups, in the order in which an apply does.
fn carried_out(preview: &Preview, accounts: &[Account], groups: &[Group]) -> (Vec<Account>, Vec<Group>) {
    let own = |change: &Change| accounts.iter().find(|one| one.login == change.login);
    let edits: Vec<Edit> = preview.changes.iter().filter_map(|one| Edit::of(one, own(one))).collect();
    let steps = preview.groups.iter().flat_map(|groups| &groups.changes).map(crate::apply::GroupEdit::of);
    let (first, last): (Vec<_>, Vec<_>) = steps.map(|[first, last]| (first, last)).unzip();
    let make = |edits: Vec<Option<GroupEdit>>, groups: &[Group]| {
        let edits: Vec<GroupEdit> = edits.into_iter().flatten().collect();
        let standings = group_standings(&edits, groups);
        assert!(standings.iter().all(Standing::is_ready), "{edits:?} {standings:?} {groups:?}");
        let made = made_groups(&edits, &standings, groups);
        let again = group_standings(&edits, &made);
        assert!(again.iter().all(|one| *one == Standing::Made), "{edits:?} {again:?} {made:?}");
        let back: Vec<GroupEdit> = edits.iter().rev().map(GroupEdit::back).collect();
        let undone = made_groups(&back, &group_standings(&back, &made), &made);
        assert_eq!(sets(&undone), sets(groups), "{edits:?}");
        made
    };
    let groups = make(first, groups);
    let accounts = Plan::of(&edits, accounts, &["email"]).made();
    (accounts, make(last, &groups))
}

/// Groups by their names, with their links and members.
fn sets(groups: &[Group]) -> BTreeMap<String, (Option<Identity>, BTreeSet<String>)> {
    let set = |group: &Group| group.members.iter().map(|login| login.to_lowercase()).collect();
    groups.iter().map(|group| (group.name.clone(), (group.link.clone(), set(group)))).collect()
}

const IDS: [&str; 5] = ["ada", "ben", "cyd", "dee", "root"];
const TEAMS: [&str; 4] = ["g0", "g1", "g2", "g3"];

prop_compose! {
    fn any_people()(of in prop::collection::vec((any::<bool>(), any::<bool>(), any::<bool>()), 5)) -> Vec<Person> {
        let one = |(id, (there, off, renamed)): (&&str, (bool, bool, bool))| {
            let uid = if renamed { format!("{id}2") } else { (*id).to_owned() };
            there.then(|| Person { off, uid, ..person(id) })
        };
        IDS.iter().zip(of).filter_map(one).collect()
    }
}

prop_compose! {
    fn any_teams()(of in prop::collection::vec((any::<bool>(), 0..5_u8, any::<u16>()), 4)) -> Vec<Team> {
        let one = |(id, (there, name, members)): (&&'static str, (bool, u8, u16))| {
            let all = IDS.iter().chain(&TEAMS).enumerate();
            let members: Vec<&str> = all.filter(|(at, _)| members >> at & 1 == 1).map(|(_, id)| *id).collect();
            there.then(|| team(id, &format!("Team {name}"), &members))
        };
        TEAMS.iter().zip(of).filter_map(one).collect()
    }
}

prop_compose! {
    fn any_groups()(of in prop::collection::vec((any::<bool>(), 0..6_u8, any::<u16>()), 6)) -> Vec<Group> {
        let logins = ["ada", "ben", "cyd2", "dee", "root", "kiosk", "ghost"];
        let links = ["g0", "g1", "g2", "gone", "", ""];
        let mut names = BTreeSet::new();
        let one = |(link, (there, name, members)): (&&str, (bool, u8, u16))| {
            let members: Vec<&str> =
                logins.iter().enumerate().filter(|(at, _)| members >> at & 1 == 1).map(|(_, login)| *login).collect();
            let is_new = there && names.insert(name);
            is_new.then(|| group(&format!("Team {name}"), link, &members))
        };
        links.iter().zip(of).filter_map(one).collect()
    }
}

prop_compose! {
    fn any_accounts()(of in prop::collection::vec((any::<bool>(), any::<bool>()), 5)) -> Vec<Account> {
        let one = |(id, (there, suspended)): (&&str, (bool, bool))| {
            let state = if suspended { State::Suspended } else { State::Active };
            there.then(|| Account { state, ..account(id) })
        };
        IDS.iter().zip(of).filter_map(one).chain([by_hand("kiosk")]).collect()
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(600))]

    /// Carrying it out and looking again finds nothing to do; what is somebody else's stays as it was.
    #[test]
    fn what_was_shown_is_all_that_was_to_do(
        people in any_people(), teams in any_teams(), accounts in any_accounts(), groups in any_groups(),
        by_login: bool, direct: bool, adopt: bool, removes: bool, whole: bool,
    ) {
        let more = format!(
            "members = \"{}\"\nadopt = \"{}\"\ngone = \"{}\"",
            if direct { "direct" } else { "flattened" },
            if adopt { "same-name" } else { "never" },
            if removes { "remove" } else { "keep" },
        );
        let settings = bringing(&more);
        let reading = read_teams(&settings, &people, &teams, &IDS, whole);
        let preview = plan(&settings, &reading, &accounts, &groups, by_login);
        let (after, made) = carried_out(&preview, &accounts, &groups);
        let (before, now) = (sets(&groups), sets(&made));
        for (name, (link, members)) in before.iter().filter(|(_, (link, _))| link.is_none()) {
            let adopted = now.get(name).is_some_and(|(link, _)| link.is_some());
            prop_assert!(now.get(name) == Some(&(link.clone(), members.clone())) || (adopt && adopted), "by hand: {name}");
        }
        let by_link = |sets: &BTreeMap<String, (Option<Identity>, BTreeSet<String>)>| -> BTreeMap<Identity, BTreeSet<String>> {
            sets.values().filter_map(|(link, members)| Some((link.clone()?, members.clone()))).collect()
        };
        for (link, members) in by_link(&before) {
            let Some(later) = by_link(&now).remove(&link) else {
                prop_assert!(whole && removes && !teams.is_empty() && !teams.iter().any(|(id, ..)| Some(&link) == Identity::from_link(id).as_ref()));
                continue;
            };
            for login in ["kiosk", "root", "ghost"] {
                let is_theirs = login != "root" || accounts.iter().any(|one| one.login == "root");
                prop_assert!(!is_theirs || members.contains(login) == later.contains(login), "{login}");
            }
            // Whoever is there under one of two logins is the same.
            let has = |set: &BTreeSet<String>, id: &str| set.contains(id) || set.contains(&format!("{id}2"));
            for id in IDS.iter().filter(|_| !whole) {
                prop_assert!(!members.contains(*id) || has(&later, id), "half a reading took {id} out");
            }
        }
        // A list by logins has them as they are now; another one follows by itself.
        let follow = |group: Group| {
            let new = |login: &String| {
                let id = accounts.iter().find(|one| one.login == *login)?.link.clone()?;
                Some(after.iter().find(|one| one.link.as_ref() == Some(&id))?.login.clone())
            };
            let members = group.members.iter().map(|login| new(login).unwrap_or_else(|| login.clone()));
            Group { members: members.collect::<BTreeSet<_>>().into_iter().collect(), ..group.clone() }
        };
        let made: Vec<Group> = made.into_iter().map(|group| if by_login { group } else { follow(group) }).collect();
        let again = plan(&settings, &reading, &after, &made, by_login);
        let left = &again.groups.as_ref().unwrap().changes;
        // A name that somebody left is free only for the next time.
        let waits = |change: &&GroupChange| !matches!(change.kind, GroupChangeKind::Import | GroupChangeKind::Rename | GroupChangeKind::Adopt);
        prop_assert!(left.iter().filter(waits).count() == 0 && again.changes.iter().all(|one| one.kind() == ChangeKind::Clash), "{:?}", told(&again));
    }
}
