//! Step 12: rules judged on time, each as its owner, with late events judged again up to the rule's bound.

use super::raised::{Changing, stood_of};
use super::sources::Sources;
use crate::notify::Notice;
use calvex_answer::watch::{
    Form, Known, Moments, Mutes, Rings, Rule as Compiled, RuleDocument, Standing, Standings, Stood, Strips, Usual,
    settle, stood_at, strips, walk_all,
};
use calvex_language::domain::contact::{AlertMove, Contact};
use calvex_language::domain::grant::Holdings;
use calvex_language::domain::rule::{Alert, AlertChange, Closed, Judgement, Rule, RuleCondition, RuleGroup, RuleState};
use calvex_language::model::time::{SECOND_NS, format_utc};
use calvex_node::answer::run::run_for_rules;
use calvex_node::answer::{rehearse, usual};
use calvex_node::auth::ReadScope;
use calvex_node::error::Result;
use calvex_node::pipeline::admitted::Admitted;
use calvex_node::state::Reading;
use std::collections::HashMap;
use std::sync::Arc;
use std::time::{Duration, Instant};

/// Why a rule is not judged whose team or owner holds nothing.
const NO_RIGHTS: &str =
    "whose rule this is may read no lane, or is disabled; give a grant, or apply the rule for a team (--team)";
/// Bytes that the figures kept of all rules may take; beyond, those of the rule that has most are let go.
const MAX_RINGS_BYTES: usize = 256 << 20;
/// What a deviation kept of its past is read again after so long.
const USUAL_AGAIN_NS: i64 = 1800 * SECOND_NS;
/// A judgement that lies this far ahead of the present was made by a clock that was wrong.
const AHEAD_NS: i64 = 120 * SECOND_NS;

/// What is remembered of a rule between turns.
#[derive(Default)]
struct Memory {
    /// The earliest event that came since it was judged.
    touched_ns: Option<i64>,
    /// The revision that is compiled, and the figures read for it.
    compiled: Option<(u32, Compiled)>,
    /// What may be read, as a text: the rings are of this.
    scope: String,
    rings: Rings,
    /// What a deviation measured on days of which the events may be gone, and when that was read.
    usual: (i64, Arc<Usual>),
    /// No alert of it lasted until then, or later.
    without_alerts_ns: Option<i64>,
}

/// What a turn looks up once for all rules.
#[derive(Default)]
struct Shared {
    /// What teams, and owners of rules of none, may read.
    held: HashMap<(u32, Option<u32>), Holdings>,
    /// Judgements of rules that are quiet and stay so: they are one commit.
    quiet: Vec<Judgement>,
}

impl Shared {
    /// What a rule may read.
    async fn scope_of(&mut self, reading: &Reading, rule: &Rule) -> Result<ReadScope> {
        let whose = rule.team_id.map_or((rule.owner_id, None), |team| (0, Some(team)));
        if let Some(held) = self.held.get(&whose) {
            return Ok(ReadScope::of_held(held.clone()));
        }
        let now_ns = (reading.base.clock)();
        let held: Holdings = reading.base.store.held_by_rule(rule.owner_id, rule.team_id, now_ns).await?.into();
        self.held.insert(whose, held.clone());
        Ok(ReadScope::of_held(held))
    }

    /// Commits a judgement, at the end of the turn where nothing of it is news.
    async fn commit(&mut self, reading: &Reading, rule: &Rule, judgement: Judgement) -> Result<()> {
        let is_quiet = judgement.groups.is_empty() && judgement.changes.is_empty() && rule.state == RuleState::Quiet;
        if is_quiet && judgement.condition == rule.condition && judgement.note == rule.note {
            self.quiet.push(judgement);
        } else {
            reading.base.store.commit_judgement(&reading.base.claim, &judgement).await?;
        }
        Ok(())
    }
}

/// Judges rules.
pub struct Judge {
    reading: Arc<Reading>,
    admitted: Arc<Admitted>,
    rules: HashMap<u32, Memory>,
    sources: Sources,
    again: Again,
    /// How many turns there were: each begins with another rule.
    turns: usize,
}

/// How much of the time going back took lately. Senders decide how often events come late and how late, so that this is bounded:
/// a quarter of the time, beyond two seconds at once.
struct Again {
    spent: Duration,
    at: Instant,
}

impl Again {
    const MOST: Duration = Duration::from_secs(2);

