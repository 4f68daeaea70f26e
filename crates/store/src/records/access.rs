//! People, sessions, and tokens for reading. Secrets are kept as hashes only.

use super::{Act, named, record};
use crate::{Result, Store, StoreError, sql};
use calvex_language::domain::access::{Principal, Purpose, Role, SESSION_IDLE_NS, SecretKind, Token, User};
use sqlx::Row;

/// That a session is used is written down so often.
const SEEN_EVERY_NS: i64 = 60 * 1_000_000_000;

impl Store {
    /// How many people there are.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn user_count(&self) -> Result<i64> {
        Ok(sqlx::query_scalar(sql::USER_COUNT).fetch_one(&self.pool).await?)
    }

    /// Makes a person who may read `lanes`.
    ///
    /// # Errors
    /// [`StoreError::Taken`].
    pub async fn add_user(
        &self,
        name: &str,
        password_hash: &str,
        role: Role,
        lanes: &[u32],
        now_ns: i64,
        act: &Act<'_>,
    ) -> Result<u32> {
        let mut tx = self.pool.begin().await?;
        let added = sqlx::query(sql::USER_ADD)
            .bind(name)
            .bind(password_hash)
            .bind(role.name())
            .bind(now_ns)
            .execute(&mut *tx)
            .await
            .map_err(StoreError::taken("the user's name"))?;
        let id = added.last_insert_id() as u32;
        for lane in lanes {
            sqlx::query(sql::USER_LANE_ADD).bind(id).bind(lane).execute(&mut *tx).await?;
        }
        record(&mut tx, act).await?;
        tx.commit().await?;
        Ok(id)
    }

    /// A person by name.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn user(&self, name: &str) -> Result<Option<User>> {
        let row = sqlx::query(sql::USER_BY_NAME).bind(name).fetch_optional(&self.pool).await?;
        row.map(|r| {
            Ok(User {
                id: r.try_get(0)?,
                name: r.try_get(1)?,
                password_hash: r.try_get(2)?,
                role: named("role", r.try_get(3)?, Role::from_name)?,
                disabled_ns: r.try_get(4)?,
            })
        })
        .transpose()
    }

    /// A name as the database compares it: two names of one weight are one name to it, whatever their case, accents and
    /// blanks at the end.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn name_weight(&self, name: &str) -> Result<String> {
        let weight: Option<String> = sqlx::query_scalar(sql::NAME_WEIGHT).bind(name).fetch_one(&self.pool).await?;
        Ok(weight.unwrap_or_default())
    }

    /// Opens a session, from now (when the act is done) until `ends_ns`.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn add_session(
        &self,
        hash: &[u8; 32],
        user_id: u32,
        (ends_ns, address): (i64, &str),
        act: &Act<'_>,
    ) -> Result<()> {
        let mut tx = self.pool.begin().await?;
        sqlx::query(sql::SESSION_ADD)
            .bind(&hash[..])
            .bind(user_id)
            .bind(act.at_ns)
            .bind(act.at_ns)
            .bind(ends_ns)
            .bind(address)
            .execute(&mut *tx)
            .await?;
        record(&mut tx, act).await?;
        tx.commit().await?;
        Ok(())
    }

    /// Ends a session.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn end_session(&self, hash: &[u8; 32], act: &Act<'_>) -> Result<()> {
        let mut tx = self.pool.begin().await?;
        sqlx::query(sql::SESSION_END).bind(&hash[..]).execute(&mut *tx).await?;
        record(&mut tx, act).await?;
        tx.commit().await?;
        Ok(())
    }

    /// Forgets sessions that ended before `now_ns`.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn expire_sessions(&self, now_ns: i64) -> Result<()> {
        sqlx::query(sql::SESSION_EXPIRE).bind(now_ns).bind(now_ns - SESSION_IDLE_NS).execute(&self.pool).await?;
        Ok(())
    }

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
        let (user_id, name) = (row.try_get(0)?, row.try_get(1)?);
        let role = named("role", row.try_get(2)?, Role::from_name)?;
        let lanes = self.lanes_of_user(user_id, role).await?;
        let administers = role == Role::Admin;
        Ok(Some(Principal { user_id, name, token: None, administers, changes: true, narrowed: false, lanes }))
    }

    /// Who a token speaks for: its owner, at most for the token's own lanes and purpose. A token with lanes of its own
    /// reads, whatever its purpose.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn token_principal(&self, hash: &[u8; 32]) -> Result<Option<Principal>> {
        let row = sqlx::query(sql::TOKEN_USER).bind(&hash[..]).fetch_optional(&self.pool).await?;
        let Some(row) = row else { return Ok(None) };
        let (user_id, name) = (row.try_get(0)?, row.try_get(1)?);
        let role = named("role", row.try_get(2)?, Role::from_name)?;
        let (narrowed, token) = (!row.try_get::<bool, _>(4)?, row.try_get(5)?);
        let purpose = named("purpose", row.try_get(6)?, Purpose::from_name)?;
        let mut lanes = self.lanes_of_user(user_id, role).await?;
        if narrowed {
            let own: Vec<u32> =
                sqlx::query_scalar(sql::TOKEN_LANES).bind(row.try_get::<u32, _>(3)?).fetch_all(&self.pool).await?;
            lanes = Some(own.into_iter().filter(|l| lanes.as_ref().is_none_or(|all| all.contains(l))).collect());
        }
        let changes = !narrowed && purpose == Purpose::Administer;
        let administers = changes && role == Role::Admin;
        Ok(Some(Principal { user_id, name, token: Some(token), administers, changes, narrowed, lanes }))
    }

    /// The lanes a person may read; `None` for every lane.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn lanes_of_user(&self, user_id: u32, role: Role) -> Result<Option<Vec<u32>>> {
        if role == Role::Admin {
            return Ok(None);
        }
        let lanes = sqlx::query_scalar(sql::USER_LANES).bind(user_id).fetch_all(&self.pool);
        Ok(Some(lanes.await?))
    }

    /// Makes a token of `user_id`, for `lanes` only where given.
    ///
    /// # Errors
    /// [`StoreError::Taken`].
    pub async fn add_token(
        &self,
        name: &str,
        hash: &[u8; 32],
        prefix: &str,
        user_id: u32,
        lanes: Option<&[u32]>,
        purpose: Purpose,
        now_ns: i64,
        act: &Act<'_>,
    ) -> Result<()> {
        let mut tx = self.pool.begin().await?;
        let added = sqlx::query(sql::TOKEN_ADD)
            .bind(name)
            .bind(&hash[..])
            .bind(prefix)
            .bind(user_id)
            .bind(lanes.is_none())
            .bind(purpose.name())
            .bind(now_ns)
            .execute(&mut *tx)
            .await
            .map_err(StoreError::taken("the token's name"))?;
        for lane in lanes.unwrap_or_default() {
            sqlx::query(sql::TOKEN_LANE_ADD).bind(added.last_insert_id()).bind(lane).execute(&mut *tx).await?;
        }
        record(&mut tx, act).await?;
        tx.commit().await?;
        Ok(())
    }

    /// Every token.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn tokens(&self) -> Result<Vec<Token>> {
        let rows = sqlx::query(sql::TOKEN_ALL).fetch_all(&self.pool).await?;
        let token = |r: &sqlx::mysql::MySqlRow| {
            Ok(Token {
                name: r.try_get(0)?,
                prefix: r.try_get(1)?,
                purpose: named("purpose", r.try_get(2)?, Purpose::from_name)?,
                created_ns: r.try_get(3)?,
                revoked_ns: r.try_get(4)?,
            })
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
