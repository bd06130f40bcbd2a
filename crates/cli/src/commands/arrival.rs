//! Arrivals: from the card in its board to the board that does its job.

use std::io::{self, IsTerminal as _, Write as _};
use std::time::Duration;

use anyhow::bail;
use api::{
    Arrival as Row, ArrivalChange, ArrivalDetail, ArrivalEnd, Caution, FirstJoin, HandOver,
    NewArrival, NewSerial, SeenBoard, SerialLog, StepChange,
};
use clap::Subcommand;

use super::write::{ask_accept, show_cautions};
use crate::{Context, text};

#[derive(Subcommand)]
pub enum Arrival {
    /// Say that a card is in its device now: the device is waited for and watched.
    Expect {
        /// The device.
        device: String,
        /// Label of the card that is in it; its own where none is given.
        #[arg(long)]
        card: Option<String>,
        /// Who waits for it.
        #[arg(long, value_name = "NAME", default_value = "")]
        waits: String,
        /// An address to look at, where its network does not tell.
        #[arg(long)]
        address: Option<String>,
    },
    /// List the arrivals.
    List {
        /// Only those that are older than this number.
        #[arg(long, value_name = "NUMBER")]
        before: Option<i64>,
    },
    /// Show an arrival: what is expected, what was seen, what may be wrong.
    Show {
        /// The device, or the number of the arrival.
        which: String,
    },
    /// Say what is seen of a board as it changes, until it is ready or the arrival is over.
    Watch {
        /// The device, or the number of the arrival.
        which: String,
    },
    /// Say what the lamp of the board does, out of the table of its model.
    Lamp {
        /// The device, or the number of the arrival.
        which: String,
        /// The pattern, such as `short,short,short,long`.
        pattern: String,
    },
    /// Give an address to look at.
    At {
        /// The device, or the number of the arrival.
        which: String,
        /// The address.
        address: String,
    },
    /// Hand a board its settings on the network that it opens itself, which the service's computer has joined, or joins
    /// for it.
    HandOver {
        /// The device, or the number of the arrival.
        which: String,
        /// Address and port of the board, where it is not the one that its sheet says.
        #[arg(long)]
        at: Option<String>,
        /// Let the service's computer join that network by its radio, and leave it afterwards.
        #[arg(long)]
        join: bool,
        /// The network that it joins, where several that are heard may be the board's.
        #[arg(long, requires = "join")]
        network: Option<String>,
        /// Only show which network it opens and what it takes there.
        #[arg(long)]
        show: bool,
    },
    /// Listen to a board on a serial line of the service's computer, and print what it says.
    Listen {
        /// The device, or the number of the arrival.
        which: String,
        /// The port; the only one that is named in the configuration where none is given.
        #[arg(long)]
        port: Option<String>,
        /// Its speed.
        #[arg(long, default_value_t = 115_200)]
        baud: u32,
        /// Print what was said so far and end; listening goes on.
        #[arg(long)]
        once: bool,
    },
    /// Listen to a board no more.
    HangUp {
        /// The device, or the number of the arrival.
        which: String,
    },
    /// Print what a board said on its serial line.
    Log {
        /// The device, or the number of the arrival.
        which: String,
    },
    /// Say that a step was done.
    Step {
        /// The device, or the number of the arrival.
        which: String,
        /// Its place in the list.
        place: i32,
        /// What was seen.
        #[arg(long, default_value = "")]
        note: String,
        /// It is not done after all.
        #[arg(long)]
        undo: bool,
    },
    /// Say that the device does its job: it is in service.
    Accept {
        /// The device, or the number of the arrival.
        which: String,
        /// What was seen.
        #[arg(long, default_value = "")]
        note: String,
        /// Names of the cautions that are accepted.
        #[arg(long, value_name = "NAMES", value_delimiter = ',')]
        accept: Vec<String>,
        /// What the device is, for the others: its notes from now on.
        #[arg(long)]
        description: Option<String>,
    },
    /// Say that it does not do its job: it is down.
    Refuse {
        /// The device, or the number of the arrival.
        which: String,
        /// What was seen.
        #[arg(long)]
        note: String,
    },
    /// Wait for it no more.
    Stop {
        /// The device, or the number of the arrival.
        which: String,
    },
}

