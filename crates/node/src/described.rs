//! What the interface's description (OpenAPI 3.1) has of who asks, and of errors.

use crate::auth::peer::Peer;
use crate::auth::{Admin, Auditor, Editor, Reader};
use crate::error::ServiceError;
use aide::generate::GenContext;
use aide::openapi::{MediaType, Operation, Response as Described};
use aide::{OperationInput, OperationOutput};
use calvex_wire::{PROBLEM_MEDIA_TYPE, Problem};

/// The answer of a request that failed, by its schema.
pub fn problem(json_schema: schemars::Schema) -> Described {
    let schema = aide::openapi::SchemaObject { json_schema, example: None, external_docs: None };
    let reported = MediaType { schema: Some(schema), ..MediaType::default() };
    Described {
        description: "what went wrong, where, and the cure (RFC 9457)".to_owned(),
        content: [(PROBLEM_MEDIA_TYPE.to_owned(), reported)].into_iter().collect(),
        ..Described::default()
    }
}

impl OperationInput for Reader {}
impl OperationInput for Admin {}
impl OperationInput for Editor {}
impl OperationInput for Auditor {}
impl OperationInput for Peer {}

impl OperationOutput for ServiceError {
    type Inner = Problem;

    fn operation_response(context: &mut GenContext, _operation: &mut Operation) -> Option<Described> {
        Some(problem(context.schema.subschema_for::<Problem>()))
    }

    fn inferred_responses(context: &mut GenContext, operation: &mut Operation) -> Vec<(Option<u16>, Described)> {
        // Without a code it is the answer of every code that is not described.
        Self::operation_response(context, operation).map(|r| (None, r)).into_iter().collect()
    }
}
