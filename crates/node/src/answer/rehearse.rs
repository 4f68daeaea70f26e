//! A rule played over the past. The values that it judges are kept for a while, so that another bound or hold repeats the
//! walk alone.

use super::run::run_following;
use super::search::{range_answer, timed};
use super::usual;
use crate::auth::{ReadScope, Reader};
use crate::error::{Result, ServiceError};
use crate::state::Reading;
use calvex_answer::compare::latest_marks;
use calvex_answer::scan::Explanation;
use calvex_answer::watch::{
    Known, Moments, Resolved, Rings, Rule, RuleDocument, Strips, Usual, rehearse as play, strips,
};
use calvex_language::domain::error_group::GroupState;
use calvex_language::model::time::{format_utc, parse_time};
use calvex_language::query::TimeRange;
use calvex_store::records::alerts::Raised;
use calvex_wire::api::{CheckedRule, RaisedInTruth, RehearsalAnswer, RehearseRequest, RehearsedMark};
use parking_lot::Mutex;
use std::sync::Arc;
use std::time::Instant;

/// Days of a rehearsal where none are asked for, and at most.
const DAYS: f64 = 7.0;
const MAX_DAYS: f64 = 90.0;
/// Moments of a rehearsal at most; a longer one begins later.
const MAX_MOMENTS: usize = 300_000;
/// Alerts of an answer at most.
const MAX_ALERTS: usize = 2_000;
/// Marks of an answer at most.
const MAX_MARKS: usize = 100;
/// Values that are kept of all rehearsals together.
const MAX_KEPT: usize = 4_000_000;

/// What was read for rehearsals lately, the latest last.
#[derive(Default)]
pub struct Rehearsals(Mutex<Vec<(String, Arc<Read>)>>);

struct Read {
    strips: Strips,
    marks: Vec<RehearsedMark>,
}

impl Rehearsals {
    fn get(&self, key: &str) -> Option<Arc<Read>> {
        self.0.lock().iter().find(|(known, _)| known == key).map(|(_, read)| read.clone())
    }

    fn keep(&self, key: String, read: Arc<Read>) {
        let mut kept = self.0.lock();
        kept.retain(|(known, _)| *known != key);
        kept.push((key, read));
        let values =
            |(_, read): &(String, Arc<Read>)| read.strips.strips.iter().map(|s| s.values.len() + 16).sum::<usize>();
        while kept.len() > 1 && kept.iter().map(values).sum::<usize>() > MAX_KEPT {
            kept.remove(0);
        }
        if kept.iter().map(values).sum::<usize>() > MAX_KEPT {
            kept.clear();
        }
    }
}

/// Reads and checks a document.
pub fn check(reading: &Reading, text: &str) -> CheckedRule {
    match RuleDocument::read(text, reading.base.config.get().ties()) {
        Ok(rule) => CheckedRule {
            sentence: Some(rule.document.sentence()),
            form: Some(rule.document.form_name().to_owned()),
            step_s: Some(rule.step_ns as f64 / 1e9),
            document: Some(rule.document),
            mistakes: Vec::new(),
        },
        Err(mistakes) => CheckedRule { mistakes, ..CheckedRule::default() },
    }
}

/// The rule that a document is.
///
/// # Errors
/// All that is wrong with it.
pub fn rule_of(reading: &Reading, text: &str) -> Result<Rule> {
    RuleDocument::read(text, reading.base.config.get().ties()).map_err(|mistakes| {
        let reported: Vec<String> = mistakes.iter().map(ToString::to_string).collect();
        ServiceError::BadRequest(reported.join("\n"))
    })
}

