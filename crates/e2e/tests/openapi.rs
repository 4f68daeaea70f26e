//! The description of the interface against its real answers: every path it describes is asked, and what is answered fits the
//! schema it gives; what is no request is answered by a problem.

#![allow(clippy::indexing_slicing, reason = "JSON is asked by place; what is missing is null and fails its assertion")]

use anyhow::{Context, Result};
use calvex_e2e::service::{Service, wait_for};
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};

/// Whether `value` fits the schema that stands at `pointer` of the description.
fn fits(document: &Value, schema: &Value, value: &Value) -> Result<()> {
    let whole = json!({ "allOf": [schema], "components": document["components"] });
    let judge = jsonschema::validator_for(&whole)?;
    let wrong: Vec<String> = judge.iter_errors(value).map(|e| format!("{}: {e}", e.instance_path())).take(3).collect();
    anyhow::ensure!(wrong.is_empty(), "{wrong:?} in {value}");
    Ok(())
}

/// Holds the description against the specification's own schema, by a validator in Python that carries it.
fn is_valid(document: &Value) -> Result<()> {
    let python = concat!(env!("CARGO_MANIFEST_DIR"), "/../../target/clients/python/bin/python");
    let script = "import json, sys\nfrom openapi_spec_validator import OpenAPIV31SpecValidator as V\n\
                  for e in V(json.load(sys.stdin)).iter_errors(): print(list(e.absolute_path), e.message)";
    let mut judge = std::process::Command::new(python)
        .args(["-c", script])
        .stdin(std::process::Stdio::piped())
        .stdout(std::process::Stdio::piped())
        .spawn()
        .context("the clients are not prepared; `./run test` does it")?;
    serde_json::to_writer(judge.stdin.take().context("no input")?, document)?;
    let judged = judge.wait_with_output()?;
    let wrong = String::from_utf8_lossy(&judged.stdout);
    anyhow::ensure!(judged.status.success() && wrong.is_empty(), "the description is no OpenAPI 3.1: {wrong}");
    Ok(())
}

/// A rule's document.
const RULE: &str = "name = 'doors'\n[threshold]\nevents = 'door'\nover = '1m'\nabove = 0";

