//! Dials: how much of what a service says is kept, and for how long.
//!
//! A dial names events by a filter and the least severity of theirs that is kept; it may end by itself. Where several
//! hold for an event, one with an end goes before those without, and the one set last before those set earlier: what was
//! turned for an hour wins for that hour. Events below are set aside.
//!
//! Senders ask which dials concern them and turn their own level. They send their service and host, perhaps a logger;
//! what the dials ask beyond that stays a filter in the answer ([`published`]).

use calvex_language::error::Result;
use calvex_language::model::Severity;
use calvex_language::query::{Builtin, Field, Filter, Test};
use calvex_storage::columns::{BuiltinColumn, PageRead, Rows, Values, select};
use serde::{Deserialize, Serialize};

/// One dial.
#[derive(Debug, Clone, PartialEq)]
pub struct Dial {
    /// Its number; a later one was set later.
    pub id: u32,
    /// For which events.
    pub filter: Filter,
    /// The least severity kept.
    pub least: Severity,
    /// When it ends, nanoseconds from 1970; never if none.
    pub until_ns: Option<i64>,
}

impl Dial {
    /// Whether it says anything now.
    pub fn in_force(&self, now_ns: i64) -> bool {
        self.until_ns.is_none_or(|until| now_ns < until)
    }

    /// What decides between dials: the greatest wins.
    fn rank(&self) -> (bool, u32) {
        (self.until_ns.is_some(), self.id)
    }
}

/// Those in force, the one that wins first.
fn ranked(dials: &[Dial], now_ns: i64) -> Vec<&Dial> {
    let mut ranked: Vec<&Dial> = dials.iter().filter(|d| d.in_force(now_ns)).collect();
    ranked.sort_by_key(|d| std::cmp::Reverse(d.rank()));
    ranked
}

/// The rows of a page that dials do not let through, by dial.
///
/// # Errors
/// Where the page cannot be read.
pub fn set_aside(dials: &[Dial], page: &dyn PageRead, now_ns: i64) -> Result<Vec<(u32, Rows)>> {
    let mut out = Vec::new();
    if dials.is_empty() {
        return Ok(out);
    }
    let severity = page.builtin(BuiltinColumn::Severity)?;
    let Some(Values::Ints(severities)) = severity.as_deref().map(|c| &c.values) else { return Ok(out) };
    let mut free = Rows::all(page.rows());
    for dial in ranked(dials, now_ns) {
        if free.is_empty() {
            break;
        }
        let mut judged = select(&dial.filter, page, "")?;
        judged.and(&free);
        let mut aside = Rows::none(page.rows());
        let below = |row: &usize| severities.get(*row).is_some_and(|s| *s < i64::from(dial.least.0));
        judged.iter().filter(below).for_each(|row| aside.set(row));
        if !aside.is_empty() {
            out.push((dial.id, aside));
        }
        judged.invert();
        free.and(&judged);
    }
    Ok(out)
}

/// What a sender says of itself when it asks.
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Asker {
    /// Its service.
    pub service: Option<String>,
    /// Its host.
    pub host: Option<String>,
    /// The key's name.
    #[serde(skip)]
    pub sender: String,
}

/// What a sender does by the dials.
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Level {
    /// The least severity to send, by name; none where no dial says: the sender's own.
    pub least: Option<String>,
    /// When that ends, RFC 3339; none where it does not.
    pub until: Option<String>,
    /// Dials for some of its events only, the one that wins first. Those that win over `least` stand here, and what they
    /// let through must be sent to be kept.
    pub within: Vec<Within>,
    /// The least severity that any of all these keeps: what to send where a sender cannot separate events.
    pub lowest: Option<String>,
}

/// See [`Level::within`].
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Within {
    /// For which of its events: a filter in the query language.
    pub when: String,
    /// The least severity kept of them.
    pub least: String,
    /// When that ends, RFC 3339.
    pub until: Option<String>,
}

/// What the dials say to one who asks.
pub fn published(dials: &[Dial], asker: &Asker, now_ns: i64) -> Level {
    let mut level = Level::default();
    let mut lowest: Option<Severity> = None;
    let until = |d: &Dial| d.until_ns.map(|ns| calvex_language::model::time::format_utc(ns, 0));
    for dial in ranked(dials, now_ns) {
        match reduced(&dial.filter, asker) {
            Filter::All => {
                level.least = Some(dial.least.name().to_owned());
                level.until = until(dial);
                lowest = Some(lowest.map_or(dial.least, |l| l.min(dial.least)));
                // Those behind it are never asked.
                break;
            }
            Filter::Or(none) if none.is_empty() => {}
            rest => {
                let least = dial.least.name().to_owned();
                level.within.push(Within { when: rest.to_string(), least, until: until(dial) });
                lowest = Some(lowest.map_or(dial.least, |l| l.min(dial.least)));
            }
        }
    }
    level.lowest = lowest.map(|l| l.name().to_owned());
    level
}

