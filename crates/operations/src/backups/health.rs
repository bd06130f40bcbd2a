//! Whether a backup is whole, as far as is known: one answer, which retention, lists, plans, restore tests and attention
//! ask.

use api::BackupHealth;
use records::backups::Backup;
use time::OffsetDateTime;

use crate::damage;

/// What is known of a backup.
#[derive(Clone, Debug, PartialEq)]
pub struct Health {
    /// In one word.
    pub health: BackupHealth,
    /// What speaks against it.
    pub words: Option<String>,
    /// Since when that is known.
    pub since: Option<OffsetDateTime>,
}

/// What is known of a backup.
pub fn of(row: &Backup) -> Health {
    if let Some(pieces) = row.damage {
        return Health {
            health: BackupHealth::Damaged,
            words: Some(damage::words(pieces as u64)),
            since: row.damaged_at,
        };
    }
    let tests: Vec<api::Proof> = serde_json::from_value(row.proofs.clone()).unwrap_or_default();
    if let Some(failed) = tests.iter().find(|test| !test.holds) {
        return Health {
            health: BackupHealth::TestFailed,
            words: Some(failed.words.clone()),
            since: Some(failed.at),
        };
    }
    let health = match row.verified.is_empty() && tests.is_empty() {
        true => BackupHealth::NotVerified,
        false => BackupHealth::Verified,
    };
    Health {
        health,
        words: None,
        since: None,
    }
}

impl Health {
    /// Whether a device may be expected to come back from it.
    pub fn is_good(&self) -> bool {
        self.health == BackupHealth::Verified
    }
}
