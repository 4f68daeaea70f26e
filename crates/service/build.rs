//! The console's built files are part of the binary, so a new build of them asks for a new build of this crate.

fn main() {
    println!("cargo::rerun-if-changed=../../console/dist");
}
