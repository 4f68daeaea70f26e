//! Starting and stopping: database, claim, replay, tasks, listeners; and the same backwards.

use crate::{http, jobs};
use calvex_language::domain::access::{Actor, Role};
use calvex_language::domain::grant::May;
use calvex_node::admission::behind::Behind;
use calvex_node::admission::budget::Budget;
use calvex_node::admission::connections::raise_open_files;
use calvex_node::admission::slots::Slots;
use calvex_node::answer::budgets::Budgets;
use calvex_node::answer::complete::Proposals;
use calvex_node::answer::overview::Standings;
use calvex_node::answer::rehearse::Rehearsals;
use calvex_node::answer::search_pool::SearchPool;
use calvex_node::auth::cache::AuthCache;
use calvex_node::auth::provider::Provider;
use calvex_node::auth::secrets::hash_password;
use calvex_node::auth::sign_in::SignIns;
use calvex_node::auth::strangers::Strangers;
use calvex_node::config::settings::Settings;
use calvex_node::config::{Config, LiveConfig};
use calvex_node::error::{Result, ServiceError};
use calvex_node::intake::ledger::{Ledger, write as write_arrivals};
use calvex_node::intake::limits::Limits;
use calvex_node::listen::{Addresses, Certificates, Listeners};
use calvex_node::metrics::Metrics;
use calvex_node::nodes::{Following, Nodes, beat_while_starting, list_orphans, look, page_of};
use calvex_node::pipeline::admitted::{Admitted, Reach};
use calvex_node::pipeline::{CommitFigures, Committer, Sealer, View, compaction};
use calvex_node::state::{Auth, Base, Clock, Health, Parts, Reading, Receiving, Upkeep, system_clock};
use calvex_storage::columns::PageRead;
use calvex_store::records::Act;
use calvex_store::{
    Claim, ColumnCache, JournalTable, Keys, Others, SegmentCache, Server, ServerSettings, Store, StoreError,
    StoreOptions,
};
use std::collections::BTreeSet;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicI64, AtomicU32, Ordering};
use std::time::Duration;
use tokio::sync::{Semaphore, watch};
use tokio::task::{JoinHandle, JoinSet};

/// How long requests under way may take once stopping has begun.
const DRAIN: Duration = Duration::from_secs(5);
/// Memory for columns that rules look at.
const RULE_COLUMNS_BYTES: u64 = 48 << 20;

/// A running service.
pub struct Running {
    /// Where its ways in are.
    pub addresses: Addresses,
    parts: Parts,
    server: Option<Server>,
    stop: watch::Sender<bool>,
    listeners: JoinSet<()>,
    jobs: JoinSet<()>,
    committer: JoinHandle<()>,
}

/// Opens the database the settings name: a private one is started, an existing one connected to.
///
/// # Errors
/// Where it cannot be reached.
pub async fn open_database(settings: &Settings) -> Result<(Option<Server>, Store)> {
    let url = settings.text("database.url");
    if !url.is_empty() {
        let options = StoreOptions::url(url, settings.flag("database.allow_lossy"))?;
        let store = patiently(|| Store::open(options.clone())).await?;
        return Ok((None, store));
    }
    let server = Server::start(ServerSettings {
        data_dir: settings.data_dir(),
        buffer_pool_mib: settings.number("database.buffer_pool_mib") as u32,
        redo_log_mib: settings.number("database.redo_log_mib") as u32,
    })
    .await?;
    let store = Store::open(StoreOptions::socket(server.socket(), "calvex")).await;
    match store {
        Ok(store) => Ok((Some(server), store)),
        Err(e) => {
            server.stop().await;
            Err(e.into())
        }
    }
}

/// Starts a service. `admin_password` is given to the first administrator, `admin`, where there is no user yet.
///
/// # Errors
/// Where the database or an address is not to be had.
pub async fn start(settings: Settings, admin_password: Option<String>) -> Result<Running> {
    let listeners = Listeners::bind(&settings).await?;
    let (server, store) = open_database(&settings).await?;
    let file = match settings.text("secrets.key_file") {
        "" => settings.data_dir().join("secrets.key"),
        named => named.into(),
    };
    let keys = Keys::open(&file, rand::random());
    let keys = match (keys, server) {
        (Ok(keys), server) => (keys, server),
        (Err(e), Some(server)) => {
            server.stop().await;
            return Err(e.into());
        }
        (Err(e), None) => return Err(e.into()),
    };
    let (store, server) = (store.sealing_by(keys.0), keys.1);
    let others = if server.is_some() { Others::Impossible } else { Others::Beside };
    match start_on(
        settings,
        store,
        others,
        admin_password,
        (listeners.addresses()?, listeners.certificates.clone()),
        system_clock(),
    )
    .await
    {
        Ok(started) => serve(started, server, listeners),
        Err(e) => {
            if let Some(server) = server {
                server.stop().await;
            }
            Err(e)
        }
    }
}

