//! A bench on another computer: a worker with a reader of its own, and a line to the service that can be cut.

use std::io::{Read, Write};
use std::net::{Shutdown, TcpListener, TcpStream};
use std::path::PathBuf;
use std::process::{Child, Command, Stdio};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex};
use std::thread;
use std::time::{Duration, Instant};

use rustix::process::{Pid, Signal, kill_process};

use crate::{Drawer, Said, Testbed, binary, path, workspace};

/// What stands between a bench and its service.
pub struct Line {
    port: u16,
    state: Arc<LineState>,
}

#[derive(Default)]
struct LineState {
    /// Where it leads.
    service: Mutex<String>,
    blocked: AtomicBool,
    /// Bytes a second in each direction; 0 for no limit.
    rate: AtomicU64,
    down: AtomicU64,
    up: AtomicU64,
    open: Mutex<Vec<TcpStream>>,
}

impl Line {
    fn to(service: String) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").expect("loopback has free ports");
        let port = listener.local_addr().expect("it has an address").port();
        let state = Arc::new(LineState::default());
        *state.service.lock().expect("nobody panicked") = service;
        let taking = state.clone();
        thread::spawn(move || {
            for bench in listener.incoming().flatten() {
                if taking.blocked.load(Ordering::SeqCst) {
                    continue;
                }
                let service = taking.service.lock().expect("nobody panicked").clone();
                let Ok(server) = TcpStream::connect(&service) else {
                    continue;
                };
                let both = [bench, server];
                for stream in &both {
                    // What is small is not held back, as at both real ends.
                    let _ = stream.set_nodelay(true);
                }
                let copies = both
                    .iter()
                    .chain(&both)
                    .map(|stream| stream.try_clone().expect("a stream is shared"));
                let copies: Vec<_> = copies.collect();
                let [one, two, three, four] =
                    <[TcpStream; 4]>::try_from(copies).expect("there are four");
                taking.open.lock().expect("nobody panicked").extend(both);
                let (up, down) = (taking.clone(), taking.clone());
                thread::spawn(move || carry(one, two, &up.rate, &up.up));
                thread::spawn(move || carry(four, three, &down.rate, &down.down));
            }
        });
        Self { port, state }
    }

    /// Cuts what is connected; the next call gets through.
    pub fn cut(&self) {
        for stream in self.state.open.lock().expect("nobody panicked").drain(..) {
            let _ = stream.shutdown(Shutdown::Both);
        }
    }

    /// Leads to another service from now on, as an address before several does; what is connected is cut.
    pub fn lead_to(&self, bed: &Testbed) {
        *self.state.service.lock().expect("nobody panicked") = bed.url().replace("http://", "");
        self.cut();
    }

    /// Cuts, and lets nobody through, or does again.
    pub fn block(&self, blocked: bool) {
        self.state.blocked.store(blocked, Ordering::SeqCst);
        if blocked {
            self.cut();
        }
    }

    /// Limits both directions to so many bytes a second.
    pub fn limit(&self, rate: u64) {
        self.state.rate.store(rate, Ordering::SeqCst);
    }

    /// Bytes that went from the service to the bench.
    pub fn down(&self) -> u64 {
        self.state.down.load(Ordering::SeqCst)
    }

    /// Bytes that went from the bench to the service.
    pub fn up(&self) -> u64 {
        self.state.up.load(Ordering::SeqCst)
    }
}

fn carry(mut from: TcpStream, mut to: TcpStream, rate: &AtomicU64, count: &AtomicU64) {
    let mut piece = vec![0; 32 << 10];
    let mut ready = Instant::now();
    while let Ok(len @ 1..) = from.read(&mut piece) {
        let rate = rate.load(Ordering::SeqCst);
        if rate > 0 {
            ready = ready.max(Instant::now()) + Duration::from_secs_f64(len as f64 / rate as f64);
            thread::sleep(ready.saturating_duration_since(Instant::now()));
        }
        if to.write_all(&piece[..len]).is_err() {
            break;
        }
        count.fetch_add(len as u64, Ordering::SeqCst);
    }
    let _ = from.shutdown(Shutdown::Both);
    let _ = to.shutdown(Shutdown::Both);
}

/// A bench on another computer, as far as one computer can play two.
pub struct FarBench {
    /// Its name.
    pub name: String,
    /// Its reader.
    pub drawer: Drawer,
    /// How it reaches the service.
    pub line: Line,
    dir: PathBuf,
    worker: Option<Child>,
}

impl FarBench {
    /// Enrols and starts one, and waits until it is connected.
    pub fn start(bed: &Testbed, name: &str) -> Self {
        let code = bed.json(&["bench", "add", name])["code"]
            .as_str()
            .expect("a code")
            .to_owned();
        let dir = bed.dir().join(format!("bench-{name}"));
        let drawer = Drawer::start(&dir.join("standin"), 2);
        drawer.order(&["air", path(&workspace().join("demo/air.json"))]);
        let line = Line::to(bed.url().replace("http://", ""));
        let mut bench = Self {
            name: name.into(),
            drawer,
            line,
            dir,
            worker: None,
        };
        let said = bench.enrol(&code);
        assert_eq!(said.code, 0, "{said:?}");
        bench.run();
        bench.until_it_is(bed, "connected");
        bench
    }

