//! `duplicariumd`: the service. It owns the records and the vault, works on the cards of its
//! bench, and serves the HTTP interface and the console.

mod admit;
mod app;
mod checkup;
mod config;
mod console;
mod drawer;
mod error;
mod folder;
mod guard;
mod housekeeping;
mod peers;
mod recovery;
mod request;
mod routes;
mod serve;
mod shares;
mod supervised;
mod tls;
mod turns;

use std::os::unix::process::CommandExt;
use std::process::ExitCode;

use anyhow::{Context, Result, bail};
use clap::Parser;
use operations::people::owner_code;
use tokio::net::TcpListener;
use tokio::signal::unix::{SignalKind, signal};
use tokio::sync::watch;

use crate::app::App;
use crate::config::{Args, Config};
use crate::tls::Certificates;

/// Starts this program again with two arenas of memory. The system's allocator gives each thread one
/// of its own and keeps what each of them once had, so that a service whose jobs have threads of
/// their own would never become small again; how many there are can be said before the start only.
fn bound_arenas() {
    const ARENAS: &str = "MALLOC_ARENA_MAX";
    if std::env::var_os(ARENAS).is_some() {
        return;
    }
    let Ok(program) = std::env::current_exe() else {
        return;
    };
    let mut words = std::env::args_os();
    let mut again = std::process::Command::new(program);
    if let Some(name) = words.next() {
        again.arg0(name);
    }
    // Returns only if it failed; then the service goes on as it is.
    let _ = again.args(words).env(ARENAS, "2").exec();
}

fn main() -> ExitCode {
    bound_arenas();
    let args = Args::parse();
    if args.openapi {
        println!("{}", routes::document());
        return ExitCode::SUCCESS;
    }
    let at_the_drawer = args.show_key || args.enter_key;
    if at_the_drawer {
        let show = args.show_key;
        let done = Config::settle(args).and_then(|config| match show {
            true => drawer::show_key(&config),
            false => drawer::enter_key(&config),
        });
        return match done {
            Ok(()) => ExitCode::SUCCESS,
            Err(e) => {
                eprintln!("duplicariumd: {e:#}");
                ExitCode::FAILURE
            }
        };
    }
    let log = tracing_subscriber::fmt()
        .with_writer(std::io::stderr)
        .with_ansi(std::io::IsTerminal::is_terminal(&std::io::stderr()))
        .with_env_filter(
            tracing_subscriber::EnvFilter::try_from_env("DUPLICARIUM_LOG")
                .unwrap_or_else(|_| "info,sqlx=warn".into()),
        );
    match args.log_json == Some(true) {
        true => log.json().flatten_event(true).init(),
        false => log.init(),
    }
    let runtime = match tokio::runtime::Builder::new_multi_thread()
        .enable_all()
        .build()
    {
        Ok(runtime) => runtime,
        Err(e) => {
            eprintln!("duplicariumd: cannot start: {e}");
            return ExitCode::FAILURE;
        }
    };
    match runtime.block_on(run(args)) {
        Ok(()) => ExitCode::SUCCESS,
        Err(e) => {
            eprintln!("duplicariumd: {e:#}");
            ExitCode::FAILURE
        }
    }
}

async fn run(args: Args) -> Result<()> {
    let (recover, check, first_owner) = (args.recover, args.check, args.first_owner);
    let config = Config::settle(args)?;
    serve::raise_open_files();
    // Fetching over https needs to know whose cryptography to use; only the first call counts.
    let _ = rustls::crypto::ring::default_provider().install_default();
    if recover {
        return recovery::recover(config).await;
    }
    if first_owner {
        return drawer::first_owner(config).await;
    }
    if check {
        return checkup::check(config).await;
    }
    // The port is taken first: a second service ends here, before it touches anything.
    let listener = TcpListener::bind(config.listen).await.with_context(|| {
        format!(
            "cannot listen at {}; is another service running? Choose another address with --listen",
            config.listen
        )
    })?;
    let (remote, place, listen) = (config.net.remote, config.tls.clone(), config.listen);
    let mut terminate = signal(SignalKind::terminate())?;
    let data_dir = &config.data_dir;
    keep_private(data_dir)
        .with_context(|| format!("cannot make the data folder {}", data_dir.display()))?;
    let certificates = place.map(Certificates::open).transpose()?;
    let fingerprint = certificates.as_ref().map(|shown| shown.fingerprint());
    let starting = supervised::Starting::begin();
    let app = App::open(config, fingerprint).await?;
    let people = match app.people.any().await {
        Ok(any) => any,
        Err(e) => {
            app.close().await;
            bail!(
                "whether anybody belongs to the team cannot be found out: {}",
                e.detail
            );
        }
    };
    if remote && !people {
        app.close().await;
        bail!(
            "{listen} can be reached by others, and nobody belongs to the team yet. Start once at 127.0.0.1, make the first \
             owner (duplicariumd --first-owner, then duplicarium welcome), then listen there"
        );
    }
    if !people {
        let code = owner_code(&app.records).await?;
        tracing::warn!(
            "nobody belongs to the team yet: whoever sits at this computer may do everything. To make the first owner: \
             duplicarium welcome --name NAME --code {code}"
        );
    }
    if let Some(name) = &app.loopback_person {
        tracing::warn!("whoever sits at this computer acts as {name} without signing in");
    }
    housekeeping::begin(&app);
    let address = listener.local_addr()?;
    match &certificates {
        Some(shown) => {
            let fingerprint = shown.fingerprint();
            tracing::info!("ready at https://{address}, certificate {fingerprint}");
            app.watch(shown.clone().keep_current());
        }
        None => tracing::info!("ready at http://{address}"),
    }
    drop(starting);
    supervised::tell("READY=1");
    app.watch(supervised::keep_telling(app.clone()));
    let acceptor = certificates.as_ref().map(Certificates::acceptor);
    let (end, ending) = watch::channel(false);
    let served = tokio::spawn(serve::serve(
        listener,
        routes::router(app.clone()),
        acceptor,
        ending,
    ));
    let result = tokio::select! {
        stopped = tokio::signal::ctrl_c() => stopped.context("waiting for the end failed"),
        _ = terminate.recv() => Ok(()),
    };
    tracing::info!("stopping");
    supervised::tell("STOPPING=1");
    // No new work from here on; what is asked now is still answered.
    app.jobs.close();
    let _ = end.send(true);
    let _ = served.await;
    app.close().await;
    result
}

/// Makes the data folder, and lets nobody else read what is put into it from now on: uploads, keys, records, what checks keep.
fn keep_private(data_dir: &std::path::Path) -> std::io::Result<()> {
    std::fs::create_dir_all(data_dir)?;
    // Started as root, the own PostgreSQL is another user, and has its folder in here: it may pass through, and see nothing.
    let mode = match rustix::process::geteuid().is_root() {
        true => 0o711,
        false => 0o700,
    };
    std::fs::set_permissions(data_dir, std::os::unix::fs::PermissionsExt::from_mode(mode))?;
    rustix::process::umask(rustix::fs::Mode::from_bits_truncate(0o077));
    Ok(())
}
