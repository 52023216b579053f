//! Lists the steps of the schema by their files, in the order of their numbers.

use std::{env, error::Error, fmt::Write, fs, path::Path};

fn main() -> Result<(), Box<dyn Error>> {
    println!("cargo:rerun-if-changed=src/migrations");
    let folder = Path::new(&env::var("CARGO_MANIFEST_DIR")?).join("src/migrations");
    let mut names = Vec::new();
    for entry in fs::read_dir(&folder)? {
        let file = entry?.file_name();
        let name = file.to_string_lossy();
        let name = name.strip_suffix(".sql").ok_or("a step is an SQL file")?;
        names.push(name.to_owned());
    }
    names.sort();
    let mut steps = String::from("&[\n");
    for (name, number) in names.iter().zip(1..) {
        if !name.starts_with(&format!("{number:04}_")) {
            return Err(format!("{name} is step {number:04}, or one before it is missing").into());
        }
        let file = folder.join(name).with_extension("sql");
        writeln!(
            steps,
            "    Step {{ name: {name:?}, sql: include_str!({file:?}) }},"
        )?;
    }
    steps.push(']');
    fs::write(Path::new(&env::var("OUT_DIR")?).join("steps.rs"), steps)?;
    Ok(())
}
