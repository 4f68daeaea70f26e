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
    /// `admin` or `reader`.
    pub role: String,
    /// The lanes that may be read.
    pub lanes: Vec<String>,
}

/// A person to be made.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct NewUser {
    /// To sign in with.
    #[schemars(regex(pattern = r"^[A-Za-z0-9._-]{1,64}$"))]
    pub name: String,
    /// At least 10 characters.
    #[schemars(length(min = 10))]
    pub password: String,
    /// `admin` or `reader`.
    #[schemars(extend("enum" = ["admin", "reader"]))]
    pub role: String,
    /// The lanes a reader may read.
    #[serde(default)]
    pub lanes: Vec<String>,
}

/// To make a reader's token.
#[derive(Debug, Clone, Default, Serialize, Deserialize, JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct NewToken {
    /// What it is called.
    pub name: String,
    /// The only lanes it may read; all of its owner's if empty.
    pub lanes: Vec<String>,
    /// `read`, which changes nothing, or `administer`; read if not given.
    #[schemars(extend("enum" = ["read", "administer", null]))]
    pub purpose: Option<String>,
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
    /// `read` or `administer`.
    pub purpose: String,
    /// RFC 3339.
    pub created: String,
    /// RFC 3339; none if still good.
    pub revoked: Option<String>,
}
