//! Step 12: rules judged on time, each as its owner, with late events judged again up to the rule's bound.

use crate::answer::search;
use crate::auth::ReadScope;
use crate::error::Result;
use crate::state::Reading;
use calvex_answer::search::histogram;
use calvex_answer::watch::counted::{Condition, Outcome, Raising, Standing, raisings, reconcile, walk};
use calvex_language::domain::access::Actor;
use calvex_language::domain::rule::{
    Alert, AlertChange, AlertMove, Judgement, Notification, NotifyBy, Rule, RuleState,
};
use calvex_language::model::time::{SECOND_NS, format_utc};
use calvex_language::query::{Filter, TimeRange, parse_filter};
use calvex_store::records::Act;
use serde_json::json;
use std::collections::HashMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicI64, Ordering};

/// Judges rules, and remembers between turns, for each rule, the earliest event that came since its last judgement.
pub struct Judge {
    reading: Arc<Reading>,
    /// The earliest time admitted since the last turn.
    touched_from_ns: Arc<AtomicI64>,
    touched: HashMap<u32, i64>,
}

impl Judge {
    /// One that has judged nothing yet; `touched_from_ns` is where the committer leaves the earliest time admitted.
    pub fn new(reading: Arc<Reading>, touched_from_ns: Arc<AtomicI64>) -> Self {
        Judge { reading, touched_from_ns, touched: HashMap::new() }
    }

    /// Judges every rule that is due.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn run(&mut self) -> Result<()> {
        let reading = &self.reading;
        let touched = self.touched_from_ns.swap(i64::MAX, Ordering::SeqCst);
        let rules = reading.base.store.rules().await.inspect_err(|_| {
            // What was not looked at must be looked at later.
            self.touched_from_ns.fetch_min(touched, Ordering::SeqCst);
        })?;
        self.touched.retain(|id, _| rules.iter().any(|r| r.id == *id));
        for rule in &rules {
            let slot = self.touched.entry(rule.id).or_insert(i64::MAX);
            *slot = touched.min(*slot);
        }
        for rule in rules {
            let touched = self.touched.get(&rule.id).copied().unwrap_or(i64::MAX);
            match judge(reading, &rule, touched).await {
                Ok(true) => drop(self.touched.insert(rule.id, i64::MAX)),
                Ok(false) => {}
                // One that cannot be judged does not keep the others waiting; it is judged from here at the next turn.
                Err(e) => {
                    tracing::warn!(rule = rule.name, "a rule could not be judged: {e}");
                    let judged_ns = rule.judged_ns.unwrap_or(rule.since_ns);
                    if let Err(e) = fail(reading, &rule, judged_ns, &format!("it could not be judged: {e}")).await {
                        tracing::warn!(rule = rule.name, "that could not be recorded either: {e}");
                    }
                }
            }
        }
        Ok(())
    }
}

