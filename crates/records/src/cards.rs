//! Cards: labels, states, whose they are.

use time::OffsetDateTime;

use crate::{RecordError, Records};

/// A card that the team owns.
#[derive(Clone, Debug)]
pub struct Card {
    /// Number.
    pub id: i64,
    /// Label on its sticker.
    pub label: String,
    /// Size that it reports, in bytes.
    pub size: i64,
    /// Kind of medium.
    pub kind: String,
    /// State.
    pub state: String,
    /// Name of the device that it was made for.
    pub device: Option<String>,
    /// Who used it first.
    pub added_by: String,
    /// When it was used first.
    pub added_at: OffsetDateTime,
}

impl Records {
    /// All cards by label.
    pub async fn cards(&self) -> Result<Vec<Card>, RecordError> {
        let rows = sqlx::query_as!(
            Card,
            r#"select c.id, c.label as "label!", c.size, c.kind, c.state, d.name as "device?", c.added_by, c.added_at
               from cards c left join devices d on d.id = c.device_id order by c.id"#
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// One card by label.
    pub async fn card(&self, label: &str) -> Result<Card, RecordError> {
        let rows = sqlx::query_as!(
            Card,
            r#"select c.id, c.label as "label!", c.size, c.kind, c.state, d.name as "device?", c.added_by, c.added_at
               from cards c left join devices d on d.id = c.device_id where c.label = $1"#,
            label
        );
        rows.fetch_optional(&self.pool)
            .await?
            .ok_or_else(|| RecordError::unknown("card", label))
    }

    /// The card without a stamp that was last seen with these edges, or, of blank ones, the
    /// first with this size that was never written. `elsewhere` are cards known to be in slots.
    pub async fn unstamped_card(
        &self,
        size: i64,
        edges: &[u8],
        elsewhere: &[String],
    ) -> Result<Option<String>, RecordError> {
        let found = sqlx::query_scalar!(
            r#"select label as "label!" from cards
               where size = $1 and edges = $2 and not (label = any($3)) order by id limit 1"#,
            size,
            edges,
            elsewhere
        );
        Ok(found.fetch_optional(&self.pool).await?)
    }

    /// Gives a label to a card that has none.
    pub async fn add_card(
        &self,
        size: i64,
        kind: &str,
        edges: &[u8],
        by: &str,
    ) -> Result<Card, RecordError> {
        let label = sqlx::query_scalar!(
            r#"insert into cards (size, kind, edges, added_by) values ($1, $2, $3, $4) returning label as "label!""#,
            size,
            kind,
            edges,
            by
        )
        .fetch_one(&self.pool)
        .await?;
        self.card(&label).await
    }
}
