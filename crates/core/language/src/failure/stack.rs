//! Stacks as seven languages print them by default ([`super::frames`] has the lines).
//!
//! A stack has sections: what was thrown, and what caused it. Java writes `Caused by:`, .NET ` ---> `, Node `[cause]:`, Ruby
//! a further first line; in Python the cause comes first. Frames are listed from where it was thrown outwards; Python
//! writes them the other way round.

use super::frames::frame;
use regex::Regex;
use std::sync::LazyLock;

/// Most of a text that is looked at, in bytes.
const MAX_TEXT: usize = 64 << 10;
/// Most lines that are looked at.
const MAX_LINES: usize = 1000;
/// Longest name of an error, in bytes.
pub(super) const MAX_ERROR: usize = 200;

/// Whose stack it is.
#[allow(missing_docs)]
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Language {
    Java,
    DotNet,
    Node,
    Python,
    Go,
    Ruby,
    Rust,
    /// A list of plain names.
    Names,
}

impl Language {
    const ALL: [Language; 7] = [
        Language::Java,
        Language::DotNet,
        Language::Node,
        Language::Python,
        Language::Go,
        Language::Ruby,
        Language::Rust,
    ];

    /// Its name.
    pub fn name(self) -> &'static str {
        match self {
            Language::Java => "java",
            Language::DotNet => "dotnet",
            Language::Node => "node",
            Language::Python => "python",
            Language::Go => "go",
            Language::Ruby => "ruby",
            Language::Rust => "rust",
            Language::Names => "names",
        }
    }
}

/// One frame: a function that was called.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Frame {
    /// Its name, with what differs from build to build left out.
    pub function: String,
    /// Whether it belongs to the language or to a package, not to the service.
    pub library: bool,
}

/// What was thrown, and where.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Section {
    /// The name of the error, where one stands.
    pub error: Option<String>,
    /// From where it was thrown outwards.
    pub frames: Vec<Frame>,
}

/// A stack as read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Stack {
    /// Whose it is.
    pub language: Language,
    /// From what was thrown last inwards to its root cause; never empty.
    pub sections: Vec<Section>,
}

impl Stack {
    /// Reads a stack; nothing where the text has no frame of any language.
    pub fn read(text: &str) -> Option<Stack> {
        let lines: Vec<&str> = head(text, MAX_TEXT).lines().take(MAX_LINES).collect();
        let frames: Vec<Option<(Language, Frame)>> =
            lines.iter().enumerate().map(|(n, line)| frame(line, lines.get(n + 1).copied())).collect();
        let count = |language: Language| frames.iter().flatten().filter(|(l, _)| *l == language).count();
        // A numbered list is a stack of Rust only where the text says that it is one.
        let says_rust =
            || lines.iter().any(|l| l.contains("panicked at") || l.trim().eq_ignore_ascii_case("stack backtrace:"));
        let language = Language::ALL
            .into_iter()
            .filter(|l| count(*l) > 0 && (*l != Language::Rust || says_rust()))
            .max_by_key(|l| (count(*l), std::cmp::Reverse(*l as usize)))?;
        let mut reader = Reader::new(language);
        for (line, frame) in lines.iter().zip(frames) {
            if reader.ended {
                break;
            }
            match frame {
                Some((of, frame)) if of == language => reader.frame(line, frame),
                _ => reader.line(line),
            }
        }
        reader.finish()
    }

    /// A list of names, one a line, as a stack. Fewer than two, or a line of several words, are none.
    pub fn of_names(text: &str) -> Option<Stack> {
        let names: Vec<&str> =
            head(text, MAX_TEXT).lines().take(MAX_LINES).map(str::trim).filter(|name| !name.is_empty()).collect();
        let are_names = names.len() > 1 && !names.iter().any(|name| name.contains(char::is_whitespace));
        let frame = |name: &&str| Frame { function: head(name, MAX_ERROR).to_owned(), library: false };
        let section = Section { error: None, frames: names.iter().map(frame).collect() };
        are_names.then(|| Stack { language: Language::Names, sections: vec![section] })
    }

    /// The service's own frames from the root cause outwards, calls of itself folded; all frames where none is its own.
    pub fn own_frames(&self) -> impl Iterator<Item = &str> {
        let own = |f: &&Frame| !f.library;
        let any = self.sections.iter().flat_map(|s| &s.frames).any(|f| own(&f));
        let all = self.sections.iter().rev().flat_map(|s| &s.frames).filter(move |f| own(f) || !any);
        let mut last = "";
        all.map(|f| f.function.as_str()).filter(move |f| std::mem::replace(&mut last, f) != *f)
    }

    /// The error that was thrown last.
    pub fn error(&self) -> Option<&str> {
        self.sections.first()?.error.as_deref()
    }

    /// The error that began it.
    pub fn cause(&self) -> Option<&str> {
        self.sections.last()?.error.as_deref()
    }
}

/// At most so many bytes of a text, cut between characters.
pub(super) fn head(text: &str, max: usize) -> &str {
    let mut end = text.len().min(max);
    while !text.is_char_boundary(end) {
        end -= 1;
    }
    text.get(..end).unwrap_or("")
}

