//! The stand-in receiver's own page: what arrived, the latest first, each mail as its reader would see it.

use super::Arrived;
use crate::notify::mail::escaped;
use mailparse::{MailHeaderMap, ParsedMail, parse_mail};
use serde_json::Value;

/// What is shown at most.
const MAX_SHOWN: usize = 200;
const STYLE: &str = "body{font:15px/1.5 system-ui,sans-serif;margin:24px auto;max-width:920px;padding:0 16px;color:#1c1f21;background:#f6f5f1}\
    h1{font-size:20px}details{background:#fff;border:1px solid #d9d6cd;border-radius:6px;margin:8px 0;padding:8px 12px}\
    summary{cursor:pointer;display:grid;grid-template-columns:90px 90px 200px 1fr;gap:12px}\
    summary span{overflow:hidden;text-overflow:ellipsis;white-space:nowrap}\
    pre{white-space:pre-wrap;overflow-wrap:anywhere;font-size:13px}iframe{width:100%;height:420px;border:1px solid #d9d6cd}\
    .bad{color:#b3261e}.faint{color:#666}@media(max-width:600px){summary{grid-template-columns:1fr}}";

/// The page.
pub fn page(arrived: &[Arrived]) -> String {
    let entries: String = arrived.iter().rev().take(MAX_SHOWN).map(entry).collect();
    let count = arrived.len();
    let none = if count == 0 { "<p class=\"faint\">Nothing arrived yet.</p>" } else { "" };
    format!(
        "<!doctype html><html lang=\"en\"><head><meta charset=\"utf-8\"><title>What arrived</title><style>{STYLE}</style></head>\
         <body><main><h1>What arrived</h1><p class=\"faint\">A stand-in for a mail server and a receiver of webhooks: \
         {count} messages, the latest first.</p>{none}{entries}</main></body></html>"
    )
}

fn entry(arrived: &Arrived) -> String {
    let (to, head, body) = match arrived.kind.as_str() {
        "mail" => mail(arrived),
        _ => webhook(arrived),
    };
    let signature = match arrived.signature.as_str() {
        "bad" => " <span class=\"bad\">signature does not fit</span>",
        "good" => " <span class=\"faint\">signature fits</span>",
        _ => "",
    };
    let time = arrived.at.get(11..19).unwrap_or(&arrived.at);
    format!(
        "<details><summary><span>{}</span><span>{}</span><span>{}</span><span>{}{signature}</span></summary>{body}</details>",
        escaped(time),
        escaped(&arrived.kind),
        escaped(&to),
        escaped(&head)
    )
}

fn webhook(arrived: &Arrived) -> (String, String, String) {
    let event: Value = serde_json::from_str(&arrived.text).unwrap_or_default();
    let text = |name: &str| event[name].as_str().unwrap_or("").to_owned();
    let head = format!("{} {}", text("type"), text("subject"));
    let body = serde_json::to_string_pretty(&event).unwrap_or_else(|_| arrived.text.clone());
    (arrived.to.clone(), head, format!("<pre>{}</pre>", escaped(&body)))
}

/// A mail: its HTML part in a frame of its own that runs no scripts, else its text.
fn mail(arrived: &Arrived) -> (String, String, String) {
    let Ok(parsed) = parse_mail(arrived.text.as_bytes()) else {
        return (arrived.to.clone(), String::new(), format!("<pre>{}</pre>", escaped(&arrived.text)));
    };
    let subject = parsed.headers.get_first_value("Subject").unwrap_or_default();
    let text = part(&parsed, "text/plain").unwrap_or_default();
    let html = part(&parsed, "text/html")
        .map(|html| format!("<iframe sandbox title=\"the mail\" srcdoc=\"{}\"></iframe>", escaped(&html)));
    let body = format!(
        "{}<details><summary><span>as text</span></summary><pre>{}</pre></details>",
        html.unwrap_or_default(),
        escaped(&text)
    );
    (arrived.to.clone(), subject, body)
}

/// The first part of a media type.
fn part(mail: &ParsedMail, kind: &str) -> Option<String> {
    if mail.ctype.mimetype == kind {
        return mail.get_body().ok();
    }
    mail.subparts.iter().find_map(|sub| part(sub, kind))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_arrives_is_shown_and_never_run() {
        let arrived = |kind: &str, text: &str| Arrived {
            at: "2026-10-04T02:15:00Z".into(),
            kind: kind.into(),
            to: "oncall@fennmark.test".into(),
            signature: "bad".into(),
            text: text.into(),
        };
        let hook = arrived("webhook", r#"{"type":"alert.raised","subject":"<script>x</script>"}"#);
        let text = "Subject: raised: leases\r\nContent-Type: multipart/alternative; boundary=\"b\"\r\n\r\n--b\r\n\
            Content-Type: text/plain\r\n\r\nplain words\r\n--b\r\nContent-Type: text/html\r\n\r\n<b>bold</b>\r\n--b--\r\n";
        let shown = page(&[hook, arrived("mail", text)]);
        assert!(!shown.contains("<script>") && shown.contains("signature does not fit"), "{shown}");
        assert!(shown.contains("srcdoc=\"&lt;b&gt;bold&lt;/b&gt;") && shown.contains("plain words"), "{shown}");
        assert!(shown.contains("raised: leases") && shown.contains("02:15:00"));
        assert!(page(&[]).contains("Nothing arrived yet"));
    }
}
