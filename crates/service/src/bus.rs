//! What is told to everyone who watches: changes in the records, slots, progress.

use api::{Progress, Slot};
use tokio::sync::broadcast;

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
pub struct Bus(broadcast::Sender<News>);

impl Default for Bus {
    fn default() -> Self {
        Self(broadcast::channel(256).0)
    }
}

impl Bus {
    pub fn tell(&self, news: News) {
        // Nobody listening is fine.
        let _ = self.0.send(news);
    }

    pub fn listen(&self) -> broadcast::Receiver<News> {
        self.0.subscribe()
    }
}
