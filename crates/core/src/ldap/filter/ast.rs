//! The filter as a tree (RFC 4515 §2, RFC 4511 §4.5.1), walked and dropped without recursion.

use smallvec::SmallVec;
use smol_str::SmolStr;

/// An assertion value; a short one needs no allocation.
pub type Octets = SmallVec<[u8; 24]>;

fn octets(value: impl AsRef<[u8]>) -> Octets {
    Octets::from_slice(value.as_ref())
}

/// A filter. Exhaustive on purpose: RFC 4515 §2 closes the grammar, so a `match` should too.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Filter {
    /// True if every clause is; `(&)` is always true (RFC 4526).
    And(Vec<Filter>),
    /// True if at least one clause is; `(
    /// )` is always false (RFC 4526).
    Or(Vec<Filter>),
    /// True if the clause is false.
    Not(Box<Filter>),
    /// One comparison.
    Item(Item),
}

/// One comparison of an attribute with a value. Values are bytes with all escapes resolved.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Item {
    /// `(attribute=value)`
    Equal {
        /// The attribute description.
        attribute: SmolStr,
        /// The value asserted.
        value: Octets,
    },
    /// `(attribute=initial*any*…*last)`
    Substrings {
        /// The attribute description.
        attribute: SmolStr,
        /// What the value begins with.
        initial: Option<Octets>,
        /// What comes in between, in this order.
        any: Vec<Octets>,
        /// What the value ends with.
        last: Option<Octets>,
    },
    /// `(attribute>=value)`
    GreaterOrEqual {
        /// The attribute description.
        attribute: SmolStr,
        /// The value asserted.
        value: Octets,
    },
    /// `(attribute<=value)`
    LessOrEqual {
        /// The attribute description.
        attribute: SmolStr,
        /// The value asserted.
        value: Octets,
    },
    /// `(attribute~=value)`
    Approx {
        /// The attribute description.
        attribute: SmolStr,
        /// The value asserted.
        value: Octets,
    },
    /// `(attribute=*)`
    Present {
        /// The attribute description.
        attribute: SmolStr,
    },
    /// `(attribute:dn:rule:=value)`
    Extensible {
        /// The attribute description, if one is given.
        attribute: Option<SmolStr>,
        /// The matching rule's name or OID, if one is given.
        rule: Option<SmolStr>,
        /// Whether the values in the entry's own name count, too.
        dn: bool,
        /// The value asserted.
        value: Octets,
    },
}

impl Filter {
    /// Every comparison, from left to right.
    pub fn items(&self) -> impl Iterator<Item = &Item> {
        self.walk(true)
    }

    /// The comparisons from left to right, with or without those inside a negation.
    fn walk(&self, negated: bool) -> impl Iterator<Item = &Item> {
        let mut open = vec![self];
        std::iter::from_fn(move || {
            loop {
                match open.pop()? {
                    Filter::And(parts) | Filter::Or(parts) => open.extend(parts.iter().rev()),
                    Filter::Not(part) => open.extend(negated.then_some(&**part)),
                    Filter::Item(item) => return Some(item),
                }
            }
        })
    }

    /// The attribute descriptions compared, from left to right, with repeats.
    pub fn attributes(&self) -> impl Iterator<Item = &str> {
        self.items().filter_map(Item::attribute)
    }

    /// The attribute descriptions that an entry needs to pass: those compared outside of any negation, with repeats.
    pub fn needed(&self) -> impl Iterator<Item = &str> {
        self.walk(false).filter_map(Item::attribute)
    }

    /// Depth of nesting; 1 for a single comparison.
    #[must_use]
    pub fn depth(&self) -> usize {
        let mut deepest = 0;
        let mut open = vec![(self, 1)];
        while let Some((filter, depth)) = open.pop() {
            deepest = deepest.max(depth);
            match filter {
                Filter::And(parts) | Filter::Or(parts) => {
                    open.extend(parts.iter().map(|part| (part, depth + 1)))
                }
                Filter::Not(part) => open.push((part, depth + 1)),
                Filter::Item(_) => {}
            }
        }
        deepest
    }

    /// `(attribute=value)` with the value taken as it is, whatever characters it has.
    #[must_use]
    pub fn equal(attribute: &str, value: impl AsRef<[u8]>) -> Filter {
        Filter::Item(Item::Equal { attribute: attribute.into(), value: octets(value) })
    }

    /// `(attribute=text*)`, with the text taken as it is.
    #[must_use]
    pub fn begins_with(attribute: &str, text: impl AsRef<[u8]>) -> Filter {
        let (initial, any, last) = (Some(octets(text)), Vec::new(), None);
        Filter::Item(Item::Substrings { attribute: attribute.into(), initial, any, last })
    }

    /// `(attribute=*text*)`, with the text taken as it is.
    #[must_use]
    pub fn contains(attribute: &str, text: impl AsRef<[u8]>) -> Filter {
        let (initial, any, last) = (None, vec![octets(text)], None);
        Filter::Item(Item::Substrings { attribute: attribute.into(), initial, any, last })
    }

    /// `(attribute>=value)`, with the value taken as it is.
    #[must_use]
    pub fn at_least(attribute: &str, value: impl AsRef<[u8]>) -> Filter {
        Filter::Item(Item::GreaterOrEqual { attribute: attribute.into(), value: octets(value) })
    }

    /// True if every part is.
    #[must_use]
    pub fn all(parts: impl IntoIterator<Item = Filter>) -> Filter {
        Filter::And(parts.into_iter().collect())
    }

    /// True if at least one part is.
    #[must_use]
    pub fn any(parts: impl IntoIterator<Item = Filter>) -> Filter {
        Filter::Or(parts.into_iter().collect())
    }

    /// `(attribute=*)`.
    #[must_use]
    pub fn present(attribute: &str) -> Filter {
        Filter::Item(Item::Present { attribute: attribute.into() })
    }
}

impl std::ops::Not for Filter {
    type Output = Filter;

    /// True if this one is false.
    fn not(self) -> Filter {
        Filter::Not(Box::new(self))
    }
}

impl Item {
    /// The attribute description, if the item has one.
    #[must_use]
    pub fn attribute(&self) -> Option<&str> {
        match self {
            Item::Equal { attribute, .. }
            | Item::Substrings { attribute, .. }
            | Item::GreaterOrEqual { attribute, .. }
            | Item::LessOrEqual { attribute, .. }
            | Item::Approx { attribute, .. }
            | Item::Present { attribute } => Some(attribute),
            Item::Extensible { attribute, .. } => attribute.as_deref(),
        }
    }
}

impl Drop for Filter {
    /// Dismantles the tree with a list instead of recursion, so that a deep one cannot exhaust the stack.
    fn drop(&mut self) {
        let mut open = Vec::new();
        take_parts(self, &mut open);
        while let Some(mut filter) = open.pop() {
            take_parts(&mut filter, &mut open);
        }
    }
}

fn take_parts(filter: &mut Filter, open: &mut Vec<Filter>) {
    match filter {
        Filter::And(parts) | Filter::Or(parts) => open.append(parts),
        Filter::Not(part) => {
            if !matches!(**part, Filter::Item(_)) {
                open.push(std::mem::replace(part, Filter::And(Vec::new())));
            }
        }
        Filter::Item(_) => {}
    }
}
