//! The interface is built into the binary; a page that says so stands in for
//! it until `cargo xtask demo` or `cargo xtask test` has built it.

use std::path::Path;

fn main() {
    let dist = Path::new("../../web/dist");
    if !dist.join("index.html").exists() {
        std::fs::create_dir_all(dist).expect("web/dist can be made");
        let page = "<!doctype html><title>Bright Ripple</title><p>The interface is not built: run cargo xtask demo.</p>";
        std::fs::write(dist.join("index.html"), page).expect("web/dist can be written");
    }
    println!("cargo::rerun-if-changed=../../web/dist");
    println!("cargo::rerun-if-changed=migrations");
}
