//! Board models and sites: what devices refer to.

use crate::{RecordError, Records};

/// A kind of hardware.
#[derive(Clone, Debug)]
pub struct BoardModel {
    /// Short name, such as `plover-field`.
    pub name: String,
    /// Name for people.
    pub title: String,
    /// Processor architecture, such as `arm64`.
    pub architecture: String,
    /// Memory in MB.
    pub memory_mb: Option<i32>,
    /// What can be plugged in.
    pub ports: String,
    /// What feeds it.
    pub power: String,
    /// What its lamps mean.
    pub lamps: String,
    /// Minutes until it answers.
    pub boot_minutes: Option<f64>,
    /// Where its card sits.
    pub card_sits: String,
    /// What each of its lamp patterns means: a list of pattern, means and cause.
    pub lamp_table: serde_json::Value,
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
            "insert into board_models
                (name, title, architecture, memory_mb, ports, power, lamps, boot_minutes, card_sits, lamp_table)
             values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10)
             on conflict (name) do update set title = $2, architecture = $3, memory_mb = $4, ports = $5,
                power = $6, lamps = $7, boot_minutes = $8, card_sits = $9, lamp_table = $10",
            board.name,
            board.title,
            board.architecture,
            board.memory_mb,
            board.ports,
            board.power,
            board.lamps,
            board.boot_minutes,
            board.card_sits,
            board.lamp_table
        )
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// All board models by name.
    pub async fn boards(&self) -> Result<Vec<BoardModel>, RecordError> {
        let rows = sqlx::query_as!(BoardModel, "select * from board_models order by name");
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

    /// Gives a site another name; devices and presets go along.
    pub async fn rename_site(&self, name: &str, new: &str) -> Result<(), RecordError> {
        let taken = format!("there is a site {new:?} already");
        let changed = sqlx::query!("update sites set name = $2 where name = $1", name, new)
            .execute(&self.pool)
            .await
            .map_err(|e| RecordError::explain(e, &[("sites_pkey", taken)]))?;
        match changed.rows_affected() {
            0 => Err(RecordError::unknown("site", name)),
            _ => Ok(()),
        }
    }

    /// All sites by name.
    pub async fn sites(&self) -> Result<Vec<Site>, RecordError> {
        let rows = sqlx::query_as!(Site, "select name, title from sites order by name");
        Ok(rows.fetch_all(&self.pool).await?)
    }
}
