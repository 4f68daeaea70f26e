//! Alerts with their groups and notes.

use super::rules::ROWS_AT_ONCE;
use super::{Act, record};
use crate::{Result, Store, StoreError, sql};
use calvex_language::domain::rule::{Alert, AlertGroup, AlertNote, Closed};
use sqlx::{MySqlConnection, Row};

/// Notes of an alert at most.
pub const MAX_NOTES: i64 = 200;

/// When an alert was raised and ended.
#[derive(Debug, Clone, PartialEq, Eq)]
#[allow(missing_docs)]
pub struct Raised {
    pub raised_ns: i64,
    pub ended_ns: Option<i64>,
    pub late: bool,
    pub withdrawn: bool,
}

impl Store {
    /// Alerts of a rule raised or ended at or after `from_ns`, in order.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn alerts_since(&self, rule_id: u32, from_ns: i64) -> Result<Vec<Alert>> {
        let rows = sqlx::query(sql::ALERTS_OF_RULE).bind(rule_id).bind(from_ns).fetch_all(&self.pool).await?;
        self.with_groups(rows.iter().map(alert).collect::<Result<_>>()?).await
    }

    /// When a rule was raised since `from_ns`, in order.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn raisings_since(&self, rule_id: u32, from_ns: i64) -> Result<Vec<Raised>> {
        let rows = sqlx::query(sql::ALERT_RAISINGS).bind(rule_id).bind(from_ns).fetch_all(&self.pool).await?;
        let raised = |r: &sqlx::mysql::MySqlRow| {
            let (raised_ns, ended_ns) = (r.try_get(0)?, r.try_get(1)?);
            Ok(Raised { raised_ns, ended_ns, late: r.try_get(2)?, withdrawn: r.try_get(3)? })
        };
        rows.iter().map(raised).collect()
    }

    /// When any rule was raised since `from_ns`, by the rule, the latest first; 5,000 at most.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn all_raisings_since(&self, from_ns: i64) -> Result<Vec<(u32, Raised)>> {
        let rows = sqlx::query(sql::ALERT_RAISINGS_ALL).bind(from_ns).fetch_all(&self.pool).await?;
        let raised = |r: &sqlx::mysql::MySqlRow| {
            let (raised_ns, ended_ns) = (r.try_get(1)?, r.try_get(2)?);
            Ok((r.try_get(0)?, Raised { raised_ns, ended_ns, late: r.try_get(3)?, withdrawn: r.try_get(4)? }))
        };
        rows.iter().map(raised).collect()
    }

    /// Alerts that are raised, that somebody was notified of and that nobody took, with a group that is not muted.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn untaken_alerts(&self) -> Result<Vec<u32>> {
        Ok(sqlx::query_scalar(sql::ALERTS_UNTAKEN).fetch_all(&self.pool).await?)
    }

    /// The latest alerts of all rules, those that are raised first.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn latest_alerts(&self, limit: u32) -> Result<Vec<Alert>> {
        let rows = sqlx::query(sql::ALERTS_LATEST).bind(limit).fetch_all(&self.pool).await?;
        self.with_groups(rows.iter().map(alert).collect::<Result<_>>()?).await
    }

    /// An alert by its id.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn alert(&self, id: u32) -> Result<Option<Alert>> {
        let row = sqlx::query(sql::ALERT_BY_ID).bind(id).fetch_optional(&self.pool).await?;
        let alerts = row.iter().map(alert).collect::<Result<_>>()?;
        Ok(self.with_groups(alerts).await?.pop())
    }

    async fn with_groups(&self, mut alerts: Vec<Alert>) -> Result<Vec<Alert>> {
        let mut connection = self.pool.acquire().await?;
        for alert in &mut alerts {
            alert.groups = groups_of(&mut connection, alert.id).await?;
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

    /// A person writes something down about an alert; `false` where it has its [`MAX_NOTES`] already.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn note_alert(&self, id: u32, text: &str, act: &Act<'_>) -> Result<bool> {
        let mut tx = self.pool.begin().await?;
        let notes: i64 = sqlx::query_scalar(sql::ALERT_NOTE_COUNT).bind(id).fetch_one(&mut *tx).await?;
        if notes >= MAX_NOTES {
            return Ok(false);
        }
        sqlx::query(sql::ALERT_NOTE_ADD)
            .bind(id)
            .bind(act.by.name)
            .bind(act.at_ns)
            .bind(text)
            .execute(&mut *tx)
            .await?;
        record(&mut tx, act).await?;
        tx.commit().await?;
        Ok(true)
    }

    /// What people wrote down about an alert, in order.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn alert_notes(&self, id: u32) -> Result<Vec<AlertNote>> {
        let rows = sqlx::query(sql::ALERT_NOTES).bind(id).fetch_all(&self.pool).await?;
        let note =
            |r: &sqlx::mysql::MySqlRow| Ok(AlertNote { by: r.try_get(0)?, at_ns: r.try_get(1)?, text: r.try_get(2)? });
        rows.iter().map(note).collect()
    }

    /// Forgets alerts that ended before a time, with their messages; 1,000 at most.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn expire_alerts(&self, before_ns: i64) -> Result<u64> {
        Ok(sqlx::query(sql::ALERT_EXPIRE).bind(before_ns).execute(&self.pool).await?.rows_affected())
    }
}

