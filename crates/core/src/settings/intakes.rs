//! The intakes in their order, and whatever there is one of for each of them.

use super::Intake;
use serde::Serialize;

/// One thing for each intake, in their order. Never empty.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Intakes<T = Intake> {
    /// That of the first intake.
    pub first: T,
    /// Those of the others. A person belongs to the first intake that selects them.
    pub further: Vec<T>,
}

impl<T> Intakes<T> {
    /// In order; none if `list` is empty.
    #[must_use]
    pub fn new(list: impl IntoIterator<Item = T>) -> Option<Self> {
        let mut list = list.into_iter();
        Some(Self { first: list.next()?, further: list.collect() })
    }

    /// Every one, in order.
    pub fn iter(&self) -> impl Iterator<Item = &T> + Clone {
        std::iter::once(&self.first).chain(&self.further)
    }

    /// Whether there is only one.
    #[must_use]
    pub fn is_single(&self) -> bool {
        self.further.is_empty()
    }

    /// How many there are: one or more.
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
