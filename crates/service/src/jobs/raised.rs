//! What a judgement makes of a rule's alerts, and whom that notifies.

use crate::notify::Notice;
use calvex_answer::watch::{GroupRaising, Raising, Rule as Compiled, Stood};
use calvex_language::domain::contact::{AlertMove, Contact};
use calvex_language::domain::rule::{Alert, AlertChange, AlertGroup, Rule};
use calvex_node::answer::explain;
use calvex_node::error::Result;
use calvex_node::state::Reading;
use std::sync::Arc;

/// Groups of an alert that are kept.
const MAX_ALERT_GROUPS: usize = 5_000;

/// An alert as the engine sees it.
pub(super) fn stood_of(alert: &Alert) -> Stood {
    let group = |g: &AlertGroup| GroupRaising {
        hash: g.hash,
        name: g.name.clone(),
        raising: Raising { raised_ns: g.raised_ns, ended_ns: g.ended_ns, worst: g.peak.unwrap_or(f64::NAN) },
        withdrawn: g.withdrawn,
        muted: g.muted,
    };
    Stood { groups: alert.groups.iter().map(group).collect(), known: None }
}

/// What a judgement changes, and whom it notifies.
pub(super) struct Changing<'a> {
    pub reading: &'a Arc<Reading>,
    pub rule: &'a Rule,
    pub compiled: &'a Compiled,
    pub contacts: &'a [Contact],
    /// How far the rule was judged before.
    pub judged_before_ns: i64,
}

impl Changing<'_> {
    /// The changes of alerts that moved. What was raised and ended since the last judgement is one message.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn changes(&self, known: &[Alert], settled: &[Stood]) -> Result<Vec<AlertChange>> {
        let mut changes = Vec::with_capacity(settled.len());
        let is_over = |alert: &Alert| alert.ended_ns.is_some() && !alert.muted && !alert.withdrawn;
        let mut meanwhile: Vec<(i64, i64)> = Vec::new();
        for stood in settled {
            let before = stood.known.and_then(|n| known.get(n));
            let alert = self.alert_of(before, stood);
            match before {
                None => {
                    meanwhile.extend(alert.ended_ns.filter(|_| is_over(&alert)).map(|end| (alert.raised_ns, end)));
                    changes.push(AlertChange::Raise { alert, notify: Vec::new() });
                }
                Some(before) => {
                    let explanation = self.explained_again(before, &alert).await;
                    let explanation = explanation.or(alert.explanation.clone());
                    changes.push(self.update(before, Alert { explanation, ..alert }).await?);
                }
            }
        }
        let last = changes.iter().rposition(|c| matches!(c, AlertChange::Raise { alert, .. } if is_over(alert)));
        for (n, change) in changes.iter_mut().enumerate() {
            let AlertChange::Raise { alert, notify } = change else { continue };
            if is_over(alert) && last != Some(n) {
                continue;
            }
            alert.explanation =
                explain::explanation(self.reading, self.rule, self.compiled, (alert.raised_ns, &alert.groups)).await;
            if !alert.muted {
                let of = if is_over(alert) { meanwhile.as_slice() } else { &[] };
                *notify = self.notice(alert, AlertMove::Raised, of).at_first(&self.reading.base, self.contacts);
            }
        }
        Ok(changes)
    }

    /// The explanation of an alert that was raised over what had come by then: more came since.
    async fn explained_again(&self, before: &Alert, alert: &Alert) -> Option<String> {
        let moved = before.raised_ns != alert.raised_ns || before.peak != alert.peak;
        if !alert.late || !moved || alert.withdrawn {
            return None;
        }
        explain::explanation(self.reading, self.rule, self.compiled, (alert.raised_ns, &alert.groups)).await
    }

    fn notice<'a>(&'a self, alert: &'a Alert, what: AlertMove, meanwhile: &'a [(i64, i64)]) -> Notice<'a> {
        Notice { meanwhile, ..Notice::new(self.rule, self.compiled, alert, what) }
    }

    fn alert_of(&self, before: Option<&Alert>, stood: &Stood) -> Alert {
        let raising = stood.raising(&self.compiled.bound);
        let number = |value: f64| value.is_finite().then_some(value);
        let group = |g: &GroupRaising| AlertGroup {
            hash: g.hash,
            name: g.name.clone(),
            raised_ns: g.raising.raised_ns,
            ended_ns: g.raising.ended_ns,
            peak: number(g.raising.worst),
            withdrawn: g.withdrawn,
            muted: g.muted,
        };
        let groups: Vec<AlertGroup> = stood.groups.iter().map(group).take(MAX_ALERT_GROUPS).collect();
        // One that was muted as it was raised stays so until a group of it that lasts is not muted any more.
        let lasts = |g: &&AlertGroup| !g.withdrawn && (g.ended_ns.is_none() || before.is_none());
        let muted = groups.iter().filter(lasts).all(|group| group.muted);
        Alert {
            id: before.map_or(0, |alert| alert.id),
            rule_id: self.rule.id,
            raised_ns: raising.raised_ns,
            ended_ns: raising.ended_ns,
            peak: number(raising.worst),
            late: before.map_or(raising.raised_ns <= self.judged_before_ns, |alert| alert.late),
            taken_by: before.and_then(|alert| alert.taken_by.clone()),
            revision: self.rule.revision,
            withdrawn: stood.is_withdrawn(),
            muted: muted && before.is_none_or(|alert| alert.muted),
            closed: before.and_then(|alert| alert.closed),
            explanation: before.and_then(|alert| alert.explanation.clone()),
            groups,
        }
    }

    async fn update(&self, before: &Alert, alert: Alert) -> Result<AlertChange> {
        let base = &self.reading.base;
        // Whoever was not notified that it began is not notified that it ended.
        let what = if before.muted {
            (!alert.muted).then_some(AlertMove::Raised)
        } else if alert.withdrawn && !before.withdrawn {
            Some(AlertMove::Withdrawn)
        } else if before.ended_ns.is_none() && alert.ended_ns.is_some() {
            Some(AlertMove::Ended)
        } else if before.ended_ns.is_some() && alert.ended_ns.is_none() {
            // It goes on after all.
            Some(AlertMove::Raised)
        } else {
            None
        };
        let Some(what) = what else { return Ok(AlertChange::Update { alert, notify: Vec::new() }) };
        let notes = base.store.alert_notes(alert.id).await?;
        let notice = Notice { notes: &notes, ..self.notice(&alert, what, &[]) };
        let notify = if before.muted {
            notice.at_first(base, self.contacts)
        } else {
            notice.to_all_of(base, self.contacts, &base.store.outbox_of(alert.id).await?)
        };
        Ok(AlertChange::Update { alert, notify })
    }
}
