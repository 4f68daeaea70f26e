//! The spans of a story as trees, with the events that stand on them. A parent that is missing is marked, never invented;
//! parents that go in a circle make roots.

use calvex_language::model::{Event, Kind, SpanId, Status, TraceId, Value};
use std::collections::HashMap;

/// Loggers often write whole milliseconds where tracers write nanoseconds.
pub(super) const SLACK_NS: i64 = 1_000_000;

/// A span.
pub(super) struct Node {
    /// Its number in the story.
    pub event: usize,
    /// Its parent among the nodes.
    pub parent: Option<usize>,
    /// Whether it names a parent that is not there.
    pub parent_missing: bool,
    /// A span of which it takes what was left in a queue.
    pub link: Option<usize>,
    /// By their start.
    pub children: Vec<usize>,
    /// How many ancestors.
    pub depth: usize,
    /// Nanoseconds from 1970, corrected.
    pub start_ns: i64,
    /// The same; of an open span the last that is known of it.
    pub end_ns: i64,
    /// Whether its end is not known.
    pub open: bool,
    /// Whether it failed.
    pub failed: bool,
    /// Whether it is a producer's or a consumer's: its parent does not wait for it.
    pub queued: bool,
}

/// All spans and events of a story.
pub(super) struct Forest<'a> {
    pub events: &'a [&'a Event],
    /// In the order of their parents: a parent stands before its children.
    pub nodes: Vec<Node>,
    pub roots: Vec<usize>,
    /// By event: its time, corrected.
    pub times: Vec<i64>,
    /// By event that is no span: the node it stands on by its span id.
    pub stands_on: Vec<Option<usize>>,
}

type Key = (Option<TraceId>, SpanId);

impl<'a> Forest<'a> {
    pub(super) fn of(events: &'a [&'a Event]) -> Self {
        let spans: Vec<usize> = (0..events.len()).filter(|n| events[*n].kind == Kind::Span).collect();
        let mut by_id: HashMap<Key, usize> = HashMap::new();
        for (node, event) in spans.iter().enumerate() {
            if let Some(span) = events[*event].span {
                by_id.entry((events[*event].trace, span)).or_insert(node);
            }
        }
        let known = |event: &Event, span: Option<SpanId>| by_id.get(&(event.trace, span?)).copied();
        let parents: Vec<Option<usize>> = spans
            .iter()
            .enumerate()
            .map(|(node, event)| known(events[*event], events[*event].parent).filter(|parent| *parent != node))
            .collect();
        let parents = without_circles(&parents);
        let order = parents_first(&parents);
        let mut place = vec![0; spans.len()];
        order.iter().enumerate().for_each(|(at, node)| place[*node] = at);
        let mut nodes: Vec<Node> = order
            .iter()
            .map(|node| {
                let event = events[spans[*node]];
                let took = event.took_ns.filter(|took| *took >= 0);
                let kind = text_field(event, "span.kind");
                Node {
                    event: spans[*node],
                    parent: parents[*node].map(|parent| place[parent]),
                    parent_missing: parents[*node].is_none() && event.parent.is_some(),
                    link: linked_span(event).and_then(|key| by_id.get(&key)).map(|node| place[*node]),
                    children: Vec::new(),
                    depth: 0,
                    start_ns: event.time_ns,
                    end_ns: event.time_ns.saturating_add(took.unwrap_or(0)),
                    open: took.is_none(),
                    failed: event.status == Some(Status::Error),
                    queued: matches!(kind, Some("producer" | "consumer")),
                }
            })
            .collect();
        let mut roots = Vec::new();
        for node in 0..nodes.len() {
            match nodes[node].parent {
                Some(parent) => {
                    nodes[node].depth = nodes[parent].depth + 1;
                    nodes[parent].children.push(node);
                }
                None => roots.push(node),
            }
        }
        let stands_on = events
            .iter()
            .map(|event| (event.kind != Kind::Span).then(|| known(event, event.span)).flatten().map(|n| place[n]))
            .collect();
        let times = events.iter().map(|event| event.time_ns).collect();
        Forest { events, nodes, roots, times, stands_on }
    }

    /// The event of a node.
    pub(super) fn span(&self, node: usize) -> &'a Event {
        self.events[self.nodes[node].event]
    }

    /// What a node does.
    pub(super) fn operation(&self, node: usize) -> &'a str {
        &self.span(node).message
    }

    /// Moves all times of a host, in the drawing only.
    pub(super) fn shift(&mut self, by_ns: impl Fn(&str) -> i64) {
        for (time, event) in self.times.iter_mut().zip(self.events) {
            *time = time.saturating_add(by_ns(&event.host));
        }
        for node in &mut self.nodes {
            let by = by_ns(&self.events[node.event].host);
            node.start_ns = node.start_ns.saturating_add(by);
            node.end_ns = node.end_ns.saturating_add(by);
        }
        for node in 0..self.nodes.len() {
            let mut children = std::mem::take(&mut self.nodes[node].children);
            children.sort_by_key(|child| self.nodes[*child].start_ns);
            self.nodes[node].children = children;
        }
        let starts: Vec<i64> = self.nodes.iter().map(|node| node.start_ns).collect();
        self.roots.sort_by_key(|root| starts[*root]);
    }

    /// Gives open spans the last moment that is known of them.
    pub(super) fn close_open(&mut self) {
        for (event, node) in self.stands_on.iter().enumerate() {
            if let Some(node) = node
                && self.nodes[*node].open
            {
                self.nodes[*node].end_ns = self.nodes[*node].end_ns.max(self.times[event]);
            }
        }
        // Children stand behind their parents, so the other way round each is whole before its parent is.
        for node in (0..self.nodes.len()).rev() {
            if let Some(parent) = self.nodes[node].parent
                && self.nodes[parent].open
            {
                self.nodes[parent].end_ns = self.nodes[parent].end_ns.max(self.nodes[node].end_ns);
            }
        }
    }

    /// The first moment.
    pub(super) fn start_ns(&self) -> i64 {
        self.times.iter().copied().min().unwrap_or(0)
    }

    /// From the first moment to the last.
    pub(super) fn took_ns(&self) -> i64 {
        let ends = self.nodes.iter().map(|node| node.end_ns).chain(self.times.iter().copied());
        ends.max().unwrap_or(0).saturating_sub(self.start_ns())
    }

    /// The root that the story is named after: the first that begins.
    pub(super) fn root(&self) -> Option<usize> {
        self.roots.iter().copied().min_by_key(|root| self.nodes[*root].start_ns)
    }

    /// The span that an event stands on: its own by its span id, else the innermost of its service that covers its time,
    /// else one that begins a moment later.
    pub(super) fn bar_of_event(&self, event: usize) -> Option<usize> {
        let (service, at_ns) = (self.events[event].service.as_str(), self.times[event]);
        let of_service = || (0..self.nodes.len()).filter(|n| self.span(*n).service == service);
        let covering = || {
            of_service()
                .filter(|n| (self.nodes[*n].start_ns..=self.nodes[*n].end_ns).contains(&at_ns))
                .max_by_key(|n| (self.nodes[*n].depth, self.nodes[*n].start_ns))
        };
        let beginning = || {
            of_service()
                .filter(|n| (at_ns..at_ns + SLACK_NS).contains(&self.nodes[*n].start_ns))
                .min_by_key(|n| (self.nodes[*n].start_ns, self.nodes[*n].depth))
        };
        self.stands_on[event].or_else(covering).or_else(beginning)
    }
}

