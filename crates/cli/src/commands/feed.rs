//! Feeds of publishers.

use std::path::PathBuf;

use anyhow::Context as _;
use api::NewFeed;
use clap::Subcommand;

use crate::{Context, text};

#[derive(Subcommand)]
pub enum Feed {
    /// Follow a feed; it is looked at right away.
    Follow {
        /// Short name for it.
        name: String,
        /// Address of the feed.
        url: String,
        /// User at the publisher; the password is typed, or read with --password-file.
        #[arg(long)]
        user: Option<String>,
        /// File with the password.
        #[arg(long, requires = "user")]
        password_file: Option<PathBuf>,
    },
    /// List the feeds and what is in them.
    List,
    /// Look whether there is news.
    Look {
        /// Name of the feed.
        name: String,
    },
    /// Give a feed up; releases that came from it stay.
    GiveUp {
        /// Name of the feed.
        name: String,
    },
}

impl Feed {
    pub async fn run(self, context: &Context) -> anyhow::Result<()> {
        let client = &context.client;
        let feeds = match self {
            Self::Follow {
                name,
                url,
                user,
                password_file,
            } => {
                let password = match (&user, password_file) {
                    (None, _) => None,
                    (Some(_), Some(path)) => {
                        let text = std::fs::read_to_string(&path).with_context(|| {
                            format!("cannot read the password in {}", path.display())
                        })?;
                        Some(text.trim_end_matches(['\r', '\n']).to_owned())
                    }
                    (Some(user), None) => {
                        Some(rpassword::prompt_password(format!("password of {user}: "))?)
                    }
                };
                let new = NewFeed {
                    url,
                    user,
                    password,
                };
                vec![client.put_feed(&name, &new).await?]
            }
            Self::List => client.feeds().await?,
            Self::Look { name } => vec![client.look_at_feed(&name).await?],
            Self::GiveUp { name } => client.remove_feed(&name).await?,
        };
        context.show(&feeds, |feeds| {
            if feeds.is_empty() {
                println!(
                    "no publisher is followed; follow one with: duplicarium feed follow NAME URL"
                );
            }
            for feed in feeds {
                let looked = feed.looked_at.map_or("never looked at".into(), |at| {
                    format!("looked at {}", text::moment(at))
                });
                println!("{}  {}  ({looked})", feed.name, feed.url);
                if let Some(trouble) = &feed.trouble {
                    println!("  trouble: {trouble}");
                }
                let rows = feed.items.iter().map(|item| {
                    let variant = item
                        .variant
                        .as_ref()
                        .map(|v| format!(" {v}"))
                        .unwrap_or_default();
                    [
                        format!("  {}", item.item),
                        format!("{}{variant} {}", item.appliance, item.version),
                        text::or_dash(&item.date),
                        item.size.map_or("-".into(), text::size),
                        match (&item.release, item.new) {
                            (Some(_), _) => "added".into(),
                            (None, true) => "new".into(),
                            (None, false) => String::new(),
                        },
                    ]
                });
                text::table(["  item", "release", "date", "size", ""], &[3], rows);
            }
        })
    }
}
