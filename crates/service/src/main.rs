//! `duplicariumd`: the service. It owns the records and the vault, works on the cards of its
//! bench, and serves the HTTP interface and the console.

mod app;
mod bus;
mod catalogue;
mod config;
mod console;
mod error;
mod feeds;
mod jobs;
mod plans;
mod routes;
mod settings;
mod slots;
mod views;
mod work;

use std::process::ExitCode;

use anyhow::{Context, Result};
use clap::Parser;
use tokio::net::TcpListener;
use tokio::signal::unix::{SignalKind, signal};

use crate::app::App;
use crate::config::{Args, Config};

fn main() -> ExitCode {
    let args = Args::parse();
    if args.openapi {
        println!("{}", routes::document());
        return ExitCode::SUCCESS;
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
    let config = Config::settle(args)?;
    // Fetching over https needs to know whose cryptography to use; only the first call counts.
    let _ = rustls::crypto::ring::default_provider().install_default();
    // The port is taken first: a second service ends here, before it touches anything.
    let listener = TcpListener::bind(config.listen).await.with_context(|| {
        format!(
            "cannot listen at {}; is another service running? Choose another address with --listen",
            config.listen
        )
    })?;
    let mut terminate = signal(SignalKind::terminate())?;
    let app = App::open(config).await?;
    let address = listener.local_addr()?;
    tracing::info!("ready at http://{address}");
    let served = axum::serve(listener, routes::router(app.clone()));
    let result = tokio::select! {
        served = served => served.context("serving failed"),
        _ = tokio::signal::ctrl_c() => Ok(()),
        _ = terminate.recv() => Ok(()),
    };
    tracing::info!("stopping");
    app.close().await;
    result
}
