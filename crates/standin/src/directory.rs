//! The entries of the simulated directory, and searches in them (RFC 4511 §4.5).

use crate::computed;
use crate::manner::Manner;
use crate::subschema::{SUBSCHEMA, subschema};
use std::collections::{BTreeMap, HashMap, HashSet};
use webtaxon_core::ldap::entry::{Entries, Entry, NameId, Names, covers};
use webtaxon_core::ldap::filter::Links;
use webtaxon_core::ldap::filter::{Filter, Ground, Matcher};
use webtaxon_core::ldap::ldif;
use webtaxon_core::ldap::name::{Dn, DnKey};
use webtaxon_core::ldap::schema::Schema;
use webtaxon_core::ldap::value;
use webtaxon_wire::message::Scope;

/// A directory held in memory: loaded from LDIF, never changed.
#[derive(Debug)]
pub struct Directory {
    manner: Manner,
    entries: Entries,
    /// Names from the root downwards, so that a subtree is a range.
    tree: BTreeMap<DnKey, usize>,
    tops: Vec<Dn>,
    subschema: Entries,
    schema: Schema,
}

impl Directory {
    /// Loads LDIF content (RFC 2849); the kind of server is guessed from the entries.
    ///
    /// # Errors
    /// The first line that is not LDIF, or that repeats a name.
    pub fn from_ldif(text: &[u8]) -> Result<Self, ldif::LdifError> {
        let read = ldif::entries(text)?;
        Ok(Self::new(&read, Manner::of(&read)))
    }

    /// Loads LDIF content for this kind of server.
    ///
    /// # Errors
    /// As [`Directory::from_ldif`].
    pub fn with_manner(text: &[u8], manner: Manner) -> Result<Self, ldif::LdifError> {
        Ok(Self::new(&ldif::entries(text)?, manner))
    }

    /// A directory with these entries, as this kind of server, or the kind guessed from them.
    #[must_use]
    pub fn of(entries: &Entries, manner: Option<Manner>) -> Self {
        Self::new(entries, manner.unwrap_or_else(|| Manner::of(entries)))
    }

    fn new(read: &Entries, manner: Manner) -> Self {
        let keys: Vec<DnKey> =
            read.iter().filter_map(|entry| Dn::parse(entry.dn()).ok()).map(|dn| dn.key()).collect();
        let parents: HashSet<DnKey> = keys.iter().filter_map(DnKey::parent).collect();
        let mut member_of = match manner {
            Manner::Controller => computed::member_of(read),
            Manner::Plain | Manner::Dirsrv => HashMap::new(),
        };
        let mut entries = Entries::new();
        for (entry, key) in read.iter().zip(&keys) {
            let own = own_attributes(entry, manner, parents.contains(key), member_of.remove(key));
            let computed = |name: &str| manner == Manner::Controller && name.eq_ignore_ascii_case("memberOf");
            let kept = entry.attributes().filter(|(name, _)| !computed(name));
            let kept = kept.map(|(name, values)| (name, values.map(<[u8]>::to_vec).collect::<Vec<_>>()));
            let all: Vec<(&str, Vec<Vec<u8>>)> = kept.chain(own).collect();
            entries
                .push(entry.dn(), all.iter().map(|(name, values)| (*name, values.iter().map(Vec::as_slice))));
        }
        let tree: BTreeMap<DnKey, usize> =
            keys.into_iter().enumerate().map(|(index, key)| (key, index)).collect();
        let is_top = |key: &DnKey| key.parent().is_none_or(|parent| !tree.contains_key(&parent));
        let tops = tree.iter().filter(|(key, _)| is_top(key)).filter_map(|(_, index)| entries.get(*index));
        let tops = tops.filter_map(|entry| Dn::parse(entry.dn()).ok()).collect();
        let classes = entries.iter().flat_map(|entry| entry.values("objectClass"));
        let classes = classes.filter_map(|class| std::str::from_utf8(class).ok());
        let schema = Schema::of(manner.kind()).with_classes(classes);
        Self { manner, tree, tops, subschema: subschema(manner), schema, entries }
    }

    /// The kind of server.
    #[must_use]
    pub fn manner(&self) -> Manner {
        self.manner
    }

    /// Number of entries.
    #[must_use]
    pub fn len(&self) -> usize {
        self.entries.len()
    }

