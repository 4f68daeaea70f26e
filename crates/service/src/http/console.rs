//! The console's built files, part of the binary.

use axum::http::{HeaderMap, Method, StatusCode, Uri, header};
use axum::response::{IntoResponse, Response};
use calvex_node::error::ServiceError;
use calvex_node::http::no_such_path;
use rust_embed::RustEmbed;

/// Scripts and styles from here only; styled-components writes its rules into style elements.
pub const CONTENT_POLICY: &str = "default-src 'none'; script-src 'self'; style-src 'self' 'unsafe-inline'; font-src 'self'; img-src 'self' data:; connect-src 'self'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'";

#[derive(RustEmbed)]
#[folder = "../../console/dist"]
#[allow_missing = true]
struct Dist;

/// The console's own addresses, and what they begin with (`console/src/app/App.tsx`).
const PAGES: [&str; 10] =
    ["now", "search", "tail", "story", "compare", "intake", "alerts", "rules", "contacts", "people"];

/// A built file, or the page itself for the console's own addresses. Anything else is not there: a sender that has the
/// wrong address must not take a page for an answer. A browser, which asks for HTML, gets the page that says so.
pub async fn page(method: Method, uri: Uri, headers: HeaderMap) -> Response {
    let Some(path) = uri.path().strip_prefix('/') else { return no_such_path().await.into_response() };
    let first = path.split('/').next().unwrap_or_default();
    let is_page = path.is_empty() || PAGES.contains(&first);
    if !is_page && Dist::get(path).is_none() {
        let accepts = headers.get(header::ACCEPT).and_then(|accepts| accepts.to_str().ok()).unwrap_or("");
        return match Dist::get("index.html") {
            Some(page) if method == Method::GET && accepts.contains("text/html") => {
                (StatusCode::NOT_FOUND, [(header::CONTENT_TYPE, "text/html")], page.data).into_response()
            }
            _ => no_such_path().await.into_response(),
        };
    }
    if method != Method::GET && method != Method::HEAD {
        let methods = "GET,HEAD";
        let problem = ServiceError::WrongMethod(methods.to_owned()).into_response();
        return ([(header::ALLOW, methods)], problem).into_response();
    }
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

#[cfg(test)]
mod tests {
    use super::PAGES;
    use std::collections::BTreeSet;

    #[test]
    fn the_pages_are_those_of_the_console() {
        let routes = include_str!("../../../../console/src/app/App.tsx");
        let paths = routes.split("<Route path=\"/").skip(1).filter_map(|rest| rest.split(['"', '/']).next());
        let pages: BTreeSet<&str> = paths.filter(|page| !page.is_empty()).collect();
        assert_eq!(pages, PAGES.into_iter().collect());
    }
}
