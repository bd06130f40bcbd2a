//! The disks of this computer, which of its places are slots, and how the service is let at them.

use std::sync::Arc;

use bench::linux::Disk;
use bench::{Binding, BindingError, Bindings, STANDIN};

use crate::benches::Benches;
use crate::refusal::Refusal;
use api::words::size;

/// A disk larger than this is no card, unless the configuration says otherwise, in bytes.
pub const LARGEST_CARD: u64 = 256_000_000_000;

impl From<BindingError> for Refusal {
    fn from(error: BindingError) -> Self {
        match error {
            BindingError::File { .. } => Self::conflict("bench-file", error.to_string()),
            _ => Self::invalid("bad-slots", error.to_string()),
        }
    }
}

async fn asked<T: Send + 'static>(
    ask: impl FnOnce() -> Result<T, Refusal> + Send + 'static,
) -> Result<T, Refusal> {
    tokio::task::spawn_blocking(ask)
        .await
        .map_err(|e| Refusal::conflict("reader", e.to_string()))?
}

/// What the computer of a bench has, and what of it is offered; the service's own where no other is named.
pub async fn survey(
    benches: &Arc<Benches>,
    bench: Option<&str>,
    largest: u64,
) -> Result<api::Bench, Refusal> {
    let (disks, bindings, trouble) = match bench {
        None => {
            let here = benches.here().clone();
            asked(move || {
                let (bindings, trouble) = here.bindings();
                Ok((here.scan()?, bindings, trouble))
            })
            .await?
        }
        Some(name) => {
            let bench = benches.connected(name)?;
            asked(move || Ok(bench.disks()?)).await?
        }
    };
    Ok(api::Bench {
        proposal: propose(&disks, &bindings, largest),
        rule: rule(&bindings),
        disks: disks
            .into_iter()
            .map(|disk| shown(disk, &bindings, largest))
            .collect(),
        slots: bindings.slots.into_iter().map(binding).collect(),
        trouble,
    })
}

/// Writes down which places of a bench are slots; they count at once.
pub async fn bind(
    benches: &Arc<Benches>,
    bench: Option<&str>,
    slots: Vec<api::SlotBinding>,
) -> Result<(), Refusal> {
    let slots = slots.into_iter().map(|slot| Binding {
        number: slot.number,
        port: slot.port.trim().into(),
        unit: slot.unit,
        note: slot.note.filter(|note| !note.trim().is_empty()),
    });
    let mut slots: Vec<_> = slots.collect();
    slots.sort_by_key(|slot| slot.number);
    let bindings = Bindings { slots };
    match bench {
        None => {
            let here = benches.here().clone();
            asked(move || Ok(here.bind(bindings)?)).await
        }
        Some(name) => {
            let bench = benches.connected(name)?;
            asked(move || {
                let bound = bench.bind(bindings)?;
                bound.map_err(|why| Refusal::invalid("bad-slots", why))
            })
            .await
        }
    }
}

fn binding(slot: Binding) -> api::SlotBinding {
    api::SlotBinding {
        number: slot.number,
        port: slot.port,
        unit: slot.unit,
        note: slot.note,
    }
}

/// Whether a disk is offered as a card, and why.
fn offered(disk: &Disk, bindings: &Bindings, largest: u64) -> (Option<u32>, bool, String) {
    let slot = disk.place.as_ref().and_then(|place| bindings.of(place));
    let number = slot.map(|slot| slot.number);
    let too_large = (disk.size > largest).then(|| {
        format!(
            "it holds {}, and more than {} is no card here (most_card_gb)",
            size(disk.size),
            size(largest)
        )
    });
    let (offered, why) = match (&number, &disk.in_use, too_large, &disk.place) {
        (Some(slot), Some(used), ..) => (
            false,
            format!("slot {slot}, but in use ({used}); nothing is written to it meanwhile"),
        ),
        (Some(slot), None, Some(why), _) => (false, format!("slot {slot}, but {why}")),
        (Some(slot), None, None, _) if disk.size == 0 => {
            (true, format!("slot {slot}, no card is in"))
        }
        (Some(slot), None, None, _) => (true, format!("slot {slot}")),
        (None, Some(used), ..) => (false, format!("never: {used}")),
        (None, None, _, None) => (false, "never: it is at no port that cards come to".into()),
        (None, None, Some(why), _) => (false, format!("never: {why}")),
        (None, None, None, Some(place)) => (
            false,
            format!("no slot is at {place}; bind one to offer it"),
        ),
    };
    (number, offered, why)
}

fn shown(disk: Disk, bindings: &Bindings, largest: u64) -> api::BenchDisk {
    let (slot, offered, why) = offered(&disk, bindings, largest);
    api::BenchDisk {
        node: disk.node.display().to_string(),
        port: disk.place.as_ref().map(|place| place.reader.clone()),
        unit: disk.place.as_ref().map(|place| place.unit),
        model: disk.model,
        serial: disk.serial,
        kind: disk.kind,
        size: disk.size,
        block: disk.block,
        physical_block: disk.physical_block,
        removable: disk.removable,
        locked: disk.locked,
        discards: disk.discards,
        in_use: disk.in_use,
        slot,
        offered,
        why,
    }
}

/// Slots for what looks like a card reader and is none yet, by the next numbers that are free.
fn propose(disks: &[Disk], bindings: &Bindings, largest: u64) -> Vec<api::SlotBinding> {
    let mut numbers = (1..).filter(|number| bindings.numbered(*number).is_none());
    let mut places: Vec<_> = disks
        .iter()
        .filter(|disk| disk.removable || disk.kind == "SD card")
        .filter(|disk| disk.in_use.is_none() && disk.size <= largest)
        .filter(|disk| !disk.name.starts_with("loop"))
        .filter_map(|disk| Some((disk.place.clone()?, disk.model.clone())))
        .filter(|(place, _)| bindings.of(place).is_none())
        .collect();
    places.sort();
    places
        .into_iter()
        .map(|(place, model)| api::SlotBinding {
            number: numbers.next().unwrap_or_default(),
            port: place.reader,
            unit: place.unit,
            note: model,
        })
        .collect()
}

