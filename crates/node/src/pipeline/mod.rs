//! Steps 7 to 9: from normalised events to durable ones, found at once and sealed later.

pub mod admitted;
mod committer;
mod compaction;
mod group;
mod receipt;
mod sealer;
mod small_pages;
mod view;

pub use committer::{CommitFigures, Committer, InFlightMark, Intake, Submission, Wait};
pub use compaction::{Compaction, Grown, compaction};
pub use group::HeadPage;
pub use receipt::{Named, Receipt, names_of_body};
pub use sealer::Sealer;
pub use sealer::catalogued;
pub use view::{Fresh, Step, View};
