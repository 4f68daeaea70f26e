//! What `docs/scale.md` computes, and a simulation of the same nodes that checks it: nodes that commit one group at a time,
//! look at each other, decode what others wrote, and die. Time is a number; nothing waits.

use rand::{Rng, RngExt};
use std::cmp::Reverse;
use std::collections::BinaryHeap;

/// What was measured; `docs/scale.md` names the commands.
#[derive(Debug, Clone, Copy)]
pub struct Constants {
    /// Bytes of an event in the journal.
    pub journal_bytes: f64,
    /// Milliseconds of a commit that waits for nobody: the mean, and the least.
    pub commit_ms: f64,
    pub commit_least_ms: f64,
    /// Milliseconds of a look that finds nothing, on the machine whose cores do everything.
    pub look_ms: f64,
    /// Nanoseconds in which a node decodes an event that another one wrote.
    pub decode_ns: f64,
    /// Milliseconds from one look's begin to the next one's, at least.
    pub look_every_ms: f64,
    /// Statements of a look, and for each node whose catalogue changed.
    pub look_statements: f64,
    /// Events after which a head is sealed.
    pub seal_events: f64,
    /// Milliseconds between two beats, and for how long one stands still before its node is adopted.
    pub beat_ms: f64,
    pub still_ms: f64,
}

/// Those of `docs/scale.md`.
pub const MEASURED: Constants = Constants {
    journal_bytes: 27.0,
    commit_ms: 6.2,
    commit_least_ms: 4.0,
    look_ms: 40.0,
    decode_ns: 284.0,
    look_every_ms: 250.0,
    look_statements: 7.0,
    seal_events: 100_000.0,
    beat_ms: 1_000.0,
    still_ms: 10_000.0,
};

/// What nodes do, by arithmetic or by simulation.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Load {
    /// Bytes a second that each database server writes of the journal.
    pub journal_bytes_s: f64,
    /// Commits a second of one node.
    pub commits_s: f64,
    /// Events a second that a node decodes of others.
    pub decoded_s: f64,
    /// Statements a second of all looks.
    pub statements_s: f64,
    /// Milliseconds from an acknowledgement until another node finds the event: the mean, and 99 in 100.
    pub found_ms: f64,
    pub found_p99_ms: f64,
    /// Whether nodes keep up with each other.
    pub keeps_up: bool,
}

/// By arithmetic: `nodes` that take `events_s` each.
pub fn computed(nodes: u32, events_s: f64, of: &Constants) -> Load {
    let (n, all) = (f64::from(nodes), f64::from(nodes) * events_s);
    let decoded_s = all - events_s;
    // A look that decodes for longer than the pause begins the next one at once.
    let share = decoded_s * of.decode_ns / 1e9;
    let keeps_up = share < 1.0;
    let look_ms =
        if keeps_up { (of.look_ms / (1.0 - share)).max(of.look_ms + share * of.look_every_ms) } else { f64::MAX };
    let period_ms = of.look_every_ms.max(look_ms);
    let changed = (events_s / of.seal_events * period_ms / 1000.0).min(1.0) * (n - 1.0);
    Load {
        journal_bytes_s: all * of.journal_bytes,
        commits_s: 1000.0 / of.commit_ms,
        decoded_s,
        statements_s: if nodes == 1 { 0.0 } else { n * (of.look_statements + changed) * 1000.0 / period_ms },
        found_ms: period_ms / 2.0 + look_ms,
        found_p99_ms: period_ms * 0.99 + look_ms,
        keeps_up,
    }
}

/// The most nodes that keep up with each other.
pub fn most_nodes(events_s: f64, of: &Constants) -> u32 {
    (1..100_000).take_while(|nodes| computed(*nodes, events_s, of).keeps_up).last().unwrap_or(0)
}

/// A node that takes part in the simulation.
struct Node {
    /// Events of the commit under way, and since when events wait for the next.
    group: f64,
    waiting_since_ms: f64,
    /// What it committed: when each group was, and its events.
    groups: Vec<(f64, f64)>,
    events: f64,
    sealed: f64,
    /// How often its catalogue changed.
    changes: usize,
    /// How many groups and changes of each other node it has read.
    read: Vec<(usize, usize)>,
}

/// What happens next to a node.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Next {
    CommitEnds,
    LookBegins,
}

