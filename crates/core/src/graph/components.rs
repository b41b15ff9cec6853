//! Groups that contain one another: the strongly connected components of a graph (Tarjan 1972), with an explicit
//! stack instead of recursion. Linear in groups and members.

use super::{Graph, NodeId};

/// A group being visited.
struct Frame {
    group: NodeId,
    /// Members already visited.
    at: usize,
}

#[derive(Clone, Copy)]
struct Mark {
    /// Order of the visit; `None` if not visited.
    index: u32,
    /// The earliest group known to be reachable.
    low: u32,
    open: bool,
}

const NOT_MET: Mark = Mark { index: u32::MAX, low: u32::MAX, open: false };

/// A search in progress.
struct Search<'g> {
    graph: &'g Graph,
    marks: Vec<Mark>,
    met: u32,
    line: Vec<NodeId>,
    frames: Vec<Frame>,
}

impl Search<'_> {
    fn mark(&self, id: NodeId) -> Mark {
        self.marks.get(id.index()).copied().unwrap_or(NOT_MET)
    }

    fn enter(&mut self, group: NodeId) {
        if let Some(mark) = self.marks.get_mut(group.index()) {
            *mark = Mark { index: self.met, low: self.met, open: true };
        }
        self.met += 1;
        self.line.push(group);
        self.frames.push(Frame { group, at: 0 });
    }

    fn lower(&mut self, group: NodeId, low: u32) {
        if let Some(mark) = self.marks.get_mut(group.index()) {
            mark.low = mark.low.min(low);
        }
    }

    /// Continues to the next complete component, and removes its groups from the stack; `None` at the end.
    fn component(&mut self) -> Option<Vec<NodeId>> {
        loop {
            let frame = self.frames.last_mut()?;
            let group = frame.group;
            let next = self.graph.members(group).unwrap_or_default().get(frame.at).copied();
            frame.at += 1;
            match next {
                Some(member) if !self.graph.is_group_node(member) => {}
                Some(member) => match self.mark(member) {
                    mark if mark.index == NOT_MET.index => self.enter(member),
                    mark if mark.open => self.lower(group, mark.index),
                    _ => {}
                },
                None => {
                    self.frames.pop();
                    let own = self.mark(group);
                    if let Some(outer) = self.frames.last().map(|frame| frame.group) {
                        self.lower(outer, own.low);
                    }
                    if own.low == own.index {
                        let from = self.line.iter().rposition(|id| *id == group).unwrap_or(0);
                        let component = self.line.split_off(from);
                        for id in &component {
                            if let Some(mark) = self.marks.get_mut(id.index()) {
                                mark.open = false;
                            }
                        }
                        return Some(component);
                    }
                }
            }
        }
    }
}

impl Graph {
    /// The components of these groups and of all groups in them, each after everything that it reaches.
    pub(crate) fn components(&self, groups: impl IntoIterator<Item = NodeId>) -> Vec<Vec<NodeId>> {
        let marks = vec![NOT_MET; self.names.len()];
        let mut search = Search { graph: self, marks, met: 0, line: Vec::new(), frames: Vec::new() };
        let mut components = Vec::new();
        for start in groups {
            if self.is_group_node(start) && search.mark(start).index == NOT_MET.index {
                search.enter(start);
                components.extend(std::iter::from_fn(|| search.component()));
            }
        }
        components
    }

    /// Whether the groups of a component contain one another, or the only one contains itself.
    pub(crate) fn is_cycle(&self, component: &[NodeId]) -> bool {
        match component {
            [only] => self.members(*only).unwrap_or_default().contains(only),
            _ => true,
        }
    }
}
