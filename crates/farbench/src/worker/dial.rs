//! Calls the service, and calls again whenever the connection was cut.

use std::sync::Arc;
use std::time::{Duration, Instant};

use api::{BenchCall, Client, ClientError};
use tokio::sync::watch;

use super::{Slots, Talk};
use crate::message::VERSION;

/// The first wait before the next call, and the longest.
const SOON: Duration = Duration::from_millis(300);
const LATER: Duration = Duration::from_secs(10);
/// When a service that does not take this bench is asked again.
const REFUSED: Duration = Duration::from_secs(60);

/// How a bench calls.
pub struct Dial {
    /// The service.
    pub client: Client,
    /// What shows that this is the bench that was enrolled.
    pub credential: String,
}

/// Stays connected until `end` turns. Work that is under way goes on over cuts, and stops, its card plainly
/// unfinished, when the service was away for too long or knows nothing of it any more.
pub async fn run(dial: Dial, slots: Arc<Slots>, mut end: watch::Receiver<bool>) {
    let mut chance = [0; 8];
    // Without chance all starts are one, and only an old call can do harm then.
    let _ = getrandom::fill(&mut chance);
    let start = hex::encode(chance);
    let (mut attempt, mut wait) = (0_u64, SOON);
    let mut session: Option<(Arc<Talk>, String)> = None;
    let mut gone = Instant::now();
    let mut told = String::new();
    loop {
        if let Some((talk, _)) = &session
            && (gone.elapsed() > talk.patience() || talk.session().over().is_some())
        {
            let seconds = talk.patience().as_secs();
            talk.end(&format!("the service was away for {seconds} seconds"));
            session = None;
        }
        attempt += 1;
        let call = BenchCall {
            protocol: VERSION,
            version: env!("CARGO_PKG_VERSION").into(),
            session: session
                .as_ref()
                .map(|(_, name)| name.clone())
                .unwrap_or_default(),
            seen: session
                .as_ref()
                .map_or(0, |(talk, _)| talk.session().seen()),
            start: start.clone(),
            attempt,
        };
        let called = tokio::select! {
            called = dial.client.call_as_bench(&dial.credential, &call) => called,
            _ = end.changed() => break,
        };
        match called {
            Ok((answer, line)) => {
                wait = SOON;
                told.clear();
                let same = session.take().filter(|(talk, name)| {
                    *name == answer.session || {
                        talk.end(
                            "the service was started anew, and knows nothing of what was under way",
                        );
                        false
                    }
                });
                let (talk, name) = same.unwrap_or_else(|| {
                    tracing::info!("connected");
                    (Talk::new(slots.clone()), answer.session.clone())
                });
                let Some(generation) = talk.session().attach(attempt, answer.seen) else {
                    talk.end("the service speaks of something that never was");
                    continue;
                };
                talk.begin();
                tokio::select! {
                    ended = talk.session().run(generation, line) => {
                        if let Err(e) = ended {
                            tracing::info!("the connection ended: {e}");
                        }
                    }
                    _ = end.changed() => {
                        talk.end("this bench is being stopped");
                        break;
                    }
                }
                gone = Instant::now();
                session = Some((talk, name));
            }
            Err(error) => {
                let refused = matches!(&error, ClientError::Refused(_));
                // Whoever is no bench any more has nobody to write for: what is under way stops, its card plainly
                // unfinished.
                if matches!(&error, ClientError::Refused(problem) if problem.code == "not-enrolled")
                    && let Some((talk, _)) = session.take()
                {
                    talk.end("this computer is no bench of the service any more");
                }
                let words = match &error {
                    ClientError::NoAnswer { address, .. } => {
                        format!("no service answers at {address}; it is called again and again")
                    }
                    other => other.to_string(),
                };
                if told != words {
                    tracing::warn!("{words}");
                    told = words;
                }
                wait = match refused {
                    true if session.is_none() => REFUSED,
                    _ => (wait * 2).min(LATER),
                };
            }
        }
        tokio::select! {
            () = tokio::time::sleep(wait) => {}
            _ = end.changed() => break,
        }
    }
    if let Some((talk, _)) = session {
        talk.end("this bench is being stopped");
    }
    // What is under way puts its mark on its card; nobody waits longer than that takes.
    let until = Instant::now() + Duration::from_secs(20);
    while slots.is_ending() && Instant::now() < until {
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
}
