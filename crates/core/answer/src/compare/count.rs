//! The counts of both sets: units by value of each field and block of time, events by shape, and the numbers of fields.
//! One scan of a page serves a set; where both sets are large, every so many pages stand for all.

use super::Side;
use crate::measure::{Coded, GroupValue, MISSING, Quantiles, code};
use crate::scan::{Explanation, PageAt, Progress, Scope, open_all, read_or_leave_out};
use calvex_language::error::Result;
use calvex_language::query::{Builtin, Field, TimeRange};
use calvex_storage::columns::{BuiltinColumn, Column, ColumnKey, FieldType, PageRead, Rows, Values};
use hashbrown::{HashMap, HashSet};
use parking_lot::Mutex;
use std::sync::Arc;

/// Blocks of time that each set is cut into.
pub const BLOCKS: usize = 16;
/// Events of both sets that are all looked at; beyond, pages are sampled.
const MAX_EVENTS: usize = 5_000_000;
/// Different values of a field at most; a field with more is left out.
const MAX_VALUES: usize = 10_000;
/// Fields at most, by the pages that have them.
const MAX_FIELDS: usize = 300;
/// Rough bytes of one value's counts.
const VALUE_BYTES: usize = 2 * BLOCKS * 4 + 96;

/// Counts by block.
type Blocks = [u32; BLOCKS];
/// Units that have a value, by set and block.
pub(super) type Units = [Blocks; 2];

/// What was counted.
#[derive(Default)]
pub(super) struct Counted {
    /// By set and block: all units.
    pub units: [[u64; BLOCKS]; 2],
    pub events: [u64; 2],
    /// By field and value.
    pub values: HashMap<Field, HashMap<GroupValue, Units>>,
    /// Events by shape (its template), set and block.
    pub shapes: HashMap<String, Units>,
    /// By field: its numbers in both sets.
    pub numbers: HashMap<Field, [Quantiles; 2]>,
    /// Fields left out because of their many values.
    pub too_many: HashSet<Field>,
    /// Which share of the pages was looked at.
    pub sampled: Option<f64>,
}

/// Fields of the event itself that are compared. The lane follows the service, and ids are of one unit each.
const OWN: [Builtin; 6] =
    [Builtin::Service, Builtin::Host, Builtin::Severity, Builtin::Status, Builtin::Kind, Builtin::Sender];

pub(super) fn count(scope: &Scope, sides: [&Side; 2], explain: &mut Explanation) -> Counted {
    let mut pages: Vec<(usize, Arc<str>, PageAt)> = Vec::new();
    for (n, side) in sides.iter().enumerate() {
        let opened = open_all(scope, side.filter, &side.range, explain);
        pages.extend(opened.into_iter().map(|(lane, at)| (n, lane, at)));
    }
    let rows: usize = pages.iter().map(|(_, _, at)| at.rows()).sum();
    let every = rows.div_ceil(MAX_EVENTS).max(1);
    let all_pages = pages.len();
    if every > 1 {
        // Every so many of each set, in the order of time.
        pages.sort_by_key(|(side, _, at)| (*side, at.time_span().0));
        pages = pages.into_iter().enumerate().filter(|(n, _)| n % every == 0).map(|(_, page)| page).collect();
    }
    let whole = Mutex::new(Counted::default());
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
        if let Some(counted) = counted {
            whole.lock().join(*set, counted, scope);
        }
        if let Some(progress) = scope.progress {
            let done = done.fetch_add(1, std::sync::atomic::Ordering::Relaxed) + 1;
            progress(Progress::Pages { done, total: pages.len() });
        }
        explain
    });
    parts.into_iter().flatten().for_each(|part| explain.add(part));
    let mut whole = whole.into_inner();
    whole.sampled = (every > 1).then(|| pages.len() as f64 / all_pages.max(1) as f64);
    whole
}

