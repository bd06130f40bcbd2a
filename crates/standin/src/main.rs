//! `duplicarium-standin`: a card reader, cards and boards for demos and tests.

use std::net::SocketAddr;
use std::path::PathBuf;
use std::process::ExitCode;

use anyhow::{Context, Result, bail};
use bench::wire::{
    BoardKind, BoardState, Fault, Line, Network, NewCard, PageFault, Reply, Request,
};
use clap::{Parser, Subcommand};
use comfy_table::{Table, presets};
use standin::{Ear, Orders, Publisher, Serial, Server, Told};

/// Stand-in card reader and boards.
#[derive(Parser)]
#[command(name = "duplicarium-standin", version)]
struct Args {
    /// Address of the stand-in's server.
    #[arg(
        long,
        global = true,
        default_value = "127.0.0.1:7641",
        env = "DUPLICARIUM_STANDIN"
    )]
    at: SocketAddr,
    /// Print JSON.
    #[arg(long, global = true)]
    json: bool,
    #[command(subcommand)]
    command: Command,
}

#[derive(Subcommand)]
enum Command {
    /// Serve the card reader and the boards.
    Serve {
        /// Folder of the cards.
        #[arg(long)]
        dir: PathBuf,
        /// Number of slots, when the folder is new.
        #[arg(long, default_value_t = 4)]
        slots: u32,
    },
    /// Serve the releases in a folder as a publisher does: a feed, files with ranges, sheets.
    Publish {
        /// Folder with images and their sheets.
        #[arg(long)]
        dir: PathBuf,
        /// Address to serve at.
        #[arg(long, default_value = "127.0.0.1:7642")]
        listen: SocketAddr,
    },
    /// Be a mailbox: an SMTP server that keeps each message as a file.
    Mailbox {
        /// Folder for the messages.
        #[arg(long)]
        dir: PathBuf,
        /// Address to listen at.
        #[arg(long, default_value = "127.0.0.1:7643")]
        listen: SocketAddr,
        /// Turn the first so many messages away for now.
        #[arg(long, default_value_t = 0)]
        refuse: u32,
    },
    /// Be a program that is called with notices, and keeps each call as a file.
    Program {
        /// Folder for the calls.
        #[arg(long)]
        dir: PathBuf,
        /// Address to listen at.
        #[arg(long, default_value = "127.0.0.1:7644")]
        listen: SocketAddr,
        /// Turn the first so many calls away.
        #[arg(long, default_value_t = 0)]
        refuse: u32,
    },
    /// Be the serial line of a board that says its boot log over and over.
    Serial {
        /// Where its port is found.
        #[arg(long)]
        link: PathBuf,
        /// File with the log.
        #[arg(long)]
        says: PathBuf,
    },
    /// Order faults of the publisher of a folder; none mends it.
    Order {
        /// Its folder.
        #[arg(long)]
        dir: PathBuf,
        /// Cut each answer off after so many bytes.
        #[arg(long, value_parser = size)]
        cut: Option<u64>,
        /// Limit, a second.
        #[arg(long, value_parser = size)]
        rate: Option<u64>,
        /// The feed names wrong checksums.
        #[arg(long)]
        wrong_checksum: bool,
        /// Ranges are not understood.
        #[arg(long)]
        no_ranges: bool,
        /// Every answer is an error.
        #[arg(long)]
        down: bool,
        /// USER:PASSWORD that is wanted.
        #[arg(long)]
        login: Option<String>,
    },
    /// List the cards and where they are.
    Cards,
    /// Make a blank card.
    Make {
        /// Name in the drawer.
        card: String,
        /// Size in bytes, or with MB or GB (decimal).
        #[arg(long, value_parser = size)]
        size: u64,
        /// Kind of medium.
        #[arg(long, default_value = "SD card")]
        kind: String,
        /// Slider on lock.
        #[arg(long)]
        locked: bool,
        /// Limit, a second.
        #[arg(long, value_parser = size)]
        rate: Option<u64>,
        /// A fault: wraps=SIZE, drops=SIZE, bad=OFFSET+LEN, flips=EVERY, keeps-nothing, read-only=AFTER, vanishes=AFTER.
        #[arg(long, value_parser = fault)]
        fault: Option<Fault>,
        /// Length of the blocks that its reader counts in, in bytes: 512, or 4096 as in some readers.
        #[arg(long, default_value_t = 512)]
        block: u32,
    },
    /// Give a card a fault, or none.
    Fault {
        /// Name of the card.
        card: String,
        /// As for make; leave it out to mend the card.
        #[arg(value_parser = fault)]
        fault: Option<Fault>,
    },
    /// Put a card into a slot.
    Put {
        /// Name of the card.
        card: String,
        /// Slot.
        #[arg(long)]
        slot: u32,
    },
    /// Pull the card out of a slot.
    Pull {
        /// Slot.
        #[arg(long)]
        slot: u32,
    },
    /// Say which Wi-Fi networks there are, from a JSON file.
    Air {
        /// List of name, passphrase, country.
        file: PathBuf,
    },
    /// Put a card into a board and switch it on.
    Boot {
        /// Name of the card.
        card: String,
        /// Board model.
        #[arg(long)]
        model: String,
        /// Its hardware address; else one is made of the card's name.
        #[arg(long)]
        mac: Option<String>,
        /// Seconds until it has joined its network.
        #[arg(long, default_value_t = 0)]
        seconds: u32,
        /// It starts anew each time it has come up.
        #[arg(long)]
        in_circles: bool,
        /// Another number has other keys with the same card.
        #[arg(long, default_value_t = 0)]
        key: u32,
        /// It opens a network of its own and waits there for its settings.
        #[arg(long)]
        own_network: bool,
        /// Seconds that its clock is ahead; behind, if negative.
        #[arg(long, default_value_t = 0, allow_negative_numbers = true)]
        clock_ahead: i64,
        /// It was updated in place, and says that it runs this.
        #[arg(long)]
        runs: Option<String>,
        /// What is wrong with its pages: sends-on, cut, no-password or any-password.
        #[arg(long, value_name = "FAULT")]
        pages: Option<PageFault>,
    },
    /// Be the radio of the service's computer: what it hears, and the network of a board that it joins.
    Radio {
        #[command(subcommand)]
        does: Radio,
    },
    /// List the boards that are on.
    Boards,
    /// Switch a board off and take its card out.
    Halt {
        /// Name of the card in it.
        card: String,
    },
}

