//! Who is notified of an alert, and when: at first, and while nobody takes it.
//!
//! A contact has hours, as `mon-fri 08:00-18:00, sat 22:00-06:00`, in a time zone. What is urgent goes on to the contact's
//! next one outside of its hours, and where nobody took the alert in time; what is a ticket waits for the hours.

use super::document::Urgency;
use calvex_language::domain::contact::Contact;
use jiff::civil::Weekday;
use jiff::tz::TimeZone;
use jiff::{Span, Timestamp};

/// Stretches of hours at most.
const MAX_STRETCHES: usize = 20;
const DAYS: [(&str, Weekday); 7] = [
    ("mon", Weekday::Monday),
    ("tue", Weekday::Tuesday),
    ("wed", Weekday::Wednesday),
    ("thu", Weekday::Thursday),
    ("fri", Weekday::Friday),
    ("sat", Weekday::Saturday),
    ("sun", Weekday::Sunday),
];

/// A contact's hours; none are all hours.
#[derive(Debug, Clone)]
pub struct Hours {
    /// The first and the last day, by their places from Monday; minutes of the day. One that ends before it begins goes on
    /// into the next day.
    stretches: Vec<(usize, usize, i16, i16)>,
    zone: TimeZone,
}

impl Hours {
    /// Reads hours as they are written.
    ///
    /// # Errors
    /// What is wrong, with the cure.
    pub fn read(text: &str, zone: &str) -> Result<Hours, String> {
        let known = TimeZone::get(zone);
        let zone = known.map_err(|_| format!("`{zone}` is no time zone; write one as Europe/Oslo or UTC"))?;
        let parts: Vec<&str> = text.split(',').map(str::trim).filter(|part| !part.is_empty()).collect();
        if parts.len() > MAX_STRETCHES {
            return Err(format!("{} stretches of hours are too many; write {MAX_STRETCHES} at most", parts.len()));
        }
        let stretches = parts.into_iter().map(|part| {
            stretch(part)
                .ok_or_else(|| format!("`{part}` are no hours; write them as mon-fri 08:00-18:00, sat 10:00-12:00"))
        });
        Ok(Hours { stretches: stretches.collect::<Result<_, _>>()?, zone })
    }

    /// The first moment from `at_ns` on that lies within the hours; `at_ns` where it does.
    pub fn opens_ns(&self, at_ns: i64) -> i64 {
        if self.stretches.is_empty() {
            return at_ns;
        }
        let Ok(now) = Timestamp::from_nanosecond(i128::from(at_ns)) else { return at_ns };
        let today = now.to_zoned(self.zone.clone()).date();
        let at = |days: i64, minutes: i16| {
            let date = today.checked_add(Span::new().days(days)).ok()?;
            let time = date.at((minutes / 60 % 24) as i8, (minutes % 60) as i8, 0, 0);
            i64::try_from(time.to_zoned(self.zone.clone()).ok()?.timestamp().as_nanosecond()).ok()
        };
        // From yesterday, whose night may go on, to the same day of next week.
        let begins = (-1..=7i64).flat_map(|days| self.stretches.iter().map(move |stretch| (days, stretch)));
        let open = begins.filter_map(|(days, (first, last, from, to))| {
            let weekday = today.checked_add(Span::new().days(days)).ok()?.weekday();
            let day = weekday.to_monday_zero_offset() as usize;
            let is_in = if first <= last { (*first..=*last).contains(&day) } else { day >= *first || day <= *last };
            let end_ns = at(days + i64::from(to <= from || *to == 24 * 60), *to)?;
            (is_in && end_ns > at_ns).then_some(at(days, *from)?.max(at_ns))
        });
        open.min().unwrap_or(at_ns)
    }
}

/// `mon-fri 08:00-18:00`.
fn stretch(text: &str) -> Option<(usize, usize, i16, i16)> {
    let (days, hours) = text.split_once(' ')?;
    let day = |name: &str| DAYS.iter().position(|(day, _)| day.eq_ignore_ascii_case(name.trim()));
    let (first, last) = days.split_once('-').unwrap_or((days, days));
    let minutes = |text: &str| -> Option<i16> {
        let (hour, minute) = text.trim().split_once(':')?;
        let (hour, minute): (i16, i16) = (hour.parse().ok()?, minute.parse().ok()?);
        let is_time = (0..24).contains(&hour) && (0..60).contains(&minute) || (hour, minute) == (24, 0);
        is_time.then_some(hour * 60 + minute)
    };
    let (from, to) = hours.split_once('-')?;
    let from = minutes(from).filter(|from| *from < 24 * 60)?;
    Some((day(first)?, day(last)?, from, minutes(to)?))
}

/// One contact to be notified.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Call<'a> {
    /// Who.
    pub contact: &'a Contact,
    /// When: now, or as its hours begin.
    pub due_ns: i64,
    /// In whose place.
    pub instead_of: Option<&'a str>,
}

