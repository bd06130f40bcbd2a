//! Work on a card itself: it is checked, cleared, or given back what a check that was cut off had found on
//! it.

use cardwork::check::{Before, CheckError, Report, Verdict, full, put_back, quick};
use cardwork::{Access, Bound, CardError, CardIo, Left, Mark, Options, Slot, Stage, write};
use imagecraft::fs::fat::empty_volume;
use imagecraft::{ByteKind, Map, MemoryDisk, Overlay};
use records::checks::{After, Checked};
use records::jobs::Outcome;
use serde_json::{Value, json};
use time::OffsetDateTime;

use crate::benches::Benches;
use crate::benches::Spot;
use crate::jobs::Work;
use crate::kept::KeptFile;
use crate::refusal::Refusal;
use crate::store::Store;
use api::words::{self, exact};

/// What is cleared.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Clearing {
    /// Tables and signatures: nothing is found on it any more, though its data could be.
    Tables,
    /// Everything reads as zero.
    All,
    /// One empty volume that any computer opens.
    Volume,
}

/// What is done to a card.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum CardWork {
    /// A quick check.
    Quick,
    /// A full check.
    Full,
    /// It is cleared.
    Clear(Clearing),
    /// It gets back what the check of this job found on it.
    PutBack(i64),
}

impl CardWork {
    /// Its word in the interface.
    pub fn word(self) -> &'static str {
        match self {
            Self::Quick => "quick-check",
            Self::Full => "full-check",
            Self::Clear(Clearing::Tables) => "clear-tables",
            Self::Clear(Clearing::All) => "clear-all",
            Self::Clear(Clearing::Volume) => "clear-volume",
            Self::PutBack(_) => "put-back",
        }
    }

    /// The kind of job that does it.
    pub fn job_kind(self) -> &'static str {
        match self {
            Self::Quick | Self::Full => "check",
            Self::Clear(_) => "clear",
            Self::PutBack(_) => "put back",
        }
    }
}

/// What is done to which card, as its plan laid it down.
#[derive(Clone)]
pub struct CardOrder {
    /// Where the card is.
    pub at: Spot,
    /// The card that was seen when the plan was made.
    pub bound: Bound,
    /// Number of the card.
    pub card_id: i64,
    /// Label of the card.
    pub card: String,
    /// What is done.
    pub work: CardWork,
}

/// How the work ended, and what is on the card now.
struct Done {
    result: Value,
    checked: Option<Checked>,
    after: After,
}

/// Does what is ordered. The records say of the card that it is not whole before it is touched, and what it
/// came to together with the end of the job.
pub fn work_on_card(
    work: &Work,
    bench: &Benches,
    store: &Store,
    order: &CardOrder,
) -> Result<Value, Refusal> {
    let slot = bench.slot(order.at.slot)?.ok_or(CardError::Empty)?;
    let (card, mark) = hold(work, slot.as_ref(), order)?;
    let kind = match order.work {
        CardWork::Quick => Some("quick"),
        CardWork::Full => Some("full"),
        _ => None,
    };
    if let Some(kind) = kind {
        work.record_first(|| {
            work.records()
                .begin_check(order.card_id, work.job, kind, &work.operator)
        })?;
    }
    work.record_first(|| work.records().begin_on_card(order.card_id, work.job))?;
    let done = match order.work {
        CardWork::Quick => quick_check(work, store, card.as_ref(), &mark),
        CardWork::Full => full_check(work, card.as_ref(), &mark),
        CardWork::Clear(what) => clear(work, card.as_ref(), &mark, order, what),
        CardWork::PutBack(job) => give_back(work, store, card.as_ref(), job),
    };
    match done {
        Ok(done) => {
            let mut result = done.result;
            result["card"] = json!(order.card);
            result["work"] = json!(order.work.word());
            let ending = work.ending(Outcome::Done(result.clone()));
            work.record(|| {
                let checked = done.checked.as_ref();
                work.records()
                    .finish_check(order.card_id, checked, done.after, &ending)
            })?;
            Ok(result)
        }
        Err((error, after)) => {
            let error = explain(error, after, order);
            let ending = work.failure(&error);
            work.record(|| {
                work.records()
                    .finish_check(order.card_id, None, after, &ending)
            })?;
            Err(error)
        }
    }
}

