//! The light watch of devices in service: whether their page answers, which version they say, until when their
//! certificate is valid.

use std::collections::{BTreeMap, HashMap};
use std::time::Duration;

use arrival::locate::{Locator, Sighting};
use arrival::look::{port_answers, read_page, value_at};
use futures::stream::{self, StreamExt};
use records::Records;
use records::arrivals::Watched;
use records::devices::Device;
use serde_json::json;

use super::awaited::{Awaited, all_awaited};
use super::{Watching, now};
use crate::in_force::InForce;
use crate::news::{Events, News};
use crate::refusal::Refusal;

/// Devices that are looked at in one go, and at once.
const BATCH: i64 = 64;
const AT_ONCE: usize = 8;
/// How long an answer to a name that was asked for may take.
const ANSWERS: Duration = Duration::from_secs(2);
/// A certificate that ends sooner needs a hand.
const ENDS_SOON: Duration = Duration::from_secs(21 * 24 * 3600);

/// What a device in service said.
#[derive(Default)]
struct Said {
    answers: bool,
    certificate: Option<(String, Option<time::OffsetDateTime>)>,
    version: Option<String>,
}

/// Where a device was seen.
fn sighting(watched: &Watched) -> Option<Sighting> {
    let ports: BTreeMap<u16, u16> =
        serde_json::from_value(watched.ports.clone()).unwrap_or_default();
    Some(Sighting {
        address: watched.address.as_deref()?.parse().ok()?,
        ports,
        mac: None,
        host_name: None,
    })
}

async fn ask(sighting: Option<&Sighting>, awaited: &Awaited) -> Said {
    let mut said = Said::default();
    let Some(sighting) = sighting else {
        return said;
    };
    match &awaited.page {
        None => said.answers = port_answers(sighting.at(awaited.sought.port)).await,
        Some(url) => {
            if let Ok(page) = read_page(sighting, url, None).await {
                said.answers = page.status < 400;
                said.certificate = page.certificate.map(|one| (one.fingerprint, one.until));
            }
        }
    }
    if !said.answers {
        return said;
    }
    let of_version = awaited.checks.iter().find(|wanted| wanted.check.version);
    if let Some(wanted) = of_version
        && let Some(url) = &wanted.page
        && let Ok(page) = read_page(sighting, url, None).await
    {
        let value = value_at(&page, wanted.check.at.as_deref()).ok();
        said.version = value.map(|text| text.trim().chars().take(64).collect());
    }
    said
}

/// Asks a device where it was seen last, and where it is found now if it is not there any more: a network gives
/// out other addresses.
async fn ask_anywhere(
    locators: &[Box<dyn Locator>],
    watched: &Watched,
    awaited: &Awaited,
) -> (Said, Option<Sighting>) {
    let said = ask(sighting(watched).as_ref(), awaited).await;
    if said.answers {
        return (said, None);
    }
    // Some ways ask around, and hear the answer a little later.
    for pause in [Duration::ZERO, ANSWERS] {
        tokio::time::sleep(pause).await;
        for locator in locators {
            let found = locator.find(std::slice::from_ref(&awaited.sought)).await;
            for other in found.into_iter().flatten().flatten() {
                let said = ask(Some(&other), awaited).await;
                if said.answers {
                    return (said, Some(other));
                }
            }
        }
    }
    (said, None)
}

/// Looks at the devices in service that were not looked at for so long; gives those that answered.
pub(super) async fn look_again(
    records: &Records,
    in_force: &InForce,
    events: &Events,
    watching: &Watching,
) -> Result<Vec<Answered>, Refusal> {
    let due = records
        .watched(None, Some(now() - watching.every), BATCH)
        .await?;
    if due.is_empty() {
        return Ok(Vec::new());
    }
    let names: Vec<_> = due.iter().map(|one| one.device.clone()).collect();
    let devices = records.devices_named(&names).await?;
    let awaited = all_awaited(in_force, &devices).await?;
    let of: HashMap<String, (Device, Awaited)> = devices
        .into_iter()
        .zip(awaited)
        .map(|(device, awaited)| (device.name.clone(), (device, awaited)))
        .collect();
    let locators = &watching.locators;
    let asked = due.into_iter().filter_map(|watched| {
        let (device, awaited) = of.get(&watched.device)?.clone();
        Some(async move {
            let said = ask_anywhere(locators, &watched, &awaited).await;
            (watched, device, awaited, said)
        })
    });
    let asked: Vec<_> = asked.collect();
    let said: Vec<_> = stream::iter(asked)
        .buffer_unordered(AT_ONCE)
        .collect()
        .await;
    let mut answered = Vec::new();
    for (watched, device, awaited, (said, place)) in said {
        take_in(records, events, &watched, &said, place.as_ref()).await?;
        if said.answers
            && let Some(at) = place.or_else(|| sighting(&watched))
        {
            answered.push(Answered {
                device,
                awaited,
                at,
            });
        }
    }
    Ok(answered)
}

/// A device that answered, and where.
pub(super) struct Answered {
    pub device: Device,
    pub awaited: Awaited,
    pub at: Sighting,
}

/// Records what a device said, and what that changes.
async fn take_in(
    records: &Records,
    events: &Events,
    watched: &Watched,
    said: &Said,
    place: Option<&Sighting>,
) -> Result<(), Refusal> {
    let device = &watched.device;
    if !said.answers {
        if records.missed(watched.device_id).await? {
            let words = format!("{device} does not answer any more");
            events
                .note("service", "device.silent", device, &words)
                .await?;
        }
        return Ok(());
    }
    let certificate = said.certificate.as_ref();
    let certificate = certificate.map(|(fingerprint, until)| (fingerprint.as_str(), *until));
    let version = said.version.as_deref();
    let place = place.map(|one| (one.address.to_string(), json!(one.ports)));
    let place = place
        .as_ref()
        .map(|(address, ports)| (address.as_str(), ports));
    records
        .seen_again(watched.device_id, place, certificate, version)
        .await?;
    if watched.silent_since.is_some() {
        let words = format!("{device} answers again");
        events
            .note("service", "device.answers", device, &words)
            .await?;
    }
    let before = watched.version.as_deref();
    if let (Some(before), Some(version)) = (before, version)
        && before != version
    {
        let words = format!(
            "{device} says version {version} now, and said {before}: it was updated in place"
        );
        events
            .note("service", "device.updated", device, &words)
            .await?;
    }
    if let (Some(before), Some((fingerprint, _))) = (&watched.certificate, certificate)
        && before != fingerprint
    {
        let words = format!("{device} has another certificate now");
        events
            .note("service", "device.certificate", device, &words)
            .await?;
    }
    events.bus.tell(News::Events);
    Ok(())
}

/// Devices in service that need a hand.
pub(super) async fn attention(records: &Records) -> Result<Vec<api::Attention>, Refusal> {
    let rows = records.need_a_look(now() + ENDS_SOON).await?.into_iter();
    let all = rows.map(|row| {
        let (kind, words, since) = match (row.silent_since, row.certificate_until) {
            (Some(since), _) => (
                "silent",
                format!("{} does not answer any more", row.device),
                since,
            ),
            (None, until) => {
                let until = until.unwrap_or_else(now);
                let day = until.date();
                (
                    "certificate",
                    format!("the certificate of {} ends on {day}", row.device),
                    now(),
                )
            }
        };
        api::Attention {
            kind: kind.into(),
            device: row.device,
            words,
            since,
            arrival: None,
            card: None,
        }
    });
    Ok(all.collect())
}
