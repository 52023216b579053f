//! Keeps what the log says of runs.

use std::time::Duration;

use maple_lark_store::{Store, run_lines::RunLine};
use tokio::sync::{mpsc, watch};

/// So many lines are kept at a time.
const PIECE: usize = 200;
/// Lines are gathered for so long.
const GATHER: Duration = Duration::from_millis(500);

/// Keeps lines until the engine stops, and what is left then.
pub async fn keep(
    store: Store,
    mut lines: mpsc::Receiver<RunLine>,
    mut stopped: watch::Receiver<bool>,
) {
    let mut piece = Vec::with_capacity(PIECE);
    loop {
        tokio::select! {
            count = lines.recv_many(&mut piece, PIECE) => if count == 0 { return },
            _ = stopped.changed() => {
                while let Ok(line) = lines.try_recv() {
                    piece.push(line);
                }
            }
        }
        if !piece.is_empty()
            && let Err(error) = store.add_run_lines(&piece).await
        {
            // They are in the log itself; nothing else depends on them.
            tracing::debug!(%error, "lines about runs were not kept");
        }
        piece.clear();
        if *stopped.borrow() {
            return;
        }
        tokio::time::sleep(GATHER).await;
    }
}
