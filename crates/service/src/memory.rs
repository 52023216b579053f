//! What becomes of memory that was let go of.

use std::{env, os::unix::process::CommandExt, process::Command};

/// How long the allocator keeps what was let go of, in milliseconds.
const KEPT_FOR: &str = "MIMALLOC_PURGE_DELAY";

/// Begins this program again with an allocator that keeps nothing for later, unless somebody has said how
/// long it does: a run of a million rows leaves tens of megabytes behind, on threads that may have nothing
/// to do for hours. The allocator reads its setting before anything else of a program begins, so this
/// comes first in a program, too: it keeps its process, its arguments and its environment.
pub fn give_back_at_once() {
    if env::var_os(KEPT_FOR).is_some() {
        return;
    }
    let mut arguments = env::args_os();
    let (Some(name), Ok(program)) = (arguments.next(), env::current_exe()) else {
        return;
    };
    // Where it cannot be done, memory is kept, and all else works.
    let error = Command::new(program)
        .arg0(name)
        .args(arguments)
        .env(KEPT_FOR, "0")
        .exec();
    eprintln!("memory that was let go of is kept for a while: {error}");
}
