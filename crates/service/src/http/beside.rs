//! What the description says of the paths beside the interface: those that senders use, health and metrics. They have
//! bodies of other forms than JSON types, so their part of the description is written here.

use serde_json::{Value, json};

/// The paths, as OpenAPI's path items.
pub(super) fn paths() -> Value {
    let key = json!([{ "key": [] }]);
    let problem = json!({ "$ref": "#/components/schemas/Problem" });
    let problems = json!({
        "description": "what went wrong, where, and the cure (RFC 9457)",
        "content": { "application/problem+json": { "schema": problem } },
    });
    let text = |what: &str, media_type: &str| json!({ "description": what, "content": { media_type: { "schema": { "type": "string" } } } });
    let otlp = |what: &str, message: &str| {
        let both = |message: &str| {
            json!({
                "application/x-protobuf": { "schema": { "type": "string", "format": "binary", "description": message } },
                "application/json": { "schema": { "type": "object", "description": message } },
            })
        };
        json!({ "post": {
            "summary": what,
            "security": key,
            "requestBody": { "required": true, "content": both(message) },
            "responses": {
                "200": { "description": "taken; partial success where some were refused", "content": both("the protocol's answer") },
                "default": { "description": "not taken: a Status message in the encoding of the request", "content": both("google.rpc.Status") },
            },
        }})
    };
    let refused = json!({ "type": "object", "properties": {
        "line": { "type": "integer" }, "reason": { "type": "string" }, "message": { "type": "string" } } });
    let answer = json!({ "type": "object", "required": ["stored", "refused", "set_aside"], "properties": {
        "stored": { "type": "integer" }, "refused": { "type": "integer" }, "set_aside": { "type": "integer" },
        "repeated": { "type": "boolean" }, "refusals": { "type": "array", "items": refused } } });
    let health = |what: &str| {
        json!({ "get": { "summary": what, "security": [], "responses": {
            "200": text("well", "text/plain"), "503": text("not well, and why", "text/plain") } } })
    };
    let named = |name: &str| json!({ "name": name, "in": "query", "schema": { "type": "string" } });
    json!({
        "/v1/events": { "post": {
            "summary": "Send events: NDJSON, or one JSON array",
            "security": key,
            "parameters": [{ "name": "idempotency-key", "in": "header", "schema": { "type": "string", "minLength": 1, "maxLength": 256 },
                "description": "the same body under the same key is stored once" }],
            "requestBody": { "required": true, "content": { "application/x-ndjson": { "schema": { "type": "string" } } } },
            "responses": {
                "200": { "description": "stored, and which lines were not", "content": { "application/json": { "schema": answer } } },
                "default": problems,
            },
        }},
        "/v1/logs": otlp("Send OTLP logs", "ExportLogsServiceRequest"),
        "/v1/traces": otlp("Send OTLP spans", "ExportTraceServiceRequest"),
        "/v1/metrics": { "post": {
            "summary": "Metrics are not taken: answered 404 and counted in arrivals",
            "security": key,
            "responses": { "404": { "description": "a Status message, or a problem" }, "default": problems },
        }},
        "/v1/dials": { "get": {
            "summary": "The dials that concern a sender",
            "security": key,
            "parameters": [named("service"), named("host")],
            "responses": {
                "200": { "description": "the least severity to send", "content": { "application/json": { "schema": { "type": "object" } } } },
                "304": { "description": "unchanged since the ETag given" },
                "default": problems,
            },
        }},
        "/healthz": health("Whether the service lives"),
        "/readyz": health("Whether it can store and find"),
        "/metrics": { "get": {
            "summary": "The service's own figures, of the lanes that may be read",
            "responses": { "200": text("OpenMetrics", "application/openmetrics-text"), "default": problems },
        }},
    })
}
