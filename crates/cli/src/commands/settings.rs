//! Settings as files: what would land on a card.

use api::{PlannedFile, Preview, PreviewFile};
use clap::Subcommand;

use crate::{Context, text};

#[derive(Subcommand)]
pub enum Settings {
    /// Show the files of a device as they would land on its card, beside the release's own;
    /// secrets are masked.
    Preview {
        /// Name of the device.
        device: String,
        /// Take this release instead of the one that it follows.
        #[arg(long)]
        release: Option<String>,
        /// Show files whole rather than their differences.
        #[arg(long)]
        whole: bool,
    },
}

impl Settings {
    pub async fn run(self, context: &Context) -> anyhow::Result<()> {
        let Self::Preview {
            device,
            release,
            whole,
        } = self;
        let preview = context.client.preview(&device, release.as_deref()).await?;
        context.show(&preview, |preview| show(preview, whole))
    }
}

fn show(preview: &Preview, whole: bool) {
    println!("{} with {}", preview.device, preview.release);
    for problem in &preview.problems {
        println!("  problem    {}", problem.rule);
    }
    for one in &preview.files {
        let file = &one.file;
        let head = head(file);
        match file.action.as_str() {
            "link" => println!("{head} to {}", file.content),
            "remove" => println!("{head}"),
            _ if whole => text::block(&head, &file.content),
            _ => text::block(&head, &changes(one)),
        }
    }
    let grow = match preview.grow.as_str() {
        "here" => "the last partition is grown over the card, where it can be",
        "image" => "the image grows its last partition itself at its first start",
        _ => "the last partition stays as long as it is",
    };
    println!("  growth     {grow}");
}

/// What becomes of a file, where, with which mode and owner.
pub fn head(file: &PlannedFile) -> String {
    let mut about: Vec<String> = file
        .mode
        .iter()
        .map(|mode| format!("mode {mode}"))
        .collect();
    let owner = file.owner.as_deref().unwrap_or("");
    let (user, group) = owner.split_once(':').unwrap_or(("", ""));
    for (what, id) in [("user", user), ("group", group)] {
        about.extend((!id.is_empty()).then(|| format!("{what} {id}")));
    }
    let about = match about.is_empty() {
        true => String::new(),
        false => format!("  ({})", about.join(", ")),
    };
    format!(
        "  {:<10} {} on partition {}{about}",
        file.action, file.path, file.partition
    )
}

/// The lines that differ, with their sign, and three around them.
fn changes(one: &PreviewFile) -> String {
    const AROUND: usize = 3;
    let differs: Vec<bool> = one.diff.iter().map(|line| line.change != "same").collect();
    let mut text = String::new();
    let mut gap = false;
    for (at, line) in one.diff.iter().enumerate() {
        let (from, to) = (
            at.saturating_sub(AROUND),
            (at + AROUND + 1).min(differs.len()),
        );
        if !differs[from..to].contains(&true) {
            gap = true;
            continue;
        }
        if std::mem::take(&mut gap) {
            text.push_str("…\n");
        }
        let sign = match line.change.as_str() {
            "added" => '+',
            "removed" => '-',
            _ => ' ',
        };
        text.push(sign);
        text.push_str(&line.text);
        text.push('\n');
    }
    match text.is_empty() {
        true => "as the release has it\n".into(),
        false => text,
    }
}
