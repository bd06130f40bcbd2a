//! Edits of an existing text file that keep the rest byte for byte, line endings included.

use serde::{Deserialize, Serialize};

/// One edit, as a sheet declares it: exactly one of `key`, `line`, `block` and `record`.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Edit {
    /// Sets this key of `key = value` lines. Needs `value`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key: Option<String>,
    /// The section, as in `[name]`, that the key stands in; without it the lines in front of all
    /// sections.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub section: Option<String>,
    /// Switches this line on or off by its comment mark. Needs `on`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub line: Option<String>,
    /// Expression that says whether the line is on.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub on: Option<String>,
    /// Puts a block between marks with this name. Needs `value`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub block: Option<String>,
    /// Sets a column of the line whose first column this is, in a file of columns with colons
    /// between them, as passwd(5) and shadow(5). Needs `column` and `value`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub record: Option<String>,
    /// Which column, from 1.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub column: Option<usize>,
    /// Template of the new value.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub value: Option<String>,
    /// What begins a comment; `#` if it is not said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub comment: Option<String>,
    /// Expression; the edit is made only if it holds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub when: Option<String>,
}

/// An edit with its values filled in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Filled<'a> {
    /// A key set.
    Key {
        /// Its section, if it stands in one.
        section: Option<&'a str>,
        /// The key.
        key: &'a str,
        /// Its new value.
        value: String,
        /// What begins a comment.
        comment: &'a str,
    },
    /// A line switched.
    Line {
        /// The line without its mark.
        line: &'a str,
        /// Whether it counts.
        on: bool,
        /// What begins a comment.
        comment: &'a str,
    },
    /// A block put.
    Block {
        /// Its name.
        name: &'a str,
        /// What stands in it.
        content: String,
        /// What begins a comment.
        comment: &'a str,
    },
    /// A column set.
    Record {
        /// The first column of its line.
        record: &'a str,
        /// Which column, from 1.
        column: usize,
        /// Its new value.
        value: String,
    },
}

/// A line and what ends it.
#[derive(Clone, Debug)]
struct Line {
    text: String,
    ending: &'static str,
}

/// The lines of a text file.
struct Text {
    lines: Vec<Line>,
    /// How its lines end.
    ending: &'static str,
}

impl Text {
    fn parse(text: &str) -> Self {
        let lines: Vec<Line> = text
            .split_inclusive('\n')
            .map(|line| {
                let ending = match line {
                    line if line.ends_with("\r\n") => "\r\n",
                    line if line.ends_with('\n') => "\n",
                    _ => "",
                };
                Line {
                    text: line[..line.len() - ending.len()].into(),
                    ending,
                }
            })
            .collect();
        let ending = lines.first().map_or(
            "\n",
            |line| if line.ending == "\r\n" { "\r\n" } else { "\n" },
        );
        Self { lines, ending }
    }

    fn insert(&mut self, at: usize, text: impl Into<String>) {
        if let Some(last) = at
            .checked_sub(1)
            .and_then(|before| self.lines.get_mut(before))
            && last.ending.is_empty()
        {
            last.ending = self.ending;
        }
        self.lines.insert(
            at,
            Line {
                text: text.into(),
                ending: self.ending,
            },
        );
    }

    fn finish(self) -> String {
        let parts = self
            .lines
            .iter()
            .flat_map(|line| [line.text.as_str(), line.ending]);
        parts.collect()
    }

    /// The lines of a section, without its head; of the part in front of all sections for `None`.
    fn section(&self, wanted: Option<&str>) -> Option<std::ops::Range<usize>> {
        let head = |line: &Line| {
            let text = line.text.trim();
            text.strip_prefix('[')?.strip_suffix(']').map(str::to_owned)
        };
        let from = match wanted {
            None => 0,
            Some(name) => {
                let named = |line: &Line| head(line).is_some_and(|found| found.trim() == name);
                self.lines.iter().position(named)? + 1
            }
        };
        let end = self.lines[from..]
            .iter()
            .position(|line| head(line).is_some());
        Some(from..end.map_or(self.lines.len(), |end| from + end))
    }
}

/// Where the value of a `key = value` line begins, if it is one of this key.
fn value_at(line: &str, key: &str) -> Option<usize> {
    let rest = line.trim_start().strip_prefix(key)?;
    let rest = rest.trim_start().strip_prefix('=')?;
    Some(line.len() - rest.trim_start_matches([' ', '\t']).len())
}

/// A line without its comment mark, if it has one.
fn uncommented<'a>(line: &'a str, comment: &str) -> Option<&'a str> {
    let rest = line.trim_start().strip_prefix(comment)?;
    Some(rest.trim_start_matches(comment).trim())
}

