//! A fuzz target for the parser. `cargo test` runs it briefly; with a fuzzing engine (`cargo bolero test query::fuzz::query_parser
//! -p calvex-language`) it runs for as long as wished.

use super::{Context, parse};
use bolero::check;

const ROUNDS: usize = 3000;

#[test]
fn query_parser() {
    const PIECES: [&str; 32] = [
        "lease",
        " ",
        "severity",
        ">=",
        "error",
        "(",
        ")",
        "\"",
        "a b",
        "`",
        "measure ",
        "count",
        "p95",
        "took_ms",
        " per ",
        " every 5m",
        " having ",
        " top 3",
        " over last ",
        "15m",
        "~/",
        "/i",
        " in (",
        ",",
        " between ",
        " and ",
        " or ",
        "not ",
        "has ",
        "*",
        "é",
        "=",
    ];
    check!().with_iterations(ROUNDS).with_type::<Vec<u8>>().for_each(|input| {
        let text: String = match input.first() {
            Some(0..128) => input.iter().map(|b| PIECES[usize::from(*b) % PIECES.len()]).collect(),
            _ => String::from_utf8_lossy(input).into_owned(),
        };
        let parsed = parse(&text, &Context::utc(0));
        let length = text.chars().count();
        assert!(parsed.mistakes.iter().all(|m| m.column >= 1 && m.column <= length + 2 && !m.cure.is_empty()));
        if parsed.mistakes.is_empty() {
            let again = parse(&parsed.query.canonical(), &Context::utc(0));
            assert_eq!((again.query, again.mistakes.len()), (parsed.query, 0), "{text}");
        }
    });
}
