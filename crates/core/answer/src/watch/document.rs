//! A rule as a document: TOML or JSON, the same words.
//!
//! ```toml
//! name = "leases run out"
//! urgency = "page"                  # or "ticket"
//! notify = ["on call"]              # contacts
//! runbook = "https://docs.fennmark.test/leases"
//! note = "Doors stay shut while this lasts."
//! for = "1m"                        # so long it must be so
//! delay = "30s"                     # how long after its end a window is judged
//! late = "2h"                       # how late events may come and be judged again
//!
//! [threshold]                       # the form: one table of the eight
//! events = 'service=slots "ran out"'
//! measure = "count"
//! per = ["zone"]
//! over = "5m"
//! above = 20                        # or below
//! ```
//!
//! The other forms: `[share]` (events, of, per, over, above, least), `[silence]` (events, per, times), `[first-seen]`
//! (events, what, unseen, over), `[deviation]` (events, measure, per, over, above or below, least, like), `[objective]`
//! (all, good, percent, period), `[unfinished]` (begins, ends, tie, within, above), `[error-group]` (events, which).

use serde::{Deserialize, Serialize};

/// Bytes of a document at most.
pub const MAX_DOCUMENT_BYTES: usize = 64 * 1024;
/// How much of a hurry whoever is notified is in.
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Urgency {
    /// Somebody is to look now.
    #[default]
    Page,
    /// Somebody is to look on a working day.
    Ticket,
}

/// A rule, as written.
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct RuleDocument {
    /// Its name; one of a kind.
    pub name: String,
    /// How much of a hurry.
    #[serde(default)]
    pub urgency: Urgency,
    /// The contacts that are notified.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub notify: Vec<String>,
    /// Where it stands what to do.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub runbook: String,
    /// For whoever is woken.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub note: String,
    /// How long it must be so.
    #[serde(rename = "for", default, skip_serializing_if = "String::is_empty")]
    pub hold: String,
    /// How long after its end a window is judged; 30 s if empty.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub delay: String,
    /// How late events may come and be judged again; 10 m if empty.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub late: String,
    /// A measure compared with a number.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub threshold: Option<Threshold>,
    /// A share of the events.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub share: Option<Share>,
    /// What used to come does not.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub silence: Option<Silence>,
    /// A value that was not there for long.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub first_seen: Option<FirstSeen>,
    /// A measure leaves its usual.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub deviation: Option<Deviation>,
    /// An objective's budget burns too fast.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub objective: Option<Objective>,
    /// Something began and did not end.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub unfinished: Option<Unfinished>,
    /// A new kind of failure, or one that came back.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub error_group: Option<ErrorGroups>,
}

macro_rules! forms {
    ($($(#[$doc:meta])* $name:ident { $($(#[$about:meta])* $field:ident: $of:ty,)* })*) => {$(
        $(#[$doc])*
        #[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
        #[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
        #[serde(deny_unknown_fields, rename_all = "kebab-case")]
        pub struct $name {
            $($(#[$about])* pub $field: $of,)*
        }
    )*};
}

forms! {
    /// Raised when a measure over a window is above, or below, a number.
    Threshold {
        /// Which events; all if empty.
        #[serde(default)]
        events: String,
        /// Any aggregate of the language; `count` if empty.
        #[serde(default)]
        measure: String,
        /// Fields whose values are judged apart.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        per: Vec<String>,
        /// The window.
        over: String,
        /// Raised above.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        above: Option<f64>,
        /// Raised below.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        below: Option<f64>,
    }
    /// Raised when a share of the events is above a number.
    Share {
        /// All events; every one if empty.
        #[serde(default)]
        events: String,
        /// Those of which the share is taken.
        of: String,
        /// Fields whose values are judged apart.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        per: Vec<String>,
        /// The window.
        over: String,
        /// Raised above; 0.05 is a twentieth.
        above: f64,
        /// Events that there must be; 20 if not given.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        least: Option<u64>,
    }
    /// Raised when a group's events have not come for several times their usual gap.
    Silence {
        /// Which events; all if empty.
        #[serde(default)]
        events: String,
        /// Whose values are judged apart, as `service`.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        per: Vec<String>,
        /// How many times the usual gap; 3 if not given.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        times: Option<f64>,
    }
    /// Raised when a value comes that was not there for long.
    FirstSeen {
        /// Which events; all if empty.
        #[serde(default)]
        events: String,
        /// `shape`, `error_group` or a field.
        what: String,
        /// How long it was not there; 7 d if empty.
        #[serde(default, skip_serializing_if = "String::is_empty")]
        unseen: String,
        /// How long it stays raised; 1 h if empty.
        #[serde(default, skip_serializing_if = "String::is_empty")]
        over: String,
    }
    /// Raised when a measure leaves what it usually is at this time.
    Deviation {
        /// Which events; all if empty.
        #[serde(default)]
        events: String,
        /// Any aggregate of the language; `count` if empty.
        #[serde(default)]
        measure: String,
        /// Fields whose values are judged apart.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        per: Vec<String>,
        /// The window.
        over: String,
        /// Raised so many spreads above its usual.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        above: Option<f64>,
        /// Raised so many spreads below.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        below: Option<f64>,
        /// How far from its usual it must be; 0 if not given.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        least: Option<f64>,
        /// `week`: the same time of the week; `day`: of the day. `week` if empty.
        #[serde(default, skip_serializing_if = "String::is_empty")]
        like: String,
    }
    /// Raised when the budget of an objective burns too fast.
    Objective {
        /// The events that count.
        all: String,
        /// Those of them that are good.
        good: String,
        /// How many of a hundred are to be good, as 99.5.
        percent: f64,
        /// Over how long; 30 d if empty.
        #[serde(default, skip_serializing_if = "String::is_empty")]
        period: String,
    }
    /// Raised when what began did not end in time.
    Unfinished {
        /// The beginnings.
        begins: String,
        /// The ends.
        ends: String,
        /// The field that both have.
        tie: String,
        /// How long one may take.
        within: String,
        /// How many may be open too long; 0 if not given.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        above: Option<u64>,
    }
    /// Raised when a kind of failure is new, or came back after it was resolved.
    ErrorGroups {
        /// Which events; all if empty.
        #[serde(default)]
        events: String,
        /// `new`, `returned` or `both`; `both` if empty.
        #[serde(default, skip_serializing_if = "String::is_empty")]
        which: String,
    }
}

/// Why a document is no rule.
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, thiserror::Error)]
#[error("{}{message}; {cure}", place(*line, *column, field))]
pub struct DocumentMistake {
    /// The line, from 1; 0 where it is of no line.
    pub line: usize,
    /// The column, from 1, in characters.
    pub column: usize,
    /// The field at fault, as `threshold.events`.
    pub field: String,
    /// What is wrong.
    pub message: String,
    /// What to do.
    pub cure: String,
}

fn place(line: usize, column: usize, field: &str) -> String {
    let at = if line > 0 { format!("line {line}, column {column}: ") } else { String::new() };
    if field.is_empty() { at } else { format!("{at}`{field}`: ") }
}
