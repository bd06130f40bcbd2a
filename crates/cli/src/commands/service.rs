//! The services that work with the same records and the same vault.

use api::Service;
use clap::Subcommand;

use crate::{Context, text};

#[derive(Subcommand)]
pub enum ServiceCommand {
    /// List the services that live now: usually one, or several that share records and vault.
    List,
}

impl ServiceCommand {
    pub async fn run(self, context: &Context) -> anyhow::Result<()> {
        match self {
            Self::List => context.show(&context.client.services().await?, |all| list(all)),
        }
    }
}

fn list(all: &[Service]) {
    let rows = all.iter().map(|one| {
        let yes = |is: bool, word: &str| if is { word.to_owned() } else { "-".into() };
        [
            one.number.to_string(),
            one.address.clone().unwrap_or_else(|| "alone".into()),
            one.version.clone(),
            text::moment(one.started_at),
            yes(one.leads, "leads"),
            yes(one.own_slots, "own slots"),
            match (one.answers, one.heard) {
                (true, _) => "answers this",
                (false, true) => "is heard",
                (false, false) => "is not heard",
            }
            .into(),
        ]
    });
    let heads = [
        "service", "address", "version", "started", "leads", "slots", "here",
    ];
    text::table(heads, &[0], rows);
}
