//! Rules, their standing, alerts and the outbox. A judgement's state, cursor, alerts and notifications are one commit.

use super::{Act, record};
use crate::{Claim, Result, Store, StoreError};
use sqlx::Row;

/// A rule with its standing.
#[derive(Debug, Clone, PartialEq, Eq)]
#[allow(missing_docs)]
pub struct RuleRow {
    pub id: u32,
    pub name: String,
    pub query: String,
    pub window_s: u32,
    pub above: u64,
    pub hold_s: u32,
    pub delay_s: u32,
    pub late_s: u32,
    pub webhook: Option<String>,
    pub webhook_secret: Option<String>,
    pub mail: Option<String>,
    pub owner_id: u32,
    pub owner: String,
    pub owner_role: String,
    pub state: String,
    pub since_ns: i64,
    pub judged_ns: Option<i64>,
    pub count: u64,
    pub note: String,
}

/// One raising of a rule.
#[derive(Debug, Clone, PartialEq, Eq)]
#[allow(missing_docs)]
pub struct AlertRow {
    pub id: u32,
    pub rule_id: u32,
    pub raised_ns: i64,
    pub ended_ns: Option<i64>,
    pub peak: u64,
    pub late: bool,
    pub taken_by: Option<String>,
}

/// A notification.
#[derive(Debug, Clone, PartialEq, Eq)]
#[allow(missing_docs)]
pub struct OutboxRow {
    pub id: u64,
    pub alert_id: u32,
    pub kind: String,
    pub what: String,
    pub target: String,
    pub secret: Option<String>,
    pub payload: String,
    pub tries: u32,
    pub done_ns: Option<i64>,
    pub error: String,
}

/// What a judgement does to one alert.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum AlertChange {
    /// A new one, with its notifications.
    Raise {
        /// The alert; its id is given here.
        alert: AlertRow,
        /// To be sent.
        notify: Vec<OutboxRow>,
    },
    /// An existing one moves.
    Update {
        /// As it stands now.
        alert: AlertRow,
        /// To be sent.
        notify: Vec<OutboxRow>,
    },
}

/// A judgement to be committed.
#[derive(Debug, Clone)]
#[allow(missing_docs)]
pub struct Judgement {
    pub rule_id: u32,
    /// The cursor read when the judgement began; it commits only if that still stands.
    pub judged_before_ns: Option<i64>,
    pub state: String,
    pub since_ns: i64,
    pub judged_ns: i64,
    pub count: u64,
    pub note: String,
    pub changes: Vec<AlertChange>,
}

