//! How events are shown: times in which zone, which columns, whether long lines are cut or wrapped.

use crate::options::OUTPUT;
use crate::output;
use calvex_language::model::Value as Exact;
use calvex_language::model::parse_value;
use calvex_language::model::time::parse_time;
use clap::Args;
use serde_json::Value;

/// Widest a column is made for its name.
const COLUMN: usize = 28;
/// Most characters of a value in a column: an id in hex or in groups is shown whole.
const CELL: usize = 40;

/// Times in UTC or the system's zone.
#[derive(Args, Clone, Copy, Debug, Default)]
pub struct ZoneArgs {
    /// Times in UTC (the default), as they are read and shown
    #[arg(long, help_heading = OUTPUT)]
    utc: bool,
    /// Times in the system's zone, as they are read and shown
    #[arg(long, conflicts_with = "utc", help_heading = OUTPUT)]
    local: bool,
}

/// The zone times are shown in.
#[derive(Clone, Debug)]
pub struct Zone(jiff::tz::TimeZone);

impl ZoneArgs {
    /// As asked.
    pub fn zone(self) -> Zone {
        Zone(if self.local { jiff::tz::TimeZone::system() } else { jiff::tz::TimeZone::UTC })
    }
}

impl Zone {
    /// Its name, as the service takes it; none for UTC, and for a zone without one.
    pub fn name(&self) -> Option<String> {
        self.0.iana_name().filter(|name| *name != "UTC").map(str::to_owned)
    }

    fn civil(&self, text: &str, digits: usize) -> String {
        let Some(ns) = parse_time(text) else { return text.to_owned() };
        let Ok(at) = jiff::Timestamp::from_nanosecond(i128::from(ns)) else { return text.to_owned() };
        let at = at.to_zoned(self.0.clone());
        if digits == 0 {
            at.strftime("%Y-%m-%d %H:%M:%S").to_string()
        } else {
            at.strftime("%Y-%m-%d %H:%M:%S.%3f").to_string()
        }
    }

    /// RFC 3339 in UTC as a clock with thousandths.
    pub fn clock(&self, text: &str) -> String {
        self.civil(text, 3)
    }

    /// The same to the second.
    pub fn short(&self, text: &str) -> String {
        self.civil(text, 0)
    }
}

/// How events are shown.
#[derive(Args, Clone, Debug, Default)]
pub struct Shown {
    /// The zone of times.
    #[command(flatten)]
    pub zone: ZoneArgs,
    /// Fields shown as columns of their own, joined by commas
    #[arg(long, value_name = "FIELDS", value_delimiter = ',', add = crate::proposed::field(), help_heading = OUTPUT)]
    pub columns: Vec<String>,
    /// Long lines wrapped, not cut at the terminal's width
    #[arg(long, help_heading = OUTPUT)]
    pub wrap: bool,
}

impl Shown {
    /// One event as a line, or with `wrap` as several.
    pub fn line(&self, event: &impl serde::Serialize) -> String {
        // What the service answers is JSON already, so this cannot fail. It is read by a reader that keeps every number.
        let event = serde_json::to_string(event).ok().and_then(|json| parse_value(&json).ok()).unwrap_or_default();
        let text = |name: &str| member(&event, name).and_then(Exact::as_text).unwrap_or("");
        let time = self.zone.zone().clock(&output::plain(text("time")));
        let message = text("message").replace("\r\n", "⏎").replace(['\n', '\r'], "⏎");
        let message = output::plain(&message);
        let mut columns = String::new();
        for column in &self.columns {
            let whole = output::plain(&field_text(&event, column)).into_owned();
            let mut cell: String = whole.chars().take(CELL).collect();
            if cell.len() < whole.len() {
                cell.pop();
                cell.push('…');
            }
            columns.push_str(&format!("{cell:<width$} ", width = column.chars().count().clamp(12, COLUMN)));
        }
        let fields = if self.columns.is_empty() {
            member(&event, "fields").map(|f| brief(f, self.wrap)).unwrap_or_default()
        } else {
            String::new()
        };
        let line = format!(
            "{}  {} {:<12} {columns}{message}  {}",
            output::faint(&time),
            output::severity(text("severity")),
            output::plain(text("service")),
            output::faint(&output::plain(&fields))
        );
        output::fitted(line.trim_end(), self.wrap)
    }
}

/// A value as text; nothing for null.
pub fn value_text(value: &Value) -> String {
    match value {
        Value::Null => String::new(),
        Value::String(text) => text.clone(),
        other => other.to_string(),
    }
}

fn entries(value: &Exact) -> &[(String, Exact)] {
    match value {
        Exact::Object(entries) => entries,
        _ => &[],
    }
}

