//! Teams, grants, and the audit trail in its chains.

use super::{act, lane, run, store};
use crate::records::grants::NewGrant;
use crate::records::lanes::LaneTerms;
use crate::records::teams::TeamChange;
use crate::records::{Act, TrailAsk};
use crate::*;
use calvex_language::domain::access::{NewToken, Purpose, Role};
use calvex_language::domain::grant::{Grantee, Held, May};
use calvex_language::domain::trail::Broken;

fn grant(to: Grantee, held: Held) -> NewGrant {
    NewGrant { to, held, ends_ns: None, why: String::new(), break_glass: false }
}

#[test]
fn what_is_held_follows_people_teams_and_owners() {
    run(async {
        let store = store().await;
        let mut ids = Vec::new();
        for name in ["mira", "olle", "ines"] {
            ids.push(store.add_user(name, "x", Role::Reader, (May::Read, &[]), &act()).await.unwrap());
        }
        let [mira, olle, ines] = ids[..] else { panic!() };
        let members = |names: &[&str]| names.iter().map(|n| (*n).to_owned()).collect::<Vec<_>>();
        let people = members(&["mira", "olle"]);
        let change = TeamChange { members: Some(&people), ..TeamChange::default() };
        store.put_team("lockers", &change, &act()).await.unwrap();
        let nobody = members(&["nobody"]);
        let wrong = TeamChange { members: Some(&nobody), ..TeamChange::default() };
        assert!(matches!(store.put_team("lockers", &wrong, &act()).await, Err(StoreError::Missing(_))));
        assert_eq!(store.teams().await.unwrap()[0].members, ["mira", "olle"], "what fails changes nothing");
        let devices = LaneTerms { owner: Some("lockers"), ..lane("devices") };
        let devices = store.put_lane(&devices, None, &act()).await.unwrap();
        assert!(store.is_managed(devices, 5).await.unwrap() && !store.is_managed(1, 5).await.unwrap());
        let part =
            Held { rows: "service=slots".into(), hidden: vec!["a.b".into(), "c".into()], ..Held::whole(1, May::Read) };
        let ends = NewGrant { ends_ns: Some(10), ..grant(Grantee::Person("ines".into()), part.clone()) };
        let id = store.give(&ends, &act()).await.unwrap();
        store.give(&grant(Grantee::Team("lockers".into()), Held::whole(1, May::Configure)), &act()).await.unwrap();
        let held = |user| {
            let store = store.clone();
            async move { store.held_by_person(user, 5).await.unwrap() }
        };
        assert_eq!(held(ines).await, std::slice::from_ref(&part));
        assert_eq!(held(mira).await, [Held::whole(1, May::Configure), Held::whole(devices, May::Manage)]);
        assert_eq!(store.held_by_person(ines, 10).await.unwrap(), [], "it has ended by itself");
        let listed = store.readers_of(1, 5).await.unwrap();
        let by = |r: &calvex_language::domain::grant::LaneReader| {
            (r.person.clone(), r.team.clone(), r.grant.as_ref().map(|g| g.id))
        };
        let team = Some("lockers".to_owned());
        assert_eq!(
            listed.iter().map(by).collect::<Vec<_>>(),
            [
                ("ines".into(), None, Some(id)),
                ("mira".into(), team.clone(), Some(id + 1)),
                ("olle".into(), team.clone(), Some(id + 1)),
            ]
        );
        let owners = store.readers_of(devices, 5).await.unwrap();
        assert_eq!(
            owners.iter().map(by).collect::<Vec<_>>(),
            [("mira".into(), team.clone(), None), ("olle".into(), team, None),]
        );
        // A team's token holds what the team does, and goes on when whoever made it may sign in no more.
        let team = Some(store.team_id("lockers").await.unwrap());
        let (name, prefix, purpose) = ("ci", "p", Purpose::Configure);
        let token = NewToken { name, hash: [3; 32], prefix, user_id: olle, team, lanes: None, purpose, ends_ns: None };
        store.add_token(&token, &act()).await.unwrap();
        let disabled = calvex_language::domain::access::PersonChange { disabled: Some(true), role: None };
        assert!(store.change_person("olle", &disabled, &act()).await.is_err(), "nobody administers yet");
        store.add_user("ada", "x", Role::Admin, (May::Read, &[]), &act()).await.unwrap();
        store.change_person("olle", &disabled, &act()).await.unwrap();
        let of_team = store.token_principal(&[3; 32], 5).await.unwrap().unwrap();
        assert_eq!((of_team.name.as_str(), of_team.administers, of_team.team), ("lockers", false, team));
        assert_eq!(&*of_team.held, [Held::whole(1, May::Configure), Held::whole(devices, May::Configure)]);
        assert!(!of_team.owns(olle, None) && of_team.owns(mira, team));
        // By the provider's groups people come and go; who was named stays.
        let group = TeamChange { claim: Some("locker-people"), ..TeamChange::default() };
        store.put_team("lockers", &group, &act()).await.unwrap();
        for (groups, is_in) in [(vec!["locker-people".to_owned()], true), (vec!["others".to_owned()], false)] {
            store.join_by_claims(ines, &groups, &act()).await.unwrap();
            store.join_by_claims(mira, &groups, &act()).await.unwrap();
            let now = store.teams().await.unwrap()[0].members.clone();
            assert_eq!(now.contains(&"ines".to_owned()), is_in, "{now:?}");
            assert!(now.contains(&"mira".to_owned()));
        }
        // Either side ends a grant, once; without its team a lane is nobody's.
        store.end_grant(id, &Act { at_ns: 6, ..act() }).await.unwrap();
        assert!(store.end_grant(id, &Act { at_ns: 6, ..act() }).await.is_err());
        assert_eq!(store.held_by_person(ines, 7).await.unwrap(), []);
        store.remove_team("lockers", &act()).await.unwrap();
        assert!(store.token_principal(&[3; 32], 5).await.unwrap().is_none());
        assert!(!store.is_managed(devices, 5).await.unwrap() && held(mira).await.is_empty());
    });
}

