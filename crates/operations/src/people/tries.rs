//! How long to wait after wrong passwords, codes and PINs: longer with each, never for good.
//!
//! A try is counted before anything is looked at, so that many at once are no way around the count. It is counted where it
//! comes from, so that those of a stranger keep nobody else waiting.

use std::net::IpAddr;
use std::time::Duration;

use crate::refusal::{Refusal, Why};

/// How long a wrong try counts.
const HOUR: Duration = Duration::from_secs(3600);
/// The longest wait at one place.
const LONGEST: Duration = Duration::from_secs(60);
/// How long it is remembered that a PIN was guessed at, unless its owner signs in with the password before.
const PIN_OFF: Duration = Duration::from_secs(30 * 86_400);

/// Where a try comes from.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Place {
    /// A browser or program that this person was signed in with before.
    Device(String),
    /// An address from which this person was signed in before.
    Familiar(String),
    /// Any other address.
    Strange(String),
}

/// Where a try is counted, and from how many wrong ones on there is a wait.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Count {
    /// The name of the count.
    pub key: String,
    /// How long a wrong try counts there.
    pub kept: Duration,
    /// Wrong tries that cost nothing.
    free: i32,
    /// The wait after the first that does; each further one doubles it.
    first: Duration,
    /// The longest wait.
    longest: Duration,
    /// Whether it begins anew when something right was given.
    pub anew: bool,
}

impl Count {
    fn new(key: String, free: i32) -> Self {
        Self {
            key,
            kept: HOUR,
            free,
            first: Duration::from_secs(1),
            longest: LONGEST,
            anew: false,
        }
    }

    /// How long still to wait, after so many wrong tries, the last of which is so many seconds ago.
    pub fn wait(&self, wrong: i32, ago: f64) -> Option<Duration> {
        if wrong < self.free || ago >= self.kept.as_secs_f64() {
            return None;
        }
        let doubled = 1_u32 << wrong.saturating_sub(self.free).clamp(0, 10);
        let whole = self.first.saturating_mul(doubled).min(self.longest);
        let rest = whole.as_secs_f64() - ago.max(0.0);
        (rest > 0.0).then(|| Duration::from_secs_f64(rest))
    }
}

/// The part of an address that one household or server has to itself: all of it, or 64 bits of an IPv6 address.
pub fn address(origin: &str) -> String {
    match origin
        .parse::<IpAddr>()
        .map(|address| address.to_canonical())
    {
        Ok(IpAddr::V6(address)) => {
            let [a, b, c, d, ..] = address.segments();
            format!("{a:x}:{b:x}:{c:x}:{d:x}::/64")
        }
        Ok(address) => address.to_string(),
        Err(_) => origin.chars().take(60).collect(),
    }
}

/// Where a try of somebody's password is counted.
pub fn of_password(who: &str, place: &Place) -> Vec<Count> {
    let at = |place: &str| Count {
        anew: true,
        ..Count::new(format!("{who} at {place}"), 5)
    };
    match place {
        Place::Device(device) => vec![at(device)],
        Place::Familiar(address) => vec![at(address), of_address(address)],
        Place::Strange(address) => vec![
            at(address),
            of_address(address),
            Count {
                first: Duration::from_secs(10),
                longest: Duration::from_secs(10),
                ..Count::new(format!("{who} at strange places"), 300)
            },
        ],
    }
}

/// Where a try of a code of a second factor is counted: only whoever has the password gets there.
pub fn of_factor(person: i64) -> Vec<Count> {
    vec![Count {
        anew: true,
        ..Count::new(format!("second factor of {person}"), 10)
    }]
}

/// Where a try of a one-time code is counted: nobody guesses a hundred bits, but who tries shall not keep us at work.
pub fn of_code(origin: &str) -> Vec<Count> {
    vec![Count::new(format!("codes from {}", address(origin)), 30)]
}

/// Where a try of a PIN at a station is counted.
pub fn of_pin(who: &str, station: i64) -> Vec<Count> {
    vec![
        Count {
            anew: true,
            ..Count::new(format!("PIN of {who} at station {station}"), 5)
        },
        Count {
            kept: PIN_OFF,
            first: PIN_OFF,
            longest: PIN_OFF,
            anew: true,
            ..Count::new(pins_of(who), 20)
        },
    ]
}

/// Where wrong PINs of somebody are counted, until they sign in with the password.
pub fn pins_of(who: &str) -> String {
    format!("PIN of {who}")
}

fn of_address(address: &str) -> Count {
    Count::new(format!("from {address}"), 30)
}

/// What whoever must wait is told.
pub fn too_often(left: Duration) -> Refusal {
    if left > HOUR {
        let detail = "this PIN was guessed at too often and is not taken any more; sign in with the password once, on any \
                      computer, and it is taken again";
        return Refusal::new(Why::TooOften, "pin-off", detail);
    }
    let detail = format!(
        "that was wrong too often; try again in {} seconds",
        left.as_secs() + 1
    );
    Refusal::new(Why::TooOften, "too-often", detail)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn waits_grow_and_end() {
        let place = Place::Strange("10.0.0.7".into());
        let counts = of_password("person 3", &place);
        let [pair, address, all] = counts.as_slice() else {
            panic!("{counts:?}");
        };
        assert_eq!(pair.wait(4, 0.0), None);
        assert_eq!(pair.wait(5, 0.0), Some(Duration::from_secs(1)));
        assert_eq!(pair.wait(8, 2.0), Some(Duration::from_secs(6)));
        for wrong in [12, 1000, i32::MAX] {
            assert_eq!(pair.wait(wrong, 0.0), Some(LONGEST));
            assert_eq!(pair.wait(wrong, 60.0), None);
        }
        assert_eq!(pair.wait(1000, -5.0), Some(LONGEST));
        assert_eq!(pair.wait(1000, 3600.0), None);
        assert_eq!(address.wait(29, 0.0), None);
        assert_eq!(address.wait(30, 0.0), Some(Duration::from_secs(1)));
        assert_eq!(all.wait(299, 0.0), None);
        assert_eq!(all.wait(9999, 0.0), Some(Duration::from_secs(10)));
    }

    #[test]
    fn strangers_are_counted_elsewhere_than_those_who_were_here_before() {
        let keys = |place| -> Vec<_> {
            let counts = of_password("person 3", &place);
            counts.into_iter().map(|count| count.key).collect()
        };
        let device = keys(Place::Device("a device".into()));
        let familiar = keys(Place::Familiar("10.0.0.8".into()));
        let strange = keys(Place::Strange("10.0.0.7".into()));
        assert!(
            strange
                .iter()
                .all(|key| !device.contains(key) && !familiar.contains(key))
        );
    }

    #[test]
    fn an_address_is_what_somebody_has_to_themselves() {
        assert_eq!(address("10.0.0.7"), "10.0.0.7");
        assert_eq!(address("::ffff:10.0.0.7"), "10.0.0.7");
        assert_eq!(address("2001:db8:1:2:a::1"), address("2001:db8:1:2:b::9"));
        assert_ne!(address("2001:db8:1:2::1"), address("2001:db8:1:3::1"));
        assert_eq!(address(&"x".repeat(500)).len(), 60);
    }

    #[test]
    fn a_pin_that_was_guessed_at_is_off_until_the_password_is_said() {
        let counts = of_pin("person 3", 9);
        assert_eq!(counts[1].wait(19, 0.0), None);
        let left = counts[1].wait(20, 86_400.0).unwrap();
        assert_eq!(too_often(left).code, "pin-off");
        assert_eq!(too_often(LONGEST).code, "too-often");
    }
}
