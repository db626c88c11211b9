//! Small packets sent at once on connections to the database.
//!
//! SQLx 0.9 leaves Nagle's algorithm on. A COPY ends in two writes, its rows and its end; the second then waits for the
//! server's delayed acknowledgement of the first: 40 ms for each COPY of each batch (measured on
//! Linux 6). SQLx hands out neither its socket nor a way to set it up, so the sockets are found
//! among this process's own.

use std::path::Path;

use rustix::net::{SocketAddrAny, getpeername, sockopt};
use rustix::process::{PidfdFlags, PidfdGetfdFlags, getpid, pidfd_getfd, pidfd_open};

/// Turns Nagle's algorithm off on every TCP connection of this process to a port. Where the system does not allow it,
/// nothing changes: commits take longer and are as safe.
pub(crate) fn send_promptly(port: u16) {
    let Ok(this) = pidfd_open(getpid(), PidfdFlags::empty()) else {
        return;
    };
    for entry in std::fs::read_dir(Path::new("/proc/self/fd"))
        .into_iter()
        .flatten()
        .flatten()
    {
        let Some(number) = entry.file_name().to_str().and_then(|name| name.parse().ok()) else {
            continue;
        };
        // A duplicate of the descriptor sets the same socket's options.
        let Ok(socket) = pidfd_getfd(&this, number, PidfdGetfdFlags::empty()) else {
            continue;
        };
        let peer = getpeername(&socket).ok().and_then(|peer| peer_port(&peer?));
        if peer == Some(port)
            && let Err(error) = sockopt::set_tcp_nodelay(&socket, true)
        {
            tracing::debug!(%error, "a connection to the database waits for acknowledgements");
        }
    }
}

fn peer_port(peer: &SocketAddrAny) -> Option<u16> {
    std::net::SocketAddr::try_from(peer.clone())
        .ok()
        .map(|peer| peer.port())
}
