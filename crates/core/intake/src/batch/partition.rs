//! The end of a batch: transform rules, dials, routes, limits of the key, terms and quotas, asked of whole pages.

use super::{Batch, HeadKey, LATE_NS, Refused};
use crate::arrivals::{Tally, tally_of};
use crate::dial::Dial;
use crate::normalise::check_age;
use crate::route::RouteTable;
use crate::transform::{Fate, Transforms};
use calvex_language::error::Result;
use calvex_language::model::Refusal;
use calvex_language::model::time::day_of;
use calvex_language::model::{Event, PathTable};
use calvex_storage::columns::{
    BuiltinColumn, Page, PageBuilder, PageRead, Rows, SourceRow, Values, materialise, permute,
};
use std::collections::BTreeMap;

/// What daily quotas still take of some events.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Admitted {
    /// What the sender's takes.
    pub by_key: u64,
    /// What the lane's takes too; these count as used.
    pub events: u64,
}

/// What decoded events are judged by.
#[derive(Clone, Copy)]
pub struct Policy<'p> {
    /// The transform rules.
    pub transforms: &'p Transforms,
    /// The dials in force.
    pub dials: &'p [Dial],
    /// The routes.
    pub routes: &'p RouteTable<u32>,
    /// The services the key may send for; any if none is named.
    pub services: &'p [String],
    /// The lanes the key may send to; any if none is named.
    pub lanes: &'p [u32],
    /// A lane's name, and the days it keeps.
    pub term: &'p dyn Fn(u32) -> (&'p str, u32),
    /// How many of so many events of so many bytes the quotas of sender and lane still take.
    pub admit: &'p dyn Fn(u32, u64, u64) -> Admitted,
}

impl<'p> Policy<'p> {
    /// With routes and transforms alone.
    pub fn of_routes(
        routes: &'p RouteTable<u32>,
        transforms: &'p Transforms,
        term: &'p dyn Fn(u32) -> (&'p str, u32),
    ) -> Self {
        Policy {
            transforms,
            dials: &[],
            routes,
            services: &[],
            lanes: &[],
            term,
            admit: &|_, events, _| Admitted { by_key: events, events },
        }
    }
}

/// Why events were not stored on purpose.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Cause {
    /// The transform rule of this place.
    Rule(usize),
    /// The dial of this number.
    Dial(u32),
    /// The sender's daily quota.
    KeyQuota,
    /// The daily quota of this lane.
    LaneQuota(u32),
}

/// Events not stored on purpose.
#[derive(Debug, Clone, PartialEq)]
pub struct Aside {
    /// Why.
    pub cause: Cause,
    /// Where they would have gone.
    pub lane: u32,
    /// How many of each service and host.
    pub tallies: Vec<Tally>,
}

/// Notes rows as set aside, by the lane they would have gone to.
fn set_aside(batch: &mut Batch, cause: Cause, page: &Page, rows: &Rows, lanes: &[u32]) -> Result<()> {
    let mut by_lane: BTreeMap<u32, Rows> = BTreeMap::new();
    for row in rows.iter() {
        let lane = lanes.get(row).copied().unwrap_or_default();
        by_lane.entry(lane).or_insert_with(|| Rows::none(page.rows())).set(row);
    }
    for (lane, rows) in by_lane {
        batch.aside.push(Aside { cause, lane, tallies: tally_of(page, &rows)? });
    }
    Ok(())
}

/// A page of one day on its way to its lanes.
pub(super) struct Sheet {
    pub page: Page,
    pub day: i32,
    pub late: bool,
    /// The line of each row.
    pub lines: Vec<usize>,
    /// The lane a rule gave each row; nothing where no rule did.
    pub lanes: Vec<Option<u32>>,
}

/// Events of one day that the rules keep: their places among those touched, and the lanes that rules gave them.
#[derive(Default)]
struct Kept {
    places: Vec<usize>,
    lanes: Vec<Option<u32>>,
}

/// The sheets that the rules make of one: rows that no rule touches stay together.
pub(super) fn transformed(sheet: Sheet, policy: &Policy, arrived_ns: i64, batch: &mut Batch) -> Result<Vec<Sheet>> {
    if policy.transforms.is_empty() {
        return Ok(vec![sheet]);
    }
    let touched = policy.transforms.touched(&sheet.page)?;
    if touched.is_empty() {
        return Ok(vec![sheet]);
    }
    let line = |row: usize| sheet.lines.get(row).copied().unwrap_or(0);
    let rows: Vec<usize> = touched.iter().collect();
    let mut events = materialise(&sheet.page, &rows)?;
    let mut by_head: BTreeMap<(i32, bool), Kept> = BTreeMap::new();
    let mut asides: BTreeMap<usize, Rows> = BTreeMap::new();
    for (n, (event, row)) in events.iter_mut().zip(&rows).enumerate() {
        match policy.transforms.apply(event, &mut batch.held) {
            Fate::SetAside(rule) => asides.entry(rule).or_insert_with(|| Rows::none(sheet.page.rows())).set(*row),
            Fate::Kept(lane) => {
                let late = arrived_ns.saturating_sub(event.time_ns) > LATE_NS;
                let kept = by_head.entry((day_of(event.time_ns), late)).or_default();
                kept.places.push(n);
                kept.lanes.push(lane);
            }
        }
    }
    if !asides.is_empty() {
        let lanes = policy.routes.lanes_of(&sheet.page)?;
        for (rule, rows) in asides {
            set_aside(batch, Cause::Rule(rule), &sheet.page, &rows, &lanes)?;
        }
    }
    let mut sheets = Vec::new();
    for ((day, late), Kept { places, lanes }) in by_head {
        let lines = places.iter().filter_map(|n| rows.get(*n)).map(|row| line(*row)).collect();
        let page = page_of(places.iter().filter_map(|n| events.get(*n)))?;
        sheets.push(Sheet { page, day, late, lines, lanes });
    }
    let mut others = touched;
    others.invert();
    if !others.is_empty() {
        let order: Vec<SourceRow> = others.iter().map(|row| SourceRow { source: 0, row: row as u32 }).collect();
        let page = permute(&[&sheet.page], &order)?.with_ordinals();
        sheets.push(Sheet { page, lines: others.iter().map(line).collect(), ..sheet });
    }
    Ok(sheets)
}

