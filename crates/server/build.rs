//! The console's built assets are embedded. A checkout that has not built them yet still compiles:
//! `script/console` makes them, and the service says so where a page should be.

fn main() {
    println!("cargo:rerun-if-changed=../../console/dist");
    // A checkout without the folder gets an empty one; the read-only case shows up as a missing folder right after.
    if let Err(error) = std::fs::create_dir_all("../../console/dist") {
        println!("cargo:warning=console/dist cannot be made: {error}");
    }
}
