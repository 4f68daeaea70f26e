//! Arrivals, refusals and what was set aside, an hour a row.

use crate::{Result, Store};
use sqlx::Row;

/// What came from one sender, service and host into one lane within an hour.
#[derive(Debug, Clone, PartialEq, Eq)]
#[allow(missing_docs)]
pub struct ArrivalRow {
    /// Hours from 1970.
    pub hour: u32,
    pub sender: String,
    pub service: String,
    pub host: String,
    pub lane: u32,
    pub stored: u64,
    pub late: u64,
    pub bytes: u64,
    /// Events of batches in which some told no time.
    pub untimed: u64,
    pub first_ns: i64,
    pub last_ns: i64,
    pub delay_ns: i64,
}

/// What was refused of one sender for one reason within an hour.
#[derive(Debug, Clone, PartialEq, Eq)]
#[allow(missing_docs)]
pub struct RefusalRow {
    /// Hours from 1970.
    pub hour: u32,
    pub sender: String,
    pub reason: String,
    pub refused: u64,
    pub first_ns: i64,
    pub last_ns: i64,
    /// The latest, secrets masked.
    pub sample: String,
}

/// What was not stored on purpose of one sender, service and host for one cause within an hour.
#[derive(Debug, Clone, PartialEq, Eq)]
#[allow(missing_docs)]
pub struct AsideRow {
    /// Hours from 1970.
    pub hour: u32,
    pub sender: String,
    pub service: String,
    pub host: String,
    /// Where it would have gone.
    pub lane: u32,
    /// Which rule, dial or quota.
    pub cause: String,
    pub events: u64,
    pub bytes: u64,
    pub first_ns: i64,
    pub last_ns: i64,
}

/// Rows of one statement.
const AT_ONCE: usize = 500;

impl Store {
    /// Adds to the account.
    ///
    /// # Errors
    /// Where the database fails; some rows may have been added then.
    pub async fn add_arrivals(
        &self,
        arrivals: &[ArrivalRow],
        refusals: &[RefusalRow],
        asides: &[AsideRow],
    ) -> Result<()> {
        for rows in arrivals.chunks(AT_ONCE) {
            let mut insert = sqlx::QueryBuilder::<sqlx::MySql>::new(
                "INSERT INTO arrival (hour, sender, service, host, lane_id, stored, late, bytes, untimed, first_ns, last_ns, delay_ns) ",
            );
            insert.push_values(rows, |mut row, a| {
                row.push_bind(a.hour).push_bind(&a.sender).push_bind(&a.service).push_bind(&a.host).push_bind(a.lane);
                row.push_bind(a.stored).push_bind(a.late).push_bind(a.bytes).push_bind(a.untimed);
                row.push_bind(a.first_ns).push_bind(a.last_ns).push_bind(a.delay_ns);
            });
            insert.push(
                " ON DUPLICATE KEY UPDATE stored = stored + VALUES(stored), late = late + VALUES(late),
                 bytes = bytes + VALUES(bytes), untimed = untimed + VALUES(untimed),
                 first_ns = LEAST(first_ns, VALUES(first_ns)), last_ns = GREATEST(last_ns, VALUES(last_ns)),
                 delay_ns = LEAST(delay_ns, VALUES(delay_ns))",
            );
            insert.build().execute(&self.pool).await?;
        }
        for rows in refusals.chunks(AT_ONCE) {
            let mut insert = sqlx::QueryBuilder::<sqlx::MySql>::new(
                "INSERT INTO refusal (hour, sender, reason, refused, first_ns, last_ns, sample) ",
            );
            insert.push_values(rows, |mut row, r| {
                row.push_bind(r.hour).push_bind(&r.sender).push_bind(&r.reason).push_bind(r.refused);
                row.push_bind(r.first_ns).push_bind(r.last_ns).push_bind(&r.sample);
            });
            insert.push(
                " ON DUPLICATE KEY UPDATE refused = refused + VALUES(refused),
                 first_ns = LEAST(first_ns, VALUES(first_ns)), last_ns = GREATEST(last_ns, VALUES(last_ns)),
                 sample = VALUES(sample)",
            );
            insert.build().execute(&self.pool).await?;
        }
        for rows in asides.chunks(AT_ONCE) {
            let mut insert = sqlx::QueryBuilder::<sqlx::MySql>::new(
                "INSERT INTO aside (hour, sender, service, host, lane_id, cause, events, bytes, first_ns, last_ns) ",
            );
            insert.push_values(rows, |mut row, a| {
                row.push_bind(a.hour).push_bind(&a.sender).push_bind(&a.service).push_bind(&a.host).push_bind(a.lane);
                row.push_bind(&a.cause).push_bind(a.events).push_bind(a.bytes);
                row.push_bind(a.first_ns).push_bind(a.last_ns);
            });
            insert.push(
                " ON DUPLICATE KEY UPDATE events = events + VALUES(events), bytes = bytes + VALUES(bytes),
                 first_ns = LEAST(first_ns, VALUES(first_ns)), last_ns = GREATEST(last_ns, VALUES(last_ns))",
            );
            insert.build().execute(&self.pool).await?;
        }
        Ok(())
    }

