//! Where the builtins stood in what was sent, so that it can be given back exactly.
//!
//! A layout is text: entries joined by U+001E; an entry is the builtin's letter, the form's letter with its data, U+001D
//! and the stored path. Few layouts occur, so the text costs almost nothing in a dictionary column. A sent value that
//! could not be rebuilt from the builtin (a time with an offset, an upper-case id) stays among the fields instead.
//!
//! | form | the sent value was |
//! | --- | --- |
//! | `=` | the builtin's text, or the lower-case hex of the id |
//! | `z` digit | RFC 3339 in UTC with that many fractional digits |
//! | `s` `m` `u` `n` | an integer of seconds, milli-, micro-, nanoseconds from 1970 |
//! | `v` text | this word (severity) |
//! | `#` number | this number (severity) |

use super::time::format_utc;
use super::{Event, Path, Value, to_hex};

/// Between two entries.
pub const ENTRY_END: char = '\u{1e}';
/// Between an entry's form and its path.
pub const PATH_START: char = '\u{1d}';

/// Units of an integer time: form letter, nanoseconds each, and the magnitudes read so (1973 to 2262).
pub const EPOCH_UNITS: [(char, i64, std::ops::Range<i64>); 4] = [
    ('s', 1_000_000_000, 100_000_000..9_200_000_000),
    ('m', 1_000_000, 100_000_000_000..9_200_000_000_000),
    ('u', 1_000, 100_000_000_000_000..9_200_000_000_000_000),
    ('n', 1, 100_000_000_000_000_000..i64::MAX),
];

/// Puts the parts back where the layout says they stood: path and value of each.
pub fn restore(event: &Event) -> Vec<(Path, Value)> {
    if event.layout.is_empty() {
        return Vec::new();
    }
    event.layout.split(ENTRY_END).filter_map(|entry| restore_one(event, entry)).collect()
}

fn restore_one(event: &Event, entry: &str) -> Option<(Path, Value)> {
    let (head, path) = entry.split_once(PATH_START)?;
    let mut head = head.chars();
    let (builtin, form) = (head.next()?, head.next()?);
    let data = head.as_str();
    let sent_time_ns = event.sent_time_ns.unwrap_or(event.time_ns);
    let value = match form {
        'z' => Value::Text(format_utc(sent_time_ns, data.parse().ok()?)),
        'v' => Value::Text(data.to_owned()),
        '#' => Value::Int(data.parse().ok()?),
        '=' => Value::Text(match builtin {
            's' => event.service.clone(),
            'h' => event.host.clone(),
            'm' => event.message.clone(),
            'r' => to_hex(&event.trace?),
            'p' => to_hex(&event.span?),
            'q' => to_hex(&event.parent?),
            _ => return None,
        }),
        unit => {
            let (_, each_ns, _) = EPOCH_UNITS.iter().find(|(form, _, _)| *form == unit)?;
            Value::Int(sent_time_ns / each_ns)
        }
    };
    Some((Path::from_stored(path), value))
}
