//! Step 12: rules judged on time, each as its owner, with late events judged again up to the rule's bound.

use crate::answer::search;
use crate::auth::ReadScope;
use crate::error::Result;
use crate::state::Shared;
use calvex_answer::search::histogram;
use calvex_answer::watch::{Condition, Outcome, Raising, Standing, State, raisings, reconcile, walk};
use calvex_language::model::time::{SECOND_NS, format_utc};
use calvex_language::query::{Filter, TimeRange, parse_filter};
use calvex_store::records::Act;
use calvex_store::records::access::Actor;
use calvex_store::records::alerts::{AlertChange, AlertRow, Judgement, OutboxRow, RuleRow};
use serde_json::json;
use std::collections::HashMap;
use std::sync::atomic::Ordering;

/// What the judge remembers between turns: for each rule, the earliest event that came since its last judgement.
#[derive(Default)]
pub struct Judge {
    touched: HashMap<u32, i64>,
}

impl Judge {
    /// Judges every rule that is due.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn run(&mut self, app: &Shared) -> Result<()> {
        let touched = app.touched_from_ns.swap(i64::MAX, Ordering::SeqCst);
        let rules = app.store.rules().await.inspect_err(|_| {
            // What was not looked at must be looked at later.
            app.touched_from_ns.fetch_min(touched, Ordering::SeqCst);
        })?;
        self.touched.retain(|id, _| rules.iter().any(|r| r.id == *id));
        for rule in &rules {
            let slot = self.touched.entry(rule.id).or_insert(i64::MAX);
            *slot = touched.min(*slot);
        }
        for rule in rules {
            let touched = self.touched.get(&rule.id).copied().unwrap_or(i64::MAX);
            match judge(app, &rule, touched).await {
                Ok(true) => drop(self.touched.insert(rule.id, i64::MAX)),
                Ok(false) => {}
                // One that cannot be judged does not keep the others waiting; it is judged from here at the next turn.
                Err(e) => {
                    tracing::warn!(rule = rule.name, "a rule could not be judged: {e}");
                    let judged_ns = rule.judged_ns.unwrap_or(rule.since_ns);
                    if let Err(e) = fail(app, &rule, judged_ns, &format!("it could not be judged: {e}")).await {
                        tracing::warn!(rule = rule.name, "that could not be recorded either: {e}");
                    }
                }
            }
        }
        Ok(())
    }
}

/// Judges one rule up to now, from where it stands or, where late events came, from before them. Whether it was due.
async fn judge(app: &Shared, rule: &RuleRow, touched_ns: i64) -> Result<bool> {
    let condition = Condition::new(rule.window_s, rule.above, rule.hold_s, rule.delay_s);
    let now_ns = (app.clock)();
    let until_ns = condition.judged_until(now_ns);
    let judged_ns = rule.judged_ns.unwrap_or(rule.since_ns);
    if judged_ns > until_ns.saturating_add(AHEAD_NS) {
        return take_back(app, rule, &condition, now_ns).await;
    }
    let oldest_ns = now_ns - i64::from(rule.late_s) * SECOND_NS;
    let late_ns = touched_ns.max(oldest_ns).div_euclid(condition.step_ns) * condition.step_ns;
    let again = touched_ns < judged_ns && late_ns < judged_ns;
    if until_ns <= judged_ns && !again {
        return Ok(until_ns > judged_ns || touched_ns >= judged_ns);
    }
    let from_ns = if again { late_ns } else { judged_ns };
    let until_ns = until_ns.max(judged_ns);

    let known = app.store.alerts_since(rule.id, from_ns).await?;
    let standing = standing_at(rule, &known, from_ns, again);
    let first_ns = from_ns - condition.window_ns;
    let range = TimeRange { from_ns: first_ns, to_ns: until_ns };
    let counted = match parse_filter(&rule.query) {
        Ok(mut filter) => {
            filter.tie_up(app.config.get().ties());
            count(app, rule, filter, range, condition.step_ns).await?
        }
        Err(mistakes) => Err(mistakes.first().map(ToString::to_string).unwrap_or_default()),
    };
    let counts = match counted {
        Ok(counts) => counts,
        Err(note) => {
            fail(app, rule, judged_ns, &note).await?;
            return Ok(false);
        }
    };
    let walked = walk(standing, &condition, from_ns, first_ns, &counts);
    let known_spans: Vec<Raising> =
        known.iter().map(|a| Raising { raised_ns: a.raised_ns, ended_ns: a.ended_ns, peak: a.peak }).collect();
    let outcomes = reconcile(&known_spans, &raisings(standing, &walked));
    let change = |outcome: Outcome| change_of(app, rule, &known, judged_ns, outcome);
    let judgement = Judgement {
        rule_id: rule.id,
        judged_before_ns: rule.judged_ns,
        state: walked.standing.state.name().to_owned(),
        since_ns: walked.standing.since_ns,
        judged_ns: until_ns,
        count: walked.count,
        note: String::new(),
        changes: outcomes.into_iter().map(change).collect(),
    };
    app.store.commit_judgement(&app.claim, &judgement, now_ns).await?;
    Ok(true)
}

/// A judgement that lies this far ahead of the present was made by a clock that was wrong.
const AHEAD_NS: i64 = 120 * SECOND_NS;

