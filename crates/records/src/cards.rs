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

/// What the records say of a card at one moment.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Standing {
    /// State of the card.
    pub state: String,
    /// Number and state of the imprint that is on it.
    pub imprint: Option<(i64, String)>,
    /// Number of its newest backup.
    pub backup: Option<i64>,
}

impl Standing {
    /// In a few words.
    pub fn describe(&self) -> String {
        let imprint = match &self.imprint {
            Some((id, state)) => format!(" with imprint {id} ({state})"),
            None => String::new(),
        };
        let backup = match self.backup {
            Some(id) => format!(", backup {id} its newest"),
            None => String::new(),
        };
        format!("{}{imprint}{backup}", self.state)
    }
}

impl Records {
    /// All cards by label.
    pub async fn cards(&self) -> Result<Vec<Card>, RecordError> {
        let rows = sqlx::query_as!(
            Card,
            r#"select c.id, c.label as "label!", c.size, c.kind, s.state as "state!", d.name as "device?", c.added_by, c.added_at
               from cards c join card_states s on s.id = c.id left join on_card i on i.card_id = c.id
                 left join devices d on d.id = i.device_id order by c.id"#
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// One card by label.
    pub async fn card(&self, label: &str) -> Result<Card, RecordError> {
        let rows = sqlx::query_as!(
            Card,
            r#"select c.id, c.label as "label!", c.size, c.kind, s.state as "state!", d.name as "device?", c.added_by, c.added_at
               from cards c join card_states s on s.id = c.id left join on_card i on i.card_id = c.id
                 left join devices d on d.id = i.device_id where c.label = $1"#,
            label
        );
        rows.fetch_optional(&self.pool)
            .await?
            .ok_or_else(|| RecordError::unknown("card", label))
    }

    /// The card that was last seen with these edges and was never written since, or may not have
    /// been. `elsewhere` are cards known to be in slots.
    pub async fn unstamped_card(
        &self,
        size: i64,
        edges: &[u8],
        elsewhere: &[String],
    ) -> Result<Option<String>, RecordError> {
        let found = sqlx::query_scalar!(
            r#"select label as "label!" from cards c left join on_card i on i.card_id = c.id
               where c.size = $1 and c.edges = $2 and not (c.label = any($3))
                 and (i.id is null or i.state = 'in doubt') order by c.id limit 1"#,
            size,
            edges,
            elsewhere
        );
        Ok(found.fetch_optional(&self.pool).await?)
    }

    /// What the records say of a card: a plan that was made while they said something else is void.
    pub async fn standing(&self, card: i64) -> Result<Standing, RecordError> {
        let row = sqlx::query!(
            r#"select i.id as "imprint?", i.state as "imprint_state?", s.state as "state!",
                 (select max(b.id) from backups b where b.card_id = c.id) as "backup?"
               from cards c join card_states s on s.id = c.id left join on_card i on i.card_id = c.id
               where c.id = $1"#,
            card
        )
        .fetch_optional(&self.pool)
        .await?
        .ok_or_else(|| RecordError::unknown("card", card.to_string()))?;
        Ok(Standing {
            state: row.state,
            imprint: row.imprint.zip(row.imprint_state),
            backup: row.backup,
        })
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
