//! Arrivals, refusals and what was set aside, an hour a row.

use crate::{Claim, Result, Store};
use calvex_language::domain::arrivals::{ArrivalGroup, ArrivedHour, RefusedHour, SetAsideHour};
use sqlx::Row;

/// Rows of refusals and of what was set aside that are read at most, the newest first.
const MOST_READ: u32 = 20_000;

fn push_lanes(select: &mut sqlx::QueryBuilder<sqlx::MySql>, lanes: Option<&[u32]>) {
    let Some(lanes) = lanes else { return };
    // No lane has number 0, so an empty list finds nothing.
    select.push(" AND lane_id IN (0");
    for lane in lanes {
        select.push(",").push_bind(*lane);
    }
    select.push(")");
}

/// Rows of one statement.
const AT_ONCE: usize = 500;

impl Store {
    /// Writes totals of the account, over those that the same claim wrote before.
    ///
    /// # Errors
    /// Where the database fails; some rows may have been written then, which does no harm.
    pub async fn put_arrivals(
        &self,
        claim: &Claim,
        arrivals: &[ArrivedHour],
        refusals: &[RefusedHour],
        asides: &[SetAsideHour],
    ) -> Result<()> {
        for rows in arrivals.chunks(AT_ONCE) {
            let mut insert = sqlx::QueryBuilder::<sqlx::MySql>::new(
                "INSERT INTO arrival (hour, sender, service, host, lane_id, stored, late, bytes, untimed, first_ns, last_ns, delay_ns, slot, epoch) ",
            );
            insert.push_values(rows, |mut row, a| {
                row.push_bind(a.hour).push_bind(&a.sender).push_bind(&a.service).push_bind(&a.host).push_bind(a.lane);
                row.push_bind(a.stored).push_bind(a.late).push_bind(a.bytes).push_bind(a.untimed);
                row.push_bind(a.first_ns).push_bind(a.last_ns).push_bind(a.delay_ns);
                row.push_bind(claim.slot).push_bind(claim.epoch);
            });
            insert.push(
                " ON DUPLICATE KEY UPDATE stored = VALUES(stored), late = VALUES(late), bytes = VALUES(bytes),
                 untimed = VALUES(untimed), last_ns = VALUES(last_ns), delay_ns = VALUES(delay_ns)",
            );
            insert.build().execute(&self.pool).await?;
        }
        for rows in refusals.chunks(AT_ONCE) {
            let mut insert = sqlx::QueryBuilder::<sqlx::MySql>::new(
                "INSERT INTO refusal (hour, sender, reason, refused, first_ns, last_ns, sample, slot, epoch) ",
            );
            insert.push_values(rows, |mut row, r| {
                row.push_bind(r.hour).push_bind(&r.sender).push_bind(&r.reason).push_bind(r.refused);
                row.push_bind(r.first_ns).push_bind(r.last_ns).push_bind(&r.sample);
                row.push_bind(claim.slot).push_bind(claim.epoch);
            });
            insert.push(
                " ON DUPLICATE KEY UPDATE refused = VALUES(refused), last_ns = VALUES(last_ns), sample = VALUES(sample)",
            );
            insert.build().execute(&self.pool).await?;
        }
        for rows in asides.chunks(AT_ONCE) {
            let mut insert = sqlx::QueryBuilder::<sqlx::MySql>::new(
                "INSERT INTO aside (hour, sender, service, host, lane_id, cause, events, bytes, first_ns, last_ns, slot, epoch) ",
            );
            insert.push_values(rows, |mut row, a| {
                row.push_bind(a.hour).push_bind(&a.sender).push_bind(&a.service).push_bind(&a.host).push_bind(a.lane);
                row.push_bind(&a.cause).push_bind(a.events).push_bind(a.bytes);
                row.push_bind(a.first_ns).push_bind(a.last_ns);
                row.push_bind(claim.slot).push_bind(claim.epoch);
            });
            insert.push(
                " ON DUPLICATE KEY UPDATE events = VALUES(events), bytes = VALUES(bytes), last_ns = VALUES(last_ns)",
            );
            insert.build().execute(&self.pool).await?;
        }
        Ok(())
    }

