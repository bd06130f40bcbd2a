//! Why a board may not have come up, the likeliest first, each with what to do. Nothing here is certain: it is
//! what somebody at a lamp post would go through.

use crate::radio::Heard;

/// How far a board came, and what is set on it.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Stage {
    /// What somebody saw of its lamp, by the board model's table: what it means and what it comes from.
    pub lamp: Option<Lamp>,
    /// Whether it was found on the network.
    pub found: bool,
    /// Whether something of it answers.
    pub answers: bool,
    /// Names of the Wi-Fi networks that are set.
    pub networks: Vec<String>,
    /// The Wi-Fi country that is set.
    pub country: Option<String>,
    /// Whether its board has a wired port.
    pub wired: bool,
    /// The fixed address that is set.
    pub address: Option<String>,
    /// Another device that has the same address or name where this one is.
    pub clash: Option<String>,
    /// Whether its first boot needs the internet.
    pub internet: bool,
    /// Whether a way of finding boards does not work here, and why.
    pub blind: Vec<String>,
    /// The networks that the service's own computer hears; nothing where it does not listen.
    pub heard: Option<Vec<Heard>>,
}

/// A lamp pattern as somebody saw it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Lamp {
    /// What it means.
    pub means: String,
    /// What it comes from: `none` (all is well), `power`, `card`, `image`, `network`, or nothing known.
    pub cause: String,
}

/// A likely cause.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Cause {
    /// What it is.
    pub what: String,
    /// What to do.
    pub todo: String,
}

/// The likely causes of a board that is late.
pub fn causes(stage: &Stage) -> Vec<Cause> {
    let mut found = Vec::new();
    let mut add = |what: String, todo: &str| {
        found.push(Cause {
            what,
            todo: todo.into(),
        });
    };
    let lamp = stage.lamp.as_ref();
    let by_lamp = lamp.map(|lamp| lamp.cause.as_str());
    match (lamp, by_lamp) {
        (Some(lamp), Some("power")) => add(
            format!("its lamp says: {}", lamp.means),
            "look at its supply and cable; try those of a board that runs",
        ),
        (Some(lamp), Some("card")) => add(
            format!("its lamp says: {}", lamp.means),
            "put the card into a slot and look at it again; compare it, or write it anew",
        ),
        (Some(lamp), Some("image")) => add(
            format!("its lamp says: {}", lamp.means),
            "the release is not for this board; see which boards it suits and note what was seen",
        ),
        _ => {}
    }
    if matches!(by_lamp, Some("power" | "card" | "image")) {
        return found;
    }
    if let Some(other) = &stage.clash {
        add(
            format!("{other} has the same name or address"),
            "switch that one off, or give one of them another name",
        );
    }
    if stage.found {
        if !stage.answers {
            add(
                "it is on the network and its page does not answer yet".into(),
                "wait for its first boot to end; then look at its page yourself, or at its log",
            );
        }
        return found;
    }
    let reach = reach(&stage.networks, stage.heard.as_deref());
    // What was seen or heard comes before what may be.
    match &reach {
        Reach::NotHeard(what) if !stage.networks.is_empty() => add(
            what.clone(),
            "look for that name with a phone where the board is; upper and lower case count",
        ),
        Reach::Heard(what) => add(
            what.clone(),
            "look with a phone whether it is as strong where the board is",
        ),
        _ => {}
    }
    if lamp.is_none() {
        add(
            "it may not have started at all".into(),
            "look at its lamp and say here what it does",
        );
    }
    if !stage.networks.is_empty() {
        let names = stage.networks.join(", ");
        if let Reach::NotKnown = reach {
            add(
                format!("no network named {names} is in its reach"),
                "look for that name with a phone where the board is; upper and lower case count",
            );
        }
        add(
            format!("the passphrase of {names} is not the one that is set"),
            "join that network with a phone by the same passphrase",
        );
        let country = stage.country.as_deref().unwrap_or("none");
        add(
            format!(
                "the Wi-Fi country that is set, {country}, does not allow the network's channel"
            ),
            "set the country that the board stands in",
        );
    } else if stage.wired {
        add(
            "its wired port has no link".into(),
            "look at both lamps of the socket; try another cable",
        );
    } else {
        add(
            "no network is set on it".into(),
            "set one on the device or a preset of its site, and write the card anew",
        );
    }
    if let Some(address) = &stage.address {
        add(
            format!(
                "something else has its fixed address {address}, or that is not of this network"
            ),
            "look who answers there while the board is off",
        );
    }
    if stage.internet {
        add(
            "its first boot fetches something, and has no internet".into(),
            "try the same network with a phone; give it time",
        );
    }
    for why in &stage.blind {
        add(
            format!("it may be up and not be found: {why}"),
            "look for its page by hand, or give its address here",
        );
    }
    found
}

