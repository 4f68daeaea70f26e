//! Where the time went: from the root's end backwards, the last child to finish that its parent waited for, and between
//! children the parent itself. (Yang and Miller, "Critical path analysis for the execution of parallel and distributed
//! programs", 1988.)

use super::ServiceTime;
use super::forest::Forest;
use std::collections::HashMap;

/// The path that the root waited for.
pub(super) struct Critical {
    /// By node: whether it lies on the path.
    pub on_path: Vec<bool>,
    /// By node: what of it no child covers, nanoseconds.
    pub self_ns: Vec<i64>,
    /// By service, the most first.
    pub shares: Vec<ServiceTime>,
}

/// The path of the first root, and the self time of every span.
pub(super) fn path(forest: &Forest) -> Critical {
    let mut on_path = vec![false; forest.nodes.len()];
    let mut by_service: HashMap<&str, i64> = HashMap::new();
    // A span, and until when it was waited for.
    let mut waiting: Vec<(usize, i64)> = Vec::new();
    waiting.extend(forest.root().map(|root| (root, forest.nodes[root].end_ns)));
    while let Some((node, until_ns)) = waiting.pop() {
        let span = &forest.nodes[node];
        on_path[node] = true;
        let mut cursor = until_ns.min(span.end_ns);
        let mut children: Vec<usize> =
            span.children.iter().copied().filter(|child| !forest.nodes[*child].queued).collect();
        children.sort_by_key(|child| std::cmp::Reverse(forest.nodes[*child].end_ns));
        for child in children {
            let inner = &forest.nodes[child];
            // One that ends after the cursor ran beside what was waited for, or outlived its parent.
            if inner.end_ns > cursor || inner.end_ns <= span.start_ns {
                continue;
            }
            *by_service.entry(&forest.span(node).service).or_default() += cursor - inner.end_ns;
            waiting.push((child, inner.end_ns));
            cursor = inner.start_ns.max(span.start_ns).min(cursor);
        }
        *by_service.entry(&forest.span(node).service).or_default() += (cursor - span.start_ns).max(0);
    }
    let all: i64 = by_service.values().sum();
    let share = |(service, self_ns): (&str, i64)| ServiceTime {
        service: service.to_owned(),
        self_ns,
        share: if all > 0 { self_ns as f64 / all as f64 } else { 0.0 },
    };
    let mut shares: Vec<ServiceTime> = by_service.into_iter().filter(|(_, ns)| *ns > 0).map(share).collect();
    shares.sort_by(|a, b| b.self_ns.cmp(&a.self_ns).then_with(|| a.service.cmp(&b.service)));
    Critical { on_path, self_ns: (0..forest.nodes.len()).map(|node| self_time(forest, node)).collect(), shares }
}

/// What of a span no child of it covers.
fn self_time(forest: &Forest, node: usize) -> i64 {
    let span = &forest.nodes[node];
    let (mut covered, mut reached) = (0, span.start_ns);
    for child in &span.children {
        let inner = &forest.nodes[*child];
        let (from, to) = (inner.start_ns.max(reached), inner.end_ns.min(span.end_ns));
        if to > from {
            covered += to - from;
            reached = to;
        }
    }
    (span.end_ns - span.start_ns - covered).max(0)
}
