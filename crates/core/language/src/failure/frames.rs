//! One line of a stack, language by language: which function it names, and whether that is the language's own.
//!
//! | language | a frame | left out |
//! |---|---|---|
//! | Java | `at [module/]Class.method(File.java:12)` | line, addresses and numbers of generated names |
//! | .NET | `at Space.Class.Method(Type name) in File.cs:line 12` | parameters, line, names of state machines |
//! | Node | `at function (file:12:5)`, `at file:12:5` | `async`, line and column |
//! | Python | `File "file", line 12, in function` | line |
//! | Go | `package.Function(0xc0…)`, then a tab and `file.go:12 +0x1d` | arguments, line, numbers of closures |
//! | Ruby | ``[from ]file:12:in `method'`` | line, `block in` |
//! | Rust | `3: crate::function`, then `at file:12:5` | address, hash, closures, line |

use super::stack::{Frame, Language};
use regex::{Captures, Regex};
use std::sync::LazyLock;

/// Longest name of a function, in bytes.
const MAX_NAME: usize = 300;

macro_rules! pattern {
    ($name:ident, $text:literal) => {
        #[allow(clippy::unwrap_used, reason = "a constant, which every test compiles")]
        static $name: LazyLock<Regex> = LazyLock::new(|| Regex::new($text).unwrap());
    };
}

pattern!(
    JAVA,
    r"^\s*at (\S[^(]*)\((?:[^()]*\.(?:java|kt|scala|groovy|clj)(?::\d+)?|Native Method|Unknown Source|<generated>|SourceFile(?::\d+)?)\)"
);
pattern!(DOTNET, r"^\s*at (\S+?)\([^()]*(?:\([^()]*\)[^()]*)*\)(?: in (.+?):line \d+)?\s*$");
pattern!(NODE, r"^\s*at (?:async )?(?:(.+?) \()?((?:[A-Za-z]:\\)?[^()]*?):\d+:\d+\)?\s*$");
pattern!(NODE_UNPLACED, r"^\s*at (?:async )?(.+?) \((?:<anonymous>|native|index \d+)\)\s*$");
pattern!(PYTHON, r#"^[\s|]*File "([^"]+)", line \d+(?:, in (.+?))?\s*$"#);
pattern!(GO_PLACE, r"^\s+(\S.*\.(?:go|s)):\d+(?: \+0x[0-9a-f]+)?\s*$");
pattern!(RUBY, r"^\s*(?:from )?(\S[^:]*|<internal:[^>]+>):\d+:in [`'](.+?)'(?::.*)?$");
pattern!(RUST, r"^\s*\d+:\s+(?:0x[0-9a-f]+ - )?(\S.*?)\s*$");
pattern!(RUST_PLACE, r"^\s+at (.+?):\d+(?::\d+)?\s*$");

// What compilers make of names: numbers and addresses that differ from build to build.
pattern!(JAVA_NUMBERS, r"/0x[0-9a-f]+|\$\d+");
pattern!(JAVA_CLASS_NUMBERS, r"(Accessor|Lambda|Proxy)\d+");
pattern!(DOTNET_MACHINE, r"<(\w*)>[a-z](?:__\w+)?(?:\|[\d_]+)?");
pattern!(GO_CLOSURES, r"(?:\.func\d+|\.gowrap\d+|\.\d+)+$");
pattern!(RUST_PARTS, r"::h[0-9a-f]{16}$|(?:::)?\{\{?closure(?:_env)?(?:#\d+)?\}\}?(?:<[^>]*>)?|\{shim:vtable#\d+\}");
pattern!(RUBY_BLOCK, r"^(?:(?:block|rescue|ensure)(?: \(\d+ levels\))? in )+");

/// The frame on a line, by the first language that has such frames. `next` is the line behind it.
pub(super) fn frame(line: &str, next: Option<&str>) -> Option<(Language, Frame)> {
    let found = java(line)
        .or_else(|| node(line))
        .or_else(|| dotnet(line))
        .or_else(|| python(line))
        .or_else(|| ruby(line))
        .or_else(|| rust(line, next))
        .or_else(|| go(line, next))?;
    Some(found)
}

fn group<'a>(found: &Captures<'a>, n: usize) -> &'a str {
    found.get(n).map_or("", |m| m.as_str())
}

fn begins_with_any(text: &str, starts: &[&str]) -> bool {
    starts.iter().any(|start| text.starts_with(start))
}

fn holds_any(text: &str, parts: &[&str]) -> bool {
    parts.iter().any(|part| text.contains(part))
}

/// The name of a file, without its folders.
fn file(place: &str) -> &str {
    place.rsplit(['/', '\\']).next().unwrap_or(place)
}

fn made(function: &str, library: bool) -> Frame {
    let end = function.char_indices().map(|(at, _)| at).take_while(|at| *at <= MAX_NAME).last().unwrap_or(0);
    let function = if function.len() > MAX_NAME { function.get(..end).unwrap_or("") } else { function };
    Frame { function: function.to_owned(), library }
}

