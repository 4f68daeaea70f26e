//! The counts of both sets: units by value of each field and block of time, events by shape, and the numbers of fields.
//! One scan of a page serves a set; where both sets are large, every so many pages stand for all.

use super::Side;
use crate::measure::{Coded, Distinct, GroupValue, MISSING, Quantiles, ValueRef, code};
use crate::scan::{Explanation, PageAt, Progress, Scope, open_all, read_or_leave_out};
use calvex_language::error::Result;
use calvex_language::query::{Builtin, Field, TimeRange};
use calvex_storage::columns::{BuiltinColumn, Column, ColumnKey, FieldType, PageRead, Rows, Values};
use hashbrown::{HashMap, HashSet};
use parking_lot::Mutex;
use std::sync::Arc;

/// Blocks of time that each set is cut into.
pub const BLOCKS: usize = 16;
/// Events of both sets that are all looked at; beyond, pages are sampled. Ten million are to be compared within two seconds.
const MAX_EVENTS: usize = 2_500_000;
/// Different values of a field at most; a field with more is left out.
const MAX_VALUES: usize = 10_000;
/// Fields at most, by the pages that have them.
const MAX_FIELDS: usize = 300;
/// Rough bytes of one value's counts.
const VALUE_BYTES: usize = 2 * BLOCKS * 4 + 96;

/// Counts by block.
type Blocks = [u32; BLOCKS];
/// Units that have a value, by set and block.
pub(super) type UnitCounts = [Blocks; 2];

/// What was counted.
#[derive(Default)]
pub(super) struct Counted {
    /// By set and block: all units, each counted again in every page that it stands in, as its values are.
    pub units: [[u64; BLOCKS]; 2],
    /// The units of each set, each once.
    pub distinct: [Distinct; 2],
    pub events: [u64; 2],
    /// By set: the rows of all its pages, and of those that were looked at.
    pub rows: [(usize, usize); 2],
    /// By field and value.
    pub values: HashMap<Field, HashMap<GroupValue, UnitCounts>>,
    /// Events by shape (its template), set and block.
    pub shapes: HashMap<String, UnitCounts>,
    /// By field: its numbers in both sets.
    pub numbers: HashMap<Field, [Quantiles; 2]>,
    /// Fields left out because of their many values.
    pub too_many: HashSet<Field>,
    /// Which share of the pages was looked at.
    pub sampled: Option<f64>,
}

impl Counted {
    /// By set: the share of its rows that was looked at.
    pub fn looked_at(&self) -> [f64; 2] {
        self.rows.map(|(all, done)| if done == 0 { 1.0 } else { done as f64 / all as f64 })
    }
}

/// Pages that are done when what was found so far is reported first.
const FIRST_LOOK: usize = 4;

/// Fields of the event itself that are compared. The lane follows the service, and ids are of one unit each.
const OWN: [Builtin; 6] =
    [Builtin::Service, Builtin::Host, Builtin::Severity, Builtin::Status, Builtin::Kind, Builtin::Sender];

/// Counts both sets. What was counted so far is handed to `so_far` each time twice as many pages are done.
pub(super) fn count(
    scope: &Scope,
    sides: [&Side; 2],
    explain: &mut Explanation,
    so_far: &(dyn Fn(&Counted) + Sync),
) -> Counted {
    let mut pages: Vec<OfSet> = Vec::new();
    let mut counted = Counted::default();
    for (n, side) in sides.iter().enumerate() {
        let opened = open_all(scope, side.filter, &side.range, explain);
        counted.rows[n].0 = opened.iter().map(|(_, at)| at.rows()).sum();
        pages.extend(opened.into_iter().map(|(lane, at)| (n, lane, at)));
    }
    let every = counted.rows.map(|(all, _)| all).iter().sum::<usize>().div_ceil(MAX_EVENTS).max(1);
    let all_pages = pages.len();
    pages.sort_by_key(|(side, _, at)| (*side, at.time_span().0));
    if every > 1 {
        // Every so many of each set, in the order of time.
        pages = pages.into_iter().enumerate().filter(|(n, _)| n % every == 0).map(|(_, page)| page).collect();
    }
    let pages = scattered(pages);
    let whole = Mutex::new(counted);
    let met = sides.iter().all(|side| side.whole).then(Met::default);
    let done = std::sync::atomic::AtomicUsize::new(0);
    let parts = scope.map(pages.len(), explain, |n| {
        let (set, lane, at) = &pages[n];
        let side = sides[*set];
        let (counted, explain) = read_or_leave_out(scope, side.filter, &side.range, (lane, at), |page, rows| {
            if rows.is_empty() {
                Ok(None)
            } else {
                count_page(page, rows, lane, side.range, met.as_ref().map(|met| (met, *set, scope))).map(Some)
            }
        });
        let mut whole = whole.lock();
        whole.rows[*set].1 += at.rows();
        if let Some(counted) = counted {
            whole.join(*set, counted, scope);
        }
        if let Some(progress) = scope.progress {
            let done = done.fetch_add(1, std::sync::atomic::Ordering::Relaxed) + 1;
            progress(Progress::Pages { done, total: pages.len() });
            if done >= FIRST_LOOK && done.is_power_of_two() && done < pages.len() {
                so_far(&whole);
            }
        }
        explain
    });
    parts.into_iter().flatten().for_each(|part| explain.add(part));
    let mut whole = whole.into_inner();
    whole.sampled = (every > 1).then(|| pages.len() as f64 / all_pages.max(1) as f64);
    whole
}

