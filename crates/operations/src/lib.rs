//! What the team does, without HTTP: the catalogue, settings in force, plans, jobs and what they do,
//! slots, events, and the store of vault and keys.
//!
//! Each part is a small struct that holds what it needs; the service puts them together once. A part
//! imports only parts that stand above it in this list.

pub mod arrivals;
pub mod at_hand;
pub mod attention;
pub mod backups;
pub mod benches;
pub mod care;
pub mod catalogue;
pub mod damage;
pub mod feeds;
pub mod history;
pub mod in_force;
pub mod inside;
pub mod jobs;
pub mod kept;
pub mod names;
pub mod news;
pub mod note;
pub mod notices;
pub mod people;
pub mod photos;
pub mod plans;
pub mod readers;
pub mod refusal;
pub mod reindex;
pub mod rounds;
pub mod shown;
pub mod slots;
pub mod store;
pub mod table;
pub mod taking;
pub mod uploads;
pub mod work;
