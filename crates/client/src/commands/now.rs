//! `calvex now`: how things stand.

use crate::client::Connection;
use crate::figures::bars;
use crate::options::{Form, Link, address};
use crate::shown::{Zone, ZoneArgs};
use crate::{Ended, output};
use anyhow::Result;
use calvex_wire::api::{NowAnswer, ServiceFigures, ServiceNow};
use clap::Args;
use owo_colors::Style;

/// Services against their usual, alerts, marks, and who fell silent or is refused. Exits 1 where nothing is to be reported.
#[derive(Args)]
pub struct Now {
    #[command(flatten)]
    form: Form,
    #[command(flatten)]
    zone: ZoneArgs,
    #[command(flatten)]
    link: Link,
    #[command(flatten)]
    connection: Connection,
}

impl Now {
    pub async fn run(self) -> Result<Ended> {
        if self.link.link {
            output::line(&address(&self.connection.first()?, "now", &[]))?;
            return Ok(Ended::Well);
        }
        let now: NowAnswer = self.connection.open().await?.get("/api/now").await?;
        let nothing = now.services.is_empty() && now.alerts.is_empty() && now.silent.is_empty() && now.marks.is_empty();
        let ended = if nothing { Ended::Nothing } else { Ended::Well };
        if self.form.is_json() {
            output::json_line(&serde_json::to_string(&now)?)?;
            return Ok(ended);
        }
        let zone = self.zone.zone();
        for alert in &now.alerts {
            let raised = output::styled("raised", Style::new().bright_red().bold());
            output::line(&format!("{raised}    {}  since {}", alert.rule, zone.short(&alert.raised)))?;
        }
        for rule in &now.building {
            output::line(&format!("{}  {rule}", output::styled("building", Style::new().yellow())))?;
        }
        let head = ["service", "last hour", "rate", "usual", "errors", "usual", "p95", "usual", "strays"];
        if !now.services.is_empty() {
            output::line(&output::faint(&format!(
                "over the last {} minutes, beside the usual: {}",
                now.window_s / 60,
                now.usual_of
            )))?;
            output::table(&head, now.services.iter().map(row).collect())?;
        }
        reported("marks", now.marks.iter().map(|m| (&m.at, m.what.clone())), &zone)?;
        reported("silent", now.silent.iter().map(|s| (&s.last, s.service.clone())), &zone)?;
        let refused = |r: &calvex_wire::api::Refused| format!("{}: {} refused, {}", r.sender, r.refused, r.reason);
        reported("refused", now.refused.iter().map(|r| (&r.last, refused(r))), &zone)?;
        now.left_out.iter().for_each(|loss| eprintln!("not read: {loss}"));
        Ok(ended)
    }
}

fn reported<'a>(head: &str, rows: impl Iterator<Item = (&'a String, String)>, zone: &Zone) -> Result<()> {
    for (n, (at, what)) in rows.enumerate() {
        if n == 0 {
            output::line(&output::faint(head))?;
        }
        output::line(&format!("  {}  {what}", output::faint(&zone.short(at))))?;
    }
    Ok(())
}

fn row(s: &ServiceNow) -> Vec<String> {
    let usual = |of: fn(&ServiceFigures) -> String| s.usual.as_ref().map_or("–".to_owned(), of);
    let rate = |f: &ServiceFigures| format!("{:.2}/s", f.rate);
    let errors = |f: &ServiceFigures| format!("{:.1} %", f.error_share * 100.0);
    let tail = |f: &ServiceFigures| f.p95_ms.map_or("–".to_owned(), |ms| format!("{ms:.0} ms"));
    let trend: Vec<f64> = s.trend.iter().map(|n| *n as f64).collect();
    vec![
        s.service.clone(),
        bars(&trend),
        rate(&s.now),
        usual(rate),
        errors(&s.now),
        usual(errors),
        tail(&s.now),
        usual(tail),
        if s.strays.is_empty() && s.usual.is_some() { "as usual".to_owned() } else { s.strays.join(", ") },
    ]
}
