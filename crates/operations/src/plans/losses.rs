//! What a plan says of the card: what is on it, what would be lost, what to be careful about.

use api::Caution;
use api::words;
use cardwork::Occupant;
use records::cards::Card;
use records::devices::Device;
use records::{RecordError, Records};
use time::OffsetDateTime;

use super::wanted::Wanted;
use crate::refusal::Refusal;
use crate::slots::{Found, base_name};
use api::SlotName;

/// What writing over this card would cost, with the newest backup.
pub async fn lost(records: &Records, found: &Found, card: &Card) -> Result<Vec<String>, Refusal> {
    Ok(match &found.contents.occupant {
        Occupant::Blank | Occupant::Empty(_) | Occupant::Unfinished(_) => Vec::new(),
        Occupant::Foreign => {
            let kept = match records.last_backup(card.id, None).await? {
                Some((name, at)) => format!(
                    "It was backed up as {name}, {} ago, and may have changed since",
                    age(OffsetDateTime::now_utc() - at)
                ),
                None => "There is no backup of it here".into(),
            };
            vec![format!(
                "the card holds data that is not ours: {}. {kept}",
                found.contents.summary
            )]
        }
        Occupant::Stamped(stamp) => {
            let whose = match &stamp.device {
                Some(device) => match records.device(device).await {
                    Ok(known) => format!("this is the card of {device} ({})", known.state),
                    Err(RecordError::Unknown { .. }) => format!("this is the card of {device}"),
                    Err(e) => return Err(e.into()),
                },
                None => "this is a card made for nobody in particular".into(),
            };
            let newest = records.last_backup(card.id, Some(stamp.imprint)).await?;
            let kept = match newest {
                Some((name, at)) => format!(
                    "its newest backup is {name}, {} old",
                    age(OffsetDateTime::now_utc() - at)
                ),
                None => match records.restored_from(stamp.imprint).await? {
                    Some((name, at)) => format!(
                        "it was restored from backup {name}, {} old, and there is no newer backup of it",
                        age(OffsetDateTime::now_utc() - at)
                    ),
                    None => "there is no backup of what is on it now".into(),
                },
            };
            vec![format!(
                "{whose}, written {} ago with {}; whatever changed on it since is lost, {kept}",
                age(OffsetDateTime::now_utc() - stamp.made),
                base_name(&stamp.base)
            )]
        }
    })
}

/// What is on a card, in a few words.
pub fn holds(found: &Found, card: &Card) -> String {
    match &found.contents.occupant {
        Occupant::Stamped(stamp) => {
            let device = stamp
                .device
                .as_ref()
                .map(|device| format!(" for {device}"))
                .unwrap_or_default();
            format!("{}{device}", base_name(&stamp.base))
        }
        Occupant::Empty(_) => "nothing, it is empty".into(),
        Occupant::Unfinished(_) => format!("nothing whole: {}", found.contents.summary),
        Occupant::Blank if card.state == "blank" => "nothing, it is blank".into(),
        _ => found.contents.summary.clone(),
    }
}

/// Whose data can still be read in what stays free, if the card was somebody else's.
pub fn stays_readable(found: &Found, device: Option<&Device>) -> Option<Caution> {
    let whose = match &found.contents.occupant {
        Occupant::Stamped(stamp) => match (&stamp.device, device) {
            (Some(one), Some(other)) if *one == other.name => return None,
            (Some(one), _) => format!("of {one}"),
            (None, _) => return None,
        },
        Occupant::Foreign => "of whoever had the card".into(),
        _ => return None,
    };
    Some(Caution::new(
        "old-data",
        format!(
            "old data {whose} can still be read in what stays free on it, unless that is wiped (--wipe-free)"
        ),
    ))
}

/// Says that the label of a card must stand on its sticker, where the card cannot say it itself.
pub fn sticker(card: &Card, slot: SlotName) -> String {
    format!(
        "the card in slot {slot} carries no mark of ours yet: {} must stand on its sticker",
        card.label
    )
}

/// What is worth knowing before a card is written, whoever it is for.
pub fn notes(wanted: &Wanted, card: &Card, slot: SlotName) -> Vec<String> {
    let mut notes = Vec::new();
    if card.state == "blank" {
        notes.push(sticker(card, slot));
    }
    if let Some(reason) = &wanted.override_reason {
        notes.push(format!(
            "{} is written although there is something against it: {reason}",
            wanted.base_name
        ));
    }
    notes.extend(wanted.open_logins.iter().cloned());
    if wanted.device.is_none() && wanted.kind == "write" {
        notes.push("no device is named, so no settings go onto the card".into());
    }
    notes
}

