//! Step 11: answers from one pinned view of head pages and chunks.
//!
//! `find` and `export` sift, open and scan in waves, newest (or oldest) first, and stop when nothing unopened can matter
//! (`frontier`); the others look at every page that [`crate::scan`] leaves and join what the pages gave.

mod breakdown;
mod export;
mod fields;
mod find;
mod frontier;
mod gather;
mod hints;
mod histogram;
mod lines;
mod rank;
mod sampled;
mod spread;

pub use breakdown::{Breakdown, FieldCounts, breakdown, newest_values};
pub use export::{Export, Exported, export};
pub use fields::{FieldSeen, fields, newest_pages};
pub use find::{Find, Found, Order, earliest_ns, find};
pub use hints::{FieldHint, field_names, unknown_fields};
pub use histogram::{Histogram, histogram};
pub use sampled::{Sampled, SampledField, sampled_fields};
pub use spread::Spread;

#[cfg(test)]
mod answers;
#[cfg(test)]
mod tests;
