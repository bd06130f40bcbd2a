//! `duplicariumd --check`: a look at everything that the service rests on, with what to do where something is wrong.
//! Nothing is changed, and nothing is brought to another form.

use std::fs;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, TcpStream};
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::time::{Duration, SystemTime};

use anyhow::{Result, bail};
use bench::Bench;
use operations::store::Store;
use records::{OwnServer, Records};
use rustix::fs::FlockOperation;
use time::OffsetDateTime;
use vault::Root;

use crate::config::Config;
use crate::drawer::KEY_FILE;
use api::words::size;

/// With less room than this something will fail soon, in bytes.
const LITTLE_ROOM: u64 = 1_000_000_000;
/// A clock before this day is not set.
const THIS_CODE: i64 = 1_764_000_000;

/// What was found, said at once.
#[derive(Default)]
struct Findings {
    wrong: usize,
}

impl Findings {
    fn fine(&self, what: &str, words: &str) {
        println!("ok     {what:<14} {words}");
    }

    fn look(&self, what: &str, words: &str) {
        println!("LOOK   {what:<14} {words}");
    }

    fn wrong(&mut self, what: &str, words: &str) {
        self.wrong += 1;
        println!("WRONG  {what:<14} {words}");
    }
}

/// Looks at everything; an error where something is wrong.
pub async fn check(config: Config) -> Result<()> {
    let mut found = Findings::default();
    let dir = config.data_dir.clone();
    let runs = configuration(&mut found, &config).await;
    space(&mut found, "data folder", &dir);
    clock(&mut found, &dir);
    readers(&mut found, &config);
    let root = key(&mut found, &dir);
    match (runs, root) {
        (true, _) => found.fine(
            "vault, records",
            "a service uses this data folder, and looks after them itself: duplicarium vault inspect",
        ),
        (false, Some(root)) => {
            vault(&mut found, &config, &root).await;
            database(&mut found, &config).await;
        }
        (false, None) => {}
    }
    match found.wrong {
        0 => Ok(()),
        1 => bail!("one thing is wrong"),
        wrong => bail!("{wrong} things are wrong"),
    }
}

/// The data folder, and whether a service uses it.
async fn configuration(found: &mut Findings, config: &Config) -> bool {
    let dir = &config.data_dir;
    let (shown, listen) = (dir.display(), config.listen);
    if !dir.exists() {
        found.look(
            "configuration",
            &format!("{shown} does not exist yet; the first start makes it, with a new key"),
        );
        return false;
    }
    let lock = fs::File::options()
        .write(true)
        .open(dir.join("service.lock"));
    let runs = lock.is_ok_and(|lock| {
        rustix::fs::flock(&lock, FlockOperation::NonBlockingLockExclusive).is_err()
    });
    let probe = dir.join(".check");
    let writable = fs::write(&probe, b"").and_then(|()| fs::remove_file(&probe));
    match writable {
        Err(e) => found.wrong(
            "configuration",
            &format!("nothing can be written in {shown} ({e}); give the folder to the user that the service runs as"),
        ),
        Ok(()) => found.fine("configuration", &format!("data in {shown}, listens at {listen}")),
    }
    match (runs, ready(config).await) {
        (true, Some(true)) => found.fine("service", &format!("runs and is ready at {listen}")),
        (true, _) => found.wrong(
            "service",
            &format!("a service uses {shown}, and none is ready at {listen}; its log says why"),
        ),
        (false, Some(_)) => found.wrong(
            "service",
            &format!("something answers at {listen} that does not use {shown}; choose another address with --listen"),
        ),
        (false, None) => {}
    }
    runs
}

/// Whether a service answers where it should, and is ready; `None` where nothing does.
async fn ready(config: &Config) -> Option<bool> {
    let patience = Duration::from_secs(5);
    let mut at = config.listen;
    if at.ip().is_unspecified() {
        at.set_ip(match at.ip() {
            IpAddr::V4(_) => Ipv4Addr::LOCALHOST.into(),
            IpAddr::V6(_) => Ipv6Addr::LOCALHOST.into(),
        });
    }
    TcpStream::connect_timeout(&at, patience).ok()?;
    let asked = async {
        let scheme = if config.tls.is_some() {
            "https"
        } else {
            "http"
        };
        let address = format!("{scheme}://{at}");
        let mut client = api::Client::new(&address, "check");
        if config.tls.is_some() {
            // Nothing secret is sent, so whatever is shown will do.
            let shown = api::shown_fingerprint(&address).await?;
            client = client.known_by(&shown).ok()?;
        }
        client.health().await.ok()
    };
    let answer = tokio::time::timeout(patience, asked).await;
    Some(matches!(answer, Ok(Some(_))))
}

fn space(found: &mut Findings, what: &str, dir: &Path) {
    let Ok(stat) = rustix::fs::statvfs(dir) else {
        return;
    };
    let free = stat.f_bavail.saturating_mul(stat.f_frsize);
    let words = format!("{} are free at {}", size(free), dir.display());
    match free < LITTLE_ROOM {
        true => found.wrong(
            what,
            &format!("{words}; make room: duplicarium backup keep, then duplicarium vault tidy"),
        ),
        false => found.fine(what, &words),
    }
}

