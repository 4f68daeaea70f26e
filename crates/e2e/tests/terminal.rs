//! Search in the terminal: columns, zones, links to the console, saved searches, profiles, how things stand, and what a
//! shell proposes while a query is typed.

use anyhow::Result;
use calvex_e2e::service::{Service, binary, wait_for};
use serde_json::{Value, json};
use std::os::unix::fs::PermissionsExt;
use std::process::{Command, Output};

/// A client that knows of no service but by what it keeps in `home`.
fn alone(home: &std::path::Path, args: &[&str], more: &[(&str, &str)]) -> Result<Output> {
    let mut command = Command::new(binary());
    command.args(args).env_remove("CALVEX_URL").env_remove("CALVEX_TOKEN").env_remove("CALVEX_PROFILE");
    Ok(command.env("XDG_CONFIG_HOME", home).env("TZ", "Europe/Oslo").envs(more.iter().copied()).output()?)
}

fn out(output: &Output) -> String {
    String::from_utf8_lossy(&output.stdout).into_owned()
}

#[test]
fn asked_and_shown() -> Result<()> {
    let service = Service::start(&[])?;
    let start = jiff::Timestamp::now() - jiff::SignedDuration::from_mins(5);
    let lines: String = (0..50)
        .map(|n| {
            let event = json!({"time": (start + jiff::SignedDuration::from_secs(n)).to_string(), "service": "slots",
                "level": if n % 10 == 0 { "error" } else { "info" }, "msg": format!("lease LS-{n} ran out"), "took_ms": n,
                "slot": {"bank": format!("BK-00{}", n % 3)}});
            format!("{event}\n")
        })
        .collect();
    service.calvex_with(&["send", "--quiet"], lines.as_bytes())?;
    wait_for("the events", || Ok((service.search("", &[])?.len() == 50).then_some(())))?;

    // Columns stand in the place of all fields; times are read and shown in the zone asked for.
    let reported = service.ok(&["search", "--text", "--columns", "slot.bank,took_ms", "-n", "1", "severity>=error"])?;
    assert!(reported.contains("BK-001") && reported.contains("40 ") && !reported.contains("took_ms="), "{reported}");
    let clock = |zone: &str| -> Result<String> {
        Ok(service.ok(&["search", "--text", "-n", "1", zone])?.chars().take(13).collect())
    };
    assert_eq!(clock("--utc")?, start.to_string().replace('T', " ").chars().take(13).collect::<String>());
    let spread = service.ok(&["breakdown", "took_ms", "--text"])?;
    assert!(spread.contains("p50 24") && spread.contains("p99 49"), "{spread}");

    // The console's address for the same, without asking.
    let reported =
        service.ok(&["search", "--link", "severity>=error", "--from", "now-2h", "--columns", "slot.bank"])?;
    assert_eq!(reported.trim(), format!("{}/search?q=severity%3E%3Derror&from=now-2h&columns=slot.bank", service.url));
    assert!(service.ok(&["shapes", "--link", "lease"])?.contains("view=shapes"));
    assert!(service.ok(&["story", "--link", "PX-1"])?.trim().ends_with("/story/PX-1"));

    // Saved searches are listed, run with a range of one's own, and forgotten.
    assert_eq!(service.calvex(&["saved", "list"])?.status.code(), Some(1), "none yet");
    service.ok(&["saved", "set", "early ends", "severity>=error", "--note", "leases", "--columns", "slot.bank"])?;
    assert!(service.ok(&["saved", "list"])?.contains("early ends"));
    assert_eq!(service.ok(&["saved", "run", "early ends", "--json"])?.lines().count(), 5);
    let reported = service.ok(&["saved", "run", "early ends", "--text", "-n", "1"])?;
    assert!(reported.contains("BK-001") && !reported.contains("took_ms="), "its columns are its own: {reported}");
    let missing = service.calvex(&["saved", "run", "late ends"])?;
    assert_eq!(missing.status.code(), Some(2));
    assert!(String::from_utf8_lossy(&missing.stderr).contains("there are: early ends"));
    service.ok(&["saved", "remove", "early ends"])?;

    // A change is marked by whoever has a key, and found as a mark; without one nothing is.
    let marked = service.ok(&["mark", "release 41.2 of slots", "--service", "slots", "--text"])?;
    assert!(marked.starts_with("marked at") && marked.contains("release 41.2 of slots"), "{marked}");
    let query = "mark=\"release 41.2 of slots\" mark_kind=release service=slots";
    wait_for("the mark", || Ok((service.search(query, &[])?.len() == 1).then_some(())))?;
    for wrong in [&["mark", ""][..], &["mark", "x", "--at", "soonish"], &["mark", "x", "--kind", "party"]] {
        assert_eq!(service.calvex(wrong)?.status.code(), Some(2), "{wrong:?}");
    }

    let reported = service.ok(&["now", "--text"])?;
    assert!(reported.contains("slots") && reported.contains("9.8 %"), "five of 51, the mark among them: {reported}");
    let reported: Value = serde_json::from_str(&service.ok(&["now", "--json"])?)?;
    assert_eq!(reported["services"][0]["service"], "slots");
    Ok(())
}

