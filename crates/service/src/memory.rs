//! Returns freed memory to the system.

use std::{env, os::unix::process::CommandExt, process::Command};

/// How long the allocator keeps freed memory, in milliseconds.
const KEPT_FOR: &str = "MIMALLOC_PURGE_DELAY";

/// Begins this program again with an allocator that keeps no freed memory, unless the environment says how
/// long it does: a run of a million rows leaves tens of megabytes behind, on threads that may have nothing
/// to do for hours. The allocator reads its setting before `main`. The process and its arguments stay the
/// same, and the environment has the setting added; call this first.
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
    eprintln!(
        "warning: the program could not begin again with {KEPT_FOR}=0, so it holds freed memory for longer: {error}"
    );
}
