//! `docs/openapi.json` is the description that a running service serves. The console's types are made from it
//! (`npm run types` in `console/`). `CALVEX_BLESS=1` writes it anew.
#![allow(clippy::unwrap_used, reason = "a test may end where it stands")]

#[test]
fn the_description_in_docs_is_the_one_served() {
    let file = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/openapi.json");
    let served = serde_json::to_string_pretty(&calvex_service::description()).unwrap() + "\n";
    if std::env::var_os("CALVEX_BLESS").is_some() {
        std::fs::write(file, &served).unwrap();
    }
    let kept = std::fs::read_to_string(file).unwrap();
    let differs = kept.lines().zip(served.lines()).enumerate().find(|(_, (a, b))| a != b);
    if let Some((n, (a, b))) = differs {
        panic!("line {} was\n{a}\nand is\n{b}", n + 1);
    }
    assert_eq!(kept.lines().count(), served.lines().count());
}
