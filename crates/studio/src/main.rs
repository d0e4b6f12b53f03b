use clap::Parser;
use std::process::ExitCode;
use studio::cli::Command;

fn main() -> ExitCode {
    let filter =
        tracing_subscriber::EnvFilter::try_from_env("BRIGHT_RIPPLE_LOG").unwrap_or_else(|_| "warn".into());
    tracing_subscriber::fmt().with_env_filter(filter).with_writer(std::io::stderr).init();
    Command::parse().run()
}
