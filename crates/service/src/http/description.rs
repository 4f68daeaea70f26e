//! The interface's own description (OpenAPI 3.1), made from the same table that routes requests and from the types that
//! are answered, so that neither can be forgotten. `GET /api/openapi.json` serves it.

use aide::openapi::{
    Info, OpenApi, Operation, Parameter, ParameterData, ParameterSchemaOrContent, PathStyle, ReferenceOr,
    Response as Described, SecurityScheme, StatusCode as Code,
};
use aide::transform::TransformOperation;
use axum::Json;
use calvex_node::described::problem;
use calvex_wire::api::SESSION_COOKIE;
use schemars::JsonSchema;
use serde_json::Value;

/// Sets the line that summarises a path.
pub fn described(what: &'static str) -> impl FnOnce(TransformOperation) -> TransformOperation {
    move |op| op.summary(what)
}

/// As [`described`], of a path that answers `T`, whole or line by line.
pub fn answers<T: JsonSchema>(what: &'static str) -> impl FnOnce(TransformOperation) -> TransformOperation {
    move |op| op.summary(what).response::<200, Json<T>>()
}

/// As [`described`], of a path that answers lines of `T`.
pub fn lines<T: JsonSchema>(what: &'static str) -> impl FnOnce(TransformOperation) -> TransformOperation {
    move |op| {
        op.summary(what).response_with::<200, Json<T>, _>(|mut r| {
            let answer = r.inner();
            if let Some(one) = answer.content.swap_remove("application/json") {
                answer.content.insert("application/x-ndjson".to_owned(), one);
            }
            r
        })
    }
}

/// Schemas are written as JSON Schema 2020-12, which OpenAPI 3.1 is made of.
pub fn begin() {
    let settings = schemars::generate::SchemaSettings::draft2020_12().with(|s| {
        s.definitions_path = "#/components/schemas/".into();
    });
    aide::generate::in_context(|context| context.schema = settings.into_generator());
}

/// Completes the document that the routes made.
pub fn complete(mut document: OpenApi) -> Value {
    document.info = Info {
        title: "Calvex".to_owned(),
        summary: Some("Keeps log events and finds them again".to_owned()),
        version: env!("CARGO_PKG_VERSION").to_owned(),
        ..Info::default()
    };
    let parts = document.components.get_or_insert_default();
    let scheme = |scheme| ReferenceOr::Item(scheme);
    let token = SecurityScheme::Http {
        scheme: "bearer".to_owned(),
        bearer_format: None,
        description: Some("a reader's token".to_owned()),
        extensions: Default::default(),
    };
    let session = SecurityScheme::ApiKey {
        location: aide::openapi::ApiKeyLocation::Cookie,
        name: SESSION_COOKIE.to_owned(),
        description: Some(
            "the console's session; what changes something also needs the header x-calvex-console".to_owned(),
        ),
        extensions: Default::default(),
    };
    let key = SecurityScheme::Http {
        scheme: "bearer".to_owned(),
        bearer_format: None,
        description: Some("a sender's key".to_owned()),
        extensions: Default::default(),
    };
    parts.security_schemes.insert("key".to_owned(), scheme(key));
    parts.security_schemes.insert("token".to_owned(), scheme(token));
    parts.security_schemes.insert("session".to_owned(), scheme(session));
    document.security = ["token", "session"].map(|name| [(name.to_owned(), Vec::new())].into_iter().collect()).into();
    if let Some(paths) = document.paths.take() {
        let paths = paths.paths.into_iter().map(|(path, item)| {
            let item = match item {
                ReferenceOr::Item(mut item) => {
                    let all = [&mut item.get, &mut item.put, &mut item.post, &mut item.delete];
                    all.into_iter().flatten().for_each(|operation| complete_operation(&path, operation));
                    ReferenceOr::Item(item)
                }
                other => other,
            };
            (format!("/api{path}"), item)
        });
        document.paths = Some(aide::openapi::Paths { paths: paths.collect(), ..Default::default() });
    }
    // Made of plain data, so that writing it cannot fail; without it the description would merely be missing.
    let mut document = serde_json::to_value(&document).unwrap_or_default();
    if let (Some(paths), Value::Object(beside)) = (document["paths"].as_object_mut(), super::beside::paths()) {
        paths.extend(beside);
    }
    without_void_defaults(&mut document);
    document
}

/// Takes out the defaults of members that are bounded: an empty name is what stands in for a missing one while a request
/// is read, and is refused.
fn without_void_defaults(node: &mut Value) {
    match node {
        Value::Object(members) => {
            if ["enum", "pattern", "minLength", "minimum"].iter().any(|bound| members.contains_key(*bound)) {
                members.remove("default");
            }
            members.values_mut().for_each(without_void_defaults);
        }
        Value::Array(list) => list.iter_mut().for_each(without_void_defaults),
        _ => {}
    }
}

/// The names in a path are parameters, and anything may answer a problem.
fn complete_operation(path: &str, operation: &mut Operation) {
    let names = path.split('/').filter_map(|part| part.strip_prefix('{')?.strip_suffix('}'));
    operation.parameters.retain(|p| !matches!(p, ReferenceOr::Item(Parameter::Path { .. })));
    for name in names {
        let schema = schemars::json_schema!({ "type": "string" });
        operation.parameters.push(ReferenceOr::Item(Parameter::Path {
            parameter_data: ParameterData {
                name: name.to_owned(),
                description: None,
                required: true,
                deprecated: None,
                format: ParameterSchemaOrContent::Schema(aide::openapi::SchemaObject {
                    json_schema: schema,
                    example: None,
                    external_docs: None,
                }),
                example: None,
                examples: Default::default(),
                explode: None,
                extensions: Default::default(),
            },
            style: PathStyle::Simple,
        }));
    }
    let responses = operation.responses.get_or_insert_default();
    // Whoever is not signed in learns so, whatever is asked.
    responses.default.get_or_insert_with(|| {
        ReferenceOr::Item(problem(schemars::json_schema!({ "$ref": "#/components/schemas/Problem" })))
    });
    if responses.responses.is_empty() {
        let done = Described { description: "done; nothing more to show".to_owned(), ..Described::default() };
        responses.responses.insert(Code::Code(204), ReferenceOr::Item(done));
    }
}
