//! Who asks.

use api::Role;

/// How somebody is known.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum How {
    /// Not at all.
    Nobody,
    /// Sits at the service's computer, where nobody belongs to the team yet, or where that is enough.
    Loopback,
    /// A browser that is signed in.
    Session,
    /// A program's token.
    Token,
    /// A computer that is signed in for everyone, and perhaps who acts at it.
    Station,
}

impl How {
    /// Its word.
    pub fn name(self) -> &'static str {
        match self {
            Self::Nobody => "nobody",
            Self::Loopback => "loopback",
            Self::Session => "session",
            Self::Token => "token",
            Self::Station => "station",
        }
    }

    /// The way of a pass of a kind.
    pub fn of_pass(kind: &str) -> Self {
        match kind {
            "session" => Self::Session,
            "token" => Self::Token,
            _ => Self::Station,
        }
    }
}

/// Who asks, from where, and what they may do.
#[derive(Clone, Debug)]
pub struct Caller {
    /// Name of the person, or of the station where nobody acts; empty for nobody.
    pub name: String,
    /// What they may do; `None`: nothing that takes a role.
    pub role: Option<Role>,
    /// How they are known.
    pub how: How,
    /// Number of the person.
    pub person: Option<i64>,
    /// Number of the pass that was shown.
    pub pass: Option<i64>,
    /// Whether that pass was opened with the password.
    pub by_password: bool,
    /// The station that this computer is.
    pub station: Option<String>,
    /// Address that they ask from.
    pub origin: String,
}

impl Caller {
    /// Nobody who is known.
    pub fn nobody(origin: &str) -> Self {
        Self {
            name: String::new(),
            role: None,
            how: How::Nobody,
            person: None,
            pass: None,
            by_password: false,
            station: None,
            origin: origin.into(),
        }
    }

    /// Whoever sits at the service's computer.
    pub fn at_loopback(name: &str, role: Role, origin: &str) -> Self {
        Self {
            name: name.into(),
            role: Some(role),
            how: How::Loopback,
            ..Self::nobody(origin)
        }
    }
}
