//! One group as a person looks at it: members, tree, outline, what is broken, every path.

use super::*;
use crate::graph::{Above, Graph, GroupPath, LONGEST_PATH, NodeId};
use crate::ldap::name::{Dn, DnKey, short};
use crate::reading::{Reading, ReadingBuilder, Request, Source};
use crate::settings::Intake;
use proptest::prelude::*;

fn key(name: &str) -> DnKey {
    Dn::parse(&format!("CN={name},DC=x")).unwrap().key()
}

/// The museum's kinds of trouble in one small nest.
fn troubled() -> Reading {
    let mut builder = ReadingBuilder::new(Source::default());
    for (name, called) in [("ada", "Ada"), ("ben", "Ben"), ("cleo", "cleo"), ("dora", "Dora")] {
        builder.person(&format!("CN={name},DC=x"), [("displayName", [called.as_bytes()])]).unwrap();
    }
    let graph = builder.graph_mut();
    for (group, members) in [
        ("users", &["staff", "ada", "gone", "guest", "empty"][..]),
        ("staff", &["ben", "north"]),
        ("north", &["coast", "ada"]),
        ("coast", &["staff", "cleo"]),
        ("empty", &[]),
        ("self", &["self", "dora"]),
        (
            "wide",
            &["S-1-5-11,CN=ForeignSecurityPrincipals", "S-1-5-21-7-8-9-1104,CN=ForeignSecurityPrincipals"],
        ),
    ] {
        let members: Vec<(DnKey, String)> =
            members.iter().map(|name| (key(name), format!("CN={name},DC=x"))).collect();
        let members = members.iter().map(|(key, dn)| (key.clone(), dn.as_str()));
        graph.add_group(key(group), &format!("CN={group},DC=x"), members);
    }
    graph.mark_gone(graph.find(&key("gone")).unwrap());
    // Whom it stands for is known by its name, whether its entry can be seen or not.
    graph.mark_gone(graph.find(&key("S-1-5-11,CN=ForeignSecurityPrincipals")).unwrap());
    let (coast, cleo) = (graph.find(&key("coast")).unwrap(), graph.find(&key("cleo")).unwrap());
    graph.mark_unlisted(coast, cleo);
    builder.finish_shown(&Request::of(&Intake::for_tests()))
}

#[test]
fn a_nest_tells_who_is_in_and_how() {
    let reading = troubled();
    let nest = Nest::of(&reading, &key("users")).unwrap();
    let told: Vec<(String, usize, bool)> =
        nest.people().into_iter().map(|member| (member.name, member.path.len(), member.unlisted)).collect();
    let expected = [("Ada", 1, false), ("Ben", 2, false), ("cleo", 4, true)];
    assert_eq!(told, expected.map(|(name, depth, unlisted)| (name.to_owned(), depth, unlisted)));
    assert_eq!((nest.group(), nest.inner_groups()), ("CN=users,DC=x", 4));
    assert!(Nest::of(&reading, &key("ada")).is_none() && Nest::of(&reading, &key("nobody")).is_none());
}

#[test]
fn a_tree_shows_each_group_once() {
    let reading = troubled();
    let tree = Nest::of(&reading, &key("users")).unwrap().tree();
    let told: Vec<(String, usize, usize, usize, Place)> = tree
        .into_iter()
        .map(|branch| (short(&branch.dn), branch.depth, branch.direct, branch.people, branch.place))
        .collect();
    let expected = [
        ("users", 0, 1, 3, Place::Here),
        ("empty", 1, 0, 0, Place::Here),
        ("staff", 1, 1, 3, Place::Here),
        ("north", 2, 1, 3, Place::Here),
        ("coast", 3, 1, 3, Place::Here),
        ("staff", 4, 1, 3, Place::Cycle),
    ];
    let owned = |(dn, depth, direct, people, place): (&str, _, _, _, _)| {
        (dn.to_owned(), depth, direct, people, place)
    };
    assert_eq!(told, expected.map(owned));
}

#[test]
fn an_outline_has_each_group_once_behind_all_that_it_is_in() {
    let reading = troubled();
    let outline = Nest::of(&reading, &key("users")).unwrap().outline();
    let told: Vec<_> = outline
        .iter()
        .map(|one| (short(&one.dn), one.level, one.direct, one.people, one.in_cycle, one.inside.clone()))
        .collect();
    let expected = [
        ("users", 0, 1, 3, false, vec![1, 2]),
        ("empty", 1, 0, 0, false, vec![]),
        ("staff", 1, 1, 3, true, vec![3]),
        ("north", 2, 1, 3, true, vec![4]),
        ("coast", 3, 1, 3, true, vec![2]),
    ];
    assert_eq!(
        told,
        expected.map(|(dn, level, direct, people, cycle, inside)| (
            dn.to_owned(),
            level,
            direct,
            people,
            cycle,
            inside
        ))
    );
    assert_eq!((outline[0].gone, outline[0].outside, outline[4].unlisted), (1, 1, 1));
}

