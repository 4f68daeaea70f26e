//! Contacts, and the outbox of messages to them with each try.

use super::{Act, named, record};
use crate::sealed::{CONTACT, RULE};
use crate::{Claim, Keys, Result, Store, StoreError, sql};
use calvex_language::domain::contact::{AlertMove, Contact, ContactPlan, DeliveryTry, Dropped, Notification, NotifyBy};
use sqlx::{MySqlConnection, Row};

impl Store {
    /// A secret as it is used.
    pub(super) fn opened(&self, place: &str, kept: Option<String>) -> Option<String> {
        kept.and_then(|kept| self.keys.unseal(place, &kept))
    }

    /// Whom rules may notify.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn contacts(&self) -> Result<Vec<Contact>> {
        let rows = sqlx::query(sql::CONTACT_ALL).fetch_all(&self.pool).await?;
        let contact = |r: &sqlx::mysql::MySqlRow| {
            let old_until_ns: i64 = r.try_get(4)?;
            Ok(Contact {
                name: r.try_get(0)?,
                webhook: r.try_get(1)?,
                webhook_secret: self.opened(CONTACT, r.try_get(2)?),
                old_secret: self.opened(CONTACT, r.try_get(3)?).map(|secret| (secret, old_until_ns)),
                mail: r.try_get(5)?,
                plan: ContactPlan {
                    hours: r.try_get(6)?,
                    zone: r.try_get(7)?,
                    next: r.try_get(8)?,
                    next_after_s: r.try_get(9)?,
                    repeat_s: r.try_get(10)?,
                    hourly: r.try_get(11)?,
                },
                heartbeat_s: r.try_get(12)?,
                beat: (r.try_get(13)?, r.try_get(14)?),
                failing_since_ns: r.try_get(15)?,
                team: r.try_get(16)?,
            })
        };
        rows.iter().map(contact).collect()
    }

    /// Makes a contact, or changes it.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn put_contact(&self, contact: &Contact, act: &Act<'_>) -> Result<()> {
        let mut tx = self.pool.begin().await?;
        let plan = &contact.plan;
        sqlx::query(sql::CONTACT_PUT)
            .bind(&contact.name)
            .bind(&contact.webhook)
            .bind(contact.webhook_secret.as_ref().map(|secret| self.keys.seal(CONTACT, secret)))
            .bind(contact.old_secret.as_ref().map(|(secret, _)| self.keys.seal(CONTACT, secret)))
            .bind(contact.old_secret.as_ref().map_or(0, |(_, until_ns)| *until_ns))
            .bind(&contact.mail)
            .bind(&plan.hours)
            .bind(&plan.zone)
            .bind(&plan.next)
            .bind(plan.next_after_s)
            .bind(plan.repeat_s)
            .bind(plan.hourly)
            .bind(contact.heartbeat_s)
            .bind(act.at_ns)
            .bind(contact.team)
            .execute(&mut *tx)
            .await?;
        record(&mut tx, act).await?;
        tx.commit().await?;
        Ok(())
    }

    /// Removes a contact; rules that name it notify it no more.
    ///
    /// # Errors
    /// [`StoreError::Missing`].
    pub async fn remove_contact(&self, name: &str, act: &Act<'_>) -> Result<()> {
        let mut tx = self.pool.begin().await?;
        let done = sqlx::query(sql::CONTACT_REMOVE).bind(name).execute(&mut *tx).await?;
        if done.rows_affected() == 0 {
            return Err(StoreError::Missing(format!("contact {name}")));
        }
        record(&mut tx, act).await?;
        tx.commit().await?;
        Ok(())
    }

    /// Records that a heartbeat was sent, or why not.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn contact_beat(&self, name: &str, at_ns: i64, error: &str) -> Result<()> {
        sqlx::query(sql::CONTACT_BEAT).bind(at_ns).bind(error).bind(name).execute(&self.pool).await?;
        Ok(())
    }

    /// Records that messages to a contact do not arrive, and adds what others are notified of it; `false` where that was
    /// known.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn contact_fails(&self, name: &str, at_ns: i64, messages: &[Notification]) -> Result<bool> {
        let mut tx = self.pool.begin().await?;
        let done = sqlx::query(sql::CONTACT_FAILS).bind(at_ns).bind(name).execute(&mut *tx).await?;
        if done.rows_affected() == 0 {
            return Ok(false);
        }
        add_messages(&mut tx, &self.keys, None, messages).await?;
        tx.commit().await?;
        Ok(true)
    }

    /// Adds messages while this node's claim stands: those of later rounds, and those to the next contact.
    ///
    /// # Errors
    /// [`StoreError::Fenced`].
    pub async fn add_to_outbox(&self, claim: &Claim, messages: &[Notification]) -> Result<()> {
        let mut tx = self.pool.begin().await?;
        self.fence_work(&mut tx, claim).await?;
        for message in messages {
            add_messages(&mut tx, &self.keys, message.alert_id, std::slice::from_ref(message)).await?;
        }
        tx.commit().await?;
        Ok(())
    }

    /// Messages that are due, in order.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn outbox_due(&self, now_ns: i64) -> Result<Vec<Notification>> {
        let rows = sqlx::query(sql::OUTBOX_DUE).bind(now_ns).fetch_all(&self.pool).await?;
        rows.iter().map(|r| message(&self.keys, r)).collect()
    }

    /// Every message of an alert.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn outbox_of(&self, alert_id: u32) -> Result<Vec<Notification>> {
        let rows = sqlx::query(sql::OUTBOX_OF_ALERT).bind(alert_id).fetch_all(&self.pool).await?;
        rows.iter().map(|r| message(&self.keys, r)).collect()
    }

    /// Which contacts were to hear that an alert is raised, and when: contact, move, round and time, in order.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn heard_of(&self, alert_id: u32) -> Result<Vec<(String, AlertMove, u32, i64)>> {
        let rows = sqlx::query(sql::OUTBOX_HEARD).bind(alert_id).fetch_all(&self.pool).await?;
        let one = |r: &sqlx::mysql::MySqlRow| {
            let what = named("move of an alert", r.try_get(1)?, AlertMove::from_name)?;
            Ok((r.try_get(0)?, what, r.try_get(2)?, r.try_get(3)?))
        };
        rows.iter().map(one).collect()
    }

    /// The latest messages of all.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn latest_messages(&self, limit: u32) -> Result<Vec<Notification>> {
        let rows = sqlx::query(sql::OUTBOX_LATEST).bind(limit).fetch_all(&self.pool).await?;
        rows.iter().map(|r| message(&self.keys, r)).collect()
    }

    /// Each try to deliver a message, the latest first.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn tries_of(&self, id: u64) -> Result<Vec<DeliveryTry>> {
        let rows = sqlx::query(sql::TRY_ALL).bind(id).fetch_all(&self.pool).await?;
        let one = |r: &sqlx::mysql::MySqlRow| Ok(DeliveryTry { at_ns: r.try_get(0)?, error: r.try_get(1)? });
        rows.iter().map(one).collect()
    }

    /// When messages to a contact arrived since a time, in order.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn sent_since(&self, contact: &str, by: NotifyBy, from_ns: i64) -> Result<Vec<i64>> {
        let sent = sqlx::query_scalar(sql::OUTBOX_SENT_SINCE).bind(contact).bind(by.name()).bind(from_ns);
        Ok(sent.fetch_all(&self.pool).await?)
    }

    /// How many messages to a contact were held back since a time.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn held_since(&self, contact: &str, by: NotifyBy, from_ns: i64) -> Result<i64> {
        let held = sqlx::query_scalar(sql::OUTBOX_HELD_SINCE).bind(contact).bind(by.name()).bind(from_ns);
        Ok(held.fetch_one(&self.pool).await?)
    }

    /// Whether a message about such a move waits to be sent to a contact.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn waits(&self, contact: &str, by: NotifyBy, what: AlertMove) -> Result<bool> {
        let waiting = sqlx::query_scalar(sql::OUTBOX_WAITING_OF).bind(contact).bind(by.name()).bind(what.name());
        let waiting: i64 = waiting.fetch_one(&self.pool).await?;
        Ok(waiting > 0)
    }

    /// Marks a message as delivered: its contact can be reached.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn outbox_done(&self, message: &Notification, now_ns: i64) -> Result<()> {
        let mut tx = self.pool.begin().await?;
        sqlx::query(sql::OUTBOX_DONE).bind(now_ns).bind(message.id).execute(&mut *tx).await?;
        sqlx::query(sql::TRY_ADD).bind(message.id).bind(now_ns).bind("").execute(&mut *tx).await?;
        sqlx::query(sql::CONTACT_HEARS).bind(&message.contact).execute(&mut *tx).await?;
        tx.commit().await?;
        Ok(())
    }

    /// Notes a failed delivery and when to try again.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn outbox_retry(&self, id: u64, error: &str, (now_ns, next_ns): (i64, i64)) -> Result<()> {
        let error: String = error.chars().take(512).collect();
        let mut tx = self.pool.begin().await?;
        sqlx::query(sql::OUTBOX_RETRY).bind(&error).bind(next_ns).bind(id).execute(&mut *tx).await?;
        sqlx::query(sql::TRY_ADD).bind(id).bind(now_ns).bind(&error).execute(&mut *tx).await?;
        tx.commit().await?;
        Ok(())
    }

    /// A message is not tried before a time.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn outbox_later(&self, id: u64, next_ns: i64) -> Result<()> {
        sqlx::query(sql::OUTBOX_LATER).bind(next_ns).bind(id).execute(&self.pool).await?;
        Ok(())
    }

    /// A message is not sent, and why; `instead` goes out in the same commit.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn outbox_drop(&self, id: u64, why: Dropped, now_ns: i64, instead: &[Notification]) -> Result<()> {
        let mut tx = self.pool.begin().await?;
        sqlx::query(sql::OUTBOX_DROP).bind(now_ns).bind(why.name()).bind(id).execute(&mut *tx).await?;
        add_messages(&mut tx, &self.keys, None, instead).await?;
        tx.commit().await?;
        Ok(())
    }

    /// Freezes the content of a message that was not tried yet.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn outbox_freeze(&self, id: u64, payload: &str) -> Result<()> {
        sqlx::query(sql::OUTBOX_PAYLOAD).bind(payload).bind(id).execute(&self.pool).await?;
        Ok(())
    }

    /// Forgets messages without an alert that were done before a time; 1,000 at most.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn expire_outbox(&self, before_ns: i64) -> Result<u64> {
        Ok(sqlx::query(sql::OUTBOX_EXPIRE).bind(before_ns).execute(&self.pool).await?.rows_affected())
    }
}