/// Judges one rule up to now, from where it stands or, where late events came, from before them. Whether it was due.
async fn judge(reading: &Arc<Reading>, rule: &Rule, touched_ns: i64) -> Result<bool> {
    let condition = Condition::new(rule.window_s, rule.above, rule.hold_s, rule.delay_s);
    let now_ns = (reading.base.clock)();
    let until_ns = condition.judged_until(now_ns);
    let judged_ns = rule.judged_ns.unwrap_or(rule.since_ns);
    if judged_ns > until_ns.saturating_add(AHEAD_NS) {
        return take_back(reading, rule, &condition, now_ns).await;
    }
    let oldest_ns = now_ns - i64::from(rule.late_s) * SECOND_NS;
    let late_ns = touched_ns.max(oldest_ns).div_euclid(condition.step_ns) * condition.step_ns;
    let again = touched_ns < judged_ns && late_ns < judged_ns;
    if until_ns <= judged_ns && !again {
        return Ok(until_ns > judged_ns || touched_ns >= judged_ns);
    }
    let from_ns = if again { late_ns } else { judged_ns };
    let until_ns = until_ns.max(judged_ns);

    let known = reading.base.store.alerts_since(rule.id, from_ns).await?;
    let standing = standing_at(rule, &known, from_ns, again);
    let first_ns = from_ns - condition.window_ns;
    let range = TimeRange { from_ns: first_ns, to_ns: until_ns };
    let counted = match parse_filter(&rule.query) {
        Ok(mut filter) => {
            filter.tie_up(reading.base.config.get().ties());
            count(reading, rule, filter, range, condition.step_ns).await?
        }
        Err(mistakes) => Err(mistakes.first().map(ToString::to_string).unwrap_or_default()),
    };
    let counts = match counted {
        Ok(counts) => counts,
        Err(note) => {
            fail(reading, rule, judged_ns, &note).await?;
            return Ok(false);
        }
    };
    let walked = walk(standing, &condition, from_ns, first_ns, &counts);
    let known_spans: Vec<Raising> =
        known.iter().map(|a| Raising { raised_ns: a.raised_ns, ended_ns: a.ended_ns, peak: a.peak }).collect();
    let outcomes = reconcile(&known_spans, &raisings(standing, &walked));
    let change = |outcome: Outcome| change_of(reading, rule, &known, judged_ns, outcome);
    let judgement = Judgement {
        rule_id: rule.id,
        judged_before_ns: rule.judged_ns,
        state: walked.standing.state,
        since_ns: walked.standing.since_ns,
        judged_ns: until_ns,
        count: walked.count,
        note: String::new(),
        changes: outcomes.into_iter().map(change).collect(),
    };
    reading.base.store.commit_judgement(&reading.base.claim, &judgement, now_ns).await?;
    Ok(true)
}

/// A judgement that lies this far ahead of the present was made by a clock that was wrong.
const AHEAD_NS: i64 = 120 * SECOND_NS;

/// Takes back judgements that lie ahead of the clock, which was set back since: else the rule would be blind until then.
/// The database's clock decides; alerts that were raised in the time to come end now.
async fn take_back(reading: &Arc<Reading>, rule: &Rule, condition: &Condition, now_ns: i64) -> Result<bool> {
    let judged_ns = rule.judged_ns.unwrap_or(rule.since_ns);
    let present_ns = now_ns.max(reading.base.store.now_ns().await?);
    let until_ns = condition.judged_until(present_ns);
    if judged_ns <= until_ns.saturating_add(AHEAD_NS) {
        return Ok(false);
    }
    let note = format!(
        "judgements up to {} lay ahead of the clock and were taken back at {}",
        format_utc(judged_ns, 0),
        format_utc(present_ns, 0)
    );
    tracing::warn!(rule = rule.name, "{note}");
    let open = reading.base.store.alerts_since(rule.id, until_ns).await?;
    let ended = |alert: Alert| {
        let alert = Alert { ended_ns: Some(alert.raised_ns.max(present_ns)), ..alert };
        AlertChange::Update { notify: messages(reading, rule, &alert, AlertMove::Ended), alert }
    };
    let judgement = Judgement {
        rule_id: rule.id,
        judged_before_ns: rule.judged_ns,
        state: RuleState::Quiet,
        since_ns: until_ns,
        judged_ns: until_ns,
        count: 0,
        note: note.clone(),
        changes: open.into_iter().filter(|a| a.raised_ns > until_ns && a.ended_ns.is_none()).map(ended).collect(),
    };
    reading.base.store.commit_judgement(&reading.base.claim, &judgement, now_ns).await?;
    let by = Actor { name: "calvex serve", token: None };
    reading
        .base
        .store
        .audit(&Act { at_ns: now_ns, by, act: "take back judgement", what: format!("{}: {note}", rule.name) })
        .await?;
    Ok(true)
}

/// Where a walk begins: where the rule stands, or, for one that goes back, as the known alerts say it stood then.
fn standing_at(rule: &Rule, known: &[Alert], from_ns: i64, again: bool) -> Standing {
    if !again {
        return Standing { state: rule.state, since_ns: rule.since_ns };
    }
    let covering = known.iter().find(|a| a.raised_ns <= from_ns && a.ended_ns.is_none_or(|end| end > from_ns));
    match covering {
        Some(alert) => Standing { state: RuleState::Raised, since_ns: alert.raised_ns },
        None => Standing::quiet(from_ns),
    }
}

