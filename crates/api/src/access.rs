//! Who may ask what: one table of every route, which the service goes by and the tests walk.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What somebody may do. Each may do all that those before it may.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
pub enum Role {
    /// Sees everything but secrets.
    #[serde(rename = "looker")]
    Looker,
    /// Writes, restores, backs up and checks cards, watches arrivals, notes what is seen.
    #[serde(rename = "bench hand")]
    BenchHand,
    /// Also the catalogue, devices, settings and presets.
    #[serde(rename = "keeper")]
    Keeper,
    /// Also people, benches, keys, and what removes something for good.
    #[serde(rename = "owner")]
    Owner,
}

impl Role {
    /// All, the least first.
    pub const ALL: [Self; 4] = [Self::Looker, Self::BenchHand, Self::Keeper, Self::Owner];

    /// Its word.
    pub fn name(self) -> &'static str {
        match self {
            Self::Looker => "looker",
            Self::BenchHand => "bench hand",
            Self::Keeper => "keeper",
            Self::Owner => "owner",
        }
    }

    /// It in a sentence: "a keeper".
    pub fn one(self) -> String {
        match self {
            Self::Owner => "an owner".into(),
            role => format!("a {role}"),
        }
    }

    /// The role of a word; a dash or nothing may stand for the space.
    pub fn named(word: &str) -> Option<Self> {
        let plain = word.to_lowercase().replace([' ', '-'], "");
        Self::ALL
            .into_iter()
            .find(|role| role.name().replace(' ', "") == plain)
    }
}

impl std::fmt::Display for Role {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(self.name())
    }
}

impl std::str::FromStr for Role {
    type Err = String;

    fn from_str(word: &str) -> Result<Self, String> {
        let words = Self::ALL.map(Self::name).join(", ");
        Self::named(word).ok_or_else(|| format!("a role is one of {words}"))
    }
}

/// Who may call a route, and what the history says of it.
#[derive(Clone, Copy, Debug)]
pub struct Access {
    /// Method, in small letters.
    pub method: &'static str,
    /// Path as in the OpenAPI document.
    pub path: &'static str,
    /// The role that it takes; `None`: anybody may, signed in or not.
    pub role: Option<Role>,
    /// What the history says that somebody did; `None`: it is not kept there.
    pub act: Option<&'static str>,
    /// Whether it must be possible while the records are away, even if the history misses it then.
    pub at_once: bool,
}

const ANYBODY: Option<Role> = None;
const LOOKER: Option<Role> = Some(Role::Looker);
const BENCH: Option<Role> = Some(Role::BenchHand);
const KEEPER: Option<Role> = Some(Role::Keeper);
const OWNER: Option<Role> = Some(Role::Owner);

/// Looks at something that is no secret.
const fn quiet(method: &'static str, path: &'static str, role: Option<Role>) -> Access {
    Access {
        method,
        path,
        role,
        act: None,
        at_once: false,
    }
}

/// Changes something, or reads a secret.
const fn told(
    method: &'static str,
    path: &'static str,
    role: Option<Role>,
    act: &'static str,
) -> Access {
    Access {
        act: Some(act),
        ..quiet(method, path, role)
    }
}

/// Stops something: that must not wait for anything.
const fn at_once(
    method: &'static str,
    path: &'static str,
    role: Option<Role>,
    act: &'static str,
) -> Access {
    Access {
        at_once: true,
        ..told(method, path, role, act)
    }
}

