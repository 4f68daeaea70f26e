//! `calvex demo incident`: begins a fresh failure in the demo that runs, or ends it. Command and demo talk by a file beside
//! the demo's records: the command writes what it asks for, and the demo writes that it has seen it.

use super::now_ns;
use anyhow::{Context, Result, bail};
use calvex_client::Ended;
use calvex_client::options::Form;
use calvex_demo::Incident;
use clap::Args;
use serde::{Deserialize, Serialize};
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

/// How long a demo that runs takes to see it at most.
const SEEN_WITHIN: Duration = Duration::from_secs(10);

/// Begin a fresh failure in the demo that runs, or end it. Its alert is raised within two minutes.
#[derive(Args)]
pub struct IncidentArgs {
    /// What fails: `leases`, as in the night, or `certificate`, as on one of the days before
    #[arg(value_parser = Incident::ALL.map(Incident::name), default_value = "leases")]
    kind: String,
    /// How long, if nobody ends it before
    #[arg(long = "for", value_name = "DURATION", value_parser = calvex_client::options::duration_s, default_value = "15m")]
    lasts: u64,
    /// End the one that is under way
    #[arg(long, conflicts_with = "kind")]
    end: bool,
    /// Where the demo lives
    #[arg(long, default_value = ".demo")]
    data_dir: PathBuf,
    #[command(flatten)]
    form: Form,
}

/// What is under way, as the file has it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct UnderWay {
    /// The name of its kind.
    pub kind: String,
    /// When it ends by itself.
    pub until_ns: i64,
    /// Whether the demo has seen it.
    pub seen: bool,
}

impl UnderWay {
    /// Where it is written.
    pub fn file(dir: &Path) -> PathBuf {
        dir.join("incident.json")
    }

    /// What is under way, if anything.
    pub fn read(dir: &Path) -> Option<UnderWay> {
        serde_json::from_slice(&std::fs::read(Self::file(dir)).ok()?).ok()
    }

    /// Writes it whole or not at all.
    ///
    /// # Errors
    /// Where the folder cannot be written.
    pub fn write(&self, dir: &Path) -> Result<()> {
        let (file, fresh) = (Self::file(dir), dir.join("incident.json.new"));
        std::fs::write(&fresh, serde_json::to_vec(self)?)
            .with_context(|| format!("cannot write {}", fresh.display()))?;
        std::fs::rename(&fresh, &file).with_context(|| format!("cannot write {}", file.display()))
    }
}

impl IncidentArgs {
    pub async fn run(self) -> Result<Ended> {
        let dir = &self.data_dir;
        if !dir.join("demo.json").exists() {
            bail!(
                "there is no demo in {}; start one with `./run demo`, or name its folder with --data-dir",
                dir.display()
            );
        }
        let known = UnderWay::read(dir);
        let wanted = if self.end {
            let Some(known) = known else { bail!("no incident is under way in {}", dir.display()) };
            UnderWay { until_ns: 0, seen: false, ..known }
        } else {
            if let Some(known) = known.filter(|known| known.until_ns > now_ns()) {
                bail!("an incident of `{}` is under way; `calvex demo incident --end` ends it", known.kind);
            }
            let lasts_ns = i64::try_from(self.lasts)?.saturating_mul(1_000_000_000);
            UnderWay { kind: self.kind, until_ns: now_ns().saturating_add(lasts_ns), seen: false }
        };
        wanted.write(dir)?;
        let until = Instant::now() + SEEN_WITHIN;
        // What is over is taken away by the demo.
        while UnderWay::read(dir).is_some_and(|asked| !asked.seen) {
            if Instant::now() > until {
                let _ = std::fs::remove_file(UnderWay::file(dir));
                bail!("the demo in {} does not run; start it with `./run demo`", dir.display());
            }
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
        let over = wanted.until_ns == 0;
        let state = if over { "ended" } else { "begun" };
        let reported = serde_json::json!({ "incident": wanted.kind, "state": state });
        self.form.one(&reported, |_| match over {
            true => format!("the incident of `{}` has ended", wanted.kind),
            false => format!(
                "the incident of `{}` has begun; Now and Alerts show it within two minutes, and `calvex demo incident --end` ends it",
                wanted.kind
            ),
        })
    }
}