/// Takes back judgements that lie ahead of the clock, which was set back since: else the rule would be blind until then.
/// The database's clock decides; alerts that were raised in the time to come end now.
async fn take_back(app: &Shared, rule: &RuleRow, condition: &Condition, now_ns: i64) -> Result<bool> {
    let judged_ns = rule.judged_ns.unwrap_or(rule.since_ns);
    let present_ns = now_ns.max(app.store.now_ns().await?);
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
    let open = app.store.alerts_since(rule.id, until_ns).await?;
    let ended = |alert: AlertRow| {
        let alert = AlertRow { ended_ns: Some(alert.raised_ns.max(present_ns)), ..alert };
        AlertChange::Update { notify: messages(app, rule, &alert, "ended"), alert }
    };
    let judgement = Judgement {
        rule_id: rule.id,
        judged_before_ns: rule.judged_ns,
        state: State::Quiet.name().to_owned(),
        since_ns: until_ns,
        judged_ns: until_ns,
        count: 0,
        note: note.clone(),
        changes: open.into_iter().filter(|a| a.raised_ns > until_ns && a.ended_ns.is_none()).map(ended).collect(),
    };
    app.store.commit_judgement(&app.claim, &judgement, now_ns).await?;
    let by = Actor { name: "calvex serve", token: None };
    app.store
        .audit(&Act { at_ns: now_ns, by, act: "take back judgement", what: format!("{}: {note}", rule.name) })
        .await?;
    Ok(true)
}

/// Where a walk begins: where the rule stands, or, for one that goes back, as the known alerts say it stood then.
fn standing_at(rule: &RuleRow, known: &[AlertRow], from_ns: i64, again: bool) -> Standing {
    if !again && let Some(state) = State::from_name(&rule.state) {
        return Standing { state, since_ns: rule.since_ns };
    }
    let covering = known.iter().find(|a| a.raised_ns <= from_ns && a.ended_ns.is_none_or(|end| end > from_ns));
    match covering {
        Some(alert) => Standing { state: State::Raised, since_ns: alert.raised_ns },
        None => Standing::quiet(from_ns),
    }
}

/// Counts per step as the rule's owner sees them; what kept it from counting all, otherwise.
async fn count(
    app: &Shared,
    rule: &RuleRow,
    filter: Filter,
    range: TimeRange,
    step_ns: i64,
) -> Result<std::result::Result<Vec<u64>, String>> {
    let lanes = app.store.lanes_of_user(rule.owner_id, &rule.owner_role).await?;
    let scope = ReadScope::of_lanes(lanes);
    let counted =
        search::run_for_rules(app, scope, move |scope| histogram(scope, &filter, range, range.from_ns, step_ns))
            .await?;
    let explain = &counted.explain;
    if let Some(why) = explain.stopped.as_ref().or(explain.left_out.first()) {
        return Ok(Err(why.clone()));
    }
    Ok(Ok(counted.buckets.iter().map(|b| b.iter().sum()).collect()))
}

async fn fail(app: &Shared, rule: &RuleRow, judged_ns: i64, note: &str) -> Result<()> {
    if rule.state == State::Failing.name() && rule.note == note {
        return Ok(());
    }
    let judgement = Judgement {
        rule_id: rule.id,
        judged_before_ns: rule.judged_ns,
        state: State::Failing.name().to_owned(),
        since_ns: (app.clock)(),
        judged_ns,
        count: 0,
        note: note.to_owned(),
        changes: Vec::new(),
    };
    app.store.commit_judgement(&app.claim, &judgement, (app.clock)()).await?;
    Ok(())
}

fn change_of(app: &Shared, rule: &RuleRow, known: &[AlertRow], judged_before_ns: i64, outcome: Outcome) -> AlertChange {
    match outcome {
        Outcome::New(r) => {
            let late = r.raised_ns <= judged_before_ns;
            let alert = AlertRow {
                id: 0,
                rule_id: rule.id,
                raised_ns: r.raised_ns,
                ended_ns: r.ended_ns,
                peak: r.peak,
                late,
                taken_by: None,
            };
            AlertChange::Raise { notify: messages(app, rule, &alert, "raised"), alert }
        }
        Outcome::Known(i, r) => {
            let before = &known[i];
            let alert = AlertRow { raised_ns: r.raised_ns, ended_ns: r.ended_ns, peak: r.peak, ..before.clone() };
            let ended = before.ended_ns.is_none() && alert.ended_ns.is_some();
            AlertChange::Update { notify: if ended { messages(app, rule, &alert, "ended") } else { Vec::new() }, alert }
        }
    }
}

/// The notifications of one change: what the rule names, each with the same content.
fn messages(app: &Shared, rule: &RuleRow, alert: &AlertRow, what: &str) -> Vec<OutboxRow> {
    let from_ns = alert.raised_ns - i64::from(rule.window_s) * SECOND_NS;
    let payload = json!({
        "type": format!("alert.{what}"),
        "timestamp": format_utc((app.clock)(), 3),
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
            "console": app.settings.text("notify.console_url"),
        },
    })
    .to_string();
    let row = |kind: &str, target: &String, secret: Option<String>| OutboxRow {
        id: 0,
        alert_id: alert.id,
        kind: kind.to_owned(),
        what: what.to_owned(),
        target: target.clone(),
        secret,
        payload: payload.clone(),
        tries: 0,
        done_ns: None,
        error: String::new(),
    };
    let webhook = rule.webhook.as_ref().map(|url| row("webhook", url, rule.webhook_secret.clone()));
    let mail = rule.mail.as_ref().map(|to| row("mail", to, None));
    webhook.into_iter().chain(mail).collect()
}
