//! A publisher: an HTTP server with a feed of the releases in a folder, their files with ranges,
//! their sheets, and faults to order. What is ordered lies in a file of the folder, so that it can
//! change while the publisher serves.

use std::collections::BTreeMap;
use std::fs::File;
use std::io::{self, BufRead, BufReader, Read, Seek, SeekFrom, Write};
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};
use std::thread;
use std::time::{Duration, Instant};

use ring::digest::{Context, SHA256};
use serde::{Deserialize, Serialize};
use serde_json::json;

const ORDERS: &str = ".orders.json";

/// How the publisher misbehaves.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub struct Orders {
    /// Cut each answer off after this many bytes of its body.
    pub cut: Option<u64>,
    /// Bytes a second.
    pub rate: Option<u64>,
    /// The feed names wrong checksums.
    pub wrong_checksum: bool,
    /// Ranges are not understood: every answer begins at the start.
    pub no_ranges: bool,
    /// Every answer is an error.
    pub down: bool,
    /// User and password that are wanted.
    pub login: Option<(String, String)>,
}

impl Orders {
    /// Gives the orders to the publisher of a folder.
    pub fn give(&self, dir: &Path) -> io::Result<()> {
        let part = dir.join(".orders.part");
        std::fs::write(&part, serde_json::to_vec(self)?)?;
        std::fs::rename(part, dir.join(ORDERS))
    }

    fn of(dir: &Path) -> Self {
        let text = std::fs::read(dir.join(ORDERS)).unwrap_or_default();
        serde_json::from_slice(&text).unwrap_or_default()
    }
}

/// The publisher of a folder.
pub struct Publisher {
    dir: PathBuf,
    listener: TcpListener,
    /// Digests by name, length and time of change.
    digests: Mutex<BTreeMap<(String, u64, Duration), String>>,
}

/// What a client asks for.
struct Asked {
    path: String,
    from: u64,
    version: Option<String>,
    login: Option<String>,
}

impl Publisher {
    /// Takes the address.
    pub fn bind(dir: &Path, at: SocketAddr) -> io::Result<Self> {
        Ok(Self {
            dir: dir.canonicalize()?,
            listener: TcpListener::bind(at)?,
            digests: Mutex::default(),
        })
    }

    /// Where the feed is.
    pub fn feed(&self) -> io::Result<String> {
        Ok(format!("http://{}/feed.json", self.listener.local_addr()?))
    }

    /// Serves until the process ends.
    pub fn run(self) -> io::Result<()> {
        let this = Arc::new(self);
        for stream in this.listener.incoming() {
            let (this, stream) = (this.clone(), stream?);
            thread::spawn(move || {
                // A client who goes away half-way is no matter to the publisher.
                let _ = this.answer(stream);
            });
        }
        Ok(())
    }

    fn answer(&self, mut stream: TcpStream) -> io::Result<()> {
        stream.set_read_timeout(Some(Duration::from_secs(5)))?;
        let Some(asked) = read_request(&stream)? else {
            return Ok(());
        };
        let orders = Orders::of(&self.dir);
        if orders.down {
            return refuse(&mut stream, "503 Service Unavailable", "");
        }
        if let Some((user, password)) = &orders.login
            && asked.login != Some(format!("{user}:{password}"))
        {
            let more = "WWW-Authenticate: Basic realm=\"releases\"\r\n";
            return refuse(&mut stream, "401 Unauthorized", more);
        }
        if asked.path == "/feed.json" {
            let body = serde_json::to_vec_pretty(&self.document(&orders)?)?;
            return send(
                &mut stream,
                &asked,
                &orders,
                "\"feed\"",
                body.len() as u64,
                &mut &body[..],
            );
        }
        if let Some(to) = asked.path.strip_prefix("/sent-on?to=") {
            return refuse(&mut stream, "302 Found", &format!("Location: {to}\r\n"));
        }
        let name = asked.path.trim_start_matches('/');
        let plain = !name.is_empty() && !name.starts_with('.') && !name.contains(['/', '\\']);
        let Some(mut file) = plain
            .then(|| File::open(self.dir.join(name)).ok())
            .flatten()
        else {
            return refuse(&mut stream, "404 Not Found", "");
        };
        let meta = file.metadata()?;
        let changed = meta
            .modified()?
            .duration_since(std::time::UNIX_EPOCH)
            .unwrap_or_default();
        let version = format!("\"{}-{}\"", meta.len(), changed.as_nanos());
        let resumes = asked.from > 0
            && asked.from < meta.len()
            && !orders.no_ranges
            && asked.version.as_ref().is_none_or(|held| *held == version);
        let asked = Asked {
            from: if resumes { asked.from } else { 0 },
            ..asked
        };
        file.seek(SeekFrom::Start(asked.from))?;
        send(
            &mut stream,
            &asked,
            &orders,
            &version,
            meta.len(),
            &mut file,
        )
    }

