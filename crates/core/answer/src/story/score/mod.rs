//! The score: a story as a drawing without a pixel in it. Columns are services, rows are moments in order, bars are
//! spans, glyphs are events, arrows are calls. Console, terminal and Markdown render the same score.
//!
//! Times are corrected for clocks that disagree (`clocks`), spans nest by their parents (`forest`), events find their bar
//! and everything its row (`place`); `critical` is where the time went, `headline` what happened in one line.

mod clocks;
mod critical;
mod forest;
mod headline;
mod place;
#[cfg(test)]
mod tests;
mod text;

use calvex_language::model::Event;
use forest::Forest;
use std::collections::BTreeSet;

pub use text::duration_text;

/// Spans and events of a score at most; more are counted.
pub const MAX_DRAWN: usize = 5000;
/// Columns at most; the services least involved share the last one beyond that.
const MAX_COLUMNS: usize = 9;
/// More sibling spans of one operation than this become one.
const MAX_SIBLINGS: usize = 20;

/// How a story, a span or a chapter ended.
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Outcome {
    /// It ended, and not in failure.
    Well,
    /// It failed.
    Failed,
    /// It has not ended.
    Open,
    /// Nothing happened.
    Nothing,
}

/// One service of the drawing, or those that share a column.
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[derive(Debug, Clone, PartialEq, serde::Serialize, serde::Deserialize)]
pub struct ColumnOf {
    /// Its services: one, but in a shared column. The name is empty where events have none.
    pub services: Vec<String>,
    /// How many bars.
    pub bars: usize,
    /// How many events.
    pub events: usize,
    /// How many bars stand side by side at most.
    pub slots: usize,
}

/// What a row shows.
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum RowKind {
    /// A span begins.
    Start,
    /// A span ends.
    End,
    /// An event.
    Event,
}

/// A moment. Rows stand in order, not in proportion to time.
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[derive(Debug, Clone, PartialEq, serde::Serialize, serde::Deserialize)]
pub struct Row {
    /// What it shows.
    pub kind: RowKind,
    /// Nanoseconds from the start of the story, clocks corrected.
    pub at_ns: i64,
    /// The column.
    pub column: usize,
    /// The bar that begins or ends here, or that the event stands on; none where an event stands on the column itself.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bar: Option<usize>,
    /// The event, or the span's own, by its number in the story.
    pub event: usize,
    /// A wait of all services before it that is folded, nanoseconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fold_ns: Option<i64>,
}

/// Sibling spans of one operation, drawn as one.
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[derive(Debug, Clone, PartialEq, serde::Serialize, serde::Deserialize)]
pub struct Bundle {
    /// What [`ScoreOptions::open`] takes to draw each by itself.
    pub key: String,
    /// How many.
    pub count: usize,
    /// How many of them failed.
    pub failed: usize,
    /// Their time together, nanoseconds.
    pub total_ns: i64,
    /// The slowest of them, nanoseconds.
    pub slowest_ns: i64,
}

/// A span, or a bundle of them.
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[derive(Debug, Clone, PartialEq, serde::Serialize, serde::Deserialize)]
pub struct Bar {
    /// The column.
    pub column: usize,
    /// How far it stands to the right within its column.
    pub slot: usize,
    /// The first of its rows.
    pub from_row: usize,
    /// The last of its rows.
    pub to_row: usize,
    /// The span, by its number in the story; of a bundle the first.
    pub event: usize,
    /// The bar of its parent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub parent: Option<usize>,
    /// Whether it names a parent that is not in the story.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub parent_missing: bool,
    /// What it does.
    pub operation: String,
    /// How it ended.
    pub outcome: Outcome,
    /// How long it took, nanoseconds; none while it is open.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub took_ns: Option<i64>,
    /// Of that, what no child of it covers.
    pub self_ns: i64,
    /// Whether it lies on the path that the root waited for.
    pub critical: bool,
    /// Where it stands for several.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bundle: Option<Bundle>,
}

/// What an arrow means.
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ArrowKind {
    /// A span of another service begins.
    Call,
    /// It returns.
    Return,
    /// A consumer takes what a producer left.
    Link,
}

/// From one column to another.
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[derive(Debug, Clone, PartialEq, serde::Serialize, serde::Deserialize)]
pub struct Arrow {
    /// What it means.
    pub kind: ArrowKind,
    /// The bar that is called or returns.
    pub bar: usize,
    /// From this column.
    pub from: usize,
    /// To this one.
    pub to: usize,
    /// In this row.
    pub row: usize,
    /// Whether the clocks say that it ran backwards.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub against_clock: bool,
}

/// A host whose clock disagrees.
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[derive(Debug, Clone, PartialEq, serde::Serialize, serde::Deserialize)]
pub struct ClockOffset {
    /// The host.
    pub host: String,
    /// At least so far behind the root's host, nanoseconds; ahead where negative. The drawing is corrected by it.
    pub behind_ns: i64,
    /// Whether its spans contradict one another, so that nothing is corrected.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub contradicts: bool,
}

/// A service's part of the path that the root waited for.
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[derive(Debug, Clone, PartialEq, serde::Serialize, serde::Deserialize)]
pub struct ServiceTime {
    /// The service.
    pub service: String,
    /// Nanoseconds.
    pub self_ns: i64,
    /// Its share of the path, 0 to 1.
    pub share: f64,
}

/// A story drawn.
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[derive(Debug, Clone, PartialEq, serde::Serialize, serde::Deserialize)]
pub struct Score {
    /// What happened, in one line.
    pub headline: String,
    /// How it ended.
    pub outcome: Outcome,
    /// How long all of it took, nanoseconds.
    pub took_ns: i64,
    /// The first thing that went wrong and was not recovered from, by its number in the story.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub first_wrong: Option<usize>,
    /// Services in the order in which they were first involved.
    pub columns: Vec<ColumnOf>,
    /// Moments in order.
    pub rows: Vec<Row>,
    /// Spans.
    pub bars: Vec<Bar>,
    /// Calls, returns and links.
    pub arrows: Vec<Arrow>,
    /// Clocks that disagree.
    pub clock_offsets: Vec<ClockOffset>,
    /// Where the time went, the most first.
    pub critical_path: Vec<ServiceTime>,
    /// Spans and events that are not drawn because there are too many.
    pub not_drawn: usize,
}

/// How a score is drawn.
#[derive(Debug, Clone, Default)]
pub struct ScoreOptions {
    /// Bundles drawn span by span.
    pub open: BTreeSet<String>,
    /// A column for every service.
    pub every_column: bool,
}

impl Score {
    /// Draws a story: its spans and events, in time order.
    pub fn of(events: &[&Event], options: &ScoreOptions) -> Score {
        let drawn = events.get(..MAX_DRAWN).unwrap_or(events);
        let mut forest = Forest::of(drawn);
        let clock_offsets = clocks::correct(&mut forest);
        forest.close_open();
        let critical = critical::path(&forest);
        let headline = headline::headline(&forest);
        let placed = place::place(&forest, &critical, options);
        Score {
            headline: headline.text,
            outcome: headline.outcome,
            took_ns: forest.took_ns(),
            first_wrong: headline.first_wrong,
            columns: placed.columns,
            rows: placed.rows,
            bars: placed.bars,
            arrows: placed.arrows,
            clock_offsets,
            critical_path: critical.shares,
            not_drawn: events.len() - drawn.len(),
        }
    }
}
