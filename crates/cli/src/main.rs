//! `duplicarium`: the command line. Noun then verb; `write` and `restore` stand on their own,
//! because they are the job.

#[macro_use]
mod out;

mod commands;
mod follow;
mod roles;
mod signed_in;
mod text;

use std::process::ExitCode;

use api::{Client, ClientError};
use clap::{CommandFactory, FromArgMatches, Parser, Subcommand};

/// Options that every command takes stand apart from its own.
const EVERYWHERE: &str = "Options of every command";

/// Make, record and back up cards for appliance boards.
///
/// Exit codes: 0 done; 1 the work failed or was refused; 2 the command line is wrong;
/// 3 no service answers; 4 cancelled.
#[derive(Parser)]
#[command(name = "duplicarium", version)]
struct Args {
    /// Address of the service.
    #[arg(
        long,
        global = true,
        help_heading = EVERYWHERE,
        default_value = "http://127.0.0.1:7640",
        env = "DUPLICARIUM_SERVICE"
    )]
    service: String,
    /// Who acts, as long as nobody belongs to the team; afterwards it is who is signed in.
    #[arg(
        long,
        global = true,
        help_heading = EVERYWHERE,
        default_value = "operator",
        env = "DUPLICARIUM_OPERATOR"
    )]
    operator: String,
    /// Token to sign in with, for scripts; `duplicarium sign-in` keeps one for you.
    #[arg(
        long,
        global = true,
        help_heading = EVERYWHERE,
        env = "DUPLICARIUM_TOKEN",
        hide_env_values = true
    )]
    token: Option<String>,
    /// Print JSON for programs.
    #[arg(long, global = true, help_heading = EVERYWHERE)]
    json: bool,
    #[command(subcommand)]
    command: Command,
}

#[derive(Subcommand)]
enum Command {
    /// Write a card for a device, or a release for nobody in particular.
    Write(commands::write::Write),
    /// Put a backup onto another card.
    Restore(commands::write::Restore),
    /// Releases in the catalogue.
    #[command(subcommand)]
    Release(commands::release::Release),
    /// Publishers that are followed.
    #[command(subcommand)]
    Feed(commands::feed::Feed),
    /// Devices and their settings.
    #[command(subcommand)]
    Device(commands::device::Device),
    /// Values that several devices share.
    #[command(subcommand)]
    Preset(commands::preset::Preset),
    /// Settings as the files that they become.
    #[command(subcommand)]
    Settings(commands::settings::Settings),
    /// The readers of the bench: which places of its computer are slots.
    #[command(subcommand)]
    Bench(commands::bench::Bench),
    /// The services that work with the same records and the same vault.
    #[command(subcommand)]
    Service(commands::service::ServiceCommand),
    /// Slots and what lies in them.
    #[command(subcommand)]
    Slot(commands::slot::Slot),
    /// Cards.
    #[command(subcommand)]
    Card(commands::card::Card),
    /// Rounds: many cards, made in turn as blank ones go in.
    #[command(subcommand)]
    Round(commands::round::Round),
    /// Arrivals: from the card in its board to the board that does its job.
    #[command(subcommand)]
    Arrival(commands::arrival::Arrival),
    /// Settings that an appliance exports of itself.
    #[command(subcommand)]
    Export(commands::export::Export),
    /// Backups.
    #[command(subcommand)]
    Backup(commands::backup::Backup),
    /// The vault, where all content lies.
    #[command(subcommand)]
    Vault(commands::vault::Vault),
    /// Jobs.
    #[command(subcommand)]
    Job(commands::job::Job),
    /// Board models.
    #[command(subcommand)]
    Board(commands::place::Board),
    /// Sites.
    #[command(subcommand)]
    Site(commands::place::Site),
    /// Sign in; the password is asked for, or read from a line that is piped in.
    SignIn(commands::person::SignIn),
    /// End what this command line is signed in with.
    SignOut,
    /// Choose a password with a one-time code: as the first owner, as somebody new, or after forgetting it.
    Welcome(commands::person::Welcome),
    /// People of the team, and your own password and PIN.
    #[command(subcommand)]
    Person(commands::person::Person),
    /// Sessions, tokens and stations.
    #[command(subcommand)]
    Pass(commands::person::Pass),
    /// Who asked what, from where.
    #[command(subcommand)]
    History(commands::history::History),
    /// Notices: who is told when something needs a person.
    #[command(subcommand)]
    Notice(commands::notice::Notice),
    /// Whether the service is ready, and what needs a hand.
    Status,
    /// Print what lets a shell complete commands and options.
    Completions {
        /// The shell.
        shell: clap_complete::Shell,
    },
    /// Write the manual: a page for each command.
    Manual {
        /// Folder to put the pages into.
        folder: std::path::PathBuf,
    },
}

/// What every command works with.
struct Context {
    client: Client,
    /// Address of the service.
    service: String,
    json: bool,
}

impl Context {
    /// Prints JSON for programs, or what `people` prints for people.
    fn show<T: serde::Serialize>(&self, value: &T, people: impl FnOnce(&T)) -> anyhow::Result<()> {
        if self.json {
            println!("{}", serde_json::to_string_pretty(value)?);
        } else {
            people(value);
        }
        Ok(())
    }

    /// Says that something was done which leaves nothing to show.
    fn done(&self, words: &str) -> anyhow::Result<()> {
        self.show(&serde_json::json!({ "done": words }), |_| {
            println!("{words}")
        })
    }
}