/// Adds messages; one that stands already is left as it is.
pub(super) async fn add_messages(
    tx: &mut MySqlConnection,
    keys: &Keys,
    alert_id: Option<u32>,
    messages: &[Notification],
) -> Result<()> {
    for message in messages {
        sqlx::query(sql::OUTBOX_ADD)
            .bind(alert_id)
            .bind(&message.contact)
            .bind(message.by.name())
            .bind(message.what.name())
            .bind(message.round)
            .bind(&message.target)
            .bind(message.secret.as_ref().map(|secret| keys.seal(RULE, secret)))
            .bind(&message.payload)
            .bind(message.made_ns)
            .bind(message.due_ns)
            .bind(message.due_ns)
            .execute(&mut *tx)
            .await?;
    }
    Ok(())
}

fn message(keys: &Keys, r: &sqlx::mysql::MySqlRow) -> Result<Notification> {
    let dropped: String = r.try_get(12)?;
    Ok(Notification {
        id: r.try_get(0)?,
        alert_id: r.try_get(1)?,
        contact: r.try_get(2)?,
        by: named("way of notifying", r.try_get(3)?, NotifyBy::from_name)?,
        what: named("move of an alert", r.try_get(4)?, AlertMove::from_name)?,
        round: r.try_get(5)?,
        target: r.try_get(6)?,
        secret: r.try_get::<Option<String>, _>(7)?.and_then(|kept| keys.unseal(RULE, &kept)),
        payload: r.try_get(8)?,
        due_ns: r.try_get(9)?,
        tries: r.try_get(10)?,
        done_ns: r.try_get(11)?,
        dropped: Dropped::from_name(&dropped),
        error: r.try_get(13)?,
        made_ns: r.try_get(14)?,
    })
}
