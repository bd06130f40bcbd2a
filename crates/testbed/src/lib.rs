//! Starts the real thing for tests, figures and pictures: the service with its own PostgreSQL,
//! the stand-in card reader, the command line, and a headless browser.

mod browser;
mod drawer;
mod far;
pub mod hands;
pub mod lines;
pub mod loop_device;
pub mod model;
mod services;

use std::net::TcpListener;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};
use std::time::{Duration, Instant};

use api::Client;
use rustix::process::{Pid, Signal, kill_process};

pub use browser::Browser;
pub use drawer::Drawer;
pub use far::{FarBench, IdleBenches, Line};
pub use services::Services;

/// The workspace's folder.
pub fn workspace() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR"))
        .join("../..")
        .canonicalize()
        .expect("the workspace is there")
}

/// A binary of the workspace, beside the one that runs now.
pub fn binary(name: &str) -> PathBuf {
    let own = std::env::current_exe().expect("this program has a path");
    let found = own
        .ancestors()
        .map(|dir| dir.join(name))
        .find(|path| path.is_file());
    found.unwrap_or_else(|| {
        panic!("{name} is not built; run `cargo build --workspace --bins` first")
    })
}

/// A demo image by its file name.
pub fn demo_image(name: &str) -> PathBuf {
    let path = workspace().join("demo/images").join(name);
    assert!(
        path.is_file(),
        "{} is not there; run `make demo/images/.made` first",
        path.display()
    );
    path
}

/// A demo sheet by its file name.
pub fn demo_sheet(name: &str) -> PathBuf {
    workspace().join("demo/sheets").join(name)
}

/// All rows of a list that is given in pages; `ask` gets where to go on.
pub async fn every<T>(
    mut ask: impl AsyncFnMut(Option<String>) -> Result<api::Page<T>, api::ClientError>,
) -> Result<Vec<T>, api::ClientError> {
    let (mut rows, mut after) = (Vec::new(), None);
    loop {
        let page = ask(after).await?;
        rows.extend(page.items);
        if page.next.is_none() {
            return Ok(rows);
        }
        after = page.next;
    }
}

/// A port on loopback that nobody listens at.
pub fn free_port() -> u16 {
    let listener = TcpListener::bind("127.0.0.1:0").expect("loopback has free ports");
    listener.local_addr().expect("it has an address").port()
}

/// The body of what an address on loopback answers.
pub fn fetch(url: &str) -> String {
    use std::io::{Read, Write};
    let rest = url.strip_prefix("http://").expect("plain HTTP");
    let (address, path) = rest.split_once('/').unwrap_or((rest, ""));
    let mut stream = std::net::TcpStream::connect(address).unwrap_or_else(|e| panic!("{url}: {e}"));
    write!(
        stream,
        "GET /{path} HTTP/1.1\r\nHost: {address}\r\nConnection: close\r\n\r\n"
    )
    .expect("it listens");
    let mut answer = String::new();
    stream
        .read_to_string(&mut answer)
        .expect("it answers in text");
    let (head, body) = answer.split_once("\r\n\r\n").unwrap_or_default();
    assert!(head.contains(" 200 "), "{url}: {head}");
    body.to_owned()
}

/// What a command said.
#[derive(Debug)]
pub struct Said {
    /// Exit code.
    pub code: i32,
    /// Standard output.
    pub out: String,
    /// Standard error.
    pub err: String,
}

impl From<Output> for Said {
    fn from(output: Output) -> Self {
        Self {
            code: output.status.code().unwrap_or(-1),
            out: String::from_utf8_lossy(&output.stdout).into_owned(),
            err: String::from_utf8_lossy(&output.stderr).into_owned(),
        }
    }
}

/// A stand-in publisher of a folder, gone when this is dropped.
pub struct Publisher {
    dir: PathBuf,
    port: u16,
    child: Child,
}

impl Publisher {
    /// Publishes what lies in the folder.
    pub fn start(dir: &Path) -> Self {
        let port = free_port();
        let child = Command::new(binary("duplicarium-standin"))
            .args(["publish", "--listen", &format!("127.0.0.1:{port}"), "--dir"])
            .arg(dir)
            .stdout(Stdio::null())
            .spawn()
            .expect("the publisher starts");
        let begun = Instant::now();
        while std::net::TcpStream::connect(("127.0.0.1", port)).is_err() {
            assert!(
                begun.elapsed() < Duration::from_secs(20),
                "the publisher does not listen"
            );
            std::thread::sleep(Duration::from_millis(30));
        }
        Self {
            dir: dir.into(),
            port,
            child,
        }
    }