    /// Whether there are none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.entries.is_empty()
    }

    pub(crate) fn names(&self) -> &Names {
        self.entries.names()
    }

    pub(crate) fn entry(&self, index: usize) -> Option<Entry<'_>> {
        self.entries.get(index)
    }

    pub(crate) fn entries(&self) -> impl ExactSizeIterator<Item = Entry<'_>> + Clone {
        self.entries.iter()
    }

    /// The highest change number of an entry; 1 if none has one.
    pub(crate) fn last_change(&self) -> u64 {
        let numbers = self.entries.iter().filter_map(|entry| entry.text("uSNChanged")?.parse().ok());
        numbers.max().unwrap_or(1)
    }

    /// The entry with this name.
    pub(crate) fn at(&self, dn: &Dn) -> Option<Entry<'_>> {
        self.tree.get(&dn.key()).and_then(|index| self.entries.get(*index))
    }

    /// The first naming context.
    pub(crate) fn top(&self) -> Option<&Dn> {
        self.tops.first()
    }

    pub(crate) fn tops(&self) -> &[Dn] {
        &self.tops
    }

    /// The first label of the first naming context: a domain controller's short domain name.
    pub(crate) fn first_label(&self) -> Option<String> {
        self.top()?.first().map(webtaxon_core::ldap::name::Rdn::text)
    }

    /// The subschema entry, if the base names it.
    pub(crate) fn subschema(&self, base: &Dn) -> Option<&Entries> {
        Dn::parse(SUBSCHEMA).is_ok_and(|name| name.key() == base.key()).then_some(&self.subschema)
    }

    /// The indexes of the entries within a base and scope.
    ///
    /// # Errors
    /// The base does not exist; the error is its nearest existing ancestor, or empty.
    pub(crate) fn places(&self, base: &Dn, scope: Scope) -> Result<Vec<usize>, String> {
        let key = base.key();
        if key.depth() > 0 && !self.tree.contains_key(&key) {
            let above =
                std::iter::successors(key.parent(), DnKey::parent).find_map(|above| self.tree.get(&above));
            return Err(above.and_then(|index| self.entries.get(*index)).map_or("", Entry::dn).to_owned());
        }
        let within = self.tree.range(key.clone()..).take_while(|(name, _)| name.is_within(&key));
        Ok(match scope {
            Scope::Base => within.take(1).map(|(_, index)| *index).collect(),
            Scope::One => {
                // Below the root are the naming contexts, however long their names.
                let is_top = |parent: &DnKey| key.depth() == 0 && !self.tree.contains_key(parent);
                let child =
                    |name: &DnKey| name.parent().is_some_and(|parent| parent == key || is_top(&parent));
                within.filter(|(name, _)| child(name)).map(|(_, index)| *index).collect()
            }
            Scope::Subtree => within.map(|(_, index)| *index).collect(),
        })
    }

    /// One entry as returned for these attributes.
    pub(crate) fn answer(
        &self,
        entry: Entry<'_>,
        wanted: &Wanted,
        scope: Scope,
    ) -> Vec<(String, Vec<Vec<u8>>)> {
        let mut attributes = Vec::new();
        for (id, values) in entry.attributes_by_id().filter(|(id, _)| wanted.ids.contains(id)) {
            let name = entry.spelling(id);
            let values = values.map(<[u8]>::to_vec).collect();
            if self.manner == Manner::Controller && name == "member" {
                attributes.extend(computed::in_range(name, wanted.range_of(name), values));
            } else {
                attributes.push((name.to_owned(), values));
            }
        }
        if self.manner == Manner::Controller && scope == Scope::Base && wanted.names_itself("tokenGroups") {
            let groups = self.token_groups(entry);
            if !groups.is_empty() {
                attributes.push(("tokenGroups".to_owned(), groups));
            }
        }
        if self.manner == Manner::Controller && wanted.names_itself("primaryGroupToken") {
            let group = entry.values("objectClass").any(|class| class.eq_ignore_ascii_case(b"group"));
            let token = entry.values("objectSid").next().filter(|_| group).and_then(value::relative_id);
            let token = token.map(|token| vec![token.to_string().into_bytes()]);
            attributes.extend(token.map(|token| ("primaryGroupToken".to_owned(), token)));
        }
        attributes
    }

    /// The schema.
    pub(crate) fn schema(&self) -> &Schema {
        &self.schema
    }

    /// A filter prepared for the entries.
    pub(crate) fn matcher(&self, filter: &Filter) -> Matcher {
        let (schema, names) = (&self.schema, self.entries.names());
        match self.manner {
            Manner::Plain | Manner::Dirsrv => Matcher::new(filter, schema, names),
            Manner::Controller => {
                let links = Links(&self.entries);
                Matcher::on(filter, Ground { schema, names, chain: Some(&links) })
            }
        }
    }
}