/// A rule for the system's device manager (udev(7)) that lets the service at the slots and keeps
/// desktops from mounting what is put into them.
fn rule(bindings: &Bindings) -> String {
    let mut text = String::from(
        "# Lets the Duplicarium service at its slots, and keeps desktops from mounting cards in them.\n\
         # Put this into /etc/udev/rules.d/72-duplicarium.rules, then: udevadm control --reload; udevadm trigger\n",
    );
    for slot in &bindings.slots {
        let Some(path) = device_path(slot) else {
            continue;
        };
        text += &format!(
            "# slot {}\nSUBSYSTEM==\"block\", DEVPATH==\"{path}\", GROUP=\"duplicarium\", MODE=\"0660\", \
             ENV{{UDISKS_IGNORE}}=\"1\"\n",
            slot.number
        );
    }
    text
}

/// The path of devices at a place, with stars where a start of the computer counts anew.
fn device_path(slot: &Binding) -> Option<String> {
    // Nothing but what ports are made of: this becomes a pattern.
    let plain = |c: char| c.is_ascii_alphanumeric() || ".:-_/".contains(c);
    if slot.port == STANDIN || !slot.port.chars().all(plain) {
        return None;
    }
    let (controller, chain) = slot.port.rsplit_once('/')?;
    Some(match chain {
        "card" => format!("*/{controller}/mmc_host/*/block/*"),
        chain => format!("*/{controller}/usb*/*-{chain}:*:0:0:{}/block/*", slot.unit),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use cardwork::Place;

    fn disk(name: &str, place: Option<(&str, u32)>) -> Disk {
        Disk {
            name: name.into(),
            node: format!("/dev/{name}").into(),
            place: place.map(|(port, unit)| Place {
                reader: port.into(),
                unit,
            }),
            model: Some("Gull Reader 4".into()),
            serial: None,
            kind: "card or stick".into(),
            size: 8_000_000_000,
            block: 512,
            physical_block: 512,
            removable: true,
            locked: false,
            discards: false,
            in_use: None,
            identity: None,
            sequence: Some(1),
        }
    }

    fn bound(number: u32, port: &str, unit: u32) -> Binding {
        Binding {
            number,
            port: port.into(),
            unit,
            note: None,
        }
    }

    #[test]
    fn only_what_is_bound_and_free_is_offered() {
        let bindings = Bindings {
            slots: vec![bound(3, "0000:00:14.0/2.3", 1)],
        };
        let here = Some(("0000:00:14.0/2.3", 1));
        let offers = |disk: &Disk| offered(disk, &bindings, LARGEST_CARD);
        assert_eq!(offers(&disk("sdb", here)), (Some(3), true, "slot 3".into()));
        let elsewhere = disk("sdc", Some(("0000:00:14.0/2.3", 0)));
        assert!(!offers(&elsewhere).1);
        let mut used = disk("sdb", here);
        used.in_use = Some("mounted at /media/card".into());
        let (slot, offered, why) = offers(&used);
        assert_eq!((slot, offered), (Some(3), false));
        assert!(why.contains("/media/card"), "{why}");
        let mut large = disk("sdb", here);
        large.size = 2_000_000_000_000;
        let (_, offered, why) = offers(&large);
        assert!(
            !offered && why.contains("2000.00 GB") && why.contains("256.00 GB"),
            "{why}"
        );
        let mut system = disk("sda", None);
        system.in_use = Some("this computer runs from it".into());
        let (slot, offered, why) = offers(&system);
        assert_eq!((slot, offered), (None, false));
        assert_eq!(why, "never: this computer runs from it");
    }

    #[test]
    fn readers_that_are_no_slots_yet_are_proposed_in_the_order_of_their_ports() {
        let bindings = Bindings {
            slots: vec![bound(1, "a/1", 0)],
        };
        let mut used = disk("sdf", Some(("a/9", 0)));
        used.in_use = Some("swap".into());
        let disks = [
            disk("sdd", Some(("a/2", 1))),
            disk("sdb", Some(("a/1", 0))),
            disk("sdc", Some(("a/2", 0))),
            disk("sde", None),
            disk("loop1", Some(("loop1", 0))),
            used,
        ];
        let proposed = propose(&disks, &bindings, LARGEST_CARD);
        let proposed: Vec<_> = proposed
            .iter()
            .map(|slot| (slot.number, slot.port.as_str(), slot.unit))
            .collect();
        assert_eq!(proposed, [(2, "a/2", 0), (3, "a/2", 1)]);
    }

    #[test]
    fn the_rule_names_ports_and_takes_no_foreign_signs() {
        let bindings = Bindings {
            slots: vec![
                bound(1, "0000:00:14.0/2.3", 1),
                bound(2, "fe340000.mmc/card", 0),
                bound(3, "x\", RUN+=\"/bin/sh", 0),
                bound(4, "a/*", 0),
            ],
        };
        let rule = rule(&bindings);
        assert!(rule.contains("DEVPATH==\"*/0000:00:14.0/usb*/*-2.3:*:0:0:1/block/*\""));
        assert!(rule.contains("DEVPATH==\"*/fe340000.mmc/mmc_host/*/block/*\""));
        assert!(!rule.contains("RUN"), "{rule}");
        assert_eq!(rule.matches("SUBSYSTEM").count(), 2);
    }
}
