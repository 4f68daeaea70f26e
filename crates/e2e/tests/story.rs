//! From a red bar to the cause, and from an id to what happened: comparison and story over the real service, with the real
//! client and in the console, at both widths.

use anyhow::{Context, Result};
use calvex_demo::Night;
use calvex_e2e::service::wait_for;
use calvex_e2e::stage::{DESK, PHONE, Stage};
use serde_json::Value;

/// The night's spans, by OTLP, beside the events that the stage sends.
async fn send_spans(stage: &Stage) -> Result<usize> {
    let change: jiff::Timestamp = stage.time("02:10:00").parse()?;
    let night = Night::new(1, i64::try_from(change.as_nanosecond())?, 10_000).with_spans();
    let spans: Vec<String> = night.filter(|sent| sent.is_span).map(|sent| sent.json).collect();
    let http = reqwest::Client::builder().no_proxy().build()?;
    for some in spans.chunks(2000) {
        let answer = http
            .post(format!("{}/v1/traces", stage.service.url))
            .bearer_auth(&stage.service.key)
            .header("content-type", "application/json")
            .body(format!("{{\"resourceSpans\":[{}]}}", some.join(",")))
            .send()
            .await?;
        anyhow::ensure!(answer.status().is_success(), "{}", answer.text().await?);
    }
    Ok(spans.len())
}

