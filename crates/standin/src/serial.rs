//! A serial line of a board: a pseudo-terminal of the kernel, on which a boot log is said over and over.

use std::fs::File;
use std::io::{self, Write};
use std::os::unix::fs::symlink;
use std::path::Path;
use std::time::Duration;

use rustix::pty::{OpenptFlags, grantpt, openpt, ptsname, unlockpt};

/// Between two lines of a log.
const LINE: Duration = Duration::from_millis(60);
/// Between two starts of a board.
const START: Duration = Duration::from_secs(5);

/// A line with its port under a name of its own.
pub struct Serial {
    board: File,
    /// The other end is held too: a terminal whose last user goes away is hung up.
    _kept: File,
}

impl Serial {
    /// Makes a line whose port is found at `link`.
    pub fn at(link: &Path) -> io::Result<Self> {
        let board = openpt(OpenptFlags::RDWR | OpenptFlags::NOCTTY)?;
        grantpt(&board)?;
        unlockpt(&board)?;
        let port = ptsname(&board, Vec::new())?;
        let port = Path::new(port.to_str().map_err(io::Error::other)?).to_owned();
        match std::fs::remove_file(link) {
            Err(e) if e.kind() != io::ErrorKind::NotFound => return Err(e),
            _ => symlink(&port, link)?,
        }
        let kept = File::options().read(true).write(true).open(&port)?;
        let mut settings = rustix::termios::tcgetattr(&kept)?;
        settings.make_raw();
        rustix::termios::tcsetattr(&kept, rustix::termios::OptionalActions::Now, &settings)?;
        Ok(Self {
            board: board.into(),
            _kept: kept,
        })
    }

    /// Says a log line by line, over and over, until the process ends.
    pub fn say(mut self, log: &str) -> io::Result<()> {
        loop {
            for line in log.lines() {
                write!(self.board, "{line}\r\n")?;
                std::thread::sleep(LINE);
            }
            std::thread::sleep(START);
        }
    }
}
