//! What the radio of the service's own computer hears while boards are waited for.

use std::sync::{Arc, Mutex, MutexGuard};
use std::time::{Duration, Instant};

use arrival::radio::{Heard, Radio};

/// How often it listens while somebody is waited for, and how long what it heard counts.
const EVERY: Duration = Duration::from_secs(30);
const COUNTS: Duration = Duration::from_secs(120);

/// The radio, and what it heard last.
pub(super) struct Air {
    radio: Option<Arc<Using>>,
}

struct Using {
    radio: Radio,
    /// Held while it listens, or is in a board's network: it does one thing at a time.
    busy: tokio::sync::Mutex<()>,
    heard: Mutex<(Option<Instant>, Vec<Heard>)>,
    /// When it was begun last.
    begun: Mutex<Option<Instant>>,
}

impl Using {
    fn heard(&self) -> MutexGuard<'_, (Option<Instant>, Vec<Heard>)> {
        self.heard.lock().unwrap_or_else(|e| e.into_inner())
    }

    async fn listen(&self) -> Result<Vec<Heard>, String> {
        let heard = self.radio.hears().await?;
        *self.heard() = (Some(Instant::now()), heard.clone());
        Ok(heard)
    }
}

impl Air {
    /// Heard through this radio, or not at all.
    pub fn of(radio: Option<Radio>) -> Self {
        let using = radio.map(|radio| {
            Arc::new(Using {
                radio,
                busy: tokio::sync::Mutex::default(),
                heard: Mutex::default(),
                begun: Mutex::default(),
            })
        });
        Self { radio: using }
    }

    /// Whether there is a radio.
    pub fn is_there(&self) -> bool {
        self.radio.is_some()
    }

    /// What was heard a short while ago; nothing where nobody listens.
    pub fn heard(&self) -> Option<Vec<Heard>> {
        let (at, heard) = self.radio.as_ref()?.heard().clone();
        at.filter(|at| at.elapsed() < COUNTS).map(|_| heard)
    }

    /// Listens if that is due; nobody waits for it.
    pub fn listen_now_and_then(&self) {
        let Some(using) = self.radio.clone() else {
            return;
        };
        {
            let mut begun = using.begun.lock().unwrap_or_else(|e| e.into_inner());
            if begun.is_some_and(|at| at.elapsed() < EVERY) {
                return;
            }
            *begun = Some(Instant::now());
        }
        tokio::spawn(async move {
            if let Ok(_alone) = using.busy.try_lock()
                && let Err(why) = using.listen().await
            {
                tracing::debug!("the radio: {why}");
            }
        });
    }

    /// Joins the network that is chosen of those that are heard, does something there, and leaves it again, whatever came
    /// of it and whoever still waits. What is done is told the address at which the board is reached there, if not at its own.
    ///
    /// # Errors
    /// A sentence: that there is no radio, why none of the networks is chosen, what its program says, or why what was to
    /// be done there could not be.
    pub async fn inside<T, F>(
        &self,
        choose: impl FnOnce(&[Heard]) -> Result<String, String> + Send + 'static,
        work: impl FnOnce(String, Option<String>) -> F + Send + 'static,
    ) -> Result<T, String>
    where
        T: Send + 'static,
        F: Future<Output = Result<T, String>> + Send,
    {
        let using = self.radio.clone().ok_or_else(|| {
            "this service does not use the radio of its computer (radio_program)".to_owned()
        })?;
        let done = tokio::spawn(async move {
            let _alone = using.busy.lock().await;
            let heard = using.listen().await?;
            let name = choose(&heard)?;
            let done = match using.radio.joins(&name).await {
                Ok(at) => work(name.clone(), at).await,
                Err(why) => Err(format!("{name} cannot be joined: {why}")),
            };
            if let Err(why) = using.radio.leaves().await {
                tracing::error!("the radio stays in {name}: {why}");
            }
            done
        });
        done.await
            .unwrap_or_else(|e| Err(format!("what was done in that network stopped: {e}")))
    }
}
