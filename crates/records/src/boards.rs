//! Board models and sites: what devices refer to.

use crate::{RecordError, Records};

/// A kind of hardware.
#[derive(Clone, Debug)]
pub struct BoardModel {
    /// Short name, such as `plover-field`.
    pub name: String,
    /// Name for people.
    pub title: String,
    /// Processor architecture.
    pub architecture: String,
}

/// A place with its own network.
#[derive(Clone, Debug)]
pub struct Site {
    /// Short name.
    pub name: String,
    /// Name for people.
    pub title: String,
}

impl Records {
    /// Adds a board model, or changes it.
    pub async fn put_board(&self, board: &BoardModel) -> Result<(), RecordError> {
        sqlx::query!(
            "insert into board_models (name, title, architecture) values ($1, $2, $3)
             on conflict (name) do update set title = $2, architecture = $3",
            board.name,
            board.title,
            board.architecture
        )
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// All board models by name.
    pub async fn boards(&self) -> Result<Vec<BoardModel>, RecordError> {
        let rows = sqlx::query_as!(
            BoardModel,
            "select name, title, architecture from board_models order by name"
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// Adds a site, or changes it.
    pub async fn put_site(&self, site: &Site) -> Result<(), RecordError> {
        sqlx::query!(
            "insert into sites (name, title) values ($1, $2)
             on conflict (name) do update set title = $2",
            site.name,
            site.title
        )
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// All sites by name.
    pub async fn sites(&self) -> Result<Vec<Site>, RecordError> {
        let rows = sqlx::query_as!(Site, "select name, title from sites order by name");
        Ok(rows.fetch_all(&self.pool).await?)
    }
}
