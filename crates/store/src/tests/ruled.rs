//! A rule and its first judgement, as the tests of statements commit them.

use calvex_language::domain::contact::{AlertMove, Notification, NotifyBy};
use calvex_language::domain::rule::{Alert, AlertChange, AlertGroup, Judgement, Rule, RuleGroup, RuleState};

/// A rule of mira's that was never judged.
pub(super) fn lease_errors(owner_id: u32) -> Rule {
    Rule {
        id: 0,
        name: "lease errors".into(),
        document: r#"{"name":"lease errors","threshold":{"events":"severity>=error","over":"1m","above":1}}"#.into(),
        revision: 1,
        changed_ns: 0,
        webhook: None,
        webhook_secret: None,
        mail: None,
        owner_id,
        owner: String::new(),
        team_id: None,
        team: None,
        state: RuleState::Quiet,
        since_ns: 0,
        judged_ns: None,
        value: None,
        note: String::new(),
        condition: None,
        mutes: Vec::new(),
    }
}

/// The first judgement of a rule: it raises an alert, and somebody is notified.
pub(super) fn raised(rule_id: u32) -> Judgement {
    let group = AlertGroup {
        hash: u64::MAX,
        name: "north".into(),
        raised_ns: 5,
        ended_ns: None,
        peak: Some(3.0),
        withdrawn: false,
        muted: false,
    };
    let alert = Alert {
        id: 0,
        rule_id,
        raised_ns: 5,
        ended_ns: None,
        peak: Some(3.0),
        late: false,
        taken_by: None,
        revision: 1,
        withdrawn: false,
        muted: false,
        closed: None,
        explanation: Some("{}".into()),
        groups: vec![group],
    };
    let message = Notification {
        id: 0,
        alert_id: None,
        contact: "on call".into(),
        by: NotifyBy::Webhook,
        what: AlertMove::Raised,
        round: 0,
        target: "http://hook.test/".into(),
        secret: None,
        payload: "{}".into(),
        made_ns: 9,
        due_ns: 9,
        tries: 0,
        done_ns: None,
        dropped: None,
        error: String::new(),
    };
    Judgement {
        rule_id,
        revision: 1,
        judged_before_ns: None,
        state: RuleState::Raised,
        since_ns: 5,
        judged_ns: 9,
        value: Some(3.0),
        condition: None,
        note: String::new(),
        groups: vec![RuleGroup {
            hash: u64::MAX,
            name: "north".into(),
            state: RuleState::Raised,
            since_ns: 5,
            value: Some(3.0),
        }],
        changes: vec![AlertChange::Raise { alert, notify: vec![message] }],
    }
}
