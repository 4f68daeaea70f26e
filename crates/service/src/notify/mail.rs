//! Mail by SMTP.

use crate::error::{Result, ServiceError};
use calvex_language::domain::rule::{AlertMove, Notification};
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

/// Delivers one notification.
pub async fn send(message: &Notification, server: &str, from: &str) -> std::result::Result<(), String> {
    let (host, port) = server.rsplit_once(':').ok_or("notify.mail_server is not set as host:port")?;
    let port: u16 = port.parse().map_err(|_| format!("notify.mail_server `{server}` has no port"))?;
    let Words { subject, text, html } = words(message);
    let mail = Message::builder()
        .from(from.parse::<Mailbox>().map_err(|e| format!("notify.mail_from `{from}`: {e}"))?)
        .to(message.target.parse::<Mailbox>().map_err(|e| e.to_string())?)
        .message_id(Some(format!("<calvex-{}@calvex>", message.id)))
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
    let at = if message.what == AlertMove::Ended { text("ended") } else { text("raised") };
    let head = match message.what {
        AlertMove::Test => format!("A test of {}", text("rule")),
        what => format!("{} {} at {at}{late}", text("rule"), what.name()),
    };
    let mut lines: Vec<(&str, String)> = vec![("", text("sentence"))];
    if message.what != AlertMove::Test {
        let (value, bound) = (figure(&data["value"]), figure(&data["bound"]));
        lines.push(("value", format!("{value} {}, bound {bound}", text("unit"))));
        lines.push(("window", format!("{} to {}", text("evidence_from"), text("raised"))));
    }
    let list = |value: &Value| -> Vec<String> {
        value.as_array().into_iter().flatten().filter_map(|v| v.as_str()).map(str::to_owned).collect()
    };
    let groups = list(&data["groups"]);
    if !groups.is_empty() {
        let more = data["group_count"].as_u64().unwrap_or(0).saturating_sub(groups.len() as u64);
        let more = if more > 0 { format!(" and {more} more") } else { String::new() };
        lines.push(("groups", groups.join(", ") + &more));
    }
    let explained = &data["explanation"];
    if let Some(headline) = explained["headline"].as_str() {
        lines.push(("what is different", headline.to_owned()));
        for line in explained["lines"].as_array().into_iter().flatten() {
            let part = |name: &str| line[name].as_str().unwrap_or("");
            lines.push(("", format!("{} → {}  {}", part("baseline"), part("current"), part("what"))));
        }
        lines.extend(list(&explained["marks"]).into_iter().map(|mark| ("changed before", mark)));
    }
    for (name, value) in [("note", text("note")), ("runbook", text("runbook"))] {
        if !value.is_empty() {
            lines.push((name, value));
        }
    }
    let console = text("console");
    if !console.is_empty() {
        let base = console.trim_end_matches('/');
        if let Some(story) = explained["story"].as_str() {
            lines.push(("one story of it", format!("{base}/story/{story}")));
        }
        lines.push(("console", format!("{base}/alerts")));
    }
    let plain = lines.iter().map(|(name, value)| format!("{name:<18}{value}\r\n")).collect::<String>();
    let rows = lines.iter().map(|(name, value)| html_row(name, value)).collect::<String>();
    let colour = if message.what == AlertMove::Raised { "#b3261e" } else { "#2e6b4f" };
    let html = format!(
        "<!doctype html><html><body style=\"font:14px/1.5 sans-serif;color:#1b1b1b;max-width:720px\">\
         <h1 style=\"font-size:18px;border-left:4px solid {colour};padding-left:10px\">{}</h1>\
         <table style=\"border-collapse:collapse\">{rows}</table></body></html>",
        escaped(&head)
    );
    Words { subject, text: format!("{head}\r\n\r\n{plain}"), html }
}

fn html_row(name: &str, value: &str) -> String {
    let shown = escaped(value);
    let shown = if value.starts_with("http://") || value.starts_with("https://") {
        format!("<a href=\"{shown}\">{shown}</a>")
    } else {
        shown
    };
    format!(
        "<tr><td style=\"color:#666;padding:2px 14px 2px 0;vertical-align:top;white-space:nowrap\">{}</td>\
         <td style=\"padding:2px 0;overflow-wrap:anywhere\">{shown}</td></tr>",
        escaped(name)
    )
}

/// What senders wrote is text, never markup.
fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}

#[cfg(test)]
mod tests {
    use super::*;
    use calvex_language::domain::rule::NotifyBy;

    #[test]
    fn subject_text_and_html_say_what_when_and_why() {
        let payload = r#"{"data":{"rule":"lease errors","sentence":"when count of `x` over 5m is above 20","value":31.0,"bound":20,"unit":"measured",
            "raised":"R","ended":null,"late":true,"groups":["north","<b>"],"group_count":5,"evidence_from":"F","console":"http://c/",
            "explanation":{"headline":"3 times as many events","lines":[{"what":"lease=12","baseline":"0 %","current":"49 %"}],"marks":["M lease"],"story":"7f"}}}"#;
        let row = Notification {
            id: 1,
            alert_id: 1,
            by: NotifyBy::Mail,
            what: AlertMove::Raised,
            target: String::new(),
            secret: None,
            payload: payload.into(),
            tries: 0,
            done_ns: None,
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
            "http://c/alerts",
        ] {
            assert!(text.contains(wanted), "{wanted} is not in {text}");
        }
        assert!(html.contains("&lt;b&gt;") && !html.contains("<b>"), "{html}");
        assert!(html.contains("<a href=\"http://c/alerts\">"));
        assert!(check_mail_address("no address").is_err());
    }
}
