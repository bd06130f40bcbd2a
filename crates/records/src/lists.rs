//! Long lists, a page at a time: what is asked for, in which order, from which row on.
//!
//! A page begins behind the last row of the one before (its key and number), so that rows that come
//! or go meanwhile neither repeat nor hide others, and the last page costs as much as the first.

use sqlx::postgres::{PgPool, PgRow};
use sqlx::{FromRow, Postgres, QueryBuilder, Row};

use crate::RecordError;

/// Most rows of one page.
pub const MOST: i64 = 500;

/// Which page is asked for.
#[derive(Clone, Debug)]
pub struct Asked {
    /// Where the page before ended; the first page without.
    pub after: Option<String>,
    /// Most rows, 1 to [`MOST`].
    pub limit: i64,
    /// What the rows are sorted by; the list's usual order without.
    pub sort: Option<String>,
    /// Last rows first.
    pub descending: bool,
}

impl Default for Asked {
    fn default() -> Self {
        Self {
            after: None,
            limit: MOST,
            sort: None,
            descending: false,
        }
    }
}

/// One page of a list.
#[derive(Clone, Debug)]
pub struct Page<T> {
    /// Its rows.
    pub items: Vec<T>,
    /// Where it ended, if there are more.
    pub next: Option<String>,
    /// How many rows the whole list has.
    pub total: i64,
}

impl<T> Page<T> {
    /// The same with each row as something else.
    pub fn map<U>(self, change: impl FnMut(T) -> U) -> Page<U> {
        Page {
            items: self.items.into_iter().map(change).collect(),
            next: self.next,
            total: self.total,
        }
    }
}

/// A way to sort a list: its word, the expression, and whether that is a number.
pub(crate) struct Order {
    pub(crate) word: &'static str,
    pub(crate) key: &'static str,
    pub(crate) number: bool,
    /// Whether the largest stand first in the usual direction.
    pub(crate) newest_first: bool,
}

/// Sorted by a text.
pub(crate) const fn text(word: &'static str, key: &'static str) -> Order {
    Order {
        word,
        key,
        number: false,
        newest_first: false,
    }
}

/// Sorted by a whole number.
pub(crate) const fn number(word: &'static str, key: &'static str) -> Order {
    Order {
        word,
        key,
        number: true,
        newest_first: false,
    }
}

/// Sorted by a number that ascends with time, the newest first.
pub(crate) const fn newest(word: &'static str, key: &'static str) -> Order {
    Order {
        word,
        key,
        number: true,
        newest_first: true,
    }
}

/// What a list is made of. All of it is our own text; what somebody typed goes in as a value.
pub(crate) struct List {
    /// What kind of thing is listed, for refusals.
    pub(crate) noun: &'static str,
    /// What is read of each row.
    pub(crate) columns: &'static str,
    /// Tables and joins that rows are read from.
    pub(crate) from: &'static str,
    /// The number that tells rows apart.
    pub(crate) id: &'static str,
    /// Ways to sort, the usual one first.
    pub(crate) orders: &'static [Order],
}

/// A condition that is added to a query, beginning with ` and `.
pub(crate) type Filter<'a> = dyn Fn(&mut QueryBuilder<Postgres>) + Sync + 'a;

