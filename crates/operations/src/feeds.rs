//! Feeds of publishers: our own small JSON format, described in `docs/feed-format.md`.

use std::sync::Arc;

use imagecraft::fs::name::shown;
use records::Records;
use serde::{Deserialize, Serialize};
use serde_json::json;

use vault::Keys;

use crate::news::Events;
use crate::refusal::Refusal;
use crate::work::fetch::{Fetch, check_url};

/// Most releases in one feed.
const MOST_ITEMS: usize = 5000;
/// Version of the format.
const FORMAT: u32 = 1;

/// A feed as the publisher serves it.
#[derive(Deserialize)]
struct Document {
    duplicarium_feed: u32,
    releases: Vec<Item>,
}

/// One release in a feed.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Item {
    /// The publisher's name of it, which stays.
    pub id: String,
    /// Appliance.
    pub appliance: String,
    /// Variant.
    #[serde(default)]
    pub variant: Option<String>,
    /// Version.
    pub version: String,
    /// Day of it, as the publisher writes it.
    #[serde(default)]
    pub date: Option<String>,
    /// Address of the image, absolute or relative to the feed.
    pub file: String,
    /// Length of the file, in bytes.
    #[serde(default)]
    pub size: Option<u64>,
    /// SHA-256 of the file as it is served, or of the raw image.
    #[serde(default)]
    pub sha256: Option<String>,
    /// Address of the release sheet.
    #[serde(default)]
    pub sheet: Option<String>,
    /// The file of an archive that is the image.
    #[serde(default)]
    pub member: Option<String>,
    /// What the publisher says of it.
    #[serde(default)]
    pub notes: Option<String>,
}

/// What the password of a feed is sealed under.
pub fn password_name(feed: &str) -> String {
    format!("feed/{feed}")
}

/// The feeds that the team follows.
#[derive(Clone)]
pub struct Feeds {
    records: Records,
    events: Events,
    keys: Arc<Keys>,
    /// Whether addresses of the own network may be fetched from.
    private_addresses: bool,
}

impl Feeds {
    /// The feeds in these records.
    pub fn new(records: Records, events: Events, keys: Arc<Keys>, private_addresses: bool) -> Self {
        Self {
            records,
            events,
            keys,
            private_addresses,
        }
    }

    /// How to reach an address of a feed; user and password go to the feed's own host only.
    pub fn fetch(&self, feed: &records::feeds::Feed, url: &str) -> Result<Fetch, Refusal> {
        let base = check_url(&feed.url, self.private_addresses)?;
        let wrong = |e: &dyn std::fmt::Display| {
            Refusal::invalid(
                "bad-feed",
                format!("feed {} has an address that cannot be: {e}", feed.name),
            )
        };
        let target = base.join(url).map_err(|e| wrong(&e))?;
        let own = target.origin() == base.origin();
        let password = match &feed.sealed_password {
            Some(sealed) if own => Some(self.keys.open_secret(&password_name(&feed.name), sealed)?),
            _ => None,
        };
        Ok(Fetch {
            url: target.into(),
            user: feed.user_name.clone().filter(|_| own),
            password,
        })
    }

    /// Fetches a feed and records what is in it.
    pub async fn look(&self, name: &str, operator: &str) -> Result<(), Refusal> {
        let feed = self.records.feed(name).await?;
        let fetch = self.fetch(&feed, &feed.url)?;
        let found = match fetch.text(self.private_addresses).await {
            Ok(text) => parse(&text).map_err(|e| {
                Refusal::invalid("bad-feed", format!("feed {name} cannot be understood: {e}"))
            }),
            Err(e) => Err(e),
        };
        match found {
            Ok(items) => {
                let rows: Vec<_> = items
                    .iter()
                    .map(|item| (item.id.clone(), json!(item)))
                    .collect();
                self.records.looked_at_feed(name, Ok(&rows)).await?;
                let items = self.records.feed_items(name).await?;
                let new = items
                    .iter()
                    .filter(|item| !item.known && item.release.is_none())
                    .count();
                let summary = format!(
                    "Feed {name} was looked at: {} releases, {new} of them new",
                    items.len()
                );
                self.events
                    .note(operator, "feed.looked", name, &summary)
                    .await
            }
            Err(e) => {
                self.records.looked_at_feed(name, Err(&e.detail)).await?;
                let summary = format!("Feed {name} could not be looked at: {}", e.detail);
                self.events
                    .note(operator, "feed.trouble", name, &summary)
                    .await?;
                Err(e)
            }
        }
    }
}

