//! Serial lines, played by pseudo-terminals of the kernel.

use std::fs::File;
use std::io::Write;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use arrival::serial::{Heard, Line, SerialError};
use rustix::pty::{OpenptFlags, grantpt, openpt, ptsname, unlockpt};

/// The board's end of a line, and the path of ours.
fn pair() -> (File, PathBuf) {
    let board = openpt(OpenptFlags::RDWR | OpenptFlags::NOCTTY).unwrap();
    grantpt(&board).unwrap();
    unlockpt(&board).unwrap();
    let path = ptsname(&board, Vec::new()).unwrap();
    (board.into(), PathBuf::from(path.to_str().unwrap()))
}

fn until(what: &str, holds: impl Fn() -> bool) {
    let begun = Instant::now();
    while !holds() {
        assert!(begun.elapsed() < Duration::from_secs(10), "{what}: never");
        std::thread::sleep(Duration::from_millis(20));
    }
}

#[test]
fn what_a_board_says_is_heard_as_it_says_it() {
    let (mut board, path) = pair();
    let line = Line::open(&path, 115_200).unwrap();
    let taken = Line::open(&path, 115_200).unwrap_err();
    assert!(matches!(taken, SerialError::Taken(_)), "{taken}");
    let (heard, stop) = (Arc::new(Heard::default()), Arc::new(AtomicBool::new(false)));
    let listening = std::thread::spawn({
        let (heard, stop) = (heard.clone(), stop.clone());
        move || line.listen(&heard, &stop)
    });
    // Raw: no byte is taken for a command of a terminal.
    board
        .write_all(b"boot 1\x03\x04\x13 goes on\r\n\xff\n")
        .unwrap();
    until("it is heard", || {
        heard.text().ends_with("goes on\n\u{fffd}\n")
    });
    stop.store(true, Ordering::Relaxed);
    listening.join().unwrap().unwrap();
    assert!(Line::open(&path, 9600).is_ok(), "it is free again");
}

#[test]
fn a_line_that_goes_away_or_is_none_is_said_in_words() {
    let (board, path) = pair();
    let line = Line::open(&path, 9600).unwrap();
    let (heard, stop) = (Heard::default(), AtomicBool::new(false));
    let pulled = std::thread::spawn(move || {
        std::thread::sleep(Duration::from_millis(300));
        drop(board);
    });
    let why = line.listen(&heard, &stop).unwrap_err();
    assert!(why.to_string().contains("plug the adapter in"), "{why}");
    pulled.join().unwrap();
    let folder = tempfile::tempdir().unwrap();
    let none = Line::open(&folder.path().join("none"), 9600).unwrap_err();
    assert!(matches!(none, SerialError::Missing(_)), "{none}");
    let file = folder.path().join("file");
    std::fs::write(&file, "text").unwrap();
    let why = Line::open(&file, 9600).unwrap_err();
    assert!(why.to_string().contains("as a serial line"), "{why}");
}