async fn first_admin(store: &Store, password: Option<String>, now_ns: i64) -> Result<()> {
    if patiently(|| store.user_count()).await? > 0 {
        return Ok(());
    }
    let (password, generated) = match password {
        Some(p) => (p, false),
        None => (calvex_node::auth::secrets::new_secret("first", rand::random()).0, true),
    };
    let hashed = password.clone();
    let hash = tokio::task::spawn_blocking(move || hash_password(&hashed)).await;
    let hash = hash
        .map_err(|e| ServiceError::Setting(e.to_string()))?
        .map_err(|e| ServiceError::Setting(format!("CALVEX_ADMIN_PASSWORD: {e}")))?;
    let by = Actor { name: "calvex serve", token: None };
    let what = "admin, admin".into();
    let act = Act { at_ns: now_ns, by, act: "add person", what, before: None, chain: (0, 0) };
    // Whoever sets it up manages the lanes that are there.
    let lanes: Vec<u32> = patiently(|| store.lanes()).await?.into_iter().map(|lane| lane.id).collect();
    match patiently(|| store.add_user("admin", &hash, Role::Admin, (May::Manage, &lanes), &act)).await {
        // Another node began at the same moment, or an earlier try was carried out and its answer lost.
        Err(ServiceError::Store(StoreError::Taken(_))) => {
            let theirs = patiently(|| store.user("admin")).await?;
            if theirs.is_none_or(|user| user.password_hash != hash) {
                return Ok(());
            }
        }
        done => _ = done?,
    }
    if generated {
        // To the terminal, once, and never to the log.
        println!("first administrator: name `admin`, password `{password}` (shown this once)");
    }
    Ok(())
}

/// The parts, put together, and what runs of them already.
struct Started {
    parts: Parts,
    committer: JoinHandle<()>,
}

/// Tries of a step of the start whose error passes by itself, and the pause between.
const START_TRIES: u32 = 60;
const START_PAUSE: Duration = Duration::from_millis(500);

/// Fails where another node lives that has other keys for secrets.
async fn check_keys(store: &Store, own: u16) -> Result<()> {
    let closed = patiently(|| store.secrets_of_other_keys()).await?;
    let others = patiently(|| store.nodes()).await?.into_iter().any(|node| node.alive && node.slot != own);
    if closed > 0 && others {
        return Err(ServiceError::Setting(format!(
            "{closed} secrets of this database were sealed by a key that secrets.key_file does not hold; give every node a \
             copy of one file"
        )));
    }
    Ok(())
}

/// Does a step of the start, again where its error passes: too many connections, a deadlock, a server that comes up.
async fn patiently<T, E, F>(step: impl Fn() -> F) -> Result<T>
where
    E: Into<ServiceError>,
    F: Future<Output = std::result::Result<T, E>>,
{
    let mut tries = 1;
    loop {
        match step().await.map_err(Into::into) {
            Err(ServiceError::Store(e)) if e.is_passing() && tries < START_TRIES => {
                tracing::warn!("the start waits: {e}");
            }
            done => return done,
        }
        tries += 1;
        tokio::time::sleep(START_PAUSE).await;
    }
}

async fn start_on(
    settings: Settings,
    store: Store,
    others: Others,
    admin_password: Option<String>,
    reached: (Addresses, Option<Arc<Certificates>>),
    clock: Clock,
) -> Result<Started> {
    let claim = patiently(|| store.claim(settings.text("node.name"), others)).await?;
    tokio::select! {
        biased;
        () = beat_while_starting(&store, &claim) => Err(StoreError::Fenced(claim.name.clone()).into()),
        started = start_claimed(settings, (store.clone(), claim.clone(), others), admin_password, reached, clock) => started,
    }
}

