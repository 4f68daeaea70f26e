//! How the services stand, by the events alone: the questions that Now asks of the engine, as trees, over one pinned
//! view. What follows from them depends on the lanes that may be read and on nothing else of the reader.

use super::usual::{middle, strays};
use calvex_answer::measure::{Cell, Group, GroupValue, MeasureAsk, Steps, Table, measure};
use calvex_answer::scan::{Explanation, Scope};
use calvex_answer::search::{Find, Order, find};
use calvex_language::model::time::{SECOND_NS, format_utc};
use calvex_language::model::{Event, Value};
use calvex_language::query::{Aggregate, Builtin, Every, Field, Filter, Function, Measure, TimeRange};
use calvex_wire::api::{MarkNow, ServiceFigures, ServiceNow, SilentService};
use jiff::tz::TimeZone;
use std::collections::BTreeMap;

/// What the figures of each service are taken over.
pub(super) const WINDOW_S: i64 = 15 * 60;
const HOUR_S: i64 = 3600;
const DAY_S: i64 = 86_400;
/// Steps of the trend over the last hour.
const TREND_S: i64 = 300;
/// Earlier days looked at.
const DAYS: i64 = 7;
/// Most marks that are listed, and of how many hours.
const MARKS: usize = 20;
const MARK_HOURS: i64 = 24;
/// A service that has not sent for so long is silent.
const SILENT_S: i64 = 15 * 60;

/// How the services stand.
#[derive(Debug, Clone, Default)]
pub struct Standing {
    /// RFC 3339.
    pub at: String,
    /// What the usual is taken from.
    pub usual_of: String,
    /// Those that stray most from their usual first.
    pub services: Vec<ServiceNow>,
    /// Services that sent in the last day and are silent now.
    pub silent: Vec<SilentService>,
    /// Moments worth seeing in the last day, the latest first.
    pub marks: Vec<MarkNow>,
    /// What could not be read.
    pub left_out: Vec<String>,
}

/// The questions of one standing.
struct Questions<'a, 's> {
    scope: &'a Scope<'s>,
    now_ns: i64,
    left_out: Vec<String>,
}

impl Standing {
    /// Works it out over one view. Whatever could not be read is in `left_out`.
    pub fn of(scope: &Scope, now_ns: i64) -> Self {
        let mut ask = Questions { scope, now_ns, left_out: Vec::new() };
        let window = by_service(&ask.figures(WINDOW_S, 0, None), WINDOW_S);
        // Twelve whole steps, the last of them still under way.
        let under_way_s = (now_ns / SECOND_NS).rem_euclid(TREND_S);
        let trend = ask.measure(&trend(), HOUR_S - TREND_S + under_way_s, 0, Some(TREND_S));
        let (usual, usual_of) = ask.usual();
        let services = services(&window, &trend, &usual);
        let (silent, marks) = (ask.silent(), ask.marks());
        Standing { at: format_utc(now_ns, 0), usual_of, services, silent, marks, left_out: ask.left_out }
    }
}

impl Questions<'_, '_> {
    fn range(&self, from_ago_s: i64, to_ago_s: i64) -> TimeRange {
        let ago = |seconds: i64| self.now_ns.saturating_sub(seconds * SECOND_NS);
        TimeRange { from_ns: ago(from_ago_s), to_ns: ago(to_ago_s) }
    }

    fn note(&mut self, explain: &Explanation) {
        self.left_out.extend(explain.left_out.iter().chain(&explain.stopped).cloned());
    }

    /// A measure of every event from so long ago to so long ago, in steps or as a whole.
    fn measure(&mut self, measured: &Measure, from_ago_s: i64, to_ago_s: i64, step_s: Option<i64>) -> Table {
        let range = self.range(from_ago_s, to_ago_s);
        let over = |step_s: i64| Steps::over(&range, step_s * SECOND_NS, &TimeZone::UTC).unwrap_or(Steps::None);
        let steps = step_s.map_or(Steps::None, over);
        let every = step_s.map(|step_s| Every { text: format!("{step_s}s"), step_ns: step_s * SECOND_NS });
        let measured = &Measure { every, ..measured.clone() };
        let table = measure(self.scope, &MeasureAsk { filter: &Filter::All, range, measure: measured, steps });
        self.note(&table.explain);
        table
    }

