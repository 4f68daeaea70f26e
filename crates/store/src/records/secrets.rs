//! Secrets that are given back, kept under the key that seals now: at each start, and when the key is changed.

use super::{Act, record};
use crate::sealed::{CONTACT, RULE};
use crate::{Result, Store, StoreError, sql};
use sqlx::{MySqlConnection, Row};

/// The columns that hold a sealed secret: its place, a statement that lists row and secret, and one that changes it while it
/// is what it was.
const HELD: [(&str, &str, &str); 4] = [
    (CONTACT, sql::SECRETS_OF_CONTACTS, sql::SECRET_OF_CONTACT),
    (CONTACT, sql::OLD_SECRETS_OF_CONTACTS, sql::OLD_SECRET_OF_CONTACT),
    (RULE, sql::SECRETS_OF_RULES, sql::SECRET_OF_RULE),
    (RULE, sql::SECRETS_OF_MESSAGES, sql::SECRET_OF_MESSAGE),
];

impl Store {
    /// Seals anew what is not kept under the key that seals now; how many there were.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn reseal(&self) -> Result<usize> {
        let mut tx = self.pool.begin().await?;
        let done = self.reseal_in(&mut tx).await?;
        tx.commit().await?;
        Ok(done)
    }

    async fn reseal_in(&self, tx: &mut MySqlConnection) -> Result<usize> {
        let mut done = 0;
        for (place, list, change) in HELD {
            for row in sqlx::query(list).fetch_all(&mut *tx).await? {
                let (id, kept): (String, String) = (row.try_get(0)?, row.try_get(1)?);
                if self.keys.is_current(&kept) {
                    continue;
                }
                // What cannot be opened stays as it is: its key may come back.
                if let Some(secret) = self.keys.unseal(place, &kept) {
                    let anew = self.keys.seal(place, &secret);
                    sqlx::query(change).bind(anew).bind(&id).bind(&kept).execute(&mut *tx).await?;
                    done += 1;
                }
            }
        }
        Ok(done)
    }

    /// How many secrets no key of the file opens.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn secrets_of_other_keys(&self) -> Result<usize> {
        let mut closed = 0;
        for (place, list, _) in HELD {
            for row in sqlx::query(list).fetch_all(&self.pool).await? {
                closed += usize::from(self.keys.unseal(place, row.try_get(1)?).is_none());
            }
        }
        Ok(closed)
    }

    /// Makes a new key, seals every secret by it, and forgets the key before; how many secrets there were.
    ///
    /// # Errors
    /// Where the database or the key's file fails: what was sealed opens in any case.
    pub async fn rotate_secrets(&self, fresh: [u8; 32], act: &Act<'_>) -> Result<usize> {
        self.keys.begin_rotation(fresh)?;
        let mut tx = self.pool.begin().await?;
        let done = self.reseal_in(&mut tx).await?;
        record(&mut tx, act).await?;
        tx.commit().await?;
        let mut connection = self.pool.acquire().await?;
        for (_, list, _) in HELD {
            for row in sqlx::query(list).fetch_all(&mut *connection).await? {
                if !self.keys.is_current(row.try_get(1)?) {
                    return Err(StoreError::Server(
                        "a secret cannot be opened, so the old keys stay in secrets.key_file".into(),
                    ));
                }
            }
        }
        self.keys.end_rotation()?;
        Ok(done)
    }
}
