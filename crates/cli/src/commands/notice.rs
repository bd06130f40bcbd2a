//! Notices: who is told when something needs a person.

use std::path::PathBuf;

use anyhow::Context as _;
use api::{NewNoticeWay, NoticeWay};
use clap::{Args, Subcommand};

use crate::{Context, text};

#[derive(Subcommand)]
pub enum Notice {
    /// List who is told, and how.
    List,
    /// Show what was told lately, or is to be.
    Told,
    /// Show what can be told.
    Matters,
    /// Tell somebody by mail.
    Mail {
        /// What the way is called.
        name: String,
        /// The address.
        #[arg(long)]
        to: String,
        #[command(flatten)]
        about: About,
    },
    /// Tell a program: JSON is sent to an address.
    Call {
        /// What the way is called.
        name: String,
        /// The address.
        #[arg(long)]
        url: String,
        /// File with the secret that calls are signed with (RFC 9421, hmac-sha256).
        #[arg(long)]
        secret_file: Option<PathBuf>,
        #[command(flatten)]
        about: About,
    },
    /// Tell something at once, to see whether it arrives.
    Try {
        /// The way.
        name: String,
    },
    /// Tell nobody by a way any more.
    Remove {
        /// The way.
        name: String,
    },
}

/// What is told.
#[derive(Args)]
pub struct About {
    /// Tell only these matters, with commas between them; `notice matters` shows which there are.
    #[arg(long, value_delimiter = ',')]
    about: Vec<String>,
}

impl Notice {
    pub async fn run(self, context: &Context) -> anyhow::Result<()> {
        let client = &context.client;
        let new = match self {
            Self::List => return context.show(&client.notice_ways().await?, |all| ways(all)),
            Self::Told => return context.show(&client.notices().await?, |all| told(all)),
            Self::Matters => {
                return context.show(&client.notice_matters().await?, |all| {
                    let rows = all.iter().map(|one| [one.kind.clone(), one.when.clone()]);
                    text::table(["matter", "when"], &[], rows);
                });
            }
            Self::Try { name } => {
                client.try_notice_way(&name).await?;
                return context.done(&format!("{name} was told that this is a trial"));
            }
            Self::Remove { name } => {
                client.remove_notice_way(&name).await?;
                return context.done(&format!("nobody is told by {name} any more"));
            }
            Self::Mail { name, to, about } => NewNoticeWay {
                name,
                mail: Some(to),
                about: about.about,
                ..NewNoticeWay::default()
            },
            Self::Call {
                name,
                url,
                secret_file,
                about,
            } => NewNoticeWay {
                name,
                call: Some(url),
                secret: secret_file.map(secret).transpose()?,
                about: about.about,
                ..NewNoticeWay::default()
            },
        };
        context.show(&client.add_notice_way(&new).await?, |all| ways(all))
    }
}

fn secret(path: PathBuf) -> anyhow::Result<String> {
    let text = std::fs::read_to_string(&path)
        .with_context(|| format!("cannot read {}", path.display()))?;
    Ok(text.trim_end_matches(['\r', '\n']).to_owned())
}

fn ways(all: &[NoticeWay]) {
    if all.is_empty() {
        println!("Nobody is told; `duplicarium notice mail` or `notice call` adds somebody.");
        return;
    }
    let rows = all.iter().map(|way| {
        [
            way.name.clone(),
            way.kind.clone(),
            way.target.clone(),
            match way.about.is_empty() {
                true => "everything".into(),
                false => way.about.join(", "),
            },
            if way.signed { "signed" } else { "" }.into(),
        ]
    });
    text::table(["way", "by", "to", "about", ""], &[], rows);
}

fn told(all: &[api::Notice]) {
    let rows = all.iter().map(|notice| {
        [
            notice.way.clone(),
            notice.state.clone(),
            notice.told_at.map_or("-".into(), text::moment),
            notice.words.clone(),
            text::or_dash(&notice.trouble),
        ]
    });
    text::table(["way", "state", "told", "what", "trouble"], &[], rows);
}
