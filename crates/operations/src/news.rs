//! What is told to everyone who watches: changes in the records, slots, progress.

use api::{Progress, Slot};
use records::Records;
use tokio::sync::broadcast;

use crate::refusal::Refusal;

/// One piece of news.
#[derive(Clone, Debug)]
pub enum News {
    /// There are new events in the records.
    Events,
    /// The slots look different.
    Slots(Vec<Slot>),
    /// A job went on.
    Progress(Progress),
}

/// Tells news to all who listen. Who is too slow misses some and reads again what it missed.
#[derive(Clone)]
pub struct Bus(broadcast::Sender<News>);

impl Default for Bus {
    fn default() -> Self {
        Self(broadcast::channel(256).0)
    }
}

impl Bus {
    /// Tells everyone.
    pub fn tell(&self, news: News) {
        // Nobody listening is fine.
        let _ = self.0.send(news);
    }

    /// From now on.
    pub fn listen(&self) -> broadcast::Receiver<News> {
        self.0.subscribe()
    }
}

/// The events of the team: recorded, and told.
#[derive(Clone)]
pub struct Events {
    records: Records,
    /// Where they are told.
    pub bus: Bus,
}

impl Events {
    /// Events that go into these records.
    pub fn new(records: Records) -> Self {
        let bus = Bus::default();
        Self { records, bus }
    }

    /// Records that something happened and tells everyone.
    pub async fn note(
        &self,
        operator: &str,
        kind: &str,
        subject: &str,
        summary: &str,
    ) -> Result<(), Refusal> {
        self.records
            .add_event(operator, kind, subject, summary)
            .await?;
        self.bus.tell(News::Events);
        Ok(())
    }
}