/// The same nodes, simulated for so many seconds.
pub fn simulated(nodes: u32, events_s: f64, of: &Constants, seconds: f64, random: &mut impl Rng) -> Load {
    let count = nodes as usize;
    let until_ms = seconds * 1000.0;
    // By microsecond.
    let mut agenda: BinaryHeap<Reverse<(u64, usize, Next)>> = BinaryHeap::new();
    let at = |ms: f64| (ms * 1000.0) as u64;
    let mut all: Vec<Node> = Vec::new();
    for n in 0..count {
        agenda.push(Reverse((at(random.random_range(0.0..of.commit_ms)), n, Next::CommitEnds)));
        agenda.push(Reverse((at(random.random_range(0.0..of.look_every_ms)), n, Next::LookBegins)));
        let (groups, read) = (Vec::new(), vec![(0, 0); count]);
        all.push(Node { group: 0.0, waiting_since_ms: 0.0, groups, events: 0.0, sealed: 0.0, changes: 0, read });
    }
    let (mut commits, mut committed, mut decoded, mut statements) = (0.0, 0.0, 0.0, 0.0);
    // Of many nodes a part of the delays is enough.
    let (mut delays, step) = (Vec::<(f64, f64)>::new(), 1 + count / 10);
    while let Some(Reverse((us, n, next))) = agenda.pop() {
        let now = us as f64 / 1000.0;
        if now > until_ms {
            break;
        }
        if next == Next::CommitEnds {
            let Some(node) = all.get_mut(n) else { break };
            if node.group > 0.0 {
                commits += 1.0;
                committed += node.group;
                node.events += node.group;
                node.groups.push((now, node.group));
            }
            if node.events - node.sealed >= of.seal_events {
                node.sealed = node.events;
                node.changes += 1;
            }
            // The next group has what came meanwhile.
            node.group = (now - node.waiting_since_ms) / 1000.0 * events_s;
            node.waiting_since_ms = now;
            let more = -(1.0 - random.random::<f64>()).ln() * (of.commit_ms - of.commit_least_ms);
            agenda.push(Reverse((at(now + of.commit_least_ms + more), n, Next::CommitEnds)));
            continue;
        }
        // A look reads what was committed before it began; that is found when it ends.
        let mut read = all.get_mut(n).map(|node| std::mem::take(&mut node.read)).unwrap_or_default();
        let (mut events, mut changed, mut found) = (0.0, 0.0, Vec::new());
        for ((groups, changes), other) in read.iter_mut().zip(&all).enumerate().filter(|(m, _)| *m != n).map(|(_, x)| x)
        {
            let unread = other.groups.get(*groups..).unwrap_or_default();
            found.extend(unread.iter().step_by(step).map(|(at, size)| (now - at, *size)));
            events += unread.iter().map(|(_, size)| size).sum::<f64>();
            changed += f64::from(u8::from(other.changes > *changes));
            (*groups, *changes) = (other.groups.len(), other.changes);
        }
        let takes = of.look_ms + events * of.decode_ns / 1e6;
        delays.extend(found.into_iter().map(|(delay, size)| (delay + takes, size)));
        decoded += events;
        statements += of.look_statements + changed;
        agenda.push(Reverse((at((now + of.look_every_ms).max(now + takes)), n, Next::LookBegins)));
        if let Some(node) = all.get_mut(n) {
            node.read = read;
        }
    }
    let weight: f64 = delays.iter().map(|(_, size)| size).sum();
    let mean = delays.iter().map(|(delay, size)| delay * size).sum::<f64>() / weight.max(1.0);
    let mut waits: Vec<f64> = delays.into_iter().map(|(delay, _)| delay).collect();
    waits.sort_by(f64::total_cmp);
    let p99 = waits.get(waits.len() * 99 / 100).copied().unwrap_or(0.0);
    let in_all = f64::from(nodes);
    Load {
        journal_bytes_s: committed / seconds * of.journal_bytes,
        commits_s: commits / seconds / in_all,
        decoded_s: decoded / seconds / in_all,
        statements_s: if nodes == 1 { 0.0 } else { statements / seconds },
        found_ms: mean,
        found_p99_ms: p99,
        keeps_up: p99 < 2.0 * (of.look_every_ms + of.look_ms) + 500.0,
    }
}

/// Milliseconds from a node's death until another one adopts it, simulated once.
pub fn adoption_ms(nodes: u32, of: &Constants, random: &mut impl Rng) -> f64 {
    let since_beat = random.random_range(0.0..of.beat_ms);
    // Each of the others saw the last beat at its first look after it, and adopts at its first look after the time.
    let watchers = (1..nodes.max(2)).map(|_| {
        let saw = random.random_range(0.0..of.look_every_ms);
        let looks = (of.still_ms / of.look_every_ms).ceil() * of.look_every_ms;
        saw + looks + of.look_ms
    });
    watchers.fold(f64::MAX, f64::min) - since_beat
}
