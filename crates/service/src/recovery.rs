//! The records out of the vault, when their computer is gone. A recovery that was cut off is no service that works: it is
//! marked until its end, no start goes on beside the mark, and the next recovery begins again.

use std::fs;
use std::io::{self, Read, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use anyhow::{Context, Result, anyhow, bail};
use imagecraft::Disk;
use operations::note::{Head, heads, last_copy, records_copies};
use operations::reindex::reindex;
use operations::store::Store;
use operations::{damage, refusal::Refusal};
use records::dump::restore;
use records::{OwnServer, Records};
use time::macros::format_description;
use time::{Duration, OffsetDateTime};
use vault::{ManifestDisk, Root, Vault};

use crate::config::Config;
use crate::drawer::KEY_FILE;
use crate::folder::lock;

/// A date that is further ahead than this was given by a clock that ran ahead.
const AHEAD: Duration = Duration::hours(26);

/// The mark of a recovery that is not at its end.
fn mark(dir: &Path) -> PathBuf {
    dir.join("recovery.unfinished")
}

/// Refuses to start where a recovery was cut off.
pub fn refuse_unfinished(dir: &Path) -> Result<()> {
    if mark(dir).exists() {
        bail!(
            "a recovery of the records into {} was cut off, and what is there is not whole. Begin it again, which loses \
             nothing: duplicariumd --recover",
            dir.display()
        );
    }
    Ok(())
}

/// What the notes in a vault say, read on a thread of their own.
async fn notes_of(vault: &Arc<Vault>) -> Result<Vec<Head>> {
    let vault = vault.clone();
    Ok(tokio::task::spawn_blocking(move || heads(vault.notes())).await?)
}

/// Refuses empty records beside a vault that holds copies of others, unless they are wanted: their copies would take the
/// place of those. Gives the number of the last copy.
pub async fn refuse_empty_records(store: &Store, wanted: bool) -> Result<i64> {
    let notes = notes_of(&store.vault).await?;
    let copies = records_copies(&notes);
    if let Some(newest) = copies.first().filter(|_| !wanted) {
        bail!(
            "the records are empty, and the vault at {} holds {} copies of records, the newest {}. To bring those back: \
             duplicariumd --recover. To start with empty records all the same: --empty-records, once",
            store.place,
            copies.len(),
            of_when(newest)
        );
    }
    Ok(last_copy(&notes))
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

/// When a copy was made, and its number, for people; that its date lies in the future, where it does.
fn of_when(copy: &Head) -> String {
    let shape = format_description!("[year]-[month]-[day] [hour]:[minute] UTC");
    let when = copy.at.format(shape).unwrap_or_default();
    let number = copy
        .copy
        .map(|number| format!(" (number {number})"))
        .unwrap_or_default();
    let ahead = match copy.at > OffsetDateTime::now_utc() + AHEAD {
        true => ", a date in the future: the clock ran ahead when it was made",
        false => "",
    };
    format!("of {when}{number}{ahead}")
}

/// The copies that are tried, in this order: the one that is asked for, or all from the newest on.
fn wanted<'a>(copies: &[&'a Head], asked: Option<&str>) -> Result<Vec<&'a Head>> {
    let Some(asked) = asked else {
        return Ok(copies.to_vec());
    };
    let found = copies.iter().find(|copy| {
        let number = copy.copy.map(|number| number.to_string());
        copy.at.date().to_string() == asked
            || copy.name == asked
            || number.as_deref() == Some(asked)
    });
    match found {
        Some(copy) => Ok(vec![copy]),
        None => {
            let there: Vec<String> = copies.iter().map(|copy| of_when(copy)).collect();
            bail!(
                "the vault holds no copy of the records of {asked}; it holds those {}. Nothing was changed",
                there.join("; ")
            )
        }
    }
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
    let _lock = lock(&dir)?;
    let again = mark(&dir).exists();
    if config.database_url.is_none() && is_used(&dir) && !again {
        bail!(
            "{} holds records already, which are not replaced; recover into a folder with nothing but the key file and the vault",
            dir.display()
        );
    }
    if let Some(url) = config.database_url.as_deref().filter(|_| !again)
        && Records::are_used(url).await?
    {
        bail!(
            "the database holds records already, which are not replaced; recover into an empty one"
        );
    }
    let root = Root::load(&key_file)?;
    let store = Store::open(&dir, &root, config.vault_store.as_deref(), false).await?;
    let notes = notes_of(&store.vault).await?;
    let copies = records_copies(&notes);
    if copies.is_empty() {
        bail!(
            "the vault holds no copy of the records; start the service with it all the same, and put back what the vault itself tells of: duplicarium vault reindex"
        );
    }
    let tried = wanted(&copies, config.records.as_deref())?;
    // From here on until the end, what is in the database is not whole.
    put_mark(&dir)?;
    let own_server = match &config.database_url {
        Some(_) => None,
        None => Some(OwnServer::start(&dir).await?),
    };
    let url = config.database_url.clone();
    let url = url.or_else(|| own_server.as_ref().map(|server| server.url().to_owned()));
    let url = url.unwrap_or_default();
    let recovered = bring_back(&store, &tried, last_copy(&notes), &url).await;
    if let Some(server) = own_server {
        server.stop()?;
    }
    let recovered = recovered?;
    take_mark(&dir)?;
    tell(&recovered, &copies);
    Ok(())
}

