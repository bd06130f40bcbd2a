//! The release sheet that lies beside an image.

use std::io::{self, Read};
use std::path::{Path, PathBuf};

/// Longest release sheet that is read, in bytes.
const MOST_SHEET: u64 = 1 << 20;

/// Reads a release sheet, unless it is longer than any is.
///
/// # Errors
/// The file cannot be read, is no text, or is too long to be a sheet.
pub fn read_sheet(path: &Path) -> io::Result<String> {
    let mut text = String::new();
    let file = std::fs::File::open(path)?;
    let read = file.take(MOST_SHEET + 1).read_to_string(&mut text)?;
    match read as u64 > MOST_SHEET {
        true => Err(io::Error::other(format!(
            "it is longer than {MOST_SHEET} bytes, which no release sheet is"
        ))),
        false => Ok(text),
    }
}

/// The sheet beside an image: its name with `.toml` behind, or in place of some of its endings.
/// `quaylink-2.4.img.xz` goes with `quaylink-2.4.img.xz.toml`, `quaylink-2.4.img.toml` and
/// `quaylink-2.4.toml`.
pub fn sheet_beside(image: &Path) -> Option<PathBuf> {
    let mut stem = image.file_name()?.to_str()?;
    loop {
        let path = image.with_file_name(format!("{stem}.toml"));
        if path.is_file() {
            return Some(path);
        }
        let (shorter, ending) = stem.rsplit_once('.')?;
        // The number of a version is no ending.
        if ending.starts_with(|c: char| c.is_ascii_digit()) {
            return None;
        }
        stem = shorter;
    }
}