/// Takes hold of the card that was planned for.
fn hold(
    work: &Work,
    slot: &dyn Slot,
    order: &CardOrder,
) -> Result<(Box<dyn CardIo>, Mark), Refusal> {
    let medium = slot.medium()?.ok_or(CardError::Empty)?;
    let card = slot.open(&order.bound.insertion, Access::Hold)?;
    order.bound.check(&medium, card.as_ref())?;
    let mark = Mark {
        format: 1,
        card: order.card.clone(),
        job: work.job,
        began: OffsetDateTime::now_utc(),
    };
    Ok((card, mark))
}

type Ended = Result<Done, (Refusal, After)>;

impl From<CheckError> for Refusal {
    fn from(error: CheckError) -> Self {
        let code = match error {
            CheckError::Card(card) => return card.into(),
            CheckError::Cancelled => "cancelled",
            CheckError::NotPutBack { .. } => "verify-failed",
            _ => "cannot-keep",
        };
        Self::conflict(code, error.to_string())
    }
}

fn quick_check(work: &Work, store: &Store, card: &dyn CardIo, mark: &Mark) -> Ended {
    let kept = KeptFile::create(&store.checks, store.keys.clone(), work.job);
    let mut kept = kept.map_err(|error| (error, After::AsBefore))?;
    let ended = quick(card, mark, &mut kept, &work.progress);
    let before = match &ended {
        Ok(checked) => &checked.before,
        Err(failed) => &failed.before,
    };
    let after = match before {
        Before::Untouched | Before::PutBack => {
            kept.remove();
            After::AsBefore
        }
        // What the card did not take back stays here until it has it.
        Before::Kept(_) => After::Unfinished,
    };
    match ended {
        Ok(checked) => {
            let mut done = finished(&checked.report, card.size(), after);
            done.result["before"] = json!(checked.before);
            Ok(done)
        }
        Err(failed) => Err((failed.error.into(), after)),
    }
}

fn full_check(work: &Work, card: &dyn CardIo, mark: &Mark) -> Ended {
    match full(card, mark, &work.progress) {
        Ok(report) => {
            let after = match report.verdict {
                Verdict::Proven => cleared(card).map_err(|e| (e.into(), After::Unfinished))?,
                _ => After::Unfinished,
            };
            Ok(finished(&report, card.size(), after))
        }
        Err(CheckError::Cancelled) => Err((CheckError::Cancelled.into(), After::AsBefore)),
        Err(error) => Err((error.into(), After::Unfinished)),
    }
}

fn cleared(card: &dyn CardIo) -> Result<After, CardError> {
    let nowhere = cardwork::Insertion {
        boot: String::new(),
        number: 0,
    };
    Ok(After::Cleared(Bound::to(card, &nowhere)?.edges))
}

/// What a report means, for the records and for people.
fn finished(report: &Report, size: u64, after: After) -> Done {
    let verdict = match report.verdict {
        Verdict::Proven => "proven",
        Verdict::NoSign => "no sign",
        Verdict::Forged { .. } => "forged",
        Verdict::Bad => "bad",
        Verdict::Stopped => "stopped",
    };
    let holds = match report.verdict {
        Verdict::Forged { least, most } => Some((least as i64, most as i64)),
        _ => None,
    };
    let suspicion = match report.verdict {
        Verdict::Forged { least, most } => Some(forged(size, least, most)),
        Verdict::Bad => Some(match report.regions.first() {
            Some(region) => format!(
                "a check found {} that it does not keep, the first at byte {}",
                exact(report.wrong),
                region.start
            ),
            None => "a check found that it does not keep what it is given".into(),
        }),
        _ => None,
    };
    Done {
        result: json!({
            "verdict": verdict, "least": holds.map(|holds| holds.0), "most": holds.map(|holds| holds.1),
            "size": size, "report": report,
        }),
        checked: Some(Checked {
            verdict,
            holds,
            report: json!(report),
            suspicion,
        }),
        after,
    }
}

