//! Clocks that disagree. A child that a parent waited for lies within it; where it does not by the clocks of two hosts, one
//! of them is off. Each such pair bounds the difference of the two clocks from both sides. The bounds are a system of
//! difference constraints: shortest paths close it (Floyd and Warshall), a negative circle contradicts it, and from the
//! root's host outwards each clock is moved as little as the bounds allow. Stored times never change.

use super::ClockOffset;
use super::forest::Forest;
use std::collections::BTreeMap;

/// More hosts than this are drawn as they are: closing the bounds takes the cube of their number.
const MAX_HOSTS: usize = 150;
/// No bound.
const FREE: i64 = i64::MAX / 4;

/// Moves the clocks of hosts in the drawing, and names those that were moved or contradict themselves.
pub(super) fn correct(forest: &mut Forest) -> Vec<ClockOffset> {
    let hosts = hosts(forest);
    if hosts.len() < 2 || hosts.len() > MAX_HOSTS {
        forest.shift(|_| 0);
        return Vec::new();
    }
    // bound[a][b]: the clock of b is moved against that of a by at most so much.
    let mut bound = bounds(forest, &hosts);
    close(&mut bound);
    let contradicts: Vec<bool> = (0..hosts.len()).map(|h| bound[h][h] < 0).collect();
    let root = forest.root().and_then(|root| hosts.get(forest.span(root).host.as_str()).copied()).unwrap_or(0);
    let moved = least_moves(&bound, root);
    let moves: BTreeMap<String, i64> = hosts
        .iter()
        .filter(|(_, h)| !contradicts[**h])
        .map(|(host, h)| ((*host).to_owned(), moved[*h]))
        .filter(|(_, by)| *by != 0)
        .collect();
    let mut offsets: Vec<ClockOffset> = moves
        .iter()
        .map(|(host, by)| ClockOffset { host: host.clone(), behind_ns: *by, contradicts: false })
        .chain(hosts.iter().filter(|(_, h)| contradicts[**h]).map(|(host, _)| ClockOffset {
            host: (*host).to_owned(),
            behind_ns: 0,
            contradicts: true,
        }))
        .collect();
    offsets.sort_by(|a, b| a.host.cmp(&b.host));
    forest.shift(|host| moves.get(host).copied().unwrap_or(0));
    offsets
}

/// The hosts of spans, numbered.
fn hosts<'a>(forest: &Forest<'a>) -> BTreeMap<&'a str, usize> {
    let mut hosts: BTreeMap<&str, usize> = BTreeMap::new();
    for node in 0..forest.nodes.len() {
        let host = forest.span(node).host.as_str();
        if !host.is_empty() {
            let next = hosts.len();
            hosts.entry(host).or_insert(next);
        }
    }
    hosts
}

fn bounds(forest: &Forest, hosts: &BTreeMap<&str, usize>) -> Vec<Vec<i64>> {
    let mut bound = vec![vec![FREE; hosts.len()]; hosts.len()];
    (0..hosts.len()).for_each(|h| bound[h][h] = 0);
    for (n, child) in forest.nodes.iter().enumerate() {
        let Some(p) = child.parent else { continue };
        let parent = &forest.nodes[p];
        let (from, to) = (hosts.get(forest.span(p).host.as_str()), hosts.get(forest.span(n).host.as_str()));
        let (Some(from), Some(to)) = (from, to) else { continue };
        // What is queued, and what takes longer than its parent, rightly breaks out of it.
        let waited = !child.queued && !parent.queued && !child.open && !parent.open;
        let longer = child.end_ns - child.start_ns > parent.end_ns - parent.start_ns;
        if from == to || !waited || longer {
            continue;
        }
        // parent.start <= child.start + move, and child.end + move <= parent.end.
        let most = parent.end_ns.saturating_sub(child.end_ns);
        let least = parent.start_ns.saturating_sub(child.start_ns);
        bound[*from][*to] = bound[*from][*to].min(most);
        bound[*to][*from] = bound[*to][*from].min(-least);
    }
    bound
}

/// Makes every bound as tight as all others make it.
fn close(bound: &mut [Vec<i64>]) {
    let hosts = bound.len();
    for via in 0..hosts {
        for from in 0..hosts {
            for to in 0..hosts {
                let round = bound[from][via].saturating_add(bound[via][to]);
                if bound[from][via] < FREE && bound[via][to] < FREE && round < bound[from][to] {
                    bound[from][to] = round.max(-FREE);
                }
            }
        }
    }
}

/// By host: the least move that the bounds allow, given those of the hosts nearer to the root's.
fn least_moves(bound: &[Vec<i64>], root: usize) -> Vec<i64> {
    let hosts = bound.len();
    let mut moved = vec![0i64; hosts];
    let mut set = vec![false; hosts];
    // Hosts that the root's bounds reach first; each of the others begins a part of its own.
    let mut order = vec![root];
    let mut seen = vec![false; hosts];
    seen[root] = true;
    let mut at = 0;
    while order.len() < hosts {
        match order.get(at).copied() {
            Some(from) => {
                for to in 0..hosts {
                    if !seen[to] && (bound[from][to] < FREE || bound[to][from] < FREE) {
                        seen[to] = true;
                        order.push(to);
                    }
                }
                at += 1;
            }
            None => {
                let next = (0..hosts).find(|h| !seen[*h]).unwrap_or(root);
                seen[next] = true;
                order.push(next);
            }
        }
    }
    for host in order {
        let (mut least, mut most) = (-FREE, FREE);
        for other in (0..hosts).filter(|other| set[*other]) {
            if bound[other][host] < FREE {
                most = most.min(moved[other].saturating_add(bound[other][host]));
            }
            if bound[host][other] < FREE {
                least = least.max(moved[other].saturating_sub(bound[host][other]));
            }
        }
        moved[host] = 0.clamp(least.min(most), most.max(least));
        set[host] = true;
    }
    moved
}