/// What one page has of one set.
struct PageCounts {
    units: [u64; BLOCKS],
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
    let block_of = blocks(page, range)?;
    let (unit_of, units) = units(page, rows, lane)?;
    let traces = across.map(|_| code(&Field::Builtin(Builtin::Trace), page, lane)).transpose()?;
    let hash_of = |row: usize| {
        let coded = traces.as_ref()?;
        Some(coded.values.get(coded.first[row] as usize)?.hash64())
    };
    let news = |row: usize, has: u64| hash_of(row).is_none_or(|unit| is_news(across, unit, has));
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
        events: rows.count() as u64,
        values: Vec::new(),
        shapes: Vec::new(),
        numbers: Vec::new(),
        too_many: Vec::new(),
    };
    for field in fields(page) {
        let coded = code(&field, page, lane)?;
        // A field with a value of its own for every other unit shows nothing that the unit does not.
        if coded.values.len() > MAX_VALUES || coded.values.len() > 64 && coded.values.len() * 2 > units {
            out.too_many.push(field);
            continue;
        }
        let name = xxhash_rust::xxh3::xxh3_64(format!("{field:?}").as_bytes());
        let hashes: Vec<u64> = coded.values.iter().map(|value| value.hash64() ^ name.rotate_left(1)).collect();
        let counts =
            units_by_code(&coded, rows, &unit_of, units, &block_of, |row, code| news(row, hashes[code as usize]));
        let values = coded.values.into_iter().zip(counts).skip(1).filter(|(_, n)| n.iter().any(|n| *n > 0));
        out.values.push((field, values.collect()));
    }
    let shapes = code(&Field::Builtin(Builtin::Shape), page, lane)?;
    let mut events = vec![[0u32; BLOCKS]; shapes.values.len()];
    rows.iter().for_each(|row| events[shapes.first[row] as usize][block_of[row]] += 1);
    for (value, events) in shapes.values.into_iter().zip(events).skip(1) {
        if let GroupValue::Shape(template) = value
            && events.iter().any(|n| *n > 0)
        {
            out.shapes.push((template, events));
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

/// By row: its unit, and how many there are.
fn units(page: &dyn PageRead, rows: &Rows, lane: &str) -> Result<(Vec<u32>, usize)> {
    let traces = code(&Field::Builtin(Builtin::Trace), page, lane)?;
    let hosts = code(&Field::Builtin(Builtin::Host), page, lane)?;
    let times = page.builtin(BuiltinColumn::Time)?;
    let second = |row: usize| match times.as_deref() {
        Some(Column { values: Values::Ints(times), .. }) => {
            times.get(row).map_or(0, |time| time.div_euclid(1_000_000_000))
        }
        _ => 0,
    };
    let mut unit_of = vec![0u32; page.rows()];
    let mut known: HashMap<(u32, i64), u32> = HashMap::new();
    let mut of_trace = vec![u32::MAX; traces.values.len()];
    let mut next = 0u32;
    for row in rows.iter() {
        let trace = traces.first[row];
        let unit = if trace == MISSING {
            known.entry((hosts.first[row], second(row))).or_insert_with(|| {
                next += 1;
                next - 1
            })
        } else {
            let unit = &mut of_trace[trace as usize];
            if *unit == u32::MAX {
                *unit = next;
                next += 1;
            }
            unit
        };
        unit_of[row] = *unit;
    }
    Ok((unit_of, next as usize))
}

/// The fields of a page that are compared, each once.
fn fields(page: &dyn PageRead) -> HashSet<Field> {
    let sent = page.keys().iter().filter_map(|key| match key {
        ColumnKey::Field(path, _) => Some(Field::Sent(path.dotted().to_string().into())),
        ColumnKey::Builtin(_) => None,
    });
    OWN.into_iter().map(Field::Builtin).chain(sent).collect()
}

/// By code and block: the units that have it.
fn units_by_code(
    coded: &Coded,
    rows: &Rows,
    unit_of: &[u32],
    units: usize,
    block_of: &[usize],
    is_news: impl Fn(usize, u32) -> bool,
) -> Vec<[u32; BLOCKS]> {
    let mut counts = vec![[0u32; BLOCKS]; coded.values.len()];
    let more = coded.more.iter().filter(|(row, _)| rows.has(*row as usize)).map(|(row, code)| (*row as usize, *code));
    let each = rows.iter().map(|row| (row, coded.first[row])).chain(more).filter(|(_, code)| *code != MISSING);
    if coded.values.len() <= 64 {
        // Which codes a unit has, a bit each.
        let mut met = vec![0u64; units];
        for (row, code) in each {
            let (met, bit) = (&mut met[unit_of[row] as usize], 1u64 << code);
            if *met & bit == 0 {
                *met |= bit;
                counts[code as usize][block_of[row]] += u32::from(is_news(row, code));
            }
        }
        return counts;
    }
    let mut met: HashSet<u64> = HashSet::with_capacity(rows.count());
    for (row, code) in each {
        if met.insert(u64::from(unit_of[row]) << 32 | u64::from(code)) {
            counts[code as usize][block_of[row]] += u32::from(is_news(row, code));
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