async fn find(context: &Context, which: &str) -> anyhow::Result<ArrivalDetail> {
    Ok(match which.parse() {
        Ok(id) => context.client.arrival(id).await?,
        Err(_) => context.client.arrival_of(which).await?,
    })
}

/// The arrivals as a table.
fn show_list(rows: &[Row]) {
    if rows.is_empty() {
        println!("No arrival yet. When a card is in its device: duplicarium arrival expect DEVICE");
        return;
    }
    let rows = rows.iter().map(|row| {
        let state = if row.late {
            format!("{}, late", row.state)
        } else {
            row.state.clone()
        };
        [
            row.id.to_string(),
            row.device.clone(),
            row.card.clone().unwrap_or("-".into()),
            row.base.clone(),
            state,
            text::moment(row.began_at),
            row.waits_for.clone(),
        ]
    });
    text::table(
        [
            "arrival", "device", "card", "on it", "state", "since", "waits",
        ],
        &[0],
        rows,
    );
}

fn show_board(board: &SeenBoard) {
    println!("  seen       {} at {}", board.words, board.address);
    println!("             found by {}", board.found_by.join(", "));
    let line = |name: &str, value: &Option<String>| {
        if let Some(value) = value {
            println!("             {name} {value}");
        }
    };
    line("says version", &board.version);
    line("hardware address", &board.mac);
    line(
        "SSH key",
        &board
            .host_key
            .as_ref()
            .map(|key| key.chars().take(16).collect()),
    );
    line(
        "certificate",
        &board
            .certificate
            .as_ref()
            .map(|one| one.chars().take(16).collect()),
    );
    match (&board.problem, board.answers) {
        (Some(problem), _) => println!("             {problem}"),
        (None, true) => println!("             it answers"),
        (None, false) => println!("             it does not answer yet"),
    }
}

pub fn show_arrival(detail: &ArrivalDetail) {
    let (row, expected, seen) = (&detail.arrival, &detail.expected, &detail.seen);
    let late = if row.late { ", late" } else { "" };
    println!(
        "Arrival {} of {}  ({}{late})",
        row.id, row.device, row.state
    );
    let card = row.card.as_deref().unwrap_or("no card of ours");
    println!(
        "  card       {card}, {}",
        if row.base.is_empty() {
            "nothing known on it"
        } else {
            &row.base
        }
    );
    let waits = if row.waits_for.is_empty() {
        String::new()
    } else {
        format!("; {} waits", row.waits_for)
    };
    println!("  since      {}{waits}", text::moment(row.began_at));
    match (row.answered_at, expected.seconds) {
        (Some(at), _) => {
            let took = (at - row.began_at).as_seconds_f64();
            println!("  answered   after {}", text::span(took));
        }
        (None, Some(seconds)) => {
            let net = if expected.internet {
                "; it needs the internet"
            } else {
                ""
            };
            println!(
                "  answers    in about {}, by {}{net}",
                text::span(seconds),
                expected.seconds_by
            );
        }
        (None, None) => {}
    }
    if let Some(page) = &expected.page {
        println!("  page       {page}");
    }
    if !expected.networks.is_empty() {
        println!("  networks   {}", expected.networks.join(", "));
    }
    for board in &seen.boards {
        show_board(board);
    }
    for why in &seen.blind {
        println!("  blind      {why}");
    }
    for check in &seen.checks {
        println!("  {:<10} {}: {}", check.state, check.title, check.words);
    }
    for login in &seen.logins {
        println!("  login      {} is {}", login.user, login.state);
    }
    if let Some(export) = &detail.to_give_back {
        println!(
            "  tuned      its settings of {} can be given back: duplicarium export give {} {}",
            text::moment(export.taken_at),
            export.device,
            export.id
        );
    }
    if !detail.causes.is_empty() {
        println!("  It may be:");
        for cause in &detail.causes {
            println!("    {}", cause.what);
            println!("      {}", cause.todo);
        }
        for lamp in &expected.lamp_table {
            println!("  lamp       {}: {}", lamp.pattern, lamp.means);
        }
    }
    for step in &detail.steps {
        let done = match (&step.done_by, step.done_at) {
            (Some(by), Some(at)) => format!("done by {by}, {}", text::moment(at)),
            _ => "open".into(),
        };
        let note = if step.note.is_empty() {
            String::new()
        } else {
            format!(" ({})", step.note)
        };
        println!("  step {}     {}: {done}{note}", step.place, step.words);
    }
    show_cautions(&detail.cautions, &[]);
    if let (Some(by), Some(at)) = (&row.ended_by, row.ended_at) {
        let note = if row.note.is_empty() {
            String::new()
        } else {
            format!(": {}", row.note)
        };
        println!(
            "  ended      {} by {by}, {}{note}",
            row.state,
            text::moment(at)
        );
    }
}

