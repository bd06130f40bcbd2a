//! What is told to everyone who watches: changes in the records, slots, progress.

use api::{Progress, Slot};
use records::Records;
use tokio::sync::broadcast;

use crate::refusal::Refusal;

/// How long to wait before the records are listened to again.
const AGAIN: std::time::Duration = std::time::Duration::from_secs(1);

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

    /// Tells here what any service records, for as long as this one runs.
    pub async fn hear_all(self) {
        loop {
            if let Ok(mut listening) = self.records.listen().await {
                self.bus.tell(News::Events);
                while listening.heard().await.is_ok() {
                    self.bus.tell(News::Events);
                }
            }
            tokio::time::sleep(AGAIN).await;
        }
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
