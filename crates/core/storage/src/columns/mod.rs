//! Events as columns: the one form in which the head holds them, the journal and chunks keep them, and search scans
//! them. A page is up to [`PAGE_ROWS`] events; a column is one builtin, or one field path and type.
//!
//! ```text
//! drafts ── build ──> Page ── permute (order, partition, join) ──> Page
//!                      │ ▲                                     
//!           block ─────┘ └───── block          one column as bytes: ints, texts, streams
//! ```

mod block;
mod build;
mod column;
mod dictionary;
mod failures;
mod floats;
mod ints;
mod key;
mod materialise;
mod messages;
mod noted;
mod order;
mod page;
mod permute;
mod restricted;
mod rows;
mod select;
mod sent;
mod streams;
mod texts;

pub use block::{
    Presences, Shared, Wanted, decode_blobs, decode_block, decode_block_of, decode_texts, encode_blobs, encode_block,
    encode_texts, letters_of_block,
};
pub use build::{PageBuilder, build_page};
pub use column::{Column, Values};
pub use dictionary::{Blobs, Dictionary, Interner, Joined, Texts};
pub use failures::ErrorGroups;
pub use key::{BuiltinColumn, ColumnKey, FieldType};
pub use materialise::{materialise, materialise_all};
pub use messages::{Messages, Variables};
pub use page::{Page, PageRead};
pub use permute::{Loaded, SourceRow, Spill, permute};
pub use restricted::{Admitted, RestrictedPage, Restriction, together};
pub use rows::{FEW_PART, Rows};
pub use select::{select, select_in_range};
pub use texts::{Effort, Letters};

pub use materialise::{field_value, overflow_fields};
pub use order::OrderKeys;
pub use select::{builtin_column, zone_excludes};
pub use sent::{SentColumn, columns_at_or_below, columns_of, each_value_overflowing};

/// Most rows of a page.
pub const PAGE_ROWS: usize = 8192;
/// A page is closed when its events weigh this much, so that no column block outgrows a few segments.
pub const PAGE_WEIGHT_BYTES: usize = 2 << 20;
/// Field columns of a page or chunk at most; values of further paths stand together in [`BuiltinColumn::Overflow`].
pub const MAX_FIELD_COLUMNS: usize = 1024;
