//! Paths that the documents name exist.
#![allow(clippy::unwrap_used, reason = "a test may end where it stands")]

use std::path::Path;

/// Targets of links, and backquoted paths into the tree.
fn named_paths(text: &str) -> Vec<String> {
    let links = text.split("](").skip(1).filter_map(|rest| rest.split(')').next());
    let quoted = text.split('`').skip(1).step_by(2);
    let inside = |p: &&str| ["crates/", "docs/", "console/"].iter().any(|d| p.starts_with(d)) && !p.contains(' ');
    links.filter(|p| !p.contains("://")).chain(quoted.filter(inside)).map(str::to_owned).collect()
}

#[test]
fn paths_named_in_documents_exist() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let mut seen = 0;
    for document in [
        "README.md",
        "ARCHITECTURE.md",
        "docs/query-language.md",
        "docs/chunk-format.md",
        "docs/http-api.md",
        "docs/operating.md",
        "docs/benchmarks.md",
    ] {
        let text = std::fs::read_to_string(root.join(document)).unwrap();
        for path in named_paths(&text) {
            assert!(root.join(&path).exists(), "{document} names {path}, which is not there");
            seen += 1;
        }
    }
    assert!(seen > 30, "only {seen} paths were read");
}