/// Plays a rule over the past, as the reader sees it.
///
/// # Errors
/// Mistakes in the document or the range.
pub async fn rehearse(reading: &Arc<Reading>, reader: &Reader, ask: RehearseRequest) -> Result<RehearsalAnswer> {
    let began = Instant::now();
    let rule = rule_of(reading, &ask.document)?;
    let days = ask.days.unwrap_or(DAYS);
    if !(0.01..=MAX_DAYS).contains(&days) {
        return Err(ServiceError::BadRequest(format!("`days` must be 0.01 to {MAX_DAYS}")));
    }
    let until_ns = match &ask.until {
        Some(text) => parse_time(text)
            .ok_or_else(|| ServiceError::BadRequest(format!("`until` is no time: {text}; write RFC 3339")))?,
        None => (reading.base.clock)() - rule.delay_ns,
    };
    let until_ns = until_ns.div_euclid(rule.step_ns) * rule.step_ns;
    let from_ns = until_ns - (days * 86_400e9) as i64;
    let mut moments = Moments::between(from_ns, until_ns, rule.step_ns);
    let mut shortened = None;
    if moments.count > MAX_MOMENTS {
        moments = Moments::between(until_ns - MAX_MOMENTS as i64 * rule.step_ns, until_ns, rule.step_ns);
        let days = MAX_MOMENTS as f64 * rule.step_ns as f64 / 86_400e9;
        shortened = Some(format!("the last {days:.1} days were rehearsed: {MAX_MOMENTS} judgements are the most"));
    }
    let range = TimeRange { from_ns: moments.first_ns, to_ns: until_ns };
    let key = key_of(&rule, &range, reader);
    let (read, explain, at_hand) = match reading.rehearsals.get(&key) {
        Some(read) => (read, Explanation::default(), true),
        None => {
            let mut known = known(reading).await?;
            known.usual = usual_of(reading, reader, &rule).await?;
            let asked = rule.clone();
            let (mut read, reads) = run_following(reading, reader.scope(), None, move |scope| {
                let strips = strips(scope, &asked, moments, &known, &mut Rings::default());
                let mark = |(at_ns, what)| RehearsedMark { at: format_utc(at_ns, 3), what };
                let marks = latest_marks(scope, range, MAX_MARKS).into_iter().map(mark).collect();
                Read { strips, marks }
            })
            .await?;
            let explain = timed(std::mem::take(&mut read.strips.explain), began, reads);
            let read = Arc::new(read);
            if read.strips.incomplete.is_none() {
                reading.rehearsals.keep(key, read.clone());
            }
            (read, explain, false)
        }
    };
    let in_truth = raised_in_truth(reading, reader, &rule, range.from_ns).await?;
    let shown = play(&read.strips, &moments, &rule);
    let mut alerts = shown.alerts;
    let alert_count = alerts.len();
    alerts.truncate(MAX_ALERTS);
    Ok(RehearsalAnswer {
        sentence: rule.document.sentence(),
        summary: shown.summary,
        range: range_answer(&range),
        step_s: rule.step_ns as f64 / 1e9,
        bound: rule.bound,
        unit: rule.unit().to_owned(),
        alerts,
        alert_count,
        messages: shown.messages,
        groups: read.strips.strips.len(),
        bins: shown.bins,
        in_truth,
        marks: read.marks.clone(),
        learning: read.strips.learning,
        incomplete: read.strips.incomplete.clone().or(read.strips.capped.clone()).or(shortened),
        at_hand,
        explain,
    })
}

/// When the rule of the document's name was raised, where the reader may see that rule.
async fn raised_in_truth(reading: &Reading, reader: &Reader, rule: &Rule, from_ns: i64) -> Result<Vec<RaisedInTruth>> {
    let (rules, config) = (reading.base.store.rules().await?, reading.base.config.get());
    let known = rules.iter().find(|known| known.name == rule.document.name && reader.may_see_rule(known, &config));
    let Some(known) = known else { return Ok(Vec::new()) };
    let raised = reading.base.store.raisings_since(known.id, from_ns).await?;
    Ok(raised.iter().map(in_truth).collect())
}

/// One raising, as it is shown.
pub fn in_truth(r: &Raised) -> RaisedInTruth {
    RaisedInTruth { raised_ns: r.raised_ns, ended_ns: r.ended_ns, late: r.late, withdrawn: r.withdrawn }
}

/// What the rule of the document's name measured on days of which the events are gone, where the reader may see that rule.
async fn usual_of(reading: &Reading, reader: &Reader, rule: &Rule) -> Result<Arc<Usual>> {
    if rule.usual_key("").is_none() {
        return Ok(Arc::default());
    }
    let (rules, config) = (reading.base.store.rules().await?, reading.base.config.get());
    let known = rules.iter().find(|known| known.name == rule.document.name && reader.may_see_rule(known, &config));
    match known {
        Some(known) => {
            let now_ns = (reading.base.clock)();
            let held = reading.base.store.held_by_rule(known.owner_id, known.team_id, now_ns).await?;
            usual::kept(&reading.base, known.id, rule, &ReadScope::of_held(held).key()).await
        }
        None => Ok(Arc::default()),
    }
}

/// What is known beside the events: which error groups were resolved, and when.
///
/// # Errors
/// Where the database fails.
pub async fn known(reading: &Reading) -> Result<Known> {
    let kept = reading.base.store.kept_groups().await?;
    let resolved = kept.into_iter().filter(|group| group.said == GroupState::Resolved);
    let resolved = resolved.map(|g| (g.id, Resolved { at_ns: g.said_ns, returned_ns: g.returned_ns })).collect();
    Ok(Known { resolved, ..Known::default() })
}

/// What decides the values: the form, which holds no bound, the stretch, and what the reader may read.
fn key_of(rule: &Rule, range: &TimeRange, reader: &Reader) -> String {
    format!("{:?} {} {range:?} {} {}", rule.form, rule.step_ns, reader.scope().key(), reader.who.user_id)
}
