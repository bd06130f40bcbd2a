//! The release sheet that lies beside an image.

use std::path::{Path, PathBuf};

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