    /// The address of something that it serves.
    pub fn url(&self, path: &str) -> String {
        format!("http://127.0.0.1:{}/{path}", self.port)
    }

    /// Orders faults; none mends it.
    pub fn order(&self, faults: &[&str]) {
        let said: Said = Command::new(binary("duplicarium-standin"))
            .args(["order", "--dir"])
            .arg(&self.dir)
            .args(faults)
            .output()
            .expect("the stand-in runs")
            .into();
        assert_eq!(said.code, 0, "{said:?}");
    }
}

impl Drop for Publisher {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// A service and a stand-in with a folder of their own, gone when this is dropped.
pub struct Testbed {
    dir: tempfile::TempDir,
    port: u16,
    drawer: Drawer,
    /// Flags of the service beside the usual ones.
    flags: Vec<String>,
    /// Address of the database, where it is not the service's own.
    database: Option<String>,
    /// What the service finds in its environment besides.
    pub environment: Vec<(String, String)>,
    service: Option<Child>,
}

/// A backup of the card in a slot, as most are taken.
pub fn backup_of(slot: u32) -> api::NewBackup {
    api::NewBackup {
        slot: slot.into(),
        ..api::NewBackup::default()
    }
}

impl Testbed {
    /// Starts both, with nothing in them. Fetching from loopback is allowed, and there is an
    /// import folder.
    pub fn start() -> Self {
        Self::start_with(&["--private-addresses"])
    }

    /// Starts both, the service with these flags.
    pub fn start_with(flags: &[&str]) -> Self {
        Self::start_after(flags, |_| {})
    }

    /// Starts both, the service when its folders were prepared.
    pub fn start_after(flags: &[&str], prepare: impl FnOnce(&mut Self)) -> Self {
        Self::start_wide(4, flags, prepare)
    }

    /// The same with so many slots.
    pub fn start_wide(slots: u32, flags: &[&str], prepare: impl FnOnce(&mut Self)) -> Self {
        let dir = tempfile::Builder::new()
            .prefix("duplicarium-test-")
            .tempdir()
            .expect("a temporary folder");
        // The database's own user must be able to reach its folder in here.
        let open = std::os::unix::fs::PermissionsExt::from_mode(0o755);
        std::fs::set_permissions(dir.path(), open).expect("the folder is ours");
        let port = free_port();
        let drawer = Drawer::start(&dir.path().join("standin"), slots);
        let mut testbed = Self {
            dir,
            port,
            drawer,
            flags: flags.iter().map(|flag| (*flag).to_owned()).collect(),
            database: None,
            environment: Vec::new(),
            service: None,
        };
        std::fs::create_dir(testbed.import_dir()).expect("the folder is ours");
        prepare(&mut testbed);
        testbed.start_service();
        testbed
    }

    /// The folder of everything.
    pub fn dir(&self) -> &Path {
        self.dir.path()
    }

    /// The service's data folder.
    pub fn data_dir(&self) -> PathBuf {
        self.dir.path().join("service")
    }

    /// The computer is gone, with all records and whatever else lay in the data folder but the vault; key and vault are
    /// put back. The service is not running then.
    pub fn lose_records(&mut self) {
        self.stop_service();
        let (dir, saved) = (self.data_dir(), self.dir().join("saved"));
        std::fs::create_dir(&saved).expect("the folder is ours");
        for name in ["vault", "team.key"] {
            std::fs::rename(dir.join(name), saved.join(name)).expect("the service made it");
        }
        self.forget_computer();
        std::fs::rename(&saved, &dir).expect("the folder is ours");
    }