impl Store {
    /// Makes a rule; it is on at once.
    ///
    /// # Errors
    /// [`StoreError::Taken`].
    pub async fn add_rule(&self, rule: &RuleRow, act: &Act<'_>) -> Result<u32> {
        let mut tx = self.pool.begin().await?;
        let insert = "INSERT INTO rule (name, query, window_s, above, hold_s, delay_s, late_s, webhook, webhook_secret, mail, owner_id, since_ns, note)
                      VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, '')";
        let added = sqlx::query(insert)
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
    pub async fn rules(&self) -> Result<Vec<RuleRow>> {
        let select = "SELECT r.id, r.name, r.query, r.window_s, r.above, r.hold_s, r.delay_s, r.late_s, r.webhook, r.webhook_secret,
                      r.mail, r.owner_id, u.name, u.role, r.state, r.since_ns, r.judged_ns, r.count, r.note
                      FROM rule r JOIN user u ON u.id = r.owner_id ORDER BY r.name";
        let rows = sqlx::query(select).fetch_all(&self.pool).await?;
        let rule = |r: &sqlx::mysql::MySqlRow| {
            Ok(RuleRow {
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
                owner_role: r.try_get(13)?,
                state: r.try_get(14)?,
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
        let done = sqlx::query("DELETE FROM rule WHERE id = ?").bind(id).execute(&mut *tx).await?;
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
    pub async fn alerts_since(&self, rule_id: u32, from_ns: i64) -> Result<Vec<AlertRow>> {
        let select = "SELECT id, rule_id, raised_ns, ended_ns, peak, late, taken_by FROM alert
                      WHERE rule_id = ? AND (ended_ns IS NULL OR ended_ns >= ?) ORDER BY raised_ns";
        let rows = sqlx::query(select).bind(rule_id).bind(from_ns).fetch_all(&self.pool).await?;
        rows.iter().map(alert).collect()
    }

    /// The latest alerts of all rules.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn latest_alerts(&self, limit: u32) -> Result<Vec<AlertRow>> {
        let select = "SELECT id, rule_id, raised_ns, ended_ns, peak, late, taken_by FROM alert ORDER BY raised_ns DESC, id DESC LIMIT ?";
        let rows = sqlx::query(select).bind(limit).fetch_all(&self.pool).await?;
        rows.iter().map(alert).collect()
    }

    /// A person takes an alert on.
    ///
    /// # Errors
    /// [`StoreError::Missing`].
    pub async fn take_alert(&self, id: u32, who: &str, act: &Act<'_>) -> Result<()> {
        let mut tx = self.pool.begin().await?;
        let done =
            sqlx::query("UPDATE alert SET taken_by = ? WHERE id = ?").bind(who).bind(id).execute(&mut *tx).await?;
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
        let standing: Option<Option<i64>> = sqlx::query_scalar("SELECT judged_ns FROM rule WHERE id = ? FOR UPDATE")
            .bind(judgement.rule_id)
            .fetch_optional(&mut *tx)
            .await?;
        if standing != Some(judgement.judged_before_ns) {
            return Ok(false);
        }
        sqlx::query("UPDATE rule SET state = ?, since_ns = ?, judged_ns = ?, count = ?, note = ? WHERE id = ?")
            .bind(&judgement.state)
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
                    let added = sqlx::query(
                        "INSERT INTO alert (rule_id, raised_ns, ended_ns, peak, late) VALUES (?, ?, ?, ?, ?)",
                    )
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
                    sqlx::query("UPDATE alert SET raised_ns = ?, ended_ns = ?, peak = ? WHERE id = ?")
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
                sqlx::query("INSERT INTO outbox (alert_id, kind, what, target, secret, payload, next_ns, error) VALUES (?, ?, ?, ?, ?, ?, ?, '')")
                    .bind(id)
                    .bind(&message.kind)
                    .bind(&message.what)
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
    pub async fn outbox_due(&self, now_ns: i64) -> Result<Vec<OutboxRow>> {
        let select = "SELECT id, alert_id, kind, what, target, secret, payload, tries, done_ns, error FROM outbox
                      WHERE done_ns IS NULL AND next_ns <= ? ORDER BY id LIMIT 100";
        let rows = sqlx::query(select).bind(now_ns).fetch_all(&self.pool).await?;
        rows.iter().map(message).collect()
    }

    /// Every notification of an alert.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn outbox_of(&self, alert_id: u32) -> Result<Vec<OutboxRow>> {
        let select = "SELECT id, alert_id, kind, what, target, secret, payload, tries, done_ns, error FROM outbox WHERE alert_id = ? ORDER BY id";
        let rows = sqlx::query(select).bind(alert_id).fetch_all(&self.pool).await?;
        rows.iter().map(message).collect()
    }

    /// Marks a notification as delivered.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn outbox_done(&self, id: u64, now_ns: i64) -> Result<()> {
        sqlx::query("UPDATE outbox SET done_ns = ?, tries = tries + 1, error = '' WHERE id = ?")
            .bind(now_ns)
            .bind(id)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// Notes a failed delivery and when to try again.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn outbox_retry(&self, id: u64, error: &str, next_ns: i64) -> Result<()> {
        sqlx::query("UPDATE outbox SET tries = tries + 1, error = ?, next_ns = ? WHERE id = ?")
            .bind(error)
            .bind(next_ns)
            .bind(id)
            .execute(&self.pool)
            .await?;
        Ok(())
    }
}

fn alert(r: &sqlx::mysql::MySqlRow) -> Result<AlertRow> {
    Ok(AlertRow {
        id: r.try_get(0)?,
        rule_id: r.try_get(1)?,
        raised_ns: r.try_get(2)?,
        ended_ns: r.try_get(3)?,
        peak: r.try_get(4)?,
        late: r.try_get(5)?,
        taken_by: r.try_get(6)?,
    })
}

fn message(r: &sqlx::mysql::MySqlRow) -> Result<OutboxRow> {
    Ok(OutboxRow {
        id: r.try_get(0)?,
        alert_id: r.try_get(1)?,
        kind: r.try_get(2)?,
        what: r.try_get(3)?,
        target: r.try_get(4)?,
        secret: r.try_get(5)?,
        payload: r.try_get(6)?,
        tries: r.try_get(7)?,
        done_ns: r.try_get(8)?,
        error: r.try_get(9)?,
    })
}
