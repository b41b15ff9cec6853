//! How often somebody may try: fewer wrong passwords reach the directory than it locks an account after, and nobody is
//! kept out by the tries of others.
//!
//! Tries are counted by name and source together, by name, and by source; each count runs down with time. Once a name
//! has too many wrong ones, every source that has contributed is refused, and any other has a single try: a right
//! password from there gets in. Names that nobody has count like others. Memory is bounded by [`MOST`].

use crate::settings::Throttle;
use foldhash::HashMap;
use jiff::Timestamp;
use std::hash::Hash;
use std::net::IpAddr;

/// Maximum entries of each count.
const MOST: usize = 1 << 16;

/// Where tries come from: an address, or the name of a terminal. Of an IPv6 address, the first 64 bits count: a client has
/// all the others.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Source(String);

impl Source {
    /// The source, as the application calls it.
    #[must_use]
    pub fn new(text: &str) -> Self {
        Self(match text.trim().parse() {
            Ok(IpAddr::V6(address)) => match address.to_ipv4_mapped() {
                Some(address) => address.to_string(),
                None => format!("{:x}/64", address.to_bits() >> 64),
            },
            Ok(IpAddr::V4(address)) => address.to_string(),
            Err(_) => text.trim().to_lowercase(),
        })
    }
}

/// A try that is not counted yet, or too many before it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Throttled {
    /// The time after which the next try counts.
    pub until: Timestamp,
    /// True if it is for the source, whatever the name.
    pub is_source: bool,
}

/// A count that runs down with time.
#[derive(Clone, Copy, Debug, Default)]
struct Level {
    height: f64,
    at: Timestamp,
}

/// The counts of wrong tries.
#[derive(Debug)]
pub struct Throttles {
    limits: Throttle,
    pairs: Levels<(String, Source)>,
    names: Levels<String>,
    sources: Levels<Source>,
}

#[derive(Debug)]
struct Levels<K> {
    by_key: HashMap<K, Level>,
    /// By how much each runs down in a second.
    rate: f64,
}

#[expect(clippy::cast_precision_loss, reason = "limits are far below 2^52")]
fn real(number: u64) -> f64 {
    number as f64
}

impl<K: Eq + Hash + Clone> Levels<K> {
    fn new(limit: u64, limits: &Throttle) -> Self {
        Self { by_key: HashMap::default(), rate: real(limit) / limits.within.as_secs_f64().max(1.0) }
    }

    fn height(&self, key: &K, now: Timestamp) -> f64 {
        self.by_key.get(key).map_or(0.0, |level| self.run_down(level, now))
    }

    fn run_down(&self, level: &Level, now: Timestamp) -> f64 {
        let passed = now.duration_since(level.at).as_secs_f64().max(0.0);
        (level.height - passed * self.rate).max(0.0)
    }

    fn add(&mut self, key: &K, by: f64, now: Timestamp) {
        let height = (self.height(key, now) + by).max(0.0);
        if height <= 0.0 {
            self.by_key.remove(key);
            return;
        }
        if self.by_key.len() >= MOST && !self.by_key.contains_key(key) {
            self.make_room(now);
        }
        self.by_key.insert(key.clone(), Level { height, at: now });
    }

    /// Forgets counts that have run down, or else the lower half.
    fn make_room(&mut self, now: Timestamp) {
        let rate = self.rate;
        let height =
            |level: &Level| level.height - now.duration_since(level.at).as_secs_f64().max(0.0) * rate;
        self.by_key.retain(|_, level| height(level) > 0.0);
        if self.by_key.len() >= MOST {
            let mut heights: Vec<f64> = self.by_key.values().map(height).collect();
            let half = heights.len() / 2;
            let (_, middle, _) = heights.select_nth_unstable_by(half, f64::total_cmp);
            let middle = *middle;
            let mut excess = half;
            self.by_key.retain(|_, level| {
                let goes = height(level) <= middle && excess > 0;
                excess -= usize::from(goes);
                !goes
            });
        }
    }

    /// When a count will have run down to a height.
    fn until(&self, key: &K, height: f64, now: Timestamp) -> Timestamp {
        let seconds = ((self.height(key, now) - height) / self.rate).max(0.0).ceil();
        let wait = jiff::SignedDuration::try_from_secs_f64(seconds).unwrap_or(jiff::SignedDuration::MAX);
        now.checked_add(wait).unwrap_or(Timestamp::MAX)
    }
}

impl Throttles {
    /// No tries yet.
    #[must_use]
    pub fn new(limits: Throttle) -> Self {
        Self {
            pairs: Levels::new(limits.tries, &limits),
            names: Levels::new(limits.tries, &limits),
            sources: Levels::new(limits.from_one_source, &limits),
            limits,
        }
    }

    /// Begins a try, which counts as a wrong one until [`right`](Self::right) or [`undecided`](Self::undecided) says
    /// otherwise: a hundred at once are no more than one after the other. `name` is in the form for comparison.
    ///
    /// # Errors
    /// There were too many wrong ones.
    pub fn begin(&mut self, name: &str, source: &Source, now: Timestamp) -> Result<(), Throttled> {
        let tries = real(self.limits.tries);
        let from_one_source = real(self.limits.from_one_source);
        let pair = (name.to_owned(), source.clone());
        if self.sources.height(source, now) + 1.0 > from_one_source {
            let until = self.sources.until(source, from_one_source - 1.0, now);
            return Err(Throttled { until, is_source: true });
        }
        let own = self.pairs.height(&pair, now);
        if own + 1.0 > tries {
            let until = self.pairs.until(&pair, tries - 1.0, now);
            return Err(Throttled { until, is_source: false });
        }
        // Whoever has contributed waits with the others.
        if own > 0.0 && self.names.height(&pair.0, now) + 1.0 > tries {
            let until = self.names.until(&pair.0, tries - 1.0, now);
            return Err(Throttled { until, is_source: false });
        }
        self.pairs.add(&pair, 1.0, now);
        self.names.add(&pair.0, 1.0, now);
        self.sources.add(source, 1.0, now);
        Ok(())
    }

    /// The password was right: the directory, too, begins to count anew.
    pub fn right(&mut self, name: &str, source: &Source, now: Timestamp) {
        self.pairs.by_key.remove(&(name.to_owned(), source.clone()));
        self.names.by_key.remove(name);
        self.sources.add(source, -1.0, now);
    }

    /// Number of entries in all counts.
    #[cfg(test)]
    pub(super) fn counted(&self) -> usize {
        self.pairs.by_key.len() + self.names.by_key.len() + self.sources.by_key.len()
    }

    /// The directory was not asked, or did not answer: the try does not count.
    pub fn undecided(&mut self, name: &str, source: &Source, now: Timestamp) {
        self.pairs.add(&(name.to_owned(), source.clone()), -1.0, now);
        self.names.add(&name.to_owned(), -1.0, now);
        self.sources.add(source, -1.0, now);
    }
}