async fn watch(context: &Context, which: &str) -> anyhow::Result<()> {
    let id = find(context, which).await?.arrival.id;
    let mut shown = String::new();
    loop {
        let detail = context.client.arrival(id).await?;
        let now =
            serde_json::to_string(&(&detail.seen, &detail.arrival.state, detail.arrival.late))?;
        if now != shown {
            context.show(&detail, show_arrival)?;
            shown = now;
        }
        if detail.arrival.ended_at.is_some() || detail.arrival.state == "ready" {
            return Ok(());
        }
        tokio::time::sleep(Duration::from_millis(500)).await;
    }
}

fn show_join(join: &FirstJoin) {
    println!(
        "It opens {}; there {} takes:",
        join.networks.join(" or "),
        join.page
    );
    for one in &join.values {
        let value = match (&one.value, one.secret, one.is_set) {
            (Some(value), ..) => value,
            (None, true, true) => "••••••••",
            _ => "nothing, it is not set",
        };
        println!("  {:<14} {} ({value})", one.key, one.label);
    }
    if join.can_join {
        let heard: Vec<_> = join
            .heard
            .iter()
            .map(|one| format!("{} is heard, with {} of 100", one.name, one.strength))
            .collect();
        println!(
            "The service's computer can join it (--join): {}.",
            match heard.is_empty() {
                true => "it is not heard there yet".into(),
                false => heard.join("; "),
            }
        );
    }
}

fn show_found(log: &SerialLog) {
    for one in &log.found {
        let mark = if one.good { "good" } else { "BAD" };
        println!("{mark:<4} {}: {}", one.means, one.line);
    }
    if let Some(problem) = &log.problem {
        println!("{problem}");
    }
}

/// Prints what a board says as it says it.
async fn listen(context: &Context, id: i64, once: bool) -> anyhow::Result<()> {
    let mut printed = 0;
    loop {
        let log = context.client.serial_log(id).await?;
        if context.json {
            return context.show(&log, |_| ());
        }
        // Of a text that was cut only what is new at its end could be told; it is printed whole again.
        let new = log.text.get(printed..).unwrap_or(&log.text);
        print!("{new}");
        io::stdout().flush()?;
        printed = log.text.len();
        if !log.listening || once {
            println!();
            show_found(&log);
            return Ok(());
        }
        tokio::time::sleep(Duration::from_millis(500)).await;
    }
}

/// The port that is meant.
async fn port_of(context: &Context, given: Option<String>) -> anyhow::Result<String> {
    if let Some(port) = given {
        return Ok(port);
    }
    let ports = context.client.serial_ports().await?;
    match ports.as_slice() {
        [one] => Ok(one.port.clone()),
        [] => bail!("the service's configuration names no serial port (serial_ports)"),
        several => {
            let all: Vec<_> = several.iter().map(|one| one.port.as_str()).collect();
            bail!("say which port: --port {}", all.join(" or "))
        }
    }
}

