//! Cancelling within a frame, and before the first one.

use std::fmt;
use std::sync::Arc;

/// Asked before every substep whether the computing is to end.
#[derive(Clone, Default)]
pub struct Cancel(Option<Arc<dyn Fn() -> bool + Send + Sync>>);

impl Cancel {
    /// Ends the computing when `asked` says so.
    pub fn when(asked: impl Fn() -> bool + Send + Sync + 'static) -> Self {
        Self(Some(Arc::new(asked)))
    }

    /// Whether it is to end.
    pub fn is_asked(&self) -> bool {
        self.0.as_ref().is_some_and(|asked| asked())
    }
}

impl fmt::Debug for Cancel {
    fn fmt(&self, to: &mut fmt::Formatter) -> fmt::Result {
        to.debug_tuple("Cancel").field(&self.is_asked()).finish()
    }
}