/// Pages in an order in which any first part of them stands for all: those of both sets mixed, and their times spread
/// evenly (multiples of the golden ratio: Weyl, "Über die Gleichverteilung von Zahlen mod. Eins", 1916).
fn scattered(pages: Vec<OfSet>) -> Vec<OfSet> {
    let mut met = [0usize; 2];
    let mut placed: Vec<(f64, OfSet)> = pages
        .into_iter()
        .map(|page| {
            met[page.0] += 1;
            ((met[page.0] as f64 * 0.618_033_988_749_894_9).fract(), page)
        })
        .collect();
    placed.sort_by(|(a, _), (b, _)| a.total_cmp(b));
    placed.into_iter().map(|(_, page)| page).collect()
}

/// A page of a set, with its lane.
type OfSet = (usize, Arc<str>, PageAt);

/// What one page has of one set.
struct PageCounts {
    units: [u64; BLOCKS],
    distinct: Vec<u64>,
    events: u64,
    values: Vec<(Field, Vec<(GroupValue, Blocks)>)>,
    shapes: Vec<(String, Blocks)>,
    numbers: Vec<(Field, Quantiles)>,
    too_many: Vec<Field>,
}

impl Counted {
    fn join(&mut self, set: usize, page: PageCounts, scope: &Scope) {
        self.events[set] += page.events;
        self.units[set].iter_mut().zip(page.units).for_each(|(sum, n)| *sum += n);
        page.distinct.into_iter().for_each(|unit| self.distinct[set].add(unit));
        for field in page.too_many {
            self.values.remove(&field);
            self.too_many.insert(field);
        }
        for (field, values) in page.values {
            let room = self.values.len() < MAX_FIELDS || self.values.contains_key(&field);
            if self.too_many.contains(&field) || !room {
                continue;
            }
            let known = self.values.entry(field.clone()).or_default();
            for (value, blocks) in values {
                let counts = known.entry(value).or_insert_with(|| {
                    scope.budget.charge(VALUE_BYTES);
                    [[0; BLOCKS]; 2]
                });
                counts[set].iter_mut().zip(blocks).for_each(|(sum, n)| *sum += n);
            }
            if known.len() > MAX_VALUES {
                scope.budget.release(known.len() * VALUE_BYTES);
                self.values.remove(&field);
                self.too_many.insert(field);
            }
        }
        for (template, blocks) in page.shapes {
            let room = self.shapes.len() < MAX_VALUES || self.shapes.contains_key(&template);
            if room {
                let counts = self.shapes.entry(template).or_insert([[0; BLOCKS]; 2]);
                counts[set].iter_mut().zip(blocks).for_each(|(sum, n)| *sum += n);
            }
        }
        for (field, numbers) in page.numbers {
            if self.numbers.len() < MAX_FIELDS || self.numbers.contains_key(&field) {
                self.numbers.entry(field).or_default()[set].join(&numbers);
            }
        }
    }
}

/// What was counted of units before, in any page: hashes of a set, a unit and what it has.
#[derive(Default)]
struct Met(Mutex<HashSet<u64>>);

/// Bytes of one of them.
const MET_BYTES: usize = 16;

/// Where units may stand in many pages: what was met of them, which set is counted, and what is charged for it.
type Across<'a> = Option<(&'a Met, usize, &'a Scope<'a>)>;