/// Counts per step as the rule's owner sees them; what kept it from counting all, otherwise.
async fn count(
    reading: &Arc<Reading>,
    rule: &Rule,
    filter: Filter,
    range: TimeRange,
    step_ns: i64,
) -> Result<std::result::Result<Vec<u64>, String>> {
    let lanes = reading.base.store.lanes_of_user(rule.owner_id, rule.owner_role).await?;
    let scope = ReadScope::of_lanes(lanes);
    let counted =
        search::run_for_rules(reading, scope, move |scope| histogram(scope, &filter, range, range.from_ns, step_ns))
            .await?;
    let explain = &counted.explain;
    if let Some(why) = explain.stopped.as_ref().or(explain.left_out.first()) {
        return Ok(Err(why.clone()));
    }
    Ok(Ok(counted.buckets.iter().map(|b| b.iter().sum()).collect()))
}

async fn fail(reading: &Arc<Reading>, rule: &Rule, judged_ns: i64, note: &str) -> Result<()> {
    if rule.state == RuleState::Failing && rule.note == note {
        return Ok(());
    }
    let judgement = Judgement {
        rule_id: rule.id,
        judged_before_ns: rule.judged_ns,
        state: RuleState::Failing,
        since_ns: (reading.base.clock)(),
        judged_ns,
        count: 0,
        note: note.to_owned(),
        changes: Vec::new(),
    };
    reading.base.store.commit_judgement(&reading.base.claim, &judgement, (reading.base.clock)()).await?;
    Ok(())
}

fn change_of(
    reading: &Arc<Reading>,
    rule: &Rule,
    known: &[Alert],
    judged_before_ns: i64,
    outcome: Outcome,
) -> AlertChange {
    match outcome {
        Outcome::New(r) => {
            let late = r.raised_ns <= judged_before_ns;
            let alert = Alert {
                id: 0,
                rule_id: rule.id,
                raised_ns: r.raised_ns,
                ended_ns: r.ended_ns,
                peak: r.peak,
                late,
                taken_by: None,
            };
            AlertChange::Raise { notify: messages(reading, rule, &alert, AlertMove::Raised), alert }
        }
        Outcome::Known(i, r) => {
            let before = &known[i];
            let alert = Alert { raised_ns: r.raised_ns, ended_ns: r.ended_ns, peak: r.peak, ..before.clone() };
            let ended = before.ended_ns.is_none() && alert.ended_ns.is_some();
            AlertChange::Update {
                notify: if ended { messages(reading, rule, &alert, AlertMove::Ended) } else { Vec::new() },
                alert,
            }
        }
    }
}

/// The notifications of one change: what the rule names, each with the same content.
fn messages(reading: &Arc<Reading>, rule: &Rule, alert: &Alert, what: AlertMove) -> Vec<Notification> {
    let from_ns = alert.raised_ns - i64::from(rule.window_s) * SECOND_NS;
    let payload = json!({
        "type": format!("alert.{}", what.name()),
        "timestamp": format_utc((reading.base.clock)(), 3),
        "data": {
            "rule": rule.name,
            "query": rule.query,
            "window_s": rule.window_s,
            "above": rule.above,
            "count": alert.peak,
            "raised": format_utc(alert.raised_ns, 3),
            "ended": alert.ended_ns.map(|t| format_utc(t, 3)),
            "late": alert.late,
            "evidence_from": format_utc(from_ns, 3),
            "console": reading.base.settings.text("notify.console_url"),
        },
    })
    .to_string();
    let row = |by: NotifyBy, target: &String, secret: Option<String>| Notification {
        id: 0,
        alert_id: alert.id,
        by,
        what,
        target: target.clone(),
        secret,
        payload: payload.clone(),
        tries: 0,
        done_ns: None,
        error: String::new(),
    };
    let webhook = rule.webhook.as_ref().map(|url| row(NotifyBy::Webhook, url, rule.webhook_secret.clone()));
    let mail = rule.mail.as_ref().map(|to| row(NotifyBy::Mail, to, None));
    webhook.into_iter().chain(mail).collect()
}
