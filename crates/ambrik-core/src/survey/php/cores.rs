//! The same for many things, on all cores.

use std::sync::atomic::{AtomicUsize, Ordering};

/// What is found in each thing, in their order; each thread has something of its own, which `begin` makes.
pub(super) fn on_all_cores<'t, T: Sync, S, R: Send>(
    things: &'t [T],
    begin: impl Fn() -> S + Sync,
    find: impl Fn(&S, &'t T) -> Option<R> + Sync,
) -> Vec<R> {
    let next = AtomicUsize::new(0);
    let threads = std::thread::available_parallelism().map_or(1, std::num::NonZero::get);
    let work = || {
        let (own, mut found) = (begin(), Vec::new());
        loop {
            let at = next.fetch_add(1, Ordering::Relaxed);
            let Some(thing) = things.get(at) else { break found };
            found.extend(find(&own, thing).map(|found| (at, found)));
        }
    };
    let mut all: Vec<(usize, R)> = std::thread::scope(|scope| {
        let handles: Vec<_> = (0..threads).map(|_| scope.spawn(work)).collect();
        handles.into_iter().flat_map(|handle| handle.join().unwrap_or_default()).collect()
    });
    all.sort_by_key(|(at, _)| *at);
    all.into_iter().map(|(_, found)| found).collect()
}
