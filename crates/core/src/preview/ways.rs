//! The ways to settle a clash. Only lines of the settings are offered that settle it, and that make no other clash.

use super::Cause;
use super::clash::{Clash, Holder, Way, Who, Word};
use super::draft::Draft;
use super::matching::Matching;
use super::settling::Settlement;
use crate::ldap::identity::Identity;
use crate::settings::LeavingAction;
use std::ops::Range;

const SAME_PERSON: &str = "it is the same person";

/// Work outside the settings.
fn otherwise(does: String) -> Way {
    Way { when: String::new(), word: None, does }
}

fn word(when: &str, account: &str, link: &Identity, does: String) -> Way {
    let word = Word { account: account.to_owned(), link: link.clone() };
    Way { when: when.to_owned(), word: Some(word), does }
}

impl Matching<'_> {
    /// The ways to settle a clash that does not depend on what others draw.
    pub(super) fn plain_ways(&self, clash: &Clash, link: &Identity) -> Vec<Way> {
        match clash {
            Clash::OtherOrigin { account, .. } => vec![
                word(
                    "this person is to have the account from now on",
                    account,
                    link,
                    "the account follows this directory".to_owned(),
                ),
                otherwise("leave this person out, with except or the filter".to_owned()),
            ],
            _ => vec![otherwise("choose another identity attribute: this one is not unique".to_owned())],
        }
    }
}

impl<'a> Settlement<'_, 'a> {
    /// The ways to settle a clash of a candidate, whose claims are those in `range`.
    pub(super) fn ways(&self, draft: &Draft<'a>, clash: &Clash, range: Range<usize>) -> Vec<Way> {
        let link = &draft.chosen.1.identity;
        let theirs = |account: &str, when: &str, does: &str| {
            let works = self.does_word_work(draft, account, range.clone());
            works.then(|| word(when, account, link, does.to_owned()))
        };
        let becomes = "the account becomes theirs";
        match clash {
            Clash::SameDrawn { field, .. } if field == "login" => {
                vec![otherwise("take login from an attribute that differs between them".to_owned())]
            }
            Clash::SameDrawn { field, .. } => {
                vec![otherwise(format!("have one of them get another {field} in the directory"))]
            }
            Clash::Taken { field, holder, .. } => {
                let does = match &holder.who {
                    Who::Out { dn: Some(dn), .. } => format!("{becomes}, and {dn} has none any more"),
                    _ => becomes.to_owned(),
                };
                let own = theirs(&holder.account, SAME_PERSON, &does);
                own.into_iter().chain([otherwise(self.without_word(holder, field))]).collect()
            }
            Clash::MadeAnew { holder, .. } => {
                self.ways_anew(range.clone(), holder, theirs(&holder.account, SAME_PERSON, becomes))
            }
            Clash::MayBeTheirs { account, by } => {
                let rest = format!("give one of the two another {by}");
                theirs(account, SAME_PERSON, becomes).into_iter().chain([otherwise(rest)]).collect()
            }
            Clash::SeveralPeople { account, .. } => {
                let rest = format!("give {account} other values in the application, or remove it there");
                theirs(account, "it is this person's", becomes).into_iter().chain([otherwise(rest)]).collect()
            }
            Clash::SeveralAccounts { accounts } => {
                let one = |account: &String| theirs(account, &format!("{account} is theirs"), becomes);
                let rest =
                    "remove the accounts that are not theirs in the application, or give them other values";
                accounts.iter().filter_map(one).chain([otherwise(rest.to_owned())]).collect()
            }
            Clash::SameIdentity { .. } | Clash::OtherOrigin { .. } => self.matching.plain_ways(clash, link),
        }
    }

    /// The way out if an account has a person's value, and is not to become theirs.
    fn without_word(&self, holder: &Holder, field: &str) -> String {
        let account = &holder.account;
        match &holder.who {
            Who::ByHand => format!(
                "give one of the two another {field}: the person in the directory, or {account} in the application"
            ),
            Who::Protected => {
                format!("give the person another {field}, or take {account} out of protected and rename it")
            }
            Who::In { is_stuck: true, .. } => format!("settle the clash of {account} first"),
            Who::In { is_stuck: false, .. } => format!("give one of the two another {field}"),
            Who::Out { cause: Cause::Gone, .. } => format!(
                "remove {account} in the application, or write gone = {{ do = \"remove\" }} in [intake.leaving]"
            ),
            Who::Out { .. } => {
                format!("give one of the two another {field}, or remove {account} in the application")
            }
            Who::Unknown { .. } => {
                "see to it that the reading is whole: it tells whether that person is there".to_owned()
            }
        }
    }

    /// The ways for a person whose entry seems to be made anew.
    fn ways_anew(&self, range: Range<usize>, holder: &Holder, own: Option<Way>) -> Vec<Way> {
        let account = &holder.account;
        let at = self.matching.account_called(account);
        let former = at.and_then(|at| Some((at, self.matching.accounts.get(at)?.link.as_ref()?)));
        let rule = self.matching.leaving_rule(None, Cause::Gone);
        let other = match former {
            Some((at, former)) if rule.action == LeavingAction::Remove && self.is_only_holder(at, range) => {
                word(
                    "it is somebody else",
                    account,
                    former,
                    "the account is deleted as [intake.leaving] says, and then this person gets a new one"
                        .to_owned(),
                )
            }
            _ => otherwise(format!("remove {account} in the application, and this person gets a new one")),
        };
        own.into_iter().chain([other]).collect()
    }

    /// True if an account, given to a candidate, settles the clash and makes no other: its person is not in, and nothing
    /// else has a value that the candidate draws.
    fn does_word_work(&self, draft: &Draft<'a>, account: &str, range: Range<usize>) -> bool {
        let matching = self.matching;
        let Some(at) = matching.account_called(account) else { return false };
        let is_free = matching.accounts.get(at).is_some_and(|one| {
            !matching.is_untouchable(one)
                // A line that is there already, and cannot apply, is no way out.
                && !matching.says(one, &draft.chosen.1.identity)
        });
        is_free
            && matching.linked(draft.index).is_none()
            && matching.holder(at).is_none()
            && self.adopted.get(&at).is_none_or(|index| *index == draft.index)
            // A rule gives them another account, which has some of their values.
            && draft.account.is_none_or(|own| own == at)
            && self.is_only_holder(at, range)
    }

    /// True if an account is all that is in the way of the claims of one person.
    fn is_only_holder(&self, at: usize, mut claims: Range<usize>) -> bool {
        claims.all(|claim| {
            let mut keepers = self.claims.keepers(claim);
            self.claims.rivals(claim).next().is_none() && keepers.all(|keeper| keeper == at)
        })
    }
}
