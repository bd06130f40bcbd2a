//! Rounds: cards made in turn as blank ones go in.

use std::collections::{BTreeMap, BTreeSet};
use std::io::{self, IsTerminal, Read, Write as _};
use std::path::PathBuf;
use std::time::Duration;

use anyhow::{Context as _, bail};
use api::{DeviceQuery, NewRound, RoundConfirmation, RoundDetail, RoundEntry};
use clap::Subcommand;

use super::list::{Order, Paging};
use super::write::{ask, ask_accept, show_cautions};
use crate::{Context, Ended, text};

/// Which devices get a card.
#[derive(clap::Args)]
pub struct Planned {
    /// Devices, in this order.
    devices: Vec<String>,
    /// A file with a device a line, or with a column `name`; `-` reads what is typed or piped.
    #[arg(long, value_name = "FILE")]
    from: Option<PathBuf>,
    /// All devices of this standing, such as `outdated` or `settings-changed`; `to-write` for all whose card must be
    /// written again.
    #[arg(long)]
    standing: Option<String>,
    /// All devices of this site.
    #[arg(long)]
    site: Option<String>,
    /// All devices of this appliance.
    #[arg(long)]
    appliance: Option<String>,
    /// What the round is called.
    #[arg(long, default_value = "")]
    title: String,
    /// Make one card first; the others wait until somebody says that it does its job.
    #[arg(long)]
    trial_first: bool,
    /// Failures after which it stops by itself.
    #[arg(long, value_name = "NUMBER")]
    stop_after: Option<u32>,
    /// Let nothing be left of what was on the cards before.
    #[arg(long)]
    wipe_free: bool,
    /// Where the cards are made: slots (`2`, `loft:1`), all slots of a bench (`loft`), or all of the service's own
    /// computer (`here`, as usual).
    #[arg(long, value_name = "PLACES", value_delimiter = ',')]
    at: Vec<String>,
}

#[derive(Subcommand)]
pub enum Round {
    /// Plan a round: a list of devices that get a card each. Nothing is touched.
    Plan(Planned),
    /// Begin a planned round: from now on each blank card that goes into a slot is written.
    Begin {
        /// Number of the round.
        round: i64,
        /// How many cards are made: confirms it without a question.
        #[arg(long, value_name = "NUMBER")]
        cards: Option<u32>,
        /// Names of the cautions that are accepted.
        #[arg(long, value_name = "NAMES", value_delimiter = ',')]
        accept: Vec<String>,
    },
    /// List the rounds.
    List,
    /// Show a round: its cards, and what each slot waits for.
    Show {
        /// Number of the round; the newest one where none is given.
        round: Option<i64>,
    },
    /// Say what each slot waits for as it changes, until the round is over.
    Watch {
        /// Number of the round; the newest one where none is given.
        round: Option<i64>,
        /// Ring the terminal's bell when a hand is needed.
        #[arg(long)]
        tone: bool,
    },
    /// Begin no further card.
    Pause {
        /// Number of the round.
        round: i64,
    },
    /// Go on.
    GoOn {
        /// Number of the round.
        round: i64,
    },
    /// Say that the first card does its job: the others are made.
    Accept {
        /// Number of the round.
        round: i64,
    },
    /// End it. Cards that are being made are made.
    Stop {
        /// Number of the round.
        round: i64,
    },
    /// Leave a device out.
    Skip {
        /// Number of the round.
        round: i64,
        /// The device, or its place in the list.
        device: String,
    },
    /// Take a device in again, that was left out, failed, or was made.
    Again {
        /// Number of the round.
        round: i64,
        /// The device, or its place in the list.
        device: String,
    },
    /// Free a card for a round although it is not blank: what is on it will be lost.
    Free {
        /// Number of the round.
        round: i64,
        /// Label on its sticker.
        label: String,
    },
    /// Print what came of a round, as comma-separated values.
    Report {
        /// Number of the round; the newest one where none is given.
        round: Option<i64>,
    },
}

