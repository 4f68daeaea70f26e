//! Step 12: rules judged on time, each as its owner, with late events judged again up to the rule's bound.

use crate::answer::{rehearse, search};
use crate::auth::ReadScope;
use crate::error::Result;
use crate::notify::messages;
use crate::state::Reading;
use calvex_answer::watch::{
    GroupRaising, Moments, Raising, Rings, Rule as Compiled, RuleDocument, Standing, Stood, Strips, group_hash,
    raisings, settle, strips, walk,
};
use calvex_language::domain::access::Actor;
use calvex_language::domain::rule::{
    Alert, AlertChange, AlertGroup, AlertMove, Contact, Judgement, Rule, RuleGroup, RuleState,
};
use calvex_language::model::time::{SECOND_NS, format_utc};
use calvex_store::records::Act;
use std::collections::HashMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicI64, Ordering};

/// Bytes that the figures kept of all rules may take; beyond, those of the rule that has most are let go.
const MAX_RINGS_BYTES: usize = 256 << 20;
/// A judgement that lies this far ahead of the present was made by a clock that was wrong.
const AHEAD_NS: i64 = 120 * SECOND_NS;
/// Groups of an alert that are kept.
const MAX_ALERT_GROUPS: usize = 5_000;

/// What is remembered of a rule between turns.
#[derive(Default)]
struct Memory {
    /// The earliest event that came since it was judged.
    touched_ns: Option<i64>,
    /// The revision that is compiled, and the figures read for it.
    compiled: Option<(u32, Compiled)>,
    rings: Rings,
}

/// Judges rules.
pub struct Judge {
    reading: Arc<Reading>,
    /// The earliest time admitted since the last turn.
    touched_from_ns: Arc<AtomicI64>,
    rules: HashMap<u32, Memory>,
}

impl Judge {
    /// One that has judged nothing yet; `touched_from_ns` is where the committer leaves the earliest time admitted.
    pub fn new(reading: Arc<Reading>, touched_from_ns: Arc<AtomicI64>) -> Self {
        Judge { reading, touched_from_ns, rules: HashMap::new() }
    }

    /// Judges every rule that is due.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn run(&mut self) -> Result<()> {
        let reading = self.reading.clone();
        let touched = self.touched_from_ns.swap(i64::MAX, Ordering::SeqCst);
        let known = async { Ok((reading.base.store.rules().await?, reading.base.store.contacts().await?)) };
        let (rules, contacts) = known.await.inspect_err(|_: &crate::error::ServiceError| {
            // What was not looked at must be looked at later.
            self.touched_from_ns.fetch_min(touched, Ordering::SeqCst);
        })?;
        self.rules.retain(|id, _| rules.iter().any(|r| r.id == *id));
        for rule in &rules {
            let memory = self.rules.entry(rule.id).or_default();
            if touched < i64::MAX {
                memory.touched_ns = Some(memory.touched_ns.unwrap_or(i64::MAX).min(touched));
            }
        }
        for rule in rules {
            let memory = self.rules.entry(rule.id).or_default();
            match judge(&reading, &rule, &contacts, memory).await {
                Ok(true) => memory.touched_ns = None,
                Ok(false) => {}
                // One that cannot be judged does not keep the others waiting; it is judged from here at the next turn.
                Err(e) => {
                    tracing::warn!(rule = rule.name, "a rule could not be judged: {e}");
                    if let Err(e) = fail(&reading, &rule, &format!("it could not be judged: {e}")).await {
                        tracing::warn!(rule = rule.name, "that could not be recorded either: {e}");
                    }
                }
            }
            self.let_go();
        }
        Ok(())
    }

    /// Keeps the figures of all rules within their bound.
    fn let_go(&mut self) {
        while self.rules.values().map(|memory| memory.rings.bytes()).sum::<usize>() > MAX_RINGS_BYTES {
            let Some(most) = self.rules.values_mut().max_by_key(|memory| memory.rings.bytes()) else { return };
            most.rings = Rings::default();
        }
    }
}

/// The rule that a record's document is, compiled once for each revision.
fn compiled<'a>(reading: &Reading, rule: &Rule, memory: &'a mut Memory) -> std::result::Result<&'a Compiled, String> {
    if memory.compiled.as_ref().is_none_or(|(revision, _)| *revision != rule.revision) {
        let read = RuleDocument::read(&rule.document, reading.base.config.get().ties());
        let read = read.map_err(|mistakes| mistakes.first().map(ToString::to_string).unwrap_or_default())?;
        memory.compiled = Some((rule.revision, read));
        memory.rings = Rings::default();
    }
    memory.compiled.as_ref().map(|(_, compiled)| compiled).ok_or_else(String::new)
}

