//! Requests and answers of the HTTP interface, as service, client and tests share them. `docs/http-api.md` describes them.

mod alerts;
mod arrivals;
mod compare;
mod errors;
mod explore;
mod lanes;
mod measure;
mod now;
mod people;
mod rehearse;
mod search;
mod senders;
mod sharing;
mod transforms;

pub use alerts::{
    Alert, AlertInFull, AppliedRule, ApplyRule, ContactListed, Explained, ExplainedLine, ExplainedStrip, GroupOfAlert,
    GroupOfRule, MadeContact, MadeRule, Message, MuteRule, MutedRule, NewRule, NoteAlert, NoteOfAlert, Notified, Rule,
    RuleVersion, Tried,
};
pub use arrivals::{Arrival, ArrivalsAnswer, Probed, Refused, SetAside, WayIn};
pub use compare::{CompareAnswer, CompareRequest, ComparedSide};
pub use errors::{ErrorExample, ErrorGroup, ErrorsAnswer, ErrorsRequest, FailedRelease, SaidOfGroup, SayOfGroup};
pub use explore::{
    CheckAnswer, CompleteAnswer, CompleteRequest, FoundField, FoundFieldsAnswer, Proposal, RangeMeant, SavedSearch,
    ShapeAnswer, ShapeRequest, SpokenRange, TemplateVariable,
};
pub use lanes::{ChunkSummary, Lane, NodeChange, NodeListed, Route};
pub use measure::{
    AggregateColumn, BreakdownAnswer, BreakdownRequest, FieldAnswer, GroupAnswer, MeasureAnswer, ValueCount,
};
pub use now::{MarkNow, NowAnswer, ServiceFigures, ServiceNow, SilentService};
pub use people::{
    ChangePassword, ChangePerson, LanePart, LoginRequest, MadeSecret, Me, NewPerson, NewToken, PasswordCode,
    PersonListed, Redeem, SessionListed, TokenListed,
};
pub use rehearse::{CheckedRule, RaisedInTruth, RehearsalAnswer, RehearseRequest, RehearsedMark, RuleText};
pub use search::{
    EmptyAnswer, ExportAccount, ExportEnd, FoundId, HistogramAnswer, PasteRequest, RangeAnswer, RelatedId,
    SearchAnswer, SearchRequest, StoryAnswer, StreamLine, TailLine,
};
pub use senders::{Dial, Key, KeyLimits, KeySecret, NewDial, NewKey, Rotation};
pub use sharing::{
    BreakGlass, GrantListed, LaneReaderListed, NewGrant, PutTeam, TeamListed, TrailEntry, TrailVerified,
};
pub use transforms::{
    CutShown, FieldListed, FieldsRequest, LearntPatterns, ProposedPattern, TieListed, TransformRule, TriedEvent,
    TriedLine, TryPatterns, TryTransforms,
};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// The header by which a batch is stored once however often it is sent.
pub const IDEMPOTENCY_HEADER: &str = "idempotency-key";
/// The header that the console sends with every request that changes something.
pub const CONSOLE_HEADER: &str = "x-calvex-console";
/// The cookie of a console session.
pub const SESSION_COOKIE: &str = "calvex_session";

/// What became of a sent batch.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct SendAnswer {
    /// Events stored.
    pub stored: usize,
    /// Events refused.
    pub refused: usize,
    /// Events not stored on purpose: by a transform rule, a dial or a daily quota.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub set_aside: usize,
    /// The first of these, with line and reason.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub refusals: Vec<RefusedEvent>,
    /// The batch had been stored before; this is the answer given then.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub repeated: bool,
}

fn is_zero(n: &usize) -> bool {
    *n == 0
}

/// One refused event.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct RefusedEvent {
    /// Line of the body, or the place among the records, from 1.
    pub line: usize,
    /// A stable code.
    pub reason: String,
    /// What, where, cure.
    pub message: String,
}
