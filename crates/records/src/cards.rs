//! Cards: labels, states, whose they are.

use time::OffsetDateTime;

use crate::lists::{self, Asked, List, Page, anywhere};
use crate::{RecordError, Records};

/// A card that the team owns.
#[derive(Clone, Debug, sqlx::FromRow)]
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
    /// What people say of it.
    pub notes: String,
    /// Who made it.
    pub brand: String,
    /// Who sold it.
    pub seller: String,
    /// Which lot it came in.
    pub batch: String,
    /// What it cost, as somebody wrote it down.
    pub price: String,
    /// What the medium says of itself, where its reader passes that on.
    pub identity: Option<String>,
    /// Why nothing is written to it.
    pub suspicion: Option<String>,
    /// What the newest check with a verdict found: `proven`, `no sign`, `forged` or `bad`.
    pub verdict: Option<String>,
    /// Bytes a second that it was last written with.
    pub write_rate: Option<f64>,
    /// And read.
    pub read_rate: Option<f64>,
}

/// Cards of one brand and batch, and how they did.
#[derive(Clone, Debug)]
pub struct Lot {
    /// Who made them; empty where nobody said.
    pub brand: String,
    /// Which lot they came in.
    pub batch: String,
    /// How many there are.
    pub cards: i64,
    /// How many were written at least once.
    pub written: i64,
    /// How many nothing is written to any more.
    pub mistrusted: i64,
    /// How many a check found forged or bad.
    pub bad: i64,
    /// How many a full check proved.
    pub proven: i64,
    /// How many were retired or lost.
    pub gone: i64,
    /// Bytes a second that half of them are written with at least.
    pub write_rate: Option<f64>,
    /// And read.
    pub read_rate: Option<f64>,
}

/// What people tell of a card; what is not told stays.
#[derive(Clone, Debug, Default)]
pub struct Told {
    /// Notes.
    pub notes: Option<String>,
    /// `lost`, `retired`, `held`, or `blank` for none of these.
    pub state: Option<&'static str>,
    /// Who made it.
    pub brand: Option<String>,
    /// Who sold it.
    pub seller: Option<String>,
    /// Which lot it came in.
    pub batch: Option<String>,
    /// What it cost.
    pub price: Option<String>,
    /// Why nothing shall be written to it; an empty text ends the suspicion.
    pub suspicion: Option<String>,
}

/// Which cards are asked for: those that all of it holds of.
#[derive(Clone, Debug, Default)]
pub struct Wanted {
    /// A text anywhere in label or notes, or in what its device is found by.
    pub search: Option<String>,
    /// State.
    pub state: Option<String>,
    /// Whose it is: name of the device.
    pub device: Option<String>,
    /// Site of that device.
    pub site: Option<String>,
    /// Number of the release that it carries.
    pub carries: Option<i64>,
}

/// The state of a card: what somebody said, else what follows from what is on it, as in `card_states`.
macro_rules! state {
    () => {
        "(case when c.state <> 'blank' then c.state when c.imprint_state = 'writing' then 'writing'
            when c.unfinished_job is not null then 'incomplete' when c.imprint_state = 'verified' then 'imprinted' when c.imprint_state is not null then 'incomplete'
            else 'blank' end)"
    };
}

/// What is read of a card, from [`FROM`].
const COLUMNS: &str = concat!(
    "c.id, c.label, c.size, c.kind, d.name as device, c.added_by, c.added_at, c.notes, c.brand, c.seller, c.batch, ",
    "c.price, c.identity, c.suspicion, c.verdict, c.write_rate, c.read_rate, ",
    state!(),
    " as state"
);

const FROM: &str = "cards c left join devices d on d.id = c.device_id";

const LIST: List = List {
    noun: "cards",
    columns: COLUMNS,
    from: FROM,
    id: "c.id",
    orders: &[
        lists::number("label", "c.id"),
        lists::text("state", state!()),
        lists::number("size", "c.size"),
        lists::text("device", "coalesce(d.name, '')"),
    ],
};

impl Wanted {
    fn push(&self, query: &mut sqlx::QueryBuilder<sqlx::Postgres>) {
        if let Some(text) = self
            .search
            .as_deref()
            .filter(|text| !text.trim().is_empty())
        {
            let text = anywhere(&text.to_lowercase());
            query.push(" and c.id in (select id from cards where words like ");
            query.push_bind(text.clone());
            query.push(
                " union all select x.id from devices w join cards x on x.device_id = w.id where w.words like ",
            );
            query.push_bind(text).push(")");
        }
        lists::equal(
            query,
            &[
                (state!(), &self.state),
                ("d.name", &self.device),
                ("d.site", &self.site),
            ],
        );
        if let Some(release) = self.carries {
            query
                .push(" and c.carried_release_id = ")
                .push_bind(release);
        }
    }
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
    /// Why nothing is written to it.
    pub suspicion: Option<String>,
    /// What the newest check with a verdict found.
    pub verdict: Option<String>,
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
        let suspicion = match &self.suspicion {
            Some(why) => format!(", mistrusted: {why}"),
            None => String::new(),
        };
        format!("{}{imprint}{backup}{suspicion}", self.state)
    }
}

/// A card to which nothing shall be written.
#[derive(Clone, Debug)]
pub struct SuspectCard {
    /// Label.
    pub label: String,
    /// Name of the device whose card it is.
    pub device: Option<String>,
    /// Why it is suspect.
    pub why: String,
    /// What its last check found.
    pub verdict: Option<String>,
    /// Since when it is suspect.
    pub since: OffsetDateTime,
}

