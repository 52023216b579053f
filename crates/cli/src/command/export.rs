use std::path::{Component, Path, PathBuf};

use clap::Args;
use maple_lark_api::DefinitionFile;

use crate::{client::Client, failure::Failure};

/// Write all definitions into a folder, as the files they were applied from
#[derive(Args)]
#[command(after_help = "Example:\n  maple-lark export definitions/ && git -C definitions diff")]
pub struct Export {
    /// The folder to write to; files of the same names are replaced
    folder: PathBuf,
}

impl Export {
    pub async fn run(self, client: &Client) -> Result<(), Failure> {
        let files: Vec<DefinitionFile> = client.get("/definitions").await?;
        for one in &files {
            // A name from the service must not lead out of the folder.
            let inside = Path::new(&one.file)
                .components()
                .all(|part| matches!(part, Component::Normal(_)));
            if !inside {
                return Err(Failure::Local(format!(
                    "the definition \"{}\" has a name that leads out of the folder; it was not written",
                    one.file
                )));
            }
            let path = self.folder.join(&one.file);
            let written = path
                .parent()
                .map_or(Ok(()), std::fs::create_dir_all)
                .and_then(|()| std::fs::write(&path, &one.text));
            written.map_err(|error| {
                Failure::Local(format!("{} cannot be written: {error}", path.display()))
            })?;
        }
        println!(
            "{} definitions are in {}.",
            files.len(),
            self.folder.display()
        );
        Ok(())
    }
}
