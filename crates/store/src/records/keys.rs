//! Senders' keys: what they may send, and their secrets, of which several may be good at once while one takes the place
//! of another. Secrets are kept as hashes only.

use super::{Act, record};
use crate::{Result, Store, StoreError};
use sqlx::Row;

/// What a key may send; anything where nothing is said.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct KeyLimits {
    /// The services it may send for.
    pub services: Vec<String>,
    /// The lanes it may send to.
    pub lanes: Vec<u32>,
    /// Events a second.
    pub rate: Option<u32>,
    /// Events a day.
    pub day_events: Option<u64>,
    /// Bytes a day.
    pub day_bytes: Option<u64>,
    /// From when on it is no longer good.
    pub ends_ns: Option<i64>,
}

/// A sender's key.
#[derive(Debug, Clone, PartialEq, Eq)]
#[allow(missing_docs)]
pub struct KeyRow {
    pub id: u32,
    pub name: String,
    /// A JSON object.
    pub fixed: String,
    pub limits: KeyLimits,
    /// From when on the secret that was shown is no longer good.
    pub secret_ends_ns: Option<i64>,
}

/// A secret of a key as listed.
#[derive(Debug, Clone, PartialEq, Eq)]
#[allow(missing_docs)]
pub struct KeySecretRow {
    pub prefix: String,
    pub created_ns: i64,
    pub ends_ns: Option<i64>,
}

/// A key as listed.
#[derive(Debug, Clone, PartialEq, Eq)]
#[allow(missing_docs)]
pub struct KeyListed {
    pub key: KeyRow,
    pub created_ns: i64,
    pub revoked_ns: Option<i64>,
    pub last_ns: Option<i64>,
    /// The newest first.
    pub secrets: Vec<KeySecretRow>,
}

/// Columns of a key in the order of [`key_of`].
const KEY: &str = "k.id, k.name, k.fixed, k.rate, k.day_events, k.day_bytes, k.ends_ns";

fn key_of(r: &sqlx::mysql::MySqlRow) -> Result<KeyRow> {
    let limits = KeyLimits {
        rate: r.try_get(3)?,
        day_events: r.try_get(4)?,
        day_bytes: r.try_get(5)?,
        ends_ns: r.try_get(6)?,
        ..KeyLimits::default()
    };
    Ok(KeyRow { id: r.try_get(0)?, name: r.try_get(1)?, fixed: r.try_get(2)?, limits, secret_ends_ns: None })
}

impl Store {
    /// Makes a sender's key.
    ///
    /// # Errors
    /// [`StoreError::Taken`].
    pub async fn add_key(
        &self,
        name: &str,
        hash: &[u8; 32],
        prefix: &str,
        fixed: &str,
        limits: &KeyLimits,
        now_ns: i64,
        act: &Act<'_>,
    ) -> Result<()> {
        let mut tx = self.pool.begin().await?;
        let added = sqlx::query("INSERT INTO sender_key (name, fixed, created_ns) VALUES (?, ?, ?)")
            .bind(name)
            .bind(fixed)
            .bind(now_ns)
            .execute(&mut *tx)
            .await
            .map_err(StoreError::taken("the key's name"))?;
        let id = added.last_insert_id() as u32;
        add_secret(&mut tx, id, hash, prefix, now_ns).await?;
        set_limits(&mut tx, id, limits).await?;
        record(&mut tx, act).await?;
        tx.commit().await?;
        Ok(())
    }

    /// Sets what a key may send.
    ///
    /// # Errors
    /// [`StoreError::Missing`].
    pub async fn limit_key(&self, name: &str, limits: &KeyLimits, act: &Act<'_>) -> Result<()> {
        let mut tx = self.pool.begin().await?;
        let id = in_use(&mut tx, name).await?;
        set_limits(&mut tx, id, limits).await?;
        record(&mut tx, act).await?;
        tx.commit().await?;
        Ok(())
    }

    /// Gives a key another secret; its earlier ones end at `earlier_end_ns`, unless they end before.
    ///
    /// # Errors
    /// [`StoreError::Missing`].
    pub async fn rotate_key(
        &self,
        name: &str,
        hash: &[u8; 32],
        prefix: &str,
        earlier_end_ns: i64,
        now_ns: i64,
        act: &Act<'_>,
    ) -> Result<()> {
        let mut tx = self.pool.begin().await?;
        let id = in_use(&mut tx, name).await?;
        sqlx::query("UPDATE key_secret SET ends_ns = LEAST(COALESCE(ends_ns, ?), ?) WHERE key_id = ?")
            .bind(earlier_end_ns)
            .bind(earlier_end_ns)
            .bind(id)
            .execute(&mut *tx)
            .await?;
        add_secret(&mut tx, id, hash, prefix, now_ns).await?;
        record(&mut tx, act).await?;
        tx.commit().await?;
        Ok(())
    }

