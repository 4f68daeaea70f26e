//! Step 10 in core: which chunks become one.
//!
//! Chunks of one lane, day and term are merged when four or more of about one size have gathered, so that an event is
//! rewritten once for each fourfold growth at most; once nothing more is expected for a day, whatever is small is
//! merged. Chunks near the largest size are left alone.

/// What is known of a chunk without opening it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Candidate {
    /// The chunk.
    pub id: u64,
    /// How many events.
    pub rows: usize,
    /// Its earliest event.
    pub time_min: i64,
}

/// How many chunks of one size make a merge worth its writing.
const FAN_IN: usize = 4;
/// Chunks of one merge at most.
const MAX_FAN_IN: usize = 64;

/// The tier of a chunk: how often its size fits fourfold below `max_rows`; 0 is large enough.
fn tier(rows: usize, max_rows: usize) -> u32 {
    let mut tier = 0;
    let mut size = max_rows / 2;
    while rows < size && tier < 12 {
        tier += 1;
        size /= 4;
    }
    tier
}

/// Whether a chunk is large enough to be left alone.
pub fn is_large(rows: usize, max_rows: usize) -> bool {
    tier(rows, max_rows) == 0
}

/// The chunks to merge next, of those of one lane, day and term; nothing where no merge pays. `settled` says that no
/// more events of the day are expected.
pub fn plan_merge(chunks: &[Candidate], max_rows: usize, settled: bool) -> Option<Vec<u64>> {
    let mut small: Vec<Candidate> = chunks.iter().copied().filter(|c| tier(c.rows, max_rows) > 0).collect();
    // Neighbours in time, so that the merged chunk has a tight range.
    small.sort_by_key(|c| (c.time_min, c.id));
    let fitting = |list: &[Candidate]| {
        let mut rows = 0;
        let within = |c: &&Candidate| {
            rows += c.rows;
            rows <= max_rows
        };
        list.iter().take(MAX_FAN_IN).take_while(within).map(|c| c.id).collect::<Vec<u64>>()
    };
    if settled {
        return Some(fitting(&small)).filter(|ids| ids.len() > 1);
    }
    // The smallest first: they are the most, and the cheapest.
    (1..=12).rev().find_map(|wanted| {
        let of_tier: Vec<Candidate> = small.iter().copied().filter(|c| tier(c.rows, max_rows) == wanted).collect();
        if of_tier.len() < FAN_IN { None } else { Some(fitting(&of_tier)).filter(|ids| ids.len() > 1) }
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn chunk(id: u64, rows: usize) -> Candidate {
        Candidate { id, rows, time_min: id as i64 }
    }

    #[test]
    fn four_of_a_size_are_merged() {
        let three = [chunk(1, 1000), chunk(2, 1000), chunk(3, 1000)];
        assert_eq!(plan_merge(&three, 500_000, false), None);
        assert_eq!(plan_merge(&three, 500_000, true), Some(vec![1, 2, 3]));
        let mixed = [chunk(1, 100_000), chunk(5, 1000), chunk(4, 1000), chunk(3, 1000), chunk(2, 1000)];
        assert_eq!(plan_merge(&mixed, 500_000, false), Some(vec![2, 3, 4, 5]), "in the order of time");
        assert_eq!(plan_merge(&[chunk(1, 400_000), chunk(2, 400_000)], 500_000, true), None, "large ones stay");
        assert_eq!(plan_merge(&[chunk(1, 10)], 500_000, true), None);
    }

    proptest! {
        /// Merging until nothing is left to merge ends, and rewrites each event a bounded number of times.
        #[test]
        fn it_ends_with_few_chunks(sizes in prop::collection::vec(1usize..20_000, 1..80)) {
            const MAX: usize = 100_000;
            let total: usize = sizes.iter().sum();
            let mut chunks: Vec<Candidate> = (0..).zip(&sizes).map(|(id, rows)| chunk(id, *rows)).collect();
            let (mut next, mut written) = (1000, 0);
            while let Some(ids) = plan_merge(&chunks, MAX, false) {
                let rows: usize = chunks.iter().filter(|c| ids.contains(&c.id)).map(|c| c.rows).sum();
                prop_assert!(ids.len() > 1 && rows <= MAX);
                chunks.retain(|c| !ids.contains(&c.id));
                next += 1;
                written += rows;
                chunks.push(chunk(next, rows));
            }
            prop_assert!(written <= total * 12);
            while let Some(ids) = plan_merge(&chunks, MAX, true) {
                let rows: usize = chunks.iter().filter(|c| ids.contains(&c.id)).map(|c| c.rows).sum();
                chunks.retain(|c| !ids.contains(&c.id));
                next += 1;
                chunks.push(chunk(next, rows));
            }
            prop_assert!(chunks.len() <= 2 * total / MAX + 2, "{} chunks of {total} rows", chunks.len());
            prop_assert_eq!(chunks.iter().map(|c| c.rows).sum::<usize>(), total);
        }
    }
}
