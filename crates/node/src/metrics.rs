//! The service's own figures, in OpenMetrics.

use calvex_store::StoreError;
use prometheus_client::encoding::EncodeLabelSet;
use prometheus_client::metrics::counter::Counter;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::gauge::Gauge;
use prometheus_client::metrics::histogram::{Histogram, exponential_buckets};
use prometheus_client::registry::Registry;

/// One label.
#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
pub struct Reason {
    /// Why.
    pub reason: String,
}

/// One label.
#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
pub struct LaneLabel {
    /// Which lane.
    pub lane: String,
}

/// What is tried again, and why.
#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
pub struct RetryLabels {
    /// `commit`, `seal`, or a job's name.
    work: &'static str,
    /// MariaDB's code; `none` where it did not answer.
    code: String,
}

/// Every figure.
pub struct Metrics {
    registry: Registry,
    /// Events acknowledged, by lane.
    pub stored: Family<LaneLabel, Counter>,
    /// Events and requests not stored, by reason.
    pub refused: Family<Reason, Counter>,
    /// Events not stored on purpose.
    pub set_aside: Counter,
    /// Batches answered from their receipt.
    pub repeated: Counter,
    /// Group commits.
    pub commits: Counter,
    /// Time of a group commit.
    pub commit_seconds: Histogram,
    /// Events not sealed yet.
    pub head_events: Gauge,
    /// Memory of the heads, roughly.
    pub head_bytes: Gauge,
    /// Sealed chunks.
    pub chunks: Gauge,
    /// Memory that requests which send hold of their budget.
    pub request_bytes: Gauge,
    /// Memory of chunk parts and columns that are kept for questions.
    pub kept_bytes: Gauge,
    /// Memory that questions hold while they are answered.
    pub question_bytes: Gauge,
    /// Chunks sealed.
    pub seals: Counter,
    /// Chunks made of smaller ones.
    pub merges: Counter,
    /// Seals tried in vain.
    pub seal_failures: Counter,
    /// Searches and histograms.
    pub searches: Counter,
    /// Time of a search or histogram.
    pub search_seconds: Histogram,
    /// Notifications delivered.
    pub notifications: Counter,
    /// Deliveries tried in vain.
    pub notification_failures: Counter,
    /// Expired buckets dropped.
    pub buckets_dropped: Counter,
    /// Work tried again after an error of the database that passes.
    pub retries: Retries,
}

/// Counts what is tried again because of an error of the database that passes.
#[derive(Debug, Clone, Default)]
pub struct Retries(Family<RetryLabels, Counter>);

impl Retries {
    /// Counts one.
    pub fn note(&self, work: &'static str, error: &StoreError) {
        let code = error.number().map_or_else(|| "none".to_owned(), |code| code.to_string());
        self.0.get_or_create(&RetryLabels { work, code }).inc();
    }
}

impl Default for Metrics {
    /// All at nought.
    fn default() -> Self {
        let seconds = || Histogram::new(exponential_buckets(0.0005, 2.0, 16));
        let mut m = Metrics {
            registry: Registry::with_prefix("calvex"),
            stored: Family::default(),
            refused: Family::default(),
            set_aside: Counter::default(),
            repeated: Counter::default(),
            commits: Counter::default(),
            commit_seconds: seconds(),
            head_events: Gauge::default(),
            head_bytes: Gauge::default(),
            chunks: Gauge::default(),
            request_bytes: Gauge::default(),
            kept_bytes: Gauge::default(),
            question_bytes: Gauge::default(),
            seals: Counter::default(),
            merges: Counter::default(),
            seal_failures: Counter::default(),
            searches: Counter::default(),
            search_seconds: seconds(),
            notifications: Counter::default(),
            notification_failures: Counter::default(),
            buckets_dropped: Counter::default(),
            retries: Retries::default(),
        };
        let r = &mut m.registry;
        r.register("events_stored", "Events acknowledged, by lane", m.stored.clone());
        r.register("events_refused", "Events and requests not stored, by reason", m.refused.clone());
        r.register("events_set_aside", "Events not stored on purpose", m.set_aside.clone());
        r.register("batches_repeated", "Batches answered from their receipt", m.repeated.clone());
        r.register("commits", "Group commits", m.commits.clone());
        r.register("commit_seconds", "Time of a group commit", m.commit_seconds.clone());
        r.register("head_events", "Events not sealed yet", m.head_events.clone());
        r.register("head_bytes", "Memory of the heads, roughly", m.head_bytes.clone());
        r.register("chunks", "Sealed chunks", m.chunks.clone());
        r.register("request_bytes", "Memory that requests which send hold of their budget", m.request_bytes.clone());
        r.register("kept_bytes", "Memory of chunk parts and columns kept for questions", m.kept_bytes.clone());
        r.register("question_bytes", "Memory that questions hold while they are answered", m.question_bytes.clone());
        r.register("seals", "Chunks sealed", m.seals.clone());
        r.register("merges", "Chunks made of smaller ones", m.merges.clone());
        r.register("seal_failures", "Seals tried in vain", m.seal_failures.clone());
        r.register("searches", "Searches and histograms", m.searches.clone());
        r.register("search_seconds", "Time of a search or histogram", m.search_seconds.clone());
        r.register("notifications", "Notifications delivered", m.notifications.clone());
        r.register("notification_failures", "Deliveries tried in vain", m.notification_failures.clone());
        r.register("buckets_dropped", "Expired buckets dropped", m.buckets_dropped.clone());
        let retries = "Work tried again after an error of the database that passes, by its code";
        r.register("database_retries", retries, m.retries.0.clone());
        m
    }
}

impl Metrics {
    /// The text of the OpenMetrics exposition.
    pub fn encode(&self) -> String {
        let mut out = String::new();
        // Writing to a string cannot fail.
        let _ = prometheus_client::encoding::text::encode(&mut out, &self.registry);
        out
    }

    /// Counts something not stored.
    pub fn refuse(&self, reason: &str, count: u64) {
        self.refused.get_or_create(&Reason { reason: reason.to_owned() }).inc_by(count);
    }
}