    /// What was set aside since `from_hour`, of one service where given.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn asides(&self, from_hour: u32, service: Option<&str>) -> Result<Vec<AsideRow>> {
        let rows = sqlx::query(crate::sql::ASIDES).bind(from_hour).bind(service).bind(service).fetch_all(&self.pool);
        let row = |r: sqlx::mysql::MySqlRow| {
            Ok(AsideRow {
                hour: r.try_get(0)?,
                sender: r.try_get(1)?,
                service: r.try_get(2)?,
                host: r.try_get(3)?,
                lane: r.try_get(4)?,
                cause: r.try_get(5)?,
                events: r.try_get(6)?,
                bytes: r.try_get(7)?,
                first_ns: r.try_get(8)?,
                last_ns: r.try_get(9)?,
            })
        };
        rows.await?.into_iter().map(row).collect()
    }

    /// Events and bytes stored since `from_hour`, by sender and lane.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn arrived_since(&self, from_hour: u32) -> Result<Vec<(String, u32, u64, u64)>> {
        let rows = sqlx::query(crate::sql::ARRIVED_SINCE).bind(from_hour).fetch_all(&self.pool).await?;
        rows.iter().map(|r| Ok((r.try_get(0)?, r.try_get(1)?, r.try_get(2)?, r.try_get(3)?))).collect()
    }

    /// The account since `from_hour`, of one service where given.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn arrivals(&self, from_hour: u32, service: Option<&str>) -> Result<Vec<ArrivalRow>> {
        let rows = sqlx::query(crate::sql::ARRIVALS).bind(from_hour).bind(service).bind(service).fetch_all(&self.pool);
        let row = |r: sqlx::mysql::MySqlRow| {
            Ok(ArrivalRow {
                hour: r.try_get(0)?,
                sender: r.try_get(1)?,
                service: r.try_get(2)?,
                host: r.try_get(3)?,
                lane: r.try_get(4)?,
                stored: r.try_get(5)?,
                late: r.try_get(6)?,
                bytes: r.try_get(7)?,
                untimed: r.try_get(8)?,
                first_ns: r.try_get(9)?,
                last_ns: r.try_get(10)?,
                delay_ns: r.try_get(11)?,
            })
        };
        rows.await?.into_iter().map(row).collect()
    }

    /// What was refused since `from_hour`.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn refusals(&self, from_hour: u32) -> Result<Vec<RefusalRow>> {
        let rows = sqlx::query(crate::sql::REFUSALS).bind(from_hour).fetch_all(&self.pool).await?;
        let row = |r: sqlx::mysql::MySqlRow| {
            Ok(RefusalRow {
                hour: r.try_get(0)?,
                sender: r.try_get(1)?,
                reason: r.try_get(2)?,
                refused: r.try_get(3)?,
                first_ns: r.try_get(4)?,
                last_ns: r.try_get(5)?,
                sample: r.try_get(6)?,
            })
        };
        rows.into_iter().map(row).collect()
    }

    /// Forgets what lies before `hour`.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn expire_arrivals(&self, hour: u32) -> Result<()> {
        sqlx::query(crate::sql::ARRIVAL_EXPIRE).bind(hour).execute(&self.pool).await?;
        sqlx::query(crate::sql::ASIDE_EXPIRE).bind(hour).execute(&self.pool).await?;
        sqlx::query(crate::sql::REFUSAL_EXPIRE).bind(hour).execute(&self.pool).await?;
        Ok(())
    }
}
