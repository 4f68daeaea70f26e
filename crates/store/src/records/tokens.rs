//! Tokens, and who stands behind a token or a session. Secrets are kept as hashes only.

use super::{Act, named, record};
use crate::{Result, Store, StoreError, sql};
use calvex_language::domain::access::{NewToken, Principal, Purpose, Role, SESSION_IDLE_NS, SecretKind, Token};
use calvex_language::domain::grant::{Held, May};
use sqlx::Row;

/// That a session is used is written down so often.
const SEEN_EVERY_NS: i64 = 60 * 1_000_000_000;
/// Tokens of one person or team at most.
pub const MAX_TOKENS: i64 = 1000;

impl Store {
    /// Who a session speaks for, which is used by that. One that nobody used for long, or whose person is disabled, speaks
    /// for nobody.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn session_principal(&self, hash: &[u8; 32], now_ns: i64) -> Result<Option<Principal>> {
        let row = sqlx::query(sql::SESSION_USER)
            .bind(&hash[..])
            .bind(now_ns)
            .bind(now_ns - SESSION_IDLE_NS)
            .fetch_optional(&self.pool)
            .await?;
        let Some(row) = row else { return Ok(None) };
        if now_ns - row.try_get::<i64, _>(3)? > SEEN_EVERY_NS {
            // Where nothing can be written, people must still read.
            if let Err(e) = sqlx::query(sql::SESSION_SEEN).bind(now_ns).bind(&hash[..]).execute(&self.pool).await {
                tracing::warn!("that a session is used was not written down: {e}");
            }
        }
        let role = named("role", row.try_get(2)?, Role::from_name)?;
        Ok(Some(self.person(row.try_get(0)?, row.try_get(1)?, role, now_ns).await?))
    }

    /// A person, with all that may be done by a session.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn person(&self, user_id: u32, name: String, role: Role, now_ns: i64) -> Result<Principal> {
        let (mut teams, mut on_call) = (Vec::new(), false);
        for row in sqlx::query(sql::TEAMS_OF_USER).bind(user_id).fetch_all(&self.pool).await? {
            teams.push(row.try_get(0)?);
            on_call |= row.try_get::<bool, _>(1)?;
        }
        Ok(Principal {
            user_id,
            name,
            token: None,
            team: None,
            teams,
            on_call,
            administers: role == Role::Admin,
            audits: matches!(role, Role::Admin | Role::Auditor),
            changes: true,
            narrowed: false,
            held: self.held_by_person(user_id, now_ns).await?.into(),
        })
    }

    /// Who a token speaks for: its owner, at most for the token's own lanes and purpose. A token with lanes of its own
    /// reads, whatever its purpose.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn token_principal(&self, hash: &[u8; 32], now_ns: i64) -> Result<Option<Principal>> {
        let row = sqlx::query(sql::TOKEN_USER).bind(&hash[..]).bind(now_ns).fetch_optional(&self.pool).await?;
        let Some(row) = row else { return Ok(None) };
        let role = named("role", row.try_get(2)?, Role::from_name)?;
        let narrowed = !row.try_get::<bool, _>(4)?;
        let purpose = named("purpose", row.try_get(6)?, Purpose::from_name)?;
        let mut who = self.person(row.try_get(0)?, row.try_get(1)?, role, now_ns).await?;
        if let Some(team) = row.try_get::<Option<u32>, _>(7)? {
            who.held = self.held_by_team(team, now_ns).await?.into();
            who.name = row.try_get(8)?;
            who.on_call = row.try_get(9)?;
            (who.team, who.teams, who.administers, who.audits) = (Some(team), vec![team], false, false);
        }
        who.token = Some(row.try_get(5)?);
        who.narrowed = narrowed;
        who.changes = !narrowed && purpose != Purpose::Read;
        who.administers &= !narrowed && purpose == Purpose::Administer;
        who.audits &= !narrowed;
        let mut held: Vec<Held> = who.held.to_vec();
        if narrowed {
            let own: Vec<u32> =
                sqlx::query_scalar(sql::TOKEN_LANES).bind(row.try_get::<u32, _>(3)?).fetch_all(&self.pool).await?;
            held.retain(|held| own.contains(&held.lane));
        }
        let most = match purpose {
            _ if !who.changes => May::Read,
            Purpose::Read => May::Read,
            Purpose::Configure => May::Configure,
            Purpose::Administer => May::Manage,
        };
        held.iter_mut().for_each(|held| held.may = held.may.min(most));
        who.held = held.into();
        Ok(Some(who))
    }

    /// Makes a token.
    ///
    /// # Errors
    /// [`StoreError::Taken`].
    pub async fn add_token(&self, token: &NewToken<'_>, act: &Act<'_>) -> Result<()> {
        let mut tx = self.pool.begin().await?;
        let count: i64 = sqlx::query_scalar(sql::TOKEN_COUNT).bind(token.user_id).fetch_one(&mut *tx).await?;
        if count >= MAX_TOKENS {
            return Err(StoreError::Full(format!("there are {MAX_TOKENS} tokens in use already; revoke some first")));
        }
        let added = sqlx::query(sql::TOKEN_ADD)
            .bind(token.name)
            .bind(&token.hash[..])
            .bind(token.prefix)
            .bind(token.user_id)
            .bind(token.lanes.is_none())
            .bind(token.purpose.name())
            .bind(act.at_ns)
            .bind(token.team)
            .bind(token.ends_ns)
            .execute(&mut *tx)
            .await
            .map_err(StoreError::taken("the token's name"))?;
        for lane in token.lanes.unwrap_or_default() {
            sqlx::query(sql::TOKEN_LANE_ADD).bind(added.last_insert_id()).bind(lane).execute(&mut *tx).await?;
        }
        record(&mut tx, act).await?;
        tx.commit().await?;
        Ok(())
    }

    /// Every token, with who made it and the team whose it is.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn tokens(&self) -> Result<Vec<(Token, u32, Option<u32>)>> {
        let rows = sqlx::query(sql::TOKEN_ALL).fetch_all(&self.pool).await?;
        let token = |r: &sqlx::mysql::MySqlRow| {
            let token = Token {
                name: r.try_get(0)?,
                prefix: r.try_get(1)?,
                purpose: named("purpose", r.try_get(2)?, Purpose::from_name)?,
                created_ns: r.try_get(3)?,
                revoked_ns: r.try_get(4)?,
                owner: r.try_get(5)?,
                ends_ns: r.try_get(6)?,
            };
            Ok((token, r.try_get(7)?, r.try_get(8)?))
        };
        rows.iter().map(token).collect()
    }

    /// Revokes a key or token at once.
    ///
    /// # Errors
    /// [`StoreError::Missing`].
    pub async fn revoke(&self, kind: SecretKind, name: &str, now_ns: i64, act: &Act<'_>) -> Result<()> {
        let mut tx = self.pool.begin().await?;
        let revoke = if kind == SecretKind::Key { sql::KEY_REVOKE } else { sql::TOKEN_REVOKE };
        let done = sqlx::query(revoke).bind(now_ns).bind(name).execute(&mut *tx).await?;
        if done.rows_affected() == 0 {
            let what = if kind == SecretKind::Key { "key" } else { "token" };
            return Err(StoreError::Missing(format!("{what} `{name}` in use")));
        }
        record(&mut tx, act).await?;
        tx.commit().await?;
        Ok(())
    }
}
