//! Mail by SMTP.

use calvex_language::domain::contact::{AlertMove, Notification};
use calvex_node::error::{Result, ServiceError};
use lettre::message::{Mailbox, MultiPart};
use lettre::{AsyncSmtpTransport, AsyncTransport, Message, Tokio1Executor};
use serde_json::Value;
use std::time::Duration;

/// Checks the form of an address.
///
/// # Errors
/// Where it is none.
pub fn check_mail_address(address: &str) -> Result<()> {
    let reported =
        |_| ServiceError::BadRequest(format!("`{address}` is no mail address; one looks like oncall@fennmark.test"));
    address.parse::<Mailbox>().map(|_| ()).map_err(reported)
}

/// Delivers one notification to an address, from an installation.
pub async fn send(
    message: &Notification,
    (to, installation): (&str, &str),
    server: &str,
    from: &str,
) -> std::result::Result<(), String> {
    let (host, port) = server.rsplit_once(':').ok_or("notify.mail_server is not set as host:port")?;
    let port: u16 = port.parse().map_err(|_| format!("notify.mail_server `{server}` has no port"))?;
    let Words { subject, text, html } = words(message);
    let mail = Message::builder()
        .from(from.parse::<Mailbox>().map_err(|e| format!("notify.mail_from `{from}`: {e}"))?)
        .to(to.parse::<Mailbox>().map_err(|e| e.to_string())?)
        .message_id(Some(format!("<calvex-{installation}-{}@calvex>", message.id)))
        .subject(subject)
        .multipart(MultiPart::alternative_plain_html(text, html))
        .map_err(|e| e.to_string())?;
    let transport = AsyncSmtpTransport::<Tokio1Executor>::builder_dangerous(host)
        .port(port)
        .timeout(Some(Duration::from_secs(10)))
        .build();
    transport.send(mail).await.map(|_| ()).map_err(|e| e.to_string())
}

/// What a mail says.
struct Words {
    subject: String,
    text: String,
    html: String,
}

/// A figure as it is read: no more digits than help.
fn figure(value: &Value) -> String {
    value.as_f64().map_or_else(|| "–".to_owned(), |n| format!("{}", (n * 1000.0).round() / 1000.0))
}

/// Subject, text and HTML of a notification: the same lines.
fn words(message: &Notification) -> Words {
    let payload: Value = serde_json::from_str(&message.payload).unwrap_or_default();
    let data = &payload["data"];
    let text = |name: &str| data[name].as_str().unwrap_or("").to_owned();
    let late = if data["late"] == Value::Bool(true) { " (seen late)" } else { "" };
    let subject = format!("{}: {}{late}", message.what.name(), text("rule"));
    let head = match message.what {
        AlertMove::Test => format!("A test of the contact {}", text("rule")),
        AlertMove::Heartbeat => "Calvex works".to_owned(),
        AlertMove::HeldBack => "Messages were held back".to_owned(),
        AlertMove::Unreachable => format!("The contact {} cannot be reached", text("rule")),
        AlertMove::Repeated => format!("{} is raised still, since {}; nobody took it", text("rule"), text("raised")),
        AlertMove::Ended => format!("{} ended at {}{late}", text("rule"), text("ended")),
        what => format!("{} {} at {}{late}", text("rule"), what.name(), text("raised")),
    };
    let mut lines: Vec<(&str, String)> = vec![("", text("sentence"))];
    let is_of_alert = payload["type"].as_str().is_some_and(|kind| kind.starts_with("alert."));
    if is_of_alert {
        lines.extend(of_alert(data));
    }
    let console = text("console");
    if !console.is_empty() {
        let base = console.trim_end_matches('/');
        if let Some(story) = data["explanation"]["story"].as_str() {
            lines.push(("one story of it", format!("{base}/story/{story}")));
        }
        let links = [("its events", text("evidence")), ("the alert", text("page"))];
        lines.extend(links.into_iter().filter(|(_, link)| !link.is_empty()));
        if !is_of_alert {
            lines.push(("console", format!("{base}/alerts")));
        }
    }
    let values = strip_of(&data["explanation"]["strip"]);
    let mut plain = lines.iter().map(|(name, value)| format!("{name:<18}{value}\r\n")).collect::<String>();
    let mut rows = lines.iter().map(|(name, value)| html_row(name, value)).collect::<String>();
    if let Some(strip) = &values {
        plain += &format!("\r\n{}  {}\r\n", strip.blocks(), strip.caption);
        rows += &strip.html();
    }
    let colour = if matches!(message.what, AlertMove::Raised | AlertMove::Repeated) { RED } else { "#2e6b4f" };
    let html = format!(
        "<!doctype html><html><head><meta name=\"viewport\" content=\"width=device-width\"></head>\
         <body style=\"font:14px/1.5 sans-serif;color:#1b1b1b;max-width:720px\">\
         <h1 style=\"font-size:18px;border-left:4px solid {colour};padding-left:10px\">{}</h1>\
         <table style=\"border-collapse:collapse;width:100%\">{rows}</table></body></html>",
        escaped(&head)
    );
    Words { subject, text: format!("{head}\r\n\r\n{plain}"), html }
}