/// Who is notified as an alert is raised: the contacts that its rule names, or those that come next.
pub fn first_calls<'a>(contacts: &'a [Contact], named: &[String], urgency: Urgency, now_ns: i64) -> Vec<Call<'a>> {
    let mut calls: Vec<Call> = Vec::new();
    for contact in contacts.iter().filter(|contact| named.contains(&contact.name)) {
        let call = resolved(contacts, contact, urgency, now_ns);
        match calls.iter_mut().find(|known| known.contact.name == call.contact.name) {
            Some(known) => known.due_ns = known.due_ns.min(call.due_ns),
            None => calls.push(call),
        }
    }
    calls
}

/// The first of a contact and those that come next which can be notified now; none can, it is notified as its hours begin.
fn resolved<'a>(contacts: &'a [Contact], contact: &'a Contact, urgency: Urgency, now_ns: i64) -> Call<'a> {
    let opens_ns = |contact: &Contact| {
        let hours = Hours::read(&contact.plan.hours, &contact.plan.zone);
        hours.map_or(now_ns, |hours| hours.opens_ns(now_ns))
    };
    let own = Call { contact, due_ns: opens_ns(contact), instead_of: None };
    if own.due_ns <= now_ns || urgency == Urgency::Ticket {
        return own;
    }
    let mut seen = vec![contact.name.as_str()];
    let mut at = contact;
    while let Some(next) = at.plan.next.as_ref().and_then(|next| contacts.iter().find(|c| c.name == *next)) {
        if seen.contains(&next.name.as_str()) {
            break;
        }
        if opens_ns(next) <= now_ns {
            return Call { contact: next, due_ns: now_ns, instead_of: Some(&contact.name) };
        }
        seen.push(&next.name);
        at = next;
    }
    own
}

/// What a contact heard of an alert.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Heard {
    /// Who.
    pub contact: String,
    /// When it was to be notified first, and last.
    pub first_ns: i64,
    /// See there.
    pub last_ns: i64,
    /// How often it was repeated.
    pub repeats: u32,
}

/// Somebody to be notified while nobody takes an alert.
#[derive(Debug, Clone, PartialEq)]
pub enum Later<'a> {
    /// One that comes next, as nobody took it in time.
    Next(Call<'a>),
    /// One that heard of it, again: the how-manieth repeat.
    Again(&'a Contact, u32),
}

/// Who is notified now of an alert that is raised and that nobody took.
pub fn later_calls<'a>(contacts: &'a [Contact], heard: &[Heard], urgency: Urgency, now_ns: i64) -> Vec<Later<'a>> {
    const SECOND_NS: i64 = 1_000_000_000;
    let mut later: Vec<Later> = Vec::new();
    for one in heard {
        let Some(contact) = contacts.iter().find(|contact| contact.name == one.contact) else { continue };
        let plan = &contact.plan;
        let next = plan.next.as_ref().and_then(|next| contacts.iter().find(|c| c.name == *next));
        if let Some(next) = next.filter(|_| urgency == Urgency::Page)
            && one.first_ns + i64::from(plan.next_after_s) * SECOND_NS <= now_ns
        {
            let call = Call { instead_of: Some(&contact.name), ..resolved(contacts, next, urgency, now_ns) };
            let is_called = |known: &Later| matches!(known, Later::Next(c) if c.contact.name == call.contact.name);
            if !heard.iter().any(|h| h.contact == call.contact.name) && !later.iter().any(is_called) {
                later.push(Later::Next(call));
            }
        }
        let repeat_ns = i64::from(plan.repeat_s) * SECOND_NS;
        let opens = Hours::read(&plan.hours, &plan.zone).map_or(now_ns, |hours| hours.opens_ns(now_ns));
        if repeat_ns > 0 && one.last_ns + repeat_ns <= now_ns && opens <= now_ns {
            later.push(Later::Again(contact, one.repeats + 1));
        }
    }
    later
}

#[cfg(test)]
mod tests {
    use super::*;
    use calvex_language::domain::contact::ContactPlan;

    const MINUTE: i64 = 60_000_000_000;

    fn at(text: &str) -> i64 {
        text.parse::<Timestamp>().unwrap().as_nanosecond() as i64
    }

    fn opens(hours: &str, zone: &str, now: &str) -> String {
        let ns = Hours::read(hours, zone).unwrap().opens_ns(at(now));
        Timestamp::from_nanosecond(i128::from(ns)).unwrap().to_string()
    }

