//! What a board that is on serves on loopback: its page for people, `/status` and `/stamp.json` for programs, a
//! login; the same with TLS; and the key of its SSH server.

use std::collections::BTreeMap;
use std::io::{self, BufRead, BufReader, Read, Write};
use std::net::{TcpListener, TcpStream};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};
use std::thread;
use std::time::{Duration, SystemTime};

use bench::wire::{BoardKind, BoardState, PageFault};
use rustls::pki_types::{CertificateDer, PrivateKeyDer};

use crate::ssh::Ssh;

/// Everything that is served until it is dropped.
pub struct Page {
    /// Address of the page.
    pub url: String,
    /// Where each of its ports is.
    pub ports: BTreeMap<u16, u16>,
    site: Arc<Site>,
    off: Arc<AtomicBool>,
}

impl Drop for Page {
    fn drop(&mut self) {
        self.off.store(true, Ordering::Relaxed);
    }
}

/// What the pages of a board say.
struct Site {
    html: String,
    status: String,
    /// The stamp of the card, as it lies there.
    stamp: Option<String>,
    /// What opens its login.
    login: Option<String>,
    /// What it exports of itself: somebody tunes it, or gives it back.
    settings: Mutex<String>,
    /// How its clock goes, and what is wrong with its pages.
    kind: BoardKind,
    /// What it was given on its own network.
    set_up: Mutex<Option<BTreeMap<String, String>>>,
}

/// Text as HTML shows it.
fn escape(text: &str) -> String {
    text.replace('&', "&amp;")
        .replace('<', "&lt;")
        .replace('>', "&gt;")
}

/// A listener that is asked until the board is off.
fn listen(
    off: &Arc<AtomicBool>,
    answer: impl Fn(TcpStream) -> io::Result<()> + Send + Sync + 'static,
) -> io::Result<u16> {
    let listener = TcpListener::bind("127.0.0.1:0")?;
    listener.set_nonblocking(true)?;
    let (port, off) = (listener.local_addr()?.port(), off.clone());
    let answer = Arc::new(answer);
    thread::spawn(move || {
        while !off.load(Ordering::Relaxed) {
            let Ok((stream, _)) = listener.accept() else {
                thread::sleep(Duration::from_millis(20));
                continue;
            };
            let answer = answer.clone();
            thread::spawn(move || {
                // A visitor who goes away half-way is no matter to the board.
                let ready = stream.set_nonblocking(false);
                ready.and_then(|()| stream.set_read_timeout(Some(Duration::from_secs(2))))?;
                answer(stream)
            });
        }
    });
    Ok(port)
}

impl Page {
    /// Serves what a board that has joined a network has to say; `secret` is what its keys are made of.
    pub fn serve(
        board: &BoardState,
        stamp: Option<String>,
        login: Option<String>,
        secret: &[u8; 32],
        kind: &BoardKind,
    ) -> io::Result<Self> {
        let off = Arc::new(AtomicBool::new(false));
        let line = |value: &Option<String>| escape(value.as_deref().unwrap_or("unknown"));
        let html = format!(
            "<!doctype html><meta charset=utf-8><title>{0}</title><h1>{0}</h1><p>{1} on {2}</p>\
             <p>Status: connected to {3}</p>",
            line(&board.host_name),
            line(&board.appliance),
            escape(&board.model),
            line(&board.joined)
        );
        let site = Arc::new(Site {
            html,
            status: serde_json::to_string(board)?,
            stamp,
            login,
            settings: Mutex::new(
                serde_json::json!({"host_name": board.host_name, "tuned": {}}).to_string(),
            ),
            kind: kind.clone(),
            set_up: Mutex::default(),
        });
        let kept = site.clone();
        let plain = {
            let site = site.clone();
            listen(&off, move |stream| answer(stream, &site))?
        };
        let tls = tls(board.host_name.as_deref().unwrap_or("board"))?;
        let with_tls = listen(&off, move |stream| {
            let session = rustls::ServerConnection::new(tls.clone()).map_err(io::Error::other)?;
            answer(rustls::StreamOwned::new(session, stream), &site)
        })?;
        let ssh = Ssh::new(secret)?;
        let ssh = listen(&off, move |stream| ssh.answer(stream))?;
        Ok(Self {
            url: format!("http://127.0.0.1:{plain}/"),
            ports: [(80, plain), (443, with_tls), (22, ssh)].into(),
            site: kept,
            off,
        })
    }

    /// What it was given on its own network.
    pub fn set_up(&self) -> Option<BTreeMap<String, String>> {
        self.site
            .set_up
            .lock()
            .unwrap_or_else(|e| e.into_inner())
            .clone()
    }
}

/// A certificate of its own, as boards make themselves one.
fn tls(name: &str) -> io::Result<Arc<rustls::ServerConfig>> {
    let made = rcgen::generate_simple_self_signed(vec![name.into()]).map_err(io::Error::other)?;
    let key =
        PrivateKeyDer::try_from(made.signing_key.serialize_der()).map_err(io::Error::other)?;
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let config = rustls::ServerConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .and_then(|config| {
            config
                .with_no_client_auth()
                .with_single_cert(vec![CertificateDer::from(made.cert)], key)
        });
    Ok(Arc::new(config.map_err(io::Error::other)?))
}