/// What a message says of its alert, line by line.
fn of_alert(data: &Value) -> Vec<(&'static str, String)> {
    let text = |name: &str| data[name].as_str().unwrap_or("").to_owned();
    let list = |value: &Value| -> Vec<String> {
        value.as_array().into_iter().flatten().filter_map(|v| v.as_str()).map(str::to_owned).collect()
    };
    let (value, bound) = (figure(&data["value"]), figure(&data["bound"]));
    let mut lines = vec![
        ("value", format!("{value} {}, bound {bound}", text("unit"))),
        ("window", format!("{} to {}", text("evidence_from"), text("raised"))),
    ];
    if !text("why_ended").is_empty() {
        lines.push(("ended because", format!("{}, not by its values", text("why_ended"))));
    }
    if !text("instead_of").is_empty() {
        lines.push(("for", format!("{}, who did not take it or is not on duty", text("instead_of"))));
    }
    let groups = list(&data["groups"]);
    if !groups.is_empty() {
        let more = data["group_count"].as_u64().unwrap_or(0).saturating_sub(groups.len() as u64);
        let more = if more > 0 { format!(" and {more} more") } else { String::new() };
        lines.push(("groups", groups.join(", ") + &more));
    }
    let meanwhile = data["meanwhile_count"].as_u64().unwrap_or(0);
    if meanwhile > 1 {
        lines.push(("meanwhile", format!("raised {meanwhile} times while nobody judged; this is the last")));
    }
    let explained = &data["explanation"];
    if let Some(headline) = explained["headline"].as_str() {
        lines.push(("what is different", headline.to_owned()));
        for line in explained["lines"].as_array().into_iter().flatten() {
            let part = |name: &str| line[name].as_str().unwrap_or("");
            lines.push(("", format!("{} → {}  {}", part("baseline"), part("current"), part("what"))));
        }
        lines.extend(list(&explained["new_errors"]).into_iter().map(|new| ("never seen before", new)));
        lines.extend(list(&explained["marks"]).into_iter().map(|mark| ("changed before", mark)));
    }
    for (name, value) in [("note", "note"), ("runbook", "runbook"), ("taken by", "taken_by")] {
        if !text(value).is_empty() {
            lines.push((name, text(value)));
        }
    }
    lines.extend(list(&data["notes"]).into_iter().map(|note| ("noted", note)));
    lines
}

const RED: &str = "#b3261e";

/// The values of the last hours, as bars.
struct Bars {
    /// Each from 0 to 1, and whether it lies beyond the bound; none where nothing can be said.
    bars: Vec<Option<(f64, bool)>>,
    caption: String,
}

/// The strip of an explanation; none where it has none.
fn strip_of(strip: &Value) -> Option<Bars> {
    let values: Vec<Option<f64>> = strip["values"].as_array()?.iter().map(Value::as_f64).collect();
    let bound = strip["bound"]["number"].as_f64()?;
    let is_below = strip["bound"]["side"] == "below";
    let most = values.iter().flatten().copied().fold(bound.abs().max(f64::MIN_POSITIVE), |a, b| a.max(b.abs()));
    let beyond = |value: f64| if is_below { value < bound } else { value > bound };
    let minutes = values.len() as f64 * strip["step_s"].as_f64()? / 60.0;
    let bar = |value: &Option<f64>| value.map(|value| (value.abs() / most, beyond(value)));
    let caption = format!("the {minutes:.0} minutes before; the tallest is {}", figure(&Value::from(most)));
    Some(Bars { bars: values.iter().map(bar).collect(), caption })
}