    #[test]
    fn hours_begin_where_they_are() {
        // 2026-10-03 is a Saturday; Oslo is two hours ahead until 25 October.
        let table = [
            ("", "UTC", "2026-10-03T03:00:00Z", "2026-10-03T03:00:00Z"),
            ("mon-fri 08:00-18:00", "Europe/Oslo", "2026-10-02T15:59:59Z", "2026-10-02T15:59:59Z"),
            ("mon-fri 08:00-18:00", "Europe/Oslo", "2026-10-02T16:00:00Z", "2026-10-05T06:00:00Z"),
            ("mon-fri 08:00-18:00, sat 10:00-12:00", "Europe/Oslo", "2026-10-02T16:00:00Z", "2026-10-03T08:00:00Z"),
            // The clock is set back that night.
            ("mon-fri 08:00-18:00", "Europe/Oslo", "2026-10-24T12:00:00Z", "2026-10-26T07:00:00Z"),
            // A night that began yesterday goes on.
            ("fri 22:00-06:00", "UTC", "2026-10-03T05:59:00Z", "2026-10-03T05:59:00Z"),
            ("fri 22:00-06:00", "UTC", "2026-10-03T06:00:00Z", "2026-10-09T22:00:00Z"),
            ("sat-mon 00:00-24:00", "UTC", "2026-10-02T23:00:00Z", "2026-10-03T00:00:00Z"),
            ("sat-mon 00:00-24:00", "UTC", "2026-10-05T23:59:00Z", "2026-10-05T23:59:00Z"),
            ("mon 08:00-09:00", "UTC", "2026-10-05T09:00:00Z", "2026-10-12T08:00:00Z"),
        ];
        for (hours, zone, now, expected) in table {
            assert_eq!(opens(hours, zone, now), expected, "{hours} {zone} {now}");
        }
        for wrong in ["monday 8-18", "mon 08:00", "mon 25:00-26:00", "08:00-18:00", "mon 08:60-09:00"] {
            assert!(Hours::read(wrong, "UTC").unwrap_err().contains("mon-fri 08:00-18:00"), "{wrong}");
        }
        assert!(Hours::read("", "Nowhere/Near").is_err());
    }

    fn contact(name: &str, hours: &str, next: Option<&str>) -> Contact {
        let plan = ContactPlan {
            hours: hours.into(),
            next: next.map(str::to_owned),
            next_after_s: 600,
            repeat_s: 1200,
            ..ContactPlan::default()
        };
        Contact { name: name.into(), plan, ..Contact::default() }
    }

    fn named(calls: &[Call]) -> Vec<(String, String)> {
        let time = |ns: i64| Timestamp::from_nanosecond(i128::from(ns)).unwrap().strftime("%a %H:%M").to_string();
        calls.iter().map(|call| (call.contact.name.clone(), time(call.due_ns))).collect()
    }

    #[test]
    fn what_is_urgent_goes_to_who_can_be_notified() {
        let day = "mon-fri 08:00-18:00";
        let contacts = [
            contact("desk", day, Some("second")),
            contact("second", day, Some("night")),
            contact("night", "", Some("desk")),
        ];
        let desk = ["desk".to_owned()];
        let saturday = at("2026-10-03T03:00:00Z");
        let owned = |name: &str, time: &str| vec![(name.to_owned(), time.to_owned())];
        assert_eq!(named(&first_calls(&contacts, &desk, Urgency::Page, saturday)), owned("night", "Sat 03:00"));
        assert_eq!(named(&first_calls(&contacts, &desk, Urgency::Ticket, saturday)), owned("desk", "Mon 08:00"));
        // Both lead to the night: it is notified once.
        let both = ["desk".to_owned(), "second".to_owned()];
        assert_eq!(named(&first_calls(&contacts, &both, Urgency::Page, saturday)).len(), 1);
        // Nobody can be notified, in a circle: the one that is named waits.
        let circle = [contact("desk", day, Some("second")), contact("second", day, Some("desk"))];
        assert_eq!(named(&first_calls(&circle, &desk, Urgency::Page, saturday)), owned("desk", "Mon 08:00"));
    }

    #[test]
    fn what_nobody_takes_goes_on_and_is_repeated() {
        let contacts = [contact("desk", "", Some("lead")), contact("lead", "", Some("desk"))];
        let start = at("2026-10-03T03:00:00Z");
        let heard = |contact: &str, first: i64, last: i64, repeats: u32| Heard {
            contact: contact.into(),
            first_ns: start + first * MINUTE,
            last_ns: start + last * MINUTE,
            repeats,
        };
        let shown = |heard: &[Heard], urgency, minute: i64| -> Vec<String> {
            let later = later_calls(&contacts, heard, urgency, start + minute * MINUTE);
            let one = |later: &Later| match later {
                Later::Next(call) => format!("{} for {}", call.contact.name, call.instead_of.unwrap_or("?")),
                Later::Again(contact, round) => format!("{} again {round}", contact.name),
            };
            later.iter().map(one).collect()
        };
        let page = Urgency::Page;
        assert!(shown(&[heard("desk", 0, 0, 0)], page, 9).is_empty());
        assert_eq!(shown(&[heard("desk", 0, 0, 0)], page, 10), ["lead for desk"]);
        assert!(shown(&[heard("desk", 0, 0, 0)], Urgency::Ticket, 10).is_empty());
        let both = [heard("desk", 0, 0, 0), heard("lead", 10, 10, 0)];
        assert_eq!(shown(&both, page, 20), ["desk again 1"], "lead leads back to desk, who heard of it");
        assert_eq!(
            shown(&[heard("desk", 0, 20, 1), heard("lead", 10, 10, 0)], page, 40),
            ["desk again 2", "lead again 1"]
        );
        assert!(shown(&[heard("gone", 0, 0, 0)], page, 90).is_empty());
    }
}