    /// Whether a rule may go back at a moment.
    fn has_room(&mut self, now: Instant) -> bool {
        self.spent = self.spent.saturating_sub(now.duration_since(self.at) / 4);
        self.at = now;
        self.spent < Again::MOST
    }

    fn took(&mut self, time: Duration) {
        self.spent += time;
    }
}

impl Judge {
    /// One that has judged nothing yet.
    pub fn new(reading: Arc<Reading>, admitted: Arc<Admitted>) -> Self {
        Judge {
            reading,
            admitted,
            rules: HashMap::new(),
            sources: Sources::default(),
            again: Again { spent: Duration::ZERO, at: Instant::now() },
            turns: 0,
        }
    }

    /// Judges every rule that is due.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn run(&mut self) -> Result<()> {
        let reading = self.reading.clone();
        let admitted = self.admitted.rules.take();
        let touched = admitted.map_or(i64::MAX, |reach| reach.time_ns);
        let known = async { Ok((reading.base.store.rules().await?, reading.base.store.contacts().await?)) };
        let (mut rules, contacts) = known.await.inspect_err(|_: &calvex_node::error::ServiceError| {
            // What was not looked at must be looked at later.
            admitted.inspect(|reach| self.admitted.rules.note(*reach));
        })?;
        self.rules.retain(|id, _| rules.iter().any(|r| r.id == *id));
        self.sources.turn(touched, (reading.base.clock)());
        for rule in &rules {
            let memory = self.rules.entry(rule.id).or_default();
            if touched < i64::MAX {
                memory.touched_ns = Some(memory.touched_ns.unwrap_or(i64::MAX).min(touched));
            }
        }
        self.turns = self.turns.wrapping_add(1);
        let first = self.turns % rules.len().max(1);
        rules.rotate_left(first);
        let mut shared = Shared::default();
        for rule in rules {
            let memory = self.rules.entry(rule.id).or_default();
            let watched = (&mut self.sources, &mut self.again, &mut shared);
            match judge(&reading, &rule, &contacts, memory, watched).await {
                Ok(true) => memory.touched_ns = None,
                Ok(false) => {}
                // One that cannot be judged does not keep the others waiting; it is judged from here at the next turn.
                Err(e) => {
                    memory.without_alerts_ns = None;
                    tracing::warn!(rule = rule.name, "a rule could not be judged: {e}");
                    if let Err(e) = fail(&reading, &rule, &format!("it could not be judged: {e}")).await {
                        tracing::warn!(rule = rule.name, "that could not be recorded either: {e}");
                    }
                }
            }
        }
        self.let_go();
        reading.base.store.commit_quiet(&reading.base.claim, &shared.quiet).await?;
        Ok(())
    }

    /// Keeps the figures of all rules within their bound.
    fn let_go(&mut self) {
        let most_bytes = MAX_RINGS_BYTES.saturating_sub(self.sources.bytes());
        while self.rules.values().map(|memory| memory.rings.bytes()).sum::<usize>() > most_bytes {
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
        memory.usual = Default::default();
        memory.without_alerts_ns = None;
    }
    memory.compiled.as_ref().map(|(_, compiled)| compiled).ok_or_else(String::new)
}

