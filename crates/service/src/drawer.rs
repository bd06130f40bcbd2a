//! What keeps an installation alive when its computer is gone: the key on paper, and the records out of the vault.

use std::io::{self, BufRead, Read, Write};
use std::path::Path;

use anyhow::{Context, Result, anyhow, bail};
use imagecraft::Disk;
use operations::note::{heads, newest_records};
use operations::people::owner_code;
use operations::reindex::reindex;
use operations::store::Store;
use operations::work::hurt;
use qrcode::QrCode;
use records::dump::restore;
use records::{OwnServer, Records};
use vault::{ManifestDisk, Root};

use crate::config::Config;

/// Name of the key file in the data folder.
pub const KEY_FILE: &str = "team.key";

/// A QR code as rows of its cells, `1` for dark, without the quiet zone.
pub fn cells(text: &str) -> Result<Vec<String>> {
    let code = QrCode::new(text.as_bytes()).context("the text does not fit into a QR code")?;
    let row = |row: &[qrcode::Color]| row.iter().map(|cell| cell.select('1', '0')).collect();
    Ok(code.to_colors().chunks(code.width()).map(row).collect())
}

/// A QR code in half blocks, dark on light, with the quiet zone around it.
fn qr(text: &str) -> Result<String> {
    const QUIET: usize = 4;
    let code = QrCode::new(text.as_bytes()).context("the key does not fit into a QR code")?;
    let (width, cells) = (code.width(), code.to_colors());
    let dark = |x: usize, y: usize| {
        let inside = (QUIET..QUIET + width).contains(&x) && (QUIET..QUIET + width).contains(&y);
        inside && cells[(y - QUIET) * width + x - QUIET] == qrcode::Color::Dark
    };
    let side = width + 2 * QUIET;
    let mut drawn = String::new();
    for y in (0..side).step_by(2) {
        for x in 0..side {
            drawn.push(match (dark(x, y), y + 1 < side && dark(x, y + 1)) {
                (true, true) => ' ',
                (true, false) => '▄',
                (false, true) => '▀',
                (false, false) => '█',
            });
        }
        drawn.push('\n');
    }
    Ok(drawn)
}

/// Prints the key as text and QR code.
pub fn show_key(config: &Config) -> Result<()> {
    let root = Root::load(&config.data_dir.join(KEY_FILE))?;
    let spoken = root.spoken();
    let mut out = io::stdout().lock();
    writeln!(out, "Duplicarium, key {}\n\n{spoken}\n", root.id())?;
    writeln!(out, "{}", qr(&spoken.replace('\n', " "))?)?;
    writeln!(
        out,
        "Who has this and a copy of the vault can read everything in it. To type it in: duplicariumd --enter-key"
    )?;
    Ok(())
}

/// Makes the key file from what is typed in.
pub fn enter_key(config: &Config) -> Result<()> {
    let path = config.data_dir.join(KEY_FILE);
    if path.exists() {
        bail!("there is a key file already: {}", path.display());
    }
    eprintln!("The key, all 14 groups; an empty line ends it:");
    let mut typed = String::new();
    for line in io::stdin().lock().lines() {
        let line = line?;
        if line.trim().is_empty() && !typed.trim().is_empty() {
            break;
        }
        typed.push_str(&line);
        typed.push(' ');
    }
    let root = Root::typed(&typed)?;
    std::fs::create_dir_all(&config.data_dir)?;
    root.save(&path)?;
    println!("{} holds key {}", path.display(), root.id());
    Ok(())
}

/// Prints a code that makes an owner: who can run this can do everything here anyway.
pub async fn first_owner(config: Config) -> Result<()> {
    let dir = &config.data_dir;
    if !dir.join(KEY_FILE).exists() {
        bail!(
            "there is nothing in {} yet; start the service first",
            dir.display()
        );
    }
    let lock = std::fs::File::options()
        .write(true)
        .open(dir.join("service.lock"));
    let runs = lock.is_ok_and(|lock| {
        rustix::fs::flock(&lock, rustix::fs::FlockOperation::NonBlockingLockExclusive).is_err()
    });
    let own_server = match &config.database_url {
        Some(_) => None,
        None => Some(OwnServer::start(dir).await?),
    };
    let url = config.database_url.clone();
    let url = url.or_else(|| own_server.as_ref().map(|server| server.url().to_owned()));
    let made = owner_code_at(&url.unwrap_or_default()).await;
    // The service's own database goes on with it.
    if let Some(server) = own_server.filter(|_| !runs) {
        server.stop()?;
    }
    println!("{}", made?);
    eprintln!(
        "This code makes an owner, once, within a day: on the console's first page, or with duplicarium welcome --name NAME --code CODE"
    );
    Ok(())
}

