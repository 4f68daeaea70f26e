//! Arrivals: the account of what came, by service and host of a page. Counted from columns, so that it costs next to
//! nothing beside the storing.

use calvex_language::error::Result;
use calvex_storage::columns::{BuiltinColumn, Column, PageRead, Rows, Values};
use std::collections::BTreeMap;

/// What a page holds of one service and host.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Tally {
    /// The service; empty where none was sent.
    pub service: String,
    /// The host; empty where none was sent.
    pub host: String,
    /// Events.
    pub events: u64,
    /// Their bytes in memory, roughly; what quotas and prices go by.
    pub bytes: u64,
    /// The earliest and the latest time, nanoseconds.
    pub first_ns: i64,
    /// See `first_ns`.
    pub last_ns: i64,
    /// The least that arrival lies behind the event's own time, nanoseconds: how far the sender's clock is ahead where it
    /// is negative, and at most how far it is behind where it is not.
    pub least_delay_ns: i64,
}

/// The account of a page.
///
/// # Errors
/// Where a column cannot be read.
pub fn tally(page: &dyn PageRead) -> Result<Vec<Tally>> {
    tally_of(page, &Rows::all(page.rows()))
}

/// The account of some rows of a page.
///
/// # Errors
/// Where a column cannot be read.
pub fn tally_of(page: &dyn PageRead, rows: &Rows) -> Result<Vec<Tally>> {
    let [service, host, time, arrived, sent] = [
        page.builtin(BuiltinColumn::Service)?,
        page.builtin(BuiltinColumn::Host)?,
        page.builtin(BuiltinColumn::Time)?,
        page.builtin(BuiltinColumn::Arrived)?,
        page.builtin(BuiltinColumn::SentTime)?,
    ];
    let each = page.weight_bytes() / page.rows().max(1);
    let mut by_codes: BTreeMap<(Option<u32>, Option<u32>), Tally> = BTreeMap::new();
    for row in rows.iter() {
        let codes = (code(service.as_deref(), row), code(host.as_deref(), row));
        let ns = |column: &Option<std::sync::Arc<Column>>| column.as_deref().and_then(|c| c.int(row));
        let at = ns(&time).unwrap_or(0);
        // A clock far ahead orders by arrival; the sent time is kept beside.
        let delay = ns(&arrived).unwrap_or(at).saturating_sub(ns(&sent).unwrap_or(at));
        let tally = by_codes.entry(codes).or_insert_with(|| Tally {
            service: text(service.as_deref(), codes.0),
            host: text(host.as_deref(), codes.1),
            first_ns: at,
            last_ns: at,
            least_delay_ns: delay,
            ..Tally::default()
        });
        tally.events += 1;
        tally.bytes += each as u64;
        tally.first_ns = tally.first_ns.min(at);
        tally.last_ns = tally.last_ns.max(at);
        tally.least_delay_ns = tally.least_delay_ns.min(delay);
    }
    Ok(by_codes.into_values().collect())
}

fn code(column: Option<&Column>, row: usize) -> Option<u32> {
    let column = column?;
    match &column.values {
        Values::Texts { codes, .. } => codes.get(column.value_index(row)?).copied(),
        _ => None,
    }
}

fn text(column: Option<&Column>, code: Option<u32>) -> String {
    match (column.map(|c| &c.values), code) {
        (Some(Values::Texts { dictionary, .. }), Some(code)) => dictionary.get(code as usize).to_owned(),
        _ => String::new(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use calvex_language::model::Event;
    use calvex_storage::columns::build_page;

    #[test]
    fn by_service_and_host() {
        let event = |service: &str, host: &str, time_ns, sent_time_ns| Event {
            service: service.into(),
            host: host.into(),
            time_ns,
            arrived_ns: 100,
            sent_time_ns,
            ..Event::default()
        };
        let page = build_page(&[
            event("slots", "slots-1", 40, None),
            event("slots", "slots-1", 90, None),
            event("slots", "", 100, Some(700)),
            event("", "", 100, None),
        ])
        .unwrap();
        let reported: Vec<_> = tally(&page)
            .unwrap()
            .into_iter()
            .map(|t| (t.service, t.host, t.events, (t.first_ns, t.last_ns), t.least_delay_ns))
            .collect();
        let (slots, host) = (|| "slots".to_owned(), |h: &str| h.to_owned());
        assert_eq!(
            reported,
            [
                (host(""), host(""), 1, (100, 100), 0),
                (slots(), host(""), 1, (100, 100), -600),
                (slots(), host("slots-1"), 2, (40, 90), 10),
            ]
        );
    }
}