/// The work ended, but not as it should.
#[derive(Debug, thiserror::Error)]
#[error("{detail}")]
struct Ended {
    cancelled: bool,
    detail: String,
}

/// Whether the command failed because the program that read its output stopped reading; a broken connection to the
/// service is another thing.
fn is_unread(error: &anyhow::Error) -> bool {
    let is_broken = |e: &std::io::Error| e.kind() == std::io::ErrorKind::BrokenPipe;
    match error.downcast_ref::<ClientError>() {
        Some(ClientError::File(e)) => is_broken(e),
        Some(_) => false,
        None => error
            .chain()
            .any(|cause| cause.downcast_ref().is_some_and(is_broken)),
    }
}

fn main() -> ExitCode {
    let matches = roles::told(Args::command()).get_matches();
    let args = Args::from_arg_matches(&matches).unwrap_or_else(|e| e.exit());
    let json = args.json;
    let runtime = tokio::runtime::Builder::new_current_thread()
        .enable_all()
        .build();
    let result = match runtime {
        Ok(runtime) => runtime.block_on(run(args)),
        Err(e) => Err(e.into()),
    };
    let Err(error) = result else {
        return ExitCode::SUCCESS;
    };
    if is_unread(&error) {
        return ExitCode::SUCCESS;
    }
    let client = error.downcast_ref::<ClientError>();
    match client {
        Some(ClientError::Refused(problem)) if json => {
            println!(
                "{}",
                serde_json::to_string_pretty(problem).unwrap_or_default()
            );
        }
        _ => eprintln!("duplicarium: {error:#}"),
    }
    let cancelled = error
        .downcast_ref::<Ended>()
        .is_some_and(|ended| ended.cancelled);
    ExitCode::from(match client {
        Some(ClientError::NoAnswer { .. }) => 3,
        _ if cancelled => 4,
        _ => 1,
    })
}

async fn run(args: Args) -> anyhow::Result<()> {
    if api::is_in_the_clear(&args.service) {
        anyhow::bail!(api::in_the_clear(&args.service));
    }
    let token = args.token.filter(|token| !token.is_empty());
    let kept = signed_in::of(&args.service);
    let known_by = kept.as_ref().and_then(|kept| kept.fingerprint.clone());
    let kept = kept
        .map(|kept| kept.token)
        .filter(|token| !token.is_empty());
    let token = token.or(kept);
    let mut client = Client::new(&args.service, &args.operator).with_token(token);
    if let Some(fingerprint) = &known_by {
        client = client.known_by(fingerprint)?;
    }
    let context = Context {
        client: match args.json {
            true => client,
            false => client.for_people(),
        },
        service: args.service,
        json: args.json,
    };
    match args.command {
        Command::Write(write) => write.run(&context).await,
        Command::Restore(restore) => restore.run(&context).await,
        Command::Release(release) => release.run(&context).await,
        Command::Feed(feed) => feed.run(&context).await,
        Command::Device(device) => device.run(&context).await,
        Command::Preset(preset) => preset.run(&context).await,
        Command::Settings(settings) => settings.run(&context).await,
        Command::Bench(bench) => bench.run(&context).await,
        Command::Service(service) => service.run(&context).await,
        Command::Slot(slot) => slot.run(&context).await,
        Command::Card(card) => card.run(&context).await,
        Command::Round(round) => round.run(&context).await,
        Command::Arrival(arrival) => arrival.run(&context).await,
        Command::Export(export) => export.run(&context).await,
        Command::Backup(backup) => backup.run(&context).await,
        Command::Vault(vault) => vault.run(&context).await,
        Command::Job(job) => job.run(&context).await,
        Command::Board(board) => board.run(&context).await,
        Command::Site(site) => site.run(&context).await,
        Command::SignIn(sign_in) => sign_in.run(&context).await,
        Command::SignOut => commands::person::sign_out(&context).await,
        Command::Welcome(welcome) => welcome.run(&context).await,
        Command::Person(person) => person.run(&context).await,
        Command::Pass(pass) => pass.run(&context).await,
        Command::Notice(notice) => notice.run(&context).await,
        Command::History(history) => history.run(&context).await,
        Command::Completions { shell } => {
            let mut out = Vec::new();
            clap_complete::generate(shell, &mut Args::command(), "duplicarium", &mut out);
            std::io::Write::write_all(&mut std::io::stdout(), &out)?;
            Ok(())
        }
        Command::Manual { folder } => {
            std::fs::create_dir_all(&folder)?;
            clap_mangen::generate_to(roles::told(Args::command()), &folder)?;
            context.done(&format!("the manual is in {}", folder.display()))
        }
        Command::Status => {
            let health = context.client.health().await?;
            let attention = context.client.attention().await?;
            let status = api::Status { health, attention };
            context.show(&status, |api::Status { health, attention }| {
                println!("service  {} (version {})", health.status, health.version);
                println!(
                    "bench    {}",
                    if health.bench {
                        "the card reader answers"
                    } else {
                        "no card reader answers"
                    }
                );
                println!("vault    {}", text::size(health.vault_bytes));
                if let Some(key_file) = &health.key_file {
                    println!("key      {key_file} (keep a copy of this file elsewhere)");
                }
                for one in attention {
                    println!("look at  {} (since {})", one.words, text::moment(one.since));
                }
            })
        }
    }
}