/// What is wrong with a forged card, in numbers that differ as they are told.
fn forged(size: u64, least: u64, most: u64) -> String {
    let said = |bytes| match words::size(size) == words::size(most) {
        true => words::exact(bytes),
        false => words::size(bytes),
    };
    let holds = match least == most {
        true => said(least),
        false => format!("between {} and {}", said(least), said(most)),
    };
    format!(
        "it is forged: it says that it holds {}, and holds {holds}",
        said(size)
    )
}

fn clear(work: &Work, card: &dyn CardIo, mark: &Mark, order: &CardOrder, what: Clearing) -> Ended {
    let size = card.size();
    let mut content = Overlay::new(MemoryDisk::new(0), size);
    let mut map = Map::uniform(size, ByteKind::Free);
    let edge = 1_u64 << 20;
    let made = match what {
        Clearing::Tables | Clearing::All => {
            map.set(0, edge, ByteKind::Zero);
            map.set(size.saturating_sub(edge), size, ByteKind::Zero);
            let label = mark.to_empty_block();
            map.set(0, label.len() as u64, ByteKind::Data);
            imagecraft::Disk::write_at(&mut content, 0, &label)
        }
        Clearing::Volume => empty_volume(&mut content, &mut map, &order.card, work.job as u32),
    };
    let made = made.map_err(|e| {
        let detail = format!("an empty volume cannot be made on it: {e}");
        (Refusal::conflict("no-volume", detail), After::AsBefore)
    });
    made?;
    let options = Options {
        size_proven: false,
        wipe_free: what == Clearing::All,
    };
    let written = write(card, &content, &map, mark, options, &work.progress);
    let written = written.map_err(|unwritten| {
        let after = match unwritten.left {
            Left::Untouched => After::AsBefore,
            Left::Unfinished | Left::MayBoot => After::Unfinished,
        };
        (Refusal::from(unwritten.error), after)
    })?;
    work.progress.begin(Stage::Finishing, 0);
    Ok(Done {
        result: json!({ "written": written.written, "verified": written.verified }),
        checked: None,
        after: cleared(card).map_err(|e| (e.into(), After::Unfinished))?,
    })
}

fn give_back(work: &Work, store: &Store, card: &dyn CardIo, job: i64) -> Ended {
    let unfinished = |error: Refusal| (error, After::Unfinished);
    let kept = KeptFile::open(&store.checks, store.keys.clone(), job).map_err(unfinished)?;
    match put_back(card, &kept, &work.progress) {
        Ok(()) => {
            let places = cardwork::check::Kept::len(&kept);
            kept.remove();
            Ok(Done {
                result: json!({ "places": places, "of": job }),
                checked: None,
                after: After::AsBefore,
            })
        }
        Err(error) => Err(unfinished(error.into())),
    }
}

/// Says of a failure what it means for the card and what to do.
fn explain(error: Refusal, after: After, order: &CardOrder) -> Refusal {
    let (card, slot) = (&order.card, order.at.slot);
    let what = match error.code {
        "cancelled" => "stopped on request".into(),
        "card-gone" => format!("it vanished from slot {slot}"),
        _ => error.detail,
    };
    let now = match (after, order.work) {
        (After::AsBefore, _) => "What was on it is on it",
        (_, CardWork::Quick | CardWork::PutBack(_)) => {
            "What was on it is not all on it now: that is kept here, and is put back when it is in a slot again \
             (duplicarium card put-back)"
        }
        _ => "It is incomplete and says so itself",
    };
    Refusal::invalid(
        error.code,
        format!("card {card} in slot {slot}: {what}. {now}"),
    )
}
