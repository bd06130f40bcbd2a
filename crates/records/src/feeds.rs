//! Feeds of publishers, and what was seen in them.

use time::OffsetDateTime;

use crate::{RecordError, Records};

/// A publisher that the team follows.
#[derive(Clone, Debug)]
pub struct Feed {
    /// Short name.
    pub name: String,
    /// Where the feed is.
    pub url: String,
    /// User, where the publisher wants one.
    pub user_name: Option<String>,
    /// Password in sealed form.
    pub sealed_password: Option<Vec<u8>>,
    /// Who added it.
    pub added_by: String,
    /// When.
    pub added_at: OffsetDateTime,
    /// When it was last looked at.
    pub looked_at: Option<OffsetDateTime>,
    /// What went wrong then.
    pub trouble: Option<String>,
}

/// Something in a feed.
#[derive(Clone, Debug)]
pub struct FeedItem {
    /// Which feed.
    pub feed: String,
    /// The publisher's name of it.
    pub item: String,
    /// As the publisher describes it.
    pub described: serde_json::Value,
    /// When it was first seen.
    pub first_seen: OffsetDateTime,
    /// Whether it was there at an earlier look.
    pub known: bool,
    /// The release that was made of it.
    pub release: Option<String>,
}

impl Records {
    /// Adds a feed, or changes it.
    pub async fn put_feed(
        &self,
        name: &str,
        url: &str,
        user_name: Option<&str>,
        sealed_password: Option<&[u8]>,
        by: &str,
    ) -> Result<(), RecordError> {
        sqlx::query!(
            "insert into feeds (name, url, user_name, sealed_password, added_by) values ($1, $2, $3, $4, $5)
             on conflict (name) do update set url = $2, user_name = $3, sealed_password = $4",
            name,
            url,
            user_name,
            sealed_password,
            by
        )
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// All feeds by name.
    pub async fn feeds(&self) -> Result<Vec<Feed>, RecordError> {
        let rows = sqlx::query_as!(Feed, "select * from feeds order by name");
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// One feed.
    pub async fn feed(&self, name: &str) -> Result<Feed, RecordError> {
        let rows = sqlx::query_as!(Feed, "select * from feeds where name = $1", name);
        rows.fetch_optional(&self.pool)
            .await?
            .ok_or_else(|| RecordError::unknown("feed", name))
    }

    /// Gives a feed up. Releases that came from it stay.
    pub async fn remove_feed(&self, name: &str) -> Result<(), RecordError> {
        sqlx::query!("delete from feeds where name = $1", name)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// Records what a look at a feed found: all its items, or what went wrong.
    pub async fn looked_at_feed(
        &self,
        name: &str,
        found: Result<&[(String, serde_json::Value)], &str>,
    ) -> Result<(), RecordError> {
        let mut tx = self.pool.begin().await?;
        sqlx::query!(
            "update feeds set looked_at = now(), trouble = $2 where name = $1",
            name,
            found.err()
        )
        .execute(&mut *tx)
        .await?;
        if let Ok(items) = found {
            sqlx::query!("update feed_items set known = true where feed = $1", name)
                .execute(&mut *tx)
                .await?;
            for (item, described) in items {
                sqlx::query!(
                    "insert into feed_items (feed, item, described) values ($1, $2, $3)
                     on conflict (feed, item) do update set described = $3",
                    name,
                    item,
                    described
                )
                .execute(&mut *tx)
                .await?;
            }
            let names: Vec<_> = items.iter().map(|(item, _)| item.clone()).collect();
            // What the publisher took back is gone, unless a release was made of it.
            sqlx::query!(
                "delete from feed_items where feed = $1 and release_id is null and not item = any($2)",
                name,
                &names
            )
            .execute(&mut *tx)
            .await?;
        }
        Ok(tx.commit().await?)
    }

    /// What is in a feed, newest first.
    pub async fn feed_items(&self, name: &str) -> Result<Vec<FeedItem>, RecordError> {
        let rows = sqlx::query_as!(
            FeedItem,
            r#"select i.feed, i.item, i.described, i.first_seen, i.known, r.name as "release?"
               from feed_items i left join releases r on r.id = i.release_id
               where i.feed = $1 order by i.first_seen desc, i.item desc"#,
            name
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }
}
