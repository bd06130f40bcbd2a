//! How the stand-in card reader is spoken to: over TCP on loopback, a request and a reply at a
//! time. Each is a JSON header and a body of bytes, both with their length in four bytes,
//! little-endian, in front.

use std::io::{self, Read, Write};
use std::net::{SocketAddr, TcpStream};
use std::sync::Mutex;
use std::time::Duration;

use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};

/// Longest header and longest body that are accepted, in bytes.
const MOST_HEADER: usize = 1 << 20;
const MOST_BODY: usize = 16 << 20;

/// What is asked of the stand-in.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(tag = "do", rename_all = "kebab-case")]
pub enum Request {
    /// What lies in the slots.
    Slots,
    /// Fill the body from a card.
    Read {
        /// Slot.
        slot: u32,
        /// Insertion that is held.
        insertion: u64,
        /// First byte.
        offset: u64,
        /// Number of bytes.
        len: u32,
    },
    /// Write the body to a card.
    Write {
        /// Slot.
        slot: u32,
        /// Insertion that is held.
        insertion: u64,
        /// First byte.
        offset: u64,
    },
    /// Return when all is on the medium.
    Flush {
        /// Slot.
        slot: u32,
        /// Insertion that is held.
        insertion: u64,
    },
    /// The cards in the drawer, in slots and in boards.
    Cards,
    /// Make a card.
    Make {
        /// The card.
        card: NewCard,
    },
    /// Put a card into a slot; what was in it goes to the drawer.
    Put {
        /// Name of the card.
        card: String,
        /// Slot.
        slot: u32,
    },
    /// Pull the card out of a slot.
    Pull {
        /// Slot.
        slot: u32,
    },
    /// Give a card a fault, or none.
    Fault {
        /// Name of the card.
        card: String,
        /// The fault.
        fault: Option<Fault>,
    },
    /// Say which Wi-Fi networks there are.
    Air {
        /// All of them.
        networks: Vec<Network>,
    },
    /// Put a card into a board and switch it on.
    Boot {
        /// Name of the card; it is pulled out of its slot.
        card: String,
        /// Board model.
        model: String,
        /// What this board is like.
        #[serde(default)]
        board: BoardKind,
    },
    /// Make room for the bytes of a card that a board shall only try.
    Trial {
        /// Bytes of the card.
        len: u64,
    },
    /// Write the body to a trial.
    TrialWrite {
        /// Which.
        trial: u64,
        /// First byte.
        offset: u64,
    },
    /// Let a board try a trial, which is gone then.
    TrialBoot {
        /// Which.
        trial: u64,
        /// Board model.
        model: String,
    },
    /// The networks that are heard: those in the air, and those that boards open themselves.
    Heard,
    /// The boards that are on.
    Boards,
    /// Switch a board off and take its card out.
    Halt {
        /// Name of the card in it.
        card: String,
    },
}

/// What the stand-in answers.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Reply {
    /// It is done; bytes that were asked for are the body.
    Done,
    /// What lies in the slots.
    Slots(Vec<SlotState>),
    /// The cards.
    Cards(Vec<CardState>),
    /// Boards that are on, or the one that tried something.
    Boards(Vec<BoardState>),
    /// Names of networks.
    Networks(Vec<String>),
    /// Number of a trial.
    Trial(u64),
    /// It was not done.
    Refused {
        /// Why, for programs.
        why: Refusal,
        /// Why, for people.
        message: String,
    },
}

/// Why the stand-in refused.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Refusal {
    /// No card in the slot.
    Empty,
    /// Another insertion, or the card vanished.
    Gone,
    /// The card is locked.
    Locked,
    /// The medium failed.
    Failed,
    /// No such card, slot or board, or a request that makes no sense.
    Unknown,
}

/// A slot of the stand-in.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct SlotState {
    /// Number, from 1.
    pub number: u32,
    /// Which start of the stand-in counts.
    #[serde(default)]
    pub boot: String,
    /// Counts the cards put in.
    pub insertion: u64,
    /// The card in it.
    pub card: Option<CardState>,
}

/// A card to make.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct NewCard {
    /// Name in the drawer; the product never sees it.
    pub name: String,
    /// Size that it reports, in bytes.
    pub size: u64,
    /// Kind of medium.
    pub kind: String,
    /// Whether its slider is on *lock*.
    #[serde(default)]
    pub locked: bool,
    /// Limit in bytes a second.
    #[serde(default)]
    pub rate: Option<u64>,
    /// Fault, if any.
    #[serde(default)]
    pub fault: Option<Fault>,
    /// Length of the blocks that its reader counts in, in bytes.
    #[serde(default = "usual_block")]
    pub block: u32,
}

fn usual_block() -> u32 {
    512
}

/// A card of the stand-in.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct CardState {
    /// The card.
    #[serde(flatten)]
    pub card: NewCard,
    /// Where it is: `drawer`, `slot 2`, `board plover`.
    pub place: String,
}

/// What can be wrong with a card.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum Fault {
    /// It holds less than it reports: later writes land on earlier ones.
    Wraps {
        /// True capacity in bytes.
        capacity: u64,
    },
    /// It holds less than it reports: later writes are lost.
    Drops {
        /// True capacity in bytes.
        capacity: u64,
    },
    /// A region cannot be read.
    BadRegion {
        /// First byte.
        offset: u64,
        /// Number of bytes.
        len: u64,
    },
    /// One bit flips in every stretch of this many bytes.
    FlipsBits {
        /// Length of the stretch in bytes.
        every: u64,
    },
    /// It takes every write and keeps none.
    KeepsNothing,
    /// It takes no writes any more once this many bytes have been written since it was put in.
    ReadOnly {
        /// Bytes.
        after: u64,
    },
    /// It vanishes once this many bytes have been written since it was put in.
    Vanishes {
        /// Bytes.
        after: u64,
    },
}

