//! `write` and `restore`: plan, confirmation by the card's label, progress, verification.

use std::io::{self, BufRead, IsTerminal, Write as _};

use anyhow::bail;
use api::{Caution, Confirmation, Job, NewPlan, Plan, SlotName};
use clap::Args;

use super::request_key;
use super::settings::head;
use crate::follow::follow;
use crate::{Context, text};

/// How the card is chosen and confirmed.
#[derive(Args)]
pub struct Target {
    /// Slot of the card.
    #[arg(long)]
    pub slot: SlotName,
    /// Label of the card: confirms the plan without a question.
    #[arg(long, value_name = "LABEL")]
    pub yes: Option<String>,
    /// Names of the cautions that are accepted, besides: `--accept old-data,second-card`.
    #[arg(long, value_name = "NAMES", value_delimiter = ',')]
    pub accept: Vec<String>,
    /// Only show the plan.
    #[arg(long)]
    pub plan: bool,
}

impl Target {
    /// Says to a plan what the person at the terminal says, and follows the job that it becomes.
    pub async fn confirm_and_follow(
        self,
        context: &Context,
        plan: &str,
        cautions: &[Caution],
    ) -> anyhow::Result<Job> {
        let given = self.agree(cautions)?;
        let job = context
            .client
            .confirm(plan, given, Some(&request_key()))
            .await?;
        follow(context, &job).await
    }

    /// What the person at the terminal says to a plan: asked for where it was not given.
    fn agree(self, cautions: &[Caution]) -> anyhow::Result<Confirmation> {
        let Some(card) = self.yes else {
            let card = ask_label(self.slot)?;
            let accept = match cautions {
                [] => Vec::new(),
                _ => ask_accept(cautions)?,
            };
            return Ok(Confirmation { card, accept });
        };
        Ok(Confirmation {
            card,
            accept: self.accept,
        })
    }
}

/// Shows what has to be accepted, and what is worth knowing besides.
pub fn show_cautions(cautions: &[Caution], notes: &[String]) {
    for note in notes {
        println!("  note       {note}");
    }
    for caution in cautions {
        println!("  CAUTION    {}: {}", caution.name, caution.words);
    }
}

/// Asks for the names of the cautions that are accepted.
pub fn ask_accept(cautions: &[Caution]) -> anyhow::Result<Vec<String>> {
    let names: Vec<_> = cautions.iter().map(|one| one.name.as_str()).collect();
    let said = ask(&format!(
        "Type the name of each caution that you accept ({}): ",
        names.join(" ")
    ))?;
    let said = said.split([' ', ',']).filter(|word| !word.is_empty());
    Ok(said.map(str::to_owned).collect())
}

pub fn ask(question: &str) -> anyhow::Result<String> {
    eprint!("{question}");
    io::stderr().flush()?;
    let mut answer = String::new();
    io::stdin().lock().read_line(&mut answer)?;
    Ok(answer.trim().to_owned())
}

/// Write a card.
#[derive(Args)]
pub struct Write {
    /// Device that the card is for.
    #[arg(required_unless_present = "release")]
    device: Option<String>,
    /// Release to write, in place of the newest that suits the device.
    #[arg(long)]
    release: Option<String>,
    /// Write a withdrawn release all the same; the reason is recorded.
    #[arg(long, value_name = "REASON")]
    although_withdrawn: Option<String>,
    /// Change a file system that is found damaged all the same; the reason is recorded.
    #[arg(long, value_name = "REASON")]
    although_damaged: Option<String>,
    /// Leave partitions that cannot be edited as they are, and write the rest.
    #[arg(long)]
    leave_out: bool,
    /// Let nothing be left of what was on the card before: what stays free reads as zero. It takes as long
    /// as writing the whole card, unless the card can be told to forget.
    #[arg(long)]
    wipe_free: bool,
    #[command(flatten)]
    target: Target,
}

/// Restore a backup.
#[derive(Args)]
pub struct Restore {
    /// Name of the backup.
    backup: String,
    /// Give it the settings of this device, by the sheet of the release that is in it, in place of what it
    /// carries.
    #[arg(long = "for", value_name = "DEVICE")]
    device: Option<String>,
    /// Leave the last partition as large as it was, also on a larger card.
    #[arg(long)]
    keep_size: bool,
    /// Let nothing be left of what was on the card before: what stays free reads as zero.
    #[arg(long)]
    wipe_free: bool,
    #[command(flatten)]
    target: Target,
}

