//! How things stand: each service against its own usual, what is raised or building, who fell silent or is refused, and
//! the marks of the last hours. Where a shift begins.

use crate::answer::measure::measure;
use crate::answer::search::search;
use crate::auth::Reader;
use crate::error::Result;
use crate::intake::ledger::Asked;
use crate::state::Shared;
use calvex_language::model::Value as Sent;
use calvex_language::model::time::{SECOND_NS, format_utc};
use calvex_wire::api::{
    Alert, GroupAnswer, MarkNow, MeasureAnswer, NowAnswer, Refused, Rule, SearchRequest, ServiceFigures, ServiceNow,
    SilentService,
};
use serde_json::Value;
use std::collections::BTreeMap;

/// What the figures of each service are taken over.
const WINDOW_S: i64 = 15 * 60;
const HOUR_S: i64 = 3600;
const DAY_S: i64 = 86_400;
/// Earlier days looked at.
const DAYS: i64 = 7;
/// Most marks that are listed, and of how many hours.
const MARKS: usize = 20;
const MARK_HOURS: i64 = 24;
/// A service that has not sent for so long is silent.
const SILENT_S: i64 = 15 * 60;
/// The figures of each service: events, errors, and the tail of its spans; of the field `took_ms` where it sends none.
const FIGURES: &str =
    "measure count as n, count(severity>=error) as bad, p95(took) as tail, p95(took_ms) as took per service";

/// How things stand, for this reader.
///
/// # Errors
/// Where the database fails.
pub async fn now(app: &Shared, reader: &Reader, alerts: Vec<Alert>, rules: &[Rule]) -> Result<NowAnswer> {
    let now_ns = (app.clock)();
    let ago = |seconds: i64| now_ns.saturating_sub(seconds * SECOND_NS);
    let mut left_out = Vec::new();
    let mut ask = async |query: String, from_ns: i64, to_ns: i64| -> Result<MeasureAnswer> {
        let request = SearchRequest {
            query,
            from: Some(format_utc(from_ns, 9)),
            to: Some(format_utc(to_ns, 9)),
            ..SearchRequest::default()
        };
        let answer = measure(app, reader, request, None).await?;
        left_out.extend(answer.explain.left_out.iter().chain(&answer.explain.stopped).cloned());
        Ok(answer)
    };

    let window = by_service(&ask(FIGURES.into(), ago(WINDOW_S), now_ns).await?, WINDOW_S);
    let trend = ask("measure count, count(severity>=error) per service every 5m".into(), ago(HOUR_S), now_ns).await?;
    let mut usual: BTreeMap<String, Vec<ServiceFigures>> = BTreeMap::new();
    let mut days = 0;
    for day in 1..=DAYS {
        let middle = day * DAY_S;
        let that_hour = ask(FIGURES.into(), ago(middle + HOUR_S / 2), ago(middle - HOUR_S / 2)).await?;
        let figures = by_service(&that_hour, HOUR_S);
        days += i64::from(!figures.is_empty());
        figures.into_iter().for_each(|(service, f)| usual.entry(service).or_default().push(f));
    }
    let day = ask(format!("{FIGURES} every 1h"), ago(DAY_S), now_ns).await?;
    let usual_of = match days {
        0 => {
            usual = by_hour(&day);
            "the hours of the last day".to_owned()
        }
        1 => "this hour on 1 earlier day".to_owned(),
        n => format!("this hour on {n} earlier days"),
    };

    let mut services: Vec<ServiceNow> = window
        .iter()
        .map(|(service, now)| {
            let usual = usual.get(service).and_then(|list| middle(list));
            let steps = trend.groups.iter().find(|g| name_of(g) == Some(service)).map(|g| g.steps.as_slice());
            let column = |n: usize| steps.unwrap_or_default().iter().map(|s| number(s, n) as u64).collect();
            ServiceNow {
                service: service.clone(),
                now: *now,
                strays: usual.map(|u| strays(now, &u)).unwrap_or_default(),
                usual,
                trend: column(0),
                errors: column(1),
            }
        })
        .collect();
    let share = |s: &ServiceNow| (s.now.error_share * 1e6) as u64;
    services.sort_by(|a, b| {
        b.strays
            .len()
            .cmp(&a.strays.len())
            .then_with(|| share(b).cmp(&share(a)))
            .then_with(|| a.service.cmp(&b.service))
    });

    let mut silent = Vec::new();
    let last = ask("measure max(time) per service".into(), ago(DAY_S), now_ns).await?;
    for group in &last.groups {
        if let Some(service) = name_of(group)
            && (number(&group.total, 0) as i64) < ago(SILENT_S)
        {
            let last = format_utc(number(&group.total, 0) as i64, 0);
            silent.push(SilentService { service: service.to_owned(), last });
        }
    }
    silent.sort_by(|a, b| b.last.cmp(&a.last));

    let arrivals = crate::intake::ledger::arrivals(app, reader, Asked { hours: 1, ..Asked::default() }).await?;
    Ok(NowAnswer {
        at: format_utc(now_ns, 0),
        window_s: WINDOW_S as u32,
        usual_of,
        services,
        alerts: alerts.into_iter().filter(|a| a.ended.is_none()).collect(),
        building: rules.iter().filter(|r| r.state == "building").map(|r| r.name.clone()).collect(),
        silent,
        refused: arrivals.refused.into_iter().map(|r| Refused { sample: None, ..r }).collect(),
        marks: marks(app, reader, ago(MARK_HOURS * HOUR_S), now_ns).await?,
        left_out,
    })
}

