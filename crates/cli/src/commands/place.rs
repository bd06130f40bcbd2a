//! Board models and sites.

use anyhow::bail;
use api::{BoardModel, Lamp, Site as NewSite, SiteChange};
use clap::Subcommand;

use crate::{Context, text};

/// What is told of a board model.
#[derive(clap::Args)]
pub struct NewBoard {
    /// Short name.
    name: String,
    /// Name for people.
    #[arg(long)]
    title: String,
    /// Processor architecture, such as arm64, armhf or amd64.
    #[arg(long)]
    architecture: String,
    /// Memory in MB.
    #[arg(long)]
    memory_mb: Option<i32>,
    /// What can be plugged in.
    #[arg(long, default_value = "")]
    ports: String,
    /// What feeds it.
    #[arg(long, default_value = "")]
    power: String,
    /// What its lamps mean, in words.
    #[arg(long, default_value = "")]
    lamps: String,
    /// A lamp pattern: what it looks like, what it comes from and what it means, such as
    /// `short,short,long=card=the software on the card is damaged`. It comes from `none` (all is well), `power`,
    /// `card`, `image` or `network`.
    #[arg(long, value_name = "PATTERN=CAUSE=MEANS")]
    lamp: Vec<String>,
    /// Minutes until it answers.
    #[arg(long)]
    boot_minutes: Option<f64>,
    /// Where its card sits.
    #[arg(long, default_value = "")]
    card_sits: String,
}

#[derive(Subcommand)]
pub enum Board {
    /// Add or change a board model.
    Add(Box<NewBoard>),
    /// List the board models.
    List,
}

#[derive(Subcommand)]
pub enum Site {
    /// Add or change a site.
    Add {
        /// Short name.
        name: String,
        /// Name for people.
        #[arg(long)]
        title: String,
    },
    /// Give a site another name; its devices and presets go along.
    Rename {
        /// Its name.
        name: String,
        /// Its new name.
        new: String,
    },
    /// List the sites.
    List,
}

fn lamp_of(text: &str) -> anyhow::Result<Lamp> {
    let mut parts = text.splitn(3, '=').map(str::trim);
    match (parts.next(), parts.next(), parts.next()) {
        (Some(pattern), Some(cause), Some(means)) => Ok(Lamp {
            pattern: pattern.into(),
            cause: cause.into(),
            means: means.into(),
        }),
        _ => bail!("a lamp is PATTERN=CAUSE=MEANS, such as steady=none=running, not {text:?}"),
    }
}

impl Board {
    pub async fn run(self, context: &Context) -> anyhow::Result<()> {
        if let Self::Add(new) = self {
            let NewBoard {
                name,
                title,
                architecture,
                memory_mb,
                ports,
                power,
                lamps,
                lamp,
                boot_minutes,
                card_sits,
            } = *new;
            let board = BoardModel {
                name,
                title,
                architecture,
                memory_mb,
                ports,
                power,
                lamps,
                boot_minutes,
                card_sits,
                lamp_table: lamp
                    .iter()
                    .map(|text| lamp_of(text))
                    .collect::<Result<_, _>>()?,
            };
            context.client.put_board(&board).await?;
        }
        context.show(&context.client.boards().await?, |boards| {
            let rows = boards.iter().map(|board| {
                [
                    board.name.clone(),
                    board.title.clone(),
                    board.architecture.clone(),
                    board.memory_mb.map_or("-".into(), |mb| format!("{mb} MB")),
                    board.ports.clone(),
                    board.lamps.clone(),
                ]
            });
            text::table(
                ["board", "title", "architecture", "memory", "ports", "lamps"],
                &[3],
                rows,
            );
        })
    }
}

impl Site {
    pub async fn run(self, context: &Context) -> anyhow::Result<()> {
        match self {
            Self::Add { name, title } => {
                context.client.put_site(&NewSite { name, title }).await?;
            }
            Self::Rename { name, new } => {
                context
                    .client
                    .rename_site(&name, &SiteChange { name: new })
                    .await?;
            }
            Self::List => {}
        }
        context.show(&context.client.sites().await?, |sites| {
            let rows = sites
                .iter()
                .map(|site| [site.name.clone(), site.title.clone()]);
            text::table(["site", "title"], &[], rows);
        })
    }
}
