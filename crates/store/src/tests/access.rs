//! Who may do what: tokens, sessions, people who are disabled, and the trail of what was done.

use super::{act, lane, run, store};
use crate::records::Act;
use crate::*;
use calvex_language::domain::access::{Actor, NewToken, PersonChange, Principal, Purpose, Role, SecretKind};
use calvex_language::domain::grant::May;
use calvex_language::domain::kept::SavedSearch;

/// A token of `user_id`; `n` fills its hash.
fn token<'a>(name: &'a str, n: u8, user_id: u32, lanes: Option<&'a [u32]>, purpose: Purpose) -> NewToken<'a> {
    NewToken { name, hash: [n; 32], prefix: "p", user_id, team: None, lanes, purpose, ends_ns: None }
}

#[test]
fn rights_of_tokens_and_sessions() {
    run(async {
        let store = store().await;
        let audit = store.put_lane(&lane("audit"), Some("mira"), &act()).await;
        assert!(audit.is_err(), "whoever makes a lane is somebody");
        let admin = store.add_user("mira", "x", Role::Admin, (May::Manage, &[1]), &act()).await.unwrap();
        let audit = store.put_lane(&lane("audit"), Some("mira"), &act()).await.unwrap();
        let reader = store.add_user("olle", "x", Role::Reader, (May::Read, &[1]), &act()).await.unwrap();
        let again = store.add_user("olle", "x", Role::Reader, (May::Read, &[]), &act()).await;
        assert!(matches!(again, Err(StoreError::Taken(_))));
        let purpose = Purpose::Administer;
        store.add_token(&token("all", 1, admin, None, purpose), &act()).await.unwrap();
        store.add_token(&token("narrow", 2, admin, Some(&[audit]), purpose), &act()).await.unwrap();
        store.add_token(&token("beyond", 3, reader, Some(&[1, audit]), Purpose::Read), &act()).await.unwrap();
        store.add_token(&token("reads", 4, admin, None, Purpose::Read), &act()).await.unwrap();
        store.add_token(&token("configures", 5, admin, None, Purpose::Configure), &act()).await.unwrap();
        let ended = NewToken { ends_ns: Some(9), ..token("ended", 6, admin, None, purpose) };
        store.add_token(&ended, &act()).await.unwrap();
        let rights = |hash: [u8; 32]| {
            let store = store.clone();
            let reported = |p: Principal| {
                let mut lanes: Vec<(u32, May)> = p.held.iter().map(|held| (held.lane, held.may)).collect();
                lanes.sort();
                (p.administers, p.changes, p.narrowed, lanes)
            };
            async move { store.token_principal(&hash, 9).await.unwrap().map(reported) }
        };
        let (read, configure, manage) = (May::Read, May::Configure, May::Manage);
        assert_eq!(rights([1; 32]).await, Some((true, true, false, vec![(1, manage), (audit, manage)])));
        assert_eq!(rights([2; 32]).await, Some((false, false, true, vec![(audit, read)])), "a narrowed token reads");
        assert_eq!(rights([3; 32]).await, Some((false, false, true, vec![(1, read)])), "never more than its owner");
        assert_eq!(rights([4; 32]).await, Some((false, false, false, vec![(1, read), (audit, read)])));
        assert_eq!(rights([5; 32]).await, Some((false, true, false, vec![(1, configure), (audit, configure)])));
        assert_eq!(rights([6; 32]).await, None, "it has ended");
        store.revoke(SecretKind::Token, "all", 1, &act()).await.unwrap();
        assert_eq!(rights([1; 32]).await, None);
        // Names are weighed as the database compares them.
        let weight = |name: &'static str| {
            let store = store.clone();
            async move { store.name_weight(name).await.unwrap() }
        };
        for same in ["Olle", "ÖLLE", "olle  ", "ölle"] {
            assert_eq!(weight(same).await, weight("olle").await, "{same}");
            assert!(store.user(same).await.unwrap().is_some(), "{same}");
        }
        assert_ne!(weight("ole").await, weight("olle").await);
        store.add_session(&[9; 32], reader, (100, "10.4.0.1"), &act()).await.unwrap();
        assert!(store.session_principal(&[9; 32], 99).await.unwrap().is_some());
        assert!(store.session_principal(&[9; 32], 100).await.unwrap().is_none());
    });
}

