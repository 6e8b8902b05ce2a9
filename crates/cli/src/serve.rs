//! `evanu serve`: the server for the browser.

use evanu_media::Reader;
use evanu_studio::Studio;
use std::net::{IpAddr, Ipv4Addr, SocketAddr, TcpListener};
use std::path::PathBuf;

/// Options of `evanu serve`.
#[derive(clap::Args)]
pub(crate) struct Args {
    /// Where sets are kept
    #[arg(long, default_value = ".evanu", env = "EVANU_DATA")]
    data: PathBuf,
    /// Port; 0 takes a free one
    #[arg(long, default_value_t = 7340)]
    port: u16,
    /// Address to listen on; anything but 127.0.0.1 lets other machines in
    #[arg(long, default_value_t = IpAddr::V4(Ipv4Addr::LOCALHOST))]
    host: IpAddr,
    /// Bring in the sample sets when there is no set yet
    #[arg(long)]
    demo: bool,
}

/// Runs the server until it is stopped.
pub(crate) fn run(args: Args) -> Result<(), String> {
    tracing_subscriber::fmt().with_writer(std::io::stderr).with_max_level(tracing_level()).init();
    let listener = TcpListener::bind(SocketAddr::new(args.host, args.port))
        .map_err(|e| format!("port {}: it cannot be opened ({e}); choose another with --port", args.port))?;
    let address = listener.local_addr().map_err(|e| e.to_string())?;
    let studio = Studio::open_with(&args.data, Reader::apart()).map_err(|e| e.to_string())?;
    if args.demo {
        evanu_server::add_demo(&studio).map_err(|e| e.to_string())?;
    }
    println!("Evanu is at http://{address}");
    actix_web::rt::System::new().block_on(evanu_server::serve(studio, listener)).map_err(|e| e.to_string())
}

fn tracing_level() -> tracing_subscriber::filter::LevelFilter {
    tracing_subscriber::filter::LevelFilter::WARN
}

/// Prints the description of the server's interface.
pub(crate) fn openapi() -> Result<(), String> {
    println!("{}", evanu_server::openapi().map_err(|e| e.to_string())?);
    Ok(())
}