async fn owner_code_at(url: &str) -> Result<String> {
    if Records::is_older(url).await? {
        bail!(
            "the records are of an older version; start the service first, which brings them to its own form"
        );
    }
    let records = Records::open(url).await?;
    let code = owner_code(&records).await?;
    records.close().await;
    Ok(code)
}

/// A disk as something that is read from its first byte on.
struct FromDisk {
    disk: ManifestDisk,
    at: u64,
}

impl Read for FromDisk {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        let len = (self.disk.len() - self.at).min(buf.len() as u64) as usize;
        self.disk
            .read_at(self.at, &mut buf[..len])
            .map_err(io::Error::other)?;
        self.at += len as u64;
        Ok(len)
    }
}

fn is_used(dir: &Path) -> bool {
    ["postgres", "postgres.password", "bench.toml"]
        .iter()
        .any(|name| dir.join(name).exists())
}

/// Brings the records back out of the vault.
pub async fn recover(config: Config) -> Result<()> {
    let dir = config.data_dir.clone();
    let key_file = dir.join(KEY_FILE);
    if !key_file.exists() {
        bail!(
            "{} is missing: put the key file there, or type in the printed key: duplicariumd --enter-key",
            key_file.display()
        );
    }
    if config.database_url.is_none() && is_used(&dir) {
        bail!(
            "{} holds records already, which are not replaced; recover into a folder with nothing but the key file and the vault",
            dir.display()
        );
    }
    let root = Root::load(&key_file)?;
    let store = Store::open(&dir, &root, config.vault_store.as_deref()).await?;
    let notes = {
        let vault = store.vault.clone();
        tokio::task::spawn_blocking(move || heads(vault.notes())).await?
    };
    let newest = newest_records(&notes);
    let own_server = match &config.database_url {
        Some(_) => None,
        None => Some(OwnServer::start(&dir).await?),
    };
    let url = config.database_url.clone();
    let url = url.or_else(|| own_server.as_ref().map(|server| server.url().to_owned()));
    let url = url.unwrap_or_default();
    let recovered = bring_back(&store, newest, &url).await;
    if let Some(server) = own_server {
        server.stop()?;
    }
    let Recovered {
        label,
        found,
        not_whole,
    } = recovered?;
    println!("Everything is back; start the service.");
    if let Some(since) = found.in_words() {
        println!(
            "The vault knew of {since} that came after the records were kept last; that is back too. What became of such \
             imprints shows when their cards are put in."
        );
    }
    println!(
        "New cards are called {label} and on: labels before that may be on stickers that these records do not know."
    );
    for problem in &found.problems {
        println!("Not back: {problem}");
    }
    for hurt in &not_whole {
        println!(
            "Not whole: the vault misses pieces of {} {} ({}). Bring them from the second vault (duplicarium vault \
             inspect), or take it out of the records; until then nothing is tidied away.",
            hurt.what, hurt.name, hurt.pieces
        );
    }
    Ok(())
}

/// What came back.
struct Recovered {
    /// Label of the first card that gets one from now on.
    label: String,
    /// What was made after the records were kept.
    found: api::Reindexed,
    /// What the records name and the vault does not hold whole.
    not_whole: Vec<api::Hurt>,
}

/// Reads the newest copy of the records in that is whole, and what the vault knows beside it.
async fn bring_back(store: &Store, newest: Vec<vault::Name>, url: &str) -> Result<Recovered> {
    if newest.is_empty() {
        bail!(
            "the vault holds no copy of the records; start the service with it all the same, and put back what the vault itself tells of: duplicarium vault reindex"
        );
    }
    for name in newest {
        let (vault, address) = (store.vault.clone(), url.to_owned());
        let read = tokio::task::spawn_blocking(move || -> Result<()> {
            let disk = ManifestDisk::open(&vault, name)?;
            Ok(restore(&address, &mut FromDisk { disk, at: 0 })?)
        });
        match read.await? {
            Ok(()) => {
                // Brings them to the form that this version has.
                let records = Records::open(url).await?;
                let label = records.leave_room().await?;
                let found = reindex(&records, &store.vault, "service").await;
                let contents = records.contents().await?;
                records.close().await;
                let found = found.map_err(|e| anyhow!("{e}"))?;
                let vault = store.vault.clone();
                let look = tokio::task::spawn_blocking(move || hurt(&vault, &contents));
                let not_whole = look.await?;
                return Ok(Recovered {
                    label,
                    found,
                    not_whole,
                });
            }
            Err(e) => tracing::warn!("a copy of the records cannot be read in: {e:#}"),
        }
    }
    bail!("no copy of the records in the vault can be read in")
}