impl List {
    /// One page of the rows that `filter` lets through.
    pub(crate) async fn page<T>(
        &self,
        pool: &PgPool,
        asked: &Asked,
        filter: &Filter<'_>,
    ) -> Result<Page<T>, RecordError>
    where
        T: for<'r> FromRow<'r, PgRow>,
    {
        let order = self.order(asked.sort.as_deref())?;
        let limit = asked.limit.clamp(1, MOST);
        let (key, id, from) = (order.key, self.id, self.from);
        // First which rows, then what is read of them: only those of the page are joined and read whole. What is
        // filtered is looked for once, for page and number; a whole list is walked in its order and counted apart.
        let found = |query: &mut QueryBuilder<Postgres>| {
            query.push(format!(
                "select {key} as list_key, {id} as list_id from {from} where true"
            ));
            let bare = query.sql().as_str().len();
            filter(query);
            query.sql().as_str().len() > bare
        };
        let filtered = found(&mut QueryBuilder::new(""));
        let mut query = QueryBuilder::new(match filtered {
            true => "with found as materialized (",
            false => "with found as not materialized (",
        });
        found(&mut query);
        let counted = match filtered {
            true => "(select count(*) from found)",
            false => "null::bigint",
        };
        query.push(format!(
            ") select {}, list_key::text, list_id, {counted} as list_total from (
                select *, row_number() over () as list_place from (select * from found where true",
            self.columns
        ));
        let (compare, direction) = match asked.descending != order.newest_first {
            true => ("<", "desc"),
            false => (">", "asc"),
        };
        if let Some(after) = &asked.after {
            let (at, row) = self.place(after, order)?;
            query.push(format!(" and (list_key, list_id) {compare} ("));
            match order.number {
                true => query.push_bind(at.parse::<i64>().map_err(|_| self.foreign())?),
                false => query.push_bind(at),
            };
            query.push(", ").push_bind(row).push(")");
        }
        query.push(format!(
            " order by list_key {direction}, list_id {direction} limit "
        ));
        query.push_bind(limit + 1);
        query.push(format!(
            ") rows) page join ({from}) on {id} = page.list_id order by page.list_place"
        ));
        // Planned for what is asked this time: a plan for any text takes ten times as long where few rows have it.
        let mut rows: Vec<PgRow> = query.build().persistent(false).fetch_all(pool).await?;
        let more = rows.len() as i64 > limit;
        rows.truncate(limit as usize);
        let next = match rows.last().filter(|_| more) {
            Some(row) => {
                let (key, id): (String, i64) = (row.try_get("list_key")?, row.try_get("list_id")?);
                Some(hex::encode(format!("{}\n{id}\n{key}", order.word)))
            }
            None => None,
        };
        let found = match rows.first() {
            Some(row) => row.try_get::<Option<i64>, _>("list_total")?,
            None => None,
        };
        let total = match found {
            Some(total) => total,
            // What is all on one page needs no counting.
            None if asked.after.is_none() && !more => rows.len() as i64,
            None => {
                let mut query =
                    QueryBuilder::new(format!("select count(*) from {from} where true"));
                filter(&mut query);
                let counted = query.build_query_scalar().persistent(false);
                counted.fetch_one(pool).await?
            }
        };
        let items = rows.iter().map(T::from_row).collect::<Result<_, _>>()?;
        Ok(Page { items, next, total })
    }

    fn order(&self, word: Option<&str>) -> Result<&Order, RecordError> {
        let Some(word) = word else {
            return Ok(&self.orders[0]);
        };
        self.orders
            .iter()
            .find(|order| order.word == word)
            .ok_or_else(|| {
                let words: Vec<_> = self.orders.iter().map(|order| order.word).collect();
                RecordError::Asked(format!(
                    "the list of {} cannot be sorted by {word:?}; it can by {}",
                    self.noun,
                    words.join(", ")
                ))
            })
    }

    fn foreign(&self) -> RecordError {
        RecordError::Asked(format!(
            "that is no place in this list of {}; begin again with its first page",
            self.noun
        ))
    }

    /// Key and number of the row that the page before ended with.
    fn place(&self, after: &str, order: &Order) -> Result<(String, i64), RecordError> {
        let text = hex::decode(after)
            .ok()
            .and_then(|bytes| String::from_utf8(bytes).ok());
        let text = text.ok_or_else(|| self.foreign())?;
        let mut parts = text.splitn(3, '\n');
        let (word, id, key) = (parts.next(), parts.next(), parts.next());
        match (word, id.and_then(|id| id.parse().ok()), key) {
            (Some(word), Some(id), Some(key)) if word == order.word => Ok((key.into(), id)),
            _ => Err(self.foreign()),
        }
    }
}

/// Lets rows through of which these columns hold what is wanted of them, if anything is.
pub(crate) fn equal(
    query: &mut QueryBuilder<Postgres>,
    wanted: &[(&'static str, &Option<String>)],
) {
    for (column, value) in wanted {
        if let Some(value) = value {
            query
                .push(format!(" and {column} = "))
                .push_bind(value.clone());
        }
    }
}

/// A text to look for anywhere in another, as `like` takes it.
pub(crate) fn anywhere(text: &str) -> String {
    let mut pattern = String::from("%");
    for c in text.trim().chars() {
        if matches!(c, '%' | '_' | '\\') {
            pattern.push('\\');
        }
        pattern.push(c);
    }
    pattern + "%"
}
