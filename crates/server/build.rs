//! The front end is embedded when it has been built; a folder must be there in any case.
fn main() {
    let dist = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../web/dist");
    if let Err(e) = std::fs::create_dir_all(&dist) {
        println!("cargo:warning=web/dist cannot be made: {e}");
    }
    println!("cargo:rerun-if-changed=../../web/dist");
}
