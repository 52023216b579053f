use std::path::PathBuf;

use clap::Args;
use maple_lark_service::api::view::{DocumentView, RunView};

use crate::{
    client::Client,
    failure::Failure,
    output::{self, Output, size},
};

/// Download the documents of a run
#[derive(Args)]
#[command(after_help = "Example:\n  maple-lark download 0193… --format pdf --into reports/")]
pub struct Download {
    /// The run's id
    run: uuid::Uuid,
    /// Only documents of this format
    #[arg(long, value_parser = ["pdf", "html", "csv"])]
    format: Option<String>,
    /// The folder to write to; it is made if it is not there
    #[arg(long, value_name = "FOLDER", default_value = ".")]
    into: PathBuf,
}

impl Download {
    pub async fn run(self, client: &Client, output: Output) -> Result<(), Failure> {
        let view: RunView = client.get(&format!("/runs/{}", self.run)).await?;
        let wanted: Vec<DocumentView> =
            view.documents.into_iter().filter(|document| self.format.as_ref().is_none_or(|format| *format == document.format)).collect();
        if wanted.is_empty() {
            return Err(Failure::Local("this run has no such documents".to_owned()));
        }
        // Files of two audiences have names of their own unless nothing but defaults differs.
        let clash = wanted.iter().enumerate().any(|(index, one)| wanted[..index].iter().any(|earlier| earlier.file_name == one.file_name));
        let mut paths = Vec::new();
        for document in &wanted {
            let bytes = client.bytes(&format!("/documents/{}", document.id)).await?;
            let folder = if clash { self.into.join(document.snapshot_id.to_string()) } else { self.into.clone() };
            // The service makes names without folders; one that has them is not believed.
            let name =
                std::path::Path::new(&document.file_name).file_name().ok_or_else(|| Failure::Local(format!("\"{}\" is no file name", document.file_name)))?;
            let path = folder.join(name);
            let hidden = folder.join(format!(".{}", document.id));
            let written = std::fs::create_dir_all(&folder).and_then(|()| std::fs::write(&hidden, &bytes)).and_then(|()| std::fs::rename(&hidden, &path));
            written.map_err(|error| Failure::Local(format!("{} cannot be written: {error}", path.display())))?;
            paths.push((path.display().to_string(), document.size));
        }
        output::print(output, &paths, |paths| {
            for (path, bytes) in paths {
                println!("{path}  {}", size(*bytes));
            }
        });
        Ok(())
    }
}
