//! The console's files are built before the service (`make console`). Without them the service still builds, and says so on its page.

use std::path::Path;

fn main() {
    let dist = Path::new(&std::env::var("CARGO_MANIFEST_DIR").unwrap_or_default()).join("../../console/dist");
    let index = dist.join("index.html");
    if !index.exists() {
        let page =
            "<!doctype html><html lang=\"en\"><title>Rockrose</title><p>The console was not built. Run <code>make console</code> and build again.</p></html>";
        if let Err(e) = std::fs::create_dir_all(&dist).and_then(|()| std::fs::write(&index, page)) {
            println!("cargo::warning=the console's page could not be written: {e}");
        }
    }
    println!("cargo::rerun-if-changed={}", dist.display());
}