async fn groups_of(connection: &mut MySqlConnection, alert_id: u32) -> Result<Vec<AlertGroup>> {
    let rows = sqlx::query(sql::ALERT_GROUPS).bind(alert_id).fetch_all(connection).await?;
    let group = |r: &sqlx::mysql::MySqlRow| {
        Ok(AlertGroup {
            hash: r.try_get(0)?,
            name: r.try_get(1)?,
            raised_ns: r.try_get(2)?,
            ended_ns: r.try_get(3)?,
            peak: r.try_get(4)?,
            withdrawn: r.try_get(5)?,
            muted: r.try_get(6)?,
        })
    };
    rows.iter().map(group).collect()
}

/// Keeps the groups of an alert; only what changed is written.
pub(super) async fn put_groups(tx: &mut MySqlConnection, alert_id: u32, groups: &[AlertGroup]) -> Result<()> {
    let known = groups_of(tx, alert_id).await?;
    let same = |a: &AlertGroup, b: &AlertGroup| a.hash == b.hash && a.raised_ns == b.raised_ns;
    for gone in known.iter().filter(|known| !groups.iter().any(|group| same(group, known))) {
        let end = sqlx::query(sql::ALERT_GROUP_END).bind(alert_id).bind(gone.hash).bind(gone.raised_ns);
        end.execute(&mut *tx).await?;
    }
    let changed: Vec<&AlertGroup> = groups.iter().filter(|group| !known.contains(group)).collect();
    for rows in changed.chunks(ROWS_AT_ONCE) {
        let mut insert = sqlx::QueryBuilder::<sqlx::MySql>::new(
            "INSERT INTO alert_group (alert_id, group_hash, raised_ns, name, ended_ns, peak, withdrawn, muted) ",
        );
        insert.push_values(rows, |mut row, group| {
            row.push_bind(alert_id)
                .push_bind(group.hash)
                .push_bind(group.raised_ns)
                .push_bind(&group.name)
                .push_bind(group.ended_ns)
                .push_bind(group.peak)
                .push_bind(group.withdrawn)
                .push_bind(group.muted);
        });
        insert.push(
            " ON DUPLICATE KEY UPDATE ended_ns = VALUES(ended_ns), peak = VALUES(peak), withdrawn = VALUES(withdrawn), \
             muted = VALUES(muted)",
        );
        insert.build().execute(&mut *tx).await?;
    }
    Ok(())
}

fn alert(r: &sqlx::mysql::MySqlRow) -> Result<Alert> {
    let closed: String = r.try_get(11)?;
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
        closed: Closed::from_name(&closed),
        groups: Vec::new(),
    })
}
