//! Every path from one group to one person, shortest first, within limits.

use crate::graph::{GroupPath, LONGEST_PATH, NodeId};
use crate::ldap::name::DnKey;
use crate::reading::Reading;
use serde::Serialize;

/// The paths from a group to a person.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Ways {
    /// The paths, each from the named group to the one that has the person.
    pub ways: Vec<Way>,
    /// Whether these are all.
    pub all: bool,
}

/// One path.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Way {
    /// The groups on it.
    #[serde(flatten)]
    pub path: GroupPath,
    /// Whether membership comes from outside the last group's list: its primary group number or a login.
    pub unlisted: bool,
}

impl Ways {
    /// The shortest paths first, at most `most`.
    #[must_use]
    pub fn of(reading: &Reading, group: &DnKey, person: &DnKey, most: usize) -> Self {
        let graph = reading.graph();
        let (paths, all) = graph.paths(group, person, most);
        let way = |path: Vec<NodeId>| Way {
            unlisted: path
                .last()
                .zip(graph.find(person))
                .is_some_and(|(last, id)| graph.is_unlisted(*last, id)),
            path: {
                let is_shown = |at: usize| at == 0 || at + LONGEST_PATH > path.len();
                let shown = path.iter().enumerate().filter(|(at, _)| is_shown(*at));
                let groups: Vec<String> = shown.map(|(_, id)| graph.dn(*id).to_owned()).collect();
                GroupPath { left_out: path.len() - groups.len(), groups }
            },
        };
        let mut ways: Vec<Way> = paths.into_iter().map(way).collect();
        // In a nest too deep or dense to find any path within the limits, a shortest one is still known.
        if ways.is_empty() && !all {
            let reach = graph.reach([group]);
            let last = graph.find(person).and_then(|id| Some((reach.last_group(id)?, id)));
            let path = || reach.path(graph, person);
            ways.extend(last.map(|(last, id)| Way { path: path(), unlisted: graph.is_unlisted(last, id) }));
        }
        Self { ways, all }
    }
}
