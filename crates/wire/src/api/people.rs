//! Who signs in, and the secrets they are given.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// Credentials of a person.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[allow(missing_docs)]
pub struct LoginRequest {
    pub name: String,
    pub password: String,
}

/// Who is asking.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Me {
    /// The person.
    pub name: String,
    /// `admin`, `auditor` or `reader`.
    pub role: String,
    /// The lanes that may be read, or a part of them.
    pub lanes: Vec<String>,
    /// The lanes of which a part only may be read, with the fields that are hidden.
    pub parts: Vec<LanePart>,
    /// The teams one is in.
    pub teams: Vec<String>,
    /// Whether anything may be changed.
    pub changes: bool,
    /// Whether one may break the glass.
    pub on_call: bool,
    /// The lanes whose terms and grants one may change.
    pub manages: Vec<String>,
    /// The lanes over which one may make rules.
    pub configures: Vec<String>,
    /// Where browsers reach the other nodes that live, for when this one does not answer.
    pub nodes: Vec<String>,
}

/// What may be read of a lane, where that is not all.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct LanePart {
    /// The lane.
    pub lane: String,
    /// The filters of which one must pass; all rows where there is none.
    pub rows: Vec<String>,
    /// Fields that are hidden in some rows at least.
    pub hidden: Vec<String>,
}

/// A person to be made.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct NewPerson {
    /// To sign in with.
    #[schemars(regex(pattern = r"^[A-Za-z0-9._-]{1,64}$"))]
    pub name: String,
    /// At least 10 characters; without one, the person sets it by the code that is answered.
    #[serde(default)]
    #[schemars(length(min = 10))]
    pub password: Option<String>,
    /// `admin`, `auditor` or `reader`.
    #[schemars(extend("enum" = ["admin", "auditor", "reader"]))]
    pub role: String,
    /// Lanes that the person may read all of; each is a grant, which whoever asks must be able to give.
    #[serde(default)]
    pub lanes: Vec<String>,
}

/// What is changed of a person; what is left out stays.
#[derive(Debug, Clone, Default, Serialize, Deserialize, JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct ChangePerson {
    /// `admin`, `auditor` or `reader`.
    #[schemars(extend("enum" = ["admin", "auditor", "reader", null]))]
    pub role: Option<String>,
    /// Whether the person may not sign in: sessions end and tokens are revoked.
    pub disabled: Option<bool>,
}

/// A person as listed.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct PersonListed {
    /// To sign in with.
    pub name: String,
    /// `admin`, `auditor` or `reader`.
    pub role: String,
    /// The lanes that the person may read, or a part of them.
    pub lanes: Vec<String>,
    /// The teams the person is in.
    pub teams: Vec<String>,
    /// Whether the person signs in by the provider.
    pub by_provider: bool,
    /// RFC 3339.
    pub created: String,
    /// Since when the person may not sign in, RFC 3339; none where the person may.
    pub disabled: Option<String>,
    /// Sessions that are open.
    pub sessions: u64,
    /// When a session was last used, RFC 3339; none where none is kept.
    pub seen: Option<String>,
}

/// A one-time code by which a person sets a password. It is shown this once.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct PasswordCode {
    /// The person.
    pub name: String,
    /// The code; none where the person has a password already.
    pub code: Option<String>,
    /// When it ends, RFC 3339.
    pub until: Option<String>,
}

/// A code, and the password that is set by it.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Redeem {
    /// As an administrator gave it.
    pub code: String,
    /// At least 10 characters.
    #[schemars(length(min = 10))]
    pub password: String,
}

/// Another password.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ChangePassword {
    /// The one there is.
    pub password: String,
    /// At least 10 characters.
    #[schemars(length(min = 10))]
    pub new_password: String,
}

/// A session as listed.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct SessionListed {
    /// Its number.
    pub id: u64,
    /// RFC 3339.
    pub begun: String,
    /// When it was last used, to the minute, RFC 3339.
    pub seen: String,
    /// When it ends, RFC 3339; earlier where nobody uses it for two hours.
    pub until: String,
    /// From where it was begun.
    pub address: String,
    /// Whether it is the one that asks.
    pub own: bool,
}

/// To make a reader's token.
#[derive(Debug, Clone, Default, Serialize, Deserialize, JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct NewToken {
    /// What it is called.
    pub name: String,
    /// The only lanes it may read; all of its owner's if empty.
    pub lanes: Vec<String>,
    /// `read`, which changes nothing, `configure`, which changes what may be changed in lanes, or `administer`; read if not
    /// given.
    #[schemars(extend("enum" = ["read", "configure", "administer", null]))]
    pub purpose: Option<String>,
    /// The team whose token it is; one's own if none.
    pub team: Option<String>,
    /// When it ends by itself, RFC 3339.
    pub until: Option<String>,
}

/// A key or token just made. The secret is shown this once.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
#[allow(missing_docs)]
pub struct MadeSecret {
    pub name: String,
    pub secret: String,
}

/// A token as listed.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct TokenListed {
    /// What it is called.
    pub name: String,
    /// How its secret begins.
    pub prefix: String,
    /// `read`, `configure` or `administer`.
    pub purpose: String,
    /// The person or team whose it is.
    pub owner: String,
    /// When it ends by itself, RFC 3339.
    pub until: Option<String>,
    /// RFC 3339.
    pub created: String,
    /// RFC 3339; none if still good.
    pub revoked: Option<String>,
}
