//! What service and bench say to each other.
//!
//! A message is a header in JSON and a body of bytes ([`encode`], [`decode`]). `docs/bench-protocol.md` describes
//! both for whoever writes another worker.

use bench::Bindings;
use bench::linux::Disk;
use cardwork::check::{Before, CheckError, Report};
use cardwork::{Access, CardError, Insertion, Left, Mark, Medium, Options, Place, Stage};
use cardwork::{Unwritten, WriteError, Written};
use imagecraft::{ByteKind, DiskError, Map, Run};
use serde::{Deserialize, Serialize, de::DeserializeOwned};

/// Version of the protocol. Service and worker must speak the same.
pub const VERSION: u32 = 2;
/// Longest header and body of a message, in bytes.
pub const MOST: usize = 64 << 20;

/// A slot of a bench and what lies in it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct SlotSeen {
    /// Number of the slot at this bench.
    pub number: u32,
    /// Reader and unit.
    pub place: Place,
    /// Where it is, for people.
    pub title: String,
    /// What is in it.
    pub medium: Option<Medium>,
    /// Why nobody can tell what is in it.
    pub trouble: Option<String>,
}

/// What the service says.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ToBench {
    /// Wants an answer.
    Ask {
        /// Number of the question.
        id: u64,
        /// The question.
        ask: Ask,
    },
    /// Answers what the bench asked; bytes are the body.
    Answer {
        /// Number of the bench's question.
        id: u64,
        /// The answer, or a sentence.
        answer: Result<Given, String>,
    },
    /// Stops a piece of work; how it ends is told as always.
    Cancel {
        /// Which.
        work: u64,
    },
    /// Lets go of a card.
    Close {
        /// Which, as it was opened.
        card: u64,
    },
}

/// What the service asks.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Ask {
    /// Begins a session. The body is the key that the bench's cache is sealed with: 32 bytes.
    Greet {
        /// Seconds that work goes on without a connection.
        patience: u64,
    },
    /// What lies in all slots now: told as always if it has changed, before this is answered.
    Slots,
    /// What is in a slot now.
    Medium {
        /// Number of the slot.
        slot: u32,
    },
    /// Takes hold of a card.
    Open {
        /// Number of the slot.
        slot: u32,
        /// The insertion that was seen.
        insertion: Insertion,
        /// What for.
        access: Access,
    },
    /// Lets go of the card where the bench's system uses it.
    Release {
        /// Number of the slot.
        slot: u32,
    },
    /// Every disk of the computer, and which of its places are slots.
    Disks,
    /// Says which places are slots, all of them.
    Bind(Bindings),
    /// Reads a held card.
    Read {
        /// Which.
        card: u64,
        /// First byte.
        offset: u64,
        /// Number of bytes.
        len: u32,
    },
    /// Writes the body to a held card.
    Write {
        /// Which.
        card: u64,
        /// First byte.
        offset: u64,
    },
    /// Returns when all that was written is on the medium.
    Flush {
        /// Which.
        card: u64,
    },
    /// Tells a held card that a range need not be kept.
    Discard {
        /// Which.
        card: u64,
        /// First byte.
        offset: u64,
        /// Number of bytes.
        len: u64,
    },
    /// Begins a piece of work on a held card.
    Begin {
        /// Which.
        card: u64,
        /// Number of the work.
        work: u64,
        /// What is done.
        order: Order,
    },
}

/// A piece of work that is done beside the card.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Order {
    /// Content is written and verified. The body names the data chunks in their order, 32 bytes each.
    Write {
        /// Which bytes matter.
        map: WireMap,
        /// Bytes of content.
        len: u64,
        /// What block 0 says meanwhile.
        mark: Mark,
        /// How.
        options: Options,
    },
    /// The card is read.
    Read {
        /// Which bytes matter.
        map: WireMap,
        /// Whether it was read before: only digests are told then, and what differs ends it.
        again: bool,
    },
    /// A full check.
    Full {
        /// What block 0 says meanwhile.
        mark: Mark,
    },
    /// A quick check.
    Quick {
        /// What block 0 says meanwhile.
        mark: Mark,
    },
    /// The card gets back what a quick check had found on it.
    PutBack {
        /// Number of places.
        places: usize,
        /// Bytes of all of them.
        bytes: u64,
    },
}