#[test]
fn profiles_and_shells() -> Result<()> {
    let service = Service::start(&[])?;
    service.calvex_with(
        &["send", "--quiet"],
        b"{\"service\":\"slots\",\"msg\":\"lease ran out\",\"slot\":{\"bank\":\"BK-017\"}}\n",
    )?;
    wait_for("the event", || Ok((service.search("", &[])?.len() == 1).then_some(())))?;
    let home = tempfile::tempdir()?;
    let home = home.path();
    let run = |args: &[&str], more: &[(&str, &str)]| alone(home, args, more);

    assert_eq!(run(&["profile", "list"], &[])?.status.code(), Some(1), "none yet");
    let kept = run(&["profile", "set", "night", &service.url], &[("CALVEX_TOKEN", &service.token)])?;
    assert!(kept.status.success(), "{}", String::from_utf8_lossy(&kept.stderr));
    // A token that does not let in is not kept.
    let wrong = run(&["profile", "set", "day", &service.url], &[("CALVEX_TOKEN", "calvex-token-wrong")])?;
    assert_eq!(wrong.status.code(), Some(2));
    let file = home.join("calvex/profiles.toml");
    assert_eq!(std::fs::metadata(&file)?.permissions().mode() & 0o777, 0o600);
    let reported = out(&run(&["profile", "list"], &[])?);
    assert!(
        reported.contains("night") && !reported.contains("day") && !reported.contains("calvex-token"),
        "{reported}"
    );
    // The first one kept is asked where nothing else is said.
    assert_eq!(out(&run(&["search", "lease", "--json"], &[])?).lines().count(), 1);
    assert_eq!(out(&run(&["search", "lease", "--json", "--profile", "night"], &[])?).lines().count(), 1);
    let none = run(&["search", "lease", "--profile", "day"], &[])?;
    assert_eq!(none.status.code(), Some(2));
    // Its token is for its address alone.
    let elsewhere = run(&["search", "lease", "--url", "http://127.0.0.1:9", "--profile", "night"], &[])?;
    assert!(
        String::from_utf8_lossy(&elsewhere.stderr).contains("no token"),
        "{}",
        String::from_utf8_lossy(&elsewhere.stderr)
    );

    // As the script of `calvex completions bash` asks.
    let propose = |words: &[&str]| -> Result<String> {
        let mut args = vec!["--", "calvex"];
        args.extend(words);
        let index = words.len().to_string();
        let asked = [("CALVEX_COMPLETE", "bash"), ("_CLAP_COMPLETE_INDEX", index.as_str()), ("_CLAP_IFS", "\n")];
        Ok(out(&run(&args, &asked)?))
    };
    assert!(propose(&["search", "slot"])?.lines().any(|l| l == "slot.bank"), "{}", propose(&["search", "slot"])?);
    assert!(propose(&["search", "slot.bank=B"])?.contains("slot.bank=BK-017"));
    assert!(propose(&["breakdown", "serv"])?.lines().any(|l| l == "service"));
    assert!(propose(&["tai"])?.contains("tail"));

    // A file that others may read is not used.
    std::fs::set_permissions(&file, std::fs::Permissions::from_mode(0o644))?;
    let open = run(&["search", "lease"], &[])?;
    assert!(String::from_utf8_lossy(&open.stderr).contains("chmod 600"), "{}", String::from_utf8_lossy(&open.stderr));
    Ok(())
}
