//! Teams and who is in them.

use super::{Act, record};
use crate::{Result, Store, StoreError, sql};
use calvex_language::domain::grant::Team;
use sqlx::{MySqlConnection, Row};
use std::collections::HashMap;

/// What is changed of a team; what is none stays.
#[derive(Debug, Clone, Default)]
pub struct TeamChange<'a> {
    /// The names of its people.
    pub members: Option<&'a [String]>,
    /// The provider's group; empty for none.
    pub claim: Option<&'a str>,
    /// Whether its people are on call.
    pub on_call: Option<bool>,
    /// The contact that is notified; empty for none.
    pub contact: Option<&'a str>,
}

impl Store {
    /// Every team, by name.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn teams(&self) -> Result<Vec<Team>> {
        let mut members: HashMap<u32, Vec<String>> = HashMap::new();
        for row in sqlx::query(sql::TEAM_MEMBERS).fetch_all(&self.pool).await? {
            members.entry(row.try_get(0)?).or_default().push(row.try_get(1)?);
        }
        let rows = sqlx::query(sql::TEAM_ALL).fetch_all(&self.pool).await?;
        let team = |r: &sqlx::mysql::MySqlRow| {
            let id = r.try_get(0)?;
            Ok(Team {
                id,
                name: r.try_get(1)?,
                claim: r.try_get(2)?,
                on_call: r.try_get(3)?,
                contact: r.try_get(4)?,
                members: members.remove(&id).unwrap_or_default(),
            })
        };
        rows.iter().map(team).collect()
    }

    /// Makes a team, or changes it.
    ///
    /// # Errors
    /// [`StoreError::Missing`] where somebody named is not known; [`StoreError::Taken`] where the provider's group is of
    /// another team.
    pub async fn put_team(&self, name: &str, change: &TeamChange<'_>, act: &Act<'_>) -> Result<()> {
        let mut tx = self.pool.begin().await?;
        sqlx::query(sql::TEAM_ADD).bind(name).bind(act.at_ns).execute(&mut *tx).await?;
        let id = team_id(&mut tx, name).await?;
        let none_if_empty = |text: &str| Some(text.to_owned()).filter(|t| !t.is_empty());
        if let Some(claim) = change.claim {
            let set = sqlx::query(sql::TEAM_CLAIM).bind(none_if_empty(claim)).bind(id).execute(&mut *tx).await;
            set.map_err(StoreError::taken("the provider's group"))?;
            // Who came by the group before comes by the next sign-in again.
            sqlx::query(sql::MEMBERS_BY_CLAIM_CLEAR).bind(id).execute(&mut *tx).await?;
        }
        if let Some(on_call) = change.on_call {
            sqlx::query(sql::TEAM_ON_CALL).bind(on_call).bind(id).execute(&mut *tx).await?;
        }
        if let Some(contact) = change.contact {
            sqlx::query(sql::TEAM_CONTACT).bind(none_if_empty(contact)).bind(id).execute(&mut *tx).await?;
        }
        if let Some(members) = change.members {
            sqlx::query(sql::MEMBERS_CLEAR).bind(id).execute(&mut *tx).await?;
            for member in members {
                let user: Option<u32> =
                    sqlx::query_scalar(sql::PERSON_LOCKED).bind(member).fetch_optional(&mut *tx).await?;
                let user = user.ok_or_else(|| StoreError::Missing(format!("person `{member}`")))?;
                sqlx::query(sql::MEMBER_ADD).bind(id).bind(user).bind(false).execute(&mut *tx).await?;
            }
        }
        record(&mut tx, act).await?;
        tx.commit().await?;
        Ok(())
    }

    /// Removes a team: its grants and tokens end, what it owned is nobody's.
    ///
    /// # Errors
    /// [`StoreError::Missing`].
    pub async fn remove_team(&self, name: &str, act: &Act<'_>) -> Result<()> {
        let mut tx = self.pool.begin().await?;
        let id = team_id(&mut tx, name).await?;
        sqlx::query(sql::TEAM_REMOVE).bind(id).execute(&mut *tx).await?;
        record(&mut tx, act).await?;
        tx.commit().await?;
        Ok(())
    }

    /// The id of a team.
    ///
    /// # Errors
    /// [`StoreError::Missing`].
    pub async fn team_id(&self, name: &str) -> Result<u32> {
        team_id(&mut *self.pool.acquire().await?, name).await
    }

    /// Puts a person into the teams of the provider's groups, and out of those that the person came into by others.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn join_by_claims(&self, user_id: u32, groups: &[String], act: &Act<'_>) -> Result<()> {
        let mut tx = self.pool.begin().await?;
        let before: Vec<u32> = sqlx::query_scalar(sql::TEAMS_BY_CLAIM_OF).bind(user_id).fetch_all(&mut *tx).await?;
        let teams = sqlx::query(sql::TEAM_CLAIMS).fetch_all(&mut *tx).await?;
        let mut now: Vec<u32> = Vec::new();
        for team in &teams {
            if groups.contains(&team.try_get::<String, _>(1)?) {
                now.push(team.try_get(0)?);
            }
        }
        if before == now {
            return Ok(());
        }
        sqlx::query(sql::TEAMS_BY_CLAIM_CLEAR).bind(user_id).execute(&mut *tx).await?;
        for team in now {
            sqlx::query(sql::MEMBER_ADD).bind(team).bind(user_id).bind(true).execute(&mut *tx).await?;
        }
        record(&mut tx, act).await?;
        tx.commit().await?;
        Ok(())
    }
}

pub(super) async fn team_id(tx: &mut MySqlConnection, name: &str) -> Result<u32> {
    let id = sqlx::query_scalar(sql::TEAM_ID).bind(name).fetch_optional(tx).await?;
    id.ok_or_else(|| StoreError::Missing(format!("team `{name}`")))
}
