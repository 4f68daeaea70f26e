//! People, sessions, and tokens for reading. Secrets are kept as hashes only.

use crate::{Result, Store, StoreError};
use sqlx::Row;

/// A person.
#[derive(Debug, Clone, PartialEq, Eq)]
#[allow(missing_docs)]
pub struct UserRow {
    pub id: u32,
    pub name: String,
    pub password_hash: String,
    /// `admin` or `reader`.
    pub role: String,
}

/// Who a session or token speaks for, and the lanes it may read: `None` for every lane.
#[derive(Debug, Clone, PartialEq, Eq)]
#[allow(missing_docs)]
pub struct ReaderRow {
    pub user_id: u32,
    pub name: String,
    pub role: String,
    pub lanes: Option<Vec<u32>>,
}

/// A token as listed.
#[derive(Debug, Clone, PartialEq, Eq)]
#[allow(missing_docs)]
pub struct TokenRow {
    pub name: String,
    pub prefix: String,
    pub created_ns: i64,
    pub revoked_ns: Option<i64>,
}

/// The two sorts of secrets.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SecretKind {
    /// For sending.
    Key,
    /// For reading.
    Token,
}

impl SecretKind {
    fn table(self) -> &'static str {
        match self {
            SecretKind::Key => "sender_key",
            SecretKind::Token => "token",
        }
    }
}