    /// Enrols its computer with a code.
    pub fn enrol(&self, code: &str) -> Said {
        let mut command = self.command();
        let service = format!("http://127.0.0.1:{}", self.line.port);
        command.args(["enrol", "--service", &service, "--code", code]);
        command.output().expect("duplicarium-bench runs").into()
    }

    fn command(&self) -> Command {
        let mut command = Command::new(binary("duplicarium-bench"));
        command.arg("--data-dir").arg(self.dir.join("worker"));
        command.stdin(Stdio::null());
        command
    }

    /// What its worker said.
    pub fn log(&self) -> String {
        std::fs::read_to_string(self.dir.join("worker.log")).unwrap_or_default()
    }

    /// The folder of its worker.
    pub fn worker_dir(&self) -> PathBuf {
        self.dir.join("worker")
    }

    /// Starts its worker.
    pub fn run(&mut self) {
        let log = std::fs::File::options()
            .create(true)
            .append(true)
            .open(self.dir.join("worker.log"))
            .expect("the log can be made");
        let mut command = self.command();
        command.args(["run", "--standin", &self.drawer.address()]);
        self.worker = Some(
            command
                .stderr(log)
                .spawn()
                .expect("duplicarium-bench starts"),
        );
    }

    /// Ends its worker as a loss of power does, or as somebody who stops it.
    pub fn end(&mut self, signal: Signal) {
        if let Some(mut worker) = self.worker.take() {
            if let Some(pid) = i32::try_from(worker.id()).ok().and_then(Pid::from_raw) {
                let _ = kill_process(pid, signal);
            }
            let _ = worker.wait();
        }
    }

    /// Waits until the service says so of it.
    pub fn until_it_is(&self, bed: &Testbed, state: &str) {
        let begun = Instant::now();
        loop {
            let all = bed.json(&["bench", "list"]);
            let all = all.as_array().expect("a list");
            let is = |one: &&serde_json::Value| one["name"] == *self.name && one["state"] == *state;
            if let Some(one) = all.iter().find(is)
                && (state != "connected" || one["slots"].as_u64() > Some(0))
            {
                return;
            }
            assert!(
                begun.elapsed() < Duration::from_secs(60),
                "bench {} is not {state}: {all:?}\n{}",
                self.name,
                self.log()
            );
            thread::sleep(Duration::from_millis(100));
        }
    }

    /// Waits until the service knows no such bench.
    pub fn until_gone(&self, bed: &Testbed) {
        let begun = Instant::now();
        while bed
            .json(&["bench", "list"])
            .to_string()
            .contains(&self.name)
        {
            assert!(
                begun.elapsed() < Duration::from_secs(20),
                "bench {} stays",
                self.name
            );
            thread::sleep(Duration::from_millis(100));
        }
    }

    /// One of its slots, as it is typed.
    pub fn slot(&self, number: u32) -> String {
        format!("{}:{number}", self.name)
    }
}

/// Benches that nobody works at: workers without readers, which call and stay.
pub struct IdleBenches {
    workers: Vec<Child>,
}

impl IdleBenches {
    /// Enrols and starts so many, and waits until all are connected.
    pub fn start(bed: &Testbed, number: usize) -> Self {
        let mut workers = Vec::new();
        for place in 0..number {
            let name = format!("idle-{place}");
            let code = bed.json(&["bench", "add", &name])["code"].clone();
            let dir = bed.dir().join(&name);
            let run = |words: &[&str]| {
                let mut command = Command::new(binary("duplicarium-bench"));
                command
                    .arg("--data-dir")
                    .arg(&dir)
                    .args(words)
                    .stdin(Stdio::null())
                    .stdout(Stdio::null())
                    .stderr(Stdio::null());
                command
            };
            let code = code.as_str().expect("a code");
            let enrolled = run(&["enrol", "--service", &bed.url(), "--code", code]).status();
            assert!(enrolled.expect("duplicarium-bench runs").success());
            workers.push(run(&["run"]).spawn().expect("duplicarium-bench starts"));
        }
        let idle = Self { workers };
        let begun = Instant::now();
        loop {
            let all = bed.json(&["bench", "list"]);
            let all = all.as_array().expect("a list").iter();
            let connected = all.filter(|one| {
                let name = one["name"].as_str().unwrap_or_default();
                name.starts_with("idle-") && one["state"] == "connected"
            });
            if connected.count() == number {
                return idle;
            }
            assert!(
                begun.elapsed() < Duration::from_secs(120),
                "not all benches come"
            );
            thread::sleep(Duration::from_millis(300));
        }
    }
}

impl Drop for IdleBenches {
    fn drop(&mut self) {
        for worker in &mut self.workers {
            let _ = worker.kill();
            let _ = worker.wait();
        }
    }
}

impl Drop for FarBench {
    fn drop(&mut self) {
        self.end(Signal::KILL);
        self.line.block(true);
        if thread::panicking() {
            eprintln!("log of bench {}:\n{}", self.name, self.log());
        }
    }
}