#[test]
fn a_chain_shows_what_was_done_to_it() {
    run(async {
        let store = store().await;
        let by = |n: i64| Act { at_ns: n, act: "seal", what: format!("head {n} · ›"), chain: (1, 2), ..act() };
        for n in 1..=9 {
            let before = (n % 2 == 0).then(|| "é".repeat(10_000));
            store.audit(&Act { before, ..by(n) }).await.unwrap();
        }
        store.audit(&act()).await.unwrap();
        let checked = store.check_trail().await.unwrap();
        assert_eq!((checked.entries, checked.broken.clone()), (10, None));
        assert_eq!(checked.heads.iter().map(|h| (h.0, h.1, h.2)).collect::<Vec<_>>(), [(0, 0, 1), (1, 2, 9)]);
        assert_eq!(store.trail_head((1, 2)).await.unwrap(), Some((9, checked.heads[1].3)));
        let ask = TrailAsk { word: Some("head 4"), limit: 10, ..TrailAsk::default() };
        let found = store.trail(&ask).await.unwrap();
        assert_eq!(found.iter().map(|(_, e)| e.n).collect::<Vec<_>>(), [4]);
        assert!(found[0].1.before.as_ref().unwrap().ends_with('…'), "what is too long is cut, and says so");
        let ask = TrailAsk { who: Some("mira"), from_ns: Some(3), to_ns: Some(6), limit: 2, ..TrailAsk::default() };
        assert_eq!(store.trail(&ask).await.unwrap().iter().map(|(_, e)| e.n).collect::<Vec<_>>(), [5, 4]);
        for (change, broken) in [
            ("UPDATE audit SET who = 'olle' WHERE slot = 1 AND n = 3", Broken::Changed { node: 1, epoch: 2, n: 3 }),
            (
                "UPDATE audit SET who = 'mira' WHERE n = 3; DELETE FROM audit WHERE slot = 1 AND n = 5",
                Broken::Missing { node: 1, epoch: 2, n: 5 },
            ),
            ("DELETE FROM audit WHERE slot = 1 AND n > 4", Broken::Missing { node: 1, epoch: 2, n: 5 }),
        ] {
            for statement in change.split("; ") {
                sqlx::query(sqlx::AssertSqlSafe(statement)).execute(&store.pool).await.unwrap();
            }
            assert_eq!(store.check_trail().await.unwrap().broken, Some(broken), "{change}");
        }
    });
}

/// Acts at once stand one behind the other, each in the transaction of what was done.
#[test]
fn acts_at_once_make_one_chain() {
    run(async {
        let store = store().await;
        let mut many = tokio::task::JoinSet::new();
        for n in 0..40 {
            let store = store.clone();
            many.spawn(async move { store.audit(&Act { at_ns: n, ..act() }).await });
        }
        assert!(many.join_all().await.into_iter().all(|done| done.is_ok()));
        let checked = store.check_trail().await.unwrap();
        assert_eq!((checked.entries, checked.broken), (40, None));
        assert!(store.end_grant(99, &act()).await.is_err());
        assert_eq!(store.check_trail().await.unwrap().entries, 40, "what was not done is not recorded");
    });
}
