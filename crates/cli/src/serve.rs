//! `evanu serve`: the server for the browser.

use evanu_media::Reader;
use evanu_server::Access;
use evanu_studio::Studio;
use std::net::{IpAddr, Ipv4Addr, SocketAddr, TcpListener, UdpSocket};
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
    /// Offer folders of this computer also to others who may change everything
    #[arg(long)]
    share_folders: bool,
    /// Bring in the sample sets when there is no set yet
    #[arg(long)]
    demo: bool,
}

/// Runs the server until it is stopped.
pub(crate) fn run(args: Args) -> Result<(), String> {
    // A log that cannot be written, on a full disk, must not end what it tells about.
    tracing_subscriber::fmt()
        .with_writer(std::io::stderr)
        .with_max_level(tracing_level())
        .log_internal_errors(false)
        .init();
    let listener = TcpListener::bind(SocketAddr::new(args.host, args.port))
        .map_err(|e| format!("port {}: it cannot be opened ({e}); choose another with --port", args.port))?;
    let address = listener.local_addr().map_err(|e| e.to_string())?;
    let studio = Studio::open_with(&args.data, Reader::apart()).map_err(|e| e.to_string())?;
    if args.demo {
        evanu_server::add_demo(&studio).map_err(|e| e.to_string())?;
    }
    let access = Access::of_folder(&args.data, args.share_folders).map_err(|e| e.to_string())?;
    tell_addresses(address, &access);
    let served = evanu_server::serve(studio, listener, access);
    actix_web::rt::System::new().block_on(served).map_err(|e| e.to_string())
}

/// Prints where Evanu is: for this computer, and with tokens for others when they are let in.
fn tell_addresses(address: SocketAddr, access: &Access) {
    let ip = address.ip();
    if ip.is_loopback() || ip.is_unspecified() {
        let here = if ip.is_unspecified() {
            SocketAddr::new(Ipv4Addr::LOCALHOST.into(), address.port())
        } else {
            address
        };
        println!("Evanu is at http://{here}");
    } else {
        println!("Evanu is at http://{address}/?token={}", access.everything);
    }
    if !ip.is_loopback() {
        let seen = if ip.is_unspecified() { seen_by_others().unwrap_or(ip) } else { ip };
        let seen = SocketAddr::new(seen, address.port());
        println!("Others may do everything at http://{seen}/?token={}", access.everything);
        println!("Others may look at http://{seen}/?token={}", access.looking);
    }
}

/// The address by which this computer is seen from its network; nothing is sent to find it.
fn seen_by_others() -> Option<IpAddr> {
    let socket = UdpSocket::bind((Ipv4Addr::UNSPECIFIED, 0)).ok()?;
    socket.connect(("192.0.2.1", 9)).ok()?;
    Some(socket.local_addr().ok()?.ip())
}

fn tracing_level() -> tracing_subscriber::filter::LevelFilter {
    tracing_subscriber::filter::LevelFilter::WARN
}

/// Prints the description of the server's interface.
pub(crate) fn openapi() -> Result<(), String> {
    println!("{}", evanu_server::openapi().map_err(|e| e.to_string())?);
    Ok(())
}