/// A form as browsers send it.
fn form(text: &str) -> BTreeMap<String, String> {
    let plain = |text: &str| {
        let (mut bytes, mut rest) = (Vec::new(), text.as_bytes());
        while let Some((first, behind)) = rest.split_first() {
            let code = behind
                .get(..2)
                .and_then(|two| std::str::from_utf8(two).ok());
            match (first, code.and_then(|two| u8::from_str_radix(two, 16).ok())) {
                (b'%', Some(byte)) => {
                    bytes.push(byte);
                    rest = &behind[2..];
                }
                (b'+', _) => {
                    bytes.push(b' ');
                    rest = behind;
                }
                _ => {
                    bytes.push(*first);
                    rest = behind;
                }
            }
        }
        String::from_utf8_lossy(&bytes).into_owned()
    };
    let pairs = text.split('&').filter_map(|pair| pair.split_once('='));
    pairs
        .map(|(key, value)| (plain(key), plain(value)))
        .collect()
}

fn answer(mut stream: impl Read + Write, site: &Site) -> io::Result<()> {
    let (mut first, mut login, mut given) = (String::new(), None, Vec::new());
    {
        let mut lines = BufReader::new(&mut stream);
        lines.read_line(&mut first)?;
        let (mut header, mut len) = (String::new(), 0);
        while lines.read_line(&mut header)? > 2 {
            match header.split_once(':') {
                Some((name, value)) if name.eq_ignore_ascii_case("authorization") => {
                    login = Some(value.trim().to_owned());
                }
                Some((name, value)) if name.eq_ignore_ascii_case("content-length") => {
                    len = value.trim().parse().unwrap_or(0).min(1 << 20);
                }
                _ => {}
            }
            header.clear();
        }
        given.resize(len, 0);
        lines.read_exact(&mut given)?;
    }
    let settings = || site.settings.lock().unwrap_or_else(|e| e.into_inner());
    let fault = site.kind.pages;
    let exported;
    let missing = ("404 Not Found", "text/plain", "no such page\n");
    let (status, kind, body) = match first.split(' ').nth(1) {
        Some("/" | "/levels" | "/book") => ("200 OK", "text/html; charset=utf-8", &*site.html),
        Some("/status") => ("200 OK", "application/json", &*site.status),
        Some("/setup") if first.starts_with("POST") => {
            let text = String::from_utf8_lossy(&given).into_owned();
            *site.set_up.lock().unwrap_or_else(|e| e.into_inner()) = Some(form(&text));
            ("200 OK", "text/plain", "thank you, leaving\n")
        }
        Some("/settings.json") if first.starts_with("POST") => match String::from_utf8(given) {
            Ok(text) => {
                *settings() = text;
                ("200 OK", "text/plain", "taken over\n")
            }
            Err(_) => ("400 Bad Request", "text/plain", "no text\n"),
        },
        Some("/settings.json") => {
            exported = settings().clone();
            ("200 OK", "application/json", &*exported)
        }
        Some("/stamp.json") => match &site.stamp {
            Some(stamp) => ("200 OK", "application/json", &**stamp),
            None => missing,
        },
        Some("/login") => match (login, &site.login) {
            (None, _) if fault == Some(PageFault::NoPassword) => {
                ("200 OK", "text/plain", "welcome\n")
            }
            (Some(_), _) if fault == Some(PageFault::AnyPassword) => {
                ("200 OK", "text/plain", "welcome\n")
            }
            (Some(given), Some(open)) if given == *open => ("200 OK", "text/plain", "welcome\n"),
            _ => ("401 Unauthorized", "text/plain", "who is it?\n"),
        },
        _ => missing,
    };
    if fault == Some(PageFault::SendsOn) {
        write!(
            stream,
            "HTTP/1.1 302 Found\r\nLocation: http://elsewhere.test/\r\nContent-Length: 0\r\nConnection: close\r\n\r\n"
        )?;
        return stream.flush();
    }
    let now = SystemTime::now();
    let ahead = site.kind.clock_ahead;
    let off = Duration::from_secs(ahead.unsigned_abs());
    let clock = match ahead < 0 {
        true => now.checked_sub(off),
        false => now.checked_add(off),
    };
    let date = httpdate::fmt_http_date(clock.unwrap_or(SystemTime::UNIX_EPOCH));
    let len = body.len();
    let body = match fault {
        Some(PageFault::Cut) => &body[..len / 2],
        _ => body,
    };
    write!(
        stream,
        "HTTP/1.1 {status}\r\nDate: {date}\r\nContent-Type: {kind}\r\nContent-Length: {}\r\nConnection: close\r\n\r\n{body}",
        len
    )?;
    stream.flush()
}
