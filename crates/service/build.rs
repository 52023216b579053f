//! The console is built by Vite before this crate; when it changes, it is embedded anew.

fn main() {
    println!("cargo:rerun-if-changed=../../console/dist");
}
