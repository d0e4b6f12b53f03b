use clap::Parser;
use std::process::ExitCode;
use studio::cli::Command;

fn main() -> ExitCode {
    let asked = std::env::var("BRIGHT_RIPPLE_LOG").ok().and_then(|level| level.parse().ok());
    let level = asked.unwrap_or(tracing::Level::WARN);
    // A log that cannot be written, since it lies on a full disk, must not end what is being done.
    let log = tracing_subscriber::fmt().with_max_level(level).with_writer(std::io::stderr);
    log.log_internal_errors(false).init();
    Command::parse().run()
}
