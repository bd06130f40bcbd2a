//! A board on its way from *card in* to *does its job*, as far as a network tells of it.
//!
//! - [`locate`]: where it is. Each way of finding a board is a [`Locator`](locate::Locator); none of them scans a
//!   network, each asks for the boards that are waited for, by name, address or hardware address.
//! - [`look`]: what it says: pages with their certificates, ports, the key of its SSH server.
//! - [`known`]: which board it is. A name is no proof: stamp, key and hardware address are.
//! - [`serial`]: what it says on a serial line while it starts.
//! - [`radio`]: which networks are heard where the service's computer stands, and how it joins one.
//! - [`causes`]: why it may not have come up.
//!
//! Everything that a board says is foreign: it is bounded in length and time before it is looked at.
//!
//! ```
//! use arrival::known::{Known, Marks, Told, tell};
//!
//! let ours = Marks { device: "quay-03".into(), imprint: Some(41), ..Marks::default() };
//! let told = Told { stamp: Some((41, Some("quay-03".into()))), ..Told::default() };
//! assert_eq!(tell(&ours, &[], &told), Known::This { by: "its stamp" });
//! ```

pub mod causes;
pub mod conformance;
pub mod known;
pub mod locate;
pub mod look;
pub mod radio;
pub mod serial;
