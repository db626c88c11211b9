//! How connections to the database name themselves.

/// How the name of a service's connection begins; the machine's name follows.
pub(crate) const NAMED: &str = "outcrop at ";

/// The name of this service's connections, by which others know from which machines services connect.
pub(super) fn connection_name() -> String {
    format!("{NAMED}{}", rustix::system::uname().nodename().to_string_lossy())
}
