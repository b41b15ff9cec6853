//! Reach and paths on small nests, and against the plainest way of doing it.

use super::*;
use crate::name::Dn;
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
        assert_eq!(reach.path(&graph, &key(person)), path, "{person}");
        assert_eq!(reach.contains(&graph, &key(person)), !path.is_empty(), "{person}");
    }
}

#[test]
fn cycles_end_and_a_root_inside_a_root_is_one() {
    let graph = graph(&[("a", &["b", "a"]), ("b", &["c"]), ("c", &["a", "ada"])]);
    let (a, c) = (key("a"), key("c"));
    let reach = graph.reach([&a]);
    assert_eq!(reach.path(&graph, &key("ada")), ["a", "b", "c"]);
    assert_eq!(reach.path(&graph, &a), ["a"], "a group that lists itself is in itself");
    let both = graph.reach([&a, &c]);
    assert_eq!(both.path(&graph, &key("ada")), ["c"], "the nearer root");
    assert_eq!(both.len(), 4);
    assert!(graph.reach([&key("missing")]).is_empty());
}

#[test]
fn members_do_not_depend_on_the_order_of_reading() {
    let one = graph(&[("r", &["x", "y"]), ("x", &["p"]), ("y", &["p"])]);
    let other = graph(&[("y", &["p", "p"]), ("x", &["p"]), ("r", &["y", "x"])]);
    let root = key("r");
    for graph in [one, other] {
        assert_eq!(graph.reach([&root]).path(&graph, &key("p")), ["r", "x"]);
        assert_eq!((graph.groups(), graph.is_group(&key("p"))), (3, false));
        let reach = graph.reach([&root]);
        assert_eq!(reach.leaves(&graph).map(|leaf| (leaf.dn, leaf.group)).collect::<Vec<_>>(), [("p", "x")]);
    }
}

proptest! {
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
            let steps = path.iter().map(|dn| (*dn).to_owned()).chain([name(number)]).collect::<Vec<_>>();
            for pair in steps.windows(2) {
                prop_assert!(edges.iter().any(|(from, to)| name(*from) == pair[0] && name(*to) == pair[1]));
            }
            prop_assert!(path.is_empty() || path[0] == name(root));
        }
    }
}
