//! The floors of the house: which crate may depend on which, by the manifests, and which module of an engine crate on
//! which, by its `use` lines. A circle between crates cannot build; one between modules fails here.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test may end where it stands")]
use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::process::Command;

/// The crates from the ground up, each with those below it that it may use.
const FLOORS: &[(&str, &[&str])] = &[
    ("calvex-language", &[]),
    ("calvex-storage", &["calvex-language"]),
    ("calvex-intake", &["calvex-language", "calvex-storage"]),
    ("calvex-answer", &["calvex-language", "calvex-storage"]),
    ("calvex-wire", &["calvex-language", "calvex-storage", "calvex-intake", "calvex-answer"]),
    ("calvex-store", &["calvex-language", "calvex-storage"]),
    (
        "calvex-node",
        &["calvex-language", "calvex-storage", "calvex-intake", "calvex-answer", "calvex-wire", "calvex-store"],
    ),
    (
        "calvex-service",
        &[
            "calvex-language",
            "calvex-storage",
            "calvex-intake",
            "calvex-answer",
            "calvex-wire",
            "calvex-store",
            "calvex-node",
        ],
    ),
    ("calvex-client", &["calvex-language", "calvex-intake", "calvex-answer", "calvex-wire"]),
    ("calvex-keeping", &["calvex-language", "calvex-intake", "calvex-answer", "calvex-wire", "calvex-client"]),
    ("calvex-demo", &[]),
    (
        "calvex-operator",
        &[
            "calvex-language",
            "calvex-storage",
            "calvex-intake",
            "calvex-wire",
            "calvex-store",
            "calvex-service",
            "calvex-client",
            "calvex-keeping",
            "calvex-demo",
        ],
    ),
    ("calvex-cli", &["calvex-client", "calvex-keeping", "calvex-operator"]),
];

/// The modules of each engine crate, in the order in which data passes them; each may use those before it.
const ROOMS: &[(&str, &[&str])] = &[
    ("language", &["json", "model", "error", "domain", "backoff", "failure", "query"]),
    ("storage", &["compress", "columns", "chunk", "testing", "fuzz"]),
    ("intake", &["arrivals", "line", "normalise", "transform", "dial", "route", "batch"]),
    (
        "answer",
        &[
            "finding",
            "scan",
            "measure",
            "search",
            "compare",
            "errors",
            "story",
            "ties",
            "watch",
            "retention",
            "merge",
            "testing",
        ],
    ),
];

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

#[test]
fn crates_use_only_the_floors_below() {
    let metadata = Command::new(env!("CARGO"))
        .args(["metadata", "--no-deps", "--format-version", "1", "--offline"])
        .current_dir(root())
        .output()
        .unwrap();
    assert!(metadata.status.success(), "{}", String::from_utf8_lossy(&metadata.stderr));
    let metadata: serde_json::Value = serde_json::from_slice(&metadata.stdout).unwrap();
    let mut used: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
    for package in metadata["packages"].as_array().unwrap() {
        let of_house = |d: &&serde_json::Value| d["kind"].is_null() && !d["path"].is_null();
        let names = package["dependencies"].as_array().unwrap().iter().filter(of_house);
        let names = names.map(|d| d["name"].as_str().unwrap().to_owned()).collect();
        used.insert(package["name"].as_str().unwrap().to_owned(), names);
    }
    for (name, below) in FLOORS {
        let used = used.get(*name).unwrap_or_else(|| panic!("there is no crate {name}"));
        println!("{name:16} uses {}", used.iter().map(String::as_str).collect::<Vec<_>>().join(", "));
        for other in used {
            assert!(below.contains(&other.as_str()), "{name} may not use {other}");
        }
    }
    let known = |name: &&String| FLOORS.iter().any(|(floor, _)| floor == name) || *name == "calvex-e2e";
    assert!(used.keys().all(|name| known(&name)), "a crate stands on no floor: {:?}", used.keys());
}

fn sources(folder: &Path, out: &mut Vec<PathBuf>) {
    for entry in std::fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            sources(&path, out);
        } else if path.extension().is_some_and(|e| e == "rs") {
            out.push(path);
        }
    }
}

/// The modules of its own crate that a source uses, tests aside.
fn uses(text: &str) -> BTreeSet<&str> {
    let code = text.split("#[cfg(test)]\nmod tests {").next().unwrap_or(text);
    let found = code.match_indices("crate::").filter(|(at, _)| {
        let before = code[..*at].chars().next_back();
        !before.is_some_and(|c| c.is_alphanumeric() || c == '_' || c == ':')
    });
    let name = |(at, _): (usize, &str)| {
        let rest = &code[at + "crate::".len()..];
        &rest[..rest.find(|c: char| !c.is_alphanumeric() && c != '_').unwrap_or(rest.len())]
    };
    found.map(name).collect()
}

#[test]
fn modules_use_only_those_before_them() {
    for (floor, rooms) in ROOMS {
        let folder = root().join("crates/core").join(floor).join("src");
        let mut files = Vec::new();
        sources(&folder, &mut files);
        for file in files {
            let inside = file.strip_prefix(&folder).unwrap();
            let room = inside.components().next().unwrap().as_os_str().to_str().unwrap().trim_end_matches(".rs");
            let stem = file.file_stem().unwrap().to_str().unwrap();
            // What only tests use may look up.
            let is_test = inside.components().any(|part| part.as_os_str() == "tests");
            if room == "lib" || is_test || ["tests", "fuzz", "answers", "slow"].contains(&stem) {
                continue;
            }
            let at = rooms.iter().position(|r| *r == room).unwrap_or_else(|| panic!("{floor}: `{room}` has no place"));
            let text = std::fs::read_to_string(&file).unwrap();
            for used in uses(&text) {
                let Some(other) = rooms.iter().position(|r| *r == used) else { continue };
                assert!(other <= at, "{floor}: {} uses `{used}`, which stands above it", inside.display());
            }
        }
    }
}

#[test]
fn the_uses_of_a_source_are_found() {
    let text = "use crate::json::Reader;\nlet x = crate::query::fold(a); my_crate::other::z();\n#[cfg(test)]\nmod tests {\nuse crate::above;";
    assert_eq!(uses(text), BTreeSet::from(["json", "query"]));
}
