//! The intakes in order, and lists with one item for each of them.

use super::Intake;
use serde::Serialize;

/// One item for each intake, in order. Never empty.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Intakes<T = Intake> {
    /// The first intake's.
    pub first: T,
    /// The others'. A person belongs to the first intake that selects them.
    pub further: Vec<T>,
}

impl<T> Intakes<T> {
    /// The items in order; `None` if `list` is empty.
    #[must_use]
    pub fn new(list: impl IntoIterator<Item = T>) -> Option<Self> {
        let mut list = list.into_iter();
        Some(Self { first: list.next()?, further: list.collect() })
    }

    /// All items, in order.
    pub fn iter(&self) -> impl Iterator<Item = &T> + Clone {
        std::iter::once(&self.first).chain(&self.further)
    }

    /// All items, in order, to be changed.
    pub fn iter_mut(&mut self) -> impl Iterator<Item = &mut T> {
        std::iter::once(&mut self.first).chain(&mut self.further)
    }

    /// Whether there is only one intake.
    #[must_use]
    pub fn is_single(&self) -> bool {
        self.further.is_empty()
    }

    /// Number of intakes, at least one.
    #[must_use]
    pub fn count(&self) -> usize {
        1 + self.further.len()
    }
}

impl<T> From<T> for Intakes<T> {
    fn from(only: T) -> Self {
        Self { first: only, further: Vec::new() }
    }
}

impl<'a, T> IntoIterator for &'a Intakes<T> {
    type Item = &'a T;
    type IntoIter = std::iter::Chain<std::iter::Once<&'a T>, std::slice::Iter<'a, T>>;

    fn into_iter(self) -> Self::IntoIter {
        std::iter::once(&self.first).chain(&self.further)
    }
}
