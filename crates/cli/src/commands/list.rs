//! What all long lists take: how many rows, in which order, from where on.

use api::Page;
use clap::Args;

/// How much of a list is shown, and in which order.
#[derive(Args, Clone, Debug, Default)]
pub struct Paging {
    /// Most rows.
    #[arg(long, default_value_t = 100, value_parser = clap::value_parser!(u32).range(1..))]
    limit: u32,
    /// Every row, however many.
    #[arg(long, conflicts_with_all = ["limit", "after"])]
    all: bool,
    /// Go on behind a page that was shown before, by what --json calls next.
    #[arg(long, value_name = "PLACE")]
    after: Option<String>,
}

/// In which order a list is shown.
#[derive(Args, Clone, Debug, Default)]
pub struct Order {
    /// What it is sorted by.
    #[arg(long, value_name = "COLUMN")]
    pub sort: Option<String>,
    /// Last rows first.
    #[arg(long)]
    pub descending: bool,
}

/// Most rows that the service gives at once.
const PAGE: u32 = 500;

impl Paging {
    /// Every row, however many.
    pub fn every() -> Self {
        Self {
            all: true,
            ..Self::default()
        }
    }

    /// Rows of as many pages as it takes; `ask` gets which page to ask for.
    pub async fn gather<T>(
        &self,
        order: &Order,
        mut ask: impl AsyncFnMut(api::Paging) -> Result<Page<T>, api::ClientError>,
    ) -> Result<Page<T>, api::ClientError> {
        let most = if self.all {
            usize::MAX
        } else {
            self.limit as usize
        };
        let mut gathered: Page<T> = Page {
            items: Vec::new(),
            next: self.after.clone(),
            total: 0,
        };
        loop {
            let missing = most.saturating_sub(gathered.items.len()).min(PAGE as usize);
            let page = ask(api::Paging {
                sort: order.sort.clone(),
                descending: order.descending.then_some(true),
                ..api::Paging::behind(gathered.next.take(), missing as u32)
            });
            let page = page.await?;
            gathered.items.extend(page.items);
            (gathered.next, gathered.total) = (page.next, page.total);
            if gathered.next.is_none() || gathered.items.len() >= most {
                return Ok(gathered);
            }
        }
    }
}

/// Says how much of a list was left out, if anything was.
pub fn rest<T>(page: &Page<T>, noun: &str) {
    if page.next.is_some() {
        println!(
            "{} of {} {noun}; narrow it down, or see all of them with --all",
            page.items.len(),
            page.total
        );
    }
}