/// Judges one rule up to now, from where it stands or, where late events came, from before them. Whether what came since is
/// judged with it.
async fn judge(
    reading: &Arc<Reading>,
    rule: &Rule,
    contacts: &[Contact],
    memory: &mut Memory,
    (sources, again, shared): (&mut Sources, &mut Again, &mut Shared),
) -> Result<bool> {
    let touched_ns = memory.touched_ns.unwrap_or(i64::MAX);
    let compiled = match compiled(reading, rule, memory) {
        Ok(compiled) => compiled.clone(),
        Err(note) => {
            fail(reading, rule, &note).await?;
            return Ok(false);
        }
    };
    let step_ns = compiled.step_ns;
    // What another node acknowledged since the last look is not seen yet, and not judged.
    let now_ns = reading.base.nodes.seen_until((reading.base.clock)());
    let until_ns = compiled.judged_until(now_ns);
    let judged_ns = rule.judged_ns.unwrap_or(rule.since_ns);
    if judged_ns > until_ns.saturating_add(AHEAD_NS) {
        return take_back(reading, rule, &compiled, now_ns).await;
    }
    // What the document was before is not judged by what it is now.
    let touched_ns = touched_ns.max(rule.changed_ns);
    let began = Instant::now();
    // Without room to go back it goes on, and back at a later turn.
    let turn = match compiled.turn(judged_ns, touched_ns, now_ns) {
        Some(turn) if turn.again && !again.has_room(began) => compiled.turn(judged_ns, i64::MAX, now_ns),
        turn => turn,
    };
    let Some(turn) = turn else {
        return Ok(memory.touched_ns.is_some_and(|at| at >= judged_ns));
    };
    memory.rings.forget_from(turn.touched_ns, step_ns);

    let mut known = Vec::new();
    if memory.without_alerts_ns.is_none_or(|from_ns| turn.from_ns < from_ns) {
        known = reading.base.store.alerts_since(rule.id, turn.from_ns).await?;
        known.retain(|alert| alert.revision == rule.revision);
    }
    let stood: Vec<Stood> = known.iter().map(stood_of).collect();
    let standings =
        if turn.again { stood_at(&compiled, &stood, turn.from_ns) } else { standings(reading, rule).await? };
    let scope = shared.scope_of(reading, rule).await?;
    if scope.reads_nothing() {
        // Judged over nothing, a silence would be raised and all else be quiet for ever.
        fail(reading, rule, NO_RIGHTS).await?;
        return Ok(false);
    }
    if memory.scope != scope.key() {
        // What was counted for other rights is not what may be read now.
        (memory.scope, memory.rings, memory.usual) = (scope.key(), Rings::default(), <_>::default());
    }
    let read = read(reading, rule, (compiled.clone(), scope.clone()), turn.moments, memory).await?;
    if let Some(why) = read.incomplete {
        fail(reading, rule, &why).await?;
        return Ok(false);
    }
    let blind_ns = sources.silent_since(reading, scope, &compiled).await;
    let mutes = rule.mutes.iter().filter(|mute| mute.until_ns > now_ns).map(|mute| mute.filter.as_str());
    let mutes = Mutes::new(&compiled, mutes, &stood);
    let walked = walk_all(&compiled, &turn, &read, standings, blind_ns, &mutes);
    let settled = settle(&stood, &walked.found, (turn.from_ns, turn.until_ns), &compiled.bound);
    let until_ns = turn.until_ns;
    let contacts = &crate::notify::hearers(rule, contacts);
    let changing = Changing { reading, rule, compiled: &compiled, contacts, judged_before_ns: judged_ns };
    let changes = changing.changes(&known, &settled).await?;
    let state = walked.groups.iter().map(|group| group.state).max_by_key(|state| *state == RuleState::Raised);
    let state = state.unwrap_or(RuleState::Quiet);
    let since = walked.groups.iter().filter(|group| group.state == state).map(|group| group.since_ns).min();
    let quiet_since_ns = if rule.state == RuleState::Quiet { rule.since_ns } else { until_ns };
    let (condition, note) = condition_of(&read, blind_ns);
    let judgement = Judgement {
        rule_id: rule.id,
        revision: rule.revision,
        judged_before_ns: rule.judged_ns,
        state,
        since_ns: since.unwrap_or(quiet_since_ns),
        judged_ns: until_ns,
        value: walked.value,
        condition,
        note: read.capped.unwrap_or(note),
        groups: walked.groups,
        changes,
    };
    memory.without_alerts_ns = (known.is_empty() && judgement.changes.is_empty()).then_some(turn.from_ns);
    shared.commit(reading, rule, judgement).await?;
    if turn.again {
        again.took(began.elapsed());
    }
    Ok(turn.again || memory.touched_ns.is_none_or(|at| at >= judged_ns))
}

/// What a rule suffers from, and in words.
fn condition_of(read: &Strips, blind_ns: Option<i64>) -> (Option<RuleCondition>, String) {
    match blind_ns {
        _ if read.learning => (Some(RuleCondition::Learning), "too little has come to judge by".to_owned()),
        Some(at_ns) => {
            let note =
                format!("nothing has come of what it judges since {}; what is raised stays so", format_utc(at_ns, 0));
            (Some(RuleCondition::Blind), note)
        }
        None => (None, String::new()),
    }
}

