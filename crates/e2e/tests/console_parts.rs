//! The console's own logic, apart from a browser: times, addresses, the spine's geometry, figures, downloads. Its tests
//! stand beside the code (`console/src/**/*.test.ts`); this runs them with the rest.

use anyhow::{Context, Result};
use std::process::Command;

#[test]
fn what_the_console_works_out() -> Result<()> {
    let console = concat!(env!("CARGO_MANIFEST_DIR"), "/../../console");
    let ran = Command::new("node")
        .args(["node_modules/vitest/vitest.mjs", "run", "--no-color"])
        .current_dir(console)
        .env("TZ", "UTC")
        .output()
        .context("node does not start")?;
    let reported = format!("{}{}", String::from_utf8_lossy(&ran.stdout), String::from_utf8_lossy(&ran.stderr));
    anyhow::ensure!(ran.status.success(), "{reported}");
    // A run that found no tests would be a success as well.
    anyhow::ensure!(reported.contains("passed") && reported.contains("src/api/time.test.ts"), "{reported}");
    Ok(())
}
