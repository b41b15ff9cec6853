//! Reach and paths on small nests, and against the plainest way of doing it.

use super::*;
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

    /// Two groups are in one component exactly when each reaches the other.
    #[test]
    fn components_are_groups_that_reach_each_other(edges in proptest::collection::vec((0_usize..8, 0_usize..8), 0..24)) {
        let graph = any_graph(&edges);
        let all: Vec<NodeId> = (0..8).filter_map(|group| graph.find(&key(&format!("g{group}")))).collect();
        let components = graph.components(all.iter().copied());
        prop_assert_eq!(components.iter().map(Vec::len).sum::<usize>(), 8, "each group once");
        let reaches = |from: NodeId, to: NodeId| {
            from == to || graph.key(from).is_some_and(|key| graph.reach([key]).has(to))
        };
        for &one in &all {
            for &other in &all {
                let together = components.iter().any(|list| list.contains(&one) && list.contains(&other));
                prop_assert_eq!(together, reaches(one, other) && reaches(other, one));
            }
        }
    }
}
