//! Segments: objects that hold many sealed chunks, each with an index object that says where.
//!
//! The segment is stored first, its index after it; content counts as stored only with the index.

use crate::Name;

/// A segment is closed once it holds this many bytes.
pub const SEGMENT: usize = 16 << 20;
const FORMAT: u8 = 1;
const ROW: usize = 32 + 4 + 4;

/// Where a sealed chunk lies in its segment.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Row {
    /// Name of the content.
    pub name: Name,
    /// First byte in the segment.
    pub offset: u32,
    /// Length of the sealed form in bytes.
    pub len: u32,
}

/// An index as bytes: format, then 40 bytes a row.
pub fn encode(rows: &[Row]) -> Vec<u8> {
    let mut bytes = Vec::with_capacity(1 + rows.len() * ROW);
    bytes.push(FORMAT);
    for row in rows {
        bytes.extend(row.name.0);
        bytes.extend(row.offset.to_le_bytes());
        bytes.extend(row.len.to_le_bytes());
    }
    bytes
}

/// The rows of an index.
pub fn decode(bytes: &[u8]) -> Option<Vec<Row>> {
    let (format, rows) = bytes.split_first()?;
    if *format != FORMAT || rows.len() % ROW != 0 {
        return None;
    }
    let word = |raw: &[u8]| Some(u32::from_le_bytes(raw.try_into().ok()?));
    rows.chunks_exact(ROW)
        .map(|raw| {
            Some(Row {
                name: Name(raw[..32].try_into().ok()?),
                offset: word(&raw[32..36])?,
                len: word(&raw[36..])?,
            })
        })
        .collect()
}
