//! Progress: a bar on a terminal, plain lines in a pipe.

use indicatif::{ProgressBar, ProgressStyle};
use std::io::IsTerminal;
use std::sync::atomic::{AtomicU64, Ordering};

pub(crate) struct Progress {
    what: &'static str,
    total: u64,
    bar: Option<ProgressBar>,
    said: AtomicU64,
}

impl Progress {
    pub fn new(what: &'static str, total: u64) -> Self {
        let bar = std::io::stderr().is_terminal().then(|| {
            let style = ProgressStyle::with_template("{prefix} {bar:32} {pos}/{len} frames, {eta} left");
            let bar = ProgressBar::new(total).with_prefix(what);
            bar.with_style(style.unwrap_or_else(|_| ProgressStyle::default_bar()))
        });
        Self { what, total, bar, said: AtomicU64::new(0) }
    }

    /// So many frames are done.
    pub fn at(&self, done: u64) {
        match &self.bar {
            Some(bar) => bar.set_position(done),
            None if self.said.swap(done, Ordering::Relaxed) != done => {
                eprintln!("{} {done} of {}", self.what, self.total);
            }
            None => {}
        }
    }

    pub fn finish(&self) {
        if let Some(bar) = &self.bar {
            bar.finish();
        }
    }
}
