//! `duplicariumd`: the service. It owns the records and the vault, works on the cards of its
//! bench, and serves the HTTP interface and the console.

mod app;
mod config;
mod console;
mod drawer;
mod error;
mod housekeeping;
mod routes;
mod serve;
mod turns;

use std::os::unix::process::CommandExt;
use std::process::ExitCode;

use anyhow::{Context, Result};
use clap::Parser;
use tokio::net::TcpListener;
use tokio::signal::unix::{SignalKind, signal};
use tokio::sync::watch;

use crate::app::App;
use crate::config::{Args, Config};

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
    tracing_subscriber::fmt()
        .with_writer(std::io::stderr)
        .with_ansi(std::io::IsTerminal::is_terminal(&std::io::stderr()))
        .with_env_filter(
            tracing_subscriber::EnvFilter::try_from_env("DUPLICARIUM_LOG")
                .unwrap_or_else(|_| "info,sqlx=warn".into()),
        )
        .init();
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
    let recover = args.recover;
    let config = Config::settle(args)?;
    serve::raise_open_files();
    // Fetching over https needs to know whose cryptography to use; only the first call counts.
    let _ = rustls::crypto::ring::default_provider().install_default();
    if recover {
        return drawer::recover(config).await;
    }
    // The port is taken first: a second service ends here, before it touches anything.
    let listener = TcpListener::bind(config.listen).await.with_context(|| {
        format!(
            "cannot listen at {}; is another service running? Choose another address with --listen",
            config.listen
        )
    })?;
    let mut terminate = signal(SignalKind::terminate())?;
    let app = App::open(config).await?;
    housekeeping::begin(&app);
    let address = listener.local_addr()?;
    tracing::info!("ready at http://{address}");
    let (end, ending) = watch::channel(false);
    let served = tokio::spawn(serve::serve(listener, routes::router(app.clone()), ending));
    let result = tokio::select! {
        stopped = tokio::signal::ctrl_c() => stopped.context("waiting for the end failed"),
        _ = terminate.recv() => Ok(()),
    };
    tracing::info!("stopping");
    // No new work from here on; what is asked now is still answered.
    app.jobs.close();
    let _ = end.send(true);
    let _ = served.await;
    app.close().await;
    result
}