impl Bars {
    fn blocks(&self) -> String {
        const BLOCKS: [char; 8] = ['▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];
        let block = |bar: &Option<(f64, bool)>| match bar {
            Some((height, _)) => BLOCKS.get((height * 7.0).round() as usize).copied().unwrap_or('█'),
            None => ' ',
        };
        self.bars.iter().map(block).collect()
    }

    /// Cells of a table: what reads mail draws no other pictures.
    fn html(&self) -> String {
        let cell = |bar: &Option<(f64, bool)>| {
            let (height, colour) = match bar {
                Some((height, true)) => (height, RED),
                Some((height, false)) => (height, "#7a8a99"),
                None => (&0.0, "#ffffff"),
            };
            let px = (height * 40.0).round().max(1.0);
            format!(
                "<td style=\"vertical-align:bottom;padding:0 1px 0 0\"><div style=\"height:{px}px;background:{colour}\"></div></td>"
            )
        };
        let cells: String = self.bars.iter().map(cell).collect();
        // As wide as there is room: a phone is narrower than the bars would be side by side.
        format!(
            "<tr><td colspan=\"2\" style=\"padding-top:12px\"><table style=\"border-collapse:collapse;table-layout:fixed;width:100%;\
             max-width:480px;height:40px\"><tr>{cells}</tr></table><span style=\"color:#666\">{}</span></td></tr>",
            escaped(&self.caption)
        )
    }
}

fn html_row(name: &str, value: &str) -> String {
    let shown = escaped(value);
    let shown = if value.starts_with("http://") || value.starts_with("https://") {
        format!("<a href=\"{shown}\">{shown}</a>")
    } else {
        shown
    };
    format!(
        "<tr><td style=\"width:1%;color:#666;padding:2px 14px 2px 0;vertical-align:top;white-space:nowrap\">{}</td>\
         <td style=\"padding:2px 0;overflow-wrap:anywhere\">{shown}</td></tr>",
        escaped(name)
    )
}

/// What senders wrote is text, never markup.
pub(super) fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}

#[cfg(test)]
mod tests {
    use super::*;
    use calvex_language::domain::contact::NotifyBy;

    #[test]
    fn subject_text_and_html_say_what_when_and_why() {
        let payload = r#"{"type":"alert.raised","data":{"rule":"lease errors","sentence":"when count of `x` over 5m is above 20","value":31.0,"bound":20,"unit":"measured",
            "raised":"R","ended":null,"late":true,"groups":["north","<b>"],"group_count":5,"evidence_from":"F","console":"http://c/",
            "explanation":{"headline":"3 times as many events","lines":[{"what":"lease=12","baseline":"0 %","current":"49 %"}],"marks":["M lease"],"new_errors":["slots: lease gone"],"story":"7f",
            "strip":{"from":"F","step_s":180,"values":[1,null,31],"bound":{"side":"above","number":20}}},
            "evidence":"http://c/search?q=x","page":"http://c/alerts?rule=x","notes":["N by mira: on it"]}}"#;
        let row = Notification {
            id: 1,
            alert_id: Some(1),
            contact: "on call".into(),
            by: NotifyBy::Mail,
            what: AlertMove::Raised,
            round: 0,
            target: String::new(),
            secret: None,
            payload: payload.into(),
            made_ns: 0,
            due_ns: 0,
            tries: 0,
            done_ns: None,
            dropped: None,
            error: String::new(),
        };
        let Words { subject, text, html } = words(&row);
        assert_eq!(subject, "raised: lease errors (seen late)");
        for wanted in [
            "value             31 measured, bound 20",
            "groups            north, <b> and 3 more",
            "0 % → 49 %  lease=12",
            "changed before    M lease",
            "http://c/story/7f",
            "http://c/alerts?rule=x",
            "never seen before slots: lease gone",
            "noted             N by mira: on it",
            "▁ █  the 9 minutes before; the tallest is 31",
        ] {
            assert!(text.contains(wanted), "{wanted} is not in {text}");
        }
        assert!(html.contains("&lt;b&gt;") && !html.contains("<b>"), "{html}");
        assert!(html.contains("<a href=\"http://c/alerts?rule=x\">") && html.contains("background:#b3261e"));
        assert!(check_mail_address("no address").is_err());
    }

    #[test]
    fn bars_beyond_the_bound_are_red_on_either_side() {
        let bars = |side: &str| {
            let strip = serde_json::json!({ "step_s": 60, "values": [2, 9], "bound": { "side": side, "number": 5 } });
            strip_of(&strip).unwrap().bars.iter().map(|bar| bar.unwrap().1).collect::<Vec<bool>>()
        };
        assert_eq!((bars("above"), bars("below")), (vec![false, true], vec![true, false]));
    }
}