async fn start_claimed(
    settings: Settings,
    (store, claim, others): (Store, Claim, Others),
    admin_password: Option<String>,
    (addresses, certificates): (Addresses, Option<Arc<Certificates>>),
    clock: Clock,
) -> Result<Started> {
    patiently(|| store.note_url(&claim, settings.text("node.url"))).await?;
    let installation = patiently(|| store.installation(rand::random())).await?;
    first_admin(&store, admin_password, clock()).await?;
    let sealed = patiently(|| store.reseal()).await?;
    if sealed > 0 {
        tracing::info!(sealed, "secrets were sealed by the key of now");
    }
    if others == Others::Beside {
        check_keys(&store, claim.slot).await?;
    }
    let over = claim.ids_of_others_that_are_over(others);
    let mut swept = 0;
    if others == Others::Impossible {
        for ids in &over {
            swept += patiently(|| store.sweep_orphans(ids)).await?;
        }
    }
    let owned = patiently(|| store.owned(&claim)).await?.into_iter().collect();
    let config = patiently(|| Config::load(&store, clock())).await?;
    let view = Arc::new(View::new(Vec::new()));
    let metrics = Metrics::default();
    let own = patiently(|| store.journal_tables()).await?.into_iter().filter(|t| t.slot == claim.slot);
    let table = JournalTable { slot: claim.slot, no: own.map(|t| t.no).max().unwrap_or(1) };
    patiently(|| store.add_journal_table(table)).await?;
    let table = Arc::new(AtomicU32::new(table.no));
    let stuck_since_ns = Arc::new(AtomicI64::new(0));
    let (admitted, fenced) = (Arc::new(Admitted::default()), Arc::new(AtomicBool::new(false)));
    let (grown, compaction) = compaction();
    let committer = Committer {
        store: store.clone(),
        claim: claim.clone(),
        view: view.clone(),
        metrics: CommitFigures::of(&metrics),
        clock: clock.clone(),
        wait: Duration::from_millis(settings.number("intake.commit_wait_ms")),
        table: table.clone(),
        grown,
        admitted: admitted.clone(),
        fenced: fenced.clone(),
        stuck_since_ns: stuck_since_ns.clone(),
    };
    let (intake, committing) = committer.start();
    let cores = std::thread::available_parallelism().map_or(2, usize::from);
    let behind = Arc::new(Behind::for_outsiders(cores)?);
    let disk_cache = Some(settings.mib("search.disk_cache_mib") as u64).filter(|bytes| *bytes > 0);
    let disk_cache = disk_cache.map(|bytes| (settings.data_dir().join("cache"), bytes));
    let cache = Arc::new(SegmentCache::new(settings.mib("search.cache_mib") as u64, &installation, disk_cache));
    let base = Arc::new(Base {
        config: LiveConfig::new(config),
        ledger: Ledger::default(),
        open_files: raise_open_files(),
        settings,
        clock,
        store,
        claim,
        nodes: Nodes::new(others == Others::Impossible),
        installation,
        metrics,
        addresses,
        certificates,
    });
    let settings = &base.settings;
    let console_url = match settings.text("notify.console_url") {
        "" => format!("{}://{}", if addresses.encrypted { "https" } else { "http" }, addresses.http),
        named => named.to_owned(),
    };
    let auth = Arc::new(Auth {
        provider: Provider::of(settings, &console_url)?,
        keys: AuthCache::new(Duration::from_secs(5)),
        readers: AuthCache::new(Duration::from_secs(2)),
        strangers: Strangers::default(),
        sign_ins: SignIns::new(cores),
        api_budget: Budget::new("limits.api_budget_mib", settings.mib("limits.api_budget_mib")),
        behind: behind.clone(),
        base: base.clone(),
    });
    let receiving = Arc::new(Receiving {
        intake,
        intake_budget: Budget::new("intake.budget_mib", settings.mib("intake.budget_mib")),
        decode_slots: Slots::new(cores),
        limits: Limits::default(),
        behind: behind.clone(),
        view: view.clone(),
        auth: auth.clone(),
        base: base.clone(),
    });
    let reading = Arc::new(Reading {
        search_slots: Arc::new(Semaphore::new(settings.number("search.at_once").max(1) as usize)),
        rule_slots: Arc::new(Semaphore::new(2)),
        rule_columns: ColumnCache::of_all(RULE_COLUMNS_BYTES),
        columns: Some(settings.mib("search.columns_mib") as u64).filter(|bytes| *bytes > 0).map(ColumnCache::new),
        export_slots: Arc::new(Semaphore::new(calvex_node::answer::export::AT_ONCE)),
        tail_slots: Arc::new(Semaphore::new(calvex_node::answer::tail::AT_ONCE)),
        search_pool: SearchPool::new(cores)?,
        budgets: Budgets::default(),
        standings: Standings::default(),
        rehearsals: Rehearsals::default(),
        proposals: Proposals::default(),
        behind,
        cache: cache.clone(),
        view: view.clone(),
        auth: auth.clone(),
        base: base.clone(),
    });
    let building = Behind::for_building(cores)?;
    tokio::spawn(compaction.run(view.clone(), building.clone()));
    let sealer = Arc::new(Sealer::new(base.clone(), view.clone(), cache.clone(), building, table));
    let upkeep = Arc::new(Upkeep {
        sealer: sealer.clone(),
        merges_failed: parking_lot::Mutex::default(),
        merging: tokio::sync::Mutex::default(),
        orphans: parking_lot::Mutex::default(),
        swapping: tokio::sync::Mutex::default(),
        following: tokio::sync::Mutex::new(Following::owning(owned)),
        admitted: admitted.clone(),
        cache,
        view: view.clone(),
        base: base.clone(),
    });
    let health = Arc::new(Health {
        ready: AtomicBool::new(false),
        receiving: receiving.clone(),
        base: base.clone(),
        sealer,
        fenced,
        stuck_since_ns,
    });
    if others == Others::Beside {
        over.into_iter().for_each(|ids| list_orphans(&upkeep, ids));
    }
    patiently(|| receiving.limits.load(&base.store, (base.clock)())).await?;
    patiently(|| look(&upkeep, &admitted, true)).await?;
    let replayed = replay(&base, &view, &admitted).await?;
    tracing::info!(open_files = base.open_files, "files that may be open");
    tracing::info!(node = base.claim.slot, epoch = base.claim.epoch, replayed, swept, "the journal is replayed");
    health.ready.store(true, Ordering::SeqCst);
    let parts = Parts { base, auth, receiving, reading, upkeep, health };
    Ok(Started { parts, committer: tokio::spawn(committing) })
}

