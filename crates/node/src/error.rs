//! The one error of this crate, and the one place where errors become HTTP problems.

use axum::http::{HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use calvex_language::CoreError;
use calvex_language::query::Mistake;
use calvex_store::StoreError;
use calvex_wire::{PROBLEM_MEDIA_TYPE, Problem};

/// What can go wrong in the service.
#[derive(Debug, thiserror::Error)]
pub enum ServiceError {
    /// The database.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// A setting.
    #[error("{0}")]
    Setting(String),
    /// A listening address.
    #[error("cannot listen on {0}: {1}; stop what uses it, or choose another address")]
    Listen(String, String),
    /// No key, token or session, or one that is not good.
    #[error("{0}")]
    NotSignedIn(String),
    /// Signed in, but not allowed.
    #[error("{0}")]
    NotAllowed(String),
    /// The request is at fault.
    #[error("{0}")]
    BadRequest(String),
    /// The query is at fault.
    #[error("the query has {} mistake(s): {}", .0.len(), .0.first().map(ToString::to_string).unwrap_or_default())]
    Query(Vec<Mistake>),
    /// A method that a path does not have; those that it has.
    #[error("this path does not take that method; it takes {0}")]
    WrongMethod(String),
    /// More bytes than are taken.
    #[error("{0}")]
    TooLarge(String),
    /// Events that the database will never take.
    #[error("{0}")]
    NotStorable(String),
    /// A request that did not come in time.
    #[error("{0}")]
    TooSlow(String),
    /// The same idempotency key with another body, or one beyond the window.
    #[error("{0}")]
    Conflict(String),
    /// A media type or encoding that is not understood.
    #[error("{0}")]
    Unsupported(String),
    /// Too many tries.
    #[error("{0}")]
    TooMany(String, u32),
    /// Not now.
    #[error("{0}")]
    Busy(String, u32),
}

impl ServiceError {
    /// The problem that a client gets.
    pub fn problem(&self) -> Problem {
        let reported = |status, kind, title| Problem::new(status, kind, title, self.to_string());
        match self {
            ServiceError::Store(e) if e.is_passing() => {
                tracing::warn!("{e}");
                let detail = "the database does not answer; nothing was taken, try again";
                Problem { retry_after_s: Some(2), ..Problem::new(503, "database-away", "Database away", detail) }
            }
            ServiceError::Store(StoreError::Core(CoreError::Refused(refusal))) => {
                Problem::new(413, "too-large", "Too large", refusal.to_string())
            }
            ServiceError::Store(StoreError::Taken(_)) => reported(409, "taken", "Name taken"),
            ServiceError::Store(StoreError::Missing(_)) => reported(404, "missing", "Not found"),
            ServiceError::Store(StoreError::Full(_)) => reported(409, "full", "No room"),
            ServiceError::Store(StoreError::LastAdmin(_)) => reported(409, "last-administrator", "Last administrator"),
            ServiceError::Store(e) => {
                tracing::error!("{e}");
                Problem::new(500, "internal", "Internal error", "the service failed; its log says why")
            }
            ServiceError::Setting(_) | ServiceError::Listen(..) => reported(500, "internal", "Internal error"),
            ServiceError::NotSignedIn(_) => reported(401, "not-signed-in", "Not signed in"),
            ServiceError::NotAllowed(_) => reported(403, "not-allowed", "Not allowed"),
            ServiceError::WrongMethod(_) => reported(405, "wrong-method", "Wrong method"),
            ServiceError::BadRequest(_) => reported(400, "bad-request", "Bad request"),
            ServiceError::Query(mistakes) => {
                Problem { mistakes: mistakes.clone(), ..reported(400, "query", "Mistakes in the query") }
            }
            ServiceError::TooLarge(_) => reported(413, "too-large", "Too large"),
            ServiceError::NotStorable(_) => reported(422, "not-storable", "Cannot be stored"),
            ServiceError::TooSlow(_) => reported(408, "too-slow", "Too slow"),
            ServiceError::Conflict(_) => reported(422, "idempotency", "Idempotency key misused"),
            ServiceError::Unsupported(_) => reported(415, "unsupported", "Unsupported media"),
            ServiceError::TooMany(_, after) => {
                Problem { retry_after_s: Some(*after), ..reported(429, "too-many", "Too many requests") }
            }
            ServiceError::Busy(_, after) => Problem { retry_after_s: Some(*after), ..reported(503, "busy", "Not now") },
        }
    }
}

impl IntoResponse for ServiceError {
    fn into_response(self) -> Response {
        let problem = self.problem();
        let status = StatusCode::from_u16(problem.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
        let body = serde_json::to_vec(&problem).unwrap_or_default();
        let mut response = (status, [(header::CONTENT_TYPE, PROBLEM_MEDIA_TYPE)], body).into_response();
        let headers = response.headers_mut();
        if let Some(after) = problem.retry_after_s {
            headers.insert(header::RETRY_AFTER, HeaderValue::from(after));
        }
        if problem.status == 401 {
            headers.insert(header::WWW_AUTHENTICATE, HeaderValue::from_static("Bearer realm=\"calvex\""));
        }
        response
    }
}

/// Shorthand used across the crate.
pub type Result<T, E = ServiceError> = std::result::Result<T, E>;

/// The innermost reason, which is the one that explains.
pub fn innermost(mut e: &dyn std::error::Error) -> String {
    while let Some(source) = e.source() {
        e = source;
    }
    e.to_string()
}
