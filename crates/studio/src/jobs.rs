//! Jobs beside requests: each has a thread of its own, and a panic ends only
//! the job.

use crate::error::Error;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::{Mutex, MutexGuard, PoisonError};

/// Locks a mutex whose content is consistent at all times, so that a poisoned lock is harmless.
pub(crate) fn lock<T>(of: &Mutex<T>) -> MutexGuard<'_, T> {
    of.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Runs work, and turns a panic in it into a message.
pub(crate) fn guarded<T>(work: impl FnOnce() -> Result<T, String>) -> Result<T, String> {
    catch_unwind(AssertUnwindSafe(work)).unwrap_or_else(|panic| {
        let what = panic
            .downcast_ref::<&str>()
            .map(|text| (*text).to_owned())
            .or_else(|| panic.downcast_ref::<String>().cloned())
            .unwrap_or_default();
        Err(format!("an error in the program ended this job: {what}"))
    })
}

/// Runs a closure on drop, however the scope is left.
pub(crate) struct AtEnd<F: FnMut()>(F);

impl<F: FnMut()> AtEnd<F> {
    pub fn new(end: F) -> Self {
        Self(end)
    }
}

impl<F: FnMut()> Drop for AtEnd<F> {
    fn drop(&mut self) {
        (self.0)();
    }
}

/// Runs CPU-bound work off the async threads.
pub(crate) async fn blocking<T: Send + 'static>(
    work: impl FnOnce() -> Result<T, Error> + Send + 'static,
) -> Result<T, Error> {
    tokio::task::spawn_blocking(work).await.map_err(|error| Error::Internal(error.to_string()))?
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(|| -> Result<u32, String> { Ok(3) }, Ok(3))]
    #[case(|| -> Result<u32, String> { Err("no frame".to_owned()) }, Err("no frame"))]
    #[case(|| -> Result<u32, String> { panic!("at once") }, Err("an error in the program ended this job: at once"))]
    #[case(|| -> Result<u32, String> { panic!("body {}", 7) }, Err("an error in the program ended this job: body 7"))]
    fn a_panic_is_an_error(#[case] work: fn() -> Result<u32, String>, #[case] result: Result<u32, &str>) {
        assert_eq!(guarded(work), result.map_err(str::to_owned));
    }

    #[test]
    fn a_lock_is_to_be_had_after_a_panic() {
        let value = Mutex::new(1);
        let _ = catch_unwind(AssertUnwindSafe(|| {
            let _held = lock(&value);
            panic!("with the lock");
        }));
        assert_eq!(*lock(&value), 1);
    }

    #[test]
    fn an_end_comes_after_a_panic_too() {
        let mut ended = 0;
        let _ = catch_unwind(AssertUnwindSafe(|| {
            let _end = AtEnd::new(|| ended += 1);
            panic!("in the middle");
        }));
        assert_eq!(ended, 1);
    }
}
