//! Which places of this computer are slots: a small TOML file, `bench.toml`, in the data folder.
//!
//! ```toml
//! [[slot]]
//! number = 3                      # of the slot, as it stands on the table
//! port = "0000:00:14.0/2.3"       # where the reader hangs, as `duplicarium bench scan` names it
//! unit = 0                        # place in the reader
//! note = "left hub, upper reader" # for people, optional
//! ```

use std::collections::BTreeMap;
use std::io::Write;
use std::path::Path;

use cardwork::Place;
use serde::{Deserialize, Serialize};

/// Length of the file at most, in bytes.
const MOST: u64 = 64 << 10;
/// Slots at most.
const SLOTS: usize = 64;
/// Length of a port or a note at most, in bytes.
const TEXT: usize = 200;

/// What a file begins with, for whoever opens it.
const HEAD: &str = "# The slots of this bench. Only what is at a port that is named here is ever opened.\n\
                    # `duplicarium bench scan` shows the ports; this file may be changed while the service runs.\n\n";

/// A place that is a slot.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Binding {
    /// Number of the slot, from 1.
    pub number: u32,
    /// Port of the reader.
    pub port: String,
    /// Place in the reader, from 0.
    #[serde(default)]
    pub unit: u32,
    /// What people call it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub note: Option<String>,
}

/// All places that are slots.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Bindings {
    /// One a slot.
    #[serde(default, rename = "slot")]
    pub slots: Vec<Binding>,
}

/// Why places cannot be slots.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum BindingError {
    /// Two slots of one number.
    #[error("slot {0} is there twice")]
    NumberTwice(u32),
    /// Two slots in one place.
    #[error("{0} is slot {1} and slot {2}; it can be one only")]
    PlaceTwice(Place, u32, u32),
    /// A number, a port or a note that cannot be.
    #[error("{0}")]
    Senseless(String),
    /// The service has no file for them.
    #[error("this service keeps no slots of its own computer")]
    NoFile,
    /// The file cannot be read or written.
    #[error("{file}: {why}")]
    File {
        /// The file.
        file: String,
        /// What is wrong.
        why: String,
    },
}

impl Bindings {
    /// Reads them from a file. A file that is not there has none.
    ///
    /// # Errors
    /// [`BindingError`] where it makes no sense.
    pub fn load(file: &Path) -> Result<Self, BindingError> {
        let wrong = |why: String| BindingError::File {
            file: file.display().to_string(),
            why,
        };
        match std::fs::metadata(file) {
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => return Ok(Self::default()),
            Ok(meta) if meta.len() > MOST => return Err(wrong("it is too long".into())),
            _ => {}
        }
        let text = std::fs::read_to_string(file).map_err(|e| wrong(e.to_string()))?;
        let bindings: Self = toml::from_str(&text).map_err(|e| wrong(e.message().to_owned()))?;
        bindings.check().map_err(|e| wrong(e.to_string()))?;
        Ok(bindings)
    }

    /// Puts them into a file, whole or not at all.
    ///
    /// # Errors
    /// [`BindingError::File`].
    pub fn store(&self, file: &Path) -> Result<(), BindingError> {
        let write = || -> std::io::Result<()> {
            let text = toml::to_string(self).map_err(std::io::Error::other)?;
            let beside = file.with_extension("toml.new");
            let mut new = std::fs::File::create(&beside)?;
            new.write_all(HEAD.as_bytes())?;
            new.write_all(text.as_bytes())?;
            new.sync_all()?;
            std::fs::rename(&beside, file)?;
            if let Some(folder) = file.parent() {
                std::fs::File::open(folder)?.sync_all()?;
            }
            Ok(())
        };
        write().map_err(|e| BindingError::File {
            file: file.display().to_string(),
            why: e.to_string(),
        })
    }

    /// Whether they go together.
    ///
    /// # Errors
    /// [`BindingError`], which names what does not.
    pub fn check(&self) -> Result<(), BindingError> {
        if self.slots.len() > SLOTS {
            return Err(BindingError::Senseless(format!(
                "a bench has at most {SLOTS} slots"
            )));
        }
        let mut places = BTreeMap::new();
        let mut numbers = std::collections::BTreeSet::new();
        for slot in &self.slots {
            if !(1..=999).contains(&slot.number) {
                return Err(BindingError::Senseless(format!(
                    "slots are numbered from 1 to 999, not {}",
                    slot.number
                )));
            }
            let texts = [Some(&slot.port), slot.note.as_ref()];
            if slot.port.trim().is_empty()
                || texts
                    .into_iter()
                    .flatten()
                    .any(|text| text.len() > TEXT || text.chars().any(char::is_control))
            {
                return Err(BindingError::Senseless(format!(
                    "slot {} needs a port, and port and note are one line each",
                    slot.number
                )));
            }
            if !numbers.insert(slot.number) {
                return Err(BindingError::NumberTwice(slot.number));
            }
            if let Some(other) = places.insert(slot.place(), slot.number) {
                return Err(BindingError::PlaceTwice(slot.place(), other, slot.number));
            }
        }
        Ok(())
    }

    /// The slot of a place.
    pub fn of(&self, place: &Place) -> Option<&Binding> {
        self.slots
            .iter()
            .find(|slot| slot.port == place.reader && slot.unit == place.unit)
    }

    /// The slot of a number.
    pub fn numbered(&self, number: u32) -> Option<&Binding> {
        self.slots.iter().find(|slot| slot.number == number)
    }

    /// The ports, each with its units.
    pub fn ports(&self) -> BTreeMap<String, Vec<u32>> {
        let mut ports = BTreeMap::<_, Vec<u32>>::new();
        for slot in &self.slots {
            ports.entry(slot.port.clone()).or_default().push(slot.unit);
        }
        ports
    }
}

impl Binding {
    /// Where it is.
    pub fn place(&self) -> Place {
        Place {
            reader: self.port.clone(),
            unit: self.unit,
        }
    }
}
