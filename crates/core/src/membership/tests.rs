//! Reach and paths on small nests, and against the plainest way of doing it.

use super::*;
use crate::name::{Dn, short};
use crate::reading::{Reading, Source, Sweep};
use crate::settings::Intake;
use proptest::prelude::*;

fn key(name: &str) -> DnKey {
    Dn::parse(&format!("CN={name},DC=x")).unwrap().key()
}

fn graph(groups: &[(&str, &[&str])]) -> Graph {
    let mut graph = Graph::new();
    for (group, members) in groups {
        graph.add_group(key(group), group, members.iter().map(|member| (key(member), *member)));
    }
    graph
}

#[test]
fn nested_members_come_with_a_shortest_path() {
    let graph = graph(&[
        ("users", &["staff", "ada"]),
        ("staff", &["botany", "ben"]),
        ("botany", &["cleo", "ada", "staff"]),
        ("other", &["dora"]),
    ]);
    let reach = graph.reach([&key("users")]);
    for (person, path) in [
        ("ada", vec!["users"]),
        ("ben", vec!["users", "staff"]),
        ("cleo", vec!["users", "staff", "botany"]),
        ("dora", vec![]),
        ("nobody", vec![]),
    ] {
        assert_eq!(reach.path(&graph, &key(person)).groups, path, "{person}");
        assert_eq!(reach.contains(&graph, &key(person)), !path.is_empty(), "{person}");
    }
}

#[test]
fn cycles_end_and_a_root_inside_a_root_is_one() {
    let graph = graph(&[("a", &["b", "a"]), ("b", &["c"]), ("c", &["a", "ada"])]);
    let (a, c) = (key("a"), key("c"));
    let reach = graph.reach([&a]);
    assert_eq!(reach.path(&graph, &key("ada")).groups, ["a", "b", "c"]);
    assert_eq!(reach.path(&graph, &a).groups, ["a"], "a group that lists itself is in itself");
    let both = graph.reach([&a, &c]);
    assert_eq!(both.path(&graph, &key("ada")).groups, ["c"], "the nearer root");
    assert_eq!(both.len(), 4);
    assert!(graph.reach([&key("missing")]).is_empty());
}

#[test]
fn members_do_not_depend_on_the_order_of_reading() {
    let one = graph(&[("r", &["x", "y"]), ("x", &["p"]), ("y", &["p"])]);
    let other = graph(&[("y", &["p", "p"]), ("x", &["p"]), ("r", &["y", "x"])]);
    let root = key("r");
    for graph in [one, other] {
        assert_eq!(graph.reach([&root]).path(&graph, &key("p")).groups, ["r", "x"]);
        assert_eq!((graph.groups(), graph.is_group(&key("p"))), (3, false));
        let reach = graph.reach([&root]);
        assert_eq!(reach.leaves(&graph).map(|leaf| (leaf.dn, leaf.group)).collect::<Vec<_>>(), [("p", "x")]);
    }
}

#[test]
fn a_name_that_comes_again_in_any_writing_is_the_same_member() {
    let mut graph = Graph::new();
    let first = graph.member("CN=Ada,DC=x").unwrap();
    for (text, why) in
        [("CN=Ada,DC=x", "as it was"), ("cn=ada, dc=X", "otherwise"), ("cn=ada, dc=X", "and again")]
    {
        assert_eq!(graph.member(text), Ok(first), "{why}");
    }
    assert_ne!(graph.member("CN=Ben,DC=x").unwrap(), first);
    assert!(graph.member("Ada").is_err());
}

#[test]
fn members_read_together_are_those_read_one_by_one() {
    // Names of one length by the thousand, so that some are taken for one another until their texts are compared.
    let name = |number: usize, case: &str| format!("{case}={number:05},DC=x");
    let mut graph = Graph::new();
    let known: Vec<NodeId> = (0..5_000).map(|number| graph.member(&name(number, "CN")).unwrap()).collect();
    let texts: Vec<String> = (0..10_000).map(|number| name(number, "CN")).collect();
    let texts: Vec<&str> = texts
        .iter()
        .map(String::as_str)
        .chain(["no name", "cn=00007,DC=x", "CN=new,DC=x", "cn=new,dc=X"])
        .collect();
    let found: Vec<Option<NodeId>> = graph.all_members(&texts).collect();
    for (text, found) in texts.iter().zip(&found) {
        let key = Dn::parse(text).ok().map(|dn| dn.key());
        assert_eq!(found.and_then(|id| graph.key(id)), key.as_ref(), "{text}");
        assert_eq!(*found, graph.member(text).ok(), "{text}");
    }
    assert_eq!(found[..5_000], known.into_iter().map(Some).collect::<Vec<_>>());
    assert_eq!(found[10_000..10_003], [None, found[7], found[10_003]]);
}

