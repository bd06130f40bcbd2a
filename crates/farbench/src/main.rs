//! `duplicarium-bench`: makes the card readers of this computer a bench of a service on another one.

mod kept;

use std::net::SocketAddr;
use std::path::PathBuf;
use std::process::ExitCode;

use anyhow::{Context, Result, bail};
use api::{Client, ClientError};
use bench::Bench;
use clap::{CommandFactory, Parser, Subcommand};
use farbench::worker::{Cache, Dial, Slots, run};
use tokio::signal::unix::{SignalKind, signal};
use tokio::sync::watch;

use crate::kept::Kept;

/// Makes the card readers of this computer a bench of a service on another one.
///
/// It calls the service and keeps the connection; nothing is opened here. Cards are written, verified, read and
/// checked here. Which places are slots is said at the service: `duplicarium bench adopt --bench NAME`.
#[derive(Parser)]
#[command(name = "duplicarium-bench", version)]
struct Args {
    /// Folder for what shows which bench this is, which places are slots, and content that was here before.
    #[arg(
        long,
        global = true,
        env = "DUPLICARIUM_BENCH_DATA_DIR",
        default_value = "duplicarium-bench-data"
    )]
    data_dir: PathBuf,
    #[command(subcommand)]
    command: Command,
}

#[derive(Subcommand)]
enum Command {
    /// Make this computer a bench, with a one-time code from `duplicarium bench add NAME`.
    Enrol {
        /// Address of the service.
        #[arg(long, env = "DUPLICARIUM_SERVICE")]
        service: String,
        /// The code.
        #[arg(long)]
        code: String,
        /// Fingerprint of the service's certificate, which you have compared with the one in its log.
        #[arg(long)]
        fingerprint: Option<String>,
    },
    /// Work for the service until it is stopped.
    Run {
        /// Most that is kept of content, in decimal gigabytes.
        #[arg(long, env = "DUPLICARIUM_BENCH_CACHE_GB", default_value_t = 4.0)]
        cache_gb: f64,
        /// Address of a simulated card reader.
        #[arg(long, env = "DUPLICARIUM_BENCH_STANDIN")]
        standin: Option<SocketAddr>,
    },
    /// Write the manual: a page for each command.
    #[command(hide = true)]
    Manual {
        /// Folder to put the pages into.
        folder: PathBuf,
    },
}

fn main() -> ExitCode {
    tracing_subscriber::fmt()
        .with_env_filter(
            tracing_subscriber::EnvFilter::try_from_env("DUPLICARIUM_LOG")
                .unwrap_or_else(|_| "info".into()),
        )
        .with_writer(std::io::stderr)
        .init();
    let args = Args::parse();
    let runtime = tokio::runtime::Builder::new_multi_thread()
        .worker_threads(2)
        .enable_all()
        .build();
    let result = match runtime {
        Ok(runtime) => runtime.block_on(carry_out(args)),
        Err(e) => Err(e.into()),
    };
    match result {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => {
            eprintln!("duplicarium-bench: {error:#}");
            ExitCode::FAILURE
        }
    }
}

async fn carry_out(args: Args) -> Result<()> {
    match args.command {
        Command::Manual { folder } => {
            std::fs::create_dir_all(&folder)?;
            manual(&folder)
        }
        Command::Enrol {
            service,
            code,
            fingerprint,
        } => enrol(&args.data_dir, service, &code, fingerprint).await,
        Command::Run { cache_gb, standin } => {
            if !(0.0..=10_000.0).contains(&cache_gb) {
                bail!("--cache-gb takes 0 to 10000");
            }
            let kept = Kept::load(&args.data_dir)?;
            let client = client(&kept.service, kept.fingerprint.as_deref())?;
            let readers = Bench::new(standin, Some(args.data_dir.join("bench.toml")));
            let cache = Cache::new(&args.data_dir.join("cache"), (cache_gb * 1e9) as u64);
            tracing::info!("bench {} of {}", kept.name, kept.service);
            let dial = Dial {
                client,
                credential: kept.credential,
            };
            let (stop, stopped) = watch::channel(false);
            let working = tokio::spawn(run(dial, Slots::new(readers, cache), stopped));
            let mut terminate = signal(SignalKind::terminate())?;
            let mut interrupt = signal(SignalKind::interrupt())?;
            tokio::select! {
                _ = terminate.recv() => {}
                _ = interrupt.recv() => {}
            }
            tracing::info!("stopping");
            let _ = stop.send(true);
            Ok(working.await?)
        }
    }
}

/// In the section of what a system runs: `duplicarium bench` has a page of the same name among the commands.
fn manual(folder: &std::path::Path) -> Result<()> {
    let whole = Args::command();
    let own = whole.get_subcommands().filter(|one| !one.is_hide_set());
    let pages = own.map(|one| {
        let name = format!("duplicarium-bench-{}", one.get_name());
        (name.clone(), one.clone().display_name(name))
    });
    let pages: Vec<_> = pages.collect();
    for (name, command) in pages
        .into_iter()
        .chain([("duplicarium-bench".into(), whole)])
    {
        let mut file = std::fs::File::create(folder.join(format!("{name}.8")))?;
        clap_mangen::Man::new(command)
            .section("8")
            .render(&mut file)?;
    }
    Ok(())
}

fn client(service: &str, fingerprint: Option<&str>) -> Result<Client> {
    if api::is_in_the_clear(service) {
        bail!(api::in_the_clear(service));
    }
    let client = Client::new(service, "bench");
    Ok(match fingerprint {
        Some(fingerprint) => client.known_by(fingerprint)?,
        None => client,
    })
}

/// Makes this computer a bench. Nothing is sent to a service whose certificate nobody vouches for and nobody compared.
async fn enrol(
    folder: &std::path::Path,
    service: String,
    code: &str,
    fingerprint: Option<String>,
) -> Result<()> {
    Kept::prepare(folder)?;
    let client = client(&service, fingerprint.as_deref())?;
    let enrolled = match client.enrol(code).await {
        Err(ClientError::NoAnswer { .. })
            if fingerprint.is_none() && service.starts_with("https://") =>
        {
            let Some(shown) = api::shown_fingerprint(&service).await else {
                bail!("no service answers at {service}");
            };
            bail!(
                "no authority vouches for the certificate of {service}. Its fingerprint is\n  {shown}\nCompare it with the one in the service's log, at its start. If they are the same, say so: --fingerprint {shown}"
            );
        }
        other => other?,
    };
    let kept = Kept {
        service,
        name: enrolled.name,
        credential: enrolled.credential,
        fingerprint,
    };
    let path = kept
        .store(folder)
        .context("the code is used up; an owner makes a new one: duplicarium bench code NAME")?;
    println!(
        "this computer is bench {} now; what shows it is kept in {}\nstart it: duplicarium-bench run",
        kept.name,
        path.display()
    );
    Ok(())
}
