//! What two sheets differ in, key by key.

use std::collections::BTreeMap;

/// A key whose value differs.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct KeyChange {
    /// The key, with the tables it stands in: `card.smallest_gb`, `fields.host_name.required`.
    pub key: String,
    /// Value in the one sheet.
    pub before: Option<String>,
    /// Value in the other sheet.
    pub after: Option<String>,
}

/// Compares the texts of two sheets. A text that is no TOML counts as empty.
pub fn compare_sheets(before: &str, after: &str) -> Vec<KeyChange> {
    let (mut one, mut two) = (flat(before), flat(after));
    let keys: std::collections::BTreeSet<_> = one.keys().chain(two.keys()).cloned().collect();
    keys.into_iter()
        .map(|key| KeyChange {
            before: one.remove(&key),
            after: two.remove(&key),
            key,
        })
        .filter(|change| change.before != change.after)
        .collect()
}

fn flat(text: &str) -> BTreeMap<String, String> {
    let mut found = BTreeMap::new();
    if let Ok(table) = text.parse::<toml::Table>() {
        flatten("", &toml::Value::Table(table), &mut found);
    }
    found
}

fn flatten(at: &str, value: &toml::Value, found: &mut BTreeMap<String, String>) {
    let below = |name: &str| match at {
        "" => name.to_owned(),
        _ => format!("{at}.{name}"),
    };
    match value {
        toml::Value::Table(table) => {
            for (name, value) in table {
                flatten(&below(name), value, found);
            }
        }
        toml::Value::Array(items) if items.iter().any(toml::Value::is_table) => {
            for (number, item) in items.iter().enumerate() {
                // Fields and placements are told by what names them, not by their order.
                let name = ["name", "path", "title", "user"]
                    .iter()
                    .find_map(|key| item.get(key)?.as_str());
                let name = name.map_or_else(|| (number + 1).to_string(), str::to_owned);
                flatten(&below(&name), item, found);
            }
        }
        toml::Value::String(text) => {
            found.insert(at.into(), text.clone());
        }
        other => {
            found.insert(at.into(), other.to_string());
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn keys_are_compared_whatever_their_order() {
        let before = "version = \"1\"\nboards = [\"a\"]\n[card]\nsmallest_gb = 4.0\n\
             [[fields]]\nname = \"x\"\nlabel = \"X\"\n[[fields]]\nname = \"y\"\nlabel = \"Y\"\n";
        let after = "version = \"2\"\nboards = [\"a\"]\n\
             [[fields]]\nname = \"y\"\nlabel = \"Why\"\n[[fields]]\nname = \"x\"\nlabel = \"X\"\n";
        let changes: Vec<_> = compare_sheets(before, after)
            .into_iter()
            .map(|change| (change.key, change.before, change.after))
            .collect();
        let word = |text: &str| Some(text.to_owned());
        assert_eq!(
            changes,
            [
                ("card.smallest_gb".into(), word("4.0"), None),
                ("fields.y.label".into(), word("Y"), word("Why")),
                ("version".into(), word("1"), word("2")),
            ]
        );
    }
}
