//! Rights are looked at again while something lasts: what ends them ends it too, within two seconds.

use super::ReadScope;
use crate::state::Auth;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;
use tokio::task::JoinHandle;

/// How often. What was looked up is kept for two seconds unless it changes on this node, which is seen at once.
pub const EVERY: Duration = Duration::from_secs(1);
/// What whoever asked gets in the place of an answer.
pub const CHANGED: &str = "what you may read has changed meanwhile; ask again";

/// Watches the rights of the one who asks until it is dropped.
pub struct Watch {
    /// Set once these are not any more what they were.
    pub ended: Arc<AtomicBool>,
    task: Option<JoinHandle<()>>,
}

impl Watch {
    /// Of the one whose scope it is; where it is nobody's, nothing is watched.
    pub fn begin(auth: &Arc<Auth>, scope: &ReadScope) -> Self {
        let ended = Arc::new(AtomicBool::new(false));
        let watched = scope.watched.clone().map(|reader| {
            let (auth, ended, key) = (auth.clone(), ended.clone(), ReadScope::of(&reader).key());
            tokio::spawn(async move {
                loop {
                    tokio::time::sleep(EVERY).await;
                    // A database that is away says nothing about rights; the next look will.
                    let Ok(still) = reader.still(&auth).await else { continue };
                    if still.is_none_or(|now| now.scope().key() != key) {
                        ended.store(true, Ordering::Relaxed);
                        return;
                    }
                }
            })
        });
        Watch { ended, task: watched }
    }

    /// Whether they are not any more what they were.
    pub fn has_ended(&self) -> bool {
        self.ended.load(Ordering::Relaxed)
    }
}

impl Drop for Watch {
    fn drop(&mut self) {
        if let Some(task) = &self.task {
            task.abort();
        }
    }
}
