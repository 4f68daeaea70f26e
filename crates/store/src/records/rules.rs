//! Rules with their versions and their standing, and judgements: state, cursor, alerts and notifications are one commit.

use super::alerts::put_groups;
use super::contacts::add_messages;
use super::{Act, named, record};
use crate::sealed::RULE;
use crate::{Claim, Keys, Result, Store, StoreError, sql};
use calvex_language::domain::contact::Notification;
use calvex_language::domain::rule::{
    AlertChange, Closed, Judgement, Mute, Rule, RuleCondition, RuleGroup, RuleState, RuleVersion,
};
use sqlx::{MySqlConnection, Row};

/// What changing or removing a rule came to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Changed {
    /// It is done.
    Done,
    /// There is no such rule.
    Missing,
    /// Meanwhile it raised or ended an alert, or somebody changed it; nothing was written.
    Moved,
}

/// An alert that ends because its rule is changed or removed, with the messages of that.
pub type Ending = (u32, Vec<Notification>);

impl Store {
    /// Makes a rule; it is on at once.
    ///
    /// # Errors
    /// [`StoreError::Taken`].
    pub async fn add_rule(&self, rule: &Rule, act: &Act<'_>) -> Result<u32> {
        let mut tx = self.pool.begin().await?;
        let added = sqlx::query(sql::RULE_ADD)
            .bind(&rule.name)
            .bind(&rule.document)
            .bind(&rule.webhook)
            .bind(rule.webhook_secret.as_ref().map(|secret| self.keys.seal(RULE, secret)))
            .bind(&rule.mail)
            .bind(rule.owner_id)
            .bind(rule.team_id)
            .bind(rule.since_ns)
            .execute(&mut *tx)
            .await
            .map_err(StoreError::taken("the rule's name"))?;
        let id = added.last_insert_id() as u32;
        add_version(&mut tx, id, act).await?;
        record(&mut tx, act).await?;
        tx.commit().await?;
        Ok(id)
    }

