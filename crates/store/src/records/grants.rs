//! Grants: who may do what in a lane.

use super::teams::team_id;
use super::{Act, named, record};
use crate::{Result, Store, StoreError, sql};
use calvex_language::domain::grant::{Grant, Grantee, Held, LANGUAGE_VERSION, LaneReader, May};
use sqlx::mysql::MySqlRow;
use sqlx::{MySqlConnection, Row};

/// Grants on one lane at most.
pub const MAX_GRANTS: i64 = 500;

/// A grant to be given.
#[derive(Debug, Clone)]
pub struct NewGrant {
    /// To whom.
    pub to: Grantee,
    /// What it gives.
    pub held: Held,
    /// When it ends by itself.
    pub ends_ns: Option<i64>,
    /// Why.
    pub why: String,
    /// Whether somebody on call gives it to themselves.
    pub break_glass: bool,
}

/// The columns of [`sql::GRANT_ALL`] and its like.
fn grant_of(r: &MySqlRow) -> Result<Grant> {
    let (team, person): (Option<String>, Option<String>) = (r.try_get(8)?, r.try_get(9)?);
    let to = match (team, person) {
        (Some(team), _) => Grantee::Team(team),
        (None, person) => Grantee::Person(person.unwrap_or_default()),
    };
    Ok(Grant {
        held: held_of(r)?,
        id: r.try_get(4)?,
        given_by: r.try_get(5)?,
        given_ns: r.try_get(6)?,
        ends_ns: r.try_get(7)?,
        to,
        why: r.try_get(10)?,
        break_glass: r.try_get(11)?,
    })
}

fn held_of(r: &MySqlRow) -> Result<Held> {
    let hidden: String = r.try_get(3)?;
    Ok(Held {
        lane: r.try_get(0)?,
        may: named("right", r.try_get(1)?, May::from_name)?,
        rows: r.try_get(2)?,
        hidden: hidden.lines().map(str::to_owned).collect(),
    })
}

impl Store {
    /// What a person holds now: by own grants, by those of the teams, and in the lanes that these own.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn held_by_person(&self, user_id: u32, now_ns: i64) -> Result<Vec<Held>> {
        let query = sqlx::query(sql::HELD_BY_PERSON).bind(now_ns).bind(user_id).bind(user_id).bind(user_id);
        query.fetch_all(&self.pool).await?.iter().map(held_of).collect()
    }

    /// What a team holds now.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn held_by_team(&self, team_id: u32, now_ns: i64) -> Result<Vec<Held>> {
        let query = sqlx::query(sql::HELD_BY_TEAM).bind(now_ns).bind(team_id).bind(team_id);
        query.fetch_all(&self.pool).await?.iter().map(held_of).collect()
    }

    /// What a rule may read: what its team holds, or where it has none its owner. Somebody who is disabled holds nothing.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn held_by_rule(&self, owner_id: u32, team_id: Option<u32>, now_ns: i64) -> Result<Vec<Held>> {
        match team_id {
            Some(team) => self.held_by_team(team, now_ns).await,
            None => match sqlx::query_scalar(sql::PERSON_ACTIVE).bind(owner_id).fetch_one(&self.pool).await? {
                0i64 => Ok(Vec::new()),
                _ => self.held_by_person(owner_id, now_ns).await,
            },
        }
    }

    /// Every grant that stands, by lane and number.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn grants(&self, now_ns: i64) -> Result<Vec<Grant>> {
        sqlx::query(sql::GRANT_ALL).bind(now_ns).fetch_all(&self.pool).await?.iter().map(grant_of).collect()
    }

    /// Gives a grant; its number.
    ///
    /// # Errors
    /// [`StoreError::Missing`] where the team or person is not known; [`StoreError::Full`] where the lane has too many.
    pub async fn give(&self, grant: &NewGrant, act: &Act<'_>) -> Result<u64> {
        let mut tx = self.pool.begin().await?;
        let id = give(&mut tx, grant, act).await?;
        record(&mut tx, act).await?;
        tx.commit().await?;
        Ok(id)
    }

    /// Ends a grant.
    ///
    /// # Errors
    /// [`StoreError::Missing`].
    pub async fn end_grant(&self, id: u64, act: &Act<'_>) -> Result<()> {
        let mut tx = self.pool.begin().await?;
        let done = sqlx::query(sql::GRANT_END).bind(act.at_ns).bind(id).bind(act.at_ns).execute(&mut *tx).await?;
        if done.rows_affected() == 0 {
            return Err(StoreError::Missing(format!("grant {id} that stands")));
        }
        record(&mut tx, act).await?;
        tx.commit().await?;
        Ok(())
    }

    /// Who can read a lane, and by what; people who are disabled cannot.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn readers_of(&self, lane: u32, now_ns: i64) -> Result<Vec<LaneReader>> {
        let rows = sqlx::query(sql::LANE_READERS).bind(now_ns).bind(lane).bind(lane).fetch_all(&self.pool).await?;
        let grants = self.grants(now_ns).await?;
        let reader = |r: &MySqlRow| {
            let by: Option<u64> = r.try_get(2)?;
            Ok(LaneReader {
                person: r.try_get(0)?,
                team: r.try_get(1)?,
                grant: by.and_then(|by| grants.iter().find(|grant| grant.id == by).cloned()),
            })
        };
        rows.iter().map(reader).collect()
    }

    /// Whether anybody who is not disabled manages the lane: by a grant, or in the team that owns it.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn is_managed(&self, lane: u32, now_ns: i64) -> Result<bool> {
        let query = sqlx::query_scalar::<_, i64>(sql::LANE_MANAGERS).bind(now_ns).bind(lane).bind(lane);
        Ok(query.fetch_one(&self.pool).await? > 0)
    }
}

/// Gives a grant in a transaction.
pub(super) async fn give(tx: &mut MySqlConnection, grant: &NewGrant, act: &Act<'_>) -> Result<u64> {
    let held = &grant.held;
    let (team, person) = match &grant.to {
        Grantee::Team(name) => (Some(team_id(tx, name).await?), None),
        Grantee::Person(name) => (None, Some(super::people::locked(tx, name).await?)),
    };
    let standing: i64 =
        sqlx::query_scalar(sql::GRANTS_ON_LANE).bind(held.lane).bind(act.at_ns).fetch_one(&mut *tx).await?;
    if standing >= MAX_GRANTS {
        return Err(StoreError::Full(format!("{MAX_GRANTS} grants stand on this lane; end some first")));
    }
    let given = sqlx::query(sql::GRANT_ADD)
        .bind(held.lane)
        .bind(team)
        .bind(person)
        .bind(held.may.name())
        .bind(&held.rows)
        .bind(LANGUAGE_VERSION)
        .bind(held.hidden.join("\n"))
        .bind(act.by.name)
        .bind(act.at_ns)
        .bind(grant.ends_ns)
        .bind(&grant.why)
        .bind(grant.break_glass)
        .execute(&mut *tx)
        .await?;
    Ok(given.last_insert_id())
}
