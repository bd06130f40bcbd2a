//! How a device stands against what it should run.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// How a device stands against what it should run, the least serious first. Several may hold of one device: the most
/// serious counts, and all of them are among its reasons.
#[derive(
    Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, ToSchema,
)]
pub enum Standing {
    /// Its card has the release that it follows, with the settings that count now.
    #[serde(rename = "up to date")]
    UpToDate,
    /// What its card has is not known in full: it was restored from a backup of a card that the records do not know.
    #[serde(rename = "not known")]
    NotKnown,
    /// It runs a newer release than it follows.
    #[serde(rename = "newer than target")]
    NewerThanTarget,
    /// No release in the catalogue suits it.
    #[serde(rename = "no release")]
    NoRelease,
    /// Its settings are others now than on its card.
    #[serde(rename = "settings changed")]
    SettingsChanged,
    /// It runs another release than it follows, and no newer one.
    #[serde(rename = "outdated")]
    Outdated,
    /// It says of itself a version that is not that of its card, and that of no release.
    #[serde(rename = "unknown version")]
    UnknownVersion,
    /// The release that it runs did not boot on its board model.
    #[serde(rename = "not booting")]
    NotBooting,
    /// The release that it runs was withdrawn.
    #[serde(rename = "withdrawn")]
    Withdrawn,
    /// The last write of its card did not end well, or is under way.
    #[serde(rename = "incomplete")]
    Incomplete,
    /// It has no card.
    #[serde(rename = "no card")]
    NoCard,
}

impl Standing {
    /// All of them, the least serious first.
    pub const ALL: [Self; 11] = [
        Self::UpToDate,
        Self::NotKnown,
        Self::NewerThanTarget,
        Self::NoRelease,
        Self::SettingsChanged,
        Self::Outdated,
        Self::UnknownVersion,
        Self::NotBooting,
        Self::Withdrawn,
        Self::Incomplete,
        Self::NoCard,
    ];

    /// It in words, as in every output.
    pub fn words(self) -> &'static str {
        match self {
            Self::UpToDate => "up to date",
            Self::NotKnown => "not known",
            Self::NewerThanTarget => "newer than target",
            Self::NoRelease => "no release",
            Self::SettingsChanged => "settings changed",
            Self::Outdated => "outdated",
            Self::UnknownVersion => "unknown version",
            Self::NotBooting => "not booting",
            Self::Withdrawn => "withdrawn",
            Self::Incomplete => "incomplete",
            Self::NoCard => "no card",
        }
    }

    /// Whether the device has a card that must be written again.
    pub fn needs_a_write(self) -> bool {
        matches!(
            self,
            Self::SettingsChanged
                | Self::Outdated
                | Self::NotBooting
                | Self::Withdrawn
                | Self::Incomplete
        )
    }
}

impl fmt::Display for Standing {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.words())
    }
}

/// The word of a filter for all devices whose card must be written again.
pub const TO_WRITE: &str = "to write";

/// Which standings a list asks for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum StandingFilter {
    /// This one.
    Is(Standing),
    /// All of which [`Standing::needs_a_write`] holds.
    ToWrite,
}

impl StandingFilter {
    /// Whether a standing is asked for.
    pub fn holds(self, standing: Standing) -> bool {
        match self {
            Self::Is(one) => one == standing,
            Self::ToWrite => standing.needs_a_write(),
        }
    }

    /// Every word that there is.
    pub fn known() -> Vec<&'static str> {
        let standings = Standing::ALL.into_iter().map(Standing::words);
        standings.chain([TO_WRITE]).collect()
    }
}

impl FromStr for StandingFilter {
    type Err = String;

    /// Takes `up to date` as well as `up-to-date`: the latter needs no quotes in a shell.
    fn from_str(word: &str) -> Result<Self, String> {
        let plain = word.trim().replace(['-', '_'], " ").to_lowercase();
        if plain == TO_WRITE {
            return Ok(Self::ToWrite);
        }
        let found = Standing::ALL.into_iter().find(|one| one.words() == plain);
        found.map(Self::Is).ok_or_else(|| {
            format!(
                "there is no standing {word:?}; there are {}",
                Self::known().join(", ")
            )
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_standing_is_read_as_it_is_written() {
        for one in Standing::ALL {
            assert_eq!(
                serde_json::to_value(one).unwrap(),
                serde_json::json!(one.words())
            );
            let typed = one.words().replace(' ', "-");
            assert_eq!(typed.parse(), Ok(StandingFilter::Is(one)));
        }
        assert!(Standing::ALL.is_sorted(), "the least serious first");
        assert_eq!("to-write".parse(), Ok(StandingFilter::ToWrite));
        let refused = "behnd".parse::<StandingFilter>().unwrap_err();
        assert!(refused.contains("behnd") && refused.contains("settings changed, outdated"));
    }
}
