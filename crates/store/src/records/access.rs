//! People who sign in, and their sessions. Secrets are kept as hashes only.

use super::grants::{NewGrant, give};
use super::{Act, named, record};
use crate::{Result, Store, StoreError, sql};
use calvex_language::domain::access::{Role, SESSION_IDLE_NS, User};
use calvex_language::domain::grant::{Grantee, Held, May};
use sqlx::Row;

impl Store {
    /// How many people there are.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn user_count(&self) -> Result<i64> {
        Ok(sqlx::query_scalar(sql::USER_COUNT).fetch_one(&self.pool).await?)
    }

    /// Makes a person who may do `may` in `lanes`.
    ///
    /// # Errors
    /// [`StoreError::Taken`].
    pub async fn add_user(
        &self,
        name: &str,
        password_hash: &str,
        role: Role,
        (may, lanes): (May, &[u32]),
        act: &Act<'_>,
    ) -> Result<u32> {
        let mut tx = self.pool.begin().await?;
        let added = sqlx::query(sql::USER_ADD)
            .bind(name)
            .bind(password_hash)
            .bind(role.name())
            .bind(act.at_ns)
            .execute(&mut *tx)
            .await
            .map_err(StoreError::taken("the person's name"))?;
        let id = added.last_insert_id() as u32;
        for lane in lanes {
            let grant = NewGrant {
                to: Grantee::Person(name.to_owned()),
                held: Held::whole(*lane, may),
                ends_ns: None,
                why: "given with the person".to_owned(),
                break_glass: false,
            };
            give(&mut tx, &grant, act).await?;
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
        row.map(|r| user_of(&r)).transpose()
    }

    /// The person whom the sign-on provider knows by this.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn person_of_subject(&self, subject: &str) -> Result<Option<User>> {
        let row = sqlx::query(sql::USER_BY_SUBJECT).bind(subject).fetch_optional(&self.pool).await?;
        row.map(|r| user_of(&r)).transpose()
    }

    /// Notes by what the sign-on provider knows a person who came by it.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn put_subject(&self, name: &str, subject: &str) -> Result<()> {
        sqlx::query(sql::USER_SUBJECT).bind(subject).bind(name).execute(&self.pool).await?;
        Ok(())
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
        sqlx::query(sql::SESSION_CROWD_OUT).bind(user_id).execute(&mut *tx).await?;
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
}

/// The columns of [`sql::USER_BY_NAME`] and [`sql::USER_BY_SUBJECT`].
fn user_of(r: &sqlx::mysql::MySqlRow) -> Result<User> {
    Ok(User {
        id: r.try_get(0)?,
        name: r.try_get(1)?,
        password_hash: r.try_get(2)?,
        role: named("role", r.try_get(3)?, Role::from_name)?,
        disabled_ns: r.try_get(4)?,
    })
}
