//! Who is in which group of a reading, as a person looks at it: one group's nest, the way somebody
//! is in it, and what changed since an earlier reading.

mod difference;
mod nest;
mod outline;
#[cfg(test)]
mod tests;
mod ways;

pub use difference::Difference;
pub use nest::{Branch, Broken, ForeignMember, Member, Nest, Place, Stray};
pub use outline::Outlined;
pub use ways::{Way, Ways};
