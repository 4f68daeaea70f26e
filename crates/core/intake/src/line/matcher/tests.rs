//! What a search costs: steps, not time.

use super::*;
use proptest::prelude::*;

/// Steps that a search took, and whether the line fits.
fn steps(pattern: &str, line: &str) -> (usize, bool) {
    let pattern = Pattern::parse(pattern).unwrap();
    let mut search = Search::new(&pattern, line, 0);
    let before = search.budget;
    let fits = search.run();
    (before - search.budget, fits)
}

#[test]
fn what_used_to_be_quadratic_is_linear() {
    for (pattern, unit) in [
        ("{text a} {text b}!", "x "),
        ("{text a}x{text b}x{text c}!", "x"),
        ("{word a}:{word b}:{word c}!", ":"),
        ("{text a}\\{quoted b}!", "\\\""),
        ("{text a} {quoted b}!", " \"\\"),
        ("{text a} x{number b}!", " "),
        ("{text a}1{number b}!", "1"),
        ("{text a}e{severity b}!", "e"),
        ("{text a}a{address b}!", "a."),
        ("{text a}j{time b}!", "jjan"),
        ("{text a}2{time b}!", "22026-10-04 "),
        ("{either}{text a}a{or}b{end}b{text c}!", "ab"),
    ] {
        let count = |n: usize| steps(pattern, &unit.repeat(n)).0.max(100);
        let (small, large) = (count(1000), count(8000));
        assert!(large <= small * 9, "{pattern}: {small} steps, then {large} for eight times the line");
    }
}

#[test]
fn a_line_that_takes_too_long_is_a_miss_that_says_so() {
    let pattern = format!("{}!", "{text}a".repeat(100));
    let (taken, fits) = steps(&pattern, &"a".repeat(20_000));
    assert!(!fits && taken <= 20_000 * STEPS_PER_BYTE);
    let miss = Pattern::parse(&pattern).unwrap().cut(&"a".repeat(20_000), 0).unwrap_err();
    assert!(miss.to_string().contains("fewer steps"), "{miss}");
}

proptest! {
    #[test]
    fn steps_are_bounded_by_the_line(
        holes in proptest::collection::vec(
            prop_oneof![
                Just("{text}"), Just("{word}"), Just(" "), Just("{quoted}"), Just("{number}"), Just("{either}a{or}{end}"),
                Just("{time}"), Just("{severity}"), Just("{address}"), Just("a"), Just(":"),
            ],
            1..12,
        ),
        line in "[a:\"\\\\ 1'.j]{0,400}",
    ) {
        prop_assume!(Pattern::parse(&holes.concat()).is_ok());
        let (taken, _) = steps(&holes.concat(), &line);
        // Each step at each position once, each hole widened at each once, and what undoes them.
        let positions = line.len() + 1;
        prop_assert!(taken <= MIN_STEPS.max(line.len() * STEPS_PER_BYTE));
        prop_assert!(taken <= 8 * (holes.len() + 1) * 4 * positions, "{taken} steps for {} bytes", line.len());
    }

    #[test]
    fn quoted_text_ends_where_a_plain_reading_ends_it(line in "[a\"'\\\\é]{0,40}") {
        let pattern = Pattern::parse("{quoted a}").unwrap();
        let mut search = Search::new(&pattern, &line, 0);
        for (at, _) in line.char_indices() {
            prop_assert_eq!(search.quoted(at), quoted_length(&line[at..]), "at {} of {:?}", at, &line);
        }
    }
}
