//! Duties: what one node does for all. A row names who has it; without a row nobody does, and whoever takes it first has
//! it. A duty leaves its owner by the owner's own act, or with an adoption.

use crate::claim::Claim;
use crate::{Result, Store, sql};
use sqlx::Row;

/// Who has a duty.
#[derive(Debug, Clone, PartialEq, Eq)]
#[allow(missing_docs)]
pub struct DutyOwner {
    pub duty: String,
    pub slot: u16,
    pub epoch: u32,
}

impl Store {
    /// Takes a duty that nobody has; whether this one has it now that did not.
    ///
    /// # Errors
    /// [`crate::StoreError::Fenced`] where the claim is lost; others where the database fails.
    pub async fn take_duty(&self, claim: &Claim, duty: &str) -> Result<bool> {
        let mut tx = self.pool.begin().await?;
        self.fence_work(&mut tx, claim).await?;
        let take = sqlx::query(sql::DUTY_TAKE).bind(duty).bind(claim.slot).bind(claim.epoch);
        let took = take.execute(&mut *tx).await?.rows_affected() == 1;
        tx.commit().await?;
        Ok(took)
    }

    /// Gives up a duty.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn give_up_duty(&self, claim: &Claim, duty: &str) -> Result<()> {
        sqlx::query(sql::DUTY_GIVE_UP).bind(duty).bind(claim.slot).bind(claim.epoch).execute(&self.pool).await?;
        Ok(())
    }

    /// Who has which duty.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn duty_owners(&self) -> Result<Vec<DutyOwner>> {
        let rows = sqlx::query(sql::DUTY_OWNERS).fetch_all(&self.pool).await?;
        rows.iter().map(owner_of).collect()
    }
}

pub(crate) fn owner_of(row: &sqlx::mysql::MySqlRow) -> Result<DutyOwner> {
    Ok(DutyOwner { duty: row.try_get(0)?, slot: row.try_get(1)?, epoch: row.try_get(2)? })
}
