//! What boards say on the serial lines of this computer while they are waited for.

use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard};
use std::time::Duration;

use arrival::serial::{Heard, Line, SPEEDS, SerialError};
use records::arrivals::Heard as Kept;
use settings::BootLine;

use super::Arrivals;
use super::awaited::all_awaited;
use crate::news::News;
use crate::refusal::Refusal;

/// How often what was heard is recorded.
const EACH: Duration = Duration::from_secs(1);
/// Lines of meaning that are told at most.
const FOUND: usize = 50;
/// A line that says something is shown up to here, in characters.
const SHOWN: usize = 200;

/// The ports that may be listened at, and who listens.
pub(super) struct Lines {
    /// Only these are ever opened.
    ports: Vec<PathBuf>,
    open: Mutex<HashMap<i64, Listening>>,
}

struct Listening {
    port: PathBuf,
    stop: Arc<AtomicBool>,
}

impl Lines {
    pub fn new(ports: Vec<PathBuf>) -> Self {
        Self {
            ports,
            open: Mutex::default(),
        }
    }

    fn open(&self) -> MutexGuard<'_, HashMap<i64, Listening>> {
        self.open.lock().unwrap_or_else(|e| e.into_inner())
    }
}

impl From<SerialError> for Refusal {
    fn from(error: SerialError) -> Self {
        Self::conflict("serial-line", error.to_string())
    }
}

/// Lines of a text that the sheet gives a meaning, in their order.
fn found(text: &str, known: &[BootLine]) -> Vec<api::FoundLine> {
    let meant = text.lines().filter_map(|line| {
        let one = known.iter().find(|one| line.contains(&one.text))?;
        Some(api::FoundLine {
            line: line.chars().take(SHOWN).collect(),
            means: one.means.clone(),
            good: one.good,
        })
    });
    meant.take(FOUND).collect()
}

impl Arrivals {
    /// The serial ports that may be listened at.
    pub fn serial_ports(&self) -> Vec<api::SerialPort> {
        let open = self.lines.open();
        let ports = self.lines.ports.iter().map(|port| api::SerialPort {
            port: port.display().to_string(),
            there: port.exists(),
            arrival: open
                .iter()
                .find(|(_, one)| one.port == *port)
                .map(|(id, _)| *id),
        });
        ports.collect()
    }

    /// Listens at a port for an arrival; what was heard of it before is forgotten.
    pub async fn listen(self: &Arc<Self>, id: i64, new: &api::NewSerial) -> Result<(), Refusal> {
        let arrival = self.records.arrival(id).await?;
        if arrival.ended_at.is_some() {
            return Err(Refusal::conflict("over", format!("arrival {id} is over")));
        }
        let port = PathBuf::from(&new.port);
        if !self.lines.ports.contains(&port) {
            let all: Vec<_> = self
                .lines
                .ports
                .iter()
                .map(|port| port.display().to_string())
                .collect();
            let detail = format!(
                "{} is no serial port that the configuration names (serial_ports: {}); only those are opened",
                new.port,
                if all.is_empty() {
                    "none".into()
                } else {
                    all.join(", ")
                }
            );
            return Err(Refusal::invalid("bad-value", detail));
        }
        if !SPEEDS.contains(&new.baud) {
            let all: Vec<_> = SPEEDS.iter().map(u32::to_string).collect();
            let detail = format!(
                "a line has one of the speeds {}, not {}",
                all.join(", "),
                new.baud
            );
            return Err(Refusal::invalid("bad-value", detail));
        }
        let stop = Arc::new(AtomicBool::new(false));
        {
            let mut open = self.lines.open();
            if let Some((other, _)) = open.iter().find(|(_, one)| one.port == port) {
                let detail = format!(
                    "{} is listened at for arrival {other}; end that first",
                    new.port
                );
                return Err(Refusal::conflict("serial-line", detail));
            }
            if open.contains_key(&id) {
                let detail =
                    format!("arrival {id} listens at another port already; end that first");
                return Err(Refusal::conflict("serial-line", detail));
            }
            let stop = stop.clone();
            open.insert(
                id,
                Listening {
                    port: port.clone(),
                    stop,
                },
            );
        }
        let baud = new.baud;
        let opened = tokio::task::spawn_blocking(move || Line::open(&port, baud)).await;
        let begun = match opened {
            Ok(Ok(line)) => self
                .records
                .begin_line(id, &new.port, baud as i32)
                .await
                .map(|()| line)
                .map_err(Refusal::from),
            Ok(Err(e)) => Err(e.into()),
            Err(e) => Err(Refusal::conflict("serial-line", e.to_string())),
        };
        match begun {
            Ok(line) => {
                tokio::spawn(self.clone().hear(id, line, stop));
                self.events.bus.tell(News::Events);
                Ok(())
            }
            Err(e) => {
                self.lines.open().remove(&id);
                Err(e)
            }
        }
    }

