//! What a slot is called: its number, and the bench that it is at.

use std::borrow::Cow;
use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Deserializer, Serialize, Serializer, de};
use utoipa::openapi::schema::{ObjectBuilder, OneOfBuilder, Type};
use utoipa::openapi::{RefOr, Schema};
use utoipa::{PartialSchema, ToSchema};

/// Most letters of a bench's name.
pub const BENCH_LETTERS: usize = 15;

/// A name of a bench: so short that it travels along with each number of a slot.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default)]
struct BenchName {
    letters: [u8; BENCH_LETTERS],
}

impl BenchName {
    fn of(name: &str) -> Option<Self> {
        let plain = |byte: u8| byte.is_ascii_lowercase() || byte.is_ascii_digit() || byte == b'-';
        let begins = name.starts_with(|c: char| c.is_ascii_lowercase());
        if !begins || name.len() > BENCH_LETTERS || !name.bytes().all(plain) || name.ends_with('-')
        {
            return None;
        }
        let mut letters = [0; BENCH_LETTERS];
        letters[..name.len()].copy_from_slice(name.as_bytes());
        Some(Self { letters })
    }

    fn text(&self) -> &str {
        let len = self.letters.iter().position(|byte| *byte == 0);
        std::str::from_utf8(&self.letters[..len.unwrap_or(BENCH_LETTERS)]).unwrap_or_default()
    }
}

/// Whether a bench may be called so: 1 to 15 small letters, digits and dashes, a letter first, no dash last.
pub fn is_bench_name(name: &str) -> bool {
    BenchName::of(name).is_some()
}

/// A slot. At the service's own computer it goes by its number, at another bench by that and the bench's name: in
/// sentences "slot 2 of loft", where it is typed `loft:2`.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default)]
pub struct SlotName {
    bench: BenchName,
    number: u32,
}

impl SlotName {
    /// A slot of the service's own computer.
    pub fn here(number: u32) -> Self {
        Self {
            bench: BenchName::default(),
            number,
        }
    }

    /// A slot of another bench; nothing if no bench can be called so.
    pub fn at(bench: &str, number: u32) -> Option<Self> {
        let bench = BenchName::of(bench)?;
        Some(Self { bench, number })
    }

    /// The bench, if it is not the service's own computer.
    pub fn bench(&self) -> Option<&str> {
        let name = self.bench.text();
        (!name.is_empty()).then_some(name)
    }

    /// Its number at its bench.
    pub fn number(&self) -> u32 {
        self.number
    }

    /// As it is typed, and recorded.
    pub fn typed(&self) -> String {
        match self.bench() {
            None => self.number.to_string(),
            Some(bench) => format!("{bench}:{}", self.number),
        }
    }
}

impl From<u32> for SlotName {
    fn from(number: u32) -> Self {
        Self::here(number)
    }
}

/// As it stands in a sentence, behind the word slot.
impl fmt::Display for SlotName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.bench() {
            None => write!(f, "{}", self.number),
            Some(bench) => write!(f, "{} of {bench}", self.number),
        }
    }
}

impl fmt::Debug for SlotName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.typed())
    }
}

impl FromStr for SlotName {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let wrong = || {
            format!(
                "\"{text}\" is no slot; say its number, or for one at another bench its name too, as in loft:2"
            )
        };
        let (bench, number) = match text.trim().split_once(':') {
            None => (BenchName::default(), text.trim()),
            Some((bench, number)) => (BenchName::of(bench).ok_or_else(wrong)?, number),
        };
        let number = number.parse().map_err(|_| wrong())?;
        Ok(Self { bench, number })
    }
}

impl Serialize for SlotName {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        match self.bench() {
            None => serializer.serialize_u32(self.number),
            Some(_) => serializer.serialize_str(&self.typed()),
        }
    }
}

impl<'de> Deserialize<'de> for SlotName {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Visitor;

        impl de::Visitor<'_> for Visitor {
            type Value = SlotName;

            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("a slot: its number, or a bench and a number as in \"loft:2\"")
            }

            fn visit_u64<E: de::Error>(self, number: u64) -> Result<SlotName, E> {
                let number = u32::try_from(number).map_err(E::custom)?;
                Ok(SlotName::here(number))
            }

            fn visit_i64<E: de::Error>(self, number: i64) -> Result<SlotName, E> {
                let number = u32::try_from(number).map_err(E::custom)?;
                Ok(SlotName::here(number))
            }

            fn visit_str<E: de::Error>(self, text: &str) -> Result<SlotName, E> {
                text.parse().map_err(E::custom)
            }
        }

        deserializer.deserialize_any(Visitor)
    }
}

impl PartialSchema for SlotName {
    fn schema() -> RefOr<Schema> {
        let number = ObjectBuilder::new()
            .schema_type(Type::Integer)
            .description(Some("A slot of the service's own computer."));
        let text = ObjectBuilder::new()
            .schema_type(Type::String)
            .description(Some(
                "A slot of another bench: its name and the slot's number, as in `loft:2`.",
            ));
        OneOfBuilder::new().item(number).item(text).into()
    }
}

impl ToSchema for SlotName {
    fn name() -> Cow<'static, str> {
        "SlotName".into()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn slots_are_typed_said_and_sent() {
        let here = SlotName::here(3);
        let there: SlotName = "loft:2".parse().unwrap();
        assert_eq!(
            (here.to_string(), there.to_string()),
            ("3".into(), "2 of loft".into())
        );
        assert_eq!((here.typed(), there.typed()), ("3".into(), "loft:2".into()));
        assert_eq!(there.bench(), Some("loft"));
        assert!(here < there, "those of the own computer come first");
        for slot in [here, there] {
            let json = serde_json::to_string(&slot).unwrap();
            assert_eq!(serde_json::from_str::<SlotName>(&json).unwrap(), slot);
            assert_eq!(slot.typed().parse::<SlotName>().unwrap(), slot);
        }
        assert_eq!(serde_json::to_string(&here).unwrap(), "3");
        for wrong in [
            "",
            "x",
            "-1",
            "Loft:2",
            "loft:",
            ":2",
            "a-bench-too-long:1",
            "loft-:1",
            "1st:1",
            "a:b:1",
        ] {
            assert!(wrong.parse::<SlotName>().is_err(), "{wrong}");
        }
    }
}
