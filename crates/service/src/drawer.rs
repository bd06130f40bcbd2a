//! The key on paper, and the first owner.

use std::io::{self, BufRead, Write};

use anyhow::{Context, Result, bail};
use operations::people::owner_code;
use qrcode::QrCode;
use records::{OwnServer, Records};
use vault::Root;

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
