//! Senders' keys: what they may send, and their secrets, of which several may be good at once while one takes the place
//! of another. Secrets are kept as hashes only.

use super::{Act, record};
use crate::{Result, Store, StoreError, sql};
use calvex_language::domain::key::{Key, KeyLimits, KeyListed, KeySecret};
use sqlx::Row;

/// Columns of a key in the order of [`key_of`].
fn key_of(r: &sqlx::mysql::MySqlRow) -> Result<Key> {
    let limits = KeyLimits {
        rate: r.try_get(3)?,
        day_events: r.try_get(4)?,
        day_bytes: r.try_get(5)?,
        ends_ns: r.try_get(6)?,
        past: r.try_get(7)?,
        ..KeyLimits::default()
    };
    Ok(Key { id: r.try_get(0)?, name: r.try_get(1)?, fixed: r.try_get(2)?, limits, secret_ends_ns: None })
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
        team: Option<u32>,
        act: &Act<'_>,
    ) -> Result<()> {
        let now_ns = act.at_ns;
        let mut tx = self.pool.begin().await?;
        let added = sqlx::query(sql::KEY_ADD)
            .bind(name)
            .bind(fixed)
            .bind(now_ns)
            .bind(team)
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

    /// The names of the keys in use that teams own, each with its team.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn keys_of_teams(&self) -> Result<Vec<(u32, String)>> {
        Ok(sqlx::query_as(sql::KEY_TEAMS).fetch_all(&self.pool).await?)
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
        sqlx::query(sql::KEY_SECRETS_END).bind(earlier_end_ns).bind(earlier_end_ns).bind(id).execute(&mut *tx).await?;
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
        sqlx::query(sql::KEY_REMOVE).bind(name).execute(&self.pool).await?;
        Ok(())
    }

    /// The key of a secret, unless revoked; whether it has ended is for the caller to see.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn key(&self, hash: &[u8; 32]) -> Result<Option<Key>> {
        let row = sqlx::query(sql::KEY_BY_SECRET).bind(&hash[..]).fetch_optional(&self.pool).await?;
        let Some(row) = row else { return Ok(None) };
        let mut key = key_of(&row)?;
        key.secret_ends_ns = row.try_get(8)?;
        self.add_limits(&mut key).await?;
        Ok(Some(key))
    }

    /// The key of a name, unless revoked.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn key_named(&self, name: &str) -> Result<Option<Key>> {
        let row = sqlx::query(sql::KEY_BY_NAME).bind(name).fetch_optional(&self.pool).await?;
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
        let found: Option<i64> = sqlx::query_scalar(sql::KEY_REVOKED).bind(name).fetch_optional(&self.pool).await?;
        Ok(found.is_some())
    }

    async fn add_limits(&self, key: &mut Key) -> Result<()> {
        key.limits.services = sqlx::query_scalar(sql::KEY_SERVICES).bind(key.id).fetch_all(&self.pool).await?;
        key.limits.lanes = sqlx::query_scalar(sql::KEY_LANES).bind(key.id).fetch_all(&self.pool).await?;
        Ok(())
    }

    /// Every key, by name.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn keys(&self) -> Result<Vec<KeyListed>> {
        let rows = sqlx::query(sql::KEY_ALL).fetch_all(&self.pool).await?;
        let mut keys = Vec::with_capacity(rows.len());
        for row in &rows {
            let mut key = key_of(row)?;
            self.add_limits(&mut key).await?;
            let secrets = sqlx::query(sql::KEY_SECRETS).bind(key.id).fetch_all(&self.pool).await?;
            let secret = |r: &sqlx::mysql::MySqlRow| {
                Ok(KeySecret { prefix: r.try_get(0)?, created_ns: r.try_get(1)?, ends_ns: r.try_get(2)? })
            };
            keys.push(KeyListed {
                key,
                created_ns: row.try_get(8)?,
                revoked_ns: row.try_get(9)?,
                last_ns: row.try_get(10)?,
                team: row.try_get(11)?,
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
            sqlx::query(sql::KEY_LAST).bind(last_ns).bind(name).execute(&self.pool).await?;
        }
        Ok(())
    }
}

type Tx<'t> = sqlx::Transaction<'t, sqlx::MySql>;

async fn in_use(tx: &mut Tx<'_>, name: &str) -> Result<u32> {
    let id: Option<u32> = sqlx::query_scalar(sql::KEY_IN_USE).bind(name).fetch_optional(&mut **tx).await?;
    id.ok_or_else(|| StoreError::Missing(format!("key `{name}` in use")))
}

async fn add_secret(tx: &mut Tx<'_>, key_id: u32, hash: &[u8; 32], prefix: &str, now_ns: i64) -> Result<()> {
    sqlx::query(sql::KEY_SECRET_ADD).bind(&hash[..]).bind(key_id).bind(prefix).bind(now_ns).execute(&mut **tx).await?;
    Ok(())
}

async fn set_limits(tx: &mut Tx<'_>, key_id: u32, limits: &KeyLimits) -> Result<()> {
    sqlx::query(sql::KEY_LIMITS)
        .bind(limits.rate)
        .bind(limits.day_events)
        .bind(limits.day_bytes)
        .bind(limits.ends_ns)
        .bind(limits.past)
        .bind(key_id)
        .execute(&mut **tx)
        .await?;
    sqlx::query(sql::KEY_SERVICES_CLEAR).bind(key_id).execute(&mut **tx).await?;
    sqlx::query(sql::KEY_LANES_CLEAR).bind(key_id).execute(&mut **tx).await?;
    for service in &limits.services {
        sqlx::query(sql::KEY_SERVICE_ADD).bind(key_id).bind(service).execute(&mut **tx).await?;
    }
    for lane in &limits.lanes {
        sqlx::query(sql::KEY_LANE_ADD).bind(key_id).bind(lane).execute(&mut **tx).await?;
    }
    Ok(())
}
