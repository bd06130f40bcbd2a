//! A card is composed, recorded, written and verified.

use std::sync::Arc;

use cardwork::{Bound, CardError, Mark, Stage, write};
use imagecraft::compose::{PlacedFile, Recipe, compose};
use imagecraft::grow::Growth;
use imagecraft::{Stamp, StampBase};
use records::imprints::{Base, NewImprint};
use serde_json::{Value, json};
use time::OffsetDateTime;
use vault::{Manifest, ManifestDisk, Name};

use super::WorkError;
use crate::jobs::Work;

/// What is written onto which card, as its plan laid it down.
#[derive(Clone)]
pub struct WriteOrder {
    pub slot: u32,
    /// The card that was seen when the plan was made.
    pub bound: Bound,
    pub card_id: i64,
    pub card: String,
    pub device: Option<(i64, String)>,
    pub base: Base,
    pub base_name: String,
    /// Content of the base.
    pub manifest: Name,
    pub files: Vec<PlacedFile>,
    /// How the last partition is grown.
    pub growth: Option<Growth>,
    /// Whether a partition that cannot be edited is left as it is.
    pub leave_out: bool,
    /// What growing came to when the plan was made, and what was left out.
    pub growth_words: Option<String>,
    pub left_out: Vec<String>,
    /// Why a withdrawn release is written all the same.
    pub override_reason: Option<String>,
    /// Settings for the records: a fingerprint in place of each secret.
    pub settings: Value,
    /// Files for the records, secrets masked.
    pub shown: Value,
}

impl WriteOrder {
    /// What is done to the base.
    pub fn recipe(&self, imprint: i64) -> Recipe {
        let base = match self.base {
            Base::Release(_) => StampBase::Release(self.base_name.clone()),
            Base::Backup(_) => StampBase::Backup(self.base_name.clone()),
        };
        Recipe {
            files: self.files.clone(),
            growth: self.growth,
            go_on: self.leave_out,
            stamp: Some(Stamp {
                format: 1,
                card: self.card.clone(),
                imprint,
                base,
                device: self.device.as_ref().map(|(_, name)| name.clone()),
                made: OffsetDateTime::now_utc()
                    .replace_nanosecond(0)
                    .unwrap_or_else(|_| OffsetDateTime::now_utc()),
            }),
        }
    }
}

/// Writes the card. The imprint is a row before the card is touched, and says the truth at
/// every moment after.
pub fn write_card(work: &Work, order: &WriteOrder) -> Result<Value, WorkError> {
    let app = &work.app;
    work.progress.begin(Stage::Composing, 0);
    let new = NewImprint {
        card: order.card_id,
        device: order.device.as_ref().map(|(id, _)| *id),
        base: order.base,
        base_name: order.base_name.clone(),
        job: work.job,
        slot: order.slot as i32,
        operator: work.operator.clone(),
        settings: order.settings.clone(),
        files: order.shown.clone(),
        override_reason: order.override_reason.clone(),
        growth: order.growth_words.clone(),
        left_out: order.left_out.clone(),
    };
    let imprint = work.wait(app.records.begin_imprint(&new))?;
    let result = compose_and_write(work, order, imprint);
    match &result {
        Ok((written, verified)) => {
            work.wait(
                app.records
                    .finish_imprint(imprint, *written as i64, *verified as i64),
            )?;
        }
        Err(_) => work.wait(app.records.spoil_imprint(imprint))?,
    }
    let (written, verified) = result.map_err(|e| explain(e, order))?;
    Ok(json!({
        "card": order.card, "imprint": imprint, "written": written, "verified": verified,
        "device": order.device.as_ref().map(|(_, name)| name),
    }))
}

fn compose_and_write(
    work: &Work,
    order: &WriteOrder,
    imprint: i64,
) -> Result<(u64, u64), WorkError> {
    let app = &work.app;
    let slot = app.bench.slot(order.slot)?.ok_or(CardError::Empty)?;
    let medium = slot.medium()?.ok_or(CardError::Empty)?;
    let card = slot.open(order.bound.insertion)?;
    order.bound.check(&medium, card.as_ref())?;

    let base = Arc::new(Manifest::load(&app.vault, order.manifest)?);
    let disk = ManifestDisk::new(app.vault.clone(), base.clone());
    let composed = compose(disk, &base.map(), order.bound.size, &order.recipe(imprint))?;
    let touched = composed.touched.iter().copied();
    let (content, _, _) = base.changed(&app.vault, &composed.disk, &composed.map, touched)?;
    work.wait(app.records.touch_card(imprint, &content.0))?;
    let mark = Mark {
        format: 1,
        card: order.card.clone(),
        job: work.job,
        began: OffsetDateTime::now_utc(),
    };
    let done = write(
        card.as_ref(),
        &composed.disk,
        &composed.map,
        &mark,
        &work.progress,
    )?;
    work.progress.begin(Stage::Finishing, 0);
    Ok((done.written, done.verified))
}

/// Says of a failure what it means for the card and what to do.
fn explain(error: WorkError, order: &WriteOrder) -> WorkError {
    let (card, slot) = (&order.card, order.slot);
    let detail = match error.code {
        "cancelled" => format!(
            "card {card} in slot {slot} is incomplete and says so itself; write it again when you like"
        ),
        "card-gone" => format!(
            "card {card} vanished from slot {slot}; it is incomplete and says so itself. Put it in again and write it again"
        ),
        "verify-failed" | "card-failed" => {
            format!(
                "card {card} in slot {slot}: {}. It is incomplete; take another card",
                error.detail
            )
        }
        _ => format!("card {card} in slot {slot}: {}", error.detail),
    };
    WorkError::new(error.code, detail)
}
