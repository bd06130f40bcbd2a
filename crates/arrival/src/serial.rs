//! A serial line of this computer, on which a board tells how it starts.

use std::fs::File;
use std::io::{self, Read};
use std::path::Path;
use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::fs::{FlockOperation, Mode, OFlags, flock, open};
use rustix::io::Errno;
use rustix::termios::{OptionalActions, tcgetattr, tcsetattr};

/// What is kept of the beginning and of the end of a long text, in bytes.
const HEAD: usize = 64 << 10;
const TAIL: usize = 192 << 10;
/// What stands between them.
const CUT: &str = "\n… cut here: more was said than is kept …\n";

/// Speeds that a line can have, in baud.
pub const SPEEDS: [u32; 8] = [
    9600, 19_200, 38_400, 57_600, 115_200, 230_400, 460_800, 921_600,
];

/// Why a line cannot be listened to.
#[derive(Debug, thiserror::Error)]
pub enum SerialError {
    /// Somebody else listens there.
    #[error("another program listens at {0}; end that first")]
    Taken(String),
    /// There is no such port.
    #[error("{0} is not there; plug the adapter in")]
    Missing(String),
    /// This user may not open it.
    #[error(
        "{0} may not be opened by the service; put its user into the group that owns it (dialout on Debian)"
    )]
    Forbidden(String),
    /// It is no serial line, or failed.
    #[error("{port} cannot be used as a serial line ({why})")]
    Failed {
        /// The port.
        port: String,
        /// Why.
        why: String,
    },
}

/// An open line.
#[derive(Debug)]
pub struct Line {
    port: String,
    file: File,
}

impl Line {
    /// Opens a port for reading only what comes, eight bits a byte, without parity. It is locked against others who
    /// ask for locks, and nothing is ever sent.
    ///
    /// # Errors
    /// [`SerialError`].
    pub fn open(path: &Path, baud: u32) -> Result<Self, SerialError> {
        let port = path.display().to_string();
        let failed = |why: Errno| SerialError::Failed {
            port: port.clone(),
            why: why.to_string(),
        };
        let flags = OFlags::RDONLY | OFlags::NOCTTY | OFlags::NONBLOCK | OFlags::CLOEXEC;
        let file = open(path, flags, Mode::empty()).map_err(|why| match why {
            Errno::NOENT | Errno::NXIO | Errno::NODEV => SerialError::Missing(port.clone()),
            Errno::ACCESS | Errno::PERM => SerialError::Forbidden(port.clone()),
            Errno::BUSY => SerialError::Taken(port.clone()),
            why => failed(why),
        })?;
        match flock(&file, FlockOperation::NonBlockingLockExclusive) {
            Err(Errno::WOULDBLOCK) => return Err(SerialError::Taken(port)),
            other => other.map_err(&failed)?,
        }
        let mut settings = tcgetattr(&file).map_err(&failed)?;
        settings.make_raw();
        settings.set_speed(baud).map_err(&failed)?;
        tcsetattr(&file, OptionalActions::Now, &settings).map_err(&failed)?;
        Ok(Self {
            port,
            file: file.into(),
        })
    }

    /// Listens until somebody says stop, or the line is gone.
    ///
    /// # Errors
    /// [`SerialError`] where the line went away by itself.
    pub fn listen(mut self, heard: &Heard, stop: &AtomicBool) -> Result<(), SerialError> {
        let mut bytes = [0; 4096];
        let wait = Timespec::try_from(Duration::from_millis(200)).expect("it is short");
        while !stop.load(Ordering::Relaxed) {
            let mut fds = [PollFd::new(&self.file, PollFlags::IN)];
            match poll(&mut fds, Some(&wait)) {
                Ok(0) | Err(Errno::INTR) => continue,
                Ok(_) => {}
                Err(why) => return Err(self.gone(why.into())),
            }
            match self.file.read(&mut bytes) {
                Ok(0) => return Err(SerialError::Missing(self.port)),
                Ok(len) => heard.take_in(&bytes[..len]),
                Err(e) if e.kind() == io::ErrorKind::WouldBlock => {}
                // A pseudo-terminal whose other end is closed.
                Err(e) if e.raw_os_error() == Some(5) => {
                    return Err(SerialError::Missing(self.port));
                }
                Err(e) => return Err(self.gone(e)),
            }
        }
        Ok(())
    }

    fn gone(self, why: io::Error) -> SerialError {
        SerialError::Failed {
            port: self.port,
            why: why.to_string(),
        }
    }
}

/// What was heard so far: of a long text the beginning and the end.
#[derive(Debug, Default)]
pub struct Heard(Mutex<Text>);

#[derive(Debug, Default)]
struct Text {
    head: Vec<u8>,
    tail: Vec<u8>,
    cut: bool,
}

impl Heard {
    /// Takes in what came.
    pub fn take_in(&self, bytes: &[u8]) {
        let mut text = self.0.lock().unwrap_or_else(|e| e.into_inner());
        let room = HEAD - text.head.len();
        let (first, rest) = bytes.split_at(room.min(bytes.len()));
        text.head.extend_from_slice(first);
        text.tail.extend_from_slice(rest);
        let over = text.tail.len().saturating_sub(TAIL);
        if over > 0 {
            text.tail.drain(..over);
            text.cut = true;
        }
    }

    /// The text, with signs in place of what would steer a terminal.
    pub fn text(&self) -> String {
        let text = self.0.lock().unwrap_or_else(|e| e.into_inner());
        let mut all = String::from_utf8_lossy(&text.head).into_owned();
        if text.cut {
            all += CUT;
        }
        all += &String::from_utf8_lossy(&text.tail);
        let all = all.replace("\r\n", "\n").replace('\r', "\n");
        all.replace(
            |c: char| c.is_control() && !matches!(c, '\n' | '\t'),
            "\u{fffd}",
        )
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_long_text_keeps_its_beginning_and_its_end() {
        let heard = Heard::default();
        heard.take_in(b"first words\r\n\x1b[31mred\n");
        for number in 0..100_000 {
            heard.take_in(format!("line {number}\n").as_bytes());
        }
        let text = heard.text();
        assert!(text.starts_with("first words\n\u{fffd}[31mred\n"));
        assert!(text.ends_with("line 99999\n"));
        assert!(text.contains("cut here"));
        assert!(text.len() <= HEAD + TAIL + 200, "{}", text.len());
    }
}
