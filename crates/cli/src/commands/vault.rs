//! The vault as a whole.

use anyhow::bail;
use api::{Job, NewCopy, NewInspection, NewTidying, VaultLook, VaultView};
use clap::Subcommand;

use super::request_key;
use crate::follow::follow;
use crate::{Context, text};

#[derive(Subcommand)]
pub enum Vault {
    /// Show what the vault holds, what sharing and packing save, and what was found when it was looked at.
    Show,
    /// Read and authenticate everything in it, and say exactly what damage touches.
    Inspect {
        /// Only a share, in hundredths, behind the one before.
        #[arg(long, value_name = "HUNDREDTHS")]
        share: Option<u8>,
    },
    /// Take away what nothing refers to any more, beside running work.
    Tidy {
        /// Seal anew what is sealed under a former key.
        #[arg(long)]
        seal_anew: bool,
    },
    /// Copy what the second vault does not have, read a share of what it has, and copy again what is damaged there.
    Copy {
        /// Begin the second vault anew where nothing lies, although copies were made to it.
        #[arg(long)]
        begin: bool,
    },
    /// Keep all records in the vault, so that vault and key alone bring everything back.
    KeepRecords,
    /// List what the vault itself says that it holds.
    List,
    /// Put backups, releases and imprints into the records that only the vault knows.
    Reindex,
    /// Change the key of the vault: a new key file, and what is sealed from now on is sealed under a new key.
    Rekey,
}

fn show_look(look: &VaultLook) {
    let mark = if look.bad { "BAD" } else { "ok" };
    println!("  {:<9} {mark}  {}", look.what, text::moment(look.at));
    for words in &look.words {
        println!("              {words}");
    }
}

fn show(view: &VaultView) {
    println!("The vault in {}", view.place);
    println!("  key       {}", view.key);
    println!(
        "  takes     {} in {} segments",
        text::exact(view.stored),
        view.segments
    );
    println!("  holds     {} of contents", text::exact(view.content));
    if view.content > 0 && view.stored > 0 {
        println!(
            "  saves     {} %, by sharing and packing",
            100 - (view.stored.saturating_mul(100) / view.content).min(100)
        );
    }
    if let Some(free) = view.free {
        println!("  free      {}", text::size(free));
    }
    match &view.second {
        Some(second) => println!("  second    {second}"),
        None => println!("  second    none; say where one lies with second_vault"),
    }
    let rows = view.pieces.iter().map(|one| {
        [
            one.kind.clone(),
            one.count.to_string(),
            text::size(one.bytes),
        ]
    });
    text::table(["", "pieces", "packed"], &[1, 2], rows);
    if view.looks.is_empty() {
        println!("  nobody has looked at it yet: duplicarium vault inspect");
    }
    for look in &view.looks {
        show_look(look);
    }
}

/// Follows a job at the vault and says what came of it; what needs a hand is a failure.
async fn end(context: &Context, job: &Job) -> anyhow::Result<()> {
    let job = follow(context, job).await?;
    let found = job.result.clone().unwrap_or_default();
    context.show(&found, |found| {
        for words in found["words"].as_array().into_iter().flatten() {
            println!("{}", words.as_str().unwrap_or_default());
        }
    })?;
    let touched = found["touched"].as_array();
    match found["bad"] == true || touched.is_some_and(|all| !all.is_empty()) {
        true => bail!("the vault needs a hand"),
        false => Ok(()),
    }
}

impl Vault {
    pub async fn run(self, context: &Context) -> anyhow::Result<()> {
        let client = &context.client;
        let key = request_key();
        let key = Some(key.as_str());
        match self {
            Self::Show => context.show(&client.vault().await?, show),
            Self::Inspect { share } => {
                let new = NewInspection { share };
                end(context, &client.inspect_vault(&new, key).await?).await
            }
            Self::Tidy { seal_anew } => {
                let new = NewTidying { seal_anew };
                end(context, &client.tidy_vault(&new, key).await?).await
            }
            Self::Copy { begin } => {
                let new = NewCopy { begin };
                end(context, &client.copy_vault(&new, key).await?).await
            }
            Self::KeepRecords => end(context, &client.keep_records(key).await?).await,
            Self::List => context.show(&client.vault_contents().await?, |all| {
                let rows = all.iter().map(|one| {
                    [
                        one.what.clone(),
                        one.name.clone(),
                        text::moment(one.at),
                        one.by.clone(),
                        if one.known { "" } else { "NOT IN THE RECORDS" }.into(),
                    ]
                });
                text::table(["what", "name", "made", "by", ""], &[], rows);
            }),
            Self::Reindex => context.show(&client.reindex().await?, |done| {
                match done.in_words() {
                    Some(words) => println!("Put into the records: {words}."),
                    None if done.problems.is_empty() => {
                        println!("The records know all that the vault tells of.")
                    }
                    None => println!("Nothing was put into the records:"),
                }
                if !done.imprints.is_empty() {
                    println!("What became of these imprints shows when their cards are put in.");
                }
                for name in done
                    .releases
                    .iter()
                    .chain(&done.backups)
                    .chain(&done.imprints)
                {
                    println!("  {name}");
                }
                for problem in &done.problems {
                    println!("  {problem}");
                }
            }),
            Self::Rekey => {
                let id = client.change_key().await?;
                context.done(&format!(
                    "Key {id} opens the vault now. Keep a copy of the new key file elsewhere, or print it at once: duplicariumd --show-key"
                ))
            }
        }
    }
}
