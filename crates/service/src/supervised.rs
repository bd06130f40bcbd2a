//! What systemd is told: that the service is ready, that it lives, that it ends. A datagram to the socket that it names
//! (`sd_notify(3)`, the protocol of `NOTIFY_SOCKET` and `WATCHDOG_USEC`); without one nothing is said.

use std::ffi::OsStr;
use std::os::linux::net::SocketAddrExt;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::net::{SocketAddr, UnixDatagram};
use std::sync::Arc;
use std::time::Duration;

use crate::app::App;

/// Says something; who does not listen misses it.
pub fn tell(words: &str) {
    let Some(socket) = std::env::var_os("NOTIFY_SOCKET") else {
        return;
    };
    if let Err(e) = send(&socket, words) {
        tracing::debug!("systemd does not hear {words:?}: {e}");
    }
}

fn send(socket: &OsStr, words: &str) -> std::io::Result<()> {
    let line = UnixDatagram::unbound()?;
    let address = match socket.as_bytes() {
        // A name that no file has.
        [b'@', name @ ..] => SocketAddr::from_abstract_name(name)?,
        _ => SocketAddr::from_pathname(socket)?,
    };
    line.send_to_addr(words.as_bytes(), &address)?;
    Ok(())
}

/// How much longer a start may take from each time that this is said, and how often it is: bringing large records to
/// another form takes its time, and nobody shall end it half-way.
const LONGER: Duration = Duration::from_secs(120);
const SAID: Duration = Duration::from_secs(30);
/// How often it is said at most: six hours.
const MOST: u32 = 720;

/// Tells that the service is still starting, until this is dropped.
pub struct Starting(tokio::task::JoinHandle<()>);

impl Starting {
    /// From now on.
    pub fn begin() -> Self {
        Self(tokio::spawn(async {
            for _ in 0..MOST {
                tell(&format!("EXTEND_TIMEOUT_USEC={}", LONGER.as_micros()));
                tokio::time::sleep(SAID).await;
            }
        }))
    }
}

impl Drop for Starting {
    fn drop(&mut self) {
        self.0.abort();
    }
}

/// How often systemd wants to hear that the service lives, if it does.
fn wanted() -> Option<Duration> {
    let micros = std::env::var("WATCHDOG_USEC").ok()?.parse().ok()?;
    let ours = match std::env::var("WATCHDOG_PID") {
        Ok(pid) => pid == std::process::id().to_string(),
        Err(_) => true,
    };
    (ours && micros > 0).then(|| Duration::from_micros(micros))
}

/// Tells that the service lives, as long as it does: a request of its own goes through the same queue of tasks as all
/// others, so that a service that hangs says nothing. A database that is away is no reason to be started again.
pub async fn keep_telling(app: Arc<App>) {
    let Some(wanted) = wanted() else {
        return;
    };
    loop {
        tokio::time::sleep(wanted / 3).await;
        let done = tokio::task::spawn_blocking(|| ()).await;
        if done.is_ok() && !app.jobs.is_closing() {
            tell("WATCHDOG=1");
        }
    }
}
