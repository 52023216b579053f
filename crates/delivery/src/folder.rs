//! Files into a folder: whole or not at all.

use std::{
    fs::{self, File},
    io::{self, Write},
    path::{Component, Path},
};

/// Whether a folder is one of the allowed ones, or in one; ".." leads nowhere, and no link out.
pub fn is_within(folder: &Path, allowed: &[impl AsRef<Path>]) -> bool {
    let plain =
        folder.is_absolute() && !folder.components().any(|part| part == Component::ParentDir);
    // As much of it as is there already may be a link.
    let there = folder.ancestors().find_map(|part| part.canonicalize().ok());
    plain
        && allowed.iter().map(AsRef::as_ref).any(|allowed: &Path| {
            let real = allowed.canonicalize().ok();
            folder.starts_with(allowed)
                && real
                    .is_none_or(|real| there.as_ref().is_some_and(|there| there.starts_with(real)))
        })
}

/// Writes each file under a name of its own first and renames it when all its bytes are on
/// the disk, so that whoever watches the folder never sees half a file. A file of the same
/// name is replaced; writing the same again changes nothing.
///
/// # Errors
/// If the folder cannot be made or a file not written; files before it stay.
pub fn write_files<'a>(
    folder: &Path,
    files: impl IntoIterator<Item = (&'a str, &'a [u8])>,
) -> io::Result<()> {
    fs::create_dir_all(folder)?;
    for (name, bytes) in files {
        let hidden = folder.join(format!(".{name}.part"));
        let written = File::create(&hidden)
            .and_then(|mut file| file.write_all(bytes).and_then(|()| file.sync_all()));
        if let Err(error) = written.and_then(|()| fs::rename(&hidden, folder.join(name))) {
            let _ = fs::remove_file(&hidden);
            return Err(error);
        }
    }
    // The names are on the disk too when this returns.
    File::open(folder)?.sync_all()
}

/// Removes files that were written here; one that is gone already is no error.
pub fn remove_files<'a>(folder: &Path, names: impl IntoIterator<Item = &'a str>) -> io::Result<()> {
    for name in names {
        match fs::remove_file(folder.join(name)) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => return Err(error),
            _ => {}
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn files_appear_whole_and_under_their_names_only() {
        let home = tempfile::TempDir::new().unwrap();
        let folder = home.path().join("a/b");
        write_files(&folder, [("one.csv", &b"1"[..]), ("two.pdf", b"22")]).unwrap();
        write_files(&folder, [("one.csv", &b"111"[..])]).unwrap();
        let mut names: Vec<_> = fs::read_dir(&folder)
            .unwrap()
            .map(|entry| entry.unwrap().file_name().into_string().unwrap())
            .collect();
        names.sort();
        assert_eq!(names, ["one.csv", "two.pdf"]);
        assert_eq!(fs::read(folder.join("one.csv")).unwrap(), b"111");
        remove_files(&folder, ["two.pdf", "never-there"]).unwrap();
        assert!(!folder.join("two.pdf").exists());
    }

    #[test]
    fn what_cannot_be_written_leaves_nothing_behind() {
        let home = tempfile::TempDir::new().unwrap();
        fs::create_dir(home.path().join("taken.csv")).unwrap();
        fs::write(home.path().join("taken.csv/inside"), "x").unwrap();
        assert!(write_files(home.path(), [("taken.csv", &b"1"[..])]).is_err());
        assert!(!home.path().join(".taken.csv.part").exists());
    }

    #[test]
    fn a_link_leads_nowhere_else() {
        let home = tempfile::TempDir::new().unwrap();
        let (inside, outside) = (home.path().join("in"), home.path().join("out"));
        fs::create_dir(&inside).unwrap();
        fs::create_dir(&outside).unwrap();
        std::os::unix::fs::symlink(&outside, inside.join("link")).unwrap();
        assert!(is_within(&inside.join("daily"), &[&inside]));
        assert!(!is_within(&inside.join("link"), &[&inside]));
        assert!(!is_within(&inside.join("link/daily"), &[&inside]));
    }

    #[test]
    fn only_what_is_inside_an_allowed_folder_is_within() {
        let allowed = ["/srv/reports"];
        assert!(
            is_within(Path::new("/srv/reports"), &allowed)
                && is_within(Path::new("/srv/reports/daily"), &allowed)
        );
        for outside in [
            "/srv",
            "/srv/reports-of-others",
            "/srv/reports/../etc",
            "srv/reports",
        ] {
            assert!(!is_within(Path::new(outside), &allowed), "{outside}");
        }
    }
}
