//! Joins the small pages of heads, so that a trickle does not leave thousands of them. It runs beside the commits: whoever
//! waits for a commit does not wait for the pages of others.

use super::View;
use crate::admission::behind::Behind;
use calvex_intake::batch::HeadKey;
use parking_lot::Mutex;
use std::collections::BTreeSet;
use std::sync::Arc;
use tokio::sync::mpsc;

type Keys = Arc<Mutex<BTreeSet<HeadKey>>>;

/// Takes note of heads that grew.
pub struct Grown {
    keys: Keys,
    wake: mpsc::Sender<()>,
}

/// Compacts heads that grew, until nobody takes note of them any more.
pub struct Compaction {
    keys: Keys,
    woken: mpsc::Receiver<()>,
}

/// Both ends.
pub fn compaction() -> (Grown, Compaction) {
    let keys = Keys::default();
    let (wake, woken) = mpsc::channel(1);
    (Grown { keys: keys.clone(), wake }, Compaction { keys, woken })
}

impl Grown {
    /// These heads grew.
    pub fn note(&self, heads: BTreeSet<HeadKey>) {
        self.keys.lock().extend(heads);
        // Where the place is taken, it is about to look anyway.
        let _ = self.wake.try_send(());
    }
}

impl Compaction {
    /// Compacts on `threads`, a head at a time.
    pub async fn run(mut self, view: Arc<View>, threads: Behind) {
        while self.woken.recv().await.is_some() {
            let keys = std::mem::take(&mut *self.keys.lock());
            for key in keys {
                let view = view.clone();
                if let Err(e) = threads.run(move || view.compact(key)).await {
                    tracing::error!("a head was not compacted: {e}");
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use calvex_language::model::Event;
    use calvex_storage::columns::build_page;

    #[tokio::test]
    async fn heads_that_grew_are_compacted_beside() {
        let view = Arc::new(View::new(Vec::new()));
        let key = HeadKey { lane: 1, day: 0, late: false };
        let (grown, compaction) = compaction();
        let running = tokio::spawn(compaction.run(view.clone(), Behind::for_building(1).unwrap()));
        for seq in 1..=50 {
            let row = calvex_store::JournalRowRef {
                table: calvex_store::JournalTable { slot: 1, no: 1 },
                slot: 1,
                epoch: 1,
                seq,
            };
            let events: Vec<Event> = (0..3).map(|time_ns| Event { time_ns, ..Event::default() }).collect();
            let page = build_page(&events).unwrap();
            view.admit(key, page.with_origin(1, 1, seq), row, 0);
            grown.note(BTreeSet::from([key]));
        }
        drop(grown);
        // It looks once more before it ends.
        running.await.unwrap();
        let (_, head) = view.begin_seal(|_, _| true).unwrap();
        assert_eq!((head.events, head.rows.len()), (150, 50));
        assert!(head.pages.len() < 8, "{} pages", head.pages.len());
    }
}