    fn figures(&mut self, from_ago_s: i64, to_ago_s: i64, step_s: Option<i64>) -> Table {
        self.measure(&figures_of_services(), from_ago_s, to_ago_s, step_s)
    }

    /// The usual figures of each service: those of this hour on earlier days, else those of the hours of the last day.
    fn usual(&mut self) -> (BTreeMap<String, Vec<ServiceFigures>>, String) {
        let mut usual: BTreeMap<String, Vec<ServiceFigures>> = BTreeMap::new();
        let mut days = 0;
        for day in 1..=DAYS {
            let that_hour = self.figures(day * DAY_S + HOUR_S / 2, day * DAY_S - HOUR_S / 2, None);
            let figures = by_service(&that_hour, HOUR_S);
            days += i64::from(!figures.is_empty());
            figures.into_iter().for_each(|(service, f)| usual.entry(service).or_default().push(f));
        }
        match days {
            0 => (by_hour(&self.figures(DAY_S, 0, Some(HOUR_S))), "the hours of the last day".to_owned()),
            1 => (usual, "this hour on 1 earlier day".to_owned()),
            n => (usual, format!("this hour on {n} earlier days")),
        }
    }

    fn silent(&mut self) -> Vec<SilentService> {
        let latest =
            Measure { aggregates: vec![aggregate(Function::Max(Field::Builtin(Builtin::Time)))], ..Measure::default() };
        let latest = Measure { per: per_service(), ..latest };
        let table = self.measure(&latest, DAY_S, 0, None);
        let since = self.range(SILENT_S, 0).from_ns;
        let mut silent: Vec<(i64, &str)> = table
            .groups
            .iter()
            .filter_map(|group| Some((number(&group.total, 0)? as i64, service_of(group)?)))
            .filter(|(last_ns, _)| *last_ns < since)
            .collect();
        silent.sort_by(|a, b| b.cmp(a));
        let row = |(last_ns, service): (i64, &str)| SilentService {
            service: service.to_owned(),
            last: format_utc(last_ns, 0),
        };
        silent.into_iter().map(row).collect()
    }

    /// The events that are marks: those with the field `mark`.
    fn marks(&mut self) -> Vec<MarkNow> {
        let filter = Filter::Has(Field::Sent("mark".into()));
        let range = self.range(MARK_HOURS * HOUR_S, 0);
        let ask = Find { filter: &filter, range, order: Order::Newest, after: None, limit: MARKS };
        let found = find(self.scope, &ask);
        self.note(&found.explain);
        found.events.iter().map(|(event, _)| mark_of(event)).collect()
    }
}

fn aggregate(function: Function) -> Aggregate {
    Aggregate { function, alias: None }
}

fn per_service() -> Vec<Field> {
    vec![Field::Builtin(Builtin::Service)]
}

fn errors() -> Filter {
    Filter::severity_at_least("error")
}

/// The figures of each service: events, errors, and the tail of its spans; of the field `took_ms` where it sends none.
fn figures_of_services() -> Measure {
    let tail = |field: Field| aggregate(Function::Percentile("95".to_owned(), field));
    Measure {
        aggregates: vec![
            aggregate(Function::Count(None)),
            aggregate(Function::Count(Some(errors()))),
            tail(Field::Builtin(Builtin::Took)),
            tail(Field::Sent("took_ms".into())),
        ],
        per: per_service(),
        ..Measure::default()
    }
}

