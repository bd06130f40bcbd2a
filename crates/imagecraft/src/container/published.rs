//! A checksum that a publisher gives beside a file: the digits alone, or a checksum file with a
//! line for each of several files.

/// A published SHA-256 and the file that it is for, if it says.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Published {
    lines: Vec<(String, Option<String>)>,
}

/// Why a published checksum cannot be used.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum PublishedError {
    /// No SHA-256 in the text.
    #[error("there is no SHA-256 in it; that is 64 hex digits, alone or in a checksum file")]
    None,
    /// Several files, none of them this one.
    #[error("it has no line for {wanted}; it has lines for {held}")]
    OtherFiles {
        /// The file that was looked for.
        wanted: String,
        /// The files that have a line.
        held: String,
    },
}

impl Published {
    /// Reads 64 hex digits, lines of digits and file name, or lines `SHA256 (name) = digits`.
    pub fn parse(text: &str) -> Result<Self, PublishedError> {
        let lines: Vec<_> = text.lines().filter_map(line).collect();
        if lines.is_empty() {
            return Err(PublishedError::None);
        }
        Ok(Self { lines })
    }

    /// The digest in lower-case hex that counts for a file known under any of `names`: the one
    /// whose line names it, or the only one there is.
    pub fn digest_for(&self, names: &[&str]) -> Result<&str, PublishedError> {
        let last = |name: &str| name.rsplit(['/', '\\']).next().unwrap_or("").to_owned();
        let named = self.lines.iter().find(|(_, name)| {
            name.as_ref()
                .is_some_and(|name| names.iter().any(|wanted| last(name) == last(wanted)))
        });
        match (named, self.lines.as_slice()) {
            (Some((digest, _)), _) | (None, [(digest, _)]) => Ok(digest),
            _ => Err(PublishedError::OtherFiles {
                wanted: names.first().copied().unwrap_or_default().into(),
                held: self
                    .lines
                    .iter()
                    .filter_map(|(_, name)| name.clone())
                    .collect::<Vec<_>>()
                    .join(", "),
            }),
        }
    }
}

fn line(text: &str) -> Option<(String, Option<String>)> {
    let text = text.trim();
    if let Some(rest) = text.strip_prefix("SHA256 (") {
        let (name, digest) = rest.rsplit_once(") = ")?;
        return Some((digits(digest)?, Some(name.into())));
    }
    let (first, rest) = text.split_once(char::is_whitespace).unwrap_or((text, ""));
    let name = rest.trim_start().trim_start_matches('*');
    Some((digits(first)?, (!name.is_empty()).then(|| name.into())))
}

fn digits(text: &str) -> Option<String> {
    let fits = text.len() == 64 && text.bytes().all(|byte| byte.is_ascii_hexdigit());
    fits.then(|| text.to_lowercase())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn digits_and_checksum_files_are_read() {
        let (a, b) = ("A".repeat(64), "b".repeat(64));
        let alone = Published::parse(&format!("  {a}\n")).unwrap();
        assert_eq!(alone.digest_for(&["any"]).unwrap(), "a".repeat(64));
        let file = format!("# sums\n{a}  readme.txt\n{b} *images/quaylink.img.xz\n");
        let file = Published::parse(&file).unwrap();
        assert_eq!(file.digest_for(&["quaylink.img.xz"]).unwrap(), b);
        assert_eq!(
            file.digest_for(&["other", "readme.txt"]).unwrap(),
            "a".repeat(64)
        );
        let error = file.digest_for(&["other"]).unwrap_err().to_string();
        assert_eq!(
            error,
            "it has no line for other; it has lines for readme.txt, images/quaylink.img.xz"
        );
        let tagged = Published::parse(&format!("SHA256 (x (1).img) = {b}")).unwrap();
        assert_eq!(tagged.digest_for(&["x (1).img"]).unwrap(), b);
        for text in ["", "abc", "md5 d41d8cd98f00b204e9800998ecf8427e"] {
            assert!(
                matches!(Published::parse(text), Err(PublishedError::None)),
                "{text}"
            );
        }
    }
}
