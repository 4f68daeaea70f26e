//! The JSON body of a request to the interface. An object is wanted where the description names one: the framework would
//! also take the members in a list, in their order, and an empty list for an object of nothing but defaults.

use crate::error::ServiceError;
use aide::OperationInput;
use aide::generate::GenContext;
use aide::openapi::Operation;
use axum::Json;
use axum::body::Bytes;
use axum::extract::{FromRequest, Request};
use axum::http::header;
use schemars::JsonSchema;
use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::Value;

/// A body that was read to `T`.
pub struct Ask<T>(pub T);

impl<S: Send + Sync, T: DeserializeOwned + Serialize> FromRequest<S> for Ask<T> {
    type Rejection = ServiceError;

    async fn from_request(request: Request, _: &S) -> Result<Self, ServiceError> {
        read(&body_of(request).await?).map(Ask)
    }
}

/// The body of a request that says it is JSON.
async fn body_of(request: Request) -> Result<Bytes, ServiceError> {
    let media_type = request.headers().get(header::CONTENT_TYPE).and_then(|v| v.to_str().ok()).unwrap_or("");
    let media_type = media_type.split(';').next().unwrap_or("").trim().to_ascii_lowercase();
    if media_type != "application/json" && !(media_type.starts_with("application/") && media_type.ends_with("+json")) {
        let reported = format!("content-type `{media_type}` is not taken here; send application/json");
        return Err(ServiceError::Unsupported(reported));
    }
    let body = Bytes::from_request(request, &()).await;
    body.map_err(|e| ServiceError::BadRequest(e.body_text()))
}

fn read<T: DeserializeOwned + Serialize>(body: &[u8]) -> Result<T, ServiceError> {
    let bad = |reported: String| {
        ServiceError::BadRequest(format!("{reported}; GET /api/openapi.json describes what is taken"))
    };
    let ask: T = serde_json::from_slice(body).map_err(|e| bad(e.to_string()))?;
    if body.contains(&b'[') {
        let sent = serde_json::from_slice(body).map_err(|e| bad(e.to_string()))?;
        let meant = serde_json::to_value(&ask).map_err(|e| bad(e.to_string()))?;
        if let Some(place) = list_for_object(&sent, &meant, "the body") {
            return Err(bad(format!("{place} is a list where an object belongs")));
        }
    }
    Ok(ask)
}

/// Where a list was sent for what is an object.
fn list_for_object(sent: &Value, meant: &Value, place: &str) -> Option<String> {
    match (sent, meant) {
        (Value::Array(_), Value::Object(_)) => Some(place.to_owned()),
        (Value::Array(sent), Value::Array(meant)) => {
            let mut pairs = sent.iter().zip(meant).enumerate();
            pairs.find_map(|(n, (sent, meant))| list_for_object(sent, meant, &format!("item {} of {place}", n + 1)))
        }
        (Value::Object(sent), Value::Object(meant)) => {
            // A member that is left out when it holds its default is not compared.
            sent.iter().find_map(|(name, sent)| match meant.get(name) {
                Some(meant) => list_for_object(sent, meant, &format!("`{name}`")),
                None => None,
            })
        }
        _ => None,
    }
}

impl<T: JsonSchema> OperationInput for Ask<T> {
    fn operation_input(context: &mut GenContext, operation: &mut Operation) {
        Json::<T>::operation_input(context, operation);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use calvex_wire::api::{NewKey, Rotation, Route};

    #[test]
    fn a_list_is_no_object() {
        let reported = |e: ServiceError| e.to_string();
        let bad = |name: &str| Some(format!("{name} is a list where an object belongs"));
        let begins = |e: Option<String>| e.and_then(|e| e.split(';').next().map(str::to_owned));
        assert_eq!(begins(read::<Rotation>(b"[]").err().map(reported)), bad("the body"));
        assert_eq!(begins(read::<NewKey>(b"[\"belt\"]").err().map(reported)), bad("the body"));
        assert_eq!(begins(read::<NewKey>(br#"{"name":"belt","limits":[]}"#).err().map(reported)), bad("`limits`"));
        assert_eq!(begins(read::<Vec<Route>>(br#"[["a","main"]]"#).err().map(reported)), bad("item 1 of the body"));
        assert_eq!(read::<Vec<Route>>(br#"[{"filter":"a","lane":"main"}]"#).unwrap().len(), 1);
        assert_eq!(read::<Rotation>(b"{}").unwrap().overlap_s, 0);
    }
}
