//! Configuration: a TOML file, environment variables, flags; the later ones win.

use std::net::SocketAddr;
use std::path::PathBuf;

use anyhow::{Context, Result, bail};
use clap::Parser;
use serde::Deserialize;

const LISTEN: &str = "127.0.0.1:7640";

/// The Duplicarium service.
#[derive(Parser)]
#[command(name = "duplicariumd", version)]
pub struct Args {
    /// Configuration file (TOML).
    #[arg(long, env = "DUPLICARIUM_CONFIG")]
    config: Option<PathBuf>,
    /// Address to listen at; loopback only.
    #[arg(long, env = "DUPLICARIUM_LISTEN")]
    listen: Option<SocketAddr>,
    /// Folder of the key file, the vault and the own database.
    #[arg(long, env = "DUPLICARIUM_DATA_DIR")]
    data_dir: Option<PathBuf>,
    /// Address of a PostgreSQL database to use instead of an own one.
    #[arg(long, env = "DUPLICARIUM_DATABASE_URL", hide_env_values = true)]
    database_url: Option<String>,
    /// Address of the stand-in card reader.
    #[arg(long, env = "DUPLICARIUM_STANDIN")]
    standin: Option<SocketAddr>,
    /// Folder of the built console.
    #[arg(long, env = "DUPLICARIUM_CONSOLE_DIR")]
    console_dir: Option<PathBuf>,
    /// Print the OpenAPI document and end.
    #[arg(long)]
    pub openapi: bool,
}

#[derive(Default, Deserialize)]
#[serde(deny_unknown_fields)]
struct File {
    listen: Option<SocketAddr>,
    data_dir: Option<PathBuf>,
    database_url: Option<String>,
    standin: Option<SocketAddr>,
    console_dir: Option<PathBuf>,
}

/// The settled configuration.
pub struct Config {
    pub listen: SocketAddr,
    pub data_dir: PathBuf,
    pub database_url: Option<String>,
    pub standin: Option<SocketAddr>,
    pub console_dir: Option<PathBuf>,
}

impl Config {
    /// Merges flags, environment and file.
    pub fn settle(args: Args) -> Result<Self> {
        let file = match &args.config {
            Some(path) => {
                let text = std::fs::read_to_string(path)
                    .with_context(|| format!("cannot read {}", path.display()))?;
                toml::from_str(&text)
                    .with_context(|| format!("{} is no configuration", path.display()))?
            }
            None => File::default(),
        };
        let listen = match args.listen.or(file.listen) {
            Some(listen) => listen,
            None => LISTEN.parse()?,
        };
        if !listen.ip().is_loopback() {
            bail!(
                "{listen} can be reached by others, and there are no accounts yet: anyone could write cards. \
                 Listen at 127.0.0.1 and reach it through a tunnel"
            );
        }
        Ok(Self {
            listen,
            data_dir: args
                .data_dir
                .or(file.data_dir)
                .unwrap_or_else(default_data_dir),
            database_url: args.database_url.or(file.database_url),
            standin: args.standin.or(file.standin),
            console_dir: args.console_dir.or(file.console_dir),
        })
    }
}

fn default_data_dir() -> PathBuf {
    if rustix::process::geteuid().is_root() {
        return "/var/lib/duplicarium".into();
    }
    let home = || Some(PathBuf::from(std::env::var_os("HOME")?).join(".local/share"));
    let base = std::env::var_os("XDG_DATA_HOME")
        .map(PathBuf::from)
        .or_else(home);
    base.unwrap_or_else(|| ".".into()).join("duplicarium")
}
