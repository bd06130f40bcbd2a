//! Who asked what, from where, and whether the history is as it was written.

use anyhow::bail;
use api::ActsAsked;
use clap::{Args, Subcommand, ValueEnum};

use crate::{Context, text};

#[derive(Args, Clone)]
pub struct Which {
    /// Of one person.
    #[arg(long)]
    who: Option<String>,
    /// Since a day such as 2026-11-29, or a moment.
    #[arg(long)]
    since: Option<String>,
    /// Before a day or moment.
    #[arg(long)]
    until: Option<String>,
    /// With these letters somewhere: a card, a device, an act.
    #[arg(long)]
    search: Option<String>,
}

impl Which {
    fn asked(self, before: Option<i64>) -> ActsAsked {
        ActsAsked {
            who: self.who,
            since: self.since,
            until: self.until,
            search: self.search,
            before,
        }
    }
}

#[derive(Clone, Copy, ValueEnum)]
pub enum Form {
    /// Comma-separated values.
    Csv,
    /// JSON, an object a line.
    Jsonl,
}

#[derive(Subcommand)]
pub enum History {
    /// Show what people asked for, newest first.
    List {
        #[command(flatten)]
        which: Which,
        /// Rows before this number.
        #[arg(long)]
        before: Option<i64>,
    },
    /// Print the history for programs.
    Export {
        #[command(flatten)]
        which: Which,
        /// In which form.
        #[arg(long, value_enum, default_value = "csv")]
        form: Form,
    },
    /// Go through all of it, and say which rows were changed or taken away since they were written.
    Check,
}

impl History {
    pub async fn run(self, context: &Context) -> anyhow::Result<()> {
        match self {
            Self::List { which, before } => {
                let acts = context.client.history(&which.asked(before)).await?;
                context.show(&acts, |acts| {
                    let rows = acts.items.iter().map(|act| {
                        let about = match act.about.is_empty() {
                            true => act.target.clone(),
                            false => format!("{} ({})", act.target, act.about),
                        };
                        [
                            act.id.to_string(),
                            text::moment(act.at),
                            act.who.clone(),
                            act.act.clone(),
                            about,
                            act.origin.clone(),
                            act.status.map_or_else(
                                || "no answer".into(),
                                |status| match status {
                                    200..=299 => "done".into(),
                                    status => format!("refused ({status})"),
                                },
                            ),
                        ]
                    });
                    text::table(
                        ["row", "when", "who", "what", "of", "from", "answer"],
                        &[0],
                        rows,
                    );
                    if let Some(next) = acts.next {
                        println!("more: --before {next}");
                    }
                })
            }
            Self::Export { which, form } => {
                let form = match form {
                    Form::Csv => "csv",
                    Form::Jsonl => "jsonl",
                };
                let rows = context
                    .client
                    .history_rows(form, &which.asked(None))
                    .await?;
                print!("{rows}");
                Ok(())
            }
            Self::Check => {
                let found = context.client.check_history().await?;
                context.show(&found, |found| {
                    for wrong in &found.wrong {
                        println!("WRONG  {wrong}");
                    }
                    println!("{} rows were read", found.rows);
                })?;
                match found.wrong.len() {
                    0 => Ok(()),
                    _ => bail!("the history is not as it was written"),
                }
            }
        }
    }
}
