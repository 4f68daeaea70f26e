//! The console's built files, part of the binary.

use axum::http::{StatusCode, Uri, header};
use axum::response::{IntoResponse, Response};
use rust_embed::RustEmbed;

/// Scripts and styles from here only; styled-components writes its rules into style elements.
pub const CONTENT_POLICY: &str = "default-src 'none'; script-src 'self'; style-src 'self' 'unsafe-inline'; font-src 'self'; img-src 'self' data:; connect-src 'self'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'";

#[derive(RustEmbed)]
#[folder = "../../console/dist"]
#[allow_missing = true]
struct Dist;

/// A built file, or the page itself for the console's own addresses.
pub async fn asset(uri: Uri) -> Response {
    let path = uri.path().trim_start_matches('/');
    if let Some(file) = Dist::get(path) {
        let caching = if path.starts_with("assets/") { "public, max-age=31536000, immutable" } else { "no-cache" };
        return ([(header::CONTENT_TYPE, file.metadata.mimetype()), (header::CACHE_CONTROL, caching)], file.data)
            .into_response();
    }
    match Dist::get("index.html") {
        Some(page) => {
            ([(header::CONTENT_TYPE, "text/html"), (header::CACHE_CONTROL, "no-cache")], page.data).into_response()
        }
        None => (
            StatusCode::NOT_FOUND,
            "the console was not built into this binary; run `./run serve`, which builds both\n",
        )
            .into_response(),
    }
}