/// What has to be accepted by name of what is written, whichever card it goes onto.
pub fn cautions_of_content(wanted: &Wanted) -> Vec<Caution> {
    let mut cautions = Vec::new();
    if wanted.state.as_deref() == Some("draft") {
        cautions.push(Caution::new(
            "draft",
            format!(
                "{} is a draft, to be tried before others get it",
                wanted.base_name
            ),
        ));
    }
    if let Some(words) = &wanted.failed_test {
        cautions.push(Caution::new(
            "failed-test",
            format!(
                "a restore test of {} did not pass: {words}",
                wanted.base_name
            ),
        ));
    }
    let counted = wanted.counted.iter().flat_map(|counted| &counted.values);
    let plain: Vec<_> = counted
        .filter(|one| one.secret && !one.kind.is_secret())
        .map(|one| one.name.as_str())
        .collect();
    if !plain.is_empty() {
        cautions.push(Caution::new(
            "plain-secret",
            format!(
                "set as a secret, and plain text to this release: {}; a secret here, but it lies on the card as the \
                 release wants it",
                plain.join(", ")
            ),
        ));
    }
    cautions
}

/// A card that the device has besides the one with this label.
pub fn second_card(device: &Device, label: Option<&str>) -> Option<Caution> {
    let other = device.card.as_deref().filter(|one| Some(*one) != label)?;
    Some(Caution::new(
        "second-card",
        format!(
            "{} has card {other} already; with both in boards, two would come up under one name",
            device.name
        ),
    ))
}

/// What has to be accepted by name before this card gets it.
pub fn cautions(wanted: &Wanted, card: &Card) -> Vec<Caution> {
    let mut cautions = cautions_of_content(wanted);
    if let Some(device) = &wanted.device {
        cautions.extend(second_card(device, Some(&card.label)));
        if let Some(other) = card.device.as_ref().filter(|name| **name != device.name) {
            cautions.push(Caution::new(
                "other-device",
                format!(
                    "{} is the card of {other}, not of {}",
                    card.label, device.name
                ),
            ));
        }
    }
    cautions
}

/// How much larger than what it shall hold a card is before somebody should look at it twice.
const MANY_TIMES: u64 = 8;
/// What is large where nobody knows yet which cards the team uses, in bytes.
const LARGE: u64 = 128_000_000_000;
/// What is no larger than this is a card like any other, whatever was used before, in bytes.
const USUAL: u64 = 64_000_000_000;

/// A disk that is much larger than what it shall hold and than the cards that the team uses.
pub fn much_larger(size: u64, needed: u64, largest_used: Option<u64>) -> Option<Caution> {
    let usual = largest_used.map_or(LARGE, |used| used.saturating_mul(2).max(USUAL));
    (size > needed.saturating_mul(MANY_TIMES) && size > usual).then(|| {
        let beside = match largest_used {
            Some(used) => format!(
                "no card that was written here held more than {}",
                words::size(used)
            ),
            None => "most cards hold less".into(),
        };
        Caution::new(
            "much-larger",
            format!(
                "it holds {}, and {} are needed; {beside}. Is it a card, and the right one?",
                words::size(size),
                words::size(needed)
            ),
        )
    })
}

/// A span of time in its largest unit.
fn age(span: time::Duration) -> String {
    let (number, unit) = match span.whole_minutes() {
        ..1 => return "less than a minute".into(),
        minutes @ 1..120 => (minutes, "minute"),
        minutes @ 120..2880 => (minutes / 60, "hour"),
        minutes => (minutes / 1440, "day"),
    };
    format!("{number} {unit}{}", if number == 1 { "" } else { "s" })
}

#[cfg(test)]
mod tests {
    use super::{age, much_larger};

    #[test]
    fn a_disk_is_much_larger_beside_what_is_needed_and_what_is_usual() {
        const GB: u64 = 1_000_000_000;
        for (size, needed, used, said) in [
            (16 * GB, GB, Some(4 * GB), false),
            (65 * GB, GB, Some(4 * GB), true),
            (64 * GB, GB, Some(32 * GB), false),
            (65 * GB, GB, Some(32 * GB), true),
            (65 * GB, 9 * GB, Some(32 * GB), false),
            (128 * GB, GB, None, false),
            (200 * GB, GB, None, true),
        ] {
            let caution = much_larger(size, needed, used);
            assert_eq!(caution.is_some(), said, "{size} {needed} {used:?}");
        }
    }

    #[test]
    fn ages_are_said_in_their_largest_unit() {
        for (seconds, said) in [
            (5, "less than a minute"),
            (60, "1 minute"),
            (3 * 3600, "3 hours"),
            (50 * 3600, "2 days"),
        ] {
            assert_eq!(age(time::Duration::seconds(seconds)), said);
        }
    }
}
