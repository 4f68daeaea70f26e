//! The HTTP surface. The whole URL table stands here.

mod admin;
mod alerts;
mod console;
mod explore;
mod health;
mod queries;
mod senders;
mod session;
mod shaping;

use crate::error::ServiceError;
use crate::intake::{post_events, post_logs, post_traces};
use crate::state::Shared;
use axum::Router;
use axum::http::{HeaderName, HeaderValue, header};
use axum::routing::{delete, get, post, put};
use tower_http::catch_panic::CatchPanicLayer;
use tower_http::compression::CompressionLayer;
use tower_http::set_header::SetResponseHeaderLayer;

/// Everything: intake, interface, console.
pub fn router(app: Shared) -> Router {
    let api = Router::new()
        .route("/login", post(session::login))
        .route("/logout", post(session::logout))
        .route("/me", get(session::me))
        .route("/search", post(queries::search))
        .route("/histogram", post(queries::histogram))
        .route("/measure", post(queries::measure))
        .route("/tail", post(queries::tail))
        .route("/breakdown", post(queries::breakdown))
        .route("/check", post(explore::check))
        .route("/complete", post(explore::complete))
        .route("/range", post(explore::range))
        .route("/found-fields", post(explore::found_fields))
        .route("/shape", post(explore::shape))
        .route("/now", get(explore::now))
        .route("/saved", get(explore::saved))
        .route("/saved/{name}", put(explore::put_saved).delete(explore::remove_saved))
        .route("/story/{id}", get(queries::story))
        .route("/arrivals", get(queries::arrivals))
        .route("/ways-in", get(queries::ways_in))
        .route("/probe", post(senders::probe_ways))
        .route("/lanes", get(admin::lanes))
        .route("/lanes/{name}", put(admin::put_lane))
        .route("/routes", get(admin::routes).put(admin::put_routes))
        .route("/keys", get(senders::keys).post(senders::add_key))
        .route("/keys/{name}", delete(senders::revoke_key))
        .route("/keys/{name}/limits", put(senders::limit_key))
        .route("/keys/{name}/rotate", post(senders::rotate_key))
        .route("/tokens", get(senders::tokens).post(senders::add_token))
        .route("/tokens/{name}", delete(senders::revoke_token))
        .route("/dials", get(senders::dials).post(senders::add_dial))
        .route("/dials/{id}", delete(senders::remove_dial))
        .route("/shaping", get(shaping::rules).put(shaping::put_rules))
        .route("/shaping/try", post(shaping::try_rules))
        .route("/patterns/try", post(shaping::try_patterns))
        .route("/patterns/learn", post(shaping::learn_patterns))
        .route("/ties", get(shaping::ties))
        .route("/ties/proposals", get(shaping::tie_proposals))
        .route("/ties/{name}", put(shaping::put_tie).delete(shaping::remove_tie))
        .route("/fields", get(shaping::fields))
        .route("/users", post(admin::add_user))
        .route("/expire", post(admin::expire))
        .route("/seal", post(admin::seal))
        .route("/merge", post(admin::merge))
        .route("/cache", delete(admin::clear_cache))
        .route("/chunks", get(admin::chunks))
        .route("/chunks/{id}", get(admin::chunk))
        .route("/rules", get(alerts::rules).post(alerts::add_rule))
        .route("/rules/{id}", delete(alerts::remove_rule))
        .route("/alerts", get(alerts::alerts))
        .route("/alerts/{id}/take", post(alerts::take))
        .fallback(no_such_path);
    let pages = Router::new()
        .nest("/api", api)
        .route("/healthz", get(health::alive))
        .route("/readyz", get(health::ready))
        .route("/metrics", get(health::metrics))
        .fallback(console::asset)
        .layer(CompressionLayer::new());
    let set = |name: HeaderName, value| SetResponseHeaderLayer::if_not_present(name, HeaderValue::from_static(value));
    pages
        .merge(intake())
        .layer(set(header::CONTENT_SECURITY_POLICY, console::CONTENT_POLICY))
        .layer(set(header::X_CONTENT_TYPE_OPTIONS, "nosniff"))
        .layer(set(header::REFERRER_POLICY, "no-referrer"))
        .layer(CatchPanicLayer::new())
        .with_state(app)
}

/// Only what sends: for OTLP's standard port.
pub fn otlp_router(app: Shared) -> Router {
    intake().fallback(no_such_path).layer(CatchPanicLayer::new()).with_state(app)
}

fn intake() -> Router<Shared> {
    Router::new()
        .route("/v1/events", post(post_events))
        .route("/v1/logs", post(post_logs))
        .route("/v1/traces", post(post_traces))
        .route("/v1/dials", get(senders::level))
}

async fn no_such_path() -> ServiceError {
    calvex_store::StoreError::Missing("such path; docs/http-api.md lists them".into()).into()
}