/// Judges one rule up to now, from where it stands or, where late events came, from before them. Whether it was due.
async fn judge(reading: &Arc<Reading>, rule: &Rule, contacts: &[Contact], memory: &mut Memory) -> Result<bool> {
    let touched_ns = memory.touched_ns.unwrap_or(i64::MAX);
    let compiled = match compiled(reading, rule, memory) {
        Ok(compiled) => compiled.clone(),
        Err(note) => {
            fail(reading, rule, &note).await?;
            return Ok(false);
        }
    };
    let step_ns = compiled.step_ns;
    let now_ns = (reading.base.clock)();
    let until_ns = compiled.judged_until(now_ns);
    let judged_ns = rule.judged_ns.unwrap_or(rule.since_ns);
    if judged_ns > until_ns.saturating_add(AHEAD_NS) {
        return take_back(reading, rule, &compiled, contacts, now_ns).await;
    }
    let touched_ns = touched_ns.max(now_ns - compiled.late_ns);
    let late_ns = touched_ns.div_euclid(step_ns) * step_ns;
    let again = late_ns < judged_ns;
    if until_ns <= judged_ns && !again {
        return Ok(memory.touched_ns.is_some_and(|at| at >= judged_ns));
    }
    // One that was building then builds again.
    let from_ns = if again { late_ns - compiled.hold_ns } else { judged_ns };
    let until_ns = until_ns.max(judged_ns);
    let moments = Moments::between(from_ns, until_ns, step_ns);
    memory.rings.forget_from(touched_ns, step_ns);

    let known = reading.base.store.alerts_since(rule.id, from_ns).await?;
    let standings = standings(reading, rule, &known, from_ns, again).await?;
    let read = read(reading, rule, compiled.clone(), moments, memory).await?;
    if let Some(why) = read.incomplete {
        fail(reading, rule, &why).await?;
        return Ok(false);
    }
    let walked = walk_all(&read, &compiled, &moments, standings, from_ns);
    let bound = &compiled.bound;
    let stood: Vec<Stood> = known.iter().map(stood_of).collect();
    let settled = settle(&stood, &walked.found, (from_ns, until_ns), bound);
    let mut changes = Vec::with_capacity(settled.len());
    for alert in settled {
        let before = alert.known.and_then(|n| known.get(n));
        changes.push(change_of(reading, rule, &compiled, contacts, judged_ns, before, &alert).await);
    }
    if !is_muted(reading, rule) {
        unmuted(reading, rule, &compiled, contacts, &mut changes, &known);
    }
    let state = walked.groups.iter().map(|group| group.state).max_by_key(|state| *state == RuleState::Raised);
    let state = state.unwrap_or(RuleState::Quiet);
    let since = walked.groups.iter().filter(|group| group.state == state).map(|group| group.since_ns).min();
    let quiet_since_ns = if rule.state == RuleState::Quiet { rule.since_ns } else { until_ns };
    let note = if read.learning { "learning: too little has come to judge by".to_owned() } else { String::new() };
    let judgement = Judgement {
        rule_id: rule.id,
        revision: rule.revision,
        judged_before_ns: rule.judged_ns,
        state,
        since_ns: since.unwrap_or(quiet_since_ns),
        judged_ns: until_ns,
        value: walked.value,
        note: read.capped.unwrap_or(note),
        groups: walked.groups,
        changes,
    };
    reading.base.store.commit_judgement(&reading.base.claim, &judgement, now_ns).await?;
    Ok(true)
}

/// Reads the rule's values as its owner sees them.
async fn read(
    reading: &Arc<Reading>,
    rule: &Rule,
    compiled: Compiled,
    moments: Moments,
    memory: &mut Memory,
) -> Result<Strips> {
    let lanes = reading.base.store.lanes_of_user(rule.owner_id, rule.owner_role).await?;
    let known = rehearse::known(reading).await?;
    let mut rings = std::mem::take(&mut memory.rings);
    let (read, rings) = search::run_for_rules(reading, ReadScope::of_lanes(lanes), move |scope| {
        let read = strips(scope, &compiled, moments, &known, &mut rings);
        (read, rings)
    })
    .await?;
    memory.rings = rings;
    Ok(read)
}

/// What walking every group found.
struct WalkedAll {
    found: Vec<GroupRaising>,
    /// Groups that are not quiet at the end.
    groups: Vec<RuleGroup>,
    value: Option<f64>,
}

