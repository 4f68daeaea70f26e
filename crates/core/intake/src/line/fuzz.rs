//! A fuzz target for line patterns and the lines they cut. `cargo test` runs it briefly; with a fuzzing engine
//! (`cargo bolero test line::fuzz::line_patterns -p calvex-intake`) it runs for as long as wished.

use super::{Pattern, leading_time};
use bolero::{check, produce};
use calvex_storage::testing::{Edits, edited};

const ROUNDS: usize = 3000;

#[test]
fn line_patterns() {
    let pattern =
        "{time} {severity} {either}[{word thread}]{or}-{end} {text what}: {quoted q} {number n} {address a} {rest r}";
    let line = "2026-10-04 02:38:41,198 WARN [worker-3] lease: \"a \\\" b\" -1.5e3 10.4.0.7:8443 and more";
    check!()
        .with_iterations(ROUNDS)
        .with_generator((produce::<Edits>().with().len(0usize..6), produce::<Edits>().with().len(0usize..6)))
        .for_each(|(in_pattern, in_line)| {
            let pattern = edited(pattern.as_bytes(), in_pattern, u16::MAX);
            let line = String::from_utf8_lossy(&edited(line.as_bytes(), in_line, u16::MAX)).into_owned();
            let Ok(pattern) = Pattern::parse(&String::from_utf8_lossy(&pattern)) else { return };
            let _ = pattern.cut(&line, 0);
            let _ = leading_time(&line, 0);
        });
}