/// The events that are marks: those with the field `mark`.
async fn marks(app: &Shared, reader: &Reader, from_ns: i64, to_ns: i64) -> Result<Vec<MarkNow>> {
    let request = SearchRequest {
        query: "has mark".into(),
        from: Some(format_utc(from_ns, 9)),
        to: Some(format_utc(to_ns, 9)),
        limit: Some(MARKS),
        ..SearchRequest::default()
    };
    let found = search(app, reader, request, None).await?;
    Ok(found.events.iter().map(mark_of).collect())
}

fn mark_of(event: &Sent) -> MarkNow {
    let event = serde_json::to_value(event).unwrap_or_default();
    let text = |value: &Value| value.as_str().filter(|t| !t.is_empty()).map(str::to_owned);
    MarkNow {
        at: text(&event["time"]).unwrap_or_default(),
        what: text(&event["fields"]["mark"]).or_else(|| text(&event["message"])).unwrap_or_default(),
        id: text(&event["id"]).unwrap_or_default(),
    }
}

fn name_of(group: &GroupAnswer) -> Option<&str> {
    group.values.first().and_then(Value::as_str)
}

fn number(cells: &[Value], n: usize) -> f64 {
    cells.get(n).and_then(Value::as_f64).unwrap_or(0.0)
}

fn figures(cells: &[Value], length_s: i64) -> Option<ServiceFigures> {
    let events = number(cells, 0);
    let spans = cells.get(2).and_then(Value::as_f64);
    (events > 0.0).then(|| ServiceFigures {
        rate: events / length_s as f64,
        error_share: number(cells, 1) / events,
        p95_ms: spans.map(|ns| ns / 1e6).or_else(|| cells.get(3).and_then(Value::as_f64)),
    })
}

fn by_service(answer: &MeasureAnswer, length_s: i64) -> BTreeMap<String, ServiceFigures> {
    let reported = |g: &GroupAnswer| Some((name_of(g)?.to_owned(), figures(&g.total, length_s)?));
    answer.groups.iter().filter_map(reported).collect()
}

/// Of each whole hour in which the service was there.
fn by_hour(answer: &MeasureAnswer) -> BTreeMap<String, Vec<ServiceFigures>> {
    let reported = |g: &GroupAnswer| {
        let hours = g.steps.iter().filter_map(|cells| figures(cells, HOUR_S)).collect();
        Some((name_of(g)?.to_owned(), hours))
    };
    answer.groups.iter().filter_map(reported).collect()
}

/// The middle of each figure by itself.
fn middle(list: &[ServiceFigures]) -> Option<ServiceFigures> {
    let of = |figure: fn(&ServiceFigures) -> Option<f64>| {
        let mut all: Vec<f64> = list.iter().filter_map(figure).collect();
        all.sort_by(f64::total_cmp);
        all.get(all.len() / 2).copied()
    };
    Some(ServiceFigures {
        rate: of(|f| Some(f.rate))?,
        error_share: of(|f| Some(f.error_share))?,
        p95_ms: of(|f| f.p95_ms),
    })
}

/// What is far from the usual, in words. Small numbers stray by chance and are not reported.
fn strays(now: &ServiceFigures, usual: &ServiceFigures) -> Vec<String> {
    let mut reported = Vec::new();
    let times = |now: f64, usual: f64| format!("{:.1} times the usual", now / usual);
    if now.error_share >= 0.01 && now.error_share > 2.0 * usual.error_share {
        reported.push(if usual.error_share > 0.0 {
            format!("{} share of errors", times(now.error_share, usual.error_share))
        } else {
            "errors, where there are none usually".to_owned()
        });
    }
    if let (Some(now), Some(usual)) = (now.p95_ms, usual.p95_ms)
        && now > 1.5 * usual
        && now - usual > 5.0
    {
        reported.push(format!("{} p95", times(now, usual)));
    }
    let events = now.rate * WINDOW_S as f64;
    if now.rate > 2.0 * usual.rate && events > 100.0 {
        reported.push(format!("{} rate", times(now.rate, usual.rate)));
    } else if now.rate < 0.5 * usual.rate && usual.rate * WINDOW_S as f64 > 100.0 {
        reported.push(format!("only {:.0} % of the usual rate", now.rate / usual.rate * 100.0));
    }
    reported
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of(rate: f64, error_share: f64, p95_ms: Option<f64>) -> ServiceFigures {
        ServiceFigures { rate, error_share, p95_ms }
    }

    #[test]
    fn what_strays_is_told_in_words() {
        let usual = of(10.0, 0.01, Some(100.0));
        assert!(strays(&of(11.0, 0.012, Some(120.0)), &usual).is_empty());
        let reported = strays(&of(30.0, 0.05, Some(250.0)), &usual);
        assert_eq!(
            reported,
            ["5.0 times the usual share of errors", "2.5 times the usual p95", "3.0 times the usual rate"]
        );
        assert_eq!(strays(&of(1.0, 0.0, None), &usual), ["only 10 % of the usual rate"]);
        assert_eq!(strays(&of(10.0, 0.02, None), &of(10.0, 0.0, None)), ["errors, where there are none usually"]);
        // Two events instead of one are no news.
        assert!(strays(&of(0.002, 0.0, None), &of(0.001, 0.0, None)).is_empty());
    }

    #[test]
    fn the_middle_is_of_each_figure() {
        let list = [of(1.0, 0.5, None), of(9.0, 0.1, Some(7.0)), of(5.0, 0.2, None)];
        assert_eq!(middle(&list), Some(of(5.0, 0.2, Some(7.0))));
        assert_eq!(middle(&[]), None);
    }
}
