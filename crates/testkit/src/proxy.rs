//! A proxy before the service, as people have one: it passes on, or fails in the ways that proxies do.

use std::time::Duration;

use tokio::io::{AsyncReadExt, AsyncWriteExt, copy_bidirectional};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::watch;

/// What a proxy does.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Mode {
    /// Passes on what is sent and answered.
    Passes,
    /// Answers 502 to everything.
    Refuses,
    /// Passes on, each connection after a while.
    Delays(Duration),
    /// Closes each connection without an answer.
    Cuts,
}

/// A proxy on loopback. A change of mode cuts the connections that are open: answers in the middle, streams too.
pub struct Proxy {
    /// Where it listens: the service's address, as browsers see it.
    pub url: String,
    mode: watch::Sender<Mode>,
}

impl Proxy {
    /// Starts one before the service at `url`; it passes on.
    ///
    /// # Panics
    /// When no port is free.
    pub async fn before(url: &str) -> Self {
        let target = url.trim_start_matches("http://").to_owned();
        let listener = TcpListener::bind("127.0.0.1:0").await.expect("a port is free");
        let address = listener.local_addr().expect("it listens");
        let (mode, modes) = watch::channel(Mode::Passes);
        tokio::spawn(async move {
            while let Ok((stream, _)) = listener.accept().await {
                let (target, mut modes) = (target.clone(), modes.clone());
                tokio::spawn(async move {
                    let mode = *modes.borrow_and_update();
                    tokio::select! {
                        () = serve(stream, &target, mode) => {}
                        _ = modes.changed() => {}
                    }
                });
            }
        });
        Self {
            url: format!("http://{address}"),
            mode,
        }
    }

    /// Has it do this from now on.
    pub fn set(&self, mode: Mode) {
        self.mode.send_replace(mode);
    }
}

/// Serves a connection until one side closes it. What goes wrong meanwhile is what a proxy's clients see.
async fn serve(mut stream: TcpStream, target: &str, mode: Mode) {
    match mode {
        Mode::Cuts => return,
        Mode::Refuses => {
            let mut request = [0; 8_192];
            if stream.read(&mut request).await.is_ok() {
                let answer = b"HTTP/1.1 502 Bad Gateway\r\ncontent-length: 0\r\nconnection: close\r\n\r\n";
                let _closed = stream.write_all(answer).await;
            }
            return;
        }
        Mode::Delays(wait) => tokio::time::sleep(wait).await,
        Mode::Passes => {}
    }
    if let Ok(mut service) = TcpStream::connect(target).await {
        let _closed = copy_bidirectional(&mut stream, &mut service).await;
    }
}