/// Whether a unit, by the hash of its trace, is met with this for the first time.
fn is_news(across: Across, unit: u64, has: u64) -> bool {
    let Some((met, set, scope)) = across else { return true };
    let key: Vec<u8> = [set as u64, unit, has].iter().flat_map(|n| n.to_le_bytes()).collect();
    let fresh = met.0.lock().insert(xxhash_rust::xxh3::xxh3_64(&key));
    if fresh {
        scope.budget.charge(MET_BYTES);
    }
    fresh
}

fn count_page(page: &dyn PageRead, rows: &Rows, lane: &str, range: TimeRange, across: Across) -> Result<PageCounts> {
    let whole = Rows::all(page.rows());
    let block_of = blocks(page, range)?;
    let Units { of: unit_of, hashes: distinct } = units(page, rows, lane)?;
    let units = distinct.len();
    let traces = across.map(|_| code(&Field::Builtin(Builtin::Trace), page, &whole, lane)).transpose()?;
    let hash_of = |row: usize| {
        let coded = traces.as_ref()?;
        Some(coded.value(coded.first[row]).hash64())
    };
    let news = |row: usize, has: u64| hash_of(row).is_none_or(|unit| is_news(across, unit, has));
    let by_unit = rows_by_unit(rows, &unit_of, units);
    let mut all = [0u64; BLOCKS];
    let mut met = vec![false; units];
    for row in rows.iter() {
        let unit = unit_of[row] as usize;
        if !std::mem::replace(&mut met[unit], true) && news(row, 0) {
            all[block_of[row]] += 1;
        }
    }
    let mut out = PageCounts {
        units: all,
        distinct,
        events: rows.count() as u64,
        values: Vec::new(),
        shapes: Vec::new(),
        numbers: Vec::new(),
        too_many: Vec::new(),
    };
    for field in fields(page) {
        let coded = code(&field, page, &whole, lane)?;
        // A field with a value of its own for every other unit shows nothing that the unit does not.
        if coded.len() > MAX_VALUES || coded.len() > 64 && coded.len() * 2 > units {
            out.too_many.push(field);
            continue;
        }
        let name = xxhash_rust::xxh3::xxh3_64(format!("{field:?}").as_bytes());
        let hashes: Vec<u64> = coded.hashes().into_iter().map(|hash| hash ^ name.rotate_left(1)).collect();
        let counts = units_by_code(&coded, &by_unit, &unit_of, &block_of, |row, code| news(row, hashes[code as usize]));
        let values = coded.values().zip(counts).skip(1).filter(|(_, n)| n.iter().any(|n| *n > 0));
        out.values.push((field, values.map(|(value, n)| (value.to_value(), n)).collect()));
    }
    let shapes = code(&Field::Builtin(Builtin::Shape), page, &whole, lane)?;
    let mut events = vec![[0u32; BLOCKS]; shapes.len()];
    rows.iter().for_each(|row| events[shapes.first[row] as usize][block_of[row]] += 1);
    for (value, events) in shapes.values().zip(events).skip(1) {
        if let ValueRef::Shape(template) = value
            && events.iter().any(|n| *n > 0)
        {
            out.shapes.push((template.to_owned(), events));
        }
    }
    for (field, column) in number_columns(page)? {
        let mut numbers = Quantiles::default();
        each_number(&column, rows, |n| numbers.add(n));
        out.numbers.push((field, numbers));
    }
    Ok(out)
}

/// By row: its block of time.
fn blocks(page: &dyn PageRead, range: TimeRange) -> Result<Vec<usize>> {
    let length = (i128::from(range.to_ns) - i128::from(range.from_ns)).max(1);
    let block = |time: &i64| {
        let along = i128::from(*time) - i128::from(range.from_ns);
        usize::try_from(along * BLOCKS as i128 / length).unwrap_or(0).min(BLOCKS - 1)
    };
    Ok(match page.builtin(BuiltinColumn::Time)?.as_deref() {
        Some(Column { values: Values::Ints(times), .. }) => times.iter().map(block).collect(),
        _ => vec![0; page.rows()],
    })
}

/// The units of a page.
struct Units {
    /// By row: its unit's number within the page.
    of: Vec<u32>,
    /// By unit: a hash that is the same in every page.
    hashes: Vec<u64>,
}

