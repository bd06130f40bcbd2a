//! The catalogue: releases with their history, and the shelf that most answers are made of.

mod shelf;

use std::sync::Arc;

use records::lists::Asked;
use records::releases::Release;
use records::{Changes, Records};
#[cfg(test)]
pub(crate) use shelf::tests as made_up;
pub use shelf::{Fit, Kind, Shelf, is_said_by};
use vault::ManifestDisk;

use crate::at_hand::AtHand;
use crate::refusal::Refusal;
use crate::shown;
use crate::store::{Store, manifest_name};

/// The catalogue: what is in it, and what it answers.
#[derive(Clone)]
pub struct Catalogue {
    records: Records,
    store: Arc<Store>,
    /// The shelf, until the catalogue changes.
    kept: Arc<AtHand<Shelf>>,
}

/// Cards that are shown with a release; there is a list of all of them.
const CARRIERS: i64 = 50;

impl Catalogue {
    /// The catalogue of these records, its images in this store.
    pub fn new(records: Records, store: Arc<Store>) -> Self {
        Self {
            records,
            store,
            kept: Arc::default(),
        }
    }

    /// The image of a release as a disk. Opening and reading it block.
    pub fn disk(&self, release: &Release) -> Result<ManifestDisk, Refusal> {
        self.store.disk(manifest_name(&release.manifest)?)
    }

    /// The shelf as it is now.
    pub async fn shelf(&self) -> Result<Arc<Shelf>, Refusal> {
        self.shelf_after(self.records.changes().await?).await
    }

    /// The shelf as it is after this many changes, or later ones.
    pub async fn shelf_after(&self, changes: Changes) -> Result<Arc<Shelf>, Refusal> {
        let read = async || {
            let number = self.records.changes().await?.catalogue;
            let shelf = Shelf::new(
                self.records.releases().await?,
                self.records.currents().await?,
                self.records.evidence().await?,
                self.records.boards().await?,
            );
            Ok((number, shelf))
        };
        self.kept.after(changes.catalogue, read).await
    }

    /// A release with its history, which is read here.
    pub async fn detail(&self, name: &str) -> Result<api::ReleaseDetail, Refusal> {
        let row = self.records.release(name).await?;
        let shelf = self.shelf().await?;
        let carried = self.records.carried_counts(Some(row.id)).await?;
        let page = Asked {
            limit: CARRIERS,
            ..Asked::default()
        };
        let carriers = self.records.carriers(row.id, &page).await?;
        let sheet = shown::sheet(&row)?;
        let revisions = self.records.sheet_revisions(row.id).await?;
        let states = self.records.release_states(row.id).await?;
        let bytes = |gb: f64| (gb * 1e9) as u64;
        Ok(api::ReleaseDetail {
            release: shelf.release(&row, carried.get(&row.id).copied().unwrap_or_default()),
            cards: carriers.total as u64,
            origin: serde_json::from_value(row.origin.clone()).unwrap_or_default(),
            kept: row.kept,
            table: row.table_kind.clone(),
            disk_id: row.disk_id.clone(),
            partitions: shown::list(&row.partitions),
            inspection: shown::inspection_of(&row),
            computed_card: row.computed_card as u64,
            shrunk_card: row.shrunk_card.map(|bytes| bytes as u64),
            declared_card: sheet.card.smallest_gb.map(bytes),
            advised_card: sheet.card.advised_gb.map(bytes),
            fields: sheet
                .fields
                .iter()
                .map(|field| shown::masked_setting(field, None, &self.store.keys))
                .collect(),
            notes: sheet.notes,
            licence: sheet.licence,
            links: sheet
                .links
                .into_iter()
                .map(|link| api::Link {
                    title: link.title,
                    url: link.url,
                })
                .collect(),
            logins: sheet
                .logins
                .into_iter()
                .map(|login| api::Login {
                    user: login.user,
                    password: login.password,
                    at: login.at,
                })
                .collect(),
            first_boot: api::FirstBoot {
                minutes: sheet.first_boot.minutes,
                internet: sheet.first_boot.internet,
                page: sheet.first_boot.page,
                steps: sheet.first_boot.steps,
            },
            sheet: row.sheet.clone(),
            sheet_revision: row.sheet_revision,
            revisions: revisions
                .into_iter()
                .map(|one| api::SheetRevision {
                    revision: one.revision,
                    sheet: one.sheet,
                    operator: one.operator,
                    at: one.at,
                })
                .collect(),
            states: states
                .into_iter()
                .map(|one| api::StateChange {
                    state: one.state,
                    reason: one.reason,
                    operator: one.operator,
                    at: one.at,
                })
                .collect(),
            currents: shelf
                .currents
                .iter()
                .filter(|one| one.release == row.name)
                .map(shown::current)
                .collect(),
            evidence: shelf
                .evidence
                .iter()
                .filter(|one| one.release == row.name)
                .map(|one| api::Evidence {
                    release: one.release.clone(),
                    board: one.board.clone(),
                    boots: one.boots,
                    note: one.note.clone(),
                    operator: one.operator.clone(),
                    at: one.at,
                })
                .collect(),
            carriers: carriers.items.into_iter().map(shown::carrier).collect(),
        })
    }
}