#[derive(Subcommand)]
enum Radio {
    /// Print the networks that are heard.
    Hears,
    /// Join one, and print where the page of its board is reached.
    Joins {
        /// Name of the network.
        network: String,
    },
    /// Leave it.
    Leaves,
}

/// What a radio says: each network is heard, and those of boards the better.
fn radio(does: &Radio, at: SocketAddr) -> Result<()> {
    let line = Line::new(Some(at));
    let ask = |request: &Request| {
        let (reply, _) = line
            .ask(request, &[])
            .with_context(|| format!("no stand-in answers at {at}"))?;
        anyhow::Ok(reply)
    };
    match does {
        Radio::Hears => {
            let Reply::Networks(names) = ask(&Request::Heard)? else {
                bail!("the stand-in says nothing of networks");
            };
            for (place, name) in names.iter().enumerate() {
                println!("{} {name}", 60 + place.min(40));
            }
        }
        Radio::Joins { network } => {
            let Reply::Boards(boards) = ask(&Request::Boards)? else {
                bail!("the stand-in says nothing of boards");
            };
            let board = boards
                .iter()
                .find(|board| board.own_network.as_deref() == Some(network));
            let board = board.with_context(|| format!("no network named {network} is heard"))?;
            let port = board.ports.get(&80).context("it has no page")?;
            println!("127.0.0.1:{port}");
        }
        Radio::Leaves => {}
    }
    Ok(())
}

fn size(text: &str) -> Result<u64, String> {
    let (number, factor) = match text {
        _ if text.ends_with("GB") => (&text[..text.len() - 2], 1e9),
        _ if text.ends_with("MB") => (&text[..text.len() - 2], 1e6),
        _ => (text, 1.0),
    };
    let value: f64 = number
        .parse()
        .map_err(|_| format!("{text:?} is no size; try 4GB or 500MB"))?;
    // Cards are counted in whole sectors.
    Ok((value * factor) as u64 / 512 * 512)
}

fn fault(text: &str) -> Result<Fault, String> {
    let (kind, value) = text.split_once('=').unwrap_or((text, ""));
    Ok(match kind {
        "wraps" => Fault::Wraps {
            capacity: size(value)?,
        },
        "drops" => Fault::Drops {
            capacity: size(value)?,
        },
        "flips" => Fault::FlipsBits {
            every: size(value)?,
        },
        "vanishes" => Fault::Vanishes {
            after: size(value)?,
        },
        "read-only" => Fault::ReadOnly {
            after: size(value)?,
        },
        "keeps-nothing" => Fault::KeepsNothing,
        "bad" => {
            let (offset, len) = value.split_once('+').ok_or("bad takes OFFSET+LEN")?;
            Fault::BadRegion {
                offset: size(offset)?,
                len: size(len)?,
            }
        }
        _ => return Err(format!("{kind:?} is no fault")),
    })
}

fn told(ear: Ear, dir: &std::path::Path, listen: SocketAddr, refuse: u32) -> Result<()> {
    let told = Told::bind(ear, dir, listen, refuse).with_context(|| {
        format!(
            "cannot listen at {listen}, or not write in {}",
            dir.display()
        )
    })?;
    println!("stand-in {ear:?} at {listen}");
    Ok(told.run()?)
}

fn main() -> ExitCode {
    match run(Args::parse()) {
        Ok(()) => ExitCode::SUCCESS,
        Err(e) => {
            eprintln!("duplicarium-standin: {e:#}");
            ExitCode::FAILURE
        }
    }
}