/// The museum's kinds of trouble in one small nest.
fn troubled() -> Reading {
    let mut sweep = Sweep::new(Source::default());
    for (name, called) in [("ada", "Ada"), ("ben", "Ben"), ("cleo", "cleo"), ("dora", "Dora")] {
        sweep.person(&format!("CN={name},DC=x"), [("displayName", [called.as_bytes()])]).unwrap();
    }
    let graph = sweep.graph_mut();
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
    sweep.finish(&Intake::for_tests())
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
    let path = Path { groups: ["CN=north,DC=x", "CN=coast,DC=x"].map(str::to_owned).to_vec(), left_out: 0 };
    assert_eq!(ways, Ways { ways: vec![Way { path, unlisted: true }], all: true });
}

#[test]
fn a_cycle_through_every_group_is_gone_through_without_recursion() {
    let count = 100_000;
    let mut graph = Graph::new();
    for number in 0..count {
        let next = format!("g{}", (number + 1) % count);
        graph.add_group(key(&format!("g{number}")), "", [(key(&next), next.as_str())]);
    }
    let groups: Vec<NodeId> =
        (0..count).filter_map(|number| graph.find(&key(&format!("g{number}")))).collect();
    let components = graph.components(groups.iter().copied());
    assert_eq!((components.len(), components[0].len()), (1, count));
    assert_eq!(graph.reach([&key("g5")]).len(), count);
}