/// What a bench says.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ToService {
    /// Wants an answer that belongs to a piece of work.
    Ask {
        /// Number of the question.
        id: u64,
        /// The work.
        work: u64,
        /// The question.
        wish: Wish,
    },
    /// Answers what the service asked; bytes are the body.
    Answer {
        /// Number of the service's question.
        id: u64,
        /// The answer.
        answer: Result<Reply, CardError>,
    },
    /// What lies in the slots, each time it changed.
    Slots(Vec<SlotSeen>),
    /// How far a piece of work is.
    Progress {
        /// Which.
        work: u64,
        /// What is being done.
        stage: Stage,
        /// Bytes of the stage in all.
        total: u64,
        /// Bytes of the stage that are done.
        done: u64,
    },
    /// A piece of work is over.
    Ended {
        /// Which.
        work: u64,
        /// How.
        end: Box<End>,
    },
}

/// What a bench asks in the course of its work.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Wish {
    /// Chunks of content, packed, by their place among the data chunks. The answer's body has each behind its
    /// length in four bytes, little-endian.
    Chunks {
        /// Which.
        places: Vec<u32>,
    },
    /// Chunks that were read. The body has the BLAKE3 digest of each, 32 bytes.
    Offer {
        /// Index of the first; the others follow it.
        first: u64,
    },
    /// Chunks of an offer that the service has not, packed, as in the answer to [`Wish::Chunks`].
    Give {
        /// The offer, by the index of its first chunk.
        first: u64,
    },
    /// Keeps what lies at a place of the card: the body.
    Save {
        /// First byte.
        offset: u64,
    },
    /// Returns when all that was kept would outlive a loss of power.
    Settle,
    /// What was kept of a place, in the answer's body.
    Kept {
        /// Which, in the order in which they were kept.
        number: usize,
    },
}

/// What a bench answers.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Reply {
    /// It is done; bytes that were asked for are the body.
    Done,
    /// What is in the slot.
    Medium(Option<Medium>),
    /// The card is held.
    Opened {
        /// Number of the held card.
        card: u64,
        /// Its size in bytes.
        size: u64,
    },
    /// The disks, which places are slots, and why the file that says so cannot be used.
    Disks(Vec<Disk>, Bindings, Option<String>),
    /// It was not done; a sentence says why.
    Refused(String),
    /// What the card was used for.
    Released(Vec<String>),
    /// Whether the range was given up.
    Discarded(bool),
}

/// What the service answers.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Given {
    /// It is done; bytes that were asked for are the body.
    Done,
    /// Of an offer, the chunks that the service wants in full, counted from its first.
    Wanted(Vec<u32>),
    /// What was kept lay here.
    Place {
        /// First byte.
        offset: u64,
    },
}

/// How a piece of work ended.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum End {
    /// A card was written and verified.
    Written(Written),
    /// It was not.
    Unwritten {
        /// Why.
        failure: Failure,
        /// What is on it.
        left: Left,
    },
    /// All was read.
    Read,
    /// A check came to this.
    Checked(Report),
    /// A quick check came to this.
    CheckedQuickly {
        /// What it found.
        report: Report,
        /// What became of what was on the card.
        before: Before,
    },
    /// A quick check came to no verdict.
    NotChecked {
        /// Why.
        failure: Failure,
        /// What became of what was on the card.
        before: Before,
    },
    /// What was kept is back.
    PutBack,
    /// It came to no end.
    Failed(Failure),
}

/// Why work failed.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Failure {
    /// It was asked to stop.
    Cancelled,
    /// The card failed.
    Card(CardError),
    /// Content, or what shall be kept, could not be had; a sentence.
    Content(String),
    /// The card reads as something else than was written, or was read before.
    Differs {
        /// Where.
        offset: u64,
    },
    /// Test data was lost.
    Lost {
        /// Where.
        offset: u64,
    },
    /// What was put back does not read as it did.
    NotPutBack {
        /// Where.
        offset: u64,
    },
    /// The content is longer than the card.
    TooSmall {
        /// Bytes of content.
        content: u64,
        /// Bytes of the card.
        card: u64,
    },
}

impl From<WriteError> for Failure {
    fn from(error: WriteError) -> Self {
        match error {
            WriteError::Cancelled => Self::Cancelled,
            WriteError::Card(error) => Self::Card(error),
            WriteError::Differs { offset } => Self::Differs { offset },
            WriteError::Lost { offset } => Self::Lost { offset },
            WriteError::TooSmall { content, card } => Self::TooSmall { content, card },
            WriteError::Content(error) => Self::Content(error.to_string()),
            other => Self::Content(other.to_string()),
        }
    }
}

