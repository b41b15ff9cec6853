//! Group membership in a reading: one group's nest, a person's paths into it, and the changes since an earlier
//! reading.

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
