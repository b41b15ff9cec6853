//! The strongly connected components of a graph, such as groups that contain one another (Tarjan 1972), with an
//! explicit stack instead of recursion. Linear in nodes and successors.

use super::{Graph, NodeId};

/// A node being visited.
struct Frame<N> {
    node: N,
    /// The cursor over its successors.
    at: usize,
}

#[derive(Clone, Copy)]
struct Mark {
    /// Order of the visit; `None` if not visited.
    index: u32,
    /// The earliest node known to be reachable.
    low: u32,
    open: bool,
}

const NOT_MET: Mark = Mark { index: u32::MAX, low: u32::MAX, open: false };

/// A search in progress. `next` advances the cursor over a node's successors, and returns the one it passes.
struct Search<N, F> {
    next: F,
    marks: Vec<Mark>,
    met: u32,
    line: Vec<N>,
    frames: Vec<Frame<N>>,
}

impl<N: Copy + Into<usize>, F: Fn(N, &mut usize) -> Option<N>> Search<N, F> {
    fn mark(&self, node: N) -> Mark {
        self.marks.get(node.into()).copied().unwrap_or(NOT_MET)
    }

    fn enter(&mut self, node: N) {
        if let Some(mark) = self.marks.get_mut(node.into()) {
            *mark = Mark { index: self.met, low: self.met, open: true };
        }
        self.met += 1;
        self.line.push(node);
        self.frames.push(Frame { node, at: 0 });
    }

    fn lower(&mut self, node: N, low: u32) {
        if let Some(mark) = self.marks.get_mut(node.into()) {
            mark.low = mark.low.min(low);
        }
    }

    /// Continues to the next complete component, and removes its nodes from the stack; `None` at the end.
    fn component(&mut self) -> Option<Vec<N>> {
        loop {
            let frame = self.frames.last_mut()?;
            let node = frame.node;
            match (self.next)(node, &mut frame.at) {
                Some(successor) => match self.mark(successor) {
                    mark if mark.index == NOT_MET.index => self.enter(successor),
                    mark if mark.open => self.lower(node, mark.index),
                    _ => {}
                },
                None => {
                    self.frames.pop();
                    let own = self.mark(node);
                    if let Some(outer) = self.frames.last().map(|frame| frame.node) {
                        self.lower(outer, own.low);
                    }
                    if own.low == own.index {
                        let is_own = |other: &N| -> bool { (*other).into() == node.into() };
                        let from = self.line.iter().rposition(is_own).unwrap_or(0);
                        let component = self.line.split_off(from);
                        for one in &component {
                            if let Some(mark) = self.marks.get_mut((*one).into()) {
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

/// The components of what these nodes reach, each after everything that it reaches, and each in the order in which it
/// was visited. `count` is the number of nodes; `next` advances the cursor over a node's successors.
pub(crate) fn components<N: Copy + Into<usize>>(
    count: usize,
    starts: impl IntoIterator<Item = N>,
    next: impl Fn(N, &mut usize) -> Option<N>,
) -> Vec<Vec<N>> {
    let marks = vec![NOT_MET; count];
    let mut search = Search { next, marks, met: 0, line: Vec::new(), frames: Vec::new() };
    let mut components = Vec::new();
    for start in starts {
        if search.mark(start).index == NOT_MET.index {
            search.enter(start);
            components.extend(std::iter::from_fn(|| search.component()));
        }
    }
    components
}

impl Graph {
    /// The components of these groups and of all groups in them, each after everything that it reaches.
    pub(crate) fn components(&self, groups: impl IntoIterator<Item = NodeId>) -> Vec<Vec<NodeId>> {
        let next = |group, at: &mut usize| {
            let rest = self.members(group).unwrap_or_default().get(*at..).unwrap_or_default();
            let passed = rest.iter().position(|member| self.is_group_node(*member));
            *at += passed.map_or(rest.len(), |passed| passed + 1);
            passed.and_then(|passed| rest.get(passed)).copied()
        };
        let groups = groups.into_iter().filter(|group| self.is_group_node(*group));
        components(self.names.len(), groups, next)
    }

    /// Whether the groups of a component contain one another, or the only one contains itself.
    pub(crate) fn is_cycle(&self, component: &[NodeId]) -> bool {
        match component {
            [only] => self.members(*only).unwrap_or_default().contains(only),
            _ => true,
        }
    }
}
