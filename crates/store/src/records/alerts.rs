//! Rules, their standing, alerts and the outbox. A judgement's state, cursor, alerts and notifications are one commit.

use super::{Act, named, record};
use crate::{Claim, Result, Store, StoreError, sql};
use calvex_language::domain::access::Role;
use calvex_language::domain::rule::{
    Alert, AlertChange, AlertGroup, AlertMove, Contact, Judgement, Mute, Notification, NotifyBy, Rule, RuleGroup,
    RuleState,
};
use sqlx::Row;

impl Store {
    /// Makes a rule; it is on at once.
    ///
    /// # Errors
    /// [`StoreError::Taken`].
    pub async fn add_rule(&self, rule: &Rule, act: &Act<'_>) -> Result<u32> {
        let mut tx = self.pool.begin().await?;
        let added = sqlx::query(sql::RULE_ADD)
            .bind(&rule.name)
            .bind(&rule.document)
            .bind(&rule.webhook)
            .bind(&rule.webhook_secret)
            .bind(&rule.mail)
            .bind(rule.owner_id)
            .bind(rule.since_ns)
            .execute(&mut *tx)
            .await
            .map_err(StoreError::taken("the rule's name"))?;
        record(&mut tx, act).await?;
        tx.commit().await?;
        Ok(added.last_insert_id() as u32)
    }

