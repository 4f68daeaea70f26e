//! The HTTP surface. The whole URL table stands here.

mod admin;
mod alerts;
mod beside;
mod console;
mod contacts;
mod description;
mod explore;
mod health;
mod people;
mod rules;
mod senders;
mod session;
mod setter;
mod sharing;
mod sign_on;
mod tokens;
mod trail;
mod transforms;

use aide::axum::ApiRouter;
use aide::axum::routing::{delete_with, get_with, post_with, put_with};
use aide::openapi::OpenApi;
use axum::Router;
use axum::routing::get;
use calvex_node::http::{errors, gated, queries, sending, served};
use calvex_node::state::Parts;
use calvex_wire::api::{
    CompareAnswer, ErrorsAnswer, ExportEnd, HistogramAnswer, Me, MeasureAnswer, SearchAnswer, TailLine,
};
use description::{answers, described, lines};
use std::sync::Arc;

/// The interface, each path with what it says of itself.
fn interface() -> ApiRouter<Parts> {
    ApiRouter::new()
        .api_route(
            "/login",
            post_with(session::login, answers::<Me>("Sign in by name and password; answers a session cookie")),
        )
        .api_route("/logout", post_with(session::logout, described("Sign out")))
        .api_route("/redeem", post_with(people::redeem, described("Set a password by a one-time code")))
        .api_route("/me", get_with(session::me, described("Who is asking, and the lanes that may be read")))
        .api_route("/me/password", post_with(people::change_password, described("Change one's own password")))
        .api_route("/me/sessions", get_with(people::sessions, described("One's own sessions that are open")))
        .api_route("/me/sessions/{id}", delete_with(people::end_session, described("End one of one's own sessions")))
        .api_route("/search", post_with(queries::search, answers::<SearchAnswer>("Events found, page by page")))
        .api_route(
            "/histogram",
            post_with(queries::histogram, answers::<HistogramAnswer>("Counts over time, by severity")),
        )
        .api_route(
            "/measure",
            post_with(queries::measure, answers::<MeasureAnswer>("Figures of a query with `measure`")),
        )
        .api_route(
            "/tail",
            post_with(queries::tail, lines::<TailLine>("Events as they come, as NDJSON, until the client goes")),
        )
        .api_route(
            "/export",
            post_with(
                queries::export,
                lines::<ExportEnd>("Every event found, the oldest first, as NDJSON; the account last"),
            ),
        )
        .api_route(
            "/breakdown",
            post_with(queries::breakdown, described("The top values of fields, and how their numbers are spread")),
        )
        .api_route(
            "/check",
            post_with(explore::check, described("A query taken apart, with its mistakes and its one form")),
        )
        .api_route("/complete", post_with(explore::complete, described("What can stand at a place of a query")))
        .api_route("/range", post_with(explore::range, described("What a range as people say it means")))
        .api_route("/found-fields", post_with(explore::found_fields, described("The fields among the events found")))
        .api_route("/shape", post_with(explore::shape, described("A shape, and what its messages hold")))
        .api_route(
            "/now",
            get_with(explore::now, described("How things stand: services against their usual, alerts, marks")),
        )
        .api_route("/saved", get_with(explore::saved, described("Saved searches")))
        .api_route(
            "/saved/{name}",
            put_with(explore::put_saved, described("Save a search"))
                .delete_with(explore::remove_saved, described("Forget a saved search")),
        )
        .api_route("/story/{id}", get_with(queries::story, described("Everything tied to one id, drawn")))
        .api_route(
            "/compare",
            post_with(
                queries::compare,
                answers::<CompareAnswer>("What differs between two sets of events, best first"),
            ),
        )
        .api_route(
            "/errors",
            post_with(errors::groups, answers::<ErrorsAnswer>("The failures of a range, folded into problems")),
        )
        .api_route("/errors/{id}", put_with(errors::say, described("Say that an error group is known or resolved")))
        .api_route("/paste", post_with(queries::paste, described("The ids in a text, and what is tied to each")))
        .api_route("/arrivals", get_with(queries::arrivals, described("What came from whom, and what became of it")))
        .api_route("/ways-in", get_with(queries::ways_in, described("The ways in and their addresses")))
        .api_route(
            "/probe",
            post_with(senders::probe_ways, described("A marked event by each way in, reported step by step")),
        )
        .api_route("/lanes", get_with(admin::lanes, described("Lanes that may be read")))
        .api_route("/lanes/{name}", put_with(admin::put_lane, described("Make or change a lane")))
        .api_route(
            "/routes",
            get_with(admin::routes, described("Routes to lanes, in order"))
                .put_with(admin::put_routes, described("Replace the routes")),
        )
        .api_route(
            "/keys",
            get_with(senders::keys, described("Keys with which senders send"))
                .post_with(senders::add_key, described("Make a key; its secret is reported once")),
        )
        .api_route("/keys/{name}", delete_with(senders::revoke_key, described("Revoke a key")))
        .api_route("/keys/{name}/limits", put_with(senders::limit_key, described("What a key may send")))
        .api_route("/keys/{name}/rotate", post_with(senders::rotate_key, described("Another secret for a key")))
        .api_route(
            "/tokens",
            get_with(tokens::tokens, described("Tokens with which clients read"))
                .post_with(tokens::add_token, described("Make a token; its secret is reported once")),
        )
        .api_route("/tokens/{name}", delete_with(tokens::revoke_token, described("Revoke a token")))
        .api_route(
            "/dials",
            get_with(senders::dials, described("Dials")).post_with(senders::add_dial, described("Set a dial")),
        )
        .api_route("/dials/{id}", delete_with(senders::remove_dial, described("Remove a dial")))
        .api_route(
            "/transforms",
            get_with(transforms::rules, described("Transform rules, in order"))
                .put_with(transforms::put_rules, described("Replace the transform rules")),
        )
        .api_route("/transforms/try", post_with(transforms::try_rules, described("Transform rules tried on events")))
        .api_route("/patterns/try", post_with(transforms::try_patterns, described("Line patterns tried on lines")))
        .api_route(
            "/patterns/learn",
            post_with(transforms::learn_patterns, described("Line patterns proposed from lines")),
        )
        .api_route("/ties", get_with(transforms::ties, described("Ties and their spellings")))
        .api_route(
            "/ties/proposals",
            get_with(transforms::tie_proposals, described("Spellings that share the values of a tie")),
        )
        .api_route(
            "/ties/{name}",
            put_with(transforms::put_tie, described("Make or change a tie"))
                .delete_with(transforms::remove_tie, described("Remove a tie")),
        )
        .api_route("/fields", get_with(transforms::fields, described("The field list")))
        .api_route(
            "/people",
            get_with(people::people, described("Who may sign in, and may do what"))
                .post_with(people::add_person, described("Make a person; without a password, answers a one-time code")),
        )
        .api_route("/people/{name}", put_with(people::change_person, described("Change, disable or enable a person")))
        .api_route(
            "/people/{name}/code",
            post_with(people::make_code, described("A one-time code by which a person sets a password")),
        )
        .api_route(
            "/people/{name}/sessions",
            delete_with(people::end_sessions_of, described("Sign a person out everywhere")),
        )
        .api_route("/teams", get_with(sharing::teams, described("One's own teams; every team for an administrator")))
        .api_route(
            "/teams/{name}",
            put_with(sharing::put_team, described("Make or change a team"))
                .delete_with(sharing::remove_team, described("Remove a team; its grants and tokens end")),
        )
        .api_route(
            "/grants",
            get_with(sharing::grants, described("Grants to oneself and on the lanes that one manages"))
                .post_with(sharing::give, described("Let a team or a person read, configure or manage a lane")),
        )
        .api_route("/grants/{id}", delete_with(sharing::end, described("End a grant, by either side")))
        .api_route("/break-glass", post_with(sharing::break_glass, described("Read a lane for an hour, on call")))
        .api_route("/lanes/{name}/readers", get_with(sharing::readers, described("Who can read a lane, and by what")))
        .api_route("/trail", get_with(trail::trail, described("The audit trail, the latest first")))
        .api_route("/trail/verify", post_with(trail::verify, described("Check every link of the audit trail")))
        .api_route("/nodes", get_with(admin::nodes, described("The nodes of the database, and whether they live")))
        .api_route(
            "/nodes/{name}",
            put_with(admin::change_node, described("Drain a node, or have it take events and duties again"))
                .delete_with(admin::retire_node, described("Free the name of a node that does not live")),
        )
        .api_route("/expire", post_with(admin::expire, described("Drop what is due, now")))
        .api_route(
            "/secrets/rotate",
            post_with(admin::rotate_secrets, described("Seal the secrets that are given back by a new key")),
        )
        .api_route("/seal", post_with(admin::seal, described("Seal every head, now")))
        .api_route("/merge", post_with(admin::merge, described("Merge what can be merged, now")))
        .api_route("/cache", delete_with(admin::clear_cache, described("Forget chunk parts kept near at hand")))
        .api_route("/chunks", get_with(admin::chunks, described("Every chunk, the newest first")))
        .api_route("/chunks/{id}", get_with(admin::chunk, described("A chunk's parts, columns, sizes and encodings")))
        .api_route(
            "/rules",
            get_with(rules::rules, described("Alert rules"))
                .post_with(rules::add_rule, described("Make an alert rule")),
        )
        .api_route("/rules/apply", post_with(rules::apply, described("Make or change a rule by its document")))
        .api_route(
            "/contacts",
            get_with(contacts::contacts, described("Whom rules notify"))
                .post_with(contacts::put_contact, described("Make or change a contact")),
        )
        .api_route(
            "/contacts/{name}/test",
            post_with(contacts::test_contact, described("Send a contact a test message")),
        )
        .api_route("/contacts/{name}", delete_with(contacts::remove_contact, described("Remove a contact")))
        .api_route(
            "/rules/check",
            post_with(rules::check, described("What a rule's document says, or what is wrong with it")),
        )
        .api_route("/rules/rehearse", post_with(rules::rehearse, described("What a rule would have done")))
        .api_route("/rules/{id}/mute", post_with(rules::mute, described("Notify nobody of a rule for a while")))
        .api_route("/rules/{id}", delete_with(rules::remove_rule, described("Remove an alert rule")))
        .api_route("/alerts", get_with(alerts::alerts, described("Alerts, the latest first")))
        .api_route(
            "/alerts/{id}",
            get_with(alerts::alert, described("One alert, with notes and each try to notify of it")),
        )
        .api_route("/alerts/{id}/notes", post_with(alerts::note, described("Write something down about an alert")))
        .api_route("/messages", get_with(contacts::messages, described("The latest messages, with each try")))
        .api_route("/rules/{id}/versions", get_with(rules::versions, described("The documents that a rule had")))
        .api_route("/alerts/{id}/take", post_with(alerts::take, described("Take an alert")))
}