    /// Hears a line to its end, and records what was said as it goes on.
    async fn hear(self: Arc<Self>, id: i64, line: Line, stop: Arc<AtomicBool>) {
        let heard = Arc::new(Heard::default());
        let mut listening = tokio::task::spawn_blocking({
            let (heard, stop) = (heard.clone(), stop.clone());
            move || line.listen(&heard, &stop)
        });
        let mut recorded = String::new();
        let ended = loop {
            let ended = tokio::select! {
                ended = &mut listening => Some(ended),
                () = tokio::time::sleep(EACH) => None,
            };
            let text = heard.text();
            if text != recorded {
                match self.records.line_heard(id, &text).await {
                    Ok(()) => recorded = text,
                    // It is tried again as long as the line is open.
                    Err(e) => tracing::debug!("what arrival {id} said on its line: {e}"),
                }
                self.events.bus.tell(News::Events);
            }
            if let Some(ended) = ended {
                break ended;
            }
        };
        let problem = match ended {
            Ok(Ok(())) => None,
            Ok(Err(e)) => Some(e.to_string()),
            Err(e) => Some(e.to_string()),
        };
        if let Err(e) = self
            .records
            .end_line(id, &heard.text(), problem.as_deref())
            .await
        {
            tracing::warn!("what arrival {id} said on its line could not be recorded: {e}");
        }
        self.lines.open().remove(&id);
        self.events.bus.tell(News::Events);
    }

    /// Listens no more.
    pub fn hang_up(&self, id: i64) {
        if let Some(one) = self.lines.open().get(&id) {
            one.stop.store(true, Ordering::Relaxed);
        }
    }

    /// What a board said on its line.
    pub async fn line(&self, id: i64) -> Result<api::SerialLog, Refusal> {
        let arrival = self.records.arrival(id).await?;
        let none = || Refusal::missing(format!("nobody listened for arrival {id}"));
        let Kept {
            port,
            baud,
            text,
            problem,
            began_at,
            ended_at,
        } = self.records.line_of(id).await?.ok_or_else(none)?;
        let device = self.records.device(&arrival.device).await?;
        let awaited = all_awaited(&self.in_force, std::slice::from_ref(&device)).await?;
        let known: &[BootLine] = awaited.first().map_or(&[], |one| &one.lines);
        Ok(api::SerialLog {
            found: found(&text, known),
            listening: self.lines.open().contains_key(&id),
            port,
            baud: baud as u32,
            text,
            problem,
            began_at,
            ended_at,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_that_mean_something_are_found_in_their_order() {
        let line = |text: &str, good| BootLine {
            text: text.into(),
            means: format!("it is {text}"),
            good,
        };
        let known = [line("panic", false), line("ready", true)];
        let all = found(
            "start\nkernel panic: x\nso be it\nlink is ready\nready again",
            &known,
        );
        let told: Vec<_> = all
            .iter()
            .map(|one| (one.line.as_str(), one.good))
            .collect();
        assert_eq!(
            told,
            [
                ("kernel panic: x", false),
                ("link is ready", true),
                ("ready again", true)
            ]
        );
        assert_eq!(found(&"panic\n".repeat(1000), &known).len(), FOUND);
    }
}
