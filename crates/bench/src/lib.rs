//! The bench: a computer with card readers, and the slots in them.
//!
//! A bench is a list of readers. Each [`Reader`] is asked by itself what lies in its places
//! ([`Reader::survey`]), so that one that does not answer holds up no other, and gives one
//! [`cardwork::Slot`] at a time for work. Readers are the stand-in, spoken to over [`wire`], and those
//! at the ports of this computer ([`linux`]) that the [`bindings`] name. A disk that is at no such port is
//! never opened.

pub mod bindings;
pub mod linux;
mod reader;
mod standin;
pub mod wire;

use std::net::SocketAddr;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, MutexGuard};
use std::time::SystemTime;

use cardwork::{CardError, Medium, Place, Slot};

pub use bindings::{Binding, BindingError, Bindings};
pub use reader::{Reader, Unit};
pub use standin::{Put, STANDIN};

/// A slot and what lies in it at one moment.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Seen {
    /// Number of the slot.
    pub number: u32,
    /// Which reader, and which place in it.
    pub place: Place,
    /// Where it is, for people.
    pub title: String,
    /// What is in it.
    pub medium: Option<Medium>,
    /// Why nobody can tell what is in it.
    pub trouble: Option<String>,
}

/// A bench with its readers.
pub struct Bench {
    standin: Option<Arc<dyn Reader>>,
    /// Where the stand-in is, whose boards try cards.
    standin_at: Option<SocketAddr>,
    /// Where this computer says which disks it has.
    computer: linux::Computer,
    /// Where it is written down which places are slots; none where only the stand-in is used.
    file: Option<PathBuf>,
    state: Mutex<State>,
}

#[derive(Default)]
struct State {
    bindings: Bindings,
    /// When the file was changed that they were read from.
    read: Option<SystemTime>,
    /// Why the file cannot be used.
    trouble: Option<String>,
    readers: Vec<Arc<linux::PortReader>>,
}

impl Bench {
    /// A bench with the stand-in card reader at this address, or without one, and with the slots that are
    /// written down in a file, which need not exist yet.
    pub fn new(standin: Option<SocketAddr>, file: Option<PathBuf>) -> Self {
        Self {
            standin_at: standin,
            standin: standin.map(|address| Arc::new(standin::StandinReader::new(address)) as _),
            computer: linux::Computer::here(),
            file,
            state: Mutex::default(),
        }
    }

    /// Lets a board of a model try a card of `len` bytes, which `fill` gives, without a card in any slot; gives what it
    /// did. `None` where the bench has no stand-in: only that has boards.
    ///
    /// # Errors
    /// What the stand-in says, and `fill`.
    pub fn try_boot(
        &self,
        model: &str,
        len: u64,
        fill: &mut dyn FnMut(Put<'_>) -> std::io::Result<()>,
    ) -> Result<Option<wire::BoardState>, CardError> {
        let tried = self
            .standin_at
            .map(|address| standin::try_boot(address, model, len, fill));
        tried.transpose()
    }

    /// Whether there are boards that try cards.
    pub fn has_boards(&self) -> bool {
        self.standin_at.is_some()
    }

    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(|e| e.into_inner())
    }