/// The operational attributes of an entry.
fn own_attributes(
    entry: Entry<'_>,
    manner: Manner,
    has_children: bool,
    member_of: Option<Vec<String>>,
) -> Vec<(&'static str, Vec<Vec<u8>>)> {
    let text = |value: &str| vec![value.as_bytes().to_vec()];
    let mut own = vec![
        ("entryDN", text(entry.dn())),
        ("subschemaSubentry", text(SUBSCHEMA)),
        ("hasSubordinates", text(if has_children { "TRUE" } else { "FALSE" })),
    ];
    // A stable identity derived from the name, for files without one.
    let identity = || uuid::Uuid::new_v5(&uuid::Uuid::NAMESPACE_X500, entry.dn().to_lowercase().as_bytes());
    match manner {
        Manner::Plain => own.push(("entryUUID", text(&identity().to_string()))),
        Manner::Dirsrv => {
            own.push(("entryUUID", text(&identity().to_string())));
            own.push(("nsUniqueId", text(&ns_unique_id(entry, identity()))));
        }
        Manner::Controller => own.push(("objectGUID", vec![identity().to_bytes_le().to_vec()])),
    }
    own.retain(|(name, _)| entry.values(name).next().is_none());
    own.extend(member_of.map(|groups| ("memberOf", groups.into_iter().map(String::into_bytes).collect())));
    own
}

/// The identity in the form of nsUniqueId: four groups of eight digits.
fn ns_unique_id(entry: Entry<'_>, identity: uuid::Uuid) -> String {
    let own = entry.text("entryUUID").and_then(|text| uuid::Uuid::parse_str(text).ok());
    let digits = own.unwrap_or(identity).simple().to_string();
    let groups: Vec<&str> = (0..4).filter_map(|at| digits.get(at * 8..at * 8 + 8)).collect();
    groups.join("-")
}

/// The attributes that a search requests (RFC 4511 §4.5.1.8).
pub(crate) struct Wanted {
    every_user: bool,
    every_operational: bool,
    names: Vec<String>,
    /// The requested ones, of all attributes that entries have.
    pub(crate) ids: HashSet<NameId>,
}

impl Wanted {
    pub(crate) fn new(list: &[String], names: &Names, hidden: &[String], schema: &Schema) -> Self {
        let named = |word: &str| list.iter().any(|name| name == word);
        let mut wanted = Self {
            every_user: list.is_empty() || named("*"),
            every_operational: named("+"),
            // A name also stands for the type's other names, and for its subtypes.
            names: list.iter().flat_map(|name| schema.covered(name)).collect(),
            ids: HashSet::new(),
        };
        let shown = |name: &str| !hidden.iter().any(|hidden| covers(hidden, name));
        wanted.ids = names
            .iter()
            .filter(|(_, name)| wanted.has(name, schema) && shown(name))
            .map(|(id, _)| id)
            .collect();
        wanted
    }

    /// Whether an attribute is returned. Passwords never are.
    fn has(&self, description: &str, schema: &Schema) -> bool {
        let known = schema.find(description);
        if known.is_some_and(|known| known.name() == "userPassword") {
            return false;
        }
        let operational = known.is_some_and(|known| known.operational);
        (if operational { self.every_operational } else { self.every_user })
            || self.names.iter().any(|name| covers(name, description))
            || self.range_of(description).is_some()
    }

    /// The range requested of an attribute's values: `1500-*` in `member;range=1500-*`.
    fn range_of(&self, attribute: &str) -> Option<&str> {
        self.names.iter().find_map(|name| {
            let (base, option) = name.split_once(';')?;
            let range = option.get(..6).filter(|start| start.eq_ignore_ascii_case("range="));
            range.filter(|_| base.eq_ignore_ascii_case(attribute)).and_then(|_| option.get(6..))
        })
    }

    fn names_itself(&self, attribute: &str) -> bool {
        self.names.iter().any(|name| name.eq_ignore_ascii_case(attribute))
    }
}
