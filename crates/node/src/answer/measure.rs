//! Step 11, figures: `measure` and breakdown, as answers of the interface.

use crate::answer::run::{Listener, run_figures};
use crate::answer::search::{plan, range_answer, timed, zone_of};
use crate::auth::Reader;
use crate::error::{Result, ServiceError};
use crate::state::Reading;
use calvex_answer::measure::{Cell, GroupValue, MeasureAsk, Steps, Table, measure as work_out};
use calvex_answer::search::breakdown as count_values;
use calvex_language::model::shape;
use calvex_language::model::template::shown;
use calvex_language::model::time::format_utc;
use calvex_language::query::{Builtin, Context, Field, Filter, Measure, parse};
use calvex_wire::api::{
    AggregateColumn, BreakdownAnswer, BreakdownRequest, FieldAnswer, GroupAnswer, MeasureAnswer, RangeAnswer,
    SearchRequest, ValueCount,
};
use serde_json::Value;
use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Instant;

/// Fields of one breakdown at most.
const MAX_FIELDS: usize = 50;
/// Values of one field given at most.
const MAX_TOP: usize = 1000;

/// Answers a `measure`.
///
/// # Errors
/// Mistakes in the request.
pub async fn measure(
    reading: &Arc<Reading>,
    reader: &Reader,
    ask: SearchRequest,
    listener: Option<Listener>,
) -> Result<MeasureAnswer> {
    let began = Instant::now();
    let plan = plan(reading, &ask)?;
    let Some(measure) = plan.query.measure.clone() else {
        return Err(ServiceError::BadRequest(
            "the query has no `measure`; add one, as in measure count per service, or ask POST /api/search".into(),
        ));
    };
    let steps = match &measure.every {
        None => Steps::None,
        Some(every) => {
            Steps::over(&plan.range, every.step_ns, &zone_of(ask.zone.as_deref())?).map_err(ServiceError::BadRequest)?
        }
    };
    let (filter, range) = (plan.query.filter.clone(), plan.range);
    let asked = measure.clone();
    let scope = reader.scope().asking("measure", &ask.query, &range);
    let (table, reads) = run_figures(reading, scope, listener, move |scope| {
        work_out(scope, &MeasureAsk { filter: &filter, range, measure: &asked, steps })
    })
    .await?;
    let Table { steps, groups, group_count, limited, errors, explain, .. } = table;
    let mut shapes = BTreeMap::new();
    let group = |g: calvex_answer::measure::Group| GroupAnswer {
        values: g.values.iter().map(|v| value(v, &mut shapes)).collect(),
        total: g.total.iter().map(cell).collect(),
        steps: g.steps.iter().map(|s| s.iter().map(cell).collect()).collect(),
    };
    let groups = groups.into_iter().map(group).collect();
    let range_of = |(from, to): (i64, i64)| RangeAnswer { from: format_utc(from, 9), to: format_utc(to, 9) };
    Ok(MeasureAnswer {
        aggregates: columns(&measure, errors),
        per: measure.per.iter().map(field_name).collect(),
        steps: steps.into_iter().map(range_of).collect(),
        groups,
        group_count,
        limited,
        shapes,
        canonical: plan.query.canonical(),
        range: range_answer(&plan.range),
        warnings: plan.warnings,
        explain: timed(explain, began, reads),
    })
}

fn columns(measure: &Measure, errors: Vec<Option<f64>>) -> Vec<AggregateColumn> {
    let column = |(a, error): (&calvex_language::query::Aggregate, Option<f64>)| AggregateColumn {
        name: a.name(),
        error,
        unit: a.function.unit().map(str::to_owned),
    };
    measure.aggregates.iter().zip(errors).map(column).collect()
}

fn value(value: &GroupValue, shapes: &mut BTreeMap<String, String>) -> Value {
    if let GroupValue::Shape(shape) = value {
        shapes.insert(shape::id(shape), shown(shape));
    }
    value.to_json()
}

fn cell(cell: &Cell) -> Value {
    match cell {
        Cell::Missing => Value::Null,
        Cell::Count(n) => (*n).into(),
        Cell::Number(f) => (*f).into(),
        Cell::Value(v) => v.to_json(),
    }
}

/// A field's name in the language.
pub fn field_name(field: &Field) -> String {
    match field {
        Field::Builtin(part) => part.name().to_owned(),
        Field::Sent(name) if Builtin::from_name(name.as_str()).is_some() => format!(".{}", name.as_str()),
        Field::Sent(name) => name.as_str().to_owned(),
    }
}

/// The field that a name in the language means.
///
/// # Errors
/// Where it is no field.
pub fn field_of(name: &str) -> Result<Field> {
    // The language reads names already; asking it keeps one reading of dots and backquotes.
    let parsed = parse(&format!("has {name}"), &Context::utc(0));
    match parsed.query.filter {
        Filter::Has(field) if parsed.mistakes.is_empty() => Ok(field),
        _ => Err(ServiceError::BadRequest(format!(
            "`{name}` is no field; put backquotes around a path with odd characters"
        ))),
    }
}

/// Counts the values of fields.
///
/// # Errors
/// Mistakes in the request.
pub async fn breakdown(reading: &Arc<Reading>, reader: &Reader, ask: BreakdownRequest) -> Result<BreakdownAnswer> {
    let began = Instant::now();
    let search =
        SearchRequest { query: ask.query, from: ask.from, to: ask.to, zone: ask.zone, ..SearchRequest::default() };
    let plan = plan(reading, &search)?;
    if ask.fields.is_empty() || ask.fields.len() > MAX_FIELDS {
        return Err(ServiceError::BadRequest(format!("name 1 to {MAX_FIELDS} fields, as in [\"service\"]")));
    }
    let config = reading.base.config.get();
    let tied = |name: &String| {
        let mut field = field_of(name)?;
        field.tie_up(config.ties());
        Ok(field)
    };
    let fields = ask.fields.iter().map(tied).collect::<Result<Vec<Field>>>()?;
    let (filter, range, top) = (plan.query.filter.clone(), plan.range, ask.top.unwrap_or(10).clamp(1, MAX_TOP));
    let asking = reader.scope().asking("values", &search.query, &range);
    let (counted, reads) =
        run_figures(reading, asking, None, move |scope| count_values(scope, &filter, range, &fields, top)).await?;
    let count = |(value, count): (GroupValue, u64)| ValueCount {
        template: if let GroupValue::Shape(template) = &value { Some(shown(template)) } else { None },
        value: value.to_json(),
        count,
    };
    let reported = |f: calvex_answer::search::FieldCounts| FieldAnswer {
        field: field_name(&f.field),
        having: f.having,
        distinct: f.distinct,
        uncounted: f.uncounted,
        spread: f.spread,
        top: f.top.into_iter().map(count).collect(),
    };
    Ok(BreakdownAnswer {
        events: counted.events,
        fields: counted.fields.into_iter().map(reported).collect(),
        canonical: plan.query.canonical(),
        range: range_answer(&plan.range),
        explain: timed(counted.explain, began, reads),
    })
}