#[test]
fn who_is_disabled_is_out_at_once() {
    run(async {
        let store = store().await;
        let admin = store.add_user("mira", "x", Role::Admin, (May::Read, &[]), &act()).await.unwrap();
        let olle = store.add_user("olle", "x", Role::Reader, (May::Read, &[1]), &act()).await.unwrap();
        let hour = 3600 * 1_000_000_000i64;
        let at = |at_ns: i64| Act { at_ns, ..act() };
        for (session, user) in [(1, olle), (2, olle), (3, admin)] {
            store.add_session(&[session; 32], user, (12 * hour, "10.4.0.1"), &at(0)).await.unwrap();
        }
        store.add_token(&token("night", 7, olle, None, Purpose::Read), &act()).await.unwrap();
        let is_in = |session: u8, now_ns| {
            let store = store.clone();
            async move { store.session_principal(&[session; 32], now_ns).await.unwrap().is_some() }
        };
        // One that is used goes on, one that nobody uses for two hours ends.
        assert!(is_in(1, hour).await && is_in(1, 5 * hour / 2).await);
        assert!(!is_in(2, 5 * hour / 2).await);
        let open = store.sessions_of(olle, 5 * hour / 2).await.unwrap();
        assert_eq!(open.iter().map(|s| (s.hash, s.seen_ns)).collect::<Vec<_>>(), [([1; 32], 5 * hour / 2)]);
        // A code is good once, until it ends, and signs everybody out.
        store.put_password_code("olle", &[5; 32], 10, &act()).await.unwrap();
        assert_eq!(store.person_of_code(&[5; 32], 9).await.unwrap().as_deref(), Some("olle"));
        assert!(store.person_of_code(&[5; 32], 10).await.unwrap().is_none());
        assert!(store.use_password_code(&[5; 32], "y", &at(9)).await.unwrap());
        assert!(!store.use_password_code(&[5; 32], "z", &at(9)).await.unwrap());
        assert_eq!(store.user("olle").await.unwrap().unwrap().password_hash, "y");
        assert!(!is_in(1, 5 * hour / 2).await && is_in(3, hour).await);
        // One's own password leaves one's own session.
        for session in [1, 2] {
            store.add_session(&[session; 32], olle, (12 * hour, ""), &at(0)).await.unwrap();
        }
        store.change_password(olle, "z", &[2; 32], &act()).await.unwrap();
        assert!(!is_in(1, 1).await && is_in(2, 1).await);
        assert!(store.end_session_of(admin, open[0].id, &act()).await.is_err(), "another's");
        // Disabled: no session, no token, no code.
        store.put_password_code("olle", &[6; 32], 10, &act()).await.unwrap();
        let change = |disabled| PersonChange { disabled: Some(disabled), ..PersonChange::default() };
        store.change_person("olle", &change(true), &at(5)).await.unwrap();
        assert!(!is_in(2, 1).await && store.token_principal(&[7; 32], 1).await.unwrap().is_none());
        assert!(store.person_of_code(&[6; 32], 9).await.unwrap().is_none());
        let listed = store.people(1).await.unwrap();
        assert_eq!(
            listed.iter().map(|p| (p.name.as_str(), p.disabled_ns)).collect::<Vec<_>>(),
            [("mira", None), ("olle", Some(5))]
        );
        store.change_person("olle", &change(false), &at(6)).await.unwrap();
        assert!(store.token_principal(&[7; 32], 1).await.unwrap().is_none(), "a token that was revoked stays so");
        // Somebody must be left who administers.
        for last in [change(true), PersonChange { role: Some(Role::Reader), ..PersonChange::default() }] {
            assert!(matches!(store.change_person("mira", &last, &act()).await, Err(StoreError::LastAdmin(_))));
        }
        let admin = PersonChange { role: Some(Role::Admin), disabled: None };
        store.change_person("olle", &admin, &act()).await.unwrap();
        store.change_person("mira", &change(true), &act()).await.unwrap();
        assert!(matches!(store.change_person("nobody", &change(true), &act()).await, Err(StoreError::Missing(_))));
    });
}

#[test]
fn an_act_stands_in_the_trail_if_and_only_if_it_was_done() {
    run(async {
        let store = store().await;
        let admin = store.add_user("mira", "x", Role::Admin, (May::Read, &[]), &act()).await.unwrap();
        let by = Actor { name: "mira", token: Some("night") };
        let act =
            |what: &str| Act { at_ns: 5, by, act: "save search", what: what.to_owned(), before: None, chain: (1, 1) };
        let saved = |name: &str, owner_id| SavedSearch {
            name: name.into(),
            owner_id,
            owner: String::new(),
            team_id: None,
            team: None,
            query: "x".into(),
            from: None,
            to: None,
            columns: None,
            note: String::new(),
            changed_ns: 0,
        };
        let own = |owner: u32, team: Option<u32>| owner == admin && team.is_none();
        store.put_saved(&saved("one", admin), &own, &act("one")).await.unwrap();
        assert!(store.put_saved(&saved("one", admin + 1), &|_, _| false, &act("stolen")).await.is_err());
        assert!(store.remove_saved("none", &own, &act("none")).await.is_err());
        assert!(store.remove_dial(7, &act("dial")).await.is_err());
        let trail: Vec<(String, Option<String>, String)> =
            sqlx::query_as("SELECT who, token, what FROM audit WHERE at_ns = 5").fetch_all(&store.pool).await.unwrap();
        assert_eq!(trail, [("mira".to_owned(), Some("night".to_owned()), "one".to_owned())]);
    });
}
