//! Arguments of `outcrop run`.

use std::ffi::OsString;
use std::path::PathBuf;

use bytesize::ByteSize;
use clap::Args;

#[derive(Args)]
#[command(
    override_usage = "outcrop run --service <S> [OPTIONS] -- <COMMAND> [ARGUMENT]...\n       outcrop run",
    after_help = "Examples:\n  \
    outcrop run --service settle -- ./settle.sh --all\n  \
    0 2 * * * outcrop run --service ledger --job close-day -- /srv/ledger/close-day   in a crontab\n  \
    outcrop run --service fares --ok 1 -- grep -q winter tariffs.txt\n  \
    outcrop run                                                     send the runs that are kept\n\n\
    The command runs as if it stood alone: standard input, output and error, signals and the exit code\n\
    pass through. Each run is counted as a request of the service, with its duration. One that ends with\n\
    another exit code than 0, or by a signal, is a failure: with the stack it wrote last to standard\n\
    error, else with its last line. While the service is away, runs are kept on disk and sent with a\n\
    later one. The sender key is read from OUTCROP_KEY."
)]
pub struct Run {
    /// Where the service takes OTLP/HTTP.
    #[arg(
        long,
        env = "OUTCROP_URL",
        value_name = "URL",
        default_value = "http://127.0.0.1:8471"
    )]
    pub url: String,
    /// Sender key; set the variable instead, so that other users of the machine cannot read it.
    #[arg(long, env = "OUTCROP_KEY", value_name = "KEY", hide_env_values = true)]
    pub key: Option<String>,
    /// The service that the command belongs to.
    #[arg(long, env = "OUTCROP_SERVICE", value_name = "S")]
    pub service: Option<String>,
    /// What the job is called [default: the name of the command's file].
    #[arg(long, value_name = "NAME")]
    pub job: Option<String>,
    /// The environment it runs in.
    #[arg(long, env = "OUTCROP_ENVIRONMENT", value_name = "E")]
    pub environment: Option<String>,
    /// The version that runs.
    #[arg(long = "in-version", env = "OUTCROP_VERSION", value_name = "V")]
    pub in_version: Option<String>,
    /// Exit codes beside 0 that are no failure, as in `--ok 1,3`.
    #[arg(long, value_name = "CODE", value_delimiter = ',')]
    pub ok: Vec<u8>,
    /// Where runs are kept while the service is away [default: `$XDG_STATE_HOME/outcrop/runs`].
    #[arg(long, env = "OUTCROP_SPOOL", value_name = "FOLDER")]
    pub spool: Option<PathBuf>,
    /// How much room they may take there: the oldest are dropped.
    #[arg(long, value_name = "BYTES", default_value = "16MiB")]
    pub spool_bytes: ByteSize,
    /// The command and its arguments; without one, runs that are kept are sent.
    #[arg(value_name = "COMMAND", last = true, requires = "service")]
    pub command: Vec<OsString>,
}

impl Run {
    /// What the job is called.
    pub fn name(&self) -> String {
        let of_file = || {
            let file = self
                .command
                .first()
                .map(std::path::Path::new)
                .and_then(|path| path.file_name());
            file.map_or_else(String::new, |name| name.to_string_lossy().into_owned())
        };
        self.job.clone().unwrap_or_else(of_file)
    }
}
