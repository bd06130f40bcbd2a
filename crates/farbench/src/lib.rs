//! Benches on other computers: what is spoken between the service and `duplicarium-bench`, and both of its ends.
//!
//! A bench calls the service and keeps the connection; nothing is opened at the bench. Over it runs a [`session`]
//! that survives cuts: each message arrives once and in order, or the session is over. At the service's end a bench
//! is slots and cards like any others ([`service`]); what moves many bytes is done beside the card ([`worker`]), and
//! only what the other side has not travels, packed.

pub mod message;
pub mod service;
pub mod session;
pub mod worker;
