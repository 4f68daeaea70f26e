//! Lanes and routes as records.

use super::grants::{NewGrant, give};
use super::teams::team_id;
use super::{Act, record, team_of};
use crate::{Result, Store, StoreError, sql};
use calvex_language::domain::grant::{Grantee, Held, May};
use calvex_language::domain::kept::StoredRoute;
use sqlx::Row;

/// What is set of a lane.
#[derive(Debug, Clone)]
#[allow(missing_docs)]
pub struct LaneTerms<'a> {
    pub name: &'a str,
    pub retention_days: u32,
    /// Whether its existence may be reported to those who may not read it.
    pub listed: bool,
    /// Events and bytes it takes a day; any number if none.
    pub day_events: Option<u64>,
    pub day_bytes: Option<u64>,
    /// The team that owns it.
    pub owner: Option<&'a str>,
    /// Whether its reads are recorded.
    pub audited: bool,
}

impl Store {
    /// Makes a lane, or changes an existing one, and the term of its chunks with it; its id. Of a lane that is new and that
    /// no team owns, `maker` is given all.
    ///
    /// # Errors
    /// [`StoreError::Missing`] where the team is not known; nothing is changed then, or where the database fails.
    pub async fn put_lane(&self, lane: &LaneTerms<'_>, maker: Option<&str>, act: &Act<'_>) -> Result<u32> {
        let mut tx = self.pool.begin().await?;
        let known: Option<u32> = sqlx::query_scalar(sql::LANE_ID).bind(lane.name).fetch_optional(&mut *tx).await?;
        let owner = match lane.owner {
            Some(team) => Some(team_id(&mut tx, team).await?),
            None => None,
        };
        sqlx::query(sql::LANE_PUT)
            .bind(lane.name)
            .bind(lane.retention_days)
            .bind(lane.listed)
            .bind(lane.day_events)
            .bind(lane.day_bytes)
            .bind(owner)
            .bind(lane.audited)
            .execute(&mut *tx)
            .await?;
        let id: u32 = sqlx::query_scalar(sql::LANE_ID).bind(lane.name).fetch_one(&mut *tx).await?;
        sqlx::query(sql::CHUNK_RETERM).bind(i64::from(lane.retention_days)).bind(id).execute(&mut *tx).await?;
        if let (None, None, Some(maker)) = (known, owner, maker) {
            let grant = NewGrant {
                to: Grantee::Person(maker.to_owned()),
                held: Held::whole(id, May::Manage),
                ends_ns: None,
                why: "made the lane".to_owned(),
                break_glass: false,
            };
            give(&mut tx, &grant, act).await?;
        }
        record(&mut tx, act).await?;
        tx.commit().await?;
        Ok(id)
    }

    /// Every route in order: those of the service, then those of each team.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn routes(&self) -> Result<Vec<StoredRoute>> {
        let rows = sqlx::query(sql::ROUTE_ALL).fetch_all(&self.pool).await?;
        let route = |r: &sqlx::mysql::MySqlRow| {
            Ok(StoredRoute { filter: r.try_get(0)?, lane: r.try_get(1)?, team: team_of(r, 2)? })
        };
        rows.iter().map(route).collect()
    }

    /// Replaces the routes of a team, or of the service: filter and lane id. `most` is how many there may be of all.
    ///
    /// # Errors
    /// [`StoreError::Full`] where there would be too many, or where the database fails; the old ones stand then.
    pub async fn put_routes(
        &self,
        team: Option<u32>,
        routes: &[(String, u32)],
        most: usize,
        act: &Act<'_>,
    ) -> Result<()> {
        let mut tx = self.pool.begin().await?;
        let others: i64 = sqlx::query_scalar(sql::ROUTE_COUNT).bind(team).fetch_one(&mut *tx).await?;
        if usize::try_from(others).unwrap_or(most) + routes.len() > most {
            return Err(StoreError::Full(format!("there would be more than {most} routes; remove some")));
        }
        sqlx::query(sql::ROUTE_CLEAR).bind(team).execute(&mut *tx).await?;
        for (place, (filter, lane)) in routes.iter().enumerate() {
            let add = sqlx::query(sql::ROUTE_ADD).bind(place as u32).bind(filter).bind(lane).bind(team);
            add.execute(&mut *tx).await.map_err(|e| {
                if matches!(&e, sqlx::Error::Database(d) if d.is_foreign_key_violation()) {
                    StoreError::Missing("such lane".into())
                } else {
                    e.into()
                }
            })?;
        }
        record(&mut tx, act).await?;
        tx.commit().await?;
        Ok(())
    }
}
