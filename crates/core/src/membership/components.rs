//! Groups that are in one another: the strongly connected components of a graph (Tarjan 1972),
//! with a stack of its own in place of recursion. Linear in the groups and their members.

use super::{Graph, NodeId};
use std::collections::HashMap;

/// A group that is being gone through.
struct Frame {
    group: NodeId,
    /// Members that were looked at.
    at: usize,
}

#[derive(Clone, Copy)]
struct Mark {
    index: usize,
    /// The earliest group that is known to be reached.
    low: usize,
    open: bool,
}

impl Graph {
    /// The components of these groups, each in the order of names, the components in the order of
    /// their first names.
    pub(super) fn components(&self, groups: &[NodeId]) -> Vec<Vec<NodeId>> {
        let mut marks: HashMap<NodeId, Mark> = HashMap::new();
        let mut line: Vec<NodeId> = Vec::new();
        let mut components: Vec<Vec<NodeId>> = Vec::new();
        for &start in groups {
            if marks.contains_key(&start) {
                continue;
            }
            let mut frames: Vec<Frame> = Vec::new();
            self.enter(start, &mut marks, &mut line, &mut frames);
            while let Some(frame) = frames.last_mut() {
                let group = frame.group;
                let next = self.members(group).unwrap_or_default().get(frame.at).copied();
                frame.at += 1;
                match next {
                    Some(member) if self.members(member).is_none() => {}
                    Some(member) => match marks.get(&member).copied() {
                        None => self.enter(member, &mut marks, &mut line, &mut frames),
                        Some(mark) if mark.open => lower(&mut marks, group, mark.index),
                        Some(_) => {}
                    },
                    None => {
                        frames.pop();
                        let Some(own) = marks.get(&group).copied() else { continue };
                        if let Some(outer) = frames.last() {
                            lower(&mut marks, outer.group, own.low);
                        }
                        if own.low == own.index {
                            let from = line.iter().rposition(|id| *id == group).unwrap_or(0);
                            let mut component = line.split_off(from);
                            for id in &component {
                                if let Some(mark) = marks.get_mut(id) {
                                    mark.open = false;
                                }
                            }
                            component.sort_by_key(|id| self.key(*id));
                            components.push(component);
                        }
                    }
                }
            }
        }
        components.sort_by_key(|component| component.first().and_then(|id| self.key(*id)));
        components
    }

    fn enter(
        &self,
        group: NodeId,
        marks: &mut HashMap<NodeId, Mark>,
        line: &mut Vec<NodeId>,
        frames: &mut Vec<Frame>,
    ) {
        let index = marks.len();
        marks.insert(group, Mark { index, low: index, open: true });
        line.push(group);
        frames.push(Frame { group, at: 0 });
    }
}

fn lower(marks: &mut HashMap<NodeId, Mark>, group: NodeId, low: usize) {
    if let Some(mark) = marks.get_mut(&group) {
        mark.low = mark.low.min(low);
    }
}
