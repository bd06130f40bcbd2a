//! A card is composed, recorded, written and verified.

use cardwork::{
    Access, Bound, CardError, Left, Mark, Medium, Options, Stage, WriteError, Written, write,
};
use imagecraft::compose::{PlacedFile, Recipe, compose};
use imagecraft::grow::Growth;
use imagecraft::{Stamp, StampBase};
use records::imprints::{Base, NewImprint, NotedImprint, Spoilt};
use records::jobs::Outcome;
use serde_json::{Value, json};
use time::OffsetDateTime;
use vault::{Keys, Manifest, ManifestDisk, Name};

use crate::benches::Benches;
use crate::benches::Spot;
use crate::jobs::Work;
use crate::note::Note;
use crate::refusal::Refusal;
use crate::store::Store;
use api::SlotName;

/// What is written onto which card, as its plan laid it down.
#[derive(Clone)]
pub struct WriteOrder {
    /// Where the card is.
    pub at: Spot,
    /// The card that was seen when the plan was made.
    pub bound: Bound,
    /// Number of the card.
    pub card_id: i64,
    /// Label of the card.
    pub card: String,
    /// The device that it is for.
    pub device: Option<(i64, String)>,
    /// Name of the release or backup.
    pub base: Base,
    /// Its name.
    pub base_name: String,
    /// Content of the base.
    pub manifest: Name,
    /// Files that are put onto it.
    pub files: Vec<PlacedFile>,
    /// How the last partition is grown.
    pub growth: Option<Growth>,
    /// Whether the last partition is shrunk where the card is too small for it.
    pub shrinks: bool,
    /// Block size of the card's reader in bytes.
    pub block: u32,
    /// Whether a partition that cannot be edited is left as it is.
    pub leave_out: bool,
    /// What growing came to when the plan was made, and what was left out.
    pub growth_words: Option<String>,
    /// What is left out, a sentence each.
    pub left_out: Vec<String>,
    /// Where data behind the last partition ends, if there is any.
    pub behind: Option<u64>,
    /// Whether a damaged file system is changed all the same.
    pub although_damaged: bool,
    /// Why a withdrawn release is written, or a damaged file system changed, all the same.
    pub override_reason: Option<String>,
    /// Whether a full check has shown that the card holds what it reports.
    pub size_proven: bool,
    /// Whether what nothing is put onto shall read as zero.
    pub wipe_free: bool,
    /// Names of the cautions that were accepted.
    pub accepted: Vec<String>,
    /// Settings for the records: a fingerprint in place of each secret.
    pub settings: Value,
    /// Whether those are known; of a restore they may not be.
    pub settings_known: bool,
    /// Files for the records, secrets masked.
    pub shown: Value,
}

impl WriteOrder {
    /// What is kept beside the content of the card in the vault, so that records that do not know the imprint can be
    /// told of it.
    fn note(&self, new: &NewImprint, medium: &Medium, imprint: i64, content: Name) -> String {
        let about = NotedImprint {
            imprint,
            card: self.card.clone(),
            card_size: medium.size as i64,
            card_kind: medium.kind.clone(),
            edges: hex::encode(self.bound.edges),
            device: self.device.as_ref().map(|(_, name)| name.clone()),
            made: new.clone(),
        };
        let name = format!("imprint {imprint}");
        Note::text("imprint", &name, &new.operator, &about, content)
    }

    /// The slot.
    pub fn slot(&self) -> SlotName {
        self.at.slot
    }

    /// What is done to the base.
    pub fn recipe(&self, imprint: i64, keys: &Keys) -> Recipe {
        let base = match self.base {
            Base::Release(_) => StampBase::Release(self.base_name.clone()),
            Base::Backup(_) => StampBase::Backup(self.base_name.clone()),
        };
        Recipe {
            files: self.files.clone(),
            growth: self.growth,
            shrinks: self.shrinks,
            go_on: self.leave_out,
            although_damaged: self.although_damaged,
            block: Some(u64::from(self.block)),
            behind: self.behind,
            stamp: Some(Stamp {
                format: 1,
                card: self.card.clone(),
                imprint,
                base,
                device: self.device.as_ref().map(|(_, name)| name.clone()),
                made: OffsetDateTime::now_utc()
                    .replace_nanosecond(0)
                    .unwrap_or_else(|_| OffsetDateTime::now_utc()),
                hello: Some(word_of(keys, imprint)),
            }),
        }
    }
}

/// The word with which a board says hello: who has it has seen the card of this imprint.
pub fn word_of(keys: &Keys, imprint: i64) -> String {
    keys.fingerprint(&format!("hello of imprint {imprint}"))
}

/// A write that did not come to a good end, and what is on the card then.
struct Failed {
    error: Refusal,
    spoilt: Spoilt,
}

impl<E: Into<Refusal>> From<E> for Failed {
    /// For whatever fails before the card is touched.
    fn from(error: E) -> Self {
        Self {
            error: error.into(),
            spoilt: Spoilt::Untouched,
        }
    }
}

