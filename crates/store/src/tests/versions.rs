//! Two versions on one database: this one, and one after it that has steps of the schema more.

use super::{claimed, commit, replayed, run, store};
use crate::migrations::{STEPS, Step, run_steps};
use crate::*;

/// Brings the schema to what the version after this one has.
async fn later(store: &Store, step: Step) -> Result<()> {
    run_steps(&store.pool, &[STEPS, &[step]].concat()).await
}

/// A store of this version, opened on the same database again.
async fn opened_again(store: &Store) -> Result<Store> {
    let options = store.pool.connect_options();
    let (socket, name) = (options.get_socket().unwrap().clone(), options.get_database().unwrap().to_owned());
    Store::open(StoreOptions::socket(&socket, &name)).await
}

#[test]
fn the_version_before_works_beside_a_compatible_step_and_starts_again() {
    run(async {
        let store = store().await;
        let claim = claimed(&store, "n").await;
        store.commit(&claim, &commit(0, 2, vec![])).await.unwrap();
        let step = "CREATE TABLE later (n INT PRIMARY KEY); ALTER TABLE lane ADD COLUMN later INT NOT NULL DEFAULT 7; \
                    ALTER TABLE node ADD COLUMN later INT NOT NULL DEFAULT 7; \
                    ALTER TABLE chunk ADD COLUMN later INT NOT NULL DEFAULT 7, ADD INDEX later (later)";
        later(&store, Step::compatible(9001, "later", step)).await.unwrap();
        // What lives goes on, whichever of its statements meet the new columns.
        assert!(store.beat(&claim, 0).await.unwrap());
        store.commit(&claim, &commit(2, 1, vec![])).await.unwrap();
        assert_eq!(store.nodes().await.unwrap().len(), 1);
        let again = opened_again(&store).await.unwrap();
        let claim = again.claim("n", Others::Impossible).await.unwrap();
        assert_eq!(replayed(&again, &claim).await.len(), 3);
        let covers = replayed(&again, &claim).await;
        again.seal(&claim, &Seal { chunks: vec![], covers }).await.unwrap();
    });
}

#[test]
fn a_breaking_step_ends_the_version_before() {
    run(async {
        let store = store().await;
        let claim = claimed(&store, "n").await;
        store.commit(&claim, &commit(0, 2, vec![])).await.unwrap();
        let other = store.claim("m", Others::Beside).await.unwrap();
        later(&store, Step::breaking(9001, "later", "ALTER TABLE lane ADD COLUMN later INT NOT NULL")).await.unwrap();
        for claim in [&claim, &other] {
            assert!(!store.beat(claim, 0).await.unwrap(), "{} was ended", claim.name);
        }
        assert!(matches!(store.commit(&claim, &commit(2, 1, vec![])).await, Err(StoreError::Fenced(_))));
        let refused = opened_again(&store).await.map(drop).unwrap_err();
        assert!(matches!(refused, StoreError::Newer { needs: 9001, .. }), "{refused}");
        assert!(!refused.is_passing() && refused.to_string().contains("9001"), "{refused}");
        // The version after finds everything that was acknowledged, under the same name, without having to watch it.
        let after = store.claim("n", Others::Beside).await.unwrap();
        assert_eq!((after.slot, replayed(&store, &after).await.len()), (claim.slot, 2));
        // A start of the version after that has nothing to do ends nobody.
        later(&store, Step::breaking(9001, "later", "ALTER TABLE lane ADD COLUMN later INT NOT NULL")).await.unwrap();
        assert!(store.beat(&after, 0).await.unwrap());
    });
}

/// What a compatible step adds is met by every statement of the version before: none of them may take all columns, or
/// insert without naming its own.
#[test]
fn every_statement_names_its_columns() {
    for (name, text) in sql::ALL {
        let takes_all = text.contains("SELECT *") || text.contains(".*");
        assert!(!takes_all, "{name} takes whatever columns there are: {text}");
        let inserts = text.match_indices("INTO ").map(|(at, _)| &text[at + 5..]);
        for rest in inserts {
            let table = rest.split([' ', '(']).next().unwrap_or("");
            let after = rest[table.len()..].trim_start();
            assert!(after.starts_with('('), "{name} inserts without naming columns: {text}");
        }
    }
}
