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
        "docs/formats.md",
        "CONTRIBUTING.md",
        "docs/http-api.md",
        "docs/operating.md",
        "docs/benchmarks.md",
        "docs/security.md",
    ] {
        let document_path = root.join(document);
        let text = std::fs::read_to_string(&document_path).unwrap();
        for path in named_paths(&text) {
            // A link is read from where its document is, a path in quotes from the root.
            let there = root.join(&path).exists() || document_path.with_file_name(&path).exists();
            assert!(there, "{document} names {path}, which is not there");
            seen += 1;
        }
    }
    assert!(seen > 30, "only {seen} paths were read");
}

/// The text of every Rust file of the workspace.
fn code(dir: &Path, into: &mut String) {
    for entry in std::fs::read_dir(dir).unwrap() {
        let path = entry.unwrap().path();
        let skipped = path.file_name().is_some_and(|n| n == "target" || n == "node_modules");
        if path.is_dir() && !skipped {
            code(&path, into);
        } else if path.extension().is_some_and(|e| e == "rs") {
            into.push_str(&std::fs::read_to_string(&path).unwrap());
        }
    }
}

#[test]
fn tests_named_in_the_page_on_security_exist() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let page = std::fs::read_to_string(root.join("docs/security.md")).unwrap();
    let mut text = String::new();
    code(&root.join("crates"), &mut text);
    // A test's name is a sentence; a setting's has a dot or fewer words.
    let is_test = |p: &&str| {
        p.matches('_').count() >= 3 && p.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_')
    };
    let named: Vec<&str> = page.split('`').skip(1).step_by(2).filter(is_test).collect();
    for name in &named {
        assert!(text.contains(&format!("fn {name}(")), "docs/security.md names the test {name}, which is not there");
    }
    assert!(named.len() > 20, "only {} tests were read", named.len());
}
