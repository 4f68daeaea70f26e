//! What a rehearsal shows in a terminal, and documents to begin with.

use anyhow::Result;
use calvex_answer::story::duration_text;
use calvex_answer::watch::{Bin, Side};
use calvex_client::options::Form;
use calvex_client::shown::Zone;
use calvex_client::{Ended, output};
use calvex_language::model::time::format_utc;
use calvex_wire::api::{AlertInFull, RehearsalAnswer, RuleVersion};
use owo_colors::Style;
use serde_json::json;

/// Cells of the strip.
const WIDTH: usize = 96;
const HEIGHTS: [char; 9] = [' ', '▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];

/// A document of each form.
pub(super) const FORMS: [(&str, &str); 8] = [
    ("threshold", include_str!("forms/threshold.toml")),
    ("share", include_str!("forms/share.toml")),
    ("silence", include_str!("forms/silence.toml")),
    ("first-seen", include_str!("forms/first-seen.toml")),
    ("deviation", include_str!("forms/deviation.toml")),
    ("objective", include_str!("forms/objective.toml")),
    ("unfinished", include_str!("forms/unfinished.toml")),
    ("error-group", include_str!("forms/error-group.toml")),
];

/// A figure as it is read.
pub(crate) fn figure(value: f64) -> String {
    format!("{}", (value * 1000.0).round() / 1000.0)
}

/// Prints a line for each alert that would have been raised, in a terminal with the strip above.
pub(super) fn show(answer: &RehearsalAnswer, form: &Form, zone: &Zone) -> Result<Ended> {
    let alerts = answer.alerts.iter().map(|alert| {
        json!({
            "raised": format_utc(alert.raised_ns, 3),
            "ended": alert.ended_ns.map(|ns| format_utc(ns, 3)),
            "took_s": alert.ended_ns.map(|ns| (ns - alert.raised_ns) as f64 / 1e9),
            "worst": alert.worst,
            "groups": alert.groups,
            "group_count": alert.group_count,
        })
    });
    if form.is_json() {
        output::ndjson(&alerts.collect::<Vec<_>>())?;
    } else {
        output::line(&output::plain(&answer.sentence))?;
        output::line(&answer.summary.replace('*', ""))?;
        if !answer.in_truth.is_empty() {
            output::line(&format!("The rule of this name was raised {} times in that time.", answer.in_truth.len()))?;
        }
        if !answer.bins.is_empty() {
            output::line(&strip(&answer.bins, answer.bound.number, answer.bound.side))?;
            let (from, to) = (zone.short(&answer.range.from), zone.short(&answer.range.to));
            let bound =
                format!("{} {}", if answer.bound.side == Side::Above { "above" } else { "below" }, answer.bound.number);
            output::line(&output::faint(&format!("{from} to {to}, {} {bound}", answer.unit)))?;
        }
        for alert in &answer.alerts {
            let raised = zone.short(&format_utc(alert.raised_ns, 3));
            let long =
                alert.ended_ns.map_or_else(|| "raised still".to_owned(), |ns| duration_text(ns - alert.raised_ns));
            let groups: Vec<&str> = alert.groups.iter().map(String::as_str).filter(|name| !name.is_empty()).collect();
            let more = alert.group_count.saturating_sub(alert.groups.len());
            let more = if more > 0 { format!(" and {more} more") } else { String::new() };
            let worst = figure(alert.worst);
            output::line(&output::plain(&format!("{raised}  {long:>12}  {worst:>10}  {}{more}", groups.join(", "))))?;
        }
        if answer.alert_count > answer.alerts.len() {
            output::line(&output::faint(&format!("and {} more", answer.alert_count - answer.alerts.len())))?;
        }
    }
    if let Some(why) = &answer.incomplete {
        anyhow::bail!("the rehearsal is incomplete: {why}");
    }
    Ok(if answer.alerts.is_empty() { Ended::Nothing } else { Ended::Well })
}

/// Values as bars, the tallest the highest.
fn bars(values: &[Option<f64>]) -> String {
    let most = values.iter().flatten().fold(f64::MIN_POSITIVE, |most, value| most.max(value.abs()));
    let bar = |value: &Option<f64>| match value {
        Some(value) => HEIGHTS.get(1 + (value.abs() / most * 7.0).round() as usize).copied().unwrap_or('█'),
        None => ' ',
    };
    values.iter().map(bar).collect()
}

/// Prints each version of a rule with the lines of its document that differ from the version before.
pub(super) fn show_versions(versions: &[RuleVersion], zone: &Zone) -> Result<()> {
    let lines = |version: &RuleVersion| -> Vec<String> {
        toml::to_string(&version.document).unwrap_or_default().lines().map(str::to_owned).collect()
    };
    for (n, version) in versions.iter().enumerate() {
        let at = version.at.as_ref().map_or_else(|| "at a time that was not recorded".to_owned(), |at| zone.short(at));
        output::line(&output::plain(&format!("{}  {at}  {}", version.revision, version.by)))?;
        let (now, before) = (lines(version), versions.get(n + 1).map(lines).unwrap_or_default());
        for gone in before.iter().filter(|line| !now.contains(line)) {
            output::line(&output::plain(&format!("   - {gone}")))?;
        }
        for come in now.iter().filter(|line| !line.is_empty() && !before.contains(line)) {
            output::line(&output::plain(&format!("   + {come}")))?;
        }
    }
    Ok(())
}

/// One alert, in lines.
pub(crate) fn alert_text(full: &AlertInFull, zone: &Zone) -> String {
    let alert = &full.alert;
    let state = match (&alert.ended, alert.withdrawn) {
        (_, true) => "withdrawn".to_owned(),
        (Some(at), _) => {
            let why = alert.closed.as_ref().map_or_else(String::new, |why| format!(" ({why})"));
            format!("until {}{why}", zone.short(at))
        }
        (None, _) => "raised".to_owned(),
    };
    let late = if alert.late { " (seen late)" } else { "" };
    let mut lines = vec![
        format!("{}: {state}", alert.rule),
        alert.sentence.clone(),
        format!("raised     {}{late}", zone.short(&alert.raised)),
        format!(
            "value      {} {}, bound {}",
            alert.peak.map_or_else(|| "–".into(), figure),
            alert.unit,
            figure(alert.bound.number)
        ),
    ];
    let mut line = |name: &str, text: String| {
        if !text.is_empty() {
            lines.push(format!("{name:<10} {text}"));
        }
    };
    for group in alert.groups.iter().filter(|group| !group.name.is_empty()) {
        let until =
            group.ended.as_deref().map_or_else(|| "raised".to_owned(), |at| format!("until {}", zone.short(at)));
        let muted = if group.muted { ", muted" } else { "" };
        line("group", format!("{}  from {} {until}{muted}", group.name, zone.short(&group.raised)));
    }
    if let Some(why) = &alert.explanation {
        line("different", why.headline.clone());
        why.lines.iter().for_each(|l| line("", format!("{} → {}  {}", l.baseline, l.current, l.what)));
        why.new_errors.iter().for_each(|new| line("new", new.clone()));
        why.marks.iter().for_each(|mark| line("changed", mark.clone()));
        if let Some(strip) = &why.strip {
            line("before", format!("{}  up to when it was raised, {:.0} s a bar", bars(&strip.values), strip.step_s));
        }
        line("story", why.story.as_ref().map_or_else(String::new, |id| format!("calvex story {id}")));
    }
    line("taken by", alert.taken_by.clone().unwrap_or_default());
    line("note", alert.note.clone());
    line("runbook", alert.runbook.clone());
    full.notes.iter().for_each(|n| line("noted", format!("{} by {}: {}", zone.short(&n.at), n.by, n.text)));
    for message in &full.messages {
        let to = if message.contact.is_empty() { &message.target } else { &message.contact };
        let tries = message.tries.iter().filter(|tried| !tried.error.is_empty()).count();
        let tries = if tries > 0 { format!(" ({tries} tries failed)") } else { String::new() };
        line("notified", format!("{} {to} {}: {}{tries}", message.kind, message.what, message.state));
    }
    lines.iter().map(|line| output::plain(line)).collect::<Vec<_>>().join("\n")
}

/// The values along the time, by how far they lie from zero: the worst of each cell, red where it is beyond the bound.
fn strip(bins: &[Bin], bound: f64, side: Side) -> String {
    let above = side == Side::Above;
    let worst = |bin: &Bin| if above { bin.most } else { bin.least };
    let ends = bins.iter().flat_map(|bin| [bin.least, bin.most]).flatten();
    let most = ends.map(f64::abs).fold(bound.abs().max(1e-12), f64::max);
    let each = bins.len().div_ceil(WIDTH);
    let cell = |some: &[Bin]| {
        let values = some.iter().filter_map(worst);
        let value = if above { values.reduce(f64::max) } else { values.reduce(f64::min) };
        let Some(value) = value else { return "·".to_owned() };
        let height = ((value.abs() / most).clamp(0.0, 1.0) * 8.0).round() as usize;
        let height = if value != 0.0 { height.max(1) } else { height };
        let drawn = HEIGHTS[height.min(8)].to_string();
        let beyond = if above { value > bound } else { value < bound };
        if beyond { output::styled(&drawn, Style::new().bright_red()) } else { drawn }
    };
    bins.chunks(each.max(1)).map(cell).collect()
}