    /// Every rule.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn rules(&self) -> Result<Vec<Rule>> {
        let rows = sqlx::query(sql::RULE_ALL).fetch_all(&self.pool).await?;
        let rule = |r: &sqlx::mysql::MySqlRow| {
            Ok(Rule {
                id: r.try_get(0)?,
                name: r.try_get(1)?,
                document: r.try_get(2)?,
                revision: r.try_get(3)?,
                webhook: r.try_get(4)?,
                webhook_secret: r.try_get(5)?,
                mail: r.try_get(6)?,
                owner_id: r.try_get(7)?,
                owner: r.try_get(8)?,
                owner_role: named("role", r.try_get(9)?, Role::from_name)?,
                state: named("state of a rule", r.try_get(10)?, RuleState::from_name)?,
                since_ns: r.try_get(11)?,
                judged_ns: r.try_get(12)?,
                value: r.try_get(13)?,
                note: r.try_get(14)?,
                mute: match r.try_get::<Option<i64>, _>(15)? {
                    Some(until_ns) => Some(Mute {
                        until_ns,
                        by: r.try_get::<Option<String>, _>(16)?.unwrap_or_default(),
                        why: r.try_get::<Option<String>, _>(17)?.unwrap_or_default(),
                    }),
                    None => None,
                },
            })
        };
        rows.iter().map(rule).collect()
    }

    /// Gives a rule another document; it is quiet and judged from `since_ns` on, and what it had raised ends. `false` where
    /// there is no rule of that name.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn change_rule(&self, name: &str, document: &str, since_ns: i64, act: &Act<'_>) -> Result<bool> {
        let mut tx = self.pool.begin().await?;
        let Some(id) = sqlx::query_scalar::<_, u32>(sql::RULE_ID).bind(name).fetch_optional(&mut *tx).await? else {
            return Ok(false);
        };
        sqlx::query(sql::RULE_CHANGE).bind(document).bind(since_ns).bind(name).execute(&mut *tx).await?;
        sqlx::query(sql::RULE_GROUPS_CLEAR).bind(id).execute(&mut *tx).await?;
        sqlx::query(sql::ALERT_GROUPS_END_OF_RULE).bind(since_ns).bind(id).execute(&mut *tx).await?;
        sqlx::query(sql::ALERTS_END_OF_RULE).bind(since_ns).bind(id).execute(&mut *tx).await?;
        record(&mut tx, act).await?;
        tx.commit().await?;
        Ok(true)
    }

    /// Keeps a rule from notifying until a time, or lets it again.
    ///
    /// # Errors
    /// [`StoreError::Missing`].
    pub async fn mute_rule(&self, id: u32, mute: Option<&Mute>, act: &Act<'_>) -> Result<()> {
        let mut tx = self.pool.begin().await?;
        let known: Option<Option<i64>> = sqlx::query_as::<_, (Option<i64>, u32)>(sql::RULE_JUDGED)
            .bind(id)
            .fetch_optional(&mut *tx)
            .await?
            .map(|r| r.0);
        if known.is_none() {
            return Err(StoreError::Missing(format!("rule {id}")));
        }
        sqlx::query(sql::RULE_MUTE)
            .bind(mute.map(|mute| mute.until_ns))
            .bind(mute.map(|mute| &mute.by))
            .bind(mute.map(|mute| &mute.why))
            .bind(id)
            .execute(&mut *tx)
            .await?;
        record(&mut tx, act).await?;
        tx.commit().await?;
        Ok(())
    }

    /// The groups of a rule that are not quiet.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn rule_groups(&self, rule_id: u32) -> Result<Vec<RuleGroup>> {
        let rows = sqlx::query(sql::RULE_GROUPS).bind(rule_id).fetch_all(&self.pool).await?;
        let group = |r: &sqlx::mysql::MySqlRow| {
            Ok(RuleGroup {
                hash: r.try_get(0)?,
                name: r.try_get(1)?,
                state: named("state of a group", r.try_get(2)?, RuleState::from_name)?,
                since_ns: r.try_get(3)?,
                value: r.try_get(4)?,
            })
        };
        rows.iter().map(group).collect()
    }

    /// Whom rules may notify.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn contacts(&self) -> Result<Vec<Contact>> {
        let rows = sqlx::query(sql::CONTACT_ALL).fetch_all(&self.pool).await?;
        let contact = |r: &sqlx::mysql::MySqlRow| {
            Ok(Contact {
                name: r.try_get(0)?,
                webhook: r.try_get(1)?,
                webhook_secret: r.try_get(2)?,
                mail: r.try_get(3)?,
            })
        };
        rows.iter().map(contact).collect()
    }

    /// Makes a contact, or changes it.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn put_contact(&self, contact: &Contact, act: &Act<'_>) -> Result<()> {
        let mut tx = self.pool.begin().await?;
        sqlx::query(sql::CONTACT_PUT)
            .bind(&contact.name)
            .bind(&contact.webhook)
            .bind(&contact.webhook_secret)
            .bind(&contact.mail)
            .bind(act.at_ns)
            .execute(&mut *tx)
            .await?;
        record(&mut tx, act).await?;
        tx.commit().await?;
        Ok(())
    }

    /// Removes a contact; rules that name it notify it no more.
    ///
    /// # Errors
    /// [`StoreError::Missing`].
    pub async fn remove_contact(&self, name: &str, act: &Act<'_>) -> Result<()> {
        let mut tx = self.pool.begin().await?;
        let done = sqlx::query(sql::CONTACT_REMOVE).bind(name).execute(&mut *tx).await?;
        if done.rows_affected() == 0 {
            return Err(StoreError::Missing(format!("contact {name}")));
        }
        record(&mut tx, act).await?;
        tx.commit().await?;
        Ok(())
    }

    /// Removes a rule with its history.
    ///
    /// # Errors
    /// [`StoreError::Missing`].
    pub async fn remove_rule(&self, id: u32, act: &Act<'_>) -> Result<()> {
        let mut tx = self.pool.begin().await?;
        let done = sqlx::query(sql::RULE_REMOVE).bind(id).execute(&mut *tx).await?;
        if done.rows_affected() == 0 {
            return Err(StoreError::Missing(format!("rule {id}")));
        }
        record(&mut tx, act).await?;
        tx.commit().await?;
        Ok(())
    }

    /// Alerts of a rule raised or ended at or after `from_ns`, in order.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn alerts_since(&self, rule_id: u32, from_ns: i64) -> Result<Vec<Alert>> {
        let rows = sqlx::query(sql::ALERTS_OF_RULE).bind(rule_id).bind(from_ns).fetch_all(&self.pool).await?;
        self.with_groups(rows.iter().map(alert).collect::<Result<_>>()?).await
    }

    /// The latest alerts of all rules.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn latest_alerts(&self, limit: u32) -> Result<Vec<Alert>> {
        let rows = sqlx::query(sql::ALERTS_LATEST).bind(limit).fetch_all(&self.pool).await?;
        self.with_groups(rows.iter().map(alert).collect::<Result<_>>()?).await
    }

    async fn with_groups(&self, mut alerts: Vec<Alert>) -> Result<Vec<Alert>> {
        for alert in &mut alerts {
            let rows = sqlx::query(sql::ALERT_GROUPS).bind(alert.id).fetch_all(&self.pool).await?;
            let group = |r: &sqlx::mysql::MySqlRow| {
                Ok(AlertGroup {
                    hash: r.try_get(0)?,
                    name: r.try_get(1)?,
                    raised_ns: r.try_get(2)?,
                    ended_ns: r.try_get(3)?,
                    peak: r.try_get(4)?,
                    withdrawn: r.try_get(5)?,
                })
            };
            alert.groups = rows.iter().map(group).collect::<Result<_>>()?;
        }
        Ok(alerts)
    }

    /// A person takes an alert on.
    ///
    /// # Errors
    /// [`StoreError::Missing`].
    pub async fn take_alert(&self, id: u32, who: &str, act: &Act<'_>) -> Result<()> {
        let mut tx = self.pool.begin().await?;
        let done = sqlx::query(sql::ALERT_TAKE).bind(who).bind(id).execute(&mut *tx).await?;
        if done.rows_affected() == 0 {
            return Err(StoreError::Missing(format!("alert {id} not yet taken by {who}")));
        }
        record(&mut tx, act).await?;
        tx.commit().await?;
        Ok(())
    }

    /// Commits a judgement whole; `false` where another judged in between and nothing was written.
    ///
    /// # Errors
    /// [`StoreError::Fenced`].
    pub async fn commit_judgement(&self, claim: &Claim, judgement: &Judgement, now_ns: i64) -> Result<bool> {
        let mut tx = self.pool.begin().await?;
        self.fence_work(&mut tx, claim).await?;
        let standing: Option<(Option<i64>, u32)> =
            sqlx::query_as(sql::RULE_JUDGED).bind(judgement.rule_id).fetch_optional(&mut *tx).await?;
        if standing != Some((judgement.judged_before_ns, judgement.revision)) {
            return Ok(false);
        }
        sqlx::query(sql::RULE_JUDGE)
            .bind(judgement.state.name())
            .bind(judgement.since_ns)
            .bind(judgement.judged_ns)
            .bind(judgement.value)
            .bind(&judgement.note)
            .bind(judgement.rule_id)
            .execute(&mut *tx)
            .await?;
        sqlx::query(sql::RULE_GROUPS_CLEAR).bind(judgement.rule_id).execute(&mut *tx).await?;
        for group in &judgement.groups {
            sqlx::query(sql::RULE_GROUP_ADD)
                .bind(judgement.rule_id)
                .bind(group.hash)
                .bind(&group.name)
                .bind(group.state.name())
                .bind(group.since_ns)
                .bind(group.value)
                .execute(&mut *tx)
                .await?;
        }
        for change in &judgement.changes {
            let (id, groups, notify) = match change {
                AlertChange::Raise { alert, notify } => {
                    let added = sqlx::query(sql::ALERT_ADD)
                        .bind(alert.rule_id)
                        .bind(alert.raised_ns)
                        .bind(alert.ended_ns)
                        .bind(alert.peak)
                        .bind(alert.late)
                        .bind(judgement.revision)
                        .bind(alert.withdrawn)
                        .bind(&alert.explanation)
                        .bind(alert.muted)
                        .execute(&mut *tx)
                        .await?;
                    (added.last_insert_id() as u32, &alert.groups, notify)
                }
                AlertChange::Update { alert, notify } => {
                    sqlx::query(sql::ALERT_UPDATE)
                        .bind(alert.raised_ns)
                        .bind(alert.ended_ns)
                        .bind(alert.peak)
                        .bind(alert.withdrawn)
                        .bind(alert.muted)
                        .bind(alert.id)
                        .execute(&mut *tx)
                        .await?;
                    (alert.id, &alert.groups, notify)
                }
            };
            sqlx::query(sql::ALERT_GROUPS_CLEAR).bind(id).execute(&mut *tx).await?;
            for group in groups {
                sqlx::query(sql::ALERT_GROUP_ADD)
                    .bind(id)
                    .bind(group.hash)
                    .bind(group.raised_ns)
                    .bind(&group.name)
                    .bind(group.ended_ns)
                    .bind(group.peak)
                    .bind(group.withdrawn)
                    .execute(&mut *tx)
                    .await?;
            }
            for message in notify {
                sqlx::query(sql::OUTBOX_ADD)
                    .bind(id)
                    .bind(message.by.name())
                    .bind(message.what.name())
                    .bind(&message.target)
                    .bind(&message.secret)
                    .bind(&message.payload)
                    .bind(now_ns)
                    .execute(&mut *tx)
                    .await?;
            }
        }
        tx.commit().await?;
        Ok(true)
    }

    /// Notifications that are due.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn outbox_due(&self, now_ns: i64) -> Result<Vec<Notification>> {
        let rows = sqlx::query(sql::OUTBOX_DUE).bind(now_ns).fetch_all(&self.pool).await?;
        rows.iter().map(message).collect()
    }

    /// Every notification of an alert.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn outbox_of(&self, alert_id: u32) -> Result<Vec<Notification>> {
        let rows = sqlx::query(sql::OUTBOX_OF_ALERT).bind(alert_id).fetch_all(&self.pool).await?;
        rows.iter().map(message).collect()
    }

    /// Marks a notification as delivered.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn outbox_done(&self, id: u64, now_ns: i64) -> Result<()> {
        sqlx::query(sql::OUTBOX_DONE).bind(now_ns).bind(id).execute(&self.pool).await?;
        Ok(())
    }

    /// Notes a failed delivery and when to try again.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn outbox_retry(&self, id: u64, error: &str, next_ns: i64) -> Result<()> {
        sqlx::query(sql::OUTBOX_RETRY).bind(error).bind(next_ns).bind(id).execute(&self.pool).await?;
        Ok(())
    }
}

fn alert(r: &sqlx::mysql::MySqlRow) -> Result<Alert> {
    Ok(Alert {
        id: r.try_get(0)?,
        rule_id: r.try_get(1)?,
        raised_ns: r.try_get(2)?,
        ended_ns: r.try_get(3)?,
        peak: r.try_get(4)?,
        late: r.try_get(5)?,
        taken_by: r.try_get(6)?,
        revision: r.try_get(7)?,
        withdrawn: r.try_get(8)?,
        explanation: r.try_get(9)?,
        muted: r.try_get(10)?,
        groups: Vec::new(),
    })
}

fn message(r: &sqlx::mysql::MySqlRow) -> Result<Notification> {
    Ok(Notification {
        id: r.try_get(0)?,
        alert_id: r.try_get(1)?,
        by: named("way of notifying", r.try_get(2)?, NotifyBy::from_name)?,
        what: named("move of an alert", r.try_get(3)?, AlertMove::from_name)?,
        target: r.try_get(4)?,
        secret: r.try_get(5)?,
        payload: r.try_get(6)?,
        tries: r.try_get(7)?,
        done_ns: r.try_get(8)?,
        error: r.try_get(9)?,
    })
}