fn trend() -> Measure {
    let aggregates = vec![aggregate(Function::Count(None)), aggregate(Function::Count(Some(errors())))];
    Measure { aggregates, per: per_service(), ..Measure::default() }
}

/// Each service beside its usual, those that stray most first.
fn services(
    window: &BTreeMap<String, ServiceFigures>,
    trend: &Table,
    usual: &BTreeMap<String, Vec<ServiceFigures>>,
) -> Vec<ServiceNow> {
    let row = |(service, now): (&String, &ServiceFigures)| {
        let usual = usual.get(service).and_then(|list| middle(list));
        let steps = trend.groups.iter().find(|g| service_of(g) == Some(service)).map(|g| g.steps.as_slice());
        let column =
            |n: usize| steps.unwrap_or_default().iter().map(|cells| number(cells, n).unwrap_or(0.0) as u64).collect();
        ServiceNow {
            service: service.clone(),
            now: *now,
            strays: usual.map(|u| strays(now, &u)).unwrap_or_default(),
            usual,
            trend: column(0),
            errors: column(1),
        }
    };
    let mut services: Vec<ServiceNow> = window.iter().map(row).collect();
    let by_share = |s: &ServiceNow| (s.now.error_share * 1e6) as u64;
    services.sort_by(|a, b| {
        let strays = b.strays.len().cmp(&a.strays.len());
        strays.then_with(|| by_share(b).cmp(&by_share(a))).then_with(|| a.service.cmp(&b.service))
    });
    services
}

fn service_of(group: &Group) -> Option<&str> {
    match group.values.first()? {
        GroupValue::Text(service) => Some(service),
        _ => None,
    }
}

fn number(cells: &[Cell], n: usize) -> Option<f64> {
    cells.get(n).and_then(Cell::number)
}

fn figures(cells: &[Cell], length_s: i64) -> Option<ServiceFigures> {
    let events = number(cells, 0).filter(|n| *n > 0.0)?;
    Some(ServiceFigures {
        rate: events / length_s as f64,
        error_share: number(cells, 1).unwrap_or(0.0) / events,
        p95_ms: number(cells, 2).map(|ns| ns / 1e6).or_else(|| number(cells, 3)),
    })
}

fn by_service(table: &Table, length_s: i64) -> BTreeMap<String, ServiceFigures> {
    let row = |g: &Group| Some((service_of(g)?.to_owned(), figures(&g.total, length_s)?));
    table.groups.iter().filter_map(row).collect()
}

/// Of each whole hour in which the service was there.
fn by_hour(table: &Table) -> BTreeMap<String, Vec<ServiceFigures>> {
    let row = |g: &Group| {
        let hours = g.steps.iter().filter_map(|cells| figures(cells, HOUR_S)).collect();
        Some((service_of(g)?.to_owned(), hours))
    };
    table.groups.iter().filter_map(row).collect()
}

fn mark_of(event: &Event) -> MarkNow {
    let named = event.fields.iter().find(|(path, _)| path.is("mark")).and_then(|(_, value)| match value {
        Value::Text(text) if !text.is_empty() => Some(text.clone()),
        _ => None,
    });
    MarkNow {
        at: format_utc(event.time_ns, 9),
        what: named.unwrap_or_else(|| event.message.clone()),
        id: event.id.to_string(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use calvex_language::query::{Context, parse};

    /// The questions are trees; these are the texts that a person would write for them.
    #[test]
    fn questions_are_what_a_person_would_write() {
        let texts = [
            (figures_of_services(), "measure count, count(severity>=error), p95(took), p95(took_ms) per service"),
            (trend(), "measure count, count(severity>=error) per service"),
        ];
        for (measure, text) in texts {
            assert_eq!(Some(&measure), parse(text, &Context::utc(0)).query.measure.as_ref(), "{text}");
            assert_eq!(measure.canonical(), text);
        }
        assert_eq!(Filter::Has(Field::Sent("mark".into())), parse("has mark", &Context::utc(0)).query.filter);
    }
}
