//! The page of a board that is on: one address on loopback, HTML for people, `/status` as JSON.

use std::io::{self, BufRead, BufReader, Write};
use std::net::TcpListener;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread;
use std::time::Duration;

use bench::wire::BoardState;

/// A page that is served until it is dropped.
pub struct Page {
    /// Its address.
    pub url: String,
    off: Arc<AtomicBool>,
}

impl Drop for Page {
    fn drop(&mut self) {
        self.off.store(true, Ordering::Relaxed);
    }
}

/// Text as HTML shows it.
fn escape(text: &str) -> String {
    text.replace('&', "&amp;")
        .replace('<', "&lt;")
        .replace('>', "&gt;")
}

impl Page {
    /// Serves the page of a board that has joined a network.
    pub fn serve(board: &BoardState) -> io::Result<Self> {
        let listener = TcpListener::bind("127.0.0.1:0")?;
        listener.set_nonblocking(true)?;
        let url = format!("http://{}/", listener.local_addr()?);
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
        let json = serde_json::to_string(board)?;
        let stop = off.clone();
        thread::spawn(move || {
            while !stop.load(Ordering::Relaxed) {
                let Ok((stream, _)) = listener.accept() else {
                    thread::sleep(Duration::from_millis(30));
                    continue;
                };
                // A visitor who goes away half-way is no matter to the board.
                let _ = answer(stream, &html, &json);
            }
        });
        Ok(Self { url, off })
    }
}

fn answer(mut stream: std::net::TcpStream, html: &str, json: &str) -> io::Result<()> {
    stream.set_nonblocking(false)?;
    stream.set_read_timeout(Some(Duration::from_secs(2)))?;
    let mut first = String::new();
    let mut lines = BufReader::new(stream.try_clone()?);
    lines.read_line(&mut first)?;
    let mut header = String::new();
    while lines.read_line(&mut header)? > 2 {
        header.clear();
    }
    let (status, kind, body) = match first.split(' ').nth(1) {
        Some("/") => ("200 OK", "text/html; charset=utf-8", html),
        Some("/status") => ("200 OK", "application/json", json),
        _ => ("404 Not Found", "text/plain", "no such page\n"),
    };
    write!(
        stream,
        "HTTP/1.1 {status}\r\nContent-Type: {kind}\r\nContent-Length: {}\r\nConnection: close\r\n\r\n{body}",
        body.len()
    )
}