fn put_mark(dir: &Path) -> Result<()> {
    let path = mark(dir);
    let write = || {
        let mut file = fs::File::create(&path)?;
        file.write_all(b"A recovery of the records is under way, or was cut off.\n")?;
        file.sync_all()?;
        fs::File::open(dir)?.sync_all()
    };
    write().with_context(|| format!("cannot write {}", path.display()))
}

fn take_mark(dir: &Path) -> Result<()> {
    let path = mark(dir);
    let remove = || {
        fs::remove_file(&path)?;
        fs::File::open(dir)?.sync_all()
    };
    remove().with_context(|| format!("cannot remove {}", path.display()))
}

/// What came back.
struct Recovered {
    /// The copy that was taken.
    taken: Head,
    /// Newer copies that could not be read in, and why.
    unreadable: Vec<(Head, String)>,
    /// Label of the first card that gets one from now on.
    label: String,
    /// What was made after the records were kept.
    found: api::Reindexed,
    /// What the records name and the vault does not hold whole.
    not_whole: Vec<api::Hurt>,
}

/// Reads the first of these copies in that is whole, and what the vault knows beside it.
async fn bring_back(store: &Store, tried: &[&Head], last: i64, url: &str) -> Result<Recovered> {
    let mut unreadable = Vec::new();
    for copy in tried {
        Records::empty(url)
            .await
            .context("the database cannot be emptied")?;
        let (vault, address, name) = (store.vault.clone(), url.to_owned(), copy.of);
        let read = tokio::task::spawn_blocking(move || -> Result<()> {
            let disk = ManifestDisk::open(&vault, name)?;
            Ok(restore(&address, &mut FromDisk { disk, at: 0 })?)
        });
        if let Err(e) = read.await? {
            tracing::warn!("a copy of the records cannot be read in: {e:#}");
            unreadable.push(((*copy).clone(), format!("{e:#}")));
            continue;
        }
        // Brings them to the form that this version has.
        let records = Records::open(url).await?;
        records.count_copies_from(last).await?;
        let label = records.leave_room().await?;
        let refused = |e: Refusal| anyhow!("{e}");
        let found = reindex(&records, &store.vault, "service").await;
        let found = found.map_err(refused)?;
        let not_whole = damage::look(&records, &store.vault).await;
        let not_whole = not_whole.map_err(refused)?;
        records.close().await;
        return Ok(Recovered {
            taken: (*copy).clone(),
            unreadable,
            label,
            found,
            not_whole,
        });
    }
    let why: Vec<String> = unreadable
        .iter()
        .map(|(copy, why)| format!("the copy {}: {why}", of_when(copy)))
        .collect();
    bail!(
        "no copy of the records that was tried can be read in. {}. Nothing else was changed; try another copy (--records \
         DATE), or the second vault (--vault-store)",
        why.join("; ")
    )
}

fn tell(recovered: &Recovered, copies: &[&Head]) {
    let Recovered {
        taken,
        unreadable,
        label,
        found,
        not_whole,
    } = recovered;
    println!("Copies of the records in the vault:");
    for copy in copies {
        let bad = unreadable.iter().any(|(bad, _)| bad.of == copy.of);
        let word = match (copy.of == taken.of, bad) {
            (true, _) => "TAKEN",
            (_, true) => "DAMAGED",
            _ => "",
        };
        println!("  {word:<8} {}", of_when(copy));
    }
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
    for hurt in not_whole {
        println!(
            "Not whole: the vault misses pieces of {} {} ({}). Bring them from the second vault (duplicarium vault \
             inspect), or take it out of the records; until then nothing is tidied away.",
            hurt.what, hurt.name, hurt.pieces
        );
    }
    let newer = copies.iter().take_while(|copy| copy.of != taken.of).count();
    let mut missing = Vec::new();
    if newer > 0 {
        missing.push(format!(
            "what was recorded after the copy {} was kept (people, settings, notes); {newer} newer {} not used, because {}",
            of_when(taken),
            if newer == 1 { "copy was" } else { "copies were" },
            match unreadable.is_empty() {
                true => "another one was asked for",
                false => "they cannot be read",
            }
        ));
    }
    if !found.problems.is_empty() {
        missing.push(format!(
            "{} contents that are not back",
            found.problems.len()
        ));
    }
    if !not_whole.is_empty() {
        missing.push(format!("pieces of {} contents", not_whole.len()));
    }
    match missing.is_empty() {
        true => println!("Everything is back; start the service."),
        false => println!(
            "The records {} are back; start the service. Missing: {}.",
            of_when(taken),
            missing.join("; ")
        ),
    }
}