fn lines(text: &str) -> Vec<Value> {
    text.lines().filter_map(|line| serde_json::from_str(line).ok()).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn from_a_red_bar_and_from_an_id_to_the_cause() -> Result<()> {
    let stage = Stage::new(DESK).await?;
    let spans = send_spans(&stage).await?;
    let service = &stage.service;
    let query = ["search", "kind=span measure count", "--from", "now-3d", "--json"];
    wait_for("the spans", || {
        Ok((serde_json::from_str::<Value>(&service.ok(&query)?)?["count"] == spans).then_some(()))
    })?;

    // What is different since the change: the lease of 12 s among the values, the shape that is new, and who changed it.
    let (from, to) = (stage.time("02:10:00"), stage.time("02:38:00"));
    let reported = service.ok(&["compare", "service=slots", "--from", &from, "--to", &to, "--json"])?;
    let findings = lines(&reported);
    let first: Vec<&Value> = findings.iter().filter(|f| f["kind"] == "value").take(3).collect();
    assert!(first.iter().any(|f| f["query"] == "lease.seconds=12" && f["change"] == "new"), "{first:#?}");
    let new = |f: &&Value| f["kind"] == "shape" && f["change"] == "new";
    let shape = findings.iter().find(new).context("no new shape")?;
    assert!(shape["template"].as_str().is_some_and(|t| t.contains("ran out")), "{shape}");
    let mark = findings.iter().find(|f| f["kind"] == "mark").context("no mark")?;
    assert_eq!(mark["value"], "slot lease 120 s → 12 s");
    let text = service.ok(&["compare", "service=slots", "--from", &from, "--to", &to, "--text"])?;
    assert!(text.contains("lease.seconds=12") && text.contains("│"), "{text}");
    // Two healthy stretches differ in nothing that counts, which is exit code 1; a broken query is 2.
    let (a, b) = (stage.time("01:42:00"), stage.time("01:54:00"));
    let calm = service.calvex(&[
        "compare",
        "service=edge",
        "--from",
        &b,
        "--to",
        &stage.time("02:06:00"),
        "--before-from",
        &a,
        "--before-to",
        &b,
        "--json",
    ])?;
    assert_eq!(calm.status.code(), Some(1), "{}", String::from_utf8_lossy(&calm.stdout));
    assert_eq!(service.calvex(&["compare", "severity>=loud"])?.status.code(), Some(2));
    assert_eq!(service.calvex(&["compare", "measure count"])?.status.code(), Some(2));

    // A story of spans and events, drawn, as one document, for a ticket, and from whatever is pasted.
    let failed = service.search("service=edge severity>=error", &["--from", "now-3d"])?;
    let trace = failed[0]["trace"].as_str().context("no trace")?.to_owned();
    let parcel = failed[0]["fields"]["parcelId"].as_str().context("no parcel")?.to_owned();
    let drawn = service.ok(&["story", &trace, "--text"])?;
    let headline = drawn.lines().next().unwrap_or_default().to_owned();
    assert!(headline.starts_with("POST /drop-offs in edge failed after") && headline.contains("ran out"), "{drawn}");
    assert!(drawn.contains("┃") && drawn.contains("first wrong") && drawn.contains(" pass"), "{drawn}");
    let score: Value = serde_json::from_str(&service.ok(&["story", &trace, "--score"])?)?;
    let events = lines(&service.ok(&["story", &trace, "--json"])?);
    assert_eq!((&score["headline"], &score["outcome"]), (&Value::from(headline.as_str()), &Value::from("failed")));
    let span_count = events.iter().filter(|event| event["kind"] == "span").count();
    assert_eq!(score["bars"].as_array().map(Vec::len), Some(span_count));
    let wrong = score["first_wrong"].as_u64().context("nothing wrong")? as usize;
    assert!(events[wrong]["message"].as_str().is_some_and(|m| m.contains("ran out")));
    let markdown = service.ok(&["story", &trace, "--markdown"])?;
    assert!(markdown.starts_with("**POST /drop-offs") && markdown.contains(&format!("/story/{trace})")), "{markdown}");
    let header = format!("HTTP/1.1 409\ntraceparent: 00-{trace}-00f067aa0ba902b7-01\n");
    let pasted = service.calvex_with(&["story", "-", "--text"], header.as_bytes())?;
    assert_eq!(String::from_utf8_lossy(&pasted.stdout).lines().next(), Some(headline.as_str()));
    let of_parcel = service.ok(&["story", &parcel, "--text"])?;
    assert!(of_parcel.contains("POST /drop-offs"), "the whole trace, not only what names the parcel: {of_parcel}");
    assert_eq!(service.calvex(&["story", "nothing is here"])?.status.code(), Some(2));
    assert_eq!(service.calvex(&["story", "PX-99999"])?.status.code(), Some(1));

    // In the console: the comparison from Search, then a story of one of its events, by keyboard.
    let browser = &stage.browser;
    browser.page.goto(format!("{}/search?q=service%3Dslots&from={from}&to={to}", service.url)).await?;
    browser.click_saying("a", "what is different?").await?;
    browser.saying("[data-testid=finding]", "lease.seconds=12").await?;
    browser.saying("aside", "slot lease 120 s → 12 s").await?;
    assert!(browser.text("h1").await?.contains("%") || browser.text("h1").await?.contains("new"));
    stage.axe("a comparison").await?;
    browser.page.goto(format!("{}/story/{trace}", service.url)).await?;
    browser.saying("h1", "failed after").await?;
    let rows = || async {
        Ok::<_, anyhow::Error>(
            browser.page.find_all(thirtyfour::By::Css("[data-testid=score] ol > li[id]")).await?.len(),
        )
    };
    let all = rows().await?;
    assert!(all > 15, "{all}");
    assert_eq!(
        browser.page.find_all(thirtyfour::By::Css("[data-testid=score] svg [data-bar]")).await?.len(),
        span_count
    );
    stage.axe("a story").await?;
    browser.click_saying("label", "only warnings and failures").await?;
    browser.saying("[data-testid=score] li", "first wrong").await?;
    assert!(rows().await? < all);
    let score = browser.css("[data-testid=score]").await?;
    score.send_keys("jj").await?;
    browser.css("[data-testid=score] [aria-current]").await?;
    score.send_keys(thirtyfour::Key::Enter).await?;
    browser.css("[data-testid=event]").await?;

    // Whatever is pasted opens at once where it holds one id.
    browser.page.goto(format!("{}/story", service.url)).await?;
    browser.css("textarea").await?.send_keys(format!("an error report about {parcel}, see there")).await?;
    browser.click_saying("button", "Show its story").await?;
    browser.saying("h1", "POST /drop-offs").await?;
    browser.page.goto(format!("{}/nope", service.url)).await?;
    browser.saying("h1", "There is no page /nope").await?;
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_story_and_a_comparison_on_a_phone() -> Result<()> {
    let stage = Stage::new(PHONE).await?;
    send_spans(&stage).await?;
    let failed = stage.service.search("service=edge severity>=error", &["--from", "now-3d"])?;
    let trace = failed[0]["trace"].as_str().context("no trace")?;
    stage.browser.page.goto(format!("{}/story/{trace}", stage.service.url)).await?;
    stage.browser.css("[data-testid=score] svg [data-bar]").await?;
    stage.axe("a story on a phone").await?;
    stage.fits("a story on a phone").await?;
    let (from, to) = (stage.time("02:10:00"), stage.time("02:38:00"));
    stage.browser.page.goto(format!("{}/compare?q=service%3Dslots&from={from}&to={to}", stage.service.url)).await?;
    stage.browser.saying("[data-testid=finding]", "lease.seconds=12").await?;
    stage.axe("a comparison on a phone").await?;
    stage.fits("a comparison on a phone").await
}

/// From Now to the person who made the change, without a mouse: what is different at the service that fails, the story of one
/// that failed, and the mark with who made it.
#[tokio::test(flavor = "multi_thread")]
async fn by_keys_from_now_to_who_changed_it() -> Result<()> {
    let stage = Stage::new(DESK).await?;
    let now = jiff::Timestamp::now();
    let at = |minutes: i64| (now - jiff::SignedDuration::from_mins(minutes)).to_string();
    let mut lines = String::new();
    // As every day, and since four minutes ago with a lease that is too short.
    for n in 0..600i64 {
        let (minutes, failed) = (24 * 60 + n % 15, false);
        let recent = (n % 15, n % 15 < 4);
        for (minutes, failed) in [(minutes, failed), recent] {
            let (lease, level, msg) = if failed { (12, "error", "lease ran out") } else { (120, "info", "lease held") };
            lines += &format!(
                "{{\"time\":\"{}\",\"service\":\"slots\",\"level\":\"{level}\",\"lease\":{lease},\"msg\":\"{msg}\",\"trace_id\":\"{:032x}\"}}\n",
                at(minutes),
                n * 2 + i64::from(failed) + 1
            );
        }
    }
    lines += &format!(
        "{{\"time\":\"{}\",\"service\":\"access\",\"msg\":\"slot lease changed\",\"mark\":\"slot lease 120 s → 12 s\",\"operator\":\"ines\"}}\n",
        at(4)
    );
    anyhow::ensure!(stage.service.calvex_with(&["send", "--quiet"], lines.as_bytes())?.status.success());
    let browser = &stage.browser;
    browser.page.goto(format!("{}/now", stage.service.url)).await?;
    browser.saying("[aria-label='Services now'] td", "slots").await?;
    // What is different at slots: the lease, and beside it the change.
    let compare =
        "document.querySelector(\"[aria-label='compare slots with a day earlier']\").id = 'of-slots'; return 1;";
    browser.page.execute(compare, vec![]).await?;
    for _ in 0..80 {
        stage.press(thirtyfour::Key::Tab).await?;
        let id: String = browser.page.execute("return document.activeElement?.id ?? '';", vec![]).await?.convert()?;
        if id == "of-slots" {
            break;
        }
    }
    stage.press(thirtyfour::Key::Enter).await?;
    browser.saying("[data-testid=finding]", "lease=12").await?;
    stage.axe("a comparison").await?;
    // Its events, one of them, and its story.
    stage.follow("events").await?;
    browser.css("[data-index]").await?;
    stage.press("j").await?;
    browser.css("[data-index][aria-selected=true]").await?;
    stage.press("s").await?;
    browser.css("[data-testid=services]").await?;
    // Back to the comparison, and on to the mark: who made the change stands in its event.
    browser.page.back().await?;
    browser.css("[data-index]").await?;
    browser.page.back().await?;
    browser.saying("[data-testid=finding]", "lease=12").await?;
    stage.follow("slot lease 120 s → 12 s").await?;
    browser.css("[data-index]").await?;
    stage.press("j").await?;
    browser.css("[data-index][aria-selected=true]").await?;
    stage.press(thirtyfour::Key::Enter).await?;
    browser.saying("[data-testid=event]", "ines").await?;
    Ok(())
}