    /// The bindings as the file has them now; it may be changed by hand while the service runs. A file
    /// that makes no sense gives no slots: what it meant is not guessed.
    fn refresh(&self) -> MutexGuard<'_, State> {
        let mut state = self.state();
        let Some(file) = &self.file else { return state };
        let changed = std::fs::metadata(file)
            .and_then(|meta| meta.modified())
            .ok();
        if changed == state.read && state.trouble.is_none() {
            return state;
        }
        let bindings = match Bindings::load(file) {
            Ok(bindings) => {
                state.trouble = None;
                bindings
            }
            Err(error) => {
                state.trouble = Some(error.to_string());
                Bindings::default()
            }
        };
        state.read = changed;
        if bindings != state.bindings || state.readers.is_empty() {
            self.take_over(&mut state, bindings);
        }
        state
    }

    /// One reader a port. Those that stay keep what they know of held cards.
    fn take_over(&self, state: &mut State, bindings: Bindings) {
        let before = std::mem::take(&mut state.readers);
        state.readers = bindings
            .ports()
            .into_iter()
            .map(|(port, units)| {
                let same = before.iter().find(|reader| reader.is(&port, &units));
                same.cloned().unwrap_or_else(|| {
                    Arc::new(linux::PortReader::new(self.computer.clone(), port, units))
                })
            })
            .collect();
        state.bindings = bindings;
    }

    /// The readers of this bench, as they are written down now.
    pub fn readers(&self) -> Vec<Arc<dyn Reader>> {
        let state = self.refresh();
        let ports = state.readers.iter().map(|reader| reader.clone() as _);
        self.standin.iter().cloned().chain(ports).collect()
    }

    /// The slots of one reader and what lies in them. Cheap enough to be asked several times a second.
    ///
    /// # Errors
    /// [`CardError::Reader`] where the reader does not answer at all.
    pub fn survey(&self, reader: &dyn Reader) -> Result<Vec<Seen>, CardError> {
        let units = reader.survey()?;
        let bindings = self.state().bindings.clone();
        Ok(units
            .into_iter()
            .filter_map(|unit| {
                let place = Place {
                    reader: reader.name().to_owned(),
                    unit: unit.number,
                };
                let binding = bindings.of(&place);
                let number = match binding {
                    Some(binding) => binding.number,
                    // The stand-in's places have its own numbers, where no port was given one of them.
                    None => Some(unit.number)
                        .filter(|_| reader.numbers_itself())
                        .filter(|number| bindings.numbered(*number).is_none())?,
                };
                let title = match binding.and_then(|binding| binding.note.clone()) {
                    Some(note) => format!("{note} ({})", unit.title),
                    None => unit.title,
                };
                Some(Seen {
                    number,
                    place,
                    title,
                    medium: unit.medium,
                    trouble: unit.trouble,
                })
            })
            .collect())
    }

    /// One slot for work, whether or not there is a card in it.
    ///
    /// # Errors
    /// [`CardError::Reader`] where a reader that may have it does not answer.
    pub fn slot(&self, number: u32) -> Result<Option<Arc<dyn Slot>>, CardError> {
        let bound = self.refresh().bindings.numbered(number).cloned();
        for reader in self.readers() {
            match &bound {
                Some(binding) if reader.name() == binding.port => {
                    return Ok(reader.unit(binding.unit));
                }
                None if reader.numbers_itself() => {
                    let units = reader.survey()?;
                    if units.iter().any(|unit| unit.number == number) {
                        return Ok(reader.unit(number));
                    }
                }
                _ => {}
            }
        }
        Ok(None)
    }

    /// Which places of this computer are slots, and why the file that says so cannot be used.
    pub fn bindings(&self) -> (Bindings, Option<String>) {
        let state = self.refresh();
        (state.bindings.clone(), state.trouble.clone())
    }

    /// Writes down which places of this computer are slots; they count at once.
    ///
    /// # Errors
    /// [`BindingError`] where they contradict each other, or the file cannot be written. Nothing has
    /// changed then.
    pub fn bind(&self, bindings: Bindings) -> Result<(), BindingError> {
        let file = self.file.as_ref().ok_or(BindingError::NoFile)?;
        bindings.check()?;
        bindings.store(file)?;
        let mut state = self.state();
        // It is read again in any case: somebody may have changed it meanwhile.
        state.read = None;
        self.take_over(&mut state, bindings);
        Ok(())
    }

    /// Every disk of this computer: what it is, and whether and why it is offered as a card.
    ///
    /// # Errors
    /// [`CardError::Reader`] where the computer does not say.
    pub fn scan(&self) -> Result<Vec<linux::Disk>, CardError> {
        self.computer.disks()
    }

    /// Waits until the computer says that a disk came, went or changed, at most so long.
    pub fn wait_for_change(&self, most: std::time::Duration) {
        self.computer.wait_for_change(most);
    }
}