/// Every route. What is not in here is not served.
#[rustfmt::skip]
pub const ACCESS: &[Access] = &[
    quiet("get", "/api/v1/alive", ANYBODY),
    quiet("get", "/api/v1/health", ANYBODY),
    quiet("get", "/api/v1/openapi.json", ANYBODY),
    quiet("get", "/metrics", LOOKER),
    quiet("get", "/api/v1/me", ANYBODY),
    told("post", "/api/v1/sign-in", ANYBODY, "signed in"),
    told("post", "/api/v1/welcome", ANYBODY, "chose a password with a one-time code"),
    quiet("post", "/api/v1/hello", ANYBODY),
    told("post", "/api/v1/enrol", ANYBODY, "made a computer a bench"),
    quiet("get", "/api/v1/bench-line", ANYBODY),
    told("post", "/api/v1/sign-out", ANYBODY, "signed out"),
    told("put", "/api/v1/me/password", LOOKER, "changed the own password"),
    told("put", "/api/v1/me/pin", LOOKER, "changed the own PIN"),
    told("post", "/api/v1/me/second-factor", LOOKER, "began to set up a second factor"),
    told("put", "/api/v1/me/second-factor", LOOKER, "took a second factor"),
    told("delete", "/api/v1/me/second-factor", LOOKER, "gave up the second factor"),
    told("post", "/api/v1/acting", ANYBODY, "began to act at a station"),
    told("delete", "/api/v1/acting", ANYBODY, "stopped acting at a station"),
    quiet("get", "/api/v1/passes", LOOKER),
    told("post", "/api/v1/passes", LOOKER, "made a token"),
    told("delete", "/api/v1/passes/{id}", LOOKER, "ended a pass"),
    told("post", "/api/v1/stations", OWNER, "made a computer a station"),
    quiet("get", "/api/v1/people", LOOKER),
    told("post", "/api/v1/people", OWNER, "let somebody in"),
    told("patch", "/api/v1/people/{name}", OWNER, "changed what somebody may do"),
    told("delete", "/api/v1/people/{name}", OWNER, "parted with somebody"),
    told("post", "/api/v1/people/{name}/invitation", OWNER, "made a new one-time code for somebody"),
    quiet("get", "/api/v1/history", KEEPER),
    told("get", "/api/v1/history/rows", KEEPER, "took the history out"),
    quiet("post", "/api/v1/history/check", KEEPER),
    quiet("get", "/api/v1/activity", LOOKER),
    quiet("get", "/api/v1/arrivals", LOOKER),
    told("post", "/api/v1/arrivals", BENCH, "expects a board"),
    quiet("get", "/api/v1/arrivals/{id}", LOOKER),
    told("patch", "/api/v1/arrivals/{id}", BENCH, "told what is seen of a board"),
    told("post", "/api/v1/arrivals/{id}/end", BENCH, "ended an arrival"),
    quiet("get", "/api/v1/arrivals/{id}/first-join", LOOKER),
    told("post", "/api/v1/arrivals/{id}/first-join", BENCH, "handed settings over to a board"),
    told("post", "/api/v1/arrivals/{id}/first-join/values", BENCH, "read the settings of a first join"),
    quiet("get", "/api/v1/arrivals/{id}/serial", LOOKER),
    told("put", "/api/v1/arrivals/{id}/serial", BENCH, "listens at a serial line"),
    told("delete", "/api/v1/arrivals/{id}/serial", BENCH, "stopped listening at a serial line"),
    told("put", "/api/v1/arrivals/{id}/steps/{place}", BENCH, "did a step of an arrival"),
    quiet("get", "/api/v1/attention", LOOKER),
    told("post", "/api/v1/backup-images", BENCH, "brought a disk image in as a backup"),
    quiet("get", "/api/v1/backup-intervals", LOOKER),
    told("put", "/api/v1/backup-intervals", KEEPER, "changed how often backups are due"),
    quiet("get", "/api/v1/backups", LOOKER),
    told("post", "/api/v1/backups", BENCH, "takes a backup"),
    quiet("get", "/api/v1/backups/{name}", LOOKER),
    told("delete", "/api/v1/backups/{name}", OWNER, "let a backup go"),
    told("patch", "/api/v1/backups/{name}", BENCH, "changed a backup's note, device or hold"),
    told("get", "/api/v1/backups/{name}/archive", BENCH, "took files out of a backup"),
    told("get", "/api/v1/backups/{name}/file", BENCH, "read a file of a backup"),
    quiet("get", "/api/v1/backups/{name}/folder", LOOKER),
    told("get", "/api/v1/backups/{name}/image", BENCH, "took an image out of a backup"),
    told("post", "/api/v1/backups/{name}/proofs", BENCH, "has a backup proven"),
    quiet("get", "/api/v1/backups/{name}/sharing", BENCH),
    told("get", "/api/v1/backups/{name}/sharing/image", BENCH, "took an image for sharing out of a backup"),
    quiet("get", "/api/v1/bench", LOOKER),
    quiet("get", "/api/v1/notice-matters", LOOKER),
    quiet("get", "/api/v1/notice-ways", LOOKER),
    told("post", "/api/v1/notice-ways", OWNER, "said who is told"),
    told("delete", "/api/v1/notice-ways/{name}", OWNER, "said who is told no more"),
    told("post", "/api/v1/notice-ways/{name}/try", OWNER, "tried whether notices arrive"),
    quiet("get", "/api/v1/notices", LOOKER),
    quiet("get", "/api/v1/benches", LOOKER),
    told("post", "/api/v1/benches", OWNER, "added a bench"),
    told("post", "/api/v1/benches/{name}/code", OWNER, "made a code for a bench"),
    told("delete", "/api/v1/benches/{name}", OWNER, "removed a bench"),
    told("put", "/api/v1/bench/slots", OWNER, "changed which places are slots"),
    quiet("get", "/api/v1/boards", LOOKER),
    told("put", "/api/v1/boards/{name}", KEEPER, "changed a board model"),
    quiet("get", "/api/v1/card-lots", LOOKER),
    told("post", "/api/v1/card-plans", BENCH, "planned work on a card"),
    quiet("get", "/api/v1/cards", LOOKER),
    quiet("get", "/api/v1/cards/{label}", LOOKER),
    told("patch", "/api/v1/cards/{label}", BENCH, "changed a card"),
    quiet("get", "/api/v1/catalogue", LOOKER),
    quiet("get", "/api/v1/comparison", LOOKER),
    told("post", "/api/v1/comparison", BENCH, "has two images compared"),
    told("get", "/api/v1/comparison/file", BENCH, "read a file of two images"),
    quiet("get", "/api/v1/device-table", LOOKER),
    told("post", "/api/v1/device-table", KEEPER, "read a table of devices in"),
    quiet("get", "/api/v1/devices", LOOKER),
    told("post", "/api/v1/devices", KEEPER, "added a device"),
    quiet("get", "/api/v1/devices/{name}", LOOKER),
    told("delete", "/api/v1/devices/{name}", OWNER, "removed a device"),
    told("patch", "/api/v1/devices/{name}", KEEPER, "changed a device"),
    quiet("get", "/api/v1/devices/{name}/arrival", LOOKER),
    quiet("get", "/api/v1/devices/{name}/choices", LOOKER),
    quiet("get", "/api/v1/devices/{name}/exports", LOOKER),
    told("post", "/api/v1/devices/{name}/exports", BENCH, "took an export of a device"),
    told("get", "/api/v1/devices/{name}/exports/{id}", BENCH, "read an export"),
    told("get", "/api/v1/devices/{name}/exports/{id}/changes", BENCH, "read what an export changed"),
    told("post", "/api/v1/devices/{name}/exports/{id}/give", BENCH, "gave an export back to a device"),
    told("get", "/api/v1/devices/{name}/facts/{fact}", KEEPER, "read a sealed fact"),
    told("put", "/api/v1/devices/{name}/facts/{fact}", KEEPER, "changed a sealed fact"),
    told("put", "/api/v1/devices/{name}/following", KEEPER, "changed what a device follows"),
    quiet("get", "/api/v1/devices/{name}/headroom", LOOKER),
    quiet("get", "/api/v1/devices/{name}/photo", LOOKER),
    told("put", "/api/v1/devices/{name}/photo", BENCH, "took a photo of a device"),
    told("delete", "/api/v1/devices/{name}/photo", BENCH, "took a device's photo away"),
    quiet("get", "/api/v1/devices/{name}/photo/content", LOOKER),
    quiet("get", "/api/v1/devices/{name}/preview", LOOKER),
    told("patch", "/api/v1/devices/{name}/settings", KEEPER, "changed a device's settings"),
    quiet("get", "/api/v1/devices/{name}/sighting", LOOKER),
    told("get", "/api/v1/devices/{name}/versions", BENCH, "read the versions of a file"),
    told("post", "/api/v1/drift", BENCH, "has a card compared with its imprint"),
    quiet("get", "/api/v1/events", LOOKER),
    told("post", "/api/v1/faults", BENCH, "told what was seen of a card"),
    quiet("get", "/api/v1/feeds", LOOKER),
    told("put", "/api/v1/feeds/{name}", KEEPER, "changed a feed"),
    told("delete", "/api/v1/feeds/{name}", KEEPER, "removed a feed"),
    told("post", "/api/v1/feeds/{name}/look", KEEPER, "looked at a feed"),
    quiet("get", "/api/v1/folder", LOOKER),
    quiet("get", "/api/v1/jobs", LOOKER),
    quiet("get", "/api/v1/jobs/{id}", LOOKER),
    at_once("post", "/api/v1/jobs/{id}/cancel", BENCH, "cancelled a job"),
    told("post", "/api/v1/jobs/{id}/seen", BENCH, "saw to a job that failed"),
    quiet("get", "/api/v1/keep", LOOKER),
    told("put", "/api/v1/keep", OWNER, "changed how long backups are kept"),
    told("post", "/api/v1/keep/now", OWNER, "let backups go by the rules"),
    quiet("get", "/api/v1/networks", LOOKER),
    quiet("get", "/api/v1/outages", LOOKER),
    told("post", "/api/v1/outages", BENCH, "said that a device is down"),
    told("post", "/api/v1/outages/end", BENCH, "said that a device works again"),
    told("post", "/api/v1/plans", BENCH, "planned a write"),
    told("post", "/api/v1/plans/{id}/confirm", BENCH, "confirmed a plan"),
    quiet("get", "/api/v1/presets", LOOKER),
    told("post", "/api/v1/presets", KEEPER, "made a preset"),
    quiet("get", "/api/v1/presets/{name}", LOOKER),
    told("delete", "/api/v1/presets/{name}", KEEPER, "removed a preset"),
    told("patch", "/api/v1/presets/{name}", KEEPER, "changed a preset"),
    told("patch", "/api/v1/presets/{name}/settings", KEEPER, "changed a preset's values"),
    quiet("get", "/api/v1/presets/{name}/touches", LOOKER),
    quiet("get", "/api/v1/releases", LOOKER),
    told("post", "/api/v1/releases", KEEPER, "adds a release"),
    quiet("get", "/api/v1/releases/{name}", LOOKER),
    told("delete", "/api/v1/releases/{name}", OWNER, "removed a release"),
    quiet("get", "/api/v1/releases/{name}/archive", LOOKER),
    quiet("get", "/api/v1/releases/{name}/carriers", LOOKER),
    told("put", "/api/v1/releases/{name}/current", KEEPER, "made a release current"),
    told("post", "/api/v1/releases/{name}/evidence", BENCH, "told what was seen of a release"),
    quiet("get", "/api/v1/releases/{name}/file", LOOKER),
    quiet("get", "/api/v1/releases/{name}/folder", LOOKER),
    quiet("get", "/api/v1/releases/{name}/image", LOOKER),
    quiet("get", "/api/v1/releases/{name}/original", LOOKER),
    told("put", "/api/v1/releases/{name}/sheet", KEEPER, "changed a release's sheet"),
    told("put", "/api/v1/releases/{name}/state", KEEPER, "changed a release's state"),
    quiet("get", "/api/v1/rounds", LOOKER),
    told("post", "/api/v1/rounds", BENCH, "planned a round"),
    quiet("get", "/api/v1/rounds/{id}", LOOKER),
    told("post", "/api/v1/rounds/{id}/cards", BENCH, "named cards for a round"),
    told("post", "/api/v1/rounds/{id}/confirm", BENCH, "confirmed a round"),
    told("post", "/api/v1/rounds/{id}/entries/{place}/turn", BENCH, "changed an entry of a round"),
    quiet("get", "/api/v1/rounds/{id}/report", LOOKER),
    at_once("post", "/api/v1/rounds/{id}/turn", BENCH, "paused, resumed or ended a round"),
    quiet("get", "/api/v1/serial-ports", LOOKER),
    quiet("get", "/api/v1/services", LOOKER),
    quiet("get", "/api/v1/sites", LOOKER),
    told("put", "/api/v1/sites/{name}", KEEPER, "made a site"),
    told("patch", "/api/v1/sites/{name}", KEEPER, "changed a site"),
    quiet("get", "/api/v1/slots", LOOKER),
    told("put", "/api/v1/slots/{slot}/label", BENCH, "labelled a card"),
    told("post", "/api/v1/slots/{slot}/release", BENCH, "made a card safe to pull"),
    told("get", "/api/v1/slots/{slot}/file", BENCH, "read a file of a card"),
    quiet("get", "/api/v1/slots/{slot}/folder", LOOKER),
    quiet("get", "/api/v1/slots/{slot}/outlook", LOOKER),
    quiet("post", "/api/v1/uploads", BENCH),
    quiet("get", "/api/v1/uploads/{id}", BENCH),
    quiet("patch", "/api/v1/uploads/{id}", BENCH),
    quiet("get", "/api/v1/vault", LOOKER),
    quiet("get", "/api/v1/vault/contents", LOOKER),
    told("post", "/api/v1/vault/copies", KEEPER, "has the vault copied"),
    told("post", "/api/v1/vault/inspections", KEEPER, "has the vault inspected"),
    told("post", "/api/v1/vault/key", OWNER, "changed the key of the vault"),
    told("post", "/api/v1/vault/records", KEEPER, "has the records kept in the vault"),
    told("post", "/api/v1/vault/reindex", OWNER, "put back what the vault knows"),
    told("post", "/api/v1/vault/tidyings", KEEPER, "has the vault tidied"),
];