    /// Removes a key that was made for a moment.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn forget_key(&self, name: &str) -> Result<()> {
        sqlx::query("DELETE FROM sender_key WHERE name = ?").bind(name).execute(&self.pool).await?;
        Ok(())
    }

    /// The key of a secret, unless revoked; whether it has ended is for the caller to see.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn key(&self, hash: &[u8; 32]) -> Result<Option<KeyRow>> {
        let select = format!(
            "SELECT {KEY}, s.ends_ns FROM key_secret s JOIN sender_key k ON k.id = s.key_id
             WHERE s.hash = ? AND k.revoked_ns IS NULL"
        );
        let row = sqlx::query(crate::sql::safe(select)).bind(&hash[..]).fetch_optional(&self.pool).await?;
        let Some(row) = row else { return Ok(None) };
        let mut key = key_of(&row)?;
        key.secret_ends_ns = row.try_get(7)?;
        self.add_limits(&mut key).await?;
        Ok(Some(key))
    }

    /// The key of a name, unless revoked.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn key_named(&self, name: &str) -> Result<Option<KeyRow>> {
        let select = format!("SELECT {KEY} FROM sender_key k WHERE k.name = ? AND k.revoked_ns IS NULL");
        let row = sqlx::query(crate::sql::safe(select)).bind(name).fetch_optional(&self.pool).await?;
        let Some(row) = row else { return Ok(None) };
        let mut key = key_of(&row)?;
        self.add_limits(&mut key).await?;
        Ok(Some(key))
    }

    /// Whether a key of this name was revoked.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn is_revoked(&self, name: &str) -> Result<bool> {
        let found: Option<i64> =
            sqlx::query_scalar("SELECT revoked_ns FROM sender_key WHERE name = ? AND revoked_ns IS NOT NULL")
                .bind(name)
                .fetch_optional(&self.pool)
                .await?;
        Ok(found.is_some())
    }

    async fn add_limits(&self, key: &mut KeyRow) -> Result<()> {
        let services = "SELECT service FROM key_service WHERE key_id = ? ORDER BY service";
        key.limits.services = sqlx::query_scalar(services).bind(key.id).fetch_all(&self.pool).await?;
        let lanes = "SELECT lane_id FROM key_lane WHERE key_id = ? ORDER BY lane_id";
        key.limits.lanes = sqlx::query_scalar(lanes).bind(key.id).fetch_all(&self.pool).await?;
        Ok(())
    }

    /// Every key, by name.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn keys(&self) -> Result<Vec<KeyListed>> {
        let select = format!("SELECT {KEY}, k.created_ns, k.revoked_ns, k.last_ns FROM sender_key k ORDER BY k.name");
        let rows = sqlx::query(crate::sql::safe(select)).fetch_all(&self.pool).await?;
        let mut keys = Vec::with_capacity(rows.len());
        for row in &rows {
            let mut key = key_of(row)?;
            self.add_limits(&mut key).await?;
            let select = "SELECT prefix, created_ns, ends_ns FROM key_secret WHERE key_id = ? ORDER BY created_ns DESC";
            let secrets = sqlx::query(select).bind(key.id).fetch_all(&self.pool).await?;
            let secret = |r: &sqlx::mysql::MySqlRow| {
                Ok(KeySecretRow { prefix: r.try_get(0)?, created_ns: r.try_get(1)?, ends_ns: r.try_get(2)? })
            };
            keys.push(KeyListed {
                key,
                created_ns: row.try_get(7)?,
                revoked_ns: row.try_get(8)?,
                last_ns: row.try_get(9)?,
                secrets: secrets.iter().map(secret).collect::<Result<_>>()?,
            });
        }
        Ok(keys)
    }

    /// Notes when keys were last used, by name.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn touch_keys(&self, used: &[(String, i64)]) -> Result<()> {
        for (name, last_ns) in used {
            sqlx::query("UPDATE sender_key SET last_ns = GREATEST(COALESCE(last_ns, 0), ?) WHERE name = ?")
                .bind(last_ns)
                .bind(name)
                .execute(&self.pool)
                .await?;
        }
        Ok(())
    }
}

type Tx<'t> = sqlx::Transaction<'t, sqlx::MySql>;

async fn in_use(tx: &mut Tx<'_>, name: &str) -> Result<u32> {
    let select = "SELECT id FROM sender_key WHERE name = ? AND revoked_ns IS NULL FOR UPDATE";
    let id: Option<u32> = sqlx::query_scalar(select).bind(name).fetch_optional(&mut **tx).await?;
    id.ok_or_else(|| StoreError::Missing(format!("key `{name}` in use")))
}

async fn add_secret(tx: &mut Tx<'_>, key_id: u32, hash: &[u8; 32], prefix: &str, now_ns: i64) -> Result<()> {
    sqlx::query("INSERT INTO key_secret (hash, key_id, prefix, created_ns) VALUES (?, ?, ?, ?)")
        .bind(&hash[..])
        .bind(key_id)
        .bind(prefix)
        .bind(now_ns)
        .execute(&mut **tx)
        .await?;
    Ok(())
}

async fn set_limits(tx: &mut Tx<'_>, key_id: u32, limits: &KeyLimits) -> Result<()> {
    sqlx::query("UPDATE sender_key SET rate = ?, day_events = ?, day_bytes = ?, ends_ns = ? WHERE id = ?")
        .bind(limits.rate)
        .bind(limits.day_events)
        .bind(limits.day_bytes)
        .bind(limits.ends_ns)
        .bind(key_id)
        .execute(&mut **tx)
        .await?;
    sqlx::query("DELETE FROM key_service WHERE key_id = ?").bind(key_id).execute(&mut **tx).await?;
    sqlx::query("DELETE FROM key_lane WHERE key_id = ?").bind(key_id).execute(&mut **tx).await?;
    for service in &limits.services {
        let insert = "INSERT IGNORE INTO key_service (key_id, service) VALUES (?, ?)";
        sqlx::query(insert).bind(key_id).bind(service).execute(&mut **tx).await?;
    }
    for lane in &limits.lanes {
        let insert = "INSERT IGNORE INTO key_lane (key_id, lane_id) VALUES (?, ?)";
        sqlx::query(insert).bind(key_id).bind(lane).execute(&mut **tx).await?;
    }
    Ok(())
}
