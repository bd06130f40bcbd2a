//! The stand-ins: a card reader whose cards are sparse files with faults to order, and boards
//! that boot those cards. They share no code with the product's own understanding of images, so
//! that what they accept is accepted by somebody else.

mod board;
mod drawer;
mod page;
mod server;

pub use drawer::Drawer;
pub use server::Server;