fn set_key(text: &mut Text, section: Option<&str>, key: &str, value: &str, comment: &str) {
    let range = match text.section(section) {
        Some(range) => range,
        None => {
            let name = section.unwrap_or("");
            let end = text.lines.len();
            text.insert(end, format!("[{name}]"));
            end + 1..end + 1
        }
    };
    let mut found = false;
    for line in &mut text.lines[range.clone()] {
        if let Some(at) = value_at(&line.text, key) {
            line.text.replace_range(at.., value);
            found = true;
        }
    }
    if found {
        return;
    }
    let spaced = text.lines[range.clone()]
        .iter()
        .find_map(|line| Some(line.text.trim_start().split_once('=')?.0.ends_with(' ')));
    let new = match spaced {
        Some(true) => format!("{key} = {value}"),
        _ => format!("{key}={value}"),
    };
    // Where the key is explained, its line stands behind the explanation.
    let explained = text.lines[range.clone()].iter().position(|line| {
        uncommented(&line.text, comment).is_some_and(|line| value_at(line, key).is_some())
    });
    let at = match explained {
        Some(place) => range.start + place + 1,
        None => {
            let blank = |line: &&Line| line.text.trim().is_empty();
            let blanks = text.lines[range.clone()]
                .iter()
                .rev()
                .take_while(blank)
                .count();
            range.end - blanks
        }
    };
    text.insert(at, new);
}

fn switch_line(text: &mut Text, wanted: &str, on: bool, comment: &str) {
    let mut there = false;
    for line in &mut text.lines {
        let active = line.text.trim() == wanted;
        match on {
            true if active => there = true,
            false if active => {
                let indent = line.text.len() - line.text.trim_start().len();
                line.text.insert_str(indent, comment);
            }
            _ => {}
        }
    }
    if !on || there {
        return;
    }
    let marked = |line: &&mut Line| uncommented(&line.text, comment) == Some(wanted);
    if let Some(line) = text.lines.iter_mut().find(marked) {
        let indent = line.text.len() - line.text.trim_start().len();
        line.text.replace_range(indent.., wanted);
        return;
    }
    text.insert(text.lines.len(), wanted);
}

fn put_block(text: &mut Text, name: &str, content: &str, comment: &str) {
    let (begin, end) = (
        format!("{comment} begin {name}"),
        format!("{comment} end {name}"),
    );
    let place = |mark: &str, from: usize| {
        let rest = text.lines.get(from..)?;
        let found = rest.iter().position(|line| line.text.trim() == mark)?;
        Some(from + found)
    };
    let at = match place(&begin, 0).and_then(|from| Some((from, place(&end, from)?))) {
        Some((from, to)) => {
            text.lines.drain(from..=to);
            from
        }
        None => text.lines.len(),
    };
    let inside = content.lines();
    let lines = [begin.as_str()]
        .into_iter()
        .chain(inside)
        .chain([end.as_str()]);
    for (number, line) in lines.enumerate() {
        text.insert(at + number, line);
    }
}

fn set_column(text: &mut Text, record: &str, column: usize, value: &str) -> Result<(), String> {
    for line in &mut text.lines {
        let mut columns: Vec<&str> = line.text.split(':').collect();
        if columns[0] != record {
            continue;
        }
        let count = columns.len();
        let place = column.checked_sub(1).and_then(|at| columns.get_mut(at));
        let place = place
            .ok_or_else(|| format!("the line of {record:?} has {count} columns, not {column}"))?;
        *place = value;
        line.text = columns.join(":");
        return Ok(());
    }
    Err(format!("there is no line of {record:?}"))
}