/// What to ask each path with, in an order in which it can be answered.
fn asks() -> Vec<(Method, &'static str, &'static str, Value)> {
    use Method as M;
    let none = Value::Null;
    let query = json!({"query": "severity>=info", "from": "now-1d"});
    vec![
        (M::GET, "/api/me", "", none.clone()),
        (M::POST, "/api/search", "", query.clone()),
        (M::POST, "/api/search", "", json!({"query": "htpp.status=1"})),
        (M::POST, "/api/histogram", "", query.clone()),
        (M::POST, "/api/measure", "", json!({"query": "measure count, p95(took_ms) per service, shape every 5m"})),
        (M::POST, "/api/breakdown", "", json!({"query": "", "fields": ["service", "took_ms", "shape"]})),
        (M::POST, "/api/check", "", json!({"query": "severity>=loud and (a or b"})),
        (M::POST, "/api/complete", "", json!({"query": "s", "at": 1})),
        (M::POST, "/api/range", "", json!({"text": "yesterday 2am to 3am"})),
        (M::POST, "/api/found-fields", "", query),
        (M::POST, "/api/shape", "", json!({"message": "door 4 opened"})),
        (M::GET, "/api/now", "", none.clone()),
        (M::PUT, "/api/saved/{name}", "early ends", json!({"name": "", "query": "lease"})),
        (M::GET, "/api/saved", "", none.clone()),
        (M::DELETE, "/api/saved/{name}", "early ends", none.clone()),
        (M::GET, "/api/story/{id}", "PX-00001", none.clone()),
        (M::POST, "/api/paste", "", json!({"text": "parcel PX-00001 is late"})),
        (M::POST, "/api/errors", "", json!({"query": "", "from": "now-1d"})),
        (M::POST, "/api/compare", "", json!({"query": "", "before_query": "door"})),
        (M::GET, "/api/arrivals", "?hours=2", none.clone()),
        (M::GET, "/api/ways-in", "", none.clone()),
        (M::PUT, "/api/lanes/{name}", "audit", json!({"name": "audit", "retention_days": 400})),
        (M::GET, "/api/lanes", "", none.clone()),
        (M::PUT, "/api/routes", "", json!([{"filter": "service=access", "lane": "audit"}])),
        (M::GET, "/api/routes", "", none.clone()),
        (M::POST, "/api/keys", "", json!({"name": "belt", "limits": {"services": ["sorter"], "per_second": 100}})),
        (M::GET, "/api/keys", "", none.clone()),
        (M::PUT, "/api/keys/{name}/limits", "belt", json!({"day_events": 1000})),
        (M::POST, "/api/keys/{name}/rotate", "belt", json!({"overlap_s": 60})),
        (M::DELETE, "/api/keys/{name}", "belt", none.clone()),
        (M::POST, "/api/tokens", "", json!({"name": "night"})),
        (M::GET, "/api/tokens", "", none.clone()),
        (M::DELETE, "/api/tokens/{name}", "night", none.clone()),
        (M::POST, "/api/dials", "", json!({"when": "service=sorter", "least": "warn", "for_s": 60, "why": "storm"})),
        (M::GET, "/api/dials", "", none.clone()),
        (M::DELETE, "/api/dials/{id}", "1", none.clone()),
        (M::PUT, "/api/transforms", "", json!([{"name": "night", "when": "", "act": {"stamp": {"shift": "night"}}}])),
        (M::GET, "/api/transforms", "", none.clone()),
        (M::POST, "/api/transforms/try", "", json!({"events": "{\"msg\": \"door 4 opened\"}\nno json"})),
        (
            M::POST,
            "/api/patterns/try",
            "",
            json!({"patterns": ["door {number door} opened"], "lines": ["door 4 opened", "no"]}),
        ),
        (M::POST, "/api/patterns/learn", "", json!(["door 4 opened", "door 5 opened"])),
        (M::PUT, "/api/ties/{name}", "bank", json!({"name": "bank", "spellings": ["slot.bank", "bank"]})),
        (M::GET, "/api/ties", "", none.clone()),
        (M::GET, "/api/ties/proposals", "", none.clone()),
        (M::DELETE, "/api/ties/{name}", "bank", none.clone()),
        (M::GET, "/api/fields", "", none.clone()),
        (M::POST, "/api/people", "", json!({"name": "liv", "role": "reader"})),
        (M::GET, "/api/people", "", none.clone()),
        (M::POST, "/api/people/{name}/code", "liv", none.clone()),
        (M::PUT, "/api/people/{name}", "liv", json!({"role": "auditor", "disabled": false})),
        (M::DELETE, "/api/people/{name}/sessions", "liv", none.clone()),
        (M::PUT, "/api/teams/{name}", "lockers", json!({"members": ["liv"], "on_call": true})),
        (M::GET, "/api/teams", "", none.clone()),
        (
            M::POST,
            "/api/grants",
            "",
            json!({"lane": "main", "team": "lockers", "may": "read", "rows": "service=slots", "hidden": ["a.b"]}),
        ),
        (M::GET, "/api/grants", "?lane=main", none.clone()),
        (M::GET, "/api/lanes/{name}/readers", "main", none.clone()),
        (M::DELETE, "/api/grants/{id}", "3", none.clone()),
        (M::DELETE, "/api/teams/{name}", "lockers", none.clone()),
        (M::GET, "/api/trail", "?limit=5", none.clone()),
        (M::POST, "/api/trail/verify", "", none.clone()),
        (M::POST, "/api/secrets/rotate", "", none.clone()),
        (M::POST, "/api/rules", "", json!({"name": "storm", "query": "severity>=error", "window_s": 60, "above": 5})),
        (M::GET, "/api/rules", "", none.clone()),
        (M::POST, "/api/rules/{id}/mute", "1", json!({"for": "2h", "why": "the depot is closed"})),
        (M::GET, "/api/rules", "", none.clone()),
        (M::GET, "/api/rules/{id}/versions", "1", none.clone()),
        (M::DELETE, "/api/rules/{id}", "1", none.clone()),
        (M::POST, "/api/contacts", "", json!({"name": "pager", "webhook": "http://127.0.0.1:1/"})),
        (M::GET, "/api/contacts", "", none.clone()),
        (M::GET, "/api/messages", "", none.clone()),
        (M::POST, "/api/contacts/{name}/test", "pager", none.clone()),
        (M::DELETE, "/api/contacts/{name}", "pager", none.clone()),
        (M::POST, "/api/rules/check", "", json!({"document": "name = 'x'\n[silence]\nper = ['service']"})),
        (M::POST, "/api/rules/rehearse", "", json!({"document": RULE, "days": 1})),
        (M::POST, "/api/rules/apply", "", json!({"document": RULE})),
        (M::GET, "/api/alerts", "", none.clone()),
        (M::GET, "/api/nodes", "", none.clone()),
        (M::POST, "/api/seal", "", none.clone()),
        (M::GET, "/api/chunks", "", none.clone()),
        (M::POST, "/api/merge", "", none.clone()),
        (M::POST, "/api/expire", "", none.clone()),
        (M::DELETE, "/api/cache", "", none.clone()),
        (M::POST, "/api/probe", "", none),
    ]
}

