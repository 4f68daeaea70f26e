//! People as an administrator looks after them, their passwords and sessions. Whatever takes rights away ends in the same
//! transaction what was begun with them.

use super::{Act, named, record};
use crate::{Result, Store, StoreError, sql};
use calvex_language::domain::access::{Person, PersonChange, Role, SESSION_IDLE_NS, Session};
use sqlx::{MySqlConnection, Row};
use std::collections::HashMap;

/// No session's hash.
const NONE: [u8; 32] = [0; 32];

impl Store {
    /// Everybody, by name.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn people(&self, now_ns: i64) -> Result<Vec<Person>> {
        let mut lanes: HashMap<u32, Vec<u32>> = HashMap::new();
        for row in sqlx::query(sql::PERSON_LANES).bind(now_ns).bind(now_ns).fetch_all(&self.pool).await? {
            lanes.entry(row.try_get(0)?).or_default().push(row.try_get(1)?);
        }
        let mut teams: HashMap<u32, Vec<String>> = HashMap::new();
        for row in sqlx::query(sql::PERSON_TEAMS).fetch_all(&self.pool).await? {
            teams.entry(row.try_get(0)?).or_default().push(row.try_get(1)?);
        }
        let idle_ns = now_ns - SESSION_IDLE_NS;
        let rows = sqlx::query(sql::PERSON_ALL).bind(now_ns).bind(idle_ns).fetch_all(&self.pool).await?;
        let person = |r: &sqlx::mysql::MySqlRow| {
            Ok(Person {
                name: r.try_get(1)?,
                role: named("role", r.try_get(2)?, Role::from_name)?,
                lanes: lanes.remove(&r.try_get::<u32, _>(0)?).unwrap_or_default(),
                teams: teams.remove(&r.try_get::<u32, _>(0)?).unwrap_or_default(),
                by_provider: r.try_get(7)?,
                created_ns: r.try_get(3)?,
                disabled_ns: r.try_get(4)?,
                sessions: u64::try_from(r.try_get::<i64, _>(5)?).unwrap_or(0),
                seen_ns: r.try_get(6)?,
            })
        };
        rows.iter().map(person).collect()
    }

    /// Changes what a person may do. Who is disabled is signed out everywhere, and the person's tokens are revoked.
    ///
    /// # Errors
    /// [`StoreError::Missing`]; [`StoreError::LastAdmin`] where nobody would be left who administers.
    pub async fn change_person(&self, name: &str, change: &PersonChange, act: &Act<'_>) -> Result<()> {
        let mut tx = self.pool.begin().await?;
        let id = locked(&mut tx, name).await?;
        if let Some(role) = change.role {
            sqlx::query(sql::PERSON_ROLE).bind(role.name()).bind(id).execute(&mut *tx).await?;
        }
        if let Some(disabled) = change.disabled {
            let since_ns = disabled.then_some(act.at_ns);
            sqlx::query(sql::PERSON_DISABLED).bind(since_ns).bind(id).execute(&mut *tx).await?;
        }
        if change.disabled == Some(true) {
            sqlx::query(sql::SESSIONS_OF_USER_END).bind(id).bind(&NONE[..]).execute(&mut *tx).await?;
            sqlx::query(sql::TOKENS_OF_USER_END).bind(act.at_ns).bind(id).execute(&mut *tx).await?;
            sqlx::query(sql::CODE_END).bind(id).execute(&mut *tx).await?;
        }
        if sqlx::query(sql::ADMINS_LEFT).fetch_optional(&mut *tx).await?.is_none() {
            return Err(StoreError::LastAdmin(name.to_owned()));
        }
        record(&mut tx, act).await?;
        tx.commit().await?;
        Ok(())
    }

    /// Gives a person a one-time code to set a password by, in the place of an earlier one.
    ///
    /// # Errors
    /// [`StoreError::Missing`].
    pub async fn put_password_code(&self, name: &str, hash: &[u8; 32], ends_ns: i64, act: &Act<'_>) -> Result<()> {
        let mut tx = self.pool.begin().await?;
        let id = locked(&mut tx, name).await?;
        sqlx::query(sql::CODE_PUT).bind(id).bind(&hash[..]).bind(ends_ns).execute(&mut *tx).await?;
        record(&mut tx, act).await?;
        tx.commit().await?;
        Ok(())
    }

    /// Whose code this is, while it is good.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn person_of_code(&self, hash: &[u8; 32], now_ns: i64) -> Result<Option<String>> {
        let mut connection = self.pool.acquire().await?;
        Ok(of_code(&mut connection, hash, now_ns).await?.map(|(_, name)| name))
    }

    /// Sets a password by a code, which is used up by it; whoever was signed in before is no more. Whether the code was good.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn use_password_code(&self, hash: &[u8; 32], password_hash: &str, act: &Act<'_>) -> Result<bool> {
        let mut tx = self.pool.begin().await?;
        let Some((id, _)) = of_code(&mut tx, hash, act.at_ns).await? else { return Ok(false) };
        set_password(&mut tx, id, password_hash, &NONE).await?;
        record(&mut tx, act).await?;
        tx.commit().await?;
        Ok(true)
    }

    /// Sets a person's own password; every session but the one that is kept ends.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn change_password(
        &self,
        user_id: u32,
        password_hash: &str,
        kept: &[u8; 32],
        act: &Act<'_>,
    ) -> Result<()> {
        let mut tx = self.pool.begin().await?;
        set_password(&mut tx, user_id, password_hash, kept).await?;
        record(&mut tx, act).await?;
        tx.commit().await?;
        Ok(())
    }

    /// A person's sessions that are open, the one used last first; 200 at most.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn sessions_of(&self, user_id: u32, now_ns: i64) -> Result<Vec<Session>> {
        let query = sqlx::query(sql::SESSION_ALL).bind(user_id).bind(now_ns).bind(now_ns - SESSION_IDLE_NS);
        let session = |r: &sqlx::mysql::MySqlRow| {
            Ok(Session {
                id: r.try_get(0)?,
                begun_ns: r.try_get(1)?,
                seen_ns: r.try_get(2)?,
                ends_ns: r.try_get(3)?,
                address: r.try_get(4)?,
                hash: r.try_get::<Vec<u8>, _>(5)?.try_into().unwrap_or(NONE),
            })
        };
        query.fetch_all(&self.pool).await?.iter().map(session).collect()
    }

    /// Ends one of a person's sessions.
    ///
    /// # Errors
    /// [`StoreError::Missing`].
    pub async fn end_session_of(&self, user_id: u32, id: u64, act: &Act<'_>) -> Result<()> {
        let mut tx = self.pool.begin().await?;
        let done = sqlx::query(sql::SESSION_OF_USER_END).bind(user_id).bind(id).execute(&mut *tx).await?;
        if done.rows_affected() == 0 {
            return Err(StoreError::Missing(format!("session {id} of yours")));
        }
        record(&mut tx, act).await?;
        tx.commit().await?;
        Ok(())
    }

    /// Ends every session of a person; how many there were.
    ///
    /// # Errors
    /// [`StoreError::Missing`].
    pub async fn end_sessions_of(&self, name: &str, act: &Act<'_>) -> Result<u64> {
        let mut tx = self.pool.begin().await?;
        let id = locked(&mut tx, name).await?;
        let done = sqlx::query(sql::SESSIONS_OF_USER_END).bind(id).bind(&NONE[..]).execute(&mut *tx).await?;
        record(&mut tx, act).await?;
        tx.commit().await?;
        Ok(done.rows_affected())
    }
}

/// The id of a person, whose row stays as it is until the transaction ends.
pub(super) async fn locked(tx: &mut MySqlConnection, name: &str) -> Result<u32> {
    let id = sqlx::query_scalar(sql::PERSON_LOCKED).bind(name).fetch_optional(tx).await?;
    id.ok_or_else(|| StoreError::Missing(format!("person `{name}`")))
}

async fn of_code(tx: &mut MySqlConnection, hash: &[u8; 32], now_ns: i64) -> Result<Option<(u32, String)>> {
    let row = sqlx::query(sql::CODE_OF).bind(&hash[..]).bind(now_ns).fetch_optional(tx).await?;
    row.map(|r| Ok((r.try_get(0)?, r.try_get(1)?))).transpose()
}

async fn set_password(tx: &mut MySqlConnection, user_id: u32, hash: &str, kept: &[u8; 32]) -> Result<()> {
    sqlx::query(sql::PERSON_PASSWORD).bind(hash).bind(user_id).execute(&mut *tx).await?;
    sqlx::query(sql::CODE_END).bind(user_id).execute(&mut *tx).await?;
    sqlx::query(sql::SESSIONS_OF_USER_END).bind(user_id).bind(&kept[..]).execute(&mut *tx).await?;
    Ok(())
}
