use super::{Outcome, Stop};
use crate::studio::Studio;
use clap::Args;
use std::net::{IpAddr, SocketAddr};
use std::path::PathBuf;

#[derive(Args)]
pub(crate) struct Serve {
    /// Folder for shots, runs and films
    #[arg(long, default_value = "data")]
    data_dir: PathBuf,
    /// Port; 0 takes a free one
    #[arg(long, default_value_t = 7700)]
    port: u16,
    /// Address to listen on; other machines can reach it unless it is loopback
    #[arg(long, default_value = "127.0.0.1")]
    address: IpAddr,
    /// Put the Saltmarket sample shots into a data folder that has no shots
    #[arg(long)]
    demo: bool,
}

impl Serve {
    pub fn run(self) -> Outcome {
        let runtime = tokio::runtime::Runtime::new().map_err(|error| Stop::Failed(error.to_string()))?;
        runtime.block_on(self.serve())
    }

    async fn serve(self) -> Outcome {
        let address = SocketAddr::new(self.address, self.port);
        let listener = tokio::net::TcpListener::bind(address).await.map_err(|error| match error.kind() {
            std::io::ErrorKind::AddrInUse => {
                Stop::Bad(format!("port {} is in use; name another with --port", self.port))
            }
            _ => Stop::Bad(format!("cannot listen on {address}: {error}")),
        })?;
        let studio = Studio::open(&self.data_dir).await.map_err(|error| Stop::Bad(error.to_string()))?;
        if self.demo {
            crate::demo::seed(&studio).await.map_err(|error| Stop::Failed(error.to_string()))?;
        }
        let at = listener.local_addr().map_err(|error| Stop::Failed(error.to_string()))?;
        super::print(&format!("Bright Ripple is at http://{at}"))?;
        axum::serve(listener, crate::api::app(studio))
            .with_graceful_shutdown(async {
                // Ends on Ctrl-C; open event streams do not hold it up, since
                // all that matters is on disk already.
                let _ = tokio::signal::ctrl_c().await;
                std::process::exit(0);
            })
            .await
            .map_err(|error| Stop::Failed(error.to_string()))
    }
}
