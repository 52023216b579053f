//! Threads for what takes long: as many as there are threads that compute for runs and for people
//! together, so that neither waits here for the other.

use std::{ops::Range, sync::LazyLock};

use maple_lark_data::stop;
use rayon::iter::{IntoParallelIterator, ParallelIterator};

/// The typesetter works on such threads in any case; where all of a document is made by one of them, what
/// its layout has let go of is room for what is written from it.
static THREADS: LazyLock<Option<rayon::ThreadPool>> = LazyLock::new(|| {
    rayon::ThreadPoolBuilder::new()
        .num_threads(2 * std::thread::available_parallelism().map_or(2, usize::from))
        .thread_name(|number| format!("layout-{number}"))
        .stack_size(32 << 20)
        .build()
        .ok()
});

/// Does all of it on one of the threads.
pub fn by_one_thread<T: Send>(work: impl FnOnce() -> T + Send) -> T {
    match &*THREADS {
        Some(threads) => {
            let stop = stop::current();
            // What stops it there is passed on to here.
            match threads.install(|| stop::under(&stop, work)) {
                Ok(done) => done,
                Err(stop::Stopped) => stop::end(),
            }
        }
        None => work(),
    }
}

/// Does one piece of work for each number, side by side; what comes of them is in the order of the numbers.
pub fn side_by_side<T: Send>(numbers: Range<usize>, work: impl Fn(usize) -> T + Sync) -> Vec<T> {
    let threads = match &*THREADS {
        Some(threads) if numbers.len() > 1 => threads,
        _ => return numbers.map(work).collect(),
    };
    let stop = stop::current();
    let all: Result<Vec<T>, stop::Stopped> = threads.install(|| {
        numbers
            .into_par_iter()
            .map(|number| stop::under(&stop, || work(number)))
            .collect()
    });
    all.unwrap_or_else(|stop::Stopped| stop::end())
}

/// Does two things, each on a thread if there is one for it.
pub fn both<A: Send, B: Send>(
    one: impl FnOnce() -> A + Send,
    other: impl FnOnce() -> B + Send,
) -> (A, B) {
    let Some(threads) = &*THREADS else {
        return (one(), other());
    };
    let stop = stop::current();
    let done = threads.join(|| stop::under(&stop, one), || stop::under(&stop, other));
    match done {
        (Ok(one), Ok(other)) => (one, other),
        _ => stop::end(),
    }
}

#[cfg(test)]
mod tests {
    use maple_lark_data::stop::{Stop, Stopped, check, under};

    use super::*;

    #[test]
    fn what_is_done_side_by_side_keeps_its_order_and_is_stopped_as_one() {
        let squares = side_by_side(0..100, |number| number * number);
        assert_eq!(squares[..4], [0, 1, 4, 9]);
        assert_eq!(squares.len(), 100);
        assert!(side_by_side(3..3, |number| number).is_empty());
        let stop = Stop::default();
        let ended = under(&stop, || {
            side_by_side(0..100, |number| {
                if number == 50 {
                    stop.stop();
                }
                check();
                number
            })
        });
        assert_eq!(ended, Err(Stopped));
        let stop = Stop::default();
        assert_eq!(under(&stop, || both(|| 1, || "two")), Ok((1, "two")));
        let ended = under(&stop, || {
            both(
                || stop.stop(),
                || {
                    loop {
                        check();
                    }
                },
            )
        });
        assert_eq!(ended, Err::<((), ()), _>(Stopped));
    }
}