/// Puts lines into sections.
struct Reader {
    language: Language,
    sections: Vec<Section>,
    /// The section that the next frame belongs to.
    at: usize,
    /// Frames that follow belong to something put aside.
    aside: bool,
    /// Nothing that follows belongs to the stack.
    ended: bool,
}

impl Reader {
    fn new(language: Language) -> Self {
        Reader { language, sections: vec![Section::default()], at: 0, aside: false, ended: false }
    }

    fn begin(&mut self, error: Option<String>) {
        self.sections.push(Section { error, frames: Vec::new() });
        self.at = self.sections.len() - 1;
    }

    fn here(&mut self) -> Option<&mut Section> {
        self.sections.get_mut(self.at)
    }

    fn is_empty(&self) -> bool {
        self.sections.iter().all(|s| s.frames.is_empty())
    }

    fn frame(&mut self, line: &str, frame: Frame) {
        if self.language == Language::Ruby
            && !line.trim_start().starts_with("from ")
            && let Some(error) = ruby_error(line)
        {
            match self.is_empty() && self.sections.len() == 1 {
                true => self.sections = vec![Section { error: Some(error), frames: Vec::new() }],
                false => self.begin(Some(error)),
            }
        }
        if !self.aside
            && let Some(section) = self.here()
        {
            section.frames.push(frame);
        }
    }

    /// Any other line.
    fn line(&mut self, line: &str) {
        let text = line.trim_start();
        match self.language {
            Language::Java => {
                if let Some(rest) = text.strip_prefix("Caused by: ") {
                    self.aside = false;
                    return self.begin(error_at(rest));
                }
                self.aside |= text.starts_with("Suppressed: ");
                self.first_line(text);
            }
            Language::DotNet => {
                if let Some((before, rest)) = line.split_once("---> ") {
                    self.first_line(before.trim());
                    self.begin(error_at(rest));
                } else if text.starts_with("--- End of inner exception") {
                    self.at = self.at.saturating_sub(1);
                } else if !text.starts_with("---") {
                    self.first_line(text);
                }
            }
            Language::Node => match text.strip_prefix("[cause]: ") {
                Some(rest) => self.begin(error_at(rest)),
                None => self.first_line(text),
            },
            Language::Python => self.python(line),
            Language::Go => {
                if let Some(rest) = text.strip_prefix("panic: ").filter(|_| self.is_empty()) {
                    let error = if rest.starts_with("runtime error: ") { "runtime error" } else { "panic" };
                    self.sections = vec![Section { error: Some(error.to_owned()), frames: Vec::new() }];
                }
                // The others do not say what failed.
                self.ended = text.starts_with("goroutine ") && !self.is_empty();
            }
            Language::Rust => {
                if text.contains("panicked at") && self.is_empty() {
                    self.sections = vec![Section { error: Some("panic".to_owned()), frames: Vec::new() }];
                }
            }
            Language::Ruby | Language::Names => {}
        }
    }

    /// A line before the first frame names the error.
    fn first_line(&mut self, text: &str) {
        if self.is_empty()
            && self.sections.len() == 1
            && let Some(error) = error_at(text)
        {
            self.sections = vec![Section { error: Some(error), frames: Vec::new() }];
        }
    }

    /// In Python a section begins with `Traceback`, and ends with the error in a line that is not moved in.
    fn python(&mut self, line: &str) {
        let line = line.trim_start_matches(|c: char| {
            c == '|' || c == '+' || c == ' ' && line.trim_start().starts_with(['|', '+'])
        });
        if line.trim_start_matches(['-', '+', ' ']).starts_with("Traceback (") {
            if !self.is_empty() {
                self.begin(None);
            }
        } else if !line.starts_with([' ', '\t'])
            && let Some(section) = self.here()
            && !section.frames.is_empty()
            && section.error.is_none()
        {
            section.error = error_at(line);
        }
    }

    fn finish(mut self) -> Option<Stack> {
        if self.language == Language::Python {
            self.sections.iter_mut().for_each(|s| s.frames.reverse());
            self.sections.reverse();
        }
        (!self.is_empty()).then_some(Stack { language: self.language, sections: self.sections })
    }
}

#[allow(clippy::unwrap_used, reason = "a constant, which every test compiles")]
static ERROR: LazyLock<Regex> = LazyLock::new(|| {
    Regex::new(
        r#"^(?:Uncaught |Unhandled exception\. |Exception in thread "[^"]*" )?([\p{L}_][\w.$+]*(?:::\w+)*)(?: \[[^\]]*\])?(?::|$| \{)"#,
    )
    .unwrap()
});
#[allow(clippy::unwrap_used, reason = "a constant, which every test compiles")]
static RUBY_ERROR: LazyLock<Regex> =
    LazyLock::new(|| Regex::new(r"^.*?:\d+:in [`'].+?': .*\(([A-Z][\w:]*)\)\s*$").unwrap());

/// The name of the error that a line begins with: a name with a capital letter, and a colon or nothing behind it.
fn error_at(line: &str) -> Option<String> {
    let name = ERROR.captures(line.trim_end())?.get(1)?.as_str();
    (name.len() <= MAX_ERROR && name.chars().any(char::is_uppercase)).then(|| name.to_owned())
}

fn ruby_error(line: &str) -> Option<String> {
    let name = RUBY_ERROR.captures(line)?.get(1)?.as_str();
    (name.len() <= MAX_ERROR).then(|| name.to_owned())
}
