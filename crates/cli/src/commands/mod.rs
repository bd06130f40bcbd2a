//! One module a noun.

pub mod arrival;
pub mod backup;
pub mod bench;
pub mod card;
mod content;
pub mod device;
pub mod export;
pub mod feed;
pub mod history;
pub mod job;
mod list;
pub mod notice;
pub mod person;
pub mod place;
pub mod preset;
pub mod release;
pub mod round;
pub mod service;
pub mod settings;
pub mod slot;
mod values;
pub mod vault;
pub mod write;

/// A key of this run, so that a repeated request starts nothing twice.
fn request_key() -> String {
    let mut bytes = [0; 16];
    // A constant key would make the service take a new request for a repetition.
    match getrandom::fill(&mut bytes) {
        Ok(()) => hex::encode(bytes),
        Err(_) => format!("pid-{}", std::process::id()),
    }
}
