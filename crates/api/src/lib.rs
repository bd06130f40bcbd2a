//! What the service and its clients say to each other over HTTP, and the typed client.

mod access;
mod arrivals;
mod backups;
mod belongs;
mod bench;
mod benches;
mod beside;
mod cards;
mod catalogue;
mod client;
mod lists;
mod notices;
mod people;
mod plans;
mod rounds;
mod services;
mod slot;
mod standing;
mod types;
mod vault;
pub mod words;

pub use access::*;
pub use arrivals::*;
pub use backups::*;
pub use belongs::{Belongs, belongs};
pub use bench::*;
pub use benches::*;
pub use beside::{read_sheet, sheet_beside};
pub use cards::*;
pub use catalogue::*;
pub use client::{
    Client, ClientError, Content, fingerprint, http_client, in_the_clear, is_in_the_clear,
    is_this_computer, pinned, shown_fingerprint,
};
pub use lists::*;
pub use notices::*;
pub use people::*;
pub use plans::*;
pub use rounds::*;
pub use services::*;
pub use slot::*;
pub use standing::*;
pub use types::*;
pub use vault::*;

/// Header that says who acts, percent-encoded.
pub const OPERATOR: &str = "duplicarium-operator";
/// Cookie of a browser that is signed in.
pub const COOKIE: &str = "duplicarium-pass";
/// Cookie of a browser that somebody was signed in with before; it opens nothing.
pub const DEVICE_COOKIE: &str = "duplicarium-device";
/// Header that makes a repeated request start nothing new.
pub const REQUEST_KEY: &str = "idempotency-key";
/// Largest part of an upload, in bytes.
pub const PART: usize = 8 << 20;
