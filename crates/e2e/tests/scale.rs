//! The arithmetic of `docs/scale.md` against a simulation of the same nodes, and the page's own numbers against both.

use anyhow::{Context, Result};
use calvex_e2e::scale::{MEASURED, adoption_ms, computed, most_nodes, simulated};
use rand::SeedableRng;
use rand_chacha::ChaCha8Rng;

const EVENTS_S: f64 = 20_000.0;

fn near(what: &str, nodes: u32, computed: f64, simulated: f64, share: f64) {
    let apart = (computed - simulated).abs() / simulated.max(1.0);
    assert!(apart <= share, "{what} of {nodes} nodes: computed {computed:.1}, simulated {simulated:.1}");
}

#[test]
fn the_arithmetic_is_what_a_simulation_finds() {
    let mut random = ChaCha8Rng::seed_from_u64(18);
    for nodes in [1, 3, 10, 40] {
        let by_hand = computed(nodes, EVENTS_S, &MEASURED);
        let found = simulated(nodes, EVENTS_S, &MEASURED, 10.0, &mut random);
        assert!(by_hand.keeps_up && found.keeps_up, "{nodes} nodes keep up: {found:?}");
        near("bytes of the journal", nodes, by_hand.journal_bytes_s, found.journal_bytes_s, 0.02);
        near("commits a second", nodes, by_hand.commits_s, found.commits_s, 0.05);
        if nodes > 1 {
            near("events decoded", nodes, by_hand.decoded_s, found.decoded_s, 0.05);
            near("statements", nodes, by_hand.statements_s, found.statements_s, 0.15);
            near("time until found", nodes, by_hand.found_ms, found.found_ms, 0.15);
            near("time until 99 in 100 are found", nodes, by_hand.found_p99_ms, found.found_p99_ms, 0.15);
        }
    }
}

#[test]
fn nodes_fall_behind_where_the_arithmetic_has_the_limit() {
    let mut random = ChaCha8Rng::seed_from_u64(19);
    let most = most_nodes(EVENTS_S, &MEASURED);
    let keep_up = |nodes: u32, random: &mut ChaCha8Rng| simulated(nodes, EVENTS_S, &MEASURED, 8.0, random).keeps_up;
    assert!(keep_up(most * 8 / 10, &mut random), "below the limit");
    assert!(!keep_up(most * 12 / 10, &mut random), "above it");
}

#[test]
fn an_adoption_takes_about_ten_seconds() {
    let mut random = ChaCha8Rng::seed_from_u64(20);
    let mut took: Vec<f64> = (0..1000).map(|_| adoption_ms(3, &MEASURED, &mut random)).collect();
    took.sort_by(f64::total_cmp);
    let (least, most) = (took[0], took[took.len() - 1]);
    assert!(least > 9_000.0 && most < 10_500.0, "{least} to {most} ms");
}

#[test]
fn the_page_has_what_is_computed() -> Result<()> {
    let page = std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/scale.md"))?;
    let most = most_nodes(EVENTS_S, &MEASURED);
    assert!(page.contains(&format!("**{most} nodes**")), "the limit is {most} nodes");
    for (row, of) in [
        ("journal a server writes, MB/s", (|l| l.journal_bytes_s / 1e6) as fn(calvex_e2e::scale::Load) -> f64),
        ("events/s a node decodes of others", |l| l.decoded_s),
        ("statements of looks a second", |l| l.statements_s),
        ("found on another node, ms", |l| l.found_ms),
        ("99 in 100 found, ms", |l| l.found_p99_ms),
    ] {
        let line = page.lines().find(|line| line.starts_with(&format!("| {row} |"))).context(row)?;
        let cells: Vec<f64> =
            line.split('|').skip(2).filter_map(|cell| cell.trim().replace(',', "").parse().ok()).collect();
        let computed: Vec<f64> = [3, 10, 40].map(|nodes| of(computed(nodes, EVENTS_S, &MEASURED))).to_vec();
        assert_eq!(cells.len(), 3, "{line}");
        for (cell, computed) in cells.iter().zip(&computed) {
            assert!(
                (cell - computed).abs() <= 0.06 * computed,
                "{row}: the page has {cell}, computed are {computed:?}"
            );
        }
    }
    Ok(())
}
