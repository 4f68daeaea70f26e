//! The full-fidelity tree of a query's text: every character stands in one token or is a blank between two. What
//! colours, completes and edits a query works on it, so that what was typed stays as it was typed.

use serde::{Deserialize, Serialize};

/// What a node or token is.
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
#[allow(missing_docs)]
pub enum Kind {
    // Nodes.
    Query,
    Group,
    Not,
    Words,
    Comparison,
    Has,
    Measure,
    Aggregate,
    Per,
    Every,
    Having,
    Top,
    Over,
    // Tokens.
    Keyword,
    Field,
    Sign,
    Bracket,
    Comma,
    Word,
    Quoted,
    Value,
    Regex,
    Function,
    Name,
    Broken,
}

/// A node with its parts, or a token without any. Places are characters from 0; `to` is behind the last.
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Syntax {
    /// What it is.
    pub kind: Kind,
    /// Where it begins.
    pub from: usize,
    /// Where it ends.
    pub to: usize,
    /// In the order of the text; none in a token.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub parts: Vec<Syntax>,
}

impl Syntax {
    /// Every token, in the order of the text.
    pub fn tokens(&self) -> Vec<&Syntax> {
        let mut out = Vec::new();
        self.collect(&mut out);
        out
    }

    fn collect<'a>(&'a self, out: &mut Vec<&'a Syntax>) {
        if self.parts.is_empty() && self.kind != Kind::Query {
            out.push(self);
        }
        self.parts.iter().for_each(|part| part.collect(out));
    }

    /// The nodes around the character at `offset`, outermost first: what an editor asks to complete there.
    pub fn path_to(&self, offset: usize) -> Vec<&Syntax> {
        let mut path = vec![self];
        while let Some(next) =
            path.last().and_then(|node| node.parts.iter().find(|p| p.from <= offset && offset < p.to.max(p.from + 1)))
        {
            path.push(next);
        }
        path
    }
}

/// Builds the tree as the parser goes.
pub(super) struct Builder {
    open: Vec<Syntax>,
}

impl Builder {
    pub fn new() -> Self {
        Builder { open: vec![Syntax { kind: Kind::Query, from: 0, to: 0, parts: Vec::new() }] }
    }

    pub fn open(&mut self, kind: Kind, from: usize) {
        self.open.push(Syntax { kind, from, to: from, parts: Vec::new() });
    }

    /// Closes the innermost node; it ends where its last part does.
    pub fn close(&mut self) {
        if self.open.len() > 1
            && let Some(mut node) = self.open.pop()
        {
            node.to = node.parts.last().map_or(node.from, |p| p.to);
            // A node that took no token is not in the text.
            if !node.parts.is_empty()
                && let Some(outer) = self.open.last_mut()
            {
                outer.parts.push(node);
            }
        }
    }

    pub fn token(&mut self, kind: Kind, from: usize, to: usize) {
        if let Some(node) = self.open.last_mut().filter(|_| from < to) {
            node.parts.push(Syntax { kind, from, to, parts: Vec::new() });
        }
    }

    /// The whole tree over a text of `length` characters.
    pub fn finish(mut self, length: usize) -> Syntax {
        while self.open.len() > 1 {
            self.close();
        }
        let mut root = self.open.pop().unwrap_or(Syntax { kind: Kind::Query, from: 0, to: 0, parts: Vec::new() });
        root.to = length;
        root
    }
}
