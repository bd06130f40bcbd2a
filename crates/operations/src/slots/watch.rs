//! The slots are watched several times a second, each reader by itself: one that does not answer holds
//! up no other.

use std::sync::Arc;
use std::time::{Duration, Instant};

use bench::Reader;
use cardwork::CardError;
use tokio::sync::broadcast::error::TryRecvError;

use super::{Seen, Slots, State};
use crate::news::News;

/// How often the readers are asked, at least and at most.
const EVERY: Duration = Duration::from_millis(300);
const LEAST: Duration = Duration::from_millis(50);
/// How long a survey may take before the reader counts as not answering.
const SURVEY: Duration = Duration::from_secs(5);
/// How long those who wait for a survey wait for one reader that is slow.
const FRESH: Duration = Duration::from_secs(1);
/// How often it is looked whether a reader has answered.
const MOMENT: Duration = Duration::from_millis(5);

impl Slots {
    /// Watches the slots until the service ends.
    pub async fn watch(self: Arc<Self>) {
        let mut news = self.events.bus.listen();
        let (mut slots, mut happened) = (0, true);
        loop {
            self.survey().await;
            // A job may have ended, or a reader come: what failed is asked for again.
            while let Ok(_) | Err(TryRecvError::Lagged(_)) = news.try_recv() {
                happened = true;
            }
            let now = self.state().seen.len();
            if happened || now != slots {
                (slots, happened) = (now, false);
                self.learn_failures().await;
            }
            // Not at each word of a kernel that has many to say.
            tokio::time::sleep(LEAST).await;
            let bench = self.bench.clone();
            let _ = tokio::task::spawn_blocking(move || bench.wait_for_change(EVERY - LEAST)).await;
        }
    }

    /// Asks every reader what lies in it, but for those that have not answered the last time yet.
    pub(super) async fn survey(self: &Arc<Self>) {
        let bench = self.bench.clone();
        let Ok(readers) = tokio::task::spawn_blocking(move || bench.readers()).await else {
            return;
        };
        let asked: Vec<_> = {
            let mut state = self.state();
            // What is no reader of this bench any more has no slots.
            state.seen.retain(|seen| {
                readers
                    .iter()
                    .any(|reader| reader.name() == seen.place.reader)
            });
            state
                .silent
                .retain(|name| readers.iter().any(|reader| reader.name() == name));
            let idle = |reader: &Arc<dyn Reader>| state.asking.insert(reader.name().to_owned());
            readers.into_iter().filter(idle).collect()
        };
        let asked = asked.into_iter().map(|reader| {
            let slots = self.clone();
            tokio::spawn(async move { slots.survey_reader(reader).await })
        });
        let _ = tokio::time::timeout(FRESH, futures::future::join_all(asked)).await;
        self.tell();
    }

    /// The same for somebody who wants to know what is so now: a survey that was under way already may have seen what was
    /// there a moment ago, and one that begins meanwhile is waited for.
    pub(super) async fn survey_now(self: &Arc<Self>) {
        self.surveys_under_way().await;
        self.survey().await;
        self.surveys_under_way().await;
    }

    /// Waits for those readers that are being asked and usually answer.
    async fn surveys_under_way(&self) {
        let begun = Instant::now();
        while begun.elapsed() < FRESH {
            let waits = {
                let state = self.state();
                let mut asking = state.asking.iter();
                asking.any(|name| !state.silent.contains(name))
            };
            if !waits {
                return;
            }
            tokio::time::sleep(MOMENT).await;
        }
    }

    /// Sees what lies in the slots of one reader, and begins to look at each card that was not looked at
    /// since it was put in: on a task of its own, so that a slow or frozen card holds up no other.
    async fn survey_reader(self: &Arc<Self>, reader: Arc<dyn Reader>) {
        let name = reader.name().to_owned();
        let bench = self.bench.clone();
        let mut asked = tokio::task::spawn_blocking(move || bench.survey(reader.as_ref()));
        let surveyed = match tokio::time::timeout(SURVEY, &mut asked).await {
            Ok(asked) => asked.unwrap_or_else(|e| Err(CardError::Reader(e.to_string()))),
            Err(_) => {
                self.state().is_silent(&name);
                self.tell();
                // Nobody asks it again before it has answered.
                asked
                    .await
                    .unwrap_or_else(|e| Err(CardError::Reader(e.to_string())))
            }
        };
        let fresh = {
            let mut state = self.state();
            state.asking.remove(&name);
            match surveyed {
                Ok(surveyed) => state.saw(&name, surveyed),
                Err(error) => {
                    tracing::debug!("survey of {name}: {error}");
                    state.is_silent(&name);
                    Vec::new()
                }
            }
        };
        for seen in fresh {
            let slots = self.clone();
            tokio::spawn(async move {
                let Some(medium) = seen.medium else { return };
                let found = slots.look_at(seen.number, &medium).await;
                {
                    let mut state = slots.state();
                    state.looking.remove(&seen.number);
                    // Somebody may have begun to write it meanwhile, or pulled it.
                    let busy = state.busy.contains_key(&seen.number);
                    if let Some(place) = state.seen.iter_mut().find(|now| now.number == seen.number)
                        && place.medium.as_ref() == Some(&medium)
                        && !busy
                    {
                        place.found = Some(found);
                    }
                    state.prefer_who_says_so();
                }
                slots.tell();
            });
        }
    }
}

impl Slots {
    /// Tells everyone what the slots look like, if that has changed.
    fn tell(&self) {
        let views = self.views();
        let mut state = self.state();
        if state.told != views {
            state.told = views.clone();
            drop(state);
            self.events.bus.tell(News::Slots(views));
        }
    }
}

impl State {
    /// A reader did not answer: what is in it is not known.
    fn is_silent(&mut self, reader: &str) {
        self.seen.retain(|seen| seen.place.reader != reader);
        self.silent.insert(reader.to_owned());
    }

    /// Takes over what lies in the slots of a reader. Gives those whose card shall be looked at.
    fn saw(&mut self, reader: &str, surveyed: Vec<bench::Seen>) -> Vec<Seen> {
        self.silent.remove(reader);
        let (before, others): (Vec<_>, Vec<_>) = std::mem::take(&mut self.seen)
            .into_iter()
            .partition(|seen| seen.place.reader == reader);
        self.seen = others;
        for new in surveyed {
            let same = before
                .iter()
                .find(|old| old.number == new.number && old.medium == new.medium);
            self.seen.push(Seen {
                found: same.and_then(|old| old.found.clone()),
                number: new.number,
                place: new.place,
                title: new.title,
                medium: new.medium,
                trouble: new.trouble,
            });
        }
        self.seen.sort_by_key(|seen| seen.number);
        let unseen = |seen: &&Seen| {
            let wanted = match &seen.found {
                None => true,
                Some(Err(trouble)) => trouble.again.is_some_and(|at| Instant::now() >= at),
                Some(Ok(_)) => false,
            };
            let idle =
                !self.busy.contains_key(&seen.number) && !self.looking.contains(&seen.number);
            seen.place.reader == reader && seen.medium.is_some() && wanted && idle
        };
        let fresh: Vec<_> = self.seen.iter().filter(unseen).cloned().collect();
        self.looking.extend(fresh.iter().map(|seen| seen.number));
        fresh
    }
}
