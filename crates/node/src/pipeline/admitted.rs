//! How far back what was committed lately reaches, for jobs that look only at what is new.

use calvex_storage::columns::{BuiltinColumn, Page, PageRead, Values};
use parking_lot::Mutex;

/// The earliest of what was admitted.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Reach {
    /// The earliest time of an event.
    pub time_ns: i64,
    /// The earliest arrival.
    pub arrived_ns: i64,
}

impl Reach {
    /// Of a page. One that does not say when it arrived is all new.
    pub fn of(page: &Page) -> Reach {
        let (time_ns, _) = page.time_span();
        let arrived = page.builtin(BuiltinColumn::Arrived).ok().flatten();
        let earliest = arrived.and_then(|column| match &column.values {
            Values::Ints(times) => times.iter().copied().min(),
            _ => None,
        });
        Reach { time_ns, arrived_ns: earliest.unwrap_or(i64::MIN) }
    }

    fn joined(self, other: Reach) -> Reach {
        Reach { time_ns: self.time_ns.min(other.time_ns), arrived_ns: self.arrived_ns.min(other.arrived_ns) }
    }
}

/// What was admitted since a job looked last.
#[derive(Debug, Default)]
pub struct Since(Mutex<Option<Reach>>);

impl Since {
    /// Takes note of what was admitted, or of what a job could not look at after all.
    pub fn note(&self, reach: Reach) {
        let mut known = self.0.lock();
        *known = Some(known.map_or(reach, |known| known.joined(reach)));
    }

    /// What was admitted since this was asked last; none where nothing was.
    pub fn take(&self) -> Option<Reach> {
        self.0.lock().take()
    }
}

/// What each of these jobs has still to look at.
#[derive(Debug, Default)]
pub struct Admitted {
    /// The judging of rules.
    pub rules: Since,
    /// The looking for error groups.
    pub errors: Since,
}

impl Admitted {
    /// Takes note of a page that is in its head: before it is, a job would look and not find it.
    pub fn note(&self, reach: Reach) {
        self.rules.note(reach);
        self.errors.note(reach);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use calvex_language::model::Event;
    use calvex_storage::columns::build_page;

    #[test]
    fn the_earliest_is_kept_until_it_is_taken() {
        let admitted = Admitted::default();
        assert_eq!(admitted.rules.take(), None);
        let event = |time_ns, arrived_ns| Event { time_ns, arrived_ns, ..Event::default() };
        for events in [vec![event(50, 90), event(40, 91)], vec![event(60, 80)]] {
            admitted.note(Reach::of(&build_page(&events).unwrap()));
        }
        let reach = Reach { time_ns: 40, arrived_ns: 80 };
        assert_eq!(admitted.rules.take(), Some(reach));
        assert_eq!(admitted.rules.take(), None);
        // Each job has its own; what it could not look at it looks at later.
        assert_eq!(admitted.errors.take(), Some(reach));
        admitted.errors.note(reach);
        assert_eq!(admitted.errors.take(), Some(reach));
    }
}
