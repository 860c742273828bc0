//! Makes sure that there is a front end to embed, if only a page that says how to build it.

use std::fs;
use std::path::Path;

const NOT_BUILT: &str =
    "<!doctype html><title>Antistasis</title><p>The front end is not built: run <code>./run build</code>.";

fn main() -> std::io::Result<()> {
    let built = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../web/dist");
    println!("cargo:rerun-if-changed={}", built.display());
    let index = built.join("index.html");
    if !index.exists() {
        fs::create_dir_all(&built)?;
        fs::write(&index, NOT_BUILT)?;
    }
    Ok(())
}
