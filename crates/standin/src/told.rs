//! Those who are told: a mailbox behind an SMTP server (RFC 5321), and a program behind an address that is called. What
//! they get lies in a folder, a file each, in the order in which it came.

use std::fs;
use std::io::{self, BufRead, BufReader, Read, Write};
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::Duration;

/// Longest message or body, in bytes.
const MOST: usize = 4 << 20;
/// How long the other side may say nothing.
const PATIENCE: Duration = Duration::from_secs(60);

/// Which of the two it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Ear {
    /// A mailbox.
    Mailbox,
    /// A program that is called.
    Program,
}

/// Somebody who is told.
pub struct Told {
    ear: Ear,
    listener: TcpListener,
    dir: PathBuf,
    /// How many messages are still turned away.
    refuse: AtomicU32,
    next: AtomicU32,
}

impl Told {
    /// Listens at an address; the first `refuse` messages are turned away for now.
    ///
    /// # Errors
    /// What the system says.
    pub fn bind(ear: Ear, dir: &Path, listen: SocketAddr, refuse: u32) -> io::Result<Self> {
        fs::create_dir_all(dir)?;
        Ok(Self {
            ear,
            listener: TcpListener::bind(listen)?,
            dir: dir.into(),
            refuse: AtomicU32::new(refuse),
            next: AtomicU32::new(1),
        })
    }

    /// Listens for ever.
    ///
    /// # Errors
    /// What the system says.
    pub fn run(&self) -> io::Result<()> {
        std::thread::scope(|scope| {
            for stream in self.listener.incoming() {
                let stream = stream?;
                scope.spawn(move || {
                    let _ = stream.set_read_timeout(Some(PATIENCE));
                    // What goes wrong with one of them is its client's affair.
                    let _ = match self.ear {
                        Ear::Mailbox => self.mail(stream),
                        Ear::Program => self.called(stream),
                    };
                });
            }
            Ok(())
        })
    }

    fn turns_away(&self) -> bool {
        let left = self
            .refuse
            .fetch_update(Ordering::SeqCst, Ordering::SeqCst, |left| {
                left.checked_sub(1)
            });
        left.is_ok()
    }

    fn keep(&self, kind: &str, bytes: &[u8]) -> io::Result<()> {
        let number = self.next.fetch_add(1, Ordering::SeqCst);
        let part = self.dir.join(format!(".{number:04}.part"));
        fs::write(&part, bytes)?;
        fs::rename(part, self.dir.join(format!("{number:04}.{kind}")))
    }

    fn mail(&self, mut stream: TcpStream) -> io::Result<()> {
        let mut lines = BufReader::new(stream.try_clone()?);
        let mut say = |text: &str| write!(stream, "{text}\r\n");
        say("220 stand-in mailbox")?;
        loop {
            let mut line = String::new();
            if (&mut lines).take(2048).read_line(&mut line)? == 0 {
                return Ok(());
            }
            let word = line
                .split_whitespace()
                .next()
                .unwrap_or_default()
                .to_uppercase();
            match word.as_str() {
                "EHLO" | "HELO" => say("250 stand-in")?,
                "MAIL" if self.turns_away() => say("451 try again later")?,
                "MAIL" | "RCPT" | "RSET" | "NOOP" => say("250 fine")?,
                "DATA" => {
                    say("354 go on")?;
                    let mut message = Vec::new();
                    loop {
                        let mut line = Vec::new();
                        if (&mut lines).take(1 << 16).read_until(b'\n', &mut line)? == 0 {
                            return Ok(());
                        }
                        if line == b".\r\n" {
                            break;
                        }
                        let stuffed = line.starts_with(b"..");
                        message.extend(&line[usize::from(stuffed)..]);
                        if message.len() > MOST {
                            return say("552 too long");
                        }
                    }
                    self.keep("eml", &message)?;
                    say("250 kept")?;
                }
                "QUIT" => return say("221 bye"),
                _ => say("502 that is not known here")?,
            }
        }
    }

    fn called(&self, mut stream: TcpStream) -> io::Result<()> {
        let mut lines = BufReader::new(stream.try_clone()?);
        let (mut head, mut len) = (String::new(), 0);
        loop {
            let mut line = String::new();
            if (&mut lines).take(8192).read_line(&mut line)? == 0 || head.len() > 64 << 10 {
                return Ok(());
            }
            if line.trim_end().is_empty() {
                break;
            }
            if let Some((name, value)) = line.split_once(':')
                && name.eq_ignore_ascii_case("content-length")
            {
                len = value.trim().parse().unwrap_or(0);
            }
            head += &line;
        }
        let mut body = vec![0; len.min(MOST)];
        lines.read_exact(&mut body)?;
        let answer = match self.turns_away() {
            true => "503 Service Unavailable",
            false => {
                self.keep("call", &[head.as_bytes(), b"\r\n", &body].concat())?;
                "204 No Content"
            }
        };
        write!(
            stream,
            "HTTP/1.1 {answer}\r\nContent-Length: 0\r\nConnection: close\r\n\r\n"
        )
    }
}