impl Records {
    /// The cards that are suspect and still at hand, since the longest first.
    pub async fn suspect_cards(&self) -> Result<Vec<SuspectCard>, RecordError> {
        let rows = sqlx::query_as!(
            SuspectCard,
            r#"select c.label as "label!", d.name as "device?", c.suspicion as "why!", c.verdict,
                 coalesce(c.suspected_at, now()) as "since!"
               from cards c left join devices d on d.card_id = c.id
               where c.suspicion is not null and c.state not in ('lost', 'retired')
               order by c.suspected_at, c.id limit 200"#
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// One page of the cards that are wanted.
    pub async fn card_page(
        &self,
        wanted: &Wanted,
        asked: &Asked,
    ) -> Result<Page<Card>, RecordError> {
        LIST.page(&self.pool, asked, &|query| wanted.push(query))
            .await
    }

    /// How cards did by brand and batch, the largest lots first.
    pub async fn card_lots(&self) -> Result<Vec<Lot>, RecordError> {
        let rows = sqlx::query_as!(
            Lot,
            r#"select brand, batch, count(*) as "cards!", count(*) filter (where imprint_id is not null) as "written!",
                 count(*) filter (where suspicion is not null) as "mistrusted!",
                 count(*) filter (where verdict in ('forged', 'bad')) as "bad!",
                 count(*) filter (where verdict = 'proven') as "proven!",
                 count(*) filter (where state in ('lost', 'retired')) as "gone!",
                 percentile_cont(0.5) within group (order by write_rate) as write_rate,
                 percentile_cont(0.5) within group (order by read_rate) as read_rate
               from cards group by brand, batch order by count(*) desc, brand, batch"#
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// One card by label.
    pub async fn card(&self, label: &str) -> Result<Card, RecordError> {
        let query = format!("select {COLUMNS} from {FROM} where c.label = $1");
        sqlx::query_as(sqlx::AssertSqlSafe(query))
            .bind(label)
            .fetch_optional(&self.pool)
            .await?
            .ok_or_else(|| RecordError::unknown("card", label))
    }

    /// Keeps what people tell of a card.
    pub async fn tell_card(&self, card: i64, told: &Told) -> Result<(), RecordError> {
        sqlx::query!(
            "update cards set notes = coalesce($2, notes), state = coalesce($3, state), brand = coalesce($4, brand),
                seller = coalesce($5, seller), batch = coalesce($6, batch), price = coalesce($7, price),
                suspicion = nullif(coalesce($8, suspicion), '') where id = $1",
            card,
            told.notes,
            told.state,
            told.brand,
            told.seller,
            told.batch,
            told.price,
            told.suspicion
        )
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Whether a card was proven by a full check, so that it holds what it reports.
    pub async fn is_proven(&self, card: i64) -> Result<bool, RecordError> {
        let proven = sqlx::query_scalar!(
            r#"select coalesce(verdict = 'proven', false) as "proven!" from cards where id = $1"#,
            card
        );
        Ok(proven.fetch_optional(&self.pool).await?.unwrap_or(false))
    }

    /// Size of the largest card that was ever written, in bytes, where at least three were.
    pub async fn largest_used(&self) -> Result<Option<u64>, RecordError> {
        let size = sqlx::query_scalar!(
            "select max(size) from cards where imprint_state is not null having count(*) >= 3"
        );
        Ok(size
            .fetch_optional(&self.pool)
            .await?
            .flatten()
            .map(|size| size as u64))
    }

    /// Bytes a second that cards at one place of the bench are usually written and read with, by the newest
    /// twenty of them.
    pub async fn rates_at(
        &self,
        reader: &str,
        unit: i32,
    ) -> Result<(Option<f64>, Option<f64>), RecordError> {
        let row = sqlx::query!(
            r#"select percentile_cont(0.5) within group (order by write_rate) as "write?",
                 percentile_cont(0.5) within group (order by read_rate) as "read?"
               from (select c.write_rate, c.read_rate from jobs j join cards c on c.id = j.card_id
                 where j.reader = $1 and j.unit = $2 and j.kind in ('write', 'restore') and c.write_rate is not null
                 order by j.id desc limit 20) newest"#,
            reader,
            unit
        );
        let row = row.fetch_one(&self.pool).await?;
        Ok((row.write, row.read))
    }

    /// The card that was last seen with these edges and was never written since, or may not have
    /// been. One that is known to carry the mark of work that was cut off does not look like that. `elsewhere` are cards known to be in slots.
    pub async fn unstamped_card(
        &self,
        size: i64,
        edges: &[u8],
        elsewhere: &[String],
    ) -> Result<Option<String>, RecordError> {
        let found = sqlx::query_scalar!(
            r#"select label as "label!" from cards where size = $1 and edges = $2 and not (label = any($3))
                 and (imprint_state is null or imprint_state = 'in doubt')
                 and (unfinished_job is null
                    or exists (select from jobs j where j.id = unfinished_job and j.state = 'interrupted'))
               order by id limit 1"#,
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
                 (select max(b.id) from backups b where b.card_id = c.id) as "backup?", c.suspicion, c.verdict
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
            suspicion: row.suspicion,
            verdict: row.verdict,
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