impl Round {
    pub async fn run(self, context: &Context) -> anyhow::Result<()> {
        let client = &context.client;
        match self {
            Self::Plan(planned) => {
                let round = client.plan_round(&planned.round(context).await?).await?;
                context.show(&round, show)?;
                if !context.json {
                    println!("Begin it with: duplicarium round begin {}", round.round.id);
                }
                Ok(())
            }
            Self::Begin {
                round,
                cards,
                accept,
            } => begin(context, round, cards, accept).await,
            Self::List => context.show(&client.rounds(None).await?, |rounds| {
                let rows = rounds.items.iter().map(|round| {
                    [
                        round.id.to_string(),
                        round.title.clone(),
                        round.state.clone(),
                        format!("{} of {}", round.done, round.cards),
                        round.operator.clone(),
                        text::moment(round.created_at),
                    ]
                });
                text::table(
                    ["round", "title", "state", "made", "by", "planned"],
                    &[0],
                    rows,
                );
            }),
            Self::Show { round } => {
                let round = numbered(context, round).await?;
                context.show(&client.round(round).await?, show)
            }
            Self::Watch { round, tone } => {
                let round = numbered(context, round).await?;
                watch(context, round, tone).await
            }
            Self::Pause { round } => context.show(&client.turn_round(round, "pause").await?, show),
            Self::GoOn { round } => context.show(&client.turn_round(round, "go-on").await?, show),
            Self::Accept { round } => {
                context.show(&client.turn_round(round, "accept").await?, show)
            }
            Self::Stop { round } => context.show(&client.turn_round(round, "stop").await?, show),
            Self::Skip { round, device } => turn(context, round, &device, "skip").await,
            Self::Again { round, device } => turn(context, round, &device, "again").await,
            Self::Free { round, label } => {
                let lost = client.free_for_round(round, &label).await?;
                context.show(&lost, |lost| {
                    println!("Card {label} is written in round {round} when it goes in.");
                    for one in lost {
                        println!("  LOST       {one}");
                    }
                })
            }
            Self::Report { round } => {
                let round = numbered(context, round).await?;
                print!("{}", client.round_report(round).await?);
                Ok(())
            }
        }
    }
}

impl Planned {
    async fn round(self, context: &Context) -> anyhow::Result<NewRound> {
        let mut devices = self.devices;
        if let Some(file) = &self.from {
            devices.extend(names_in(&read(file)?));
        }
        if self.standing.is_some() || self.site.is_some() || self.appliance.is_some() {
            let wanted = DeviceQuery {
                standing: self.standing,
                site: self.site,
                appliance: self.appliance,
                ..DeviceQuery::default()
            };
            let ask = async |page| context.client.devices(&wanted, &page).await;
            let found = Paging::every().gather(&Order::default(), ask).await?;
            devices.extend(found.items.into_iter().map(|device| device.name));
        }
        // What is named and found as well is meant once.
        let mut known = BTreeSet::new();
        devices.retain(|name| known.insert(name.clone()));
        if devices.is_empty() {
            bail!("no device is named, and none is found by what was asked for");
        }
        Ok(NewRound {
            title: self.title,
            devices,
            trial_first: self.trial_first,
            stop_after: self.stop_after,
            wipe_free: self.wipe_free,
            slots: self.at,
            ..NewRound::default()
        })
    }
}

fn read(file: &PathBuf) -> anyhow::Result<String> {
    if file.as_os_str() == "-" {
        let mut text = String::new();
        io::stdin().read_to_string(&mut text)?;
        return Ok(text);
    }
    std::fs::read_to_string(file).with_context(|| format!("cannot read {}", file.display()))
}

/// The devices that a text names: the column `name` of a table, or else the first of each line.
fn names_in(text: &str) -> Vec<String> {
    let cells = |line: &str| -> Vec<String> {
        let cells = line.split([',', ';', '\t']);
        cells
            .map(|cell| cell.trim().trim_matches('"').to_owned())
            .collect()
    };
    let mut lines = text
        .lines()
        .map(cells)
        .filter(|row| row.iter().any(|cell| !cell.is_empty()));
    let Some(first) = lines.next() else {
        return Vec::new();
    };
    let column = first.iter().position(|cell| cell == "name");
    let head = column.is_none().then_some(first);
    let at = column.unwrap_or(0);
    let rows = head.into_iter().chain(lines);
    rows.filter_map(|row| row.get(at).cloned())
        .filter(|name| !name.is_empty())
        .collect()
}

/// The round that is meant where none is named.
async fn numbered(context: &Context, round: Option<i64>) -> anyhow::Result<i64> {
    if let Some(round) = round {
        return Ok(round);
    }
    let rounds = context.client.rounds(None).await?;
    let newest = rounds.items.first().map(|round| round.id);
    newest.context("there is no round yet; plan one with duplicarium round plan")
}

/// Confirms a round by the number of its cards.
pub async fn begin(
    context: &Context,
    id: i64,
    cards: Option<u32>,
    accept: Vec<String>,
) -> anyhow::Result<()> {
    let given = match cards {
        Some(cards) => RoundConfirmation { cards, accept },
        None if !io::stdin().is_terminal() => {
            bail!("nothing was begun: say how many cards are made with --cards");
        }
        None => {
            let planned = context.client.round(id).await?;
            if !context.json {
                show(&planned);
            }
            let said = ask("Type how many cards are made to begin: ")?;
            let Ok(cards) = said.parse() else {
                bail!("nothing was begun");
            };
            let accept = match planned.cautions.as_slice() {
                [] => Vec::new(),
                cautions => ask_accept(cautions)?,
            };
            RoundConfirmation { cards, accept }
        }
    };
    context.show(&context.client.confirm_round(id, &given).await?, show)
}

