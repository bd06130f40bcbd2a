//! What is waited for: where a board will be, what it will say, and what must be there then.

use std::net::IpAddr;

use arrival::locate::Sought;
use arrival::look::port_of;
use records::arrivals::Arrival;
use records::devices::Device;
use settings::{Address, BootLine, Check, Export, FieldKind, Sheet, fill_address, parse_networks};

use crate::catalogue::is_said_by;
use crate::in_force::{Counted, InForce, Team};
use crate::refusal::Refusal;

/// A check with the address of its page filled in.
#[derive(Clone, Debug)]
pub(super) struct Wanted {
    pub check: Check,
    /// The page that is read.
    pub page: Option<String>,
    /// What the value must be.
    pub value: Option<String>,
    /// Size of the card that is in it.
    pub card_bytes: Option<u64>,
    /// The release that is on that card.
    pub release: Option<OnCard>,
}

/// The release that is on the card of a board.
#[derive(Clone, Debug)]
pub(super) struct OnCard {
    pub name: String,
    version: String,
}

impl OnCard {
    /// Whether what a board says is its version, or its name.
    pub fn is_said_by(&self, said: &str) -> bool {
        is_said_by(said, &self.name, &self.version)
    }
}

/// An export with the addresses that belong to it.
#[derive(Clone, Debug)]
pub(super) struct WantedExport {
    pub rule: Export,
    pub page: String,
    pub back: Option<String>,
    /// What the value must be that tells whose it is.
    pub whose: Option<String>,
}

/// A login that is tried once.
#[derive(Clone, Debug)]
pub(super) struct Tried {
    pub user: String,
    pub password: String,
    pub page: String,
}

/// A board that is waited for.
#[derive(Clone, Debug, Default)]
pub(super) struct Awaited {
    pub sought: Sought,
    pub page: Option<String>,
    pub stamp: Option<String>,
    pub checks: Vec<Wanted>,
    pub logins: Vec<Tried>,
    pub minutes: Option<f64>,
    pub internet: bool,
    pub networks: Vec<String>,
    pub country: Option<String>,
    /// The fixed address that is set.
    pub address: Option<String>,
    pub steps: Vec<String>,
    /// Lines of its boot log that mean something.
    pub lines: Vec<BootLine>,
    /// Where it exports its settings.
    pub export: Option<WantedExport>,
}

/// The port that is tried where no page is named: that of SSH.
const SSH: u16 = 22;

impl Awaited {
    fn of(sheet: &Sheet, counted: &Counted, host_name: Option<&str>) -> Self {
        let values = counted.values.iter().filter(|one| one.applies);
        let values: Vec<_> = values.filter(|one| one.value.is_some()).collect();
        let of_kind = |kind: FieldKind| {
            let mut all = values.iter().filter(move |one| one.kind == kind);
            all.next().and_then(|one| one.value.clone())
        };
        let value = |name: &str| {
            let one = values.iter().find(|one| one.name == name && !one.secret)?;
            one.value.clone()
        };
        let fill = |page: &Option<String>| fill_address(page.as_deref()?, value);
        let mut networks: Vec<String> = of_kind(FieldKind::NetworkName).into_iter().collect();
        let listed = of_kind(FieldKind::Networks);
        let listed = listed.and_then(|text| parse_networks(&text).ok());
        networks.extend(listed.into_iter().flatten().map(|network| network.name));
        let address = of_kind(FieldKind::Address);
        let fixed = match address.as_deref().map(Address::parse) {
            Some(Ok(Address::Fixed { address, .. })) => Some(IpAddr::V4(address)),
            _ => None,
        };
        let page = fill(&sheet.first_boot.page);
        let checks = sheet.checks.iter().map(|check| Wanted {
            page: fill(&check.page),
            value: check.field.as_deref().and_then(value),
            card_bytes: None,
            release: None,
            check: check.clone(),
        });
        let logins = sheet.logins.iter().filter_map(|login| {
            Some(Tried {
                user: login.user.clone(),
                password: login.password.clone()?,
                page: fill(&login.page)?,
            })
        });
        Self {
            sought: Sought {
                host_name: of_kind(FieldKind::HostName).or(host_name.map(Into::into)),
                address: fixed,
                port: page.as_deref().and_then(port_of).unwrap_or(SSH),
                macs: Vec::new(),
                services: sheet.first_boot.services.clone(),
            },
            stamp: fill(&sheet.first_boot.stamp),
            checks: checks.collect(),
            logins: logins.collect(),
            minutes: sheet.first_boot.minutes,
            internet: sheet.first_boot.internet,
            networks,
            country: of_kind(FieldKind::Country),
            address: fixed.map(|address| address.to_string()),
            steps: sheet.first_boot.steps.clone(),
            lines: sheet.first_boot.lines.clone(),
            export: sheet.export.as_ref().and_then(|rule| {
                Some(WantedExport {
                    page: fill_address(&rule.page, value)?,
                    back: fill(&rule.back),
                    whose: rule.field.as_deref().and_then(value),
                    rule: rule.clone(),
                })
            }),
            page,
        }
    }
}

/// What is waited for with a device, by the release that is on its card and what is set on it.
pub(super) fn awaited(team: &Team, device: &Device) -> Awaited {
    let carried = device
        .carried_release_id
        .and_then(|id| team.shelf.by_id(id));
    let release = carried.or_else(|| team.shelf.followed(device));
    let sheet = release.and_then(|release| team.shelf.sheet(release).ok());
    let mut awaited = match sheet {
        Some(sheet) => {
            let counted = team.alone(device, &sheet.fields);
            Awaited::of(&sheet, &counted, device.host_name.as_deref())
        }
        None => Awaited {
            sought: Sought {
                host_name: device.host_name.clone(),
                port: SSH,
                ..Sought::default()
            },
            ..Awaited::default()
        },
    };
    awaited.sought.macs = device.macs.clone();
    let card_bytes = device
        .card_bytes
        .and_then(|bytes| u64::try_from(bytes).ok());
    for wanted in &mut awaited.checks {
        wanted.card_bytes = card_bytes;
        wanted.release = carried.map(|release| OnCard {
            name: release.name.clone(),
            version: release.version.clone(),
        });
    }
    awaited
}

/// The same with what somebody said of an arrival.
pub(super) fn awaited_by(mut awaited: Awaited, arrival: &Arrival) -> Awaited {
    if let Some(given) = arrival
        .address
        .as_deref()
        .and_then(|text| text.parse().ok())
    {
        awaited.sought.address = Some(given);
    }
    awaited
}

/// What is waited for with these devices, in their order.
pub(super) async fn all_awaited(
    in_force: &InForce,
    devices: &[Device],
) -> Result<Vec<Awaited>, Refusal> {
    let ids: Vec<_> = devices.iter().map(|device| device.id).collect();
    let team = in_force.team(&ids).await?;
    Ok(devices
        .iter()
        .map(|device| awaited(&team, device))
        .collect())
}
