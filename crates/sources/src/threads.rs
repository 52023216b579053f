//! Reading answers off the async threads, for as long as somebody waits for them.

use maple_lark_data::stop::{self, Stop, StopWhenDropped};
use maple_lark_definition::Source;

use crate::SourceError;

/// Does work that takes a processor, or may block, on a thread of its own. Who lets go of the
/// answer, as a timeout does, ends it.
///
/// # Errors
/// Those of the work; and if it ends unexpectedly.
pub(crate) async fn computed<T: Send + 'static>(
    source: &Source,
    work: impl FnOnce() -> Result<T, SourceError> + Send + 'static,
) -> Result<T, SourceError> {
    let stop = Stop::default();
    let _stop = StopWhenDropped(stop.clone());
    let done = tokio::task::spawn_blocking(move || stop::under(&stop, work)).await;
    match done {
        Ok(Ok(done)) => done,
        Ok(Err(_)) | Err(_) => Err(SourceError::Query {
            source_name: source.name.clone(),
            words: "reading the answer ended unexpectedly; this is a fault of Maple Lark, whose log says more".to_owned(),
        }),
    }
}
