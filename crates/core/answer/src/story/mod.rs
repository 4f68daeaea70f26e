//! Stories: everything tied to one id, and the drawing made of it.
//!
//! [`story_filter`] turns an id into a filter, [`ids_in`] finds ids in whatever a person pastes, [`Score`] is the drawing
//! without a pixel in it, and [`chapters`] parts the story of a long-lived id into its traces.

mod chapters;
mod paste;
mod score;
mod tie;

pub use chapters::{Chapter, chapters, traces_of};
pub use paste::{PastedId, ids_in};
pub use score::{
    Arrow, ArrowKind, Bar, Bundle, ClockOffset, ColumnOf, Outcome, Row, RowKind, Score, ScoreOptions, ServiceTime,
};
pub use score::{MAX_DRAWN, duration_text};
pub use tie::{ServiceShare, Tie, services_of, story_filter};
