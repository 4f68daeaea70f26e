//! Transform rules, dials and ties as records.

use super::{Act, record, team_of};
use crate::{Result, Store, StoreError, sql};
use calvex_language::domain::kept::{StoredDial, StoredTransform};
use sqlx::Row;

impl Store {
    /// Every transform rule, in order.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn transforms(&self) -> Result<Vec<StoredTransform>> {
        let rows = sqlx::query(sql::TRANSFORM_ALL).fetch_all(&self.pool).await?;
        let row = |r: &sqlx::mysql::MySqlRow| {
            Ok(StoredTransform {
                id: r.try_get(0)?,
                name: r.try_get(1)?,
                filter: r.try_get(2)?,
                act: r.try_get(3)?,
                held: r.try_get(4)?,
                last_ns: r.try_get(5)?,
                changed_ns: r.try_get(6)?,
                team: team_of(r, 7)?,
            })
        };
        rows.iter().map(row).collect()
    }

    /// Puts the rules of a team, or of the service, in this order: name, filter, act. Rules of a known name keep what was
    /// counted of them; those not named are removed. `most` is how many there may be of all.
    ///
    /// # Errors
    /// [`StoreError::Taken`] where a rule of somebody else's has one of the names, [`StoreError::Full`] where there would
    /// be too many, or where the database fails; the old ones stand then.
    pub async fn put_transforms(
        &self,
        team: Option<u32>,
        rules: &[(String, String, String)],
        most: usize,
        act: &Act<'_>,
    ) -> Result<()> {
        let mut tx = self.pool.begin().await?;
        let known: Vec<(String, bool)> = sqlx::query_as(sql::TRANSFORM_NAMES).bind(team).fetch_all(&mut *tx).await?;
        let (own, others): (Vec<_>, Vec<_>) = known.into_iter().partition(|(_, own)| *own);
        if let Some((name, ..)) = rules.iter().find(|(name, ..)| others.iter().any(|(other, _)| other == name)) {
            return Err(StoreError::Taken(format!("the name `{name}` of a transform rule")));
        }
        if others.len() + rules.len() > most {
            return Err(StoreError::Full(format!("there would be more than {most} transform rules; remove some")));
        }
        for (name, _) in own.iter().filter(|(name, _)| !rules.iter().any(|(n, ..)| n == name)) {
            sqlx::query(sql::TRANSFORM_REMOVE).bind(name).execute(&mut *tx).await?;
        }
        for (place, (name, filter, does)) in rules.iter().enumerate() {
            sqlx::query(sql::TRANSFORM_PUT)
                .bind(place as u32)
                .bind(name)
                .bind(filter)
                .bind(does)
                .bind(act.at_ns)
                .bind(team)
                .execute(&mut *tx)
                .await?;
        }
        record(&mut tx, act).await?;
        tx.commit().await?;
        Ok(())
    }

    /// Adds to what was counted of rules: name, events, when last.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn count_transforms(&self, counted: &[(String, u64, i64)]) -> Result<()> {
        for (name, held, last_ns) in counted {
            sqlx::query(sql::TRANSFORM_HELD).bind(held).bind(last_ns).bind(name).execute(&self.pool).await?;
        }
        Ok(())
    }

    /// Every dial, the one set last first; those that ended too.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn dials(&self) -> Result<Vec<StoredDial>> {
        let rows = sqlx::query(sql::DIAL_ALL).fetch_all(&self.pool).await?;
        let row = |r: &sqlx::mysql::MySqlRow| {
            Ok(StoredDial {
                id: r.try_get(0)?,
                filter: r.try_get(1)?,
                least: r.try_get(2)?,
                until_ns: r.try_get(3)?,
                why: r.try_get(4)?,
                who: r.try_get(5)?,
                set_ns: r.try_get(6)?,
                team: team_of(r, 7)?,
            })
        };
        rows.iter().map(row).collect()
    }

    /// Sets a dial; its number. Its own number in `dial` is not looked at. So many may be in force at most: of all, and of
    /// one team.
    ///
    /// # Errors
    /// [`StoreError::Full`] where there are too many, or where the database fails.
    pub async fn add_dial(&self, dial: &StoredDial, most: (i64, i64), act: &Act<'_>) -> Result<u32> {
        let team = dial.team.as_ref().map(|team| team.id);
        let mut tx = self.pool.begin().await?;
        let (all, own): (i64, i64) =
            sqlx::query_as(sql::DIAL_COUNT).bind(team).bind(act.at_ns).bind(act.at_ns).fetch_one(&mut *tx).await?;
        if all >= most.0 || team.is_some() && own >= most.1 {
            return Err(StoreError::Full("there are as many dials in force as there may be; take some back".into()));
        }
        let added = sqlx::query(sql::DIAL_ADD)
            .bind(&dial.filter)
            .bind(dial.least)
            .bind(dial.until_ns)
            .bind(&dial.why)
            .bind(&dial.who)
            .bind(dial.set_ns)
            .bind(team)
            .execute(&mut *tx)
            .await?;
        record(&mut tx, act).await?;
        tx.commit().await?;
        Ok(added.last_insert_id() as u32)
    }

    /// Takes a dial back.
    ///
    /// # Errors
    /// [`StoreError::Missing`].
    pub async fn remove_dial(&self, id: u32, act: &Act<'_>) -> Result<()> {
        let mut tx = self.pool.begin().await?;
        let done = sqlx::query(sql::DIAL_REMOVE).bind(id).execute(&mut *tx).await?;
        if done.rows_affected() == 0 {
            return Err(StoreError::Missing(format!("dial {id}")));
        }
        record(&mut tx, act).await?;
        tx.commit().await?;
        Ok(())
    }

    /// Forgets dials that ended before `ns`.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn expire_dials(&self, ns: i64) -> Result<()> {
        sqlx::query(sql::DIAL_EXPIRE).bind(ns).execute(&self.pool).await?;
        Ok(())
    }

    /// Every tie with its spellings.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn ties(&self) -> Result<Vec<(String, Vec<String>)>> {
        let mut out: Vec<(String, Vec<String>)> = Vec::new();
        for row in sqlx::query(sql::TIE_ALL).fetch_all(&self.pool).await? {
            let (name, spelling): (String, Option<String>) = (row.try_get(0)?, row.try_get(1)?);
            match out.last_mut().filter(|(last, _)| *last == name) {
                Some((_, spellings)) => spellings.extend(spelling),
                None => out.push((name, spelling.into_iter().collect())),
            }
        }
        Ok(out)
    }

    /// Makes a tie, or gives an existing one these spellings instead of its own.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn put_tie(&self, name: &str, spellings: &[String], act: &Act<'_>) -> Result<()> {
        let mut tx = self.pool.begin().await?;
        sqlx::query(sql::TIE_ADD).bind(name).execute(&mut *tx).await?;
        sqlx::query(sql::TIE_SPELLINGS_CLEAR).bind(name).execute(&mut *tx).await?;
        for spelling in spellings {
            sqlx::query(sql::TIE_SPELLING_ADD).bind(name).bind(spelling).execute(&mut *tx).await?;
        }
        record(&mut tx, act).await?;
        tx.commit().await?;
        Ok(())
    }

    /// Removes a tie.
    ///
    /// # Errors
    /// [`StoreError::Missing`].
    pub async fn remove_tie(&self, name: &str, act: &Act<'_>) -> Result<()> {
        let mut tx = self.pool.begin().await?;
        let done = sqlx::query(sql::TIE_REMOVE).bind(name).execute(&mut *tx).await?;
        if done.rows_affected() == 0 {
            return Err(StoreError::Missing(format!("tie `{name}`")));
        }
        record(&mut tx, act).await?;
        tx.commit().await?;
        Ok(())
    }

    /// A secret of this installation; `fresh` becomes it where there is none yet.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn own_secret(&self, name: &str, fresh: [u8; 32]) -> Result<[u8; 32]> {
        sqlx::query(sql::OWN_SECRET_ADD).bind(name).bind(&fresh[..]).execute(&self.pool).await?;
        let value: Vec<u8> = sqlx::query_scalar(sql::OWN_SECRET).bind(name).fetch_one(&self.pool).await?;
        value.try_into().map_err(|_| StoreError::Missing(format!("secret `{name}` of 32 bytes")))
    }
}