    /// Every rule.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn rules(&self) -> Result<Vec<Rule>> {
        let rows = sqlx::query(sql::RULE_ALL).fetch_all(&self.pool).await?;
        let rule = |r: &sqlx::mysql::MySqlRow| {
            let condition: String = r.try_get(16)?;
            Ok(Rule {
                id: r.try_get(0)?,
                name: r.try_get(1)?,
                document: r.try_get(2)?,
                revision: r.try_get(3)?,
                webhook: r.try_get(4)?,
                webhook_secret: self.opened(RULE, r.try_get(5)?),
                mail: r.try_get(6)?,
                owner_id: r.try_get(7)?,
                owner: r.try_get(8)?,
                team_id: r.try_get(9)?,
                team: r.try_get(10)?,
                state: named("state of a rule", r.try_get(11)?, RuleState::from_name)?,
                since_ns: r.try_get(12)?,
                judged_ns: r.try_get(13)?,
                value: r.try_get(14)?,
                note: r.try_get(15)?,
                condition: RuleCondition::from_name(&condition),
                changed_ns: r.try_get(17)?,
                mutes: Vec::new(),
            })
        };
        let mut rules: Vec<Rule> = rows.iter().map(rule).collect::<Result<_>>()?;
        for r in sqlx::query(sql::RULE_MUTE_ALL).fetch_all(&self.pool).await? {
            let id: u32 = r.try_get(0)?;
            if let Some(rule) = rules.iter_mut().find(|rule| rule.id == id) {
                let (filter, until_ns) = (r.try_get(1)?, r.try_get(2)?);
                rule.mutes.push(Mute { filter, until_ns, by: r.try_get(3)?, why: r.try_get(4)? });
            }
        }
        Ok(rules)
    }

    /// The documents that a rule had, the latest first, 100 at most.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn rule_versions(&self, rule_id: u32) -> Result<Vec<RuleVersion>> {
        let rows = sqlx::query(sql::RULE_VERSION_ALL).bind(rule_id).fetch_all(&self.pool).await?;
        let version = |r: &sqlx::mysql::MySqlRow| {
            let (revision, document) = (r.try_get(0)?, r.try_get(1)?);
            Ok(RuleVersion { revision, document, by: r.try_get(2)?, changed_ns: r.try_get(3)? })
        };
        rows.iter().map(version).collect()
    }

    /// Gives a rule of some revision another document; it is quiet and judged from `since_ns` on, and what it had raised
    /// ends, with these messages.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn change_rule(
        &self,
        (name, revision): (&str, u32),
        document: &str,
        since_ns: i64,
        ends: &[Ending],
        act: &Act<'_>,
    ) -> Result<Changed> {
        let mut tx = self.pool.begin().await?;
        let id = match end_alerts(&mut tx, &self.keys, (name, revision), act.at_ns, ends, Closed::Changed).await? {
            Ok(id) => id,
            Err(why) => return Ok(why),
        };
        sqlx::query(sql::RULE_CHANGE).bind(document).bind(since_ns).bind(id).execute(&mut *tx).await?;
        sqlx::query(sql::RULE_GROUPS_CLEAR).bind(id).execute(&mut *tx).await?;
        add_version(&mut tx, id, act).await?;
        sqlx::query(sql::RULE_VERSION_FORGET).bind(id).bind(revision).execute(&mut *tx).await?;
        record(&mut tx, act).await?;
        tx.commit().await?;
        Ok(Changed::Done)
    }

    /// Removes a rule with its history; whoever was notified of what is raised is notified of its end.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn remove_rule(&self, (name, revision): (&str, u32), ends: &[Ending], act: &Act<'_>) -> Result<Changed> {
        let mut tx = self.pool.begin().await?;
        let id = match end_alerts(&mut tx, &self.keys, (name, revision), act.at_ns, ends, Closed::Removed).await? {
            Ok(id) => id,
            Err(why) => return Ok(why),
        };
        sqlx::query(sql::RULE_REMOVE).bind(id).execute(&mut *tx).await?;
        record(&mut tx, act).await?;
        tx.commit().await?;
        Ok(Changed::Done)
    }

    /// Keeps people from being notified of a rule, or of some of its groups, until a time; a mute of the same groups is
    /// replaced.
    ///
    /// # Errors
    /// [`StoreError::Missing`].
    pub async fn mute_rule(&self, id: u32, mute: &Mute, act: &Act<'_>) -> Result<()> {
        let mut tx = self.pool.begin().await?;
        rule_stands(&mut tx, id).await?;
        sqlx::query(sql::RULE_MUTE_END).bind(id).bind(&mute.filter).execute(&mut *tx).await?;
        sqlx::query(sql::RULE_MUTE_ADD)
            .bind(id)
            .bind(&mute.filter)
            .bind(mute.until_ns)
            .bind(&mute.by)
            .bind(&mute.why)
            .execute(&mut *tx)
            .await?;
        record(&mut tx, act).await?;
        tx.commit().await?;
        Ok(())
    }

    /// Ends the mute of a filter, or every mute of a rule.
    ///
    /// # Errors
    /// [`StoreError::Missing`].
    pub async fn unmute_rule(&self, id: u32, filter: Option<&str>, act: &Act<'_>) -> Result<()> {
        let mut tx = self.pool.begin().await?;
        rule_stands(&mut tx, id).await?;
        match filter {
            Some(filter) => sqlx::query(sql::RULE_MUTE_END).bind(id).bind(filter).execute(&mut *tx).await?,
            None => sqlx::query(sql::RULE_MUTE_END_ALL).bind(id).execute(&mut *tx).await?,
        };
        record(&mut tx, act).await?;
        tx.commit().await?;
        Ok(())
    }

    /// Forgets mutes that ended before a time.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn expire_mutes(&self, before_ns: i64) -> Result<()> {
        sqlx::query(sql::RULE_MUTE_EXPIRE).bind(before_ns).execute(&self.pool).await?;
        Ok(())
    }

    /// The groups of a rule that are not quiet.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn rule_groups(&self, rule_id: u32) -> Result<Vec<RuleGroup>> {
        groups_of(&mut *self.pool.acquire().await?, rule_id).await
    }

    /// Moves the cursors of rules that were quiet and stay so, in one commit; those that another moved in between are left.
    ///
    /// # Errors
    /// [`StoreError::Fenced`].
    pub async fn commit_quiet(&self, claim: &Claim, judgements: &[Judgement]) -> Result<()> {
        if judgements.is_empty() {
            return Ok(());
        }
        let mut tx = self.pool.begin().await?;
        self.fence_work(&mut tx, claim).await?;
        for judgement in judgements {
            sqlx::query(sql::RULE_CURSOR)
                .bind(judgement.judged_ns)
                .bind(judgement.value)
                .bind(judgement.rule_id)
                .bind(judgement.judged_before_ns)
                .bind(judgement.revision)
                .execute(&mut *tx)
                .await?;
        }
        tx.commit().await?;
        Ok(())
    }

    /// Commits a judgement whole; `false` where another judged in between and nothing was written.
    ///
    /// # Errors
    /// [`StoreError::Fenced`].
    pub async fn commit_judgement(&self, claim: &Claim, judgement: &Judgement) -> Result<bool> {
        let mut tx = self.pool.begin().await?;
        self.fence_work(&mut tx, claim).await?;
        let standing: Option<(Option<i64>, u32)> =
            sqlx::query_as(sql::RULE_JUDGED).bind(judgement.rule_id).fetch_optional(&mut *tx).await?;
        if standing != Some((judgement.judged_before_ns, judgement.revision)) {
            return Ok(false);
        }
        sqlx::query(sql::RULE_JUDGE)
            .bind(judgement.state.name())
            .bind(judgement.since_ns)
            .bind(judgement.judged_ns)
            .bind(judgement.value)
            .bind(judgement.condition.map_or("", RuleCondition::name))
            .bind(&judgement.note)
            .bind(judgement.rule_id)
            .execute(&mut *tx)
            .await?;
        put_rule_groups(&mut tx, judgement).await?;
        for change in &judgement.changes {
            let (id, groups, notify) = match change {
                AlertChange::Raise { alert, notify } => {
                    let added = sqlx::query(sql::ALERT_ADD)
                        .bind(alert.rule_id)
                        .bind(alert.raised_ns)
                        .bind(alert.ended_ns)
                        .bind(alert.peak)
                        .bind(alert.late)
                        .bind(judgement.revision)
                        .bind(alert.withdrawn)
                        .bind(&alert.explanation)
                        .bind(alert.muted)
                        .bind(alert.closed.map_or("", Closed::name))
                        .execute(&mut *tx)
                        .await?;
                    (added.last_insert_id() as u32, &alert.groups, notify)
                }
                AlertChange::Update { alert, notify } => {
                    sqlx::query(sql::ALERT_UPDATE)
                        .bind(alert.raised_ns)
                        .bind(alert.ended_ns)
                        .bind(alert.peak)
                        .bind(alert.withdrawn)
                        .bind(alert.muted)
                        .bind(alert.closed.map_or("", Closed::name))
                        .bind(&alert.explanation)
                        .bind(alert.id)
                        .execute(&mut *tx)
                        .await?;
                    (alert.id, &alert.groups, notify)
                }
            };
            put_groups(&mut tx, id, groups).await?;
            add_messages(&mut tx, &self.keys, Some(id), notify).await?;
        }
        tx.commit().await?;
        Ok(true)
    }
}