/// Reads the rule's values as its owner sees them.
async fn read(
    reading: &Arc<Reading>,
    rule: &Rule,
    (compiled, scope): (Compiled, ReadScope),
    moments: Moments,
    memory: &mut Memory,
) -> Result<Strips> {
    let mut known = Known::default();
    if matches!(compiled.form, Form::ErrorGroups { .. }) {
        known = rehearse::known(reading).await?;
    }
    let now_ns = (reading.base.clock)();
    if compiled.usual_key(&memory.scope).is_some() && now_ns - memory.usual.0 >= USUAL_AGAIN_NS {
        memory.usual = (now_ns, usual::kept(&reading.base, rule.id, &compiled, &memory.scope).await?);
    }
    known.usual = memory.usual.1.clone();
    let mut rings = std::mem::take(&mut memory.rings);
    let (read, rings) = run_for_rules(reading, scope, move |scope| {
        let read = strips(scope, &compiled, moments, &known, &mut rings);
        (read, rings)
    })
    .await?;
    memory.rings = rings;
    Ok(read)
}

/// Where the groups that are not quiet stand, as the last judgement left them.
async fn standings(reading: &Reading, rule: &Rule) -> Result<Standings> {
    if rule.state == RuleState::Quiet {
        return Ok(Standings::new());
    }
    let groups = reading.base.store.rule_groups(rule.id).await?;
    let standing = |g: RuleGroup| (g.hash, (g.name, Standing { state: g.state, since_ns: g.since_ns }));
    Ok(groups.into_iter().map(standing).collect())
}

/// Takes back judgements that lie ahead of the clock, which was set back since: else the rule would be blind until then.
/// The database's clock decides; alerts that were raised in the time to come end now.
async fn take_back(reading: &Arc<Reading>, rule: &Rule, compiled: &Compiled, now_ns: i64) -> Result<bool> {
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
    let contacts = reading.base.store.contacts().await?;
    let mut changes = Vec::new();
    for mut alert in open.into_iter().filter(|a| a.raised_ns > until_ns && a.ended_ns.is_none()) {
        for group in alert.groups.iter_mut().filter(|group| group.ended_ns.is_none()) {
            group.ended_ns = Some(group.raised_ns.max(present_ns));
        }
        let ended_ns = Some(alert.raised_ns.max(present_ns));
        let alert = Alert { ended_ns, closed: Some(Closed::TakenBack), ..alert };
        // Whoever was not notified that it began is not notified that it ended.
        let sent = reading.base.store.outbox_of(alert.id).await?;
        let notify = Notice::new(rule, compiled, &alert, AlertMove::Ended).to_all_of(&reading.base, &contacts, &sent);
        changes.push(AlertChange::Update { notify, alert });
    }
    let judgement = Judgement {
        rule_id: rule.id,
        revision: rule.revision,
        judged_before_ns: rule.judged_ns,
        state: RuleState::Quiet,
        since_ns: until_ns,
        judged_ns: until_ns,
        value: None,
        condition: None,
        note: note.clone(),
        groups: Vec::new(),
        changes,
    };
    reading.base.store.commit_judgement(&reading.base.claim, &judgement).await?;
    let act = reading.base.act("calvex serve", "take back judgement", format!("{}: {note}", rule.name));
    reading.base.store.audit(&act).await?;
    Ok(true)
}

/// Records that a rule cannot be judged, and why; what is raised stays so.
async fn fail(reading: &Arc<Reading>, rule: &Rule, note: &str) -> Result<()> {
    if rule.condition == Some(RuleCondition::Failing) && rule.note == note {
        return Ok(());
    }
    let judgement = Judgement {
        rule_id: rule.id,
        revision: rule.revision,
        judged_before_ns: rule.judged_ns,
        state: rule.state,
        since_ns: rule.since_ns,
        judged_ns: rule.judged_ns.unwrap_or(rule.since_ns),
        value: rule.value,
        condition: Some(RuleCondition::Failing),
        note: note.to_owned(),
        groups: reading.base.store.rule_groups(rule.id).await?,
        changes: Vec::new(),
    };
    reading.base.store.commit_judgement(&reading.base.claim, &judgement).await?;
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn going_back_takes_a_quarter_of_the_time() {
        let start = Instant::now();
        let s = Duration::from_secs;
        let mut again = Again { spent: Duration::ZERO, at: start };
        assert!(again.has_room(start));
        again.took(s(3));
        assert!(!again.has_room(start));
        assert!(!again.has_room(start + s(4)), "one second of three is paid back, two are the most");
        assert!(again.has_room(start + s(5)));
    }
}