impl Filled<'_> {
    /// Makes the edit.
    ///
    /// # Errors
    /// A line that must be there is not; a value that does not fit on one line.
    pub fn apply(&self, text: &str) -> Result<String, String> {
        let mut lines = Text::parse(text);
        match self {
            Self::Key { value, .. } | Self::Record { value, .. }
                if value.contains(['\n', '\r']) =>
            {
                return Err("a value of more than one line".into());
            }
            Self::Record { value, .. } if value.contains(':') => {
                return Err("a value with a colon, which ends a column".into());
            }
            Self::Key {
                section,
                key,
                value,
                comment,
            } => set_key(&mut lines, *section, key, value, comment),
            Self::Line { line, on, comment } => switch_line(&mut lines, line, *on, comment),
            Self::Block {
                name,
                content,
                comment,
            } => put_block(&mut lines, name, content, comment),
            Self::Record {
                record,
                column,
                value,
            } => set_column(&mut lines, record, *column, value)?,
        }
        Ok(lines.finish())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn key<'a>(section: Option<&'a str>, key: &'a str, value: &str) -> Filled<'a> {
        Filled::Key {
            section,
            key,
            value: value.into(),
            comment: "#",
        }
    }

    const CONFIG: &str = "# The kiosk.\r\nname = old\r\n\r\n[screen]\r\nwidth=800\r\n#height=600\r\n\r\n[sound]\r\nvolume = 3";

    #[test]
    fn keys_are_set_in_their_section_and_the_rest_stays() {
        let set = |edit: Filled<'_>| edit.apply(CONFIG).unwrap();
        assert_eq!(
            set(key(None, "name", "new")),
            CONFIG.replace("= old", "= new")
        );
        assert_eq!(
            set(key(Some("screen"), "width", "1024")),
            CONFIG.replace("800", "1024")
        );
        // Behind the line that explains it, as the section writes its keys.
        assert_eq!(
            set(key(Some("screen"), "height", "768")),
            CONFIG.replace("#height=600\r\n", "#height=600\r\nheight=768\r\n")
        );
        assert_eq!(
            set(key(Some("screen"), "depth", "16")),
            CONFIG.replace("#height=600\r\n", "#height=600\r\ndepth=16\r\n")
        );
        assert_eq!(
            set(key(Some("sound"), "device", "usb")),
            format!("{CONFIG}\r\ndevice = usb\r\n")
        );
        assert_eq!(
            set(key(Some("new"), "a", "b")),
            format!("{CONFIG}\r\n[new]\r\na=b\r\n")
        );
    }

    #[test]
    fn lines_are_switched_by_their_mark() {
        let text = "one\n  #two\n# three\nthree and more\n";
        let switch = |line, on| {
            let edit = Filled::Line {
                line,
                on,
                comment: "#",
            };
            let once = edit.apply(text).unwrap();
            assert_eq!(edit.apply(&once).unwrap(), once, "{line} {on}: again");
            once
        };
        assert_eq!(switch("one", false), text.replace("one", "#one"));
        assert_eq!(switch("one", true), text);
        assert_eq!(switch("two", true), text.replace("#two", "two"));
        assert_eq!(switch("three", true), text.replace("# three", "three"));
        assert_eq!(switch("four", true), format!("{text}four\n"));
        assert_eq!(switch("four", false), text);
    }

    #[test]
    fn a_block_is_put_once_and_replaced_in_its_place() {
        let block = |content: &str| Filled::Block {
            name: "hosts",
            content: content.into(),
            comment: "#",
        };
        let once = block("10.0.0.1 a\n10.0.0.2 b\n")
            .apply("127.0.0.1 localhost")
            .unwrap();
        assert_eq!(
            once,
            "127.0.0.1 localhost\n# begin hosts\n10.0.0.1 a\n10.0.0.2 b\n# end hosts\n"
        );
        let after = format!("{once}behind\n");
        let again = block("10.0.0.9 c").apply(&after).unwrap();
        assert_eq!(
            again,
            "127.0.0.1 localhost\n# begin hosts\n10.0.0.9 c\n# end hosts\nbehind\n"
        );
    }

    #[test]
    fn a_column_of_a_record_is_set_and_its_line_must_be_there() {
        let shadow = "root:*:19000:0:99999:7:::\nkeeper:!:19000:0:99999:7:::\n";
        let set = |record, column, value: &str| {
            let edit = Filled::Record {
                record,
                column,
                value: value.into(),
            };
            edit.apply(shadow)
        };
        let expected = shadow.replace("keeper:!", "keeper:$6$salt$hash");
        assert_eq!(set("keeper", 2, "$6$salt$hash").unwrap(), expected);
        assert!(set("nobody", 2, "x").unwrap_err().contains("nobody"));
        assert!(set("root", 20, "x").unwrap_err().contains("9 columns"));
        assert!(set("root", 2, "a:b").unwrap_err().contains("colon"));
    }

    proptest! {
        /// Whatever a file holds: lines that an edit is not about stay as they are, and the edit
        /// made again changes nothing.
        #[test]
        fn other_lines_stay(
            lines in proptest::collection::vec("[ #a-c=\\[\\]]{0,6}", 0..12),
            ending in prop_oneof![Just("\n"), Just("\r\n")],
            last in any::<bool>(),
        ) {
            let mut text = lines.join(ending);
            if last {
                text.push_str(ending);
            }
            let section = text.contains("[a]").then_some("a");
            for edit in [
                key(section, "k", "value"),
                Filled::Line { line: "d e", on: true, comment: "#" },
                Filled::Block { name: "x", content: "y\nz".into(), comment: ";" },
            ] {
                let once = edit.apply(&text).unwrap();
                prop_assert_eq!(&edit.apply(&once).unwrap(), &once, "again");
                let mut rest = once.lines();
                for line in text.lines() {
                    prop_assert!(rest.any(|found| found == line), "{:?} of {:?} in {:?}", line, text, once);
                }
            }
        }
    }
}
