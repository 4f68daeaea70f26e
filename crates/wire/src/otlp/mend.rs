//! JSON of OTLP as exporters really write it, brought to the mapping of the protocol: numbers of 64 bits that came as
//! numbers, enumerations that came by name or as text, and nulls.

use serde_json::Value;

/// Names whose values the mapping writes as text, because they have 64 bits.
const LONG: [&str; 6] =
    ["timeUnixNano", "observedTimeUnixNano", "startTimeUnixNano", "endTimeUnixNano", "intValue", "count"];
/// Names of enumerations, with the beginning that each name of a value has.
const NAMED: [(&str, &str, &[&str]); 2] = [
    ("kind", "SPAN_KIND_", &["UNSPECIFIED", "INTERNAL", "SERVER", "CLIENT", "PRODUCER", "CONSUMER"]),
    ("code", "STATUS_CODE_", &["UNSET", "OK", "ERROR"]),
];
/// The steps of severity, four numbers each.
const SEVERITIES: [&str; 6] = ["TRACE", "DEBUG", "INFO", "WARN", "ERROR", "FATAL"];

/// The same request, as the mapping wants it.
pub(super) fn mended(json: Value) -> Value {
    match json {
        Value::Object(entries) => {
            let mended = |(name, value): (String, Value)| {
                // A null stands for what is not there.
                (!value.is_null()).then(|| {
                    let value = entry(&name, value);
                    (name, value)
                })
            };
            Value::Object(entries.into_iter().filter_map(mended).collect())
        }
        Value::Array(list) => Value::Array(list.into_iter().map(mended).collect()),
        other => other,
    }
}

fn entry(name: &str, value: Value) -> Value {
    match value {
        Value::Number(n) if LONG.contains(&name) => Value::String(whole(&n)),
        Value::String(text) if name == "severityNumber" => number_or(&text, || severity(&text)),
        Value::String(text) => match NAMED.iter().find(|(named, _, _)| *named == name) {
            Some((_, prefix, values)) => {
                number_or(&text, || values.iter().position(|v| text.strip_prefix(prefix) == Some(v)))
            }
            None => Value::String(text),
        },
        other => mended(other),
    }
}

/// A number as the mapping writes it; one with a fraction or an exponent as the whole number it nearly is.
fn whole(n: &serde_json::Number) -> String {
    match n.as_f64() {
        Some(f) if !n.is_i64() && !n.is_u64() => format!("{f:.0}"),
        _ => n.to_string(),
    }
}

fn number_or(text: &str, named: impl Fn() -> Option<usize>) -> Value {
    match text.parse::<i64>().ok().or_else(|| named().and_then(|n| i64::try_from(n).ok())) {
        Some(n) => n.into(),
        None => Value::String(text.to_owned()),
    }
}

/// `SEVERITY_NUMBER_WARN` is 13, `SEVERITY_NUMBER_WARN2` is 14.
fn severity(text: &str) -> Option<usize> {
    let name = text.strip_prefix("SEVERITY_NUMBER_")?;
    if name == "UNSPECIFIED" {
        return Some(0);
    }
    let step = SEVERITIES.iter().position(|s| name.starts_with(s))?;
    let within = match name.get(SEVERITIES.get(step)?.len()..)? {
        "" => 1,
        digit => digit.parse::<usize>().ok().filter(|n| (2..=4).contains(n))?,
    };
    Some(step * 4 + within)
}