async fn turn(context: &Context, round: i64, device: &str, turn: &str) -> anyhow::Result<()> {
    let detail = context.client.round(round).await?;
    let is = |entry: &&RoundEntry| {
        entry.device.as_deref() == Some(device) || entry.place.to_string() == device
    };
    let entry = detail
        .entries
        .iter()
        .find(is)
        .with_context(|| format!("{device} is not in round {round}"))?;
    let changed = context
        .client
        .turn_round_entry(round, entry.place, turn)
        .await?;
    context.show(&changed, show)
}

/// Says what each slot waits for as it changes.
async fn watch(context: &Context, id: i64, tone: bool) -> anyhow::Result<()> {
    let mut said = BTreeMap::new();
    let mut state = String::new();
    loop {
        let detail = context.client.round(id).await?;
        let round = &detail.round;
        if context.json {
            println!("{}", serde_json::to_string(&detail)?);
        } else {
            let now = headline(&detail);
            if now != state {
                println!("{now}");
                state = now;
            }
            for slot in &detail.slots {
                let words = (slot.kind.clone(), slot.words.clone());
                if said.get(&slot.slot) == Some(&words) || slot.words.is_empty() {
                    continue;
                }
                let bell = if tone && slot.hand { "\x07" } else { "" };
                println!(
                    "{bell}  slot {:<3} {:<8} {}",
                    slot.slot,
                    word(&slot.kind),
                    slot.words
                );
                said.insert(slot.slot, words);
            }
            io::stdout().flush()?;
        }
        if let "done" | "stopped" = round.state.as_str() {
            return match round.failed {
                0 => Ok(()),
                failed => Err(Ended {
                    cancelled: false,
                    detail: format!("{failed} cards of round {id} could not be made"),
                }
                .into()),
            };
        }
        tokio::time::sleep(Duration::from_millis(700)).await;
    }
}

fn word(kind: &str) -> &'static str {
    match kind {
        "put-in" => "PUT IN",
        "pull" => "PULL",
        "failed" => "FAILED",
        "other" => "NOT THIS",
        "at-work" => "at work",
        _ => "",
    }
}

fn headline(detail: &RoundDetail) -> String {
    let round = &detail.round;
    let why = round
        .why
        .as_ref()
        .map_or(String::new(), |why| format!(": {why}"));
    let mut rest = Vec::new();
    for (count, word) in [
        (round.at_work, "at work"),
        (round.waiting, "waiting"),
        (round.failed, "not possible"),
        (round.skipped, "left out"),
    ] {
        if count > 0 {
            rest.push(format!(", {count} {word}"));
        }
    }
    format!(
        "Round {}, {}  ({}{why})  {} of {} made{}",
        round.id,
        round.title,
        round.state,
        round.done,
        round.cards,
        rest.concat()
    )
}

/// A round for people.
pub fn show(detail: &RoundDetail) {
    println!("{}", headline(detail));
    let round = &detail.round;
    if round.trial_first {
        println!("  trial      the first card must do its job before the others are made");
    }
    println!("  stops      by itself after {} failures", round.stop_after);
    if !round.slots.is_empty() {
        let own = |place: &String| match place.as_str() {
            "here" => "the service's own computer".to_owned(),
            place => place.to_owned(),
        };
        let places: Vec<_> = round.slots.iter().map(own).collect();
        println!("  made at    {}", places.join(", "));
    }
    if round.wipe_free {
        println!("  wiped      nothing is left of what was on the cards before");
    }
    if !detail.freed.is_empty() {
        println!("  freed      {}", detail.freed.join(", "));
    }
    if round.state == "planned" {
        show_cautions(&detail.cautions, &[]);
    }
    let rows = detail.entries.iter().map(|entry| {
        let slot = entry.slot.map_or("-".into(), |slot| slot.to_string());
        [
            entry.place.to_string(),
            text::or_dash(&entry.device),
            entry.base.clone(),
            entry.state.clone(),
            text::or_dash(&entry.card),
            slot,
            entry.seconds.map_or("-".into(), text::span),
            entry.why.clone().unwrap_or_default(),
        ]
    });
    text::table(
        ["", "device", "gets", "state", "card", "slot", "took", "why"],
        &[0, 5, 6],
        rows,
    );
    for slot in detail.slots.iter().filter(|slot| !slot.words.is_empty()) {
        println!(
            "  slot {:<3} {:<8} {}",
            slot.slot,
            word(&slot.kind),
            slot.words
        );
    }
}

#[cfg(test)]
mod tests {
    use super::names_in;

    #[test]
    fn devices_are_read_from_lists_and_tables() {
        let quays = ["quay-01", "quay-02"];
        for text in [
            "quay-01\nquay-02\n",
            "\n quay-01 \r\nquay-02",
            "site,name\nquay,quay-01\nquay,\"quay-02\"\n",
            "name;site\nquay-01;quay\nquay-02;quay\n",
        ] {
            assert_eq!(names_in(text), quays, "{text:?}");
        }
        assert_eq!(names_in(""), [""; 0]);
    }
}