/// A Wi-Fi network in the stand-in's air.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Network {
    /// Name.
    pub name: String,
    /// Passphrase.
    pub passphrase: String,
    /// Country that it stands in.
    pub country: String,
}

/// What a board is like, beside its model.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct BoardKind {
    /// Its hardware address; one made of the card's name where none is given.
    #[serde(default)]
    pub mac: Option<String>,
    /// Seconds until it has joined its network.
    #[serde(default)]
    pub seconds: u32,
    /// It starts anew each time it has come up.
    #[serde(default)]
    pub in_circles: bool,
    /// Another one has other keys with the same card.
    #[serde(default)]
    pub key: u32,
    /// It opens a network of its own and waits there for its settings.
    #[serde(default)]
    pub own_network: bool,
    /// How far its clock is ahead, in seconds.
    #[serde(default)]
    pub clock_ahead: i64,
    /// What it says it runs, if not what is on its card: it was updated in place.
    #[serde(default)]
    pub runs: Option<String>,
    /// What is wrong with its pages.
    #[serde(default)]
    pub pages: Option<PageFault>,
}

/// What is wrong with the pages of a board.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum PageFault {
    /// Each sends on to another address.
    SendsOn,
    /// Each breaks off half-way.
    Cut,
    /// The page with the login asks for none.
    NoPassword,
    /// The page with the login takes any password.
    AnyPassword,
}

impl std::str::FromStr for PageFault {
    type Err = String;

    fn from_str(word: &str) -> Result<Self, String> {
        let quoted = serde_json::Value::String(word.into());
        serde_json::from_value(quoted)
            .map_err(|_| "sends-on, cut, no-password or any-password".to_owned())
    }
}

/// A board that is on.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct BoardState {
    /// Board model.
    pub model: String,
    /// Name of the card in it.
    pub card: String,
    /// What its lamp does.
    pub lamp: String,
    /// What that means.
    pub meaning: String,
    /// Appliance that runs, with its version.
    pub appliance: Option<String>,
    /// Size of its root file system in bytes.
    #[serde(default)]
    pub root_bytes: Option<u64>,
    /// Host name that it took from its card.
    pub host_name: Option<String>,
    /// Network that it joined.
    pub joined: Option<String>,
    /// Why it joined none.
    pub not_joined: Option<String>,
    /// What more a bystander can find out.
    #[serde(default)]
    pub found: Vec<String>,
    /// Address of its page.
    pub page: Option<String>,
    /// Its hardware address.
    #[serde(default)]
    pub mac: Option<String>,
    /// Where each of its ports is on this computer.
    #[serde(default)]
    pub ports: std::collections::BTreeMap<u16, u16>,
    /// The network that it opens itself, as long as it waits for its settings there.
    #[serde(default)]
    pub own_network: Option<String>,
}

/// Writes a header and a body.
pub fn send<T: Serialize>(stream: &mut impl Write, header: &T, body: &[u8]) -> io::Result<()> {
    let header = serde_json::to_vec(header)?;
    let mut front = Vec::with_capacity(header.len() + 8);
    front.extend((header.len() as u32).to_le_bytes());
    front.extend(&header);
    front.extend((body.len() as u32).to_le_bytes());
    stream.write_all(&front)?;
    stream.write_all(body)?;
    stream.flush()
}

/// Reads a header and a body.
pub fn receive<T: DeserializeOwned>(stream: &mut impl Read) -> io::Result<(T, Vec<u8>)> {
    let header = part(stream, MOST_HEADER)?;
    let body = part(stream, MOST_BODY)?;
    Ok((serde_json::from_slice(&header)?, body))
}

fn part(stream: &mut impl Read, most: usize) -> io::Result<Vec<u8>> {
    let mut len = [0; 4];
    stream.read_exact(&mut len)?;
    let len = u32::from_le_bytes(len) as usize;
    if len > most {
        return Err(io::Error::new(
            io::ErrorKind::InvalidData,
            "longer than allowed",
        ));
    }
    let mut bytes = vec![0; len];
    stream.read_exact(&mut bytes)?;
    Ok(bytes)
}

/// A connection that is made when it is needed, and again after it broke.
pub struct Line {
    address: Option<SocketAddr>,
    /// How long an answer may take.
    patience: Duration,
    stream: Mutex<Option<TcpStream>>,
}

impl Line {
    /// A line to this address.
    pub fn new(address: Option<SocketAddr>) -> Self {
        Self {
            address,
            patience: Duration::from_secs(120),
            stream: Mutex::new(None),
        }
    }

    /// The same line, on which an answer may take so long.
    pub fn patient(self, patience: Duration) -> Self {
        Self { patience, ..self }
    }

    /// Asks and waits for the reply.
    pub fn ask(&self, request: &Request, body: &[u8]) -> io::Result<(Reply, Vec<u8>)> {
        let mut held = self.stream.lock().unwrap_or_else(|e| e.into_inner());
        let mut stream = match held.take() {
            Some(stream) => stream,
            None => {
                let address = self.address.ok_or(io::ErrorKind::NotConnected)?;
                let stream = TcpStream::connect_timeout(&address, Duration::from_secs(2))?;
                stream.set_nodelay(true)?;
                stream.set_read_timeout(Some(self.patience))?;
                stream.set_write_timeout(Some(self.patience))?;
                stream
            }
        };
        send(&mut stream, request, body)?;
        let answer = receive(&mut stream)?;
        // Only a stream in a known state is kept.
        *held = Some(stream);
        Ok(answer)
    }
}
