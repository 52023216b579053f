//! How far the pages of the demo's reports are used, and how much of each is ink. Nothing is timed, and
//! there is no goal: it shows where a page is wasted.

use std::{
    io::{BufRead, BufReader},
    path::{Path, PathBuf},
    process::{Child, Command, Stdio},
};

use serde_json::Value;

use crate::{Done, free_port};

/// What is darker than this is ink; paper is 255.
const INK: u8 = 240;
/// The foot of a page has its number: a page is used as far as its content reaches above it.
const ABOVE_THE_FOOT: f64 = 0.94;

/// The demo in a folder of its own.
struct Demo {
    child: Child,
    client: PathBuf,
}

impl Drop for Demo {
    fn drop(&mut self) {
        let _ = Command::new("kill")
            .args(["-TERM", &self.child.id().to_string()])
            .status();
        let _ = self.child.wait();
    }
}

impl Demo {
    /// Waits until it says what can be tried.
    fn start(state: &Path) -> Done<Self> {
        let binary = std::env::current_exe()?
            .parent()
            .and_then(Path::parent)
            .ok_or("no folder")?
            .join("maple-lark-demo");
        let mut child = Command::new(binary)
            .env("MAPLE_LARK_STATE", state)
            .env("MAPLE_LARK_DEMO_PORT", free_port()?.to_string())
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()?;
        let said = child.stdout.take().ok_or("nothing to read")?;
        let mut lines = BufReader::new(said).lines();
        let client = state.join("maple-lark");
        let named = client.display().to_string();
        let ready = lines
            .by_ref()
            .any(|line| line.is_ok_and(|line| line.contains(&named)));
        // What else it says is of no interest, but it must be able to say it.
        std::thread::spawn(move || lines.for_each(drop));
        if !ready {
            return Err("the demo does not start".into());
        }
        Ok(Self { child, client })
    }

    fn asked(&self, arguments: &[&str]) -> Done<Value> {
        let output = Command::new(&self.client)
            .args(arguments)
            .args(["--output", "json"])
            .output()?;
        // A run that is held has documents, too.
        serde_json::from_slice(&output.stdout)
            .map_err(|_| String::from_utf8_lossy(&output.stderr).into_owned().into())
    }
}

pub fn measure() -> Done<()> {
    use std::os::unix::fs::PermissionsExt;
    println!("Pages of the demo's reports, how far down they are used, and their ink:");
    let folder = tempfile::tempdir()?;
    std::fs::set_permissions(folder.path(), std::fs::Permissions::from_mode(0o755))?;
    let state = folder.path().join("state");
    let demo = Demo::start(&state)?;
    let mut inner = Vec::new();
    let reports = demo.asked(&["reports"])?;
    for report in reports.as_array().into_iter().flatten() {
        let name = report["name"].as_str().ok_or("a report without a name")?;
        let run = demo.asked(&["run", name, "--no-delivery"])?;
        let run = run["id"].as_str().ok_or("a run without an id")?;
        let into = folder.path().join(name);
        let path = into.display().to_string();
        demo.asked(&["render", run, "--format", "pdf", "--into", &path])?;
        let mut files: Vec<PathBuf> = std::fs::read_dir(&into)?
            .map(|file| file.map(|file| file.path()))
            .collect::<Result<_, _>>()?;
        files.sort();
        for file in files {
            let pages = pages(&file)?;
            inner.extend(
                pages[..pages.len().saturating_sub(1)]
                    .iter()
                    .map(|page| page.0),
            );
            let each: Vec<String> = pages
                .iter()
                .map(|(used, ink)| format!("{:.0} % ({:.0} %)", used * 100.0, ink * 100.0))
                .collect();
            let file = file.file_name().unwrap_or_default().to_string_lossy();
            println!("    {file}: {}: {}", pages.len(), each.join(", "));
        }
    }
    let least = inner.iter().copied().fold(1.0, f64::min);
    let mean = inner.iter().sum::<f64>() / inner.len().max(1) as f64;
    println!(
        "  all but last pages: used to {:.0} % on average, to {:.0} % at least",
        mean * 100.0,
        least * 100.0
    );
    Ok(())
}

/// Of each page, how much of its height is used and how much of it is ink, in parts of 1.
fn pages(pdf: &Path) -> Done<Vec<(f64, f64)>> {
    let folder = tempfile::tempdir()?;
    let drawn = Command::new("pdftoppm")
        .args(["-gray", "-r", "30"])
        .arg(pdf)
        .arg(folder.path().join("page"))
        .status()?;
    if !drawn.success() {
        return Err(format!("{} cannot be drawn", pdf.display()).into());
    }
    let mut pictures: Vec<PathBuf> = std::fs::read_dir(folder.path())?
        .map(|file| file.map(|file| file.path()))
        .collect::<Result<_, _>>()?;
    pictures.sort();
    pictures
        .iter()
        .map(|path| filled(&std::fs::read(path)?))
        .collect()
}

/// The same of a page as a portable graymap: three lines that say its size, then a byte a pixel.
fn filled(picture: &[u8]) -> Done<(f64, f64)> {
    let mut parts = picture.splitn(4, |byte| *byte == b'\n');
    let size = parts.nth(1).ok_or("no size")?;
    let width: usize = std::str::from_utf8(size)?
        .split(' ')
        .next()
        .ok_or("no width")?
        .parse()?;
    let pixels = parts.nth(1).ok_or("no pixels")?;
    let height = pixels.len() / width;
    let body = ((height as f64 * ABOVE_THE_FOOT).round() as usize).min(height);
    let rows = pixels.chunks_exact(width);
    let marked = rows
        .take(body)
        .rposition(|row| row.iter().any(|one| *one < INK));
    let ink = pixels.iter().filter(|one| **one < INK).count();
    Ok((
        marked.map_or(0.0, |last| (last + 1) as f64 / body as f64),
        ink as f64 / pixels.len() as f64,
    ))
}
