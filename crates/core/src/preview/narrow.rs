//! A part of a preview: changes by kind or by search text, in another order. The figures remain those of the whole.

use super::{Change, ChangeKind, GroupChange, Held, Preview};

/// Which changes to show.
#[derive(Clone, Debug, Default)]
pub struct Narrow {
    /// Only these kinds; empty for all.
    pub only: Vec<ChangeKind>,
    /// Whether to show changes held back, if `only` or `groups` restricts the output.
    pub held: bool,
    /// Whether to show groups, if `only` or `held` restricts the output.
    pub groups: bool,
    /// Words that must all occur in the login, the person's name, the cause, a field or a group.
    pub find: String,
    /// The order within a kind.
    pub sort: Sort,
}

/// The order of changes within a kind.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Sort {
    /// By login.
    #[default]
    Login,
    /// By the entry's place in the tree.
    Place,
    /// By cause, then by login.
    Cause,
}

impl Preview {
    /// Removes the other changes; [`Preview::left_out`] counts them.
    pub fn narrow(&mut self, narrow: &Narrow) {
        let before = self.listed();
        let words: Vec<String> = narrow.find.split_whitespace().map(str::to_lowercase).collect();
        let has = |texts: &mut dyn Iterator<Item = &str>| {
            let text = texts.map(str::to_lowercase).collect::<Vec<_>>().join("\n");
            words.iter().all(|word| text.contains(word.as_str()))
        };
        let is_all = narrow.only.is_empty() && !narrow.held && !narrow.groups;
        let is_of = |kind: ChangeKind| is_all || narrow.only.contains(&kind);
        self.changes
            .retain(|change| is_of(change.kind()) && has(&mut of_change(change, change.detail().as_deref())));
        self.held.retain(|held| (is_all || narrow.held) && has(&mut of_held(held)));
        if let Some(groups) = &mut self.groups {
            let is_wanted = is_all || narrow.groups;
            groups.changes.retain(|change| is_wanted && has(&mut of_group(change)));
            groups.held.retain(|held| {
                let texts = [Some(held.name.as_str()), held.dn.as_deref(), Some(held.message.as_str())];
                is_wanted && has(&mut texts.into_iter().flatten())
            });
        }
        // People whose entry no longer exists have no place, and come last.
        let place = |dn: &Option<String>| {
            dn.as_deref()
                .map(|dn| dn.split_once(',').map_or((dn, ""), |(own, above)| (above, own)))
                .map_or_else(
                    || (true, String::new(), String::new()),
                    |(above, own)| (false, above.to_lowercase(), own.to_lowercase()),
                )
        };
        match narrow.sort {
            Sort::Login => {}
            Sort::Place => {
                self.changes.sort_by_cached_key(|change| (change.kind(), place(&change.dn)));
                self.held.sort_by_cached_key(|held| place(&held.dn));
            }
            Sort::Cause => {
                self.changes.sort_by_key(|change| (change.kind(), change.cause().map(super::Cause::name)));
                self.held.sort_by_key(|held| held.cause.map(super::Cause::name));
            }
        }
        self.left_out += before - self.listed();
    }

    fn listed(&self) -> usize {
        let groups = self.groups.as_ref().map_or(0, |groups| groups.changes.len() + groups.held.len());
        self.changes.len() + self.held.len() + groups
    }
}

fn of_change<'a>(change: &'a Change, detail: Option<&'a str>) -> impl Iterator<Item = &'a str> {
    let fields = change.fields.iter().flat_map(|(name, field)| {
        [Some(name.as_str()), field.old.as_deref(), field.new.as_deref()].into_iter().flatten()
    });
    [Some(change.login.as_str()), change.dn.as_deref(), change.cause().map(super::Cause::name), detail]
        .into_iter()
        .flatten()
        .chain(change.path.groups.iter().map(String::as_str))
        .chain(fields)
}

fn of_group(change: &GroupChange) -> impl Iterator<Item = &str> {
    [Some(change.kind.name()), Some(change.name.as_str()), change.new_name.as_deref(), change.dn.as_deref()]
        .into_iter()
        .flatten()
        .chain(change.come.iter().chain(&change.leave).map(String::as_str))
}

fn of_held(held: &Held) -> impl Iterator<Item = &str> {
    [
        Some(held.login.as_str()),
        held.dn.as_deref(),
        held.cause.map(super::Cause::name),
        Some(held.reason.message()),
        held.about.as_deref(),
    ]
    .into_iter()
    .flatten()
}