    /// What was set aside since `from_hour`, of one service where given.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn asides(&self, from_hour: u32, service: Option<&str>) -> Result<Vec<SetAsideHour>> {
        let rows = sqlx::query(crate::sql::ASIDES)
            .bind(from_hour)
            .bind(service)
            .bind(service)
            .bind(MOST_READ)
            .fetch_all(&self.pool);
        let row = |r: sqlx::mysql::MySqlRow| {
            Ok(SetAsideHour {
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

    /// The account since `from_hour` of some lanes (every lane where none is given) and of one service where given: what
    /// came from each service, host, sender and lane, in that order, from the `from`th on, at most `most`.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn arrival_groups(
        &self,
        from_hour: u32,
        service: Option<&str>,
        lanes: Option<&[u32]>,
        (from, most): (u32, u32),
    ) -> Result<Vec<ArrivalGroup>> {
        let mut select = sqlx::QueryBuilder::<sqlx::MySql>::new(
            "SELECT service, host, sender, lane_id, CAST(SUM(stored) AS UNSIGNED), CAST(SUM(late) AS UNSIGNED),
             CAST(SUM(untimed) AS UNSIGNED), CAST(SUM(bytes) AS UNSIGNED), MIN(first_ns), MAX(last_ns), MIN(delay_ns),
             COUNT(DISTINCT hour) FROM arrival WHERE hour >= ",
        );
        select.push_bind(from_hour);
        if let Some(service) = service {
            select.push(" AND service = ").push_bind(service);
        }
        push_lanes(&mut select, lanes);
        select.push(" GROUP BY service, host, sender, lane_id ORDER BY service, host, sender, lane_id LIMIT ");
        select.push_bind(most).push(" OFFSET ").push_bind(from);
        let rows = select.build().fetch_all(&self.pool).await?;
        let mut groups = rows
            .iter()
            .map(|r| {
                Ok(ArrivalGroup {
                    service: r.try_get(0)?,
                    host: r.try_get(1)?,
                    sender: r.try_get(2)?,
                    lane: r.try_get(3)?,
                    stored: r.try_get(4)?,
                    late: r.try_get(5)?,
                    untimed: r.try_get(6)?,
                    bytes: r.try_get(7)?,
                    first_ns: r.try_get(8)?,
                    last_ns: r.try_get(9)?,
                    delay_ns: r.try_get(10)?,
                    hours: u32::try_from(r.try_get::<i64, _>(11)?).unwrap_or(0),
                    per_hour: Vec::new(),
                })
            })
            .collect::<Result<Vec<_>>>()?;
        let (Some(first), Some(last)) = (groups.first(), groups.last()) else { return Ok(groups) };
        let mut hours = sqlx::QueryBuilder::<sqlx::MySql>::new(
            "SELECT service, host, sender, lane_id, hour, CAST(SUM(stored) AS UNSIGNED) FROM arrival WHERE hour >= ",
        );
        hours.push_bind(from_hour);
        for (sign, edge) in [(">=", first), ("<=", last)] {
            hours.push(format!(" AND (service, host, sender, lane_id) {sign} ("));
            hours.push_bind(&edge.service).push(",").push_bind(&edge.host).push(",");
            hours.push_bind(&edge.sender).push(",").push_bind(edge.lane).push(")");
        }
        push_lanes(&mut hours, lanes);
        hours.push(" GROUP BY service, host, sender, lane_id, hour");
        let rows = hours.build().fetch_all(&self.pool).await?;
        let place: std::collections::HashMap<(String, String, String, u32), usize> = groups
            .iter()
            .enumerate()
            .map(|(n, g)| ((g.service.clone(), g.host.clone(), g.sender.clone(), g.lane), n))
            .collect();
        for row in rows {
            let key = (row.try_get(0)?, row.try_get(1)?, row.try_get(2)?, row.try_get(3)?);
            if let Some(group) = place.get(&key).and_then(|n| groups.get_mut(*n)) {
                group.per_hour.push((row.try_get(4)?, row.try_get(5)?));
            }
        }
        Ok(groups)
    }

    /// What was refused since `from_hour`.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn refusals(&self, from_hour: u32) -> Result<Vec<RefusedHour>> {
        let rows = sqlx::query(crate::sql::REFUSALS).bind(from_hour).bind(MOST_READ).fetch_all(&self.pool).await?;
        let row = |r: sqlx::mysql::MySqlRow| {
            Ok(RefusedHour {
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

    /// The number that a duty remembers.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn duty(&self, name: &str) -> Result<Option<i64>> {
        Ok(sqlx::query_scalar(crate::sql::DUTY).bind(name).fetch_optional(&self.pool).await?)
    }

    /// Remembers a number of a duty.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn put_duty(&self, name: &str, n: i64) -> Result<()> {
        sqlx::query(crate::sql::DUTY_PUT).bind(name).bind(n).execute(&self.pool).await?;
        Ok(())
    }

    /// The database's own time, nanoseconds from 1970.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn now_ns(&self) -> Result<i64> {
        let micros: i64 = sqlx::query_scalar(crate::sql::NOW).fetch_one(&self.pool).await?;
        Ok(micros.saturating_mul(1000))
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
