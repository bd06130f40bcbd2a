//! Board models and sites.

use api::{BoardModel, Site as NewSite};
use clap::Subcommand;

use crate::{Context, text};

#[derive(Subcommand)]
pub enum Board {
    /// Add or change a board model.
    Add {
        /// Short name.
        name: String,
        /// Name for people.
        #[arg(long)]
        title: String,
        /// Processor architecture.
        #[arg(long)]
        architecture: String,
    },
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
    /// List the sites.
    List,
}

impl Board {
    pub async fn run(self, context: &Context) -> anyhow::Result<()> {
        if let Self::Add {
            name,
            title,
            architecture,
        } = self
        {
            let board = BoardModel {
                name,
                title,
                architecture,
            };
            context.client.put_board(&board).await?;
        }
        context.show(&context.client.boards().await?, |boards| {
            let rows = boards.iter().map(|board| {
                [
                    board.name.clone(),
                    board.title.clone(),
                    board.architecture.clone(),
                ]
            });
            text::table(["board", "title", "architecture"], &[], rows);
        })
    }
}

impl Site {
    pub async fn run(self, context: &Context) -> anyhow::Result<()> {
        if let Self::Add { name, title } = self {
            context.client.put_site(&NewSite { name, title }).await?;
        }
        context.show(&context.client.sites().await?, |sites| {
            let rows = sites
                .iter()
                .map(|site| [site.name.clone(), site.title.clone()]);
            text::table(["site", "title"], &[], rows);
        })
    }
}
