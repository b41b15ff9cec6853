//! The names of a graph: each once, with its number and every spelling seen.
//!
//! Members are looked up by spelling, so that a name written as before is not parsed again. The spellings share one
//! buffer, so that a hundred thousand names do not need as many allocations. No I/O; memory is linear in the names
//! and their spellings.

use crate::ldap::name::DnKey;
use hashbrown::HashTable;
use indexmap::IndexSet;
use std::hash::BuildHasher as _;

/// A name in one [`Graph`](super::Graph).
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct NodeId(u32);

impl NodeId {
    pub(crate) fn index(self) -> usize {
        self.0 as usize
    }
}

impl From<NodeId> for usize {
    fn from(id: NodeId) -> Self {
        id.index()
    }
}

type Hasher = foldhash::fast::RandomState;

#[derive(Clone, Debug, Default)]
pub(super) struct NameTable {
    /// The names' keys; a name's number is its index.
    keys: IndexSet<DnKey, Hasher>,
    /// The directory's spellings, by number.
    written: Vec<Place>,
    texts: String,
    /// All spellings seen.
    spellings: HashTable<Spelling>,
    hasher: Hasher,
}

/// A slice of the text buffer.
#[derive(Clone, Copy, Debug)]
struct Place {
    start: usize,
    length: u32,
}

#[derive(Clone, Copy, Debug)]
struct Spelling {
    place: Place,
    name: NodeId,
}

impl NameTable {
    /// Every name.
    pub(super) fn ids(&self) -> impl Iterator<Item = NodeId> + use<> {
        (0..u32::try_from(self.len()).unwrap_or(u32::MAX)).map(NodeId)
    }

    pub(super) fn len(&self) -> usize {
        self.written.len()
    }

    /// The number of a name, assigned if it is new.
    pub(super) fn number(&mut self, key: DnKey, text: &str) -> NodeId {
        let (place, new) = self.keys.insert_full(key);
        if new {
            let written = self.write(text);
            self.written.push(written);
        }
        NodeId(u32::try_from(place).unwrap_or(u32::MAX))
    }

    pub(super) fn find(&self, key: &DnKey) -> Option<NodeId> {
        Some(NodeId(u32::try_from(self.keys.get_index_of(key)?).ok()?))
    }

    pub(super) fn key(&self, id: NodeId) -> Option<&DnKey> {
        self.keys.get_index(id.index())
    }

    /// The name as the directory wrote it.
    pub(super) fn text(&self, id: NodeId) -> &str {
        self.written.get(id.index()).map_or("", |place| at(&self.texts, *place))
    }

    /// The name with this spelling, if seen before.
    pub(super) fn spelled(&self, text: &str) -> Option<NodeId> {
        let is = |spelling: &Spelling| at(&self.texts, spelling.place) == text;
        self.spellings.find(self.hasher.hash_one(text), is).map(|spelling| spelling.name)
    }

    /// The names with these spellings, looked up together, so that memory accesses to the table and to the texts
    /// overlap instead of waiting for one another.
    pub(super) fn all_spelled(&self, texts: &[&str]) -> Vec<Option<NodeId>> {
        let is_as_long = |text: &str, spelling: &Spelling| spelling.place.length as usize == text.len();
        let first = |text: &&str| {
            self.spellings.find(self.hasher.hash_one(*text), |spelling| is_as_long(text, spelling)).copied()
        };
        let likely: Vec<Option<Spelling>> = texts.iter().map(first).collect();
        let is = |text: &str, likely: Spelling| at(&self.texts, likely.place) == text;
        let proved = |(text, likely): (&&str, Option<Spelling>)| match likely {
            Some(likely) if is(text, likely) => Some(likely.name),
            Some(_) => self.spelled(text),
            None => None,
        };
        texts.iter().zip(likely).map(proved).collect()
    }

    /// Remembers a spelling of a name.
    pub(super) fn spell(&mut self, text: &str, name: NodeId) {
        if self.spelled(text).is_some() {
            return;
        }
        let own = self.written.get(name.index()).copied();
        let place = own.filter(|place| at(&self.texts, *place) == text).unwrap_or_else(|| self.write(text));
        let (texts, hasher) = (&self.texts, &self.hasher);
        let hash = |spelling: &Spelling| hasher.hash_one(at(texts, spelling.place));
        self.spellings.insert_unique(hasher.hash_one(text), Spelling { place, name }, hash);
    }

    fn write(&mut self, text: &str) -> Place {
        let start = self.texts.len();
        self.texts.push_str(text);
        Place { start, length: u32::try_from(text.len()).unwrap_or(u32::MAX) }
    }
}

fn at(texts: &str, place: Place) -> &str {
    texts.get(place.start..).and_then(|rest| rest.get(..place.length as usize)).unwrap_or("")
}
