//! The stand-ins: a card reader whose cards are sparse files with faults to order, boards that
//! boot those cards, a publisher of releases, and those who are told. They share no code with the product's own understanding of images, so
//! that what they accept is accepted by somebody else.

mod board;
mod drawer;
mod page;
mod publisher;
mod serial;
mod server;
mod ssh;
mod told;
mod trial;

pub use drawer::Drawer;
pub use publisher::{Orders, Publisher};
pub use serial::Serial;
pub use server::Server;
pub use told::{Ear, Told};