fn parse(text: &str) -> Result<Vec<Item>, String> {
    let document: Document = serde_json::from_str(text).map_err(|e| e.to_string())?;
    if document.duplicarium_feed != FORMAT {
        return Err(format!(
            "it is of format {}, format {FORMAT} is read",
            document.duplicarium_feed
        ));
    }
    if document.releases.len() > MOST_ITEMS {
        return Err(format!("it lists more than {MOST_ITEMS} releases"));
    }
    let mut seen = std::collections::BTreeSet::new();
    for item in &document.releases {
        if item.id.is_empty() || item.id.len() > 200 || !seen.insert(&item.id) {
            return Err(format!(
                "it names a release {:?} twice, or not at all",
                item.id
            ));
        }
    }
    Ok(document.releases.into_iter().map(plain).collect())
}

/// A release whose words are as they are shown: they are a stranger's.
fn plain(item: Item) -> Item {
    Item {
        id: shown(&item.id),
        appliance: shown(&item.appliance),
        variant: item.variant.as_deref().map(shown),
        version: shown(&item.version),
        date: item.date.as_deref().map(shown),
        notes: item.notes.as_deref().map(|notes| {
            let lines: Vec<_> = notes.lines().map(shown).collect();
            lines.join("\n")
        }),
        ..item
    }
}

#[cfg(test)]
mod tests {
    use super::parse;

    #[test]
    fn a_feed_is_read_and_a_bad_one_refused_with_a_reason() {
        let good = r#"{"duplicarium_feed": 1, "title": "x", "releases": [
            {"id": "a", "appliance": "quaylink", "version": "2.5", "file": "q.img.xz", "more": 1}]}"#;
        assert_eq!(parse(good).unwrap()[0].file, "q.img.xz");
        for (text, says) in [
            ("{}", "duplicarium_feed"),
            (r#"{"duplicarium_feed": 2, "releases": []}"#, "format 2"),
            (r#"{"duplicarium_feed": 1, "releases": [{"id": "a"}]}"#, "appliance"),
            (&good.replace("}]}", "}, {\"id\": \"a\", \"appliance\": \"q\", \"version\": \"1\", \"file\": \"f\"}]}"), "twice"),
        ] {
            let error = parse(text).unwrap_err();
            assert!(error.contains(says), "{says}: {error}");
        }
    }

    #[test]
    fn no_feed_stops_the_reader() {
        let good = r#"{"duplicarium_feed": 1, "title": "x", "releases": [
            {"id": "a", "appliance": "quaylink", "version": "2.5", "file": "q.img.xz", "more": 1}]}"#;
        for end in 0..good.len() {
            let _ = parse(&good[..end]);
            let _ = parse(&format!("{}{}", &good[..end], "[".repeat(100_000)));
            let _ = parse(&format!(
                "{}{}",
                &good[..end],
                "{\"releases\":".repeat(20_000)
            ));
        }
        let many = r#"{"id": "a", "appliance": "q", "version": "1", "file": "f"},"#.repeat(20_000);
        let many = format!(
            "{{\"duplicarium_feed\": 1, \"releases\": [{}]}}",
            many.trim_end_matches(',')
        );
        assert!(parse(&many).unwrap_err().contains("more than"));
    }
}
