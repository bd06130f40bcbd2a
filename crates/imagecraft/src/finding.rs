//! What is noteworthy about an image, a sentence each.

use serde::{Deserialize, Serialize};

/// How much a finding matters.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Severity {
    /// Good to know.
    Note,
    /// It may not work as it is, or costs something.
    Caution,
    /// It will not work as it is.
    Serious,
}

impl Severity {
    /// The word for people.
    pub fn name(self) -> &'static str {
        match self {
            Self::Note => "note",
            Self::Caution => "caution",
            Self::Serious => "serious",
        }
    }
}

/// One finding.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Finding {
    /// How much it matters.
    pub severity: Severity,
    /// A stable word for programs.
    pub code: String,
    /// A sentence for people.
    pub text: String,
}

impl Finding {
    /// A finding that is good to know.
    pub fn note(code: &str, text: impl Into<String>) -> Self {
        Self::new(Severity::Note, code, text)
    }

    /// A finding that asks for care.
    pub fn caution(code: &str, text: impl Into<String>) -> Self {
        Self::new(Severity::Caution, code, text)
    }

    /// A finding that keeps the image from working.
    pub fn serious(code: &str, text: impl Into<String>) -> Self {
        Self::new(Severity::Serious, code, text)
    }

    fn new(severity: Severity, code: &str, text: impl Into<String>) -> Self {
        Self {
            severity,
            code: code.into(),
            text: text.into(),
        }
    }
}