/// Who may call a route, by its method and its path as in the OpenAPI document.
pub fn access(method: &str, path: &str) -> Option<&'static Access> {
    ACCESS
        .iter()
        .find(|one| one.path == path && one.method.eq_ignore_ascii_case(method))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn roles_have_words_and_an_order() {
        for pair in Role::ALL.windows(2) {
            assert!(pair[0] < pair[1]);
        }
        for role in Role::ALL {
            assert_eq!(role.name().parse(), Ok(role));
            let word = serde_json::to_string(&role).unwrap();
            assert_eq!(word, format!("{:?}", role.name()));
        }
        assert_eq!(Role::named("Bench-Hand"), Some(Role::BenchHand));
        assert!("boss".parse::<Role>().is_err());
    }

    #[test]
    fn each_route_stands_once() {
        for (place, one) in ACCESS.iter().enumerate() {
            let again = ACCESS[place + 1..]
                .iter()
                .any(|other| (other.method, other.path) == (one.method, one.path));
            assert!(!again, "{} {}", one.method, one.path);
            let changes = one.method != "get" && one.role.is_some();
            let told = one.act.is_some()
                || one.path.starts_with("/api/v1/uploads")
                || one.path == "/api/v1/history/check";
            assert!(
                !changes || told,
                "{} {} changes something and is not in the history",
                one.method,
                one.path
            );
        }
    }
}
