//! Why a value was refused.

/// Why a value was refused: a sentence that names the rule, never the value of a secret.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{0}")]
pub struct Refused(pub String);

/// Refuses a value.
pub(crate) fn refuse(why: impl Into<String>) -> Result<(), Refused> {
    Err(Refused(why.into()))
}