/// Keeps the document that a rule has now as a version of it.
async fn add_version(tx: &mut MySqlConnection, id: u32, act: &Act<'_>) -> Result<()> {
    sqlx::query(sql::RULE_VERSION_ADD).bind(act.by.name).bind(act.at_ns).bind(id).execute(tx).await?;
    Ok(())
}

/// An error where there is no such rule.
async fn rule_stands(tx: &mut MySqlConnection, id: u32) -> Result<()> {
    let known: Option<(Option<i64>, u32)> = sqlx::query_as(sql::RULE_JUDGED).bind(id).fetch_optional(tx).await?;
    known.map(|_| ()).ok_or_else(|| StoreError::Missing(format!("rule {id}")))
}

/// Ends every open alert of a rule, which must be of this revision and have no others open; its id.
async fn end_alerts(
    tx: &mut MySqlConnection,
    keys: &Keys,
    (name, revision): (&str, u32),
    at_ns: i64,
    ends: &[Ending],
    why: Closed,
) -> Result<std::result::Result<u32, Changed>> {
    let known: Option<(u32, u32)> = sqlx::query_as(sql::RULE_ID).bind(name).fetch_optional(&mut *tx).await?;
    let Some((id, found)) = known else { return Ok(Err(Changed::Missing)) };
    let open: Vec<u32> = sqlx::query_scalar(sql::ALERT_OPEN_OF_RULE).bind(id).fetch_all(&mut *tx).await?;
    let mut meant: Vec<u32> = ends.iter().map(|(id, _)| *id).collect();
    meant.sort_unstable();
    if found != revision || open != meant {
        return Ok(Err(Changed::Moved));
    }
    for (alert, messages) in ends {
        sqlx::query(sql::ALERT_GROUPS_CLOSE).bind(at_ns).bind(alert).execute(&mut *tx).await?;
        sqlx::query(sql::ALERT_CLOSE).bind(at_ns).bind(why.name()).bind(alert).execute(&mut *tx).await?;
        // Whoever waits for its hours was not notified that it began.
        sqlx::query(sql::OUTBOX_DROP_WAITING).bind(at_ns).bind(alert).bind(at_ns).execute(&mut *tx).await?;
        add_messages(tx, keys, Some(*alert), messages).await?;
    }
    Ok(Ok(id))
}