/// What is left of a filter once the asker's builtins are known: [`Filter::All`] where it holds for all its events, an
/// empty `or` where it holds for none.
fn reduced(filter: &Filter, asker: &Asker) -> Filter {
    let never = || Filter::Or(Vec::new());
    let is_never = |f: &Filter| matches!(f, Filter::Or(list) if list.is_empty());
    let known = |part: Builtin| match part {
        Builtin::Service => asker.service.as_deref(),
        Builtin::Host => asker.host.as_deref(),
        Builtin::Sender => Some(asker.sender.as_str()),
        _ => None,
    };
    let decided = |holds: bool| if holds { Filter::All } else { never() };
    match filter {
        Filter::Compare(Field::Builtin(part), test) if known(*part).is_some() => {
            let value = known(*part).unwrap_or("");
            decided(!value.is_empty() && passes(test, value))
        }
        Filter::Has(Field::Builtin(part)) if known(*part).is_some() => decided(!known(*part).unwrap_or("").is_empty()),
        Filter::And(list) => {
            let mut left: Vec<Filter> =
                list.iter().map(|f| reduced(f, asker)).filter(|f| !matches!(f, Filter::All)).collect();
            if left.iter().any(is_never) {
                return never();
            }
            match left.len() {
                0 => Filter::All,
                1 => left.remove(0),
                _ => Filter::And(left),
            }
        }
        Filter::Or(list) => {
            let mut left: Vec<Filter> = list.iter().map(|f| reduced(f, asker)).filter(|f| !is_never(f)).collect();
            if left.iter().any(|f| matches!(f, Filter::All)) {
                return Filter::All;
            }
            if left.len() == 1 { left.remove(0) } else { Filter::Or(left) }
        }
        Filter::Not(inner) => match reduced(inner, asker) {
            Filter::All => never(),
            f if is_never(&f) => Filter::All,
            f => Filter::Not(Box::new(f)),
        },
        other => other.clone(),
    }
}

fn passes(test: &Test, value: &str) -> bool {
    test.text(value) != test.is_ne()
}

#[cfg(test)]
mod tests {
    use super::*;
    use calvex_language::model::{Event, Path, Value};
    use calvex_language::query::parse_filter;
    use calvex_storage::columns::build_page;

    fn dial(id: u32, when: &str, least: u8, until_ns: Option<i64>) -> Dial {
        Dial { id, filter: parse_filter(when).unwrap(), least: Severity(least), until_ns }
    }

    fn dials() -> Vec<Dial> {
        vec![
            dial(1, "service=sorter", 17, None),
            dial(2, "service=sorter host=sorter-2", 5, Some(100)),
            dial(3, "service=slots logger^=\"slots.lease\"", 1, Some(100)),
            dial(4, "service=slots", 13, None),
            dial(5, "user=tore", 5, None),
        ]
    }

    #[test]
    fn the_one_with_an_end_wins_until_it_ends() {
        let event = |service: &str, host: &str, severity, logger: Option<&str>| Event {
            service: service.into(),
            host: host.into(),
            severity: Severity(severity),
            fields: logger.map(|l| (Path::root("logger"), Value::Text(l.into()))).into_iter().collect(),
            ..Event::default()
        };
        let page = build_page(&[
            event("sorter", "sorter-1", 13, None),
            event("sorter", "sorter-2", 5, None),
            event("sorter", "sorter-2", 1, None),
            event("slots", "", 5, Some("slots.lease.timer")),
            event("slots", "", 5, Some("slots.door")),
            event("edge", "", 1, None),
        ])
        .unwrap();
        let aside = |now| -> Vec<(u32, Vec<usize>)> {
            set_aside(&dials(), &page, now).unwrap().into_iter().map(|(d, rows)| (d, rows.iter().collect())).collect()
        };
        assert_eq!(aside(99), [(2, vec![2]), (4, vec![4]), (1, vec![0])]);
        assert_eq!(aside(100), [(4, vec![3, 4]), (1, vec![0, 1, 2])]);
    }

    #[test]
    fn senders_are_told_what_concerns_them() {
        let reported = |service: &str, host: &str, now| {
            let some = |t: &str| (!t.is_empty()).then(|| t.to_owned());
            let asker = Asker { service: some(service), host: some(host), sender: "k".into() };
            let level = published(&dials(), &asker, now);
            let within: Vec<String> = level.within.iter().map(|w| format!("{}:{}", w.when, w.least)).collect();
            format!(
                "{} until {}; {}; lowest {}",
                level.least.as_deref().unwrap_or("own"),
                level.until.as_deref().unwrap_or("-"),
                within.join(", "),
                level.lowest.as_deref().unwrap_or("own")
            )
        };
        assert_eq!(reported("sorter", "sorter-2", 0), "debug until 1970-01-01T00:00:00Z; ; lowest debug");
        assert_eq!(reported("sorter", "sorter-1", 0), "error until -; user=tore:debug; lowest debug");
        assert_eq!(
            reported("slots", "slots-1", 0),
            "warn until -; logger^=\"slots.lease\":trace, user=tore:debug; lowest trace"
        );
        assert_eq!(reported("slots", "slots-1", 100), "warn until -; user=tore:debug; lowest debug");
        assert_eq!(reported("edge", "", 0), "own until -; user=tore:debug; lowest debug");
    }
}