    /// The feed: a release for each sheet with an image beside it.
    fn document(&self, orders: &Orders) -> io::Result<serde_json::Value> {
        let mut names: Vec<_> = std::fs::read_dir(&self.dir)?
            .flatten()
            .filter_map(|entry| entry.file_name().into_string().ok())
            .filter(|name| !name.starts_with('.'))
            .collect();
        names.sort();
        let mut releases = Vec::new();
        for sheet in names.iter().filter(|name| name.ends_with(".toml")) {
            let stem = sheet.trim_end_matches(".toml");
            let begins = format!("{stem}.");
            let Some(file) = names
                .iter()
                .find(|name| name.starts_with(&begins) && *name != sheet)
            else {
                continue;
            };
            let text = std::fs::read_to_string(self.dir.join(sheet))?;
            let table: toml::Table = text.parse().map_err(io::Error::other)?;
            let mut digest = self.digest(file)?;
            if orders.wrong_checksum {
                let wrong = if digest.starts_with('0') { "1" } else { "0" };
                digest.replace_range(..1, wrong);
            }
            releases.push(json!({
                "id": stem,
                "appliance": table.get("appliance"),
                "variant": table.get("variant"),
                "version": table.get("version"),
                "date": table.get("date"),
                "notes": table.get("notes"),
                "file": file,
                "sheet": sheet,
                "size": self.dir.join(file).metadata()?.len(),
                "sha256": digest,
            }));
        }
        Ok(json!({ "duplicarium_feed": 1, "title": "Saltmarsh Commons", "releases": releases }))
    }

    fn digest(&self, name: &str) -> io::Result<String> {
        let path = self.dir.join(name);
        let meta = path.metadata()?;
        let changed = meta
            .modified()?
            .duration_since(std::time::UNIX_EPOCH)
            .unwrap_or_default();
        let key = (name.to_owned(), meta.len(), changed);
        let known = |digests: &BTreeMap<_, String>| digests.get(&key).cloned();
        if let Some(digest) = known(&self.digests.lock().unwrap_or_else(|e| e.into_inner())) {
            return Ok(digest);
        }
        let mut context = Context::new(&SHA256);
        let mut file = File::open(path)?;
        let mut piece = vec![0; 1 << 18];
        loop {
            match file.read(&mut piece)? {
                0 => break,
                read => context.update(&piece[..read]),
            }
        }
        let digest: String = context
            .finish()
            .as_ref()
            .iter()
            .map(|byte| format!("{byte:02x}"))
            .collect();
        self.digests
            .lock()
            .unwrap_or_else(|e| e.into_inner())
            .insert(key, digest.clone());
        Ok(digest)
    }
}

fn read_request(stream: &TcpStream) -> io::Result<Option<Asked>> {
    let mut lines = BufReader::new(stream);
    let mut first = String::new();
    lines.read_line(&mut first)?;
    let Some(path) = first.split(' ').nth(1) else {
        return Ok(None);
    };
    let mut asked = Asked {
        path: path.into(),
        from: 0,
        version: None,
        login: None,
    };
    let mut header = String::new();
    while lines.read_line(&mut header)? > 2 {
        if let Some((name, value)) = header.split_once(':') {
            let value = value.trim();
            match name.to_ascii_lowercase().as_str() {
                "range" => {
                    let range = value
                        .strip_prefix("bytes=")
                        .and_then(|range| range.strip_suffix('-'));
                    asked.from = range.and_then(|from| from.parse().ok()).unwrap_or(0);
                }
                "if-range" => asked.version = Some(value.into()),
                "authorization" => asked.login = value.strip_prefix("Basic ").and_then(from_base64),
                _ => {}
            }
        }
        header.clear();
    }
    Ok(Some(asked))
}

/// RFC 4648, for the login alone.
fn from_base64(text: &str) -> Option<String> {
    const LETTERS: &[u8] = b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
    let (mut held, mut bits, mut bytes) = (0_u32, 0, Vec::new());
    for letter in text.bytes().filter(|letter| *letter != b'=') {
        let value = LETTERS.iter().position(|known| *known == letter)? as u32;
        held = held << 6 | value;
        bits += 6;
        if bits >= 8 {
            bits -= 8;
            bytes.push((held >> bits) as u8);
        }
    }
    String::from_utf8(bytes).ok()
}

fn refuse(stream: &mut TcpStream, status: &str, more: &str) -> io::Result<()> {
    write!(
        stream,
        "HTTP/1.1 {status}\r\n{more}Content-Length: 0\r\nConnection: close\r\n\r\n"
    )
}

/// Sends a body of `len` bytes from `asked.from` on, as badly as ordered.
fn send(
    stream: &mut TcpStream,
    asked: &Asked,
    orders: &Orders,
    version: &str,
    len: u64,
    body: &mut dyn Read,
) -> io::Result<()> {
    let rest = len - asked.from;
    let status = match asked.from {
        0 => "200 OK".to_owned(),
        from => format!(
            "206 Partial Content\r\nContent-Range: bytes {from}-{}/{len}",
            len - 1
        ),
    };
    write!(
        stream,
        "HTTP/1.1 {status}\r\nContent-Length: {rest}\r\nAccept-Ranges: bytes\r\nETag: {version}\r\nConnection: close\r\n\r\n"
    )?;
    let mut left = orders.cut.map_or(rest, |cut| cut.min(rest));
    let began = Instant::now();
    let (mut sent, mut piece) = (0, vec![0; 64 * 1024]);
    while left > 0 {
        let take = (piece.len() as u64).min(left) as usize;
        let read = body.read(&mut piece[..take])?;
        if read == 0 {
            break;
        }
        stream.write_all(&piece[..read])?;
        left -= read as u64;
        sent += read as u64;
        if let Some(rate) = orders.rate {
            let due = Duration::from_secs_f64(sent as f64 / rate.max(1) as f64);
            thread::sleep(due.saturating_sub(began.elapsed()));
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::from_base64;

    #[test]
    fn a_login_is_read() {
        assert_eq!(
            from_base64("bWFyaXQ6c2VjcmV0").as_deref(),
            Some("marit:secret")
        );
        assert_eq!(from_base64("YQ==").as_deref(), Some("a"));
        assert_eq!(from_base64("?"), None);
    }
}