#[test]
fn what_is_broken_is_told_with_its_group() {
    let reading = troubled();
    let broken = Nest::of(&reading, &key("users")).unwrap().broken();
    let stray =
        |dn: &str, group: &str| Stray { dn: format!("CN={dn},DC=x"), group: format!("CN={group},DC=x") };
    let names = |list: &[&str]| list.iter().map(|name| format!("CN={name},DC=x")).collect::<Vec<_>>();
    let expected = Broken {
        cycles: vec![names(&["coast", "north", "staff"])],
        empty: names(&["empty"]),
        gone: vec![stray("gone", "users")],
        outside: vec![stray("guest", "users")],
        foreign: vec![],
        unlisted: vec![stray("cleo", "coast")],
    };
    assert_eq!(broken, expected);
    let alone = Nest::of(&reading, &key("self")).unwrap().broken();
    assert_eq!(alone.cycles, [names(&["self"])], "a group that lists itself");
    let wide = Nest::of(&reading, &key("wide")).unwrap().broken();
    let told: Vec<_> = wide.foreign.iter().map(|one| (one.sid.as_str(), one.called, one.unlisted)).collect();
    let expected = [("S-1-5-11", Some("Authenticated Users"), true), ("S-1-5-21-7-8-9-1104", None, false)];
    assert_eq!((told, wide.outside.len()), (expected.to_vec(), 0));
}

#[test]
fn all_groups_of_a_person_come_with_a_shortest_path() {
    let reading = troubled();
    let of = |name: &str| -> Vec<String> {
        let above = reading.graph().above(&key(name));
        let told = |one: &Above| {
            let path = one.path.told(short);
            format!("{}{}", path.join(" > "), if one.unlisted { "*" } else { "" })
        };
        above.iter().map(told).collect()
    };
    assert_eq!(of("ada"), ["north", "users", "staff > north", "coast > staff > north"]);
    assert_eq!(
        of("cleo"),
        ["coast*", "north > coast*", "staff > north > coast*", "users > staff > north > coast*"]
    );
    assert_eq!(of("dora"), ["self"]);
    assert_eq!(of("self"), ["self"], "a group that lists itself is in itself");
    assert!(of("nobody").is_empty());
}

#[test]
fn every_path_is_found_within_bounds() {
    let reading = troubled();
    let of = |root: &str, name: &str, most| {
        let (paths, all) = reading.graph().paths(&key(root), &key(name), most);
        let graph = reading.graph();
        let told =
            |path: &Vec<NodeId>| path.iter().map(|id| short(graph.dn(*id))).collect::<Vec<_>>().join(" > ");
        (paths.iter().map(told).collect::<Vec<_>>(), all)
    };
    let both = vec!["users".to_owned(), "users > staff > north".to_owned()];
    assert_eq!(of("users", "ada", 9), (both.clone(), true));
    assert_eq!(of("users", "ada", 2), (both.clone(), true));
    assert_eq!(of("users", "ada", 1), (both[..1].to_vec(), false), "there are more");
    assert_eq!(of("staff", "staff", 9).0, ["staff > north > coast"], "through a cycle, once around");
    assert_eq!(of("self", "self", 9).0, ["self"]);
    for (root, name) in [("users", "dora"), ("users", "nobody"), ("nobody", "ada"), ("ada", "ada")] {
        assert_eq!(of(root, name, 9), (vec![], true), "{name} in {root}");
    }
    // Every group holds every other: more paths than anybody could list.
    let names: Vec<String> = (0..40).map(|number| format!("g{number}")).collect();
    let mut dense = Graph::new();
    for name in &names {
        dense.add_group(key(name), name, names.iter().map(|name| (key(name), name.as_str())));
    }
    let (paths, all) = dense.paths(&key("g0"), &key("g39"), 100_000);
    assert!(!all && paths.len() > 100 && paths[0].len() == 1);
    let ways = Ways::of(&reading, &key("north"), &key("cleo"), 9);
    let path =
        GroupPath { groups: ["CN=north,DC=x", "CN=coast,DC=x"].map(str::to_owned).to_vec(), left_out: 0 };
    assert_eq!(ways, Ways { ways: vec![Way { path, unlisted: true }], all: true });
}

