//! Every path by which one person is in one group, the shortest first, in bounds.

use crate::graph::{GroupPath, LONGEST_PATH, NodeId};
use crate::ldap::name::DnKey;
use crate::reading::Reading;
use serde::Serialize;

/// The ways by which somebody is in one group.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Ways {
    /// For each, the groups from the named one down to the one that has them.
    pub ways: Vec<Way>,
    /// Whether there are no others.
    pub all: bool,
}

/// One of them.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Way {
    /// The groups.
    #[serde(flatten)]
    pub path: GroupPath,
    /// Whether the last one does not list them: it is their primary group, or knows their login.
    pub unlisted: bool,
}

impl Ways {
    /// The shortest ways first, at most so many.
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
        // A nest so deep or so dense that none was found in bounds: a shortest one is known all the same.
        if ways.is_empty() && !all {
            let reach = graph.reach([group]);
            let last = graph.find(person).and_then(|id| Some((reach.last_group(id)?, id)));
            let path = || reach.path(graph, person);
            ways.extend(last.map(|(last, id)| Way { path: path(), unlisted: graph.is_unlisted(last, id) }));
        }
        Self { ways, all }
    }
}