impl Arrival {
    pub async fn run(self, context: &Context) -> anyhow::Result<()> {
        let client = &context.client;
        let detail = match self {
            Self::List { before } => {
                let page = client.arrivals(before).await?;
                return context.show(&page, |page| {
                    show_list(&page.items);
                    if let Some(next) = page.next {
                        println!("more with --before {next}");
                    }
                });
            }
            Self::Watch { which } => return watch(context, &which).await,
            Self::Listen {
                which,
                port,
                baud,
                once,
            } => {
                let id = find(context, &which).await?.arrival.id;
                let port = port_of(context, port).await?;
                client.listen(id, &NewSerial { port, baud }).await?;
                return listen(context, id, once).await;
            }
            Self::HandOver {
                which,
                at,
                join,
                network,
                show,
            } => {
                let id = find(context, &which).await?.arrival.id;
                if show {
                    return context.show(&client.first_join(id).await?, show_join);
                }
                let given = HandOver {
                    at,
                    joins: join,
                    network,
                };
                client.hand_over(id, &given).await?
            }
            Self::HangUp { which } => {
                let detail = find(context, &which).await?;
                client.hang_up(detail.arrival.id).await?;
                return context.done(&format!(
                    "{} is not listened to any more.",
                    detail.arrival.device
                ));
            }
            Self::Log { which } => {
                let id = find(context, &which).await?.arrival.id;
                return context.show(&client.serial_log(id).await?, |log| {
                    println!("{}", log.text);
                    show_found(log);
                });
            }
            Self::Expect {
                device,
                card,
                waits,
                address,
            } => {
                let new = NewArrival {
                    device,
                    card,
                    waits_for: waits,
                    address,
                };
                client.expect(&new).await?
            }
            Self::Show { which } => find(context, &which).await?,
            Self::Lamp { which, pattern } => {
                let id = find(context, &which).await?.arrival.id;
                let change = ArrivalChange {
                    lamp: Some(pattern),
                    address: None,
                };
                client.tell_arrival(id, &change).await?
            }
            Self::At { which, address } => {
                let id = find(context, &which).await?.arrival.id;
                let change = ArrivalChange {
                    lamp: None,
                    address: Some(address),
                };
                client.tell_arrival(id, &change).await?
            }
            Self::Step {
                which,
                place,
                note,
                undo,
            } => {
                let id = find(context, &which).await?.arrival.id;
                let change = StepChange { done: !undo, note };
                client.tell_step(id, place, &change).await?
            }
            Self::Accept {
                which,
                note,
                mut accept,
                description,
            } => {
                let detail = find(context, &which).await?;
                if detail.arrival.ended_at.is_some() {
                    bail!("arrival {} is over already", detail.arrival.id);
                }
                let open = |one: &Caution| !accept.contains(&one.name);
                if detail.cautions.iter().any(open) && io::stdin().is_terminal() {
                    show_arrival(&detail);
                    accept.extend(ask_accept(&detail.cautions)?);
                }
                let end = ArrivalEnd {
                    how: "accepted".into(),
                    note,
                    accept,
                    description,
                };
                client.end_arrival(detail.arrival.id, &end).await?
            }
            Self::Refuse { which, note } => {
                let id = find(context, &which).await?.arrival.id;
                let end = ArrivalEnd {
                    how: "refused".into(),
                    note,
                    description: None,
                    accept: Vec::new(),
                };
                client.end_arrival(id, &end).await?
            }
            Self::Stop { which } => {
                let id = find(context, &which).await?.arrival.id;
                let end = ArrivalEnd {
                    how: "stopped".into(),
                    ..ArrivalEnd::default()
                };
                client.end_arrival(id, &end).await?
            }
        };
        context.show(&detail, show_arrival)
    }
}
