//! People, sessions, and tokens for reading. Secrets are kept as hashes only.

use super::{Act, record};
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

/// Who asks: a person, by a session or by a token of theirs, and what they may do then. Everything about rights is
/// decided from this.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Principal {
    /// The person.
    pub user_id: u32,
    /// The person's name.
    pub name: String,
    /// The token by which the person asks; none for a session.
    pub token: Option<String>,
    /// Whether everything may be administered.
    pub administers: bool,
    /// Whether anything may be changed: by a session, or by a token that says so.
    pub changes: bool,
    /// Whether the token reads less than its owner.
    pub narrowed: bool,
    /// The lanes that may be read; `None` for every lane.
    pub lanes: Option<Vec<u32>>,
}

impl Principal {
    /// Whether the lane may be read.
    pub fn may_read(&self, lane: u32) -> bool {
        self.lanes.as_ref().is_none_or(|l| l.contains(&lane))
    }

    /// The person, and the token where there is one, as the audit trail names them.
    pub fn actor(&self) -> Actor<'_> {
        Actor { name: &self.name, token: self.token.as_deref() }
    }

    /// What the person may do, in a word.
    pub fn role(&self) -> &'static str {
        if self.administers { ADMIN } else { "reader" }
    }
}

/// Who did something, for the audit trail.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Actor<'a> {
    /// The person.
    pub name: &'a str,
    /// The person's token.
    pub token: Option<&'a str>,
}

/// The role that administers.
const ADMIN: &str = "admin";

/// What a token is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Purpose {
    /// It reads what its owner may read, and changes nothing.
    Read,
    /// It does what its owner may do.
    Administer,
}

impl Purpose {
    /// Every purpose, as it is called.
    pub const ALL: [(Purpose, &'static str); 2] = [(Purpose::Read, "read"), (Purpose::Administer, "administer")];

    /// By its name.
    pub fn from_name(name: &str) -> Option<Self> {
        Self::ALL.iter().find(|(_, n)| *n == name).map(|(p, _)| *p)
    }

    /// Its name.
    pub fn name(self) -> &'static str {
        if self == Purpose::Read { "read" } else { "administer" }
    }
}

/// A token as listed.
#[derive(Debug, Clone, PartialEq, Eq)]
#[allow(missing_docs)]
pub struct TokenRow {
    pub name: String,
    pub prefix: String,
    pub purpose: String,
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
        act: &Act<'_>,
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
        record(&mut tx, act).await?;
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

    /// A name as the database compares it: two names of one weight are one name to it, whatever their case, accents and
    /// blanks at the end.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn name_weight(&self, name: &str) -> Result<String> {
        let weight: Option<String> =
            sqlx::query_scalar(crate::sql::NAME_WEIGHT).bind(name).fetch_one(&self.pool).await?;
        Ok(weight.unwrap_or_default())
    }

    /// Opens a session.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn add_session(&self, hash: &[u8; 32], user_id: u32, expires_ns: i64, act: &Act<'_>) -> Result<()> {
        let mut tx = self.pool.begin().await?;
        sqlx::query("INSERT INTO session (hash, user_id, expires_ns) VALUES (?, ?, ?)")
            .bind(&hash[..])
            .bind(user_id)
            .bind(expires_ns)
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
        sqlx::query("DELETE FROM session WHERE hash = ?").bind(&hash[..]).execute(&mut *tx).await?;
        record(&mut tx, act).await?;
        tx.commit().await?;
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
    pub async fn session_principal(&self, hash: &[u8; 32], now_ns: i64) -> Result<Option<Principal>> {
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
        let administers = role == ADMIN;
        Ok(Some(Principal { user_id, name, token: None, administers, changes: true, narrowed: false, lanes }))
    }

    /// Who a token speaks for: its owner, at most for the token's own lanes and purpose. A token with lanes of its own
    /// reads, whatever its purpose.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn token_principal(&self, hash: &[u8; 32]) -> Result<Option<Principal>> {
        let row = sqlx::query(
            "SELECT u.id, u.name, u.role, t.id, t.all_lanes, t.name, t.purpose FROM token t JOIN user u ON u.id = t.user_id
             WHERE t.hash = ? AND t.revoked_ns IS NULL",
        )
        .bind(&hash[..])
        .fetch_optional(&self.pool)
        .await?;
        let Some(row) = row else { return Ok(None) };
        let (user_id, name, role): (u32, String, String) = (row.try_get(0)?, row.try_get(1)?, row.try_get(2)?);
        let (narrowed, token, purpose): (bool, String, String) =
            (!row.try_get::<bool, _>(4)?, row.try_get(5)?, row.try_get(6)?);
        let mut lanes = self.lanes_of_user(user_id, &role).await?;
        if narrowed {
            let own: Vec<u32> = sqlx::query_scalar("SELECT lane_id FROM token_lane WHERE token_id = ?")
                .bind(row.try_get::<u32, _>(3)?)
                .fetch_all(&self.pool)
                .await?;
            lanes = Some(own.into_iter().filter(|l| lanes.as_ref().is_none_or(|all| all.contains(l))).collect());
        }
        let changes = !narrowed && Purpose::from_name(&purpose) == Some(Purpose::Administer);
        let administers = changes && role == ADMIN;
        Ok(Some(Principal { user_id, name, token: Some(token), administers, changes, narrowed, lanes }))
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
        purpose: Purpose,
        now_ns: i64,
        act: &Act<'_>,
    ) -> Result<()> {
        let mut tx = self.pool.begin().await?;
        let insert = "INSERT INTO token (name, hash, prefix, user_id, all_lanes, purpose, created_ns) VALUES (?, ?, ?, ?, ?, ?, ?)";
        let added = sqlx::query(insert)
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
            sqlx::query("INSERT INTO token_lane (token_id, lane_id) VALUES (?, ?)")
                .bind(added.last_insert_id())
                .bind(lane)
                .execute(&mut *tx)
                .await?;
        }
        record(&mut tx, act).await?;
        tx.commit().await?;
        Ok(())
    }

    /// Every token.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn tokens(&self) -> Result<Vec<TokenRow>> {
        let select = "SELECT name, prefix, purpose, created_ns, revoked_ns FROM token ORDER BY name";
        let rows = sqlx::query(select).fetch_all(&self.pool).await?;
        let token = |r: &sqlx::mysql::MySqlRow| {
            Ok(TokenRow {
                name: r.try_get(0)?,
                prefix: r.try_get(1)?,
                purpose: r.try_get(2)?,
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
        let update = format!("UPDATE {} SET revoked_ns = ? WHERE name = ? AND revoked_ns IS NULL", kind.table());
        let done = sqlx::query(crate::sql::safe(update)).bind(now_ns).bind(name).execute(&mut *tx).await?;
        if done.rows_affected() == 0 {
            let what = if kind == SecretKind::Key { "key" } else { "token" };
            return Err(StoreError::Missing(format!("{what} `{name}` in use")));
        }
        record(&mut tx, act).await?;
        tx.commit().await?;
        Ok(())
    }
}