#[test]
fn a_chain_of_very_many_groups_is_told_in_bounds() {
    let count = 20_000;
    let mut builder = ReadingBuilder::new(Source::default());
    let dn = |kind: &str, number: usize| format!("CN={kind}{number},DC=x");
    for number in 0..count {
        builder.person(&dn("p", number), [("cn", [b"x".as_slice()])]).unwrap();
    }
    for number in 0..count {
        let members = [("p", number), ("g", number + 1)].map(|(kind, number)| dn(kind, number));
        let members = members.iter().map(|dn| (Dn::parse(dn).unwrap().key(), dn.as_str()));
        builder.graph_mut().add_group(key(&format!("g{number}")), &dn("g", number), members);
    }
    let reading = builder.finish_shown(&Request::of(&Intake::for_tests()));
    let nest = Nest::of(&reading, &key("g0")).unwrap();
    let people = nest.people();
    assert_eq!(people.len(), count);
    // The first, and as many of the last as there is room for, however it is asked.
    for depth in [1, LONGEST_PATH - 1, LONGEST_PATH, LONGEST_PATH + 1, LONGEST_PATH + 2, count] {
        let person = key(&format!("p{}", depth - 1));
        let rest = depth.saturating_sub(LONGEST_PATH - 1).max(1);
        let groups: Vec<String> = [0].into_iter().chain(rest..depth).map(|at| dn("g", at)).collect();
        let path = GroupPath { left_out: depth - groups.len(), groups };
        assert_eq!(path.groups.len(), depth.min(LONGEST_PATH), "{depth}");
        assert_eq!(people[depth - 1].path, path, "{depth}: among the members");
        let above = reading.graph().above(&person);
        assert_eq!(above.iter().find(|one| one.dn == dn("g", 0)).unwrap().path, path, "{depth}: upwards");
        let ways = Ways::of(&reading, &key("g0"), &person, 9);
        assert_eq!(ways.ways.iter().map(|way| &way.path).collect::<Vec<_>>(), [&path], "{depth}: every way");
    }
    let told = people[LONGEST_PATH].path.told(short);
    assert_eq!(told[..3], ["g0", "(1 group left out)", "g2"], "{told:?}");
    let tree = nest.tree();
    let counts = |at: usize| tree.get(at).map(|branch| (branch.depth, branch.people));
    assert_eq!((counts(0), counts(count - 1)), (Some((0, count)), Some((count - 1, 1))));
}

proptest! {
    /// What is shown, and every path, is the same whatever was read first.
    #[test]
    fn nothing_depends_on_the_order_of_reading(
        edges in proptest::collection::vec((0_usize..8, 0_usize..14), 0..60),
        order in Just((0_usize..14).collect::<Vec<_>>()).prop_shuffle(),
    ) {
        let name = |number: &usize| format!("CN=n{number},DC=x");
        let read = |order: &[usize]| {
            let mut builder = ReadingBuilder::new(Source::default());
            for number in order {
                match number {
                    8..12 => drop(builder.person(&name(number), [("cn", [&b"somebody"[..]])])),
                    0..8 => {
                        let listed = edges.iter().filter(|(from, _)| from == number).map(|(_, to)| to);
                        let listed: Vec<String> = order.iter().filter(|one| listed.clone().any(|to| to == *one)).map(name).collect();
                        let members: Vec<NodeId> = listed.iter().filter_map(|dn| builder.graph_mut().member(dn).ok()).collect();
                        let group = builder.graph_mut().node(key(&format!("n{number}")), &name(number));
                        builder.graph_mut().set_members(group, members);
                    }
                    _ => drop(builder.graph_mut().member(&name(number))),
                }
            }
            builder.finish_shown(&Request::of(&Intake::for_tests()))
        };
        let shown = |reading: &Reading| {
            let mut shown = Vec::new();
            for group in 0..8 {
                let nest = Nest::of(reading, &key(&format!("n{group}"))).unwrap();
                shown.push(format!("{:?}", (nest.people(), nest.tree(), nest.outline(), nest.broken())));
            }
            let groups = reading.graph().all_groups();
            let mut groups: Vec<_> = groups.map(|(dn, members)| format!("{dn}: {:?}", members.collect::<Vec<_>>())).collect();
            groups.sort_unstable();
            (shown, groups)
        };
        let (one, other) = (read(&(0..14).collect::<Vec<_>>()), read(&order));
        prop_assert_eq!(shown(&one), shown(&other));
        prop_assert!(one.graph().differences(other.graph(), &std::collections::HashMap::new()).is_empty());
    }
}