    /// Nothing is left of the data folder, nor of a database that lies elsewhere because its user cannot reach that.
    pub fn forget_computer(&mut self) {
        let dir = self.data_dir();
        std::fs::remove_dir_all(&dir).expect("the folder is ours");
        let name = dir.to_string_lossy();
        let name = name.trim_start_matches('/').replace('/', "-");
        let elsewhere = std::fs::read_dir("/var/lib/duplicarium-postgres").into_iter();
        for entry in elsewhere.flatten().flatten() {
            if entry.file_name().to_string_lossy().contains(&name) {
                std::fs::remove_dir_all(entry.path()).expect("it is ours");
            }
        }
    }

    /// The service's import folder.
    pub fn import_dir(&self) -> PathBuf {
        self.dir.path().join("import")
    }

    /// Where the service's log goes.
    pub fn log(&self) -> PathBuf {
        self.dir.path().join("service.log")
    }

    /// The service as a command, not started yet.
    pub fn service_command(&self) -> Command {
        let mut command = Command::new(binary("duplicariumd"));
        command
            .args(["--listen", &format!("127.0.0.1:{}", self.port)])
            .args(["--standin", &self.drawer.address()])
            // Services of several tests would hear each other's boards.
            .args(["--mdns", "false"])
            .arg("--data-dir")
            .arg(self.data_dir())
            .arg("--console-dir")
            .arg(workspace().join("console/dist"))
            .arg("--import-dir")
            .arg(self.import_dir())
            .args(&self.flags)
            .envs(self.environment.iter().cloned());
        command
    }

    /// Lets the next start of the service see another time: so many days off. Its database keeps the right one. `false`, with
    /// the reason printed, where the library for that is not installed.
    pub fn set_clock(&mut self, days: i64) -> bool {
        let name = "faketime/libfaketimeMT.so.1";
        let folders = std::fs::read_dir("/usr/lib")
            .into_iter()
            .flatten()
            .flatten();
        let library = folders
            .map(|folder| folder.path().join(name))
            .find(|one| one.is_file());
        let Some(library) = library else {
            eprintln!("SKIPPED: the clock stays right, for libfaketime is not installed");
            return false;
        };
        let library = path(&library).to_owned();
        let ours = [
            ("LD_PRELOAD", library),
            ("FAKETIME", format!("{days:+}d")),
            ("FAKETIME_DONT_FAKE_MONOTONIC", "1".into()),
            ("NO_FAKE_STAT", "1".into()),
        ];
        self.environment
            .retain(|(name, _)| !ours.iter().any(|(own, _)| own == name));
        if days != 0 {
            let set = ours.map(|(name, value)| (name.to_owned(), value));
            self.environment.extend(set);
        }
        true
    }

    /// Starts the service and waits until it is ready.
    pub fn start_service(&mut self) {
        let log = std::fs::File::options()
            .create(true)
            .append(true)
            .open(self.log())
            .expect("the log can be made");
        let child = self
            .service_command()
            .stderr(log)
            .spawn()
            .expect("the service starts");
        self.service = Some(child);
        let begun = Instant::now();
        while self.cli(&["status"]).code != 0 {
            let ended = self
                .service
                .as_mut()
                .and_then(|child| child.try_wait().ok().flatten());
            let log = || std::fs::read_to_string(self.log()).unwrap_or_default();
            assert!(ended.is_none(), "the service ended: {}", log());
            assert!(
                begun.elapsed() < Duration::from_secs(60),
                "the service is not ready: {}",
                log()
            );
            std::thread::sleep(Duration::from_millis(100));
        }
    }

    fn signal(&mut self, signal: Signal) {
        if let Some(mut child) = self.service.take() {
            if let Some(pid) = i32::try_from(child.id()).ok().and_then(Pid::from_raw) {
                // A process that is gone already needs no signal.
                let _ = kill_process(pid, signal);
            }
            let begun = Instant::now();
            while begun.elapsed() < Duration::from_secs(30) {
                if child.try_wait().ok().flatten().is_some() {
                    return;
                }
                std::thread::sleep(Duration::from_millis(20));
            }
            let _ = child.kill();
            let _ = child.wait();
        }
    }

    /// Ends the service as Ctrl-C does.
    pub fn stop_service(&mut self) {
        self.signal(Signal::TERM);
    }

    /// Ends the service as a crash does; its PostgreSQL goes on.
    pub fn kill_service(&mut self) {
        self.signal(Signal::KILL);
    }

