//! Reads the fonts of the system for documents whose characters the program's own lacks.

use std::path::PathBuf;

/// More bytes of fonts than this are not read.
const MOST: u64 = 200_000_000;

/// Provides the font files under these folders, read when the first such character comes.
pub fn provide(folders: Vec<PathBuf>) {
    maple_lark_render::provide_fonts(move || read(&folders));
}

fn read(folders: &[PathBuf]) -> Vec<Vec<u8>> {
    let mut waiting: Vec<PathBuf> = folders.to_vec();
    let mut files = Vec::new();
    while let Some(folder) = waiting.pop() {
        // A folder that is not there has no fonts.
        for entry in std::fs::read_dir(&folder).into_iter().flatten().flatten() {
            match entry.file_type() {
                Ok(kind) if kind.is_dir() => waiting.push(entry.path()),
                Ok(_) if is_font(&entry.path()) => files.push(entry.path()),
                _ => {}
            }
        }
    }
    // The same order on every start, whatever order the file system gives.
    files.sort();
    let mut taken = 0;
    let mut fonts = Vec::new();
    for path in files {
        let size = path.metadata().map_or(0, |file| file.len());
        if taken + size > MOST {
            tracing::warn!(path = %path.display(), "there are too many fonts; this one is left out");
            continue;
        }
        match std::fs::read(&path) {
            Ok(bytes) => {
                taken += size;
                fonts.push(bytes);
            }
            Err(error) => tracing::warn!(path = %path.display(), %error, "a font cannot be read"),
        }
    }
    tracing::info!(
        fonts = fonts.len(),
        bytes = taken,
        "read the fonts of the system for characters that the own one lacks"
    );
    fonts
}

fn is_font(path: &std::path::Path) -> bool {
    path.extension()
        .and_then(|ending| ending.to_str())
        .is_some_and(|ending| ["ttf", "otf", "ttc"].contains(&ending.to_ascii_lowercase().as_str()))
}
