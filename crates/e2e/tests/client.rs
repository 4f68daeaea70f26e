//! The real binary as people and scripts use it: exit codes, settings, sending, one line for what goes wrong.

#![allow(
    clippy::unwrap_used,
    clippy::type_complexity,
    reason = "a test may end where it stands; its tables are read once"
)]

use anyhow::Result;
use calvex_e2e::service::{PASSWORD, Service, binary};
use serde_json::Value;
use std::process::Command;

fn run(args: &[&str], environment: &[(&str, &str)]) -> (i32, String, String) {
    let mut command = Command::new(binary());
    command.args(args).env_remove("CALVEX_TOKEN").env_remove("CALVEX_URL").env_remove("CALVEX_KEY");
    let output = command.envs(environment.iter().copied()).output().unwrap();
    let text = |b: Vec<u8>| String::from_utf8(b).unwrap();
    (output.status.code().unwrap_or(-1), text(output.stdout), text(output.stderr))
}

#[test]
fn what_goes_wrong_is_one_line_with_the_cure() {
    let dead = ("CALVEX_URL", "http://127.0.0.1:1");
    let taken = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let address = taken.local_addr().unwrap().to_string();
    let dir = tempfile::tempdir().unwrap();
    let dir = dir.path().to_str().unwrap();
    // Whatever else runs on this machine, a demo perhaps, keeps its ports.
    let apart =
        vec![("CALVEX_HTTP_LISTEN", "127.0.0.1:0"), ("CALVEX_HTTP_OTLP_LISTEN", "off"), ("CALVEX_GRPC_LISTEN", "off")];
    let cases: Vec<(Vec<&str>, Vec<(&str, &str)>, &str)> = vec![
        (vec!["search", "x"], vec![dead, ("CALVEX_TOKEN", "t")], "start it with `calvex serve`"),
        (vec!["search", "x"], vec![dead], "set CALVEX_TOKEN"),
        (vec!["send", "/nowhere.ndjson"], vec![dead, ("CALVEX_KEY", "k")], "cannot read /nowhere.ndjson"),
        (vec!["send"], vec![dead], "set CALVEX_KEY"),
        (vec!["serve", "--data-dir", dir, "--listen", &address], apart.clone(), "choose another address"),
        (vec!["serve", "--settings", "/nowhere.toml"], vec![], "/nowhere.toml"),
        (vec!["settings"], vec![("CALVEX_HEAD_SEAL_ROWS", "many")], "must be a whole number"),
        (vec!["serve", "--data-dir", dir, "--database-url", "mysql//"], apart.clone(), "is no database URL"),
        (vec!["admin", "backup", "--data-dir", dir, "--to", "/x"], vec![], "holds no database"),
        (vec!["key", "new", "--data-dir", dir], vec![], "no service runs in"),
    ];
    for (args, environment, reported) in cases {
        let (code, _, err) = run(&args, &environment);
        assert_eq!(code, 2, "{args:?}: {err}");
        assert_eq!(err.trim_end().lines().count(), 1, "{args:?}: {err}");
        assert!(err.contains(reported), "{args:?}: {err}");
    }
}

#[test]
fn settings_say_where_they_come_from() {
    let (code, out, _) = run(&["settings", "--json", "--listen", "127.0.0.1:7"], &[("CALVEX_NODE_NAME", "bank")]);
    assert_eq!(code, 0);
    let rows: Vec<Value> = out.lines().map(|l| serde_json::from_str(l).unwrap()).collect();
    let row = |name: &str| rows.iter().find(|r| r["name"] == name).unwrap();
    assert_eq!(
        (row("http.listen")["value"].as_str(), row("http.listen")["from"].as_str()),
        (Some("127.0.0.1:7"), Some("--listen"))
    );
    assert_eq!(row("node.name")["from"], "CALVEX_NODE_NAME");
    let (_, out, _) = run(&["settings", "--database-url", "mysql://me:hush@db/calvex"], &[]);
    assert!(!out.contains("hush") && out.contains("mysql://…@db/calvex"), "{out}");
}