/// What was written here lies in the past, or the clock is wrong.
fn clock(found: &mut Findings, dir: &Path) {
    let now = OffsetDateTime::now_utc();
    let newest = ["service.lock", "vault/segment", "vault/index", KEY_FILE]
        .iter()
        .filter_map(|name| fs::metadata(dir.join(name)).ok()?.modified().ok())
        .max();
    let ahead = newest.and_then(|newest| newest.duration_since(SystemTime::now()).ok());
    if now.unix_timestamp() < THIS_CODE || ahead.is_some_and(|by| by > Duration::from_secs(600)) {
        found.wrong(
            "clock",
            &format!("it shows {now}, and things here are newer; set it (timedatectl set-ntp true) before anything is recorded"),
        );
    } else {
        found.fine("clock", &format!("it shows {}", now.date()));
    }
}

fn readers(found: &mut Findings, config: &Config) {
    let bench = Bench::new(config.standin, Some(config.data_dir.join("bench.toml")));
    let readers = bench.readers();
    let (_, trouble) = bench.bindings();
    if let Some(trouble) = trouble {
        found.wrong("bench", &trouble);
    }
    if readers.is_empty() {
        found.look(
            "bench",
            "no place is a slot yet: duplicarium bench scan shows what there is, duplicarium bench adopt takes a reader",
        );
    }
    for reader in readers {
        match bench.survey(reader.as_ref()) {
            Ok(slots) => found.fine(
                "bench",
                &format!("{} answers, {} slots", reader.name(), slots.len()),
            ),
            Err(e) => found.wrong("bench", &format!("{} does not answer: {e}", reader.name())),
        }
    }
}

fn key(found: &mut Findings, dir: &Path) -> Option<Root> {
    let path = dir.join(KEY_FILE);
    let shown = path.display();
    if !path.exists() {
        let used = dir.join("vault").exists() || dir.join("postgres.password").exists();
        match used {
            true => found.wrong(
                "key",
                &format!("{shown} is missing, and nothing here can be read without it; put back the copy that you keep elsewhere, or type it in (duplicariumd --enter-key)"),
            ),
            false => found.look("key", &format!("{shown} is made at the first start")),
        }
        return None;
    }
    let mode = fs::metadata(&path).map(|found| found.permissions().mode());
    if mode.is_ok_and(|mode| mode & 0o077 != 0) {
        found.wrong(
            "key",
            &format!("others can read {shown}: chmod 600 {shown}"),
        );
    }
    match Root::load(&path) {
        Ok(root) => {
            found.fine(
                "key",
                &format!(
                    "{} in {shown}; have you a copy elsewhere? (duplicariumd --show-key)",
                    root.id()
                ),
            );
            Some(root)
        }
        Err(e) => {
            found.wrong("key", &e.to_string());
            None
        }
    }
}

async fn vault(found: &mut Findings, config: &Config, root: &Root) {
    let used = match &config.database_url {
        Some(url) => Records::are_used(url).await.unwrap_or(true),
        None => config.data_dir.join("postgres.password").exists(),
    };
    let place = config.vault_store.as_deref();
    let store = match Store::open(&config.data_dir, root, place, !used).await {
        Ok(store) => store,
        Err(e) => return found.wrong("vault", &e.detail),
    };
    let opened = store.vault.opened();
    let gone = opened.lost.len() + opened.unreadable.len();
    let words = format!(
        "{} segments, {}, at {}",
        store.vault.segments().len(),
        size(store.vault.stored()),
        store.place
    );
    match gone {
        0 => found.fine("vault", &words),
        gone => found.wrong(
            "vault",
            &format!("{words}; {gone} segments are gone or cannot be read. Start the service, and see what that touches: duplicarium vault inspect"),
        ),
    }
    if let Some(free) = store.free().filter(|free| *free < LITTLE_ROOM) {
        found.wrong(
            "vault",
            &format!("only {} are free at {}", size(free), store.place),
        );
    }
}

async fn database(found: &mut Findings, config: &Config) {
    let own = match &config.database_url {
        Some(_) => None,
        None if !config.data_dir.join("postgres.password").exists() => {
            return found.look("records", "they are made at the first start");
        }
        None => match OwnServer::start(&config.data_dir).await {
            Ok(server) => Some(server),
            Err(e) => {
                return found.wrong("records", &format!("their database cannot be started: {e}"));
            }
        },
    };
    let url = config.database_url.clone();
    let url = url.or_else(|| own.as_ref().map(|server| server.url().to_owned()));
    match Records::is_older(&url.unwrap_or_default()).await {
        Ok(false) => found.fine("records", "the database answers"),
        Ok(true) => found.look(
            "records",
            "they are of an older version; the next start keeps them in the vault as they are, and then brings them to its own form",
        ),
        Err(e) => found.wrong("records", &e.to_string()),
    }
    if let Some(server) = own
        && let Err(e) = server.stop()
    {
        found.look(
            "records",
            &format!("their database did not stop by itself: {e}"),
        );
    }
}