async fn groups_of(connection: &mut MySqlConnection, rule_id: u32) -> Result<Vec<RuleGroup>> {
    let rows = sqlx::query(sql::RULE_GROUPS).bind(rule_id).fetch_all(connection).await?;
    let group = |r: &sqlx::mysql::MySqlRow| {
        Ok(RuleGroup {
            hash: r.try_get(0)?,
            name: r.try_get(1)?,
            state: named("state of a group", r.try_get(2)?, RuleState::from_name)?,
            since_ns: r.try_get(3)?,
            value: r.try_get(4)?,
        })
    };
    rows.iter().map(group).collect()
}

/// Rows of an INSERT at most.
pub(super) const ROWS_AT_ONCE: usize = 500;

/// Keeps the groups of a rule that are not quiet; only what changed is written.
async fn put_rule_groups(tx: &mut MySqlConnection, judgement: &Judgement) -> Result<()> {
    let known = groups_of(tx, judgement.rule_id).await?;
    for group in known.iter().filter(|known| !judgement.groups.iter().any(|group| group.hash == known.hash)) {
        sqlx::query(sql::RULE_GROUP_END).bind(judgement.rule_id).bind(group.hash).execute(&mut *tx).await?;
    }
    let changed: Vec<&RuleGroup> = judgement.groups.iter().filter(|group| !known.contains(group)).collect();
    for rows in changed.chunks(ROWS_AT_ONCE) {
        let mut insert = sqlx::QueryBuilder::<sqlx::MySql>::new(
            "INSERT INTO rule_group (rule_id, group_hash, name, state, since_ns, value) ",
        );
        insert.push_values(rows, |mut row, group| {
            row.push_bind(judgement.rule_id)
                .push_bind(group.hash)
                .push_bind(&group.name)
                .push_bind(group.state.name())
                .push_bind(group.since_ns)
                .push_bind(group.value);
        });
        insert
            .push(" ON DUPLICATE KEY UPDATE state = VALUES(state), since_ns = VALUES(since_ns), value = VALUES(value)");
        insert.build().execute(&mut *tx).await?;
    }
    Ok(())
}
