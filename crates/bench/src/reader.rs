//! A card reader: something with one or several places for cards.

use std::sync::Arc;

use cardwork::{CardError, Medium, Slot};

/// A card reader.
pub trait Reader: Send + Sync {
    /// What names it in records: the port that it hangs at, or a name of its own.
    fn name(&self) -> &str;

    /// Whether the numbers of its places are the numbers of slots, unless something else is written down.
    fn numbers_itself(&self) -> bool {
        false
    }

    /// What lies in each of its places. Cheap enough to be asked several times a second.
    fn survey(&self) -> Result<Vec<Unit>, CardError>;

    /// One place for work, whether or not there is a card in it; nothing where it has no such place.
    fn unit(&self, number: u32) -> Option<Arc<dyn Slot>>;
}

/// A place in a reader and what lies in it at one moment.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Unit {
    /// Number, as the reader counts.
    pub number: u32,
    /// Where it is, for people.
    pub title: String,
    /// What is in it.
    pub medium: Option<Medium>,
    /// Why nobody can tell what is in it.
    pub trouble: Option<String>,
}