/// A function whose name alone says little, with the file it stands in.
fn placed(function: &str, place: &str, library: bool) -> Frame {
    let name = file(place);
    let text = if function.is_empty() { name.to_owned() } else { format!("{function} in {name}") };
    made(&text, library)
}

fn java(line: &str) -> Option<(Language, Frame)> {
    let found = JAVA.captures(line)?;
    let name = JAVA_NUMBERS.replace_all(group(&found, 1), "");
    let name = name.rsplit('/').next().unwrap_or("");
    let name = JAVA_CLASS_NUMBERS.replace_all(name, "$1");
    let library = begins_with_any(
        &name,
        &["java.", "javax.", "jdk.", "sun.", "com.sun.", "jakarta.", "kotlin.", "kotlinx.", "scala.", "groovy."],
    );
    Some((Language::Java, made(&name, library)))
}

fn dotnet(line: &str) -> Option<(Language, Frame)> {
    let found = DOTNET.captures(line)?;
    let name = DOTNET_MACHINE.replace_all(group(&found, 1), "$1");
    let name = name.trim_end_matches(".MoveNext").replace("..", ".");
    let name = name.split(['`', '[']).next().unwrap_or("").trim_end_matches('.');
    Some((Language::DotNet, made(name, begins_with_any(name, &["System.", "Microsoft."]))))
}

fn node(line: &str) -> Option<(Language, Frame)> {
    if let Some(found) = NODE_UNPLACED.captures(line) {
        return Some((Language::Node, made(group(&found, 1), true)));
    }
    let found = NODE.captures(line)?;
    let (function, place) = (group(&found, 1), group(&found, 2));
    // Rust writes the places of its frames like this.
    if place.ends_with(".rs") {
        return None;
    }
    let function = function.split(" [as ").next().unwrap_or("");
    let library = place.starts_with("node:") || place.contains("node_modules") || !holds_any(place, &["/", "\\", "."]);
    Some((Language::Node, placed(function, place, library)))
}

fn python(line: &str) -> Option<(Language, Frame)> {
    let found = PYTHON.captures(line)?;
    let (place, function) = (group(&found, 1), group(&found, 2));
    let library = holds_any(place, &["site-packages", "dist-packages", "/lib/python3", "<frozen", "\\Lib\\"]);
    Some((Language::Python, placed(function, place, library)))
}

fn ruby(line: &str) -> Option<(Language, Frame)> {
    let found = RUBY.captures(line)?;
    let (place, function) = (group(&found, 1), group(&found, 2));
    let library = holds_any(place, &["/gems/", "<internal:", "/lib/ruby/"]);
    Some((Language::Ruby, placed(&RUBY_BLOCK.replace(function, ""), place, library)))
}

fn rust(line: &str, next: Option<&str>) -> Option<(Language, Frame)> {
    let found = RUST.captures(line)?;
    let name = RUST_PARTS.replace_all(group(&found, 1), "");
    // Behind the hash of an old name a closure may stand.
    let name = RUST_PARTS.replace_all(&name, "");
    let place = next.and_then(|next| RUST_PLACE.captures(next)).map_or("", |found| group(&found, 1));
    let library = begins_with_any(
        name.trim_start_matches(['<', '_', '&']),
        &[
            "std::",
            "core::",
            "alloc::",
            "rust_begin_unwind",
            "rustc",
            "libc_start",
            "start_thread",
            "clone",
            "F as core::",
        ],
    ) || begins_with_any(&name, &["__", "_start", "main"]) && !name.contains("::")
        || holds_any(place, &["/rustc/", "/registry/src/", "/library/std/"]);
    Some((Language::Rust, made(&name, library)))
}

fn go(line: &str, next: Option<&str>) -> Option<(Language, Frame)> {
    let found = GO_PLACE.captures(next?)?;
    if line.starts_with([' ', '\t']) || line.starts_with("created by ") {
        return None;
    }
    let name = line.get(..arguments(line)?)?;
    let place = group(&found, 1);
    let library = begins_with_any(name, &["runtime.", "panic", "runtime/"])
        || holds_any(place, &["/usr/local/go/src/", "/go/pkg/mod/", "/vendor/", "/usr/lib/go"]);
    let name = name.rsplit('/').next().unwrap_or(name);
    Some((Language::Go, made(&GO_CLOSURES.replace(name, ".func"), library)))
}

/// Where the arguments at the end of a line open.
fn arguments(line: &str) -> Option<usize> {
    let line = line.trim_end();
    let mut depth = 0usize;
    for (at, byte) in line.bytes().enumerate().rev() {
        match byte {
            b')' => depth += 1,
            b'(' => {
                depth = depth.checked_sub(1)?;
                if depth == 0 {
                    return Some(at);
                }
            }
            _ if depth == 0 => return None,
            _ => {}
        }
    }
    None
}