/// The parents with each circle cut where it is met first.
fn without_circles(parents: &[Option<usize>]) -> Vec<Option<usize>> {
    let mut cut = parents.to_vec();
    // 0: not looked at, 1: on the way up, 2: known to end at a root.
    let mut state = vec![0u8; parents.len()];
    for start in 0..parents.len() {
        let (mut path, mut at) = (Vec::new(), start);
        loop {
            match state[at] {
                0 => {
                    state[at] = 1;
                    path.push(at);
                }
                1 => {
                    cut[at] = None;
                    break;
                }
                _ => break,
            }
            match cut[at] {
                Some(parent) => at = parent,
                None => break,
            }
        }
        path.into_iter().for_each(|node| state[node] = 2);
    }
    cut
}

/// All nodes, each behind its parent, otherwise in their order.
fn parents_first(parents: &[Option<usize>]) -> Vec<usize> {
    let mut children: Vec<Vec<usize>> = vec![Vec::new(); parents.len()];
    let mut order = Vec::with_capacity(parents.len());
    for (node, parent) in parents.iter().enumerate() {
        match parent {
            Some(parent) => children[*parent].push(node),
            None => order.push(node),
        }
    }
    let mut at = 0;
    while let Some(node) = order.get(at).copied() {
        order.append(&mut children[node]);
        at += 1;
    }
    order
}

/// A text field by its dotted path.
fn text_field<'e>(event: &'e Event, dotted: &str) -> Option<&'e str> {
    event.fields.iter().find(|(path, _)| path.is(dotted)).and_then(|(_, value)| value.as_text())
}

/// The span that a consumer names as its producer.
fn linked_span(event: &Event) -> Option<Key> {
    let (_, Value::List(links)) = event.fields.iter().find(|(path, _)| path.is("span.links"))? else { return None };
    let Value::Object(link) = links.first()? else { return None };
    let text = |name: &str| link.iter().find(|(n, _)| n == name).and_then(|(_, v)| v.as_text());
    let span = calvex_language::model::parse_span(text("span")?)?;
    let trace = text("trace").and_then(calvex_language::model::parse_trace).or(event.trace);
    Some((trace, span))
}