fn walk_all(
    read: &Strips,
    compiled: &Compiled,
    moments: &Moments,
    mut standings: HashMap<u64, (String, Standing)>,
    from_ns: i64,
) -> WalkedAll {
    let mut out = WalkedAll { found: Vec::new(), groups: Vec::new(), value: None };
    let bound = &compiled.bound;
    let mut one = |name: String, standing: Standing, values: &[f64]| {
        let walked = walk(standing, bound, compiled.hold_ns, (moments.first_ns, moments.step_ns), values);
        let hash = group_hash(&name);
        for raising in raisings(standing, &walked) {
            out.found.push(GroupRaising { hash, name: name.clone(), raising, withdrawn: false });
        }
        let value = walked.value.is_finite().then_some(walked.value);
        out.value = match (out.value, value) {
            (Some(a), Some(b)) => Some(bound.worse(a, b)),
            (a, b) => a.or(b),
        };
        let Standing { state, since_ns } = walked.standing;
        if matches!(state, RuleState::Building | RuleState::Raised) {
            out.groups.push(RuleGroup { hash, name, state, since_ns, value });
        }
    };
    for strip in &read.strips {
        let name = strip.name();
        let standing = standings.remove(&group_hash(&name)).map(|(_, standing)| standing);
        one(name, standing.unwrap_or(Standing::quiet(from_ns)), &strip.values);
    }
    // Groups that are not quiet and of which there is no event any more.
    let empty = vec![compiled.empty_value(); moments.count];
    for (name, standing) in standings.into_values() {
        one(name, standing, &empty);
    }
    out
}

/// Where the groups that are not quiet stand as a walk begins: as it was left, or, for one that goes back, as the known
/// alerts say they stood then.
async fn standings(
    reading: &Reading,
    rule: &Rule,
    known: &[Alert],
    from_ns: i64,
    again: bool,
) -> Result<HashMap<u64, (String, Standing)>> {
    if !again {
        let groups = reading.base.store.rule_groups(rule.id).await?;
        let standing = |g: RuleGroup| (g.hash, (g.name, Standing { state: g.state, since_ns: g.since_ns }));
        return Ok(groups.into_iter().map(standing).collect());
    }
    let groups = known.iter().flat_map(|alert| &alert.groups).filter(|group| !group.withdrawn);
    let covers = |g: &&AlertGroup| g.raised_ns <= from_ns && g.ended_ns.is_none_or(|end| end > from_ns);
    let raised =
        |g: &AlertGroup| (g.hash, (g.name.clone(), Standing { state: RuleState::Raised, since_ns: g.raised_ns }));
    Ok(groups.filter(covers).map(raised).collect())
}