impl Store {
    /// How many people there are.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn user_count(&self) -> Result<i64> {
        Ok(sqlx::query_scalar("SELECT COUNT(*) FROM user").fetch_one(&self.pool).await?)
    }

    /// Makes a person who may read `lanes`.
    ///
    /// # Errors
    /// [`StoreError::Taken`].
    pub async fn add_user(
        &self,
        name: &str,
        password_hash: &str,
        role: &str,
        lanes: &[u32],
        now_ns: i64,
    ) -> Result<u32> {
        let mut tx = self.pool.begin().await?;
        let added = sqlx::query("INSERT INTO user (name, password_hash, role, created_ns) VALUES (?, ?, ?, ?)")
            .bind(name)
            .bind(password_hash)
            .bind(role)
            .bind(now_ns)
            .execute(&mut *tx)
            .await
            .map_err(StoreError::taken("the user's name"))?;
        let id = added.last_insert_id() as u32;
        for lane in lanes {
            sqlx::query("INSERT INTO user_lane (user_id, lane_id) VALUES (?, ?)")
                .bind(id)
                .bind(lane)
                .execute(&mut *tx)
                .await?;
        }
        tx.commit().await?;
        Ok(id)
    }

    /// A person by name.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn user(&self, name: &str) -> Result<Option<UserRow>> {
        let row = sqlx::query("SELECT id, name, password_hash, role FROM user WHERE name = ?")
            .bind(name)
            .fetch_optional(&self.pool)
            .await?;
        row.map(|r| {
            Ok(UserRow { id: r.try_get(0)?, name: r.try_get(1)?, password_hash: r.try_get(2)?, role: r.try_get(3)? })
        })
        .transpose()
    }

    /// Opens a session.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn add_session(&self, hash: &[u8; 32], user_id: u32, expires_ns: i64) -> Result<()> {
        sqlx::query("INSERT INTO session (hash, user_id, expires_ns) VALUES (?, ?, ?)")
            .bind(&hash[..])
            .bind(user_id)
            .bind(expires_ns)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// Ends a session.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn end_session(&self, hash: &[u8; 32]) -> Result<()> {
        sqlx::query("DELETE FROM session WHERE hash = ?").bind(&hash[..]).execute(&self.pool).await?;
        Ok(())
    }

    /// Forgets sessions that ended before `now_ns`.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn expire_sessions(&self, now_ns: i64) -> Result<()> {
        sqlx::query("DELETE FROM session WHERE expires_ns < ?").bind(now_ns).execute(&self.pool).await?;
        Ok(())
    }

    /// Who a session speaks for.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn session_reader(&self, hash: &[u8; 32], now_ns: i64) -> Result<Option<ReaderRow>> {
        let row = sqlx::query(
            "SELECT u.id, u.name, u.role FROM session s JOIN user u ON u.id = s.user_id WHERE s.hash = ? AND s.expires_ns > ?",
        )
        .bind(&hash[..])
        .bind(now_ns)
        .fetch_optional(&self.pool)
        .await?;
        let Some(row) = row else { return Ok(None) };
        let (user_id, name, role): (u32, String, String) = (row.try_get(0)?, row.try_get(1)?, row.try_get(2)?);
        let lanes = self.lanes_of_user(user_id, &role).await?;
        Ok(Some(ReaderRow { user_id, name, role, lanes }))
    }

    /// Who a token speaks for: its owner, at most for the token's own lanes.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn token_reader(&self, hash: &[u8; 32]) -> Result<Option<ReaderRow>> {
        let row = sqlx::query(
            "SELECT u.id, u.name, u.role, t.id, t.all_lanes FROM token t JOIN user u ON u.id = t.user_id
             WHERE t.hash = ? AND t.revoked_ns IS NULL",
        )
        .bind(&hash[..])
        .fetch_optional(&self.pool)
        .await?;
        let Some(row) = row else { return Ok(None) };
        let (user_id, name, role): (u32, String, String) = (row.try_get(0)?, row.try_get(1)?, row.try_get(2)?);
        let mut lanes = self.lanes_of_user(user_id, &role).await?;
        if !row.try_get::<bool, _>(4)? {
            let own: Vec<u32> = sqlx::query_scalar("SELECT lane_id FROM token_lane WHERE token_id = ?")
                .bind(row.try_get::<u32, _>(3)?)
                .fetch_all(&self.pool)
                .await?;
            lanes = Some(own.into_iter().filter(|l| lanes.as_ref().is_none_or(|all| all.contains(l))).collect());
            // A narrowed token reads; it does not administer.
            return Ok(Some(ReaderRow { user_id, name, role: "reader".into(), lanes }));
        }
        Ok(Some(ReaderRow { user_id, name, role, lanes }))
    }

    /// The lanes a person may read; `None` for every lane.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn lanes_of_user(&self, user_id: u32, role: &str) -> Result<Option<Vec<u32>>> {
        if role == "admin" {
            return Ok(None);
        }
        let lanes =
            sqlx::query_scalar("SELECT lane_id FROM user_lane WHERE user_id = ?").bind(user_id).fetch_all(&self.pool);
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
        now_ns: i64,
    ) -> Result<()> {
        let mut tx = self.pool.begin().await?;
        let insert = "INSERT INTO token (name, hash, prefix, user_id, all_lanes, created_ns) VALUES (?, ?, ?, ?, ?, ?)";
        let added = sqlx::query(insert)
            .bind(name)
            .bind(&hash[..])
            .bind(prefix)
            .bind(user_id)
            .bind(lanes.is_none())
            .bind(now_ns)
            .execute(&mut *tx)
            .await
            .map_err(StoreError::taken("the token's name"))?;
        for lane in lanes.unwrap_or_default() {
            sqlx::query("INSERT INTO token_lane (token_id, lane_id) VALUES (?, ?)")
                .bind(added.last_insert_id())
                .bind(lane)
                .execute(&mut *tx)
                .await?;
        }
        tx.commit().await?;
        Ok(())
    }

    /// Every token.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn tokens(&self) -> Result<Vec<TokenRow>> {
        let select = "SELECT name, prefix, created_ns, revoked_ns FROM token ORDER BY name";
        let rows = sqlx::query(select).fetch_all(&self.pool).await?;
        let token = |r: &sqlx::mysql::MySqlRow| {
            Ok(TokenRow {
                name: r.try_get(0)?,
                prefix: r.try_get(1)?,
                created_ns: r.try_get(2)?,
                revoked_ns: r.try_get(3)?,
            })
        };
        rows.iter().map(token).collect()
    }

    /// Revokes a key or token at once.
    ///
    /// # Errors
    /// [`StoreError::Missing`].
    pub async fn revoke(&self, kind: SecretKind, name: &str, now_ns: i64) -> Result<()> {
        let update = format!("UPDATE {} SET revoked_ns = ? WHERE name = ? AND revoked_ns IS NULL", kind.table());
        let done = sqlx::query(crate::sql::safe(update)).bind(now_ns).bind(name).execute(&self.pool).await?;
        if done.rows_affected() == 0 {
            let what = if kind == SecretKind::Key { "key" } else { "token" };
            return Err(StoreError::Missing(format!("{what} `{name}` in use")));
        }
        Ok(())
    }
}
