//! Rules, their standing, alerts and the outbox. A judgement's state, cursor, alerts and notifications are one commit.

use super::{Act, named, record};
use crate::{Claim, Result, Store, StoreError, sql};
use calvex_language::domain::access::Role;
use calvex_language::domain::rule::{
    Alert, AlertChange, AlertMove, Judgement, Notification, NotifyBy, Rule, RuleState,
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
            .bind(&rule.query)
            .bind(rule.window_s)
            .bind(rule.above)
            .bind(rule.hold_s)
            .bind(rule.delay_s)
            .bind(rule.late_s)
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
                query: r.try_get(2)?,
                window_s: r.try_get(3)?,
                above: r.try_get(4)?,
                hold_s: r.try_get(5)?,
                delay_s: r.try_get(6)?,
                late_s: r.try_get(7)?,
                webhook: r.try_get(8)?,
                webhook_secret: r.try_get(9)?,
                mail: r.try_get(10)?,
                owner_id: r.try_get(11)?,
                owner: r.try_get(12)?,
                owner_role: named("role", r.try_get(13)?, Role::from_name)?,
                state: named("state of a rule", r.try_get(14)?, RuleState::from_name)?,
                since_ns: r.try_get(15)?,
                judged_ns: r.try_get(16)?,
                count: r.try_get(17)?,
                note: r.try_get(18)?,
            })
        };
        rows.iter().map(rule).collect()
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
        rows.iter().map(alert).collect()
    }

    /// The latest alerts of all rules.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn latest_alerts(&self, limit: u32) -> Result<Vec<Alert>> {
        let rows = sqlx::query(sql::ALERTS_LATEST).bind(limit).fetch_all(&self.pool).await?;
        rows.iter().map(alert).collect()
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
        let standing: Option<Option<i64>> =
            sqlx::query_scalar(sql::RULE_JUDGED).bind(judgement.rule_id).fetch_optional(&mut *tx).await?;
        if standing != Some(judgement.judged_before_ns) {
            return Ok(false);
        }
        sqlx::query(sql::RULE_JUDGE)
            .bind(judgement.state.name())
            .bind(judgement.since_ns)
            .bind(judgement.judged_ns)
            .bind(judgement.count)
            .bind(&judgement.note)
            .bind(judgement.rule_id)
            .execute(&mut *tx)
            .await?;
        for change in &judgement.changes {
            let (id, notify) = match change {
                AlertChange::Raise { alert, notify } => {
                    let added = sqlx::query(sql::ALERT_ADD)
                        .bind(alert.rule_id)
                        .bind(alert.raised_ns)
                        .bind(alert.ended_ns)
                        .bind(alert.peak)
                        .bind(alert.late)
                        .execute(&mut *tx)
                        .await?;
                    (added.last_insert_id() as u32, notify)
                }
                AlertChange::Update { alert, notify } => {
                    sqlx::query(sql::ALERT_UPDATE)
                        .bind(alert.raised_ns)
                        .bind(alert.ended_ns)
                        .bind(alert.peak)
                        .bind(alert.id)
                        .execute(&mut *tx)
                        .await?;
                    (alert.id, notify)
                }
            };
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