    /// Seconds that the service has computed since it was started.
    pub fn service_seconds(&self) -> f64 {
        let pid = self.service.as_ref().expect("the service runs").id();
        let stat = std::fs::read_to_string(format!("/proc/{pid}/stat")).expect("the service runs");
        let behind = stat
            .rsplit(')')
            .next()
            .expect("stat has a name in brackets");
        let mut fields = behind.split_whitespace().skip(11);
        let mut ticks = || -> f64 {
            let field = fields.next().expect("stat has these fields");
            field.parse().expect("a number of ticks")
        };
        // In hundredths of a second, on every Linux.
        (ticks() + ticks()) / 100.0
    }

    /// Memory that the service holds now, in bytes.
    pub fn service_memory(&self) -> u64 {
        self.memory("VmRSS:")
    }

    /// The most memory that the service has held, in bytes.
    pub fn service_peak_memory(&self) -> u64 {
        self.memory("VmHWM:")
    }

    fn memory(&self, which: &str) -> u64 {
        let pid = self.service.as_ref().map_or(0, Child::id);
        let status = std::fs::read_to_string(format!("/proc/{pid}/status")).unwrap_or_default();
        let line = status
            .lines()
            .find_map(|line| line.strip_prefix(which))
            .unwrap_or("0");
        line.split_whitespace()
            .next()
            .and_then(|kib| kib.parse::<u64>().ok())
            .unwrap_or(0)
            * 1024
    }

    /// Address of the service.
    pub fn url(&self) -> String {
        format!("http://127.0.0.1:{}", self.port)
    }

    /// Asks or changes the service's own database, beside the service; gives what it prints, a row a line.
    pub fn sql(&self, command: &str) -> String {
        let own = || {
            let password = std::fs::read_to_string(self.data_dir().join("postgres.password"))
                .expect("the service has a database of its own");
            let port = postgres_port(&self.data_dir());
            format!(
                "postgres://duplicarium:{}@127.0.0.1:{port}/duplicarium",
                password.trim()
            )
        };
        let out = Command::new("psql")
            .args(["-v", "ON_ERROR_STOP=1", "-qAt", "-c", command])
            .arg(self.database.clone().unwrap_or_else(own))
            .output()
            .expect("psql is installed");
        let said = Said::from(out);
        assert_eq!(said.code, 0, "{command}: {said:?}");
        said.out
    }

    /// The reader of the service's own computer.
    pub fn drawer(&self) -> &Drawer {
        &self.drawer
    }

    /// Address of the stand-in.
    pub fn standin_address(&self) -> String {
        self.drawer.address()
    }

    /// A typed client that acts as `marit`.
    pub fn client(&self) -> Client {
        Client::new(&self.url(), "marit")
    }

    /// `duplicarium` with these words, as a command.
    pub fn cli_command(&self, words: &[&str]) -> Command {
        let mut command = Command::new(binary("duplicarium"));
        command
            .args(words)
            .env("DUPLICARIUM_SERVICE", self.url())
            .env("DUPLICARIUM_OPERATOR", "marit")
            // What it is signed in with is the testbed's own.
            .env("XDG_CONFIG_HOME", self.dir().join("config"));
        command.stdin(Stdio::null());
        command
    }

    /// Runs `duplicarium` with these words.
    pub fn cli(&self, words: &[&str]) -> Said {
        self.cli_command(words)
            .output()
            .expect("duplicarium runs")
            .into()
    }

    /// Runs `duplicarium`, which must do it; gives its output.
    pub fn done(&self, words: &[&str]) -> String {
        let said = self.cli(words);
        assert_eq!(said.code, 0, "duplicarium {words:?}: {said:?}");
        said.out
    }

    /// Runs `duplicarium`, which must refuse; gives what it said.
    pub fn refused(&self, words: &[&str]) -> String {
        let said = self.cli(words);
        assert_ne!(
            said.code, 0,
            "duplicarium {words:?} should have been refused: {}",
            said.out
        );
        assert!(!said.err.contains("panicked"), "{}", said.err);
        said.err
    }

    /// Runs `duplicarium --json`, which must do it; gives what it printed.
    pub fn json(&self, words: &[&str]) -> serde_json::Value {
        let out = self.done(&[words, &["--json"]].concat());
        serde_json::from_str(&out).unwrap_or_else(|e| panic!("{words:?}: {e}: {out}"))
    }

