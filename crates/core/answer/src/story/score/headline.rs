//! What happened, in one line, by one rule: the operation of the root, how it ended and after how long, then the first
//! thing that went wrong and was not recovered from. A failed span counts at its end and the deepest first, or a failed
//! root would always be the first; what later succeeded in the same parent was recovered from.

use super::Outcome;
use super::forest::Forest;
use super::text::duration_text;
use calvex_language::model::{Kind, Severity};

/// Least severity of what went wrong.
const WARN: Severity = Severity(13);
/// Least severity of a failure.
const ERROR: Severity = Severity(17);
/// Characters of a message in the line.
const MAX_MESSAGE: usize = 120;

/// The line, and what it stands on.
pub(super) struct Headline {
    pub text: String,
    pub outcome: Outcome,
    /// By its number in the story.
    pub first_wrong: Option<usize>,
}

/// Something that went wrong.
struct Wrong {
    at_ns: i64,
    depth: usize,
    event: usize,
    /// The span it happened in, or that failed.
    node: Option<usize>,
    is_span: bool,
    is_failure: bool,
}

pub(super) fn headline(forest: &Forest) -> Headline {
    let Some(first) = forest.events.first() else {
        return Headline { text: "Nothing is tied to this".to_owned(), outcome: Outcome::Nothing, first_wrong: None };
    };
    let mut wrongs = wrongs(forest);
    let all = wrongs.len();
    wrongs.retain(|wrong| !recovered(forest, wrong));
    wrongs.sort_by_key(|wrong| (wrong.at_ns, std::cmp::Reverse(wrong.depth), wrong.event));
    let root = forest.root();
    let operation = root.map_or_else(|| first_line(&first.message), |root| first_line(forest.operation(root)));
    let service = root.map_or(first.service.as_str(), |root| forest.span(root).service.as_str());
    let failed = wrongs.iter().any(|wrong| wrong.is_failure);
    let outcome = match root.map(|root| &forest.nodes[root]) {
        Some(root) if root.failed => Outcome::Failed,
        Some(root) if root.open => Outcome::Open,
        Some(root) if forest.events[root.event].status == Some(calvex_language::model::Status::Ok) => Outcome::Well,
        _ if failed => Outcome::Failed,
        _ => Outcome::Well,
    };
    let took = duration_text(
        root.map_or(forest.took_ns(), |root| forest.nodes[root].end_ns.saturating_sub(forest.nodes[root].start_ns)),
    );
    let subject = if service.is_empty() { operation } else { format!("{operation} in {service}") };
    // A root that failed, and nothing else: that it did is the line already.
    let first_wrong = wrongs.iter().find(|wrong| wrong.node.is_none() || wrong.node != root || !wrong.is_span);
    let why = first_wrong.map(|wrong| described(forest, wrong));
    let text = match (outcome, why) {
        (Outcome::Failed, Some(why)) => format!("{subject} failed after {took}: {why}"),
        (Outcome::Failed, None) => format!("{subject} failed after {took}"),
        (Outcome::Open, Some(why)) => format!("{subject} has not ended, {took} so far: {why}"),
        (Outcome::Open, None) => format!("{subject} has not ended, {took} so far"),
        (_, Some(why)) => format!("{subject} ended well after {took}, with a warning: {why}"),
        (_, None) if all > 0 => format!("{subject} ended well after {took}; what went wrong was recovered from"),
        (_, None) => format!("{subject} ended well after {took}"),
    };
    Headline { text, outcome, first_wrong: first_wrong.or(wrongs.first()).map(|wrong| wrong.event) }
}

fn wrongs(forest: &Forest) -> Vec<Wrong> {
    let events = forest.events.iter().enumerate().filter(|(_, event)| event.kind != Kind::Span);
    let of_event = |(n, event): (usize, &&calvex_language::model::Event)| {
        let node = forest.bar_of_event(n);
        (event.severity >= WARN).then(|| Wrong {
            at_ns: forest.times[n],
            depth: node.map_or(0, |node| forest.nodes[node].depth + 1),
            event: n,
            node,
            is_span: false,
            is_failure: event.severity >= ERROR,
        })
    };
    let of_span = |n: usize| {
        let node = &forest.nodes[n];
        node.failed.then_some(Wrong {
            at_ns: node.end_ns,
            depth: node.depth,
            event: node.event,
            node: Some(n),
            is_span: true,
            is_failure: true,
        })
    };
    events.filter_map(of_event).chain((0..forest.nodes.len()).filter_map(of_span)).collect()
}

/// Whether the operation it happened in, or one around it, succeeded later in the same parent.
fn recovered(forest: &Forest, wrong: &Wrong) -> bool {
    let mut at = wrong.node;
    while let Some(node) = at {
        let span = &forest.nodes[node];
        let siblings = span.parent.map_or(forest.roots.as_slice(), |parent| forest.nodes[parent].children.as_slice());
        let again = siblings.iter().any(|sibling| {
            let other = &forest.nodes[*sibling];
            other.start_ns >= span.end_ns
                && *sibling != node
                && !other.failed
                && !other.open
                && forest.operation(*sibling) == forest.operation(node)
                && forest.span(*sibling).service == forest.span(node).service
        });
        if again {
            return true;
        }
        at = span.parent;
    }
    false
}

fn described(forest: &Forest, wrong: &Wrong) -> String {
    let event = forest.events[wrong.event];
    let what = first_line(&event.message);
    let what = if wrong.is_span { format!("{what} failed") } else { what };
    if event.service.is_empty() { what } else { format!("{what}, in {}", event.service) }
}

/// The first line of a message, cut where it is long.
fn first_line(message: &str) -> String {
    let line = message.lines().next().unwrap_or("").trim();
    if line.is_empty() {
        return "(no message)".to_owned();
    }
    let mut cut: String = line.chars().take(MAX_MESSAGE).collect();
    if cut.len() < line.len() {
        cut.push('…');
    }
    cut
}
