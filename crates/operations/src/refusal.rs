//! Refusals: why something was not done, in a stable word for programs and a sentence that says what
//! to do.

use cardwork::{CardError, Unsafe, WriteError};
use imagecraft::compose::ComposeError;
use records::RecordError;
use vault::{KeyError, VaultError};

/// What kind of refusal it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Why {
    /// What is asked cannot be carried out as it stands.
    Invalid,
    /// The state of things forbids it now.
    Conflict,
    /// There is no such thing.
    Missing,
    /// There was such a thing, and it does not hold any more.
    Void,
    /// It could be done, but not at this moment.
    Busy,
    /// A disk is full.
    NoRoom,
    /// Nobody is signed in, or with something wrong.
    NotSignedIn,
    /// Who is signed in may not.
    NotAllowed,
    /// It was tried too often.
    TooOften,
    /// Something of our own failed.
    Internal,
}

/// A refusal.
#[derive(Clone, Debug, thiserror::Error)]
#[error("{detail}")]
pub struct Refusal {
    /// Its kind.
    pub why: Why,
    /// Stable word for programs.
    pub code: &'static str,
    /// What happened and what to do.
    pub detail: String,
    /// What stands against it besides, a sentence each.
    pub besides: Vec<String>,
}

impl Refusal {
    /// One of a kind.
    pub fn new(why: Why, code: &'static str, detail: impl Into<String>) -> Self {
        Self {
            why,
            code,
            detail: detail.into(),
            besides: Vec::new(),
        }
    }

    /// What is asked cannot be carried out as it stands.
    pub fn invalid(code: &'static str, detail: impl Into<String>) -> Self {
        Self::new(Why::Invalid, code, detail)
    }

    /// The state of things forbids it now.
    pub fn conflict(code: &'static str, detail: impl Into<String>) -> Self {
        Self::new(Why::Conflict, code, detail)
    }

    /// There is no such thing.
    pub fn missing(detail: impl Into<String>) -> Self {
        Self::new(Why::Missing, "unknown", detail)
    }

    /// More is asked at once than can be served.
    pub fn busy(what: &str) -> Self {
        let detail = format!("{what}; try again in a moment");
        Self::new(Why::Busy, "busy", detail)
    }

    /// The service is about to end.
    pub fn closing() -> Self {
        Self::new(
            Why::Busy,
            "ending",
            "the service is about to end and begins nothing new; try again when it is back",
        )
    }

    fn internal(code: &'static str, error: impl std::error::Error + 'static) -> Self {
        if is_full(&error) {
            return Self::new(
                Why::NoRoom,
                "no-room",
                format!(
                    "the disk that the service keeps its data on is full ({error}); nothing that was recorded is lost. \
                     Make room there and try again"
                ),
            );
        }
        let mut detail = error.to_string();
        if is_cut(&error) {
            detail = format!("a file ended before it should ({detail})");
        }
        Self::new(Why::Internal, code, detail)
    }
}

/// Looks for something among an error and its causes.
fn any_cause(error: &(dyn std::error::Error + 'static), is: fn(&std::io::Error) -> bool) -> bool {
    let mut cause = Some(error);
    while let Some(error) = cause {
        if error.downcast_ref::<std::io::Error>().is_some_and(is) {
            return true;
        }
        // An I/O error shows the one that it wraps, and not itself, as its source.
        let inner = error
            .downcast_ref::<std::io::Error>()
            .and_then(|e| e.get_ref());
        if let Some(inner) = inner
            && any_cause(inner, is)
        {
            return true;
        }
        cause = error.source();
    }
    false
}

/// Whether a disk that is full, or a quota, is behind an error.
fn is_full(error: &(dyn std::error::Error + 'static)) -> bool {
    any_cause(error, |e| {
        matches!(
            e.kind(),
            std::io::ErrorKind::StorageFull | std::io::ErrorKind::QuotaExceeded
        )
    })
}

fn is_cut(error: &(dyn std::error::Error + 'static)) -> bool {
    any_cause(error, |e| e.kind() == std::io::ErrorKind::UnexpectedEof)
}

impl From<RecordError> for Refusal {
    fn from(error: RecordError) -> Self {
        match error {
            RecordError::Unknown { .. } => Self::missing(error.to_string()),
            RecordError::Conflict(detail) => Self::conflict("taken", detail),
            RecordError::OtherRequest { .. } => Self::conflict("other-request", error.to_string()),
            RecordError::Asked(detail) => Self::invalid("bad-query", detail),
            RecordError::Text => Self::invalid("bad-text", error.to_string()),
            full if full.is_full() => Self::new(
                Why::NoRoom,
                "records-full",
                "the disk that the database lies on is full. Make room on it; what is under way waits for that. Whether this \
                 request was carried out shows then: look before you repeat it",
            ),
            away if away.is_away() => Self::new(
                Why::Busy,
                "records-away",
                "the records cannot be reached for the moment; what is under way waits for them. Whether this request was \
                 carried out shows when they are back: look before you repeat it",
            ),
            other => Self::internal("records", other),
        }
    }
}

impl From<VaultError> for Refusal {
    fn from(error: VaultError) -> Self {
        Self::internal("vault", error)
    }
}

impl From<KeyError> for Refusal {
    fn from(error: KeyError) -> Self {
        Self::internal("key", error)
    }
}

impl From<std::io::Error> for Refusal {
    fn from(error: std::io::Error) -> Self {
        Self::internal("storage", error)
    }
}

impl From<CardError> for Refusal {
    fn from(error: CardError) -> Self {
        let code = match error {
            CardError::Empty => "slot-empty",
            CardError::Gone => "card-gone",
            CardError::Locked => "card-locked",
            CardError::Reader(_) => "reader",
            _ => "card-failed",
        };
        Self::conflict(code, error.to_string())
    }
}

impl From<Unsafe> for Refusal {
    fn from(error: Unsafe) -> Self {
        match error {
            Unsafe::Swapped => Self::conflict("card-swapped", error.to_string()),
            Unsafe::Locked => Self::conflict("card-locked", error.to_string()),
            Unsafe::InUse(_) => Self::conflict("card-in-use", error.to_string()),
            Unsafe::Card(error) => error.into(),
            other => Self::internal("card", other),
        }
    }
}

impl From<WriteError> for Refusal {
    fn from(error: WriteError) -> Self {
        let code = match error {
            WriteError::Card(card) => return card.into(),
            WriteError::Cancelled => "cancelled",
            WriteError::Differs { .. } => "verify-failed",
            WriteError::Lost { .. } => "card-lies",
            WriteError::TooSmall { .. } => "card-too-small",
            _ => "content",
        };
        Self::conflict(code, error.to_string())
    }
}

impl From<ComposeError> for Refusal {
    fn from(error: ComposeError) -> Self {
        match error {
            ComposeError::CardTooSmall { .. } => {
                Self::conflict("card-too-small", error.to_string())
            }
            ComposeError::Damaged { .. } => Self::conflict(
                "damaged",
                format!(
                    "{error}. Nothing was touched; leave that partition as it is (--leave-out), or insist with a reason \
                     that is recorded (--although-damaged)"
                ),
            ),
            ComposeError::NotEditable { .. } => Self::conflict(
                "cannot-edit",
                format!(
                    "{error}. Nothing was touched; leave that partition out (--leave-out) to write the rest"
                ),
            ),
            ComposeError::Blocks { .. } => Self::conflict(
                "reader-blocks",
                format!(
                    "{error}. Nothing was touched; write the card in a reader with blocks of 512 bytes"
                ),
            ),
            other => Self::invalid("cannot-compose", other.to_string()),
        }
    }
}