impl From<CheckError> for Failure {
    fn from(error: CheckError) -> Self {
        match error {
            CheckError::Card(error) => Self::Card(error),
            CheckError::Cancelled => Self::Cancelled,
            CheckError::NotPutBack { offset } => Self::NotPutBack { offset },
            CheckError::Keep(why) | CheckError::Chance(why) => Self::Content(why),
            other => Self::Content(other.to_string()),
        }
    }
}

impl From<Failure> for WriteError {
    fn from(failure: Failure) -> Self {
        match failure {
            Failure::Cancelled => Self::Cancelled,
            Failure::Card(error) => Self::Card(error),
            Failure::Differs { offset } | Failure::NotPutBack { offset } => {
                Self::Differs { offset }
            }
            Failure::Lost { offset } => Self::Lost { offset },
            Failure::TooSmall { content, card } => Self::TooSmall { content, card },
            Failure::Content(why) => Self::Content(DiskError::Io(std::io::Error::other(why))),
        }
    }
}

impl From<Failure> for CheckError {
    fn from(failure: Failure) -> Self {
        match failure {
            Failure::Cancelled => Self::Cancelled,
            Failure::Card(error) => Self::Card(error),
            Failure::NotPutBack { offset } => Self::NotPutBack { offset },
            Failure::Content(why) => Self::Keep(why),
            other => WriteError::from(other).into(),
        }
    }
}

impl From<Unwritten> for End {
    fn from(unwritten: Unwritten) -> Self {
        Self::Unwritten {
            failure: unwritten.error.into(),
            left: unwritten.left,
        }
    }
}

/// A map on its way: runs that follow each other.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct WireMap(Vec<(u64, ByteKind)>);

impl From<&Map> for WireMap {
    fn from(map: &Map) -> Self {
        let runs = map.runs().iter();
        Self(
            runs.map(|run: &Run| (run.end - run.start, run.kind))
                .collect(),
        )
    }
}

impl WireMap {
    /// The map; nothing if its lengths make no sense.
    pub fn map(&self) -> Option<Map> {
        let len = self
            .0
            .iter()
            .try_fold(0_u64, |sum, (len, _)| sum.checked_add(*len))?;
        let mut map = Map::uniform(len, ByteKind::Free);
        let mut at = 0;
        for (len, kind) in &self.0 {
            map.set(at, at + len, *kind);
            at += len;
        }
        Some(map)
    }
}

/// A message as bytes: the length of its header in four, little-endian, then header and body.
pub fn encode<T: Serialize>(message: &T, body: &[u8]) -> Vec<u8> {
    let header = serde_json::to_vec(message).expect("messages have only plain fields");
    let mut bytes = Vec::with_capacity(4 + header.len() + body.len());
    bytes.extend((header.len() as u32).to_le_bytes());
    bytes.extend(&header);
    bytes.extend(body);
    bytes
}

/// The other way round; nothing for what makes no sense.
pub fn decode<T: DeserializeOwned>(bytes: &[u8]) -> Option<(T, &[u8])> {
    let (len, rest) = bytes.split_first_chunk::<4>()?;
    let (header, body) = rest.split_at_checked(u32::from_le_bytes(*len) as usize)?;
    Some((serde_json::from_slice(header).ok()?, body))
}

/// Puts pieces one behind the other, each behind its length.
pub fn join<'a>(pieces: impl IntoIterator<Item = &'a [u8]>) -> Vec<u8> {
    let mut bytes = Vec::new();
    for piece in pieces {
        bytes.extend((piece.len() as u32).to_le_bytes());
        bytes.extend(piece);
    }
    bytes
}

/// The pieces again; nothing for what makes no sense.
pub fn split(mut bytes: &[u8]) -> Option<Vec<&[u8]>> {
    let mut pieces = Vec::new();
    while !bytes.is_empty() {
        let (len, rest) = bytes.split_first_chunk::<4>()?;
        let (piece, behind) = rest.split_at_checked(u32::from_le_bytes(*len) as usize)?;
        pieces.push(piece);
        bytes = behind;
    }
    Some(pieces)
}