/// Those asked by other tests, since they need more than one request: they must be described all the same.
const ELSEWHERE: [&str; 23] = [
    "/v1/events",
    "/v1/logs",
    "/v1/traces",
    "/v1/metrics",
    "/v1/dials",
    "/healthz",
    "/readyz",
    "/metrics",
    "/api/login",
    "/api/logout",
    "/api/redeem",
    "/api/break-glass",
    "/api/me/password",
    "/api/me/sessions",
    "/api/me/sessions/{id}",
    "/api/tail",
    "/api/export",
    "/api/chunks/{id}",
    "/api/alerts/{id}",
    "/api/alerts/{id}/notes",
    "/api/alerts/{id}/take",
    "/api/nodes/{name}",
    "/api/errors/{id}",
];

#[tokio::test(flavor = "multi_thread")]
async fn answers_are_what_is_described() -> Result<()> {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let service = Service::start(&[])?;
    let now = jiff::Timestamp::now();
    let lines: String = (0..20)
        .map(|n| {
            let event = json!({"time": (now - jiff::SignedDuration::from_secs(n)).to_string(), "service": "slots",
                "level": if n % 5 == 0 { "error" } else { "info" }, "msg": format!("door {n} opened"), "took_ms": n,
                "mark": "a release", "parcel": {"id": "PX-00001"}, "trace_id": format!("{:032x}", n + 1)});
            format!("{event}\n")
        })
        .collect();
    anyhow::ensure!(
        service.calvex_with(&["send", "--quiet"], (lines + "no json\n").as_bytes())?.status.code() == Some(2)
    );
    wait_for("the events", || Ok((service.search("", &[])?.len() == 20).then_some(())))?;

    let http = reqwest::Client::builder().no_proxy().build()?;
    let ask =
        |method: Method, path: &str| http.request(method, format!("{}{path}", service.url)).bearer_auth(&service.token);
    let response = ask(Method::GET, "/api/openapi.json").send().await?;
    assert!(response.headers().contains_key("x-request-id"));
    let document: Value = response.json().await?;
    assert!(document["openapi"].as_str().is_some_and(|v| v.starts_with("3.1")), "{}", document["openapi"]);

    is_valid(&document)?;
    let mut asked: Vec<String> = ELSEWHERE.map(str::to_owned).into();
    for (method, path, rest, body) in asks() {
        let described = &document["paths"][path][method.as_str().to_lowercase()];
        assert!(described["summary"].is_string(), "{method} {path} is not described");
        asked.push(path.to_owned());
        let to = match path.split_once('{') {
            Some((before, after)) => {
                let value: String = rest.bytes().map(|b| format!("%{b:02X}")).collect();
                format!("{before}{value}{}", after.split_once('}').context("no end")?.1)
            }
            None => format!("{path}{rest}"),
        };
        let mut request = ask(method.clone(), &to);
        if !body.is_null() {
            let schema = &described["requestBody"]["content"]["application/json"]["schema"];
            fits(&document, schema, &body).with_context(|| format!("the request of {method} {path}"))?;
            request = request.json(&body);
        }
        let response = request.send().await?;
        let status = response.status();
        let text = response.text().await?;
        assert!(status.is_success(), "{method} {path}: {status} {text}");
        let answers = &described["responses"];
        assert!(
            answers["default"]["content"]["application/problem+json"].is_object(),
            "{method} {path} shows no problem"
        );
        if !text.is_empty() {
            let schema = &answers["200"]["content"]["application/json"]["schema"];
            assert!(!schema.is_null(), "{method} {path} answers what is not described: {answers}");
            fits(&document, schema, &serde_json::from_str(&text)?).with_context(|| format!("{method} {path}"))?;
        }
    }
    let paths = document["paths"].as_object().context("no paths")?;
    let forgotten: Vec<&String> = paths.keys().filter(|p| !asked.contains(p)).collect();
    assert!(forgotten.is_empty(), "described, but asked by no test: {forgotten:?}");

    // What is no request is a problem of the described form, with the id under which the log speaks of it.
    let response = ask(Method::POST, "/api/search")
        .header("x-request-id", "from-a-test")
        .json(&json!({"query": "severity>=loud"}))
        .send()
        .await?;
    assert_eq!(response.status(), StatusCode::BAD_REQUEST);
    assert_eq!(response.headers().get("x-request-id").and_then(|v| v.to_str().ok()), Some("from-a-test"));
    let problem: Value = response.json().await?;
    fits(&document, &json!({"$ref": "#/components/schemas/Problem"}), &problem)?;
    for body in ["{", "7", "{\"quer\": \"\"}", "[]", "[\"lease\"]"] {
        let response =
            ask(Method::POST, "/api/search").header("content-type", "application/json").body(body).send().await?;
        assert!(response.status().is_client_error());
        let kind = response.headers().get("content-type").and_then(|v| v.to_str().ok()).unwrap_or("").to_owned();
        assert!(
            kind.starts_with("application/problem+json"),
            "{body} is answered as {kind}: {}",
            response.text().await?
        );
    }
    Ok(())
}