fn units(page: &dyn PageRead, rows: &Rows, lane: &str) -> Result<Units> {
    let traces = code(&Field::Builtin(Builtin::Trace), page, rows, lane)?;
    let hosts = code(&Field::Builtin(Builtin::Host), page, rows, lane)?;
    let times = page.builtin(BuiltinColumn::Time)?;
    let second = |row: usize| match times.as_deref() {
        Some(Column { values: Values::Ints(times), .. }) => {
            times.get(row).map_or(0, |time| time.div_euclid(1_000_000_000))
        }
        _ => 0,
    };
    let mut unit_of = vec![0u32; page.rows()];
    let mut known: HashMap<(u32, i64), u32> = HashMap::new();
    let mut of_trace = vec![u32::MAX; traces.len()];
    let mut hashes: Vec<u64> = Vec::new();
    let hash_of = |coded: &Coded, code: u32| coded.value(code).hash64();
    for row in rows.iter() {
        let trace = traces.first[row];
        let unit = if trace == MISSING {
            let (host, second) = (hosts.first[row], second(row));
            known.entry((host, second)).or_insert_with(|| {
                let key = [hash_of(&hosts, host).to_le_bytes(), second.to_le_bytes()].concat();
                hashes.push(xxhash_rust::xxh3::xxh3_64(&key));
                hashes.len() as u32 - 1
            })
        } else {
            let unit = &mut of_trace[trace as usize];
            if *unit == u32::MAX {
                *unit = hashes.len() as u32;
                hashes.push(hash_of(&traces, trace));
            }
            unit
        };
        unit_of[row] = *unit;
    }
    Ok(Units { of: unit_of, hashes })
}

/// The fields of a page that are compared, each once.
fn fields(page: &dyn PageRead) -> HashSet<Field> {
    let sent = page.keys().iter().filter_map(|key| match key {
        ColumnKey::Field(path, _) => Some(Field::Sent(path.dotted().to_string().into())),
        ColumnKey::Builtin(_) => None,
    });
    OWN.into_iter().map(Field::Builtin).chain(sent).collect()
}

/// Rows by their unit, those of a unit in their order: so a unit has met a code when the code's last unit is this one.
fn rows_by_unit(rows: &Rows, unit_of: &[u32], units: usize) -> Vec<u32> {
    let mut from = vec![0u32; units + 1];
    rows.iter().for_each(|row| from[unit_of[row] as usize + 1] += 1);
    for unit in 0..units {
        from[unit + 1] += from[unit];
    }
    let mut out = vec![0u32; rows.count()];
    for row in rows.iter() {
        let at = &mut from[unit_of[row] as usize];
        out[*at as usize] = row as u32;
        *at += 1;
    }
    out
}

/// By code and block: the units that have it.
fn units_by_code(
    coded: &Coded,
    by_unit: &[u32],
    unit_of: &[u32],
    block_of: &[usize],
    is_news: impl Fn(usize, u32) -> bool,
) -> Vec<[u32; BLOCKS]> {
    let mut counts = vec![[0u32; BLOCKS]; coded.len()];
    let mut last_unit = vec![u32::MAX; coded.len()];
    let mut meet = |row: usize, code: u32| {
        if code == MISSING || std::mem::replace(&mut last_unit[code as usize], unit_of[row]) == unit_of[row] {
            return;
        }
        counts[code as usize][block_of[row]] += u32::from(is_news(row, code));
    };
    if coded.more.is_empty() {
        by_unit.iter().for_each(|row| meet(*row as usize, coded.first[*row as usize]));
    } else {
        for row in by_unit.iter().map(|row| *row as usize) {
            meet(row, coded.first[row]);
            coded.more_of(row).iter().for_each(|(_, code)| meet(row, *code));
        }
    }
    counts
}

/// Calls `f` with each number of a column that stands in one of the rows.
fn each_number(column: &Column, rows: &Rows, mut f: impl FnMut(f64)) {
    let stands = |value_index: usize| rows.has(column.row(value_index));
    match &column.values {
        Values::Ints(v) => v.iter().enumerate().filter(|(n, _)| stands(*n)).for_each(|(_, n)| f(*n as f64)),
        Values::Floats(v) => v.iter().enumerate().filter(|(n, _)| stands(*n)).for_each(|(_, n)| f(*n)),
        _ => {}
    }
}

/// The columns of numbers, by their fields.
fn number_columns(page: &dyn PageRead) -> Result<Vec<(Field, Arc<Column>)>> {
    let mut out = Vec::new();
    if let Some(took) = page.builtin(BuiltinColumn::Took)? {
        out.push((Field::Builtin(Builtin::Took), took));
    }
    for (index, key) in page.keys().iter().enumerate() {
        if let ColumnKey::Field(path, FieldType::Int | FieldType::Float) = key
            && let Some(column) = page.column(index)?
        {
            out.push((Field::Sent(path.dotted().to_string().into()), column));
        }
    }
    Ok(out)
}