/// Brings what an earlier epoch left in the journal back into heads. A damaged batch stays where it is, and is reported.
async fn replay(base: &Base, view: &View, admitted: &Admitted) -> Result<usize> {
    let now_ns = (base.clock)();
    let mut events = 0;
    let mut left = BTreeSet::new();
    for table in patiently(|| base.store.journal_tables()).await? {
        let mut after = (0, 0, 0);
        loop {
            let batches = patiently(|| base.store.replay(&base.claim, table, after)).await?;
            let Some(last) = batches.last() else { break };
            after = (last.at.slot, last.at.epoch, last.at.seq);
            for stored in batches {
                left.insert((stored.at.slot, stored.at.epoch));
                match page_of(&stored) {
                    Ok((key, page)) => {
                        events += page.rows();
                        let reach = Reach::of(&page);
                        view.admit(key, page, stored.at, now_ns);
                        admitted.note(reach);
                        view.compact(key);
                    }
                    Err(e) => tracing::error!("{e}"),
                }
            }
        }
    }
    patiently(|| base.store.forget_owned(&base.claim, &left)).await?;
    Ok(events)
}

fn serve(started: Started, server: Option<Server>, listeners: Listeners) -> Result<Running> {
    let (stop, stopping) = watch::channel(false);
    let Started { parts, committer } = started;
    let listeners =
        listeners.serve(&parts, http::router(parts.clone()), http::otlp_router(parts.clone()), &stopping)?;
    let jobs = jobs::start(&parts, &stopping);
    Ok(Running { addresses: parts.base.addresses, parts, server, stop, listeners, jobs, committer })
}

impl Running {
    /// Resolves when this node was replaced by another process and must end.
    pub async fn replaced(&self) {
        while !self.parts.health.fenced.load(Ordering::SeqCst) {
            tokio::time::sleep(Duration::from_millis(200)).await;
        }
    }

    /// Stops: takes no more, commits what it took, leaves the rest to the journal, stops its database.
    pub async fn stop(mut self) {
        let _ = self.stop.send(true);
        self.parts.receiving.view.end_following();
        let drained = tokio::time::timeout(DRAIN, async { while self.listeners.join_next().await.is_some() {} }).await;
        if drained.is_err() {
            tracing::warn!("some requests did not end in time and are cut off");
            self.listeners.abort_all();
        }
        self.parts.receiving.intake.close();
        if tokio::time::timeout(DRAIN, &mut self.committer).await.is_err() {
            tracing::warn!("the last commit did not end in time; its senders were not answered");
        }
        self.jobs.abort_all();
        while self.jobs.join_next().await.is_some() {}
        // A database that hangs keeps nobody from stopping.
        let Base { store, claim, .. } = &*self.parts.base;
        let last_words = async {
            if let Err(e) = write_arrivals(&self.parts.base).await {
                tracing::warn!("the last account of arrivals was not written: {e}");
            }
            if let Err(e) = store.leave(claim).await {
                tracing::warn!("the next start will watch for this node, since its leave was not noted: {e}");
            }
        };
        if tokio::time::timeout(DRAIN, last_words).await.is_err() {
            tracing::warn!("the database does not answer; the next start will watch for this node");
        }
        if tokio::time::timeout(DRAIN, store.close()).await.is_err() {
            tracing::warn!("some connections to the database did not end in time");
        }
        if let Some(server) = self.server {
            server.stop().await;
        }
    }
}