/// The interface's own description, an OpenAPI 3.1 document, as `GET /api/openapi.json` serves it.
pub fn description() -> serde_json::Value {
    with_description().1
}

/// The paths below `/api` with what they answer, and their description.
fn with_description() -> (Router<Parts>, serde_json::Value) {
    let mut document = OpenApi::default();
    description::begin();
    let api = interface().finish_api(&mut document);
    (api, description::complete(document))
}

/// Everything: intake, interface, console.
pub fn router(parts: Parts) -> Router {
    let (api, document) = with_description();
    let document = Arc::new(document);
    let api = api
        .route("/sign-on", get(sign_on::begin))
        .route("/sign-on/done", get(sign_on::done))
        .route("/sign-on/offer", get(sign_on::offer))
        .route("/openapi.json", get(move || async move { axum::Json(document.as_ref().clone()) }));
    let pages = Router::new()
        .nest("/api", gated(&parts, api))
        .route("/healthz", get(health::alive))
        .route("/readyz", get(health::ready))
        .route("/metrics", get(health::metrics))
        .fallback(console::page);
    served(parts, pages, get(senders::level), console::CONTENT_POLICY)
}

/// Only what sends: for OTLP's standard port.
pub fn otlp_router(parts: Parts) -> Router {
    sending(parts, get(senders::level))
}