/// Takes back judgements that lie ahead of the clock, which was set back since: else the rule would be blind until then.
/// The database's clock decides; alerts that were raised in the time to come end now.
async fn take_back(
    reading: &Arc<Reading>,
    rule: &Rule,
    compiled: &Compiled,
    contacts: &[Contact],
    now_ns: i64,
) -> Result<bool> {
    let judged_ns = rule.judged_ns.unwrap_or(rule.since_ns);
    let present_ns = now_ns.max(reading.base.store.now_ns().await?);
    let until_ns = compiled.judged_until(present_ns);
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
    let ended = |mut alert: Alert| {
        for group in alert.groups.iter_mut().filter(|group| group.ended_ns.is_none()) {
            group.ended_ns = Some(group.raised_ns.max(present_ns));
        }
        let alert = Alert { ended_ns: Some(alert.raised_ns.max(present_ns)), ..alert };
        // Whoever was not notified that it began is not notified that it ended.
        let heard = !alert.muted;
        let message = || messages(&reading.base, rule, compiled, contacts, &alert, AlertMove::Ended);
        AlertChange::Update { notify: if heard { message() } else { Vec::new() }, alert }
    };
    let judgement = Judgement {
        rule_id: rule.id,
        revision: rule.revision,
        judged_before_ns: rule.judged_ns,
        state: RuleState::Quiet,
        since_ns: until_ns,
        judged_ns: until_ns,
        value: None,
        note: note.clone(),
        groups: Vec::new(),
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

/// Records that a rule cannot be judged, and why; what is raised stays so.
async fn fail(reading: &Arc<Reading>, rule: &Rule, note: &str) -> Result<()> {
    if rule.state == RuleState::Failing && rule.note == note {
        return Ok(());
    }
    let judgement = Judgement {
        rule_id: rule.id,
        revision: rule.revision,
        judged_before_ns: rule.judged_ns,
        state: RuleState::Failing,
        since_ns: (reading.base.clock)(),
        judged_ns: rule.judged_ns.unwrap_or(rule.since_ns),
        value: None,
        note: note.to_owned(),
        groups: reading.base.store.rule_groups(rule.id).await?,
        changes: Vec::new(),
    };
    reading.base.store.commit_judgement(&reading.base.claim, &judgement, (reading.base.clock)()).await?;
    Ok(())
}

fn stood_of(alert: &Alert) -> Stood {
    let group = |g: &AlertGroup| GroupRaising {
        hash: g.hash,
        name: g.name.clone(),
        raising: Raising { raised_ns: g.raised_ns, ended_ns: g.ended_ns, worst: g.peak.unwrap_or(f64::NAN) },
        withdrawn: g.withdrawn,
    };
    Stood { groups: alert.groups.iter().map(group).collect(), known: None }
}

/// Whether a rule notifies nobody now.
fn is_muted(reading: &Reading, rule: &Rule) -> bool {
    rule.mute.as_ref().is_some_and(|mute| mute.until_ns > (reading.base.clock)())
}

/// What a settled alert changes, with the messages of it.
async fn change_of(
    reading: &Arc<Reading>,
    rule: &Rule,
    compiled: &Compiled,
    contacts: &[Contact],
    judged_before_ns: i64,
    before: Option<&Alert>,
    stood: &Stood,
) -> AlertChange {
    let muted = is_muted(reading, rule);
    let raising = stood.raising(&compiled.bound);
    let number = |value: f64| value.is_finite().then_some(value);
    let group = |g: &GroupRaising| AlertGroup {
        hash: g.hash,
        name: g.name.clone(),
        raised_ns: g.raising.raised_ns,
        ended_ns: g.raising.ended_ns,
        peak: number(g.raising.worst),
        withdrawn: g.withdrawn,
    };
    let mut alert = Alert {
        id: before.map_or(0, |alert| alert.id),
        rule_id: rule.id,
        raised_ns: raising.raised_ns,
        ended_ns: raising.ended_ns,
        peak: number(raising.worst),
        late: before.map_or(raising.raised_ns <= judged_before_ns, |alert| alert.late),
        taken_by: before.and_then(|alert| alert.taken_by.clone()),
        revision: rule.revision,
        withdrawn: stood.is_withdrawn(),
        muted: before.map_or(muted, |alert| alert.muted),
        explanation: before.and_then(|alert| alert.explanation.clone()),
        groups: stood.groups.iter().map(group).take(MAX_ALERT_GROUPS).collect(),
    };
    let message = |alert: &Alert, what| messages(&reading.base, rule, compiled, contacts, alert, what);
    let Some(before) = before else {
        alert.explanation = crate::answer::explain::explanation(reading, rule, compiled, alert.raised_ns).await;
        let notify = if muted { Vec::new() } else { message(&alert, AlertMove::Raised) };
        return AlertChange::Raise { notify, alert };
    };
    // Whoever was not notified that it began is not notified that it ended.
    let notify = if alert.muted {
        Vec::new()
    } else if alert.withdrawn && !before.withdrawn {
        message(&alert, AlertMove::Withdrawn)
    } else if before.ended_ns.is_none() && alert.ended_ns.is_some() {
        message(&alert, AlertMove::Ended)
    } else {
        Vec::new()
    };
    AlertChange::Update { notify, alert }
}

/// Alerts that were raised under a mute that has ended, and that last: now somebody is notified.
fn unmuted(
    reading: &Arc<Reading>,
    rule: &Rule,
    compiled: &Compiled,
    contacts: &[Contact],
    changes: &mut Vec<AlertChange>,
    known: &[Alert],
) {
    for alert in known.iter().filter(|alert| alert.muted && !alert.withdrawn) {
        let is_it = |c: &AlertChange| matches!(c, AlertChange::Update { alert: changed, .. } if changed.id == alert.id);
        let place = changes.iter().position(is_it);
        let now = match place.and_then(|n| changes.get(n)) {
            Some(AlertChange::Update { alert, .. }) => alert.clone(),
            _ => alert.clone(),
        };
        if now.ended_ns.is_some() || now.withdrawn {
            continue;
        }
        let alert = Alert { muted: false, ..now };
        let notify = messages(&reading.base, rule, compiled, contacts, &alert, AlertMove::Raised);
        let change = AlertChange::Update { notify, alert };
        match place {
            Some(n) => changes.splice(n..=n, [change]).for_each(drop),
            None => changes.push(change),
        }
    }
}