#[test]
fn a_script_sets_up_sends_and_asks() -> Result<()> {
    let service = Service::start(&[])?;
    let dir = service.dir.to_str().unwrap();
    // Without asking the service, through the database of its directory.
    let key =
        service.ok(&["key", "new", "sorter-prod", "--fixed", "environment=night", "--data-dir", dir, "--json"])?;
    let key: Value = serde_json::from_str(&key)?;
    let token = service.ok(&["token", "new", "--for", "administer", "--data-dir", dir, "--text"])?;
    let (url, token) = (service.url.as_str(), token.trim());
    let file = service.dir.join("events.ndjson");
    let lines: String = (0..12_345).map(|n| format!("{{\"msg\":\"belt {n} moves\",\"n\":{n}}}\n")).collect();
    std::fs::write(&file, &lines)?;
    let send = [("CALVEX_URL", url), ("CALVEX_KEY", key["secret"].as_str().unwrap())];
    let (code, out, err) = run(&["send", "--json", "--quiet", file.to_str().unwrap()], &send);
    assert_eq!((code, serde_json::from_str::<Value>(&out)?["stored"].as_u64()), (0, Some(12_345)), "{err}");
    let ask = [("CALVEX_URL", url), ("CALVEX_TOKEN", token)];
    let (code, out, _) = run(&["search", "--json", "-n", "20000", "environment=night belt"], &ask);
    assert_eq!((code, out.lines().count()), (0, 12_345));
    let (code, out, err) = run(&["search", "--json", "nothing-of-this"], &ask);
    assert_eq!((code, out.as_str()), (1, ""));
    assert!(err.contains("none passes the filter"), "{err}");
    let (code, _, err) = run(&["search", "severity>=loud service="], &ask);
    assert_eq!(code, 2);
    assert!(err.contains("column 11") && err.contains("column 24"), "every mistake at once: {err}");
    // A reader that has seen enough is no error.
    let head = Command::new("sh")
        .args(["-c", &format!("{} search --json -n 12000 belt | head -1; echo ${{PIPESTATUS}}", binary().display())])
        .envs(ask)
        .output()?;
    assert!(head.stderr.is_empty(), "{}", String::from_utf8_lossy(&head.stderr));

    // Refused lines are reported with file and line, and end in 2, while the good ones are stored.
    std::fs::write(&file, "{\"msg\":\"good\"}\nbad\n")?;
    let (code, _, err) = run(&["send", "--quiet", file.to_str().unwrap()], &send);
    assert_eq!(code, 2);
    assert!(err.contains("events.ndjson, line 2: not JSON") && err.contains("1 of 2 events were refused"), "{err}");
    let (code, _, err) =
        run(&["send", file.to_str().unwrap()], &[("CALVEX_URL", url), ("CALVEX_KEY", "calvex-key-wrong")]);
    assert_eq!((code, err.contains("is not good")), (2, true), "a wrong key is reported at once: {err}");
    let (code, _, _) = run(&["key", "revoke", "sorter-prod"], &ask);
    assert_eq!(code, 0);
    let (code, _, err) = run(&["send", "--quiet", file.to_str().unwrap()], &send);
    assert_eq!((code, err.contains("unknown or revoked")), (2, true), "revoked is revoked: {err}");
    let signed_in = [("CALVEX_URL", url), ("CALVEX_ADMIN_PASSWORD", PASSWORD)];
    let (code, out, _) = run(&["key", "list", "--json"], &signed_in);
    assert_eq!((code, out.contains("sorter-prod")), (0, true));
    let (code, _, err) = run(&["key", "list"], &[("CALVEX_URL", url), ("CALVEX_ADMIN_PASSWORD", "wrong password")]);
    assert_eq!((code, err.contains("do not fit")), (2, true));
    Ok(())
}
