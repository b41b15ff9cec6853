//! When one search is cheaper than the look-ups that it would replace: when to start it, when to abandon it, when to
//! try again.
//!
//! Measured by `scripts/bench` against slapd: a look-up, 64 in progress, takes 65 µs, a group of forty members in a
//! paged search 16, and an entry of any kind 9.

/// Number of look-ups that are made one by one in any case: they are in progress together.
pub(super) const FEW: usize = 200;
/// Growth of the look-ups after which an abandoned search is tried again: all attempts together then cost at most
/// twice as much as the last one.
const GROWTH: usize = 2;

/// What a search returns.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Returns {
    Groups,
    AnyEntries,
}

impl Returns {
    /// Number of entries that a search may return in place of this many look-ups, before look-ups are cheaper.
    pub(super) fn allowance(self, lookups: usize) -> usize {
        lookups.saturating_mul(match self {
            Self::Groups => 4,
            Self::AnyEntries => 7,
        })
    }
}

/// The attempts to replace look-ups by a search.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Attempts {
    /// The look-ups at the last attempt.
    last: usize,
    is_over: bool,
}

impl Attempts {
    /// Whether to search now, given the look-ups that it would save now, and all that would have been saved so far.
    pub(super) fn is_due(self, now: usize, in_all: usize) -> bool {
        !self.is_over && now > FEW && in_all >= self.last.saturating_mul(GROWTH)
    }

    /// Records an attempt that was made, or abandoned, at this many look-ups.
    pub(super) fn made_at(&mut self, lookups: usize) {
        self.last = lookups;
    }

    /// Records that the search was not abandoned: there is nothing more to search for.
    pub(super) fn finish(&mut self) {
        self.is_over = true;
    }

    pub(super) fn is_over(self) -> bool {
        self.is_over
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn a_search_is_made_for_many_look_ups_and_once() {
        let mut attempts = Attempts::default();
        assert!(!attempts.is_due(FEW, FEW));
        assert!(attempts.is_due(FEW + 1, FEW + 1));
        attempts.finish();
        assert!(!attempts.is_due(10 * FEW, 10 * FEW));
    }

    proptest! {
        /// However the look-ups come, abandoned searches cost at most twice the allowance of the last one.
        #[test]
        fn abandoned_searches_stay_cheap(levels in proptest::collection::vec(1_usize..5_000, 1..40)) {
            for returns in [Returns::Groups, Returns::AnyEntries] {
                let (mut attempts, mut in_all, mut spent, mut last) = (Attempts::default(), 0, 0, 0);
                for now in &levels {
                    in_all += now;
                    if attempts.is_due(*now, in_all) {
                        attempts.made_at(in_all);
                        last = returns.allowance(in_all);
                        spent += last;
                    }
                }
                prop_assert!(spent <= 2 * last, "{spent} for a last one of {last}");
            }
        }
    }
}
