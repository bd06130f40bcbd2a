//! What a plan says of the card: what is on it, what would be lost, what to be careful about.

use cardwork::Occupant;
use records::Records;
use records::cards::Card;
use records::devices::Device;
use time::OffsetDateTime;

use super::wanted::Wanted;
use crate::refusal::Refusal;
use crate::slots::{Found, base_name};

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
                Some(device) => format!("this is the card of {device}"),
                None => "this is a card made for nobody in particular".into(),
            };
            let newest = records.last_backup(card.id, Some(stamp.imprint)).await?;
            let kept = match newest {
                Some((name, at)) => format!(
                    "its newest backup is {name}, {} old",
                    age(OffsetDateTime::now_utc() - at)
                ),
                None => "there is no backup of what is on it now".into(),
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
pub fn stays_readable(found: &Found, device: Option<&Device>) -> Option<String> {
    let whose = match &found.contents.occupant {
        Occupant::Stamped(stamp) => match (&stamp.device, device) {
            (Some(one), Some(other)) if *one == other.name => return None,
            (Some(one), _) => format!("of {one}"),
            (None, _) => return None,
        },
        Occupant::Foreign => "of whoever had the card".into(),
        _ => return None,
    };
    Some(format!(
        "old data {whose} can still be read in what stays free on it, unless that is wiped (--wipe-free)"
    ))
}

/// What should be known before a card is written, and does not forbid it.
pub fn cautions(wanted: &Wanted, card: &Card, slot: u32) -> Vec<String> {
    let mut cautions = Vec::new();
    if card.state == "blank" {
        cautions.push(format!(
            "the card in slot {slot} carries no mark of ours yet: {} must stand on its sticker",
            card.label
        ));
    }
    if wanted.state.as_deref() == Some("draft") {
        cautions.push(format!(
            "{} is a draft, to be tried before others get it",
            wanted.base_name
        ));
    }
    if let Some(reason) = &wanted.override_reason {
        cautions.push(format!(
            "{} was withdrawn; it is written all the same: {reason}",
            wanted.base_name
        ));
    }
    cautions.extend(wanted.open_logins.iter().cloned());
    let counted = wanted.counted.iter().flat_map(|counted| &counted.values);
    for one in counted.filter(|one| one.secret && !one.kind.is_secret()) {
        cautions.push(format!(
            "{} was set as a secret, and this release calls it plain text; it stays a secret here, but lies on the card \
             as the release wants it",
            one.name
        ));
    }
    let Some(device) = &wanted.device else {
        if wanted.kind == "write" {
            cautions.push("no device is named, so no settings go onto the card".into());
        }
        return cautions;
    };
    if let Some(other) = device.card.as_ref().filter(|label| **label != card.label) {
        cautions.push(format!(
            "{} has card {other} already; with both in boards, two would come up under one name",
            device.name
        ));
    }
    if let Some(other) = card.device.as_ref().filter(|name| **name != device.name) {
        cautions.push(format!(
            "{} is the card of {other}, not of {}",
            card.label, device.name
        ));
    }
    cautions
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
    use super::age;

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