fn member<'v>(value: &'v Exact, name: &str) -> Option<&'v Exact> {
    entries(value).iter().find(|(n, _)| n == name).map(|(_, value)| value)
}

/// A value as text; nothing for null.
fn exact_text(value: &Exact) -> String {
    match value {
        Exact::Null => String::new(),
        Exact::Text(text) => text.clone(),
        other => serde_json::to_string(other).unwrap_or_default(),
    }
}

/// A builtin, or a field by its dotted path: names with dots are found like nested ones. Numbers are as they were sent.
pub fn field_text(event: &Exact, column: &str) -> String {
    fn find<'v>(value: &'v Exact, path: &str) -> Option<&'v Exact> {
        if let Some(found) = member(value, path) {
            return Some(found);
        }
        entries(value)
            .iter()
            .find_map(|(name, inner)| find(inner, path.strip_prefix(name.as_str())?.strip_prefix('.')?))
    }
    // A builtin is called in the language as here, but for its unit.
    let own = if column == "took" { "took_ns" } else { column };
    let own = column.strip_prefix('.').is_none().then(|| member(event, own)).flatten().filter(|_| column != "fields");
    let field = || find(member(event, "fields")?, column.trim_start_matches('.').trim_matches('`'));
    own.or_else(field).map(exact_text).unwrap_or_default()
}

/// The fields as `path=value`, as many as fit a line; all of them where `whole`.
fn brief(fields: &Exact, whole: bool) -> String {
    let mut out = String::new();
    let mut stack = vec![(String::new(), fields)];
    while let Some((path, value)) = stack.pop() {
        if let Exact::Object(entries) = value {
            let below =
                entries.iter().map(|(k, v)| (if path.is_empty() { k.clone() } else { format!("{path}.{k}") }, v));
            stack.extend(below.collect::<Vec<_>>().into_iter().rev());
            continue;
        }
        let text = value.as_text().map_or_else(|| serde_json::to_string(value).unwrap_or_default(), str::to_owned);
        let item = format!("{path}={text} ");
        if !whole && out.chars().count() + item.chars().count() > 90 {
            out.push('…');
            break;
        }
        out.push_str(&item);
    }
    out.trim_end().to_owned()
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn an_event_is_one_line() {
        let event = json!({"time": "2026-10-04T02:38:41.198204331Z", "severity": "warn", "service": "slots",
            "message": "lease\nran out", "fields": {"slot": {"bank": "BK-017", "door": 17}, "tags": [1, 2]}});
        let line = Shown::default().line(&event);
        assert!(line.contains("2026-10-04 02:38:41.198") && line.contains("lease⏎ran out"), "{line}");
        assert!(line.contains("slot.bank=BK-017 slot.door=17 tags=[1,2]"), "{line}");
        assert_eq!(line.lines().count(), 1);
        let columns = Shown { columns: vec!["slot.bank".into(), "host".into()], ..Shown::default() }.line(&event);
        assert!(columns.contains("slots        BK-017") && !columns.contains("door"), "{columns}");
    }

    #[test]
    fn an_event_cannot_drive_the_terminal() {
        let hostile = "\u{1b}[31mred\u{1b}]52;c;eA==\u{7}\u{9b}2J";
        let event = json!({"time": hostile, "severity": "warn", "service": hostile, "message": hostile,
            "fields": {"slot": {"bank": hostile}, hostile: 1}});
        for shown in [Shown::default(), Shown { columns: vec!["slot.bank".into()], ..Shown::default() }] {
            let line = shown.line(&event);
            assert!(!line.contains("\u{1b}[31m") && !line.contains("\u{1b}]") && !line.contains('\u{9b}'), "{line:?}");
        }
    }

    #[test]
    fn cells_by_own_part_and_path() {
        let event = json!({ "time": "t", "service": "slots", "took_ns": 5, "fields": { "slot": { "bank": "BK-1", "n": 4 }, "a.b": [1, "x"], "service": "sent" } });
        let event = parse_value(&event.to_string()).unwrap();
        let reported: Vec<String> =
            ["time", "service", ".service", "slot.bank", "slot.n", "a.b", "none", "slot", "took"]
                .map(|c| field_text(&event, c))
                .into();
        assert_eq!(reported, ["t", "slots", "sent", "BK-1", "4", "[1,\"x\"]", "", "{\"bank\":\"BK-1\",\"n\":4}", "5"]);
    }

    #[test]
    fn numbers_beyond_a_double_are_shown() {
        let event = parse_value(r#"{"time":"t","severity":"info","message":"far","fields":{"far":1e400}}"#).unwrap();
        let line = Shown::default().line(&event);
        assert!(line.contains("far=1e400"), "{line}");
    }
}
