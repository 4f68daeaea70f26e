//! Step 12 in core: alert rules. A rule is a document ([`document`]); of each of its groups a value is worked out at every
//! moment ([`strips`]), from figures of its steps ([`joined`]) that are kept
//! between judgements ([`rings`]); the value moves the group's state
//! ([`states`]); groups that are raised at one time make an alert ([`alerts`]), unless a mute is of them ([`mutes`]); its
//! contacts are notified by their hours ([`contacting`]). A rule whose sources are silent is blind ([`sources`]). A rehearsal
//! plays the same walk over the past ([`rehearse`]); a turn of judging goes on from the last one, or back to where events came
//! late ([`turn`]).
//!
//! Windows go by event time. A rule is judged at every multiple of its step, `delay` after the moment judged, over the
//! window that ends there. Late events may touch windows that were judged already; these are judged again.

mod alerts;
mod compile;
mod contacting;
mod deviation;
mod document;
mod joined;
mod mutes;
mod places;
mod rehearse;
mod rings;
mod sentence;
mod sources;
mod states;
mod strips;
#[cfg(test)]
mod tests;
mod turn;
mod usual;
mod usual_days;

pub use alerts::{GroupRaising, Stood, settle};
pub use compile::{Form, Rule};
pub use contacting::{Call, Heard, Hours, Later, first_calls, later_calls};
pub use document::{
    Deviation, DocumentMistake, ErrorGroups, FirstSeen, MAX_DOCUMENT_BYTES, Objective, RuleDocument, Share, Silence,
    Threshold, Unfinished, Urgency,
};
pub use mutes::{mute_filter, mutes_group};
pub use rehearse::{Bin, Rehearsal, Rehearsed, rehearse, replay};
pub use rings::Rings;
pub use sources::{silent_since, source_rule};
pub use states::{Bound, Move, Raising, Side, Standing, Walked, judge, raisings, walk, walk_blind};
pub use strips::{Known, MAX_GROUPS, Moments, Resolved, Strip, Strips, group_hash, strips};
pub use turn::{Mutes, Standings, Turn, WalkedAll, stood_at, walk_all};
pub use usual_days::{USUAL_DAY_NS, USUAL_DAYS, Usual, UsualDay, decode_usual_day, encode_usual_day, usual_day};