fn run(args: Args) -> Result<()> {
    let request = match args.command {
        Command::Serve { dir, slots } => {
            let server = Server::bind(&dir, slots, args.at).with_context(|| {
                format!("cannot serve the cards in {} at {}", dir.display(), args.at)
            })?;
            println!("stand-in card reader at {}", server.address()?);
            return Ok(server.run()?);
        }
        Command::Serial { link, says } => {
            let log = std::fs::read_to_string(&says)
                .with_context(|| format!("cannot read {}", says.display()))?;
            let line = Serial::at(&link)
                .with_context(|| format!("cannot be a serial line at {}", link.display()))?;
            println!("stand-in serial line at {}", link.display());
            return Ok(line.say(&log)?);
        }
        Command::Publish { dir, listen } => {
            let publisher = Publisher::bind(&dir, listen)
                .with_context(|| format!("cannot publish {} at {listen}", dir.display()))?;
            println!("stand-in publisher, feed at {}", publisher.feed()?);
            return Ok(publisher.run()?);
        }
        Command::Mailbox {
            dir,
            listen,
            refuse,
        } => {
            return told(Ear::Mailbox, &dir, listen, refuse);
        }
        Command::Program {
            dir,
            listen,
            refuse,
        } => {
            return told(Ear::Program, &dir, listen, refuse);
        }
        Command::Order {
            dir,
            cut,
            rate,
            wrong_checksum,
            no_ranges,
            down,
            login,
        } => {
            let login = login.as_deref().map(|login| {
                let (user, password) = login.split_once(':').unwrap_or((login, ""));
                (user.to_owned(), password.to_owned())
            });
            let orders = Orders {
                cut,
                rate,
                wrong_checksum,
                no_ranges,
                down,
                login,
            };
            return Ok(orders.give(&dir)?);
        }
        Command::Cards => Request::Cards,
        Command::Make {
            card,
            size,
            kind,
            locked,
            rate,
            fault,
            block,
        } => Request::Make {
            card: NewCard {
                name: card,
                size,
                kind,
                locked,
                rate,
                fault,
                block,
            },
        },
        Command::Fault { card, fault } => Request::Fault { card, fault },
        Command::Put { card, slot } => Request::Put { card, slot },
        Command::Pull { slot } => Request::Pull { slot },
        Command::Air { file } => {
            let text =
                std::fs::read(&file).with_context(|| format!("cannot read {}", file.display()))?;
            let networks: Vec<Network> =
                serde_json::from_slice(&text).context("no list of networks")?;
            Request::Air { networks }
        }
        Command::Boot {
            card,
            model,
            mac,
            seconds,
            in_circles,
            key,
            own_network,
            clock_ahead,
            runs,
            pages,
        } => {
            let board = BoardKind {
                mac,
                seconds,
                in_circles,
                key,
                own_network,
                clock_ahead,
                runs,
                pages,
            };
            Request::Boot { card, model, board }
        }
        Command::Radio { does } => return radio(&does, args.at),
        Command::Boards => Request::Boards,
        Command::Halt { card } => Request::Halt { card },
    };
    let line = Line::new(Some(args.at));
    let (reply, _) = line
        .ask(&request, &[])
        .with_context(|| format!("no stand-in answers at {}", args.at))?;
    show(&reply, args.json)
}

fn show(reply: &Reply, json: bool) -> Result<()> {
    if let Reply::Refused { message, .. } = reply {
        bail!("{message}");
    }
    if json {
        println!("{}", serde_json::to_string_pretty(reply)?);
        return Ok(());
    }
    let mut table = Table::new();
    table.load_style(presets::NOTHING);
    match reply {
        Reply::Cards(cards) => {
            table.set_header(["card", "size", "kind", "place", "fault"]);
            for state in cards {
                let card = &state.card;
                let fault = match &card.fault {
                    Some(fault) => serde_json::to_string(fault)?,
                    None if card.locked => "locked".into(),
                    None => String::new(),
                };
                let size = format!("{:.2} GB", card.size as f64 / 1e9);
                table.add_row([&card.name, &size, &card.kind, &state.place, &fault]);
            }
        }
        Reply::Boards(boards) => {
            for board in boards {
                print_board(board);
            }
            return Ok(());
        }
        _ => {
            println!("done");
            return Ok(());
        }
    }
    println!("{table}");
    Ok(())
}

fn print_board(board: &BoardState) {
    let or = |value: &Option<String>| value.clone().unwrap_or("-".into());
    println!("{} with card {}", board.model, board.card);
    println!("  lamp       {} ({})", board.lamp, board.meaning);
    println!("  appliance  {}", or(&board.appliance));
    println!("  host name  {}", or(&board.host_name));
    match &board.not_joined {
        Some(why) => println!("  network    not joined: {why}"),
        None => println!("  network    {}", or(&board.joined)),
    }
    for found in &board.found {
        println!("  found      {found}");
    }
    if let Some(own) = &board.own_network {
        println!(
            "  opens      {own}, its page is at 127.0.0.1:{}",
            board.ports.get(&80).unwrap_or(&80)
        );
    }
    println!("  address    {}", or(&board.mac));
    println!("  page       {}", or(&board.page));
}