    /// Runs `duplicarium-standin` with these words.
    pub fn standin(&self, words: &[&str]) -> String {
        self.drawer.order(words)
    }

    /// Makes a card in the drawer.
    pub fn make_card(&self, name: &str, size: &str, more: &[&str]) {
        self.drawer.make_card(name, size, more);
    }

    /// Where the bytes of a card lie.
    pub fn card_file(&self, name: &str) -> PathBuf {
        self.drawer.card_file(name)
    }

    /// Stands for everything that is on a card, read past the product: equal as long as no byte changes.
    pub fn card_digest(&self, name: &str) -> u64 {
        self.drawer.card_digest(name)
    }

    /// Puts a card into a slot.
    pub fn put(&self, name: &str, slot: u32) {
        self.drawer.put(name, slot);
    }

    /// Boots a card and gives the lines about it.
    pub fn boot(&self, card: &str, model: &str) -> serde_json::Value {
        self.drawer.boot(card, model)
    }

    /// Board models, sites, networks in the air, both demo releases.
    pub fn load_catalogue(&self) {
        for (name, architecture) in [
            ("plover", "arm64"),
            ("plover-field", "arm64"),
            ("curlew", "armhf"),
        ] {
            self.done(&[
                "board",
                "add",
                name,
                "--title",
                name,
                "--architecture",
                architecture,
            ]);
        }
        self.done(&["site", "add", "quay", "--title", "Along the quay"]);
        self.done(&["site", "add", "workshop", "--title", "Workshop"]);
        self.standin(&["air", path(&workspace().join("demo/air.json"))]);
        for (image, sheet) in [
            ("quaylink-2.4.img.xz", "quaylink-2.4.toml"),
            ("tidegauge-1.7.img.gz", "tidegauge-1.7.toml"),
        ] {
            self.done(&[
                "release",
                "add",
                path(&demo_image(image)),
                "--sheet",
                path(&demo_sheet(sheet)),
            ]);
        }
    }

    /// Registers a quaylink device on a Curlew with good settings.
    pub fn add_device(&self, name: &str) {
        self.done(&[
            "device",
            "add",
            name,
            "--board",
            "curlew",
            "--appliance",
            "quaylink",
            "--site",
            "quay",
        ]);
        self.set_passphrase(name, "ebb and flow 1907");
        self.done(&[
            "device",
            "set",
            name,
            &format!("host_name={name}"),
            "wifi_network=Saltmarsh-Quay",
        ]);
    }

    /// Sets the Wi-Fi passphrase of a device out of a file, as the command line wants it.
    pub fn set_passphrase(&self, device: &str, passphrase: &str) {
        let file = self.dir.path().join("passphrase");
        std::fs::write(&file, format!("{passphrase}\n")).expect("the file can be written");
        self.done(&[
            "device",
            "set",
            device,
            "--secret-file",
            &format!("wifi_passphrase={}", file.display()),
        ]);
        std::fs::remove_file(file).expect("the file is ours");
    }
}

/// Port of the own PostgreSQL whose data lie below a folder.
pub fn postgres_port(data_dir: &Path) -> u16 {
    let folders = std::fs::read_dir(data_dir).expect("the folder is there");
    let found = folders
        .filter_map(|folder| {
            std::fs::read_to_string(folder.ok()?.path().join("postmaster.pid")).ok()
        })
        .find_map(|text| text.lines().nth(3)?.trim().parse().ok());
    found.expect("a PostgreSQL runs there")
}

/// A path as a word of a command.
pub fn path(path: &Path) -> &str {
    path.to_str().expect("a plain path")
}

impl Drop for Testbed {
    fn drop(&mut self) {
        self.stop_service();
        if std::thread::panicking() {
            eprintln!(
                "service log:\n{}",
                std::fs::read_to_string(self.log()).unwrap_or_default()
            );
            // For whoever wants to see what was left: nothing of it is cleared away then.
            if std::env::var_os("TESTBED_KEEPS").is_some() {
                let empty = tempfile::tempdir().expect("a temporary folder");
                let kept = std::mem::replace(&mut self.dir, empty).keep();
                eprintln!("everything is kept in {}", kept.display());
            }
        }
    }
}