fn page_of<'e>(events: impl Iterator<Item = &'e Event>) -> Result<Page> {
    let mut paths = PathTable::default();
    let mut builder = PageBuilder::default();
    for event in events {
        let draft = event.draft(&mut paths);
        builder.push(&draft, &paths);
    }
    builder.finish(&paths)
}

/// Parts a page of one day by lane. What a dial or quota does not let through is set aside; what the key may not send,
/// or what lies before its lane's term, is refused.
pub(super) fn partition(sheet: Sheet, policy: &Policy, arrived_ns: i64, batch: &mut Batch) -> Result<()> {
    let Sheet { page, day, late, lines, lanes: given } = sheet;
    let mut left = Rows::all(page.rows());
    let mut routed = policy.routes.lanes_of(&page)?;
    routed.iter_mut().zip(&given).for_each(|(lane, given)| *lane = given.unwrap_or(*lane));
    for (dial, rows) in crate::dial::set_aside(policy.dials, &page, arrived_ns)? {
        set_aside(batch, Cause::Dial(dial), &page, &rows, &routed)?;
        without(&mut left, rows);
    }
    let mut refuse = |row: usize, refusal: Refusal| {
        batch.refused.push(Refused { line: lines.get(row).copied().unwrap_or(0), refusal, sample: None });
    };
    if !policy.services.is_empty() {
        let services = services_of(&page);
        let named = |row: usize| services.get(row).copied().unwrap_or("");
        let wrong: Vec<usize> = left.iter().filter(|row| !policy.services.iter().any(|s| s == named(*row))).collect();
        for row in wrong {
            refuse(row, Refusal::ServiceNotAllowed(named(row).to_owned()));
            left.clear(row);
        }
    }
    let time = page.builtin(BuiltinColumn::Time)?;
    let Some(Values::Ints(times)) = time.as_deref().map(|c| &c.values) else { return Ok(()) };
    let mut by_lane: BTreeMap<u32, Vec<(i64, u32)>> = BTreeMap::new();
    for row in left.iter() {
        let (Some(time_ns), Some(lane)) = (times.get(row), routed.get(row).copied()) else { continue };
        let (name, days) = (policy.term)(lane);
        if !policy.lanes.is_empty() && !policy.lanes.contains(&lane) {
            refuse(row, Refusal::LaneNotAllowed(name.to_owned()));
            continue;
        }
        match check_age(*time_ns, arrived_ns, name, days) {
            Ok(()) => by_lane.entry(lane).or_default().push((*time_ns, row as u32)),
            Err(refusal) => refuse(row, refusal),
        }
    }
    let each_bytes = (page.weight_bytes() / page.rows().max(1)) as u64;
    for (lane, mut rows) in by_lane {
        let asked = rows.len() as u64;
        let admitted = (policy.admit)(lane, asked, asked * each_bytes);
        for (most, cause) in [(admitted.by_key, Cause::KeyQuota), (admitted.events, Cause::LaneQuota(lane))] {
            if (rows.len() as u64) > most {
                let beyond: Vec<u32> = rows.split_off(most as usize).into_iter().map(|(_, row)| row).collect();
                let beyond = Rows::of(&beyond, page.rows());
                batch.aside.push(Aside { cause, lane, tallies: tally_of(&page, &beyond)? });
            }
        }
        if rows.is_empty() {
            continue;
        }
        let key = HeadKey { lane, day, late };
        batch.stored += rows.len();
        if rows.len() == page.rows() && rows.is_sorted() {
            batch.pages.push((key, page.clone()));
            continue;
        }
        rows.sort_unstable();
        let order: Vec<SourceRow> = rows.into_iter().map(|(_, row)| SourceRow { source: 0, row }).collect();
        batch.pages.push((key, permute(&[&page], &order)?.with_ordinals()));
    }
    Ok(())
}

fn without(rows: &mut Rows, mut taken: Rows) {
    taken.invert();
    rows.and(&taken);
}

/// The service of each row.
fn services_of(page: &Page) -> Vec<&str> {
    let mut services = vec![""; page.rows()];
    let column = page
        .keyed_columns()
        .find(|(key, _)| **key == calvex_storage::columns::ColumnKey::Builtin(BuiltinColumn::Service));
    if let Some((_, column)) = column
        && let Values::Texts { dictionary, codes } = &column.values
    {
        for (place, code) in codes.iter().enumerate() {
            if let Some(slot) = services.get_mut(column.row(place)) {
                *slot = dictionary.get(*code as usize);
            }
        }
    }
    services
}