/// What the service's computer hears of the networks that are set.
enum Reach {
    /// It does not listen.
    NotKnown,
    /// None of them.
    NotHeard(String),
    /// One of them.
    Heard(String),
}

fn reach(networks: &[String], heard: Option<&[Heard]>) -> Reach {
    let Some(heard) = heard else {
        return Reach::NotKnown;
    };
    let same = |one: &&Heard| networks.contains(&one.name);
    if let Some(one) = heard.iter().find(same) {
        return Reach::Heard(format!(
            "{} is heard where the service's computer stands, with {} of 100, and perhaps not where the board is",
            one.name, one.strength
        ));
    }
    let nearly = |one: &&Heard| {
        let lower = one.name.to_lowercase();
        networks.iter().any(|name| name.to_lowercase() == lower)
    };
    let names = networks.join(", ");
    Reach::NotHeard(match heard.iter().find(nearly) {
        Some(one) => format!(
            "no network is called {names}: the one that the service's computer hears is called {}",
            one.name
        ),
        None => format!("the service's computer hears no network named {names}"),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn causes_go_by_how_far_it_came() {
        let mut stage = Stage {
            networks: vec!["Saltmarsh-Quay".into()],
            country: Some("SE".into()),
            ..Stage::default()
        };
        let words = |stage: &Stage| -> Vec<String> {
            causes(stage).into_iter().map(|cause| cause.what).collect()
        };
        let all = words(&stage);
        assert!(all[0].contains("not have started"), "{all:?}");
        assert!(
            all.iter()
                .any(|one| one.contains("passphrase of Saltmarsh-Quay"))
        );
        assert!(all.iter().any(|one| one.contains("SE")));
        let lamp = |cause: &str| {
            Some(Lamp {
                means: "the software on the card is damaged".into(),
                cause: cause.into(),
            })
        };
        // What the service's computer hears comes before what somebody would have to look for.
        let heard = |name: &str| {
            Some(vec![Heard {
                name: name.into(),
                strength: 60,
            }])
        };
        stage.heard = heard("saltmarsh-quay");
        assert!(words(&stage)[0].contains("is called saltmarsh-quay"));
        stage.heard = heard("Elsewhere");
        assert!(words(&stage)[0].contains("hears no network named Saltmarsh-Quay"));
        stage.heard = heard("Saltmarsh-Quay");
        let all = words(&stage);
        assert!(all[0].contains("60 of 100"), "{all:?}");
        assert!(all[2].contains("passphrase"), "{all:?}");
        stage.heard = None;
        // A lamp that says what it is leaves nothing to guess.
        stage.lamp = lamp("card");
        assert_eq!(words(&stage).len(), 1);
        // One that says that all is well leaves the network.
        stage.lamp = lamp("none");
        assert!(words(&stage)[0].contains("in its reach"));
        (stage.found, stage.clash) = (true, Some("quay-02".into()));
        let found = words(&stage);
        assert!(found[0].contains("quay-02") && found[1].contains("does not answer"));
        stage.answers = true;
        assert_eq!(words(&stage).len(), 1);
        // Another one in its place explains its absence first.
        stage.found = false;
        let found = words(&stage);
        assert!(found[0].contains("quay-02") && found.len() > 1, "{found:?}");
        let wired = Stage {
            wired: true,
            blind: vec!["mDNS cannot be used".into()],
            ..Stage::default()
        };
        let found = words(&wired);
        assert!(
            found[1].contains("link") && found[2].contains("mDNS"),
            "{found:?}"
        );
    }
}
