//! The slots are watched several times a second, each reader by itself: one that does not answer holds
//! up no other.

use std::sync::Arc;
use std::time::{Duration, Instant};

use cardwork::CardError;
use tokio::sync::broadcast::error::TryRecvError;

use super::{Seen, Slots, State};
use crate::benches::{self, Source};
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
            self.survey(false).await;
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
            let bench = self.benches.here().clone();
            tokio::select! {
                _ = tokio::task::spawn_blocking(move || bench.wait_for_change(EVERY - LEAST)) => {}
                () = self.benches.far_change() => {}
            }
        }
    }

    /// Asks every reader and bench what lies in it, but for those that have not answered the last time yet.
    pub(super) async fn survey(self: &Arc<Self>, anew: bool) {
        let bench = self.benches.clone();
        let Ok(sources) = tokio::task::spawn_blocking(move || bench.sources()).await else {
            return;
        };
        let names: Vec<_> = sources.iter().map(Source::name).collect();
        let asked: Vec<_> = {
            let mut state = self.state();
            // What is no reader of a bench any more has no slots.
            state.seen.retain(|seen| names.contains(&seen.source));
            state.silent.retain(|name| names.contains(name));
            let idle = |source: &Source| state.asking.insert(source.name());
            sources.into_iter().filter(idle).collect()
        };
        let asked = asked.into_iter().map(|source| {
            let slots = self.clone();
            tokio::spawn(async move { slots.survey_source(source, anew).await })
        });
        let _ = tokio::time::timeout(FRESH, futures::future::join_all(asked)).await;
        self.tell();
    }

    /// The same for somebody who wants to know what is so now: a survey that was under way already may have seen what was
    /// there a moment ago, and one that begins meanwhile is waited for.
    pub(super) async fn survey_now(self: &Arc<Self>) {
        self.surveys_under_way().await;
        self.survey(true).await;
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

    /// Sees what lies in the slots of one reader or bench, and begins to look at each card that was not looked at
    /// since it was put in: on a task of its own, so that a slow or frozen card holds up no other.
    async fn survey_source(self: &Arc<Self>, source: Source, anew: bool) {
        let (name, far) = (source.name(), source.is_far());
        let bench = self.benches.clone();
        let mut asked = tokio::task::spawn_blocking(move || bench.survey(&source, anew));
        let surveyed = match tokio::time::timeout(SURVEY, &mut asked).await {
            Ok(asked) => asked.unwrap_or_else(|e| Err(CardError::Reader(e.to_string()))),
            Err(_) => {
                self.state().is_silent(&name, far);
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
                    state.is_silent(&name, far);
                    Vec::new()
                }
            }
        };
        for seen in fresh {
            let slots = self.clone();
            tokio::spawn(async move {
                let Some(medium) = seen.medium else { return };
                let found = slots.look_at(seen.slot, &medium).await;
                {
                    let mut state = slots.state();
                    state.looking.remove(&seen.slot);
                    // Somebody may have begun to write it meanwhile, or pulled it.
                    let busy = state.busy.contains_key(&seen.slot);
                    if let Some(place) = state.seen.iter_mut().find(|now| now.slot == seen.slot)
                        && place.medium.as_ref() == Some(&medium)
                        && !busy
                    {
                        place.found = Some(found);
                    }
                    state.prefer_who_says_so(seen.slot);
                }
                slots.tell();
            });
        }
    }
}

impl Slots {
    /// Tells everyone what the slots look like, if that has changed.
    pub(super) fn tell(&self) {
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
    /// A reader or bench did not answer: what is in it is not known. That another bench is away is no trouble of the
    /// service.
    fn is_silent(&mut self, source: &str, far: bool) {
        self.seen.retain(|seen| seen.source != source);
        if !far {
            self.silent.insert(source.to_owned());
        }
    }

    /// Takes over what lies in the slots of a reader. Gives those whose card shall be looked at.
    fn saw(&mut self, source: &str, surveyed: Vec<benches::Seen>) -> Vec<Seen> {
        self.silent.remove(source);
        let (before, others): (Vec<_>, Vec<_>) = std::mem::take(&mut self.seen)
            .into_iter()
            .partition(|seen| seen.source == source);
        self.seen = others;
        for new in surveyed {
            let same = before
                .iter()
                .find(|old| old.slot == new.slot && old.medium == new.medium);
            self.seen.push(Seen {
                found: same.and_then(|old| old.found.clone()),
                slot: new.slot,
                source: source.to_owned(),
                place: new.place,
                title: new.title,
                medium: new.medium,
                trouble: new.trouble,
            });
        }
        self.seen.sort_by_key(|seen| seen.slot);
        let unseen = |seen: &&Seen| {
            let wanted = match &seen.found {
                None => true,
                Some(Err(trouble)) => trouble.again.is_some_and(|at| Instant::now() >= at),
                Some(Ok(_)) => false,
            };
            let idle = !self.busy.contains_key(&seen.slot) && !self.looking.contains(&seen.slot);
            seen.source == source && seen.medium.is_some() && wanted && idle
        };
        let fresh: Vec<_> = self.seen.iter().filter(unseen).cloned().collect();
        self.looking.extend(fresh.iter().map(|seen| seen.slot));
        fresh
    }
}