/// Writes the card. The imprint is a row before the card is touched, and says the truth at
/// every moment after.
pub fn write_card(
    work: &Work,
    bench: &Benches,
    store: &Store,
    order: &WriteOrder,
) -> Result<Value, Refusal> {
    work.progress.begin(Stage::Composing, 0);
    let new = NewImprint {
        card: order.card_id,
        device: order.device.as_ref().map(|(id, _)| *id),
        base: order.base,
        base_name: order.base_name.clone(),
        job: work.job,
        slot: order.at.slot.typed(),
        operator: work.operator.clone(),
        settings: order.settings.clone(),
        settings_known: order.settings_known,
        files: order.shown.clone(),
        behind: order.behind.map(|end| end as i64),
        override_reason: order.override_reason.clone(),
        growth: order.growth_words.clone(),
        left_out: order.left_out.clone(),
        accepted: order.accepted.clone(),
    };
    let imprint = work.record_first(|| work.records().begin_imprint(&new))?;
    match compose_and_write(work, bench, store, order, &new, imprint) {
        Ok(done) => {
            let result = json!({
                "card": order.card, "imprint": imprint, "written": done.written, "verified": done.verified,
                "size_proven": done.size_proven,
                "device": order.device.as_ref().map(|(_, name)| name),
            });
            let ending = work.ending(Outcome::Done(result.clone()));
            work.record(|| {
                work.records().finish_imprint(
                    imprint,
                    done.written as i64,
                    done.verified as i64,
                    done.size_proven,
                    &ending,
                )
            })?;
            Ok(result)
        }
        Err(failed) => {
            let error = explain(failed.error, failed.spoilt, order);
            let ending = work.failure(&error);
            let suspicion = suspicion(&error, order);
            work.record(|| {
                work.records()
                    .spoil_imprint(imprint, failed.spoilt, suspicion.as_deref(), &ending)
            })?;
            Err(error)
        }
    }
}

fn compose_and_write(
    work: &Work,
    bench: &Benches,
    store: &Store,
    order: &WriteOrder,
    new: &NewImprint,
    imprint: i64,
) -> Result<Written, Failed> {
    let slot = bench.slot(order.slot())?.ok_or(CardError::Empty)?;
    let medium = slot.medium()?.ok_or(CardError::Empty)?;
    let card = slot.open(&order.bound.insertion, Access::Hold)?;
    order.bound.check(&medium, card.as_ref())?;

    let base = Manifest::load(&store.vault, order.manifest)?;
    // Whoever tidies meanwhile leaves what is read here.
    base.rely(&work.hold)?;
    let disk = ManifestDisk::new(base.clone());
    let composed = compose(
        disk,
        &base.map()?,
        order.bound.size,
        &order.recipe(imprint, &store.keys),
    )?;
    let touched = composed.touched.iter().copied();
    let note = |name| order.note(new, &medium, imprint, name);
    let (content, _) = base.changed(
        &work.hold,
        &composed.disk,
        &composed.map,
        touched,
        Some(&note),
    )?;
    if work.progress.is_cancelled() {
        return Err(WriteError::Cancelled.into());
    }
    let name = content.name();
    work.record_first(|| work.records().touch_card(imprint, &name.0))?;
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
        Options {
            size_proven: order.size_proven,
            wipe_free: order.wipe_free,
        },
        &work.progress,
    )
    .map_err(|unwritten| Failed {
        error: unwritten.error.into(),
        spoilt: match unwritten.left {
            Left::Untouched => Spoilt::Untouched,
            Left::Unfinished => Spoilt::Unfinished,
            Left::MayBoot => Spoilt::MayBoot,
        },
    })?;
    work.progress.begin(Stage::Finishing, 0);
    Ok(done)
}

/// Why a card is mistrusted from now on, if it is itself to blame.
fn suspicion(error: &Refusal, order: &WriteOrder) -> Option<String> {
    let what = match error.code {
        "verify-failed" => "read back other bytes than were written",
        "card-lies" => "lost what was put on it",
        "card-failed" => "reported errors",
        _ => return None,
    };
    Some(format!(
        "it {what} while {} was written onto it",
        order.base_name
    ))
}

/// Says of a failure what it means for the card and what to do.
fn explain(error: Refusal, spoilt: Spoilt, order: &WriteOrder) -> Refusal {
    let (card, slot) = (&order.card, order.slot());
    let what = match error.code {
        "cancelled" => "the write was stopped on request".into(),
        "card-gone" => format!("it vanished from slot {slot}"),
        _ => error.detail,
    };
    let now = match spoilt {
        Spoilt::Untouched => "Nothing on it was touched, it is as it was",
        Spoilt::Unfinished => "It is incomplete and says so itself",
        Spoilt::MayBoot => {
            "It may boot, but it is not verified and nothing vouches for it; do not use it"
        }
    };
    let next = match (error.code, spoilt) {
        ("verify-failed" | "card-failed" | "card-lies", _) => "take another card",
        ("card-gone", _) => "put it in again and write it again",
        ("cancelled", Spoilt::Untouched) => "make the plan again when you like",
        (_, Spoilt::Untouched) => "mend that and make the plan again",
        _ => "write it again when you like",
    };
    let detail = format!("card {card} in slot {slot}: {what}. {now}; {next}");
    Refusal::invalid(error.code, detail)
}
