use clap::Parser;
use std::process::ExitCode;
use studio::cli::Command;

fn main() -> ExitCode {
    let asked = std::env::var("BRIGHT_RIPPLE_LOG").ok().and_then(|level| level.parse().ok());
    let level = asked.unwrap_or(tracing::Level::WARN);
    tracing_subscriber::fmt().with_max_level(level).with_writer(std::io::stderr).init();
    Command::parse().run()
}