#[test]
fn a_chain_of_very_many_groups_is_told_in_bounds() {
    let count = 20_000;
    let mut sweep = Sweep::new(Source::default());
    let dn = |kind: &str, number: usize| format!("CN={kind}{number},DC=x");
    for number in 0..count {
        sweep.person(&dn("p", number), [("cn", [b"x".as_slice()])]).unwrap();
    }
    for number in 0..count {
        let members = [("p", number), ("g", number + 1)].map(|(kind, number)| dn(kind, number));
        let members = members.iter().map(|dn| (Dn::parse(dn).unwrap().key(), dn.as_str()));
        sweep.graph_mut().add_group(key(&format!("g{number}")), &dn("g", number), members);
    }
    let reading = sweep.finish(&Intake::for_tests());
    let nest = Nest::of(&reading, &key("g0")).unwrap();
    let people = nest.people();
    assert_eq!(people.len(), count);
    // The first, and as many of the last as there is room for, however it is asked.
    for depth in [1, LONGEST_PATH - 1, LONGEST_PATH, LONGEST_PATH + 1, LONGEST_PATH + 2, count] {
        let person = key(&format!("p{}", depth - 1));
        let rest = depth.saturating_sub(LONGEST_PATH - 1).max(1);
        let groups: Vec<String> = [0].into_iter().chain(rest..depth).map(|at| dn("g", at)).collect();
        let path = Path { left_out: depth - groups.len(), groups };
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

/// Eight groups that hold one another in any way.
fn any_graph(edges: &[(usize, usize)]) -> Graph {
    let mut graph = Graph::new();
    for group in 0..8 {
        let members = edges.iter().filter(|(from, _)| *from == group).map(|(_, to)| format!("g{to}"));
        let members: Vec<String> = members.collect();
        let members = members.iter().map(|name| (key(name), name.as_str()));
        graph.add_group(key(&format!("g{group}")), &format!("g{group}"), members);
    }
    graph
}

proptest! {
    /// One pass for many roots finds what a pass for each finds, and so do the counts.
    #[test]
    fn one_pass_for_many_roots_equals_one_for_each(
        edges in proptest::collection::vec((0_usize..8, 0_usize..8), 0..24),
        roots in proptest::collection::vec(0_usize..9, 0..70),
    ) {
        let graph = any_graph(&edges);
        let roots: Vec<DnKey> = roots.iter().map(|root| key(&format!("g{root}"))).collect();
        let nesting = graph.nesting(&roots);
        let inclusion = nesting.inclusion(&roots);
        for name in 0..8 {
            let name = key(&format!("g{name}"));
            let expected: Vec<usize> =
                (0..roots.len()).filter(|at| graph.reach([&roots[*at]]).contains(&graph, &name)).collect();
            prop_assert_eq!(inclusion.of(&name).collect::<Vec<_>>(), expected);
        }
        prop_assert_eq!(inclusion.len(), graph.reach(&roots).len());
        prop_assert_eq!(inclusion.is_empty(), graph.reach(&roots).is_empty());
        for (group, count) in nesting.counts(|_| true) {
            prop_assert_eq!(count, graph.reach(graph.key(group)).len());
        }
    }

    /// One pass finds what repeating until nothing changes finds, and every path is real.
    #[test]
    fn reach_equals_the_naive_closure(edges in proptest::collection::vec((0u8..12, 0u8..16), 0..60), root in 0u8..12) {
        let name = |number: u8| format!("n{number}");
        let mut graph = Graph::new();
        for group in 0..12 {
            let members: Vec<String> = edges.iter().filter(|(from, _)| *from == group).map(|(_, to)| name(*to)).collect();
            graph.add_group(key(&name(group)), &name(group), members.iter().map(|member| (key(member), member.as_str())));
        }
        let mut closure = std::collections::BTreeSet::new();
        loop {
            let more: Vec<u8> = edges
                .iter()
                .filter(|(from, to)| (*from == root || closure.contains(from)) && !closure.contains(to))
                .map(|(_, to)| *to)
                .collect();
            if more.is_empty() { break; }
            closure.extend(more);
        }
        let reach = graph.reach([&key(&name(root))]);
        for number in 0..16 {
            prop_assert_eq!(reach.contains(&graph, &key(&name(number))), closure.contains(&number));
            let path = reach.path(&graph, &key(&name(number)));
            let steps = path.groups.iter().cloned().chain([name(number)]).collect::<Vec<_>>();
            for pair in steps.windows(2) {
                prop_assert!(edges.iter().any(|(from, to)| name(*from) == pair[0] && name(*to) == pair[1]));
            }
            prop_assert!(path.is_empty() || path.groups[0] == name(root));
        }
    }

    /// The shortest of all paths is as long as the one that is kept, and all are different.
    #[test]
    fn all_paths_begin_with_a_shortest(edges in proptest::collection::vec((0_usize..8, 0_usize..8), 0..24)) {
        let graph = any_graph(&edges);
        let (root, name) = (key("g0"), key("g7"));
        let (paths, all) = graph.paths(&root, &name, 100_000);
        prop_assert!(all);
        let shortest = graph.reach([&root]).path(&graph, &name).len();
        prop_assert_eq!(paths.first().map_or(0, Vec::len), shortest);
        let different: HashSet<&Vec<NodeId>> = paths.iter().collect();
        prop_assert_eq!(different.len(), paths.len());
        prop_assert!(paths.windows(2).all(|pair| pair[0].len() <= pair[1].len()));
    }

    /// Upwards finds the groups that downwards reach a name, by paths of the same length.
    #[test]
    fn upwards_equals_downwards(edges in proptest::collection::vec((0_usize..8, 0_usize..8), 0..24)) {
        let graph = any_graph(&edges);
        for name in 0..8 {
            let name = key(&format!("g{name}"));
            let above = graph.above(&name);
            for group in 0..8 {
                let group = format!("g{group}");
                let path = graph.reach([&key(&group)]).path(&graph, &name).len();
                let found = above.iter().find(|one| one.dn == group).map_or(0, |one| one.path.len());
                prop_assert_eq!(found, path, "{}", group);
            }
        }
    }

    /// What is shown, and every path, is the same whatever was read first.
    #[test]
    fn nothing_depends_on_the_order_of_reading(
        edges in proptest::collection::vec((0_usize..8, 0_usize..14), 0..60),
        order in Just((0_usize..14).collect::<Vec<_>>()).prop_shuffle(),
    ) {
        let name = |number: &usize| format!("CN=n{number},DC=x");
        let read = |order: &[usize]| {
            let mut sweep = Sweep::new(Source::default());
            for number in order {
                match number {
                    8..12 => drop(sweep.person(&name(number), [("cn", [&b"somebody"[..]])])),
                    0..8 => {
                        let listed = edges.iter().filter(|(from, _)| from == number).map(|(_, to)| to);
                        let listed: Vec<String> = order.iter().filter(|one| listed.clone().any(|to| to == *one)).map(name).collect();
                        let members: Vec<NodeId> = listed.iter().filter_map(|dn| sweep.graph_mut().member(dn).ok()).collect();
                        let group = sweep.graph_mut().node(key(&format!("n{number}")), &name(number));
                        sweep.graph_mut().set_members(group, members);
                    }
                    _ => drop(sweep.graph_mut().member(&name(number))),
                }
            }
            sweep.finish(&Intake::for_tests())
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

    /// Two groups are in one component exactly when each reaches the other.
    #[test]
    fn components_are_groups_that_reach_each_other(edges in proptest::collection::vec((0_usize..8, 0_usize..8), 0..24)) {
        let graph = any_graph(&edges);
        let all: Vec<NodeId> = (0..8).filter_map(|group| graph.find(&key(&format!("g{group}")))).collect();
        let components = graph.components(all.iter().copied());
        prop_assert_eq!(components.iter().map(Vec::len).sum::<usize>(), 8, "each group once");
        let reaches = |from: NodeId, to: NodeId| {
            from == to || graph.key(from).is_some_and(|key| graph.reach([key]).reached.contains(to.index()))
        };
        for &one in &all {
            for &other in &all {
                let together = components.iter().any(|list| list.contains(&one) && list.contains(&other));
                prop_assert_eq!(together, reaches(one, other) && reaches(other, one));
            }
        }
    }
}