impl Write {
    pub async fn run(self, context: &Context) -> anyhow::Result<()> {
        let plan = NewPlan {
            device: self.device,
            release: self.release,
            backup: None,
            slot: self.target.slot,
            override_reason: self.although_withdrawn,
            leave_out: self.leave_out,
            although_damaged: self.although_damaged,
            keep_size: false,
            wipe_free: self.wipe_free,
        };
        carry_out(context, &plan, self.target).await
    }
}

impl Restore {
    pub async fn run(self, context: &Context) -> anyhow::Result<()> {
        let plan = NewPlan {
            backup: Some(self.backup),
            device: self.device,
            slot: self.target.slot,
            keep_size: self.keep_size,
            wipe_free: self.wipe_free,
            ..NewPlan::default()
        };
        carry_out(context, &plan, self.target).await
    }
}

async fn carry_out(context: &Context, new: &NewPlan, target: Target) -> anyhow::Result<()> {
    let plan = context.client.plan(new).await?;
    if target.plan {
        return context.show(&plan, show_plan);
    }
    if !context.json {
        show_plan(&plan);
    }
    let job = target
        .confirm_and_follow(context, &plan.id, &plan.cautions)
        .await?;
    context.show(&job, text::closing)
}

/// Asks for the label that stands on the card's sticker. No other answer goes on.
fn ask_label(slot: SlotName) -> anyhow::Result<String> {
    if !io::stdin().is_terminal() {
        bail!("nothing was touched: confirm with --yes and the label on the card's sticker");
    }
    match ask(&format!(
        "Type the label of the card in slot {slot} to go on: "
    ))? {
        label if label.is_empty() => bail!("nothing was touched"),
        label => Ok(label),
    }
}

fn show_plan(plan: &Plan) {
    let what = if plan.kind == "restore" {
        "Restore"
    } else {
        "Write"
    };
    let device = plan
        .device
        .as_ref()
        .map(|name| format!(" for {name}"))
        .unwrap_or_default();
    println!("{what} {}{device}", plan.base);
    println!(
        "  card       {} in slot {}, {}",
        plan.card,
        plan.slot,
        text::exact(plan.card_size)
    );
    if !plan.size_proven {
        println!(
            "  size       as it reports; not proven, probes are added that find many forged cards, not all"
        );
    }
    println!("  holds now  {}", plan.card_holds);
    println!(
        "  fit        needs {}, writes {}, {} stay unallocated",
        text::size(plan.smallest_card),
        text::size(plan.to_write),
        text::size(plan.unallocated)
    );
    if let Some(seconds) = plan.seconds {
        println!(
            "  takes      about {}, as fast as {}",
            text::span(seconds),
            match plan.seconds_by.as_deref() {
                Some("slot") => "cards in this slot usually are",
                _ => "this card was",
            }
        );
    }
    if let Some(growth) = &plan.growth {
        println!("  growth     {growth}");
    }
    for left in &plan.left_out {
        println!("  LEFT OUT   {left}");
    }
    if plan.lost.is_empty() {
        println!("  lost       nothing");
    }
    for lost in &plan.lost {
        println!("  LOST       {lost}");
    }
    show_cautions(&plan.cautions, &plan.notes);
    for file in &plan.files {
        let head = head(file);
        match file.action.as_str() {
            "remove" => println!("{head}"),
            "link" => println!("{head} to {}", file.content),
            _ => text::block(&head, &shortened(&file.content)),
        }
    }
}

/// Lines of a file that a plan shows; `settings preview` shows it whole.
const LINES: usize = 24;

/// The beginning of a long file, and how much more there is.
fn shortened(content: &str) -> String {
    let lines: Vec<_> = content.lines().collect();
    if lines.len() <= LINES + 1 {
        return content.to_owned();
    }
    let more = lines.len() - LINES;
    format!("{}\n… {more} more lines", lines[..LINES].join("\n"))
}

#[cfg(test)]
mod tests {
    use super::shortened;

    #[test]
    fn a_long_file_is_shortened_and_says_so() {
        let text = |lines: usize| {
            (0..lines)
                .map(|line| format!("line {line}\n"))
                .collect::<String>()
        };
        assert_eq!(
            shortened(&text(25)),
            text(25),
            "one line more is no shorter"
        );
        let short = shortened(&text(100));
        assert!(short.ends_with("line 23\n… 76 more lines"), "{short}");
    }
}
