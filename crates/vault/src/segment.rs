//! Segments: objects that hold many pieces one behind the other, and describe themselves; and their indexes, which
//! say the same in short. An index can be made again from its segment, and nothing is lost with it.

use crate::keys::Name;
use crate::piece::Kind;

/// A segment is closed once it holds this many bytes.
pub const SEGMENT: usize = 16 << 20;

/// First bytes of a segment: what it is, the version of its format, the number of the key that its pieces are sealed
/// under (each piece says so too).
const MAGIC: &[u8; 8] = b"dupvault";
const FORMAT: u16 = 2;
/// Length of the head of a segment: magic 8, format 2, nothing 2, key 4.
pub const HEAD: usize = 16;
/// First bytes of a piece, by which its head is found again behind damage.
const MARKER: &[u8; 4] = b"\xd5pc2";
/// Length of the head of a piece: marker 4, kind 1, nothing 3, length of the sealed form 4, name 32.
pub const PIECE_HEAD: usize = 44;
/// No sealed piece is longer.
const MOST_PIECE: usize = 65 << 20;

/// Where a sealed piece lies in its segment.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Row {
    /// What it is.
    pub kind: Kind,
    /// Name of the content.
    pub name: Name,
    /// First byte of its sealed form in the segment.
    pub offset: u32,
    /// Length of the sealed form in bytes.
    pub len: u32,
}

/// The head of a segment.
pub fn head(key: u32) -> [u8; HEAD] {
    let mut head = [0; HEAD];
    head[..8].copy_from_slice(MAGIC);
    head[8..10].copy_from_slice(&FORMAT.to_le_bytes());
    head[12..].copy_from_slice(&key.to_le_bytes());
    head
}

/// The format of a segment by its head; nothing if it is no segment of this kind.
pub fn format_of(bytes: &[u8]) -> Option<u16> {
    let rest = bytes.strip_prefix(MAGIC)?;
    Some(u16::from_le_bytes(rest.get(..2)?.try_into().ok()?))
}

/// Adds a sealed piece behind the others, and says where it lies.
pub fn append(segment: &mut Vec<u8>, kind: Kind, name: Name, sealed: &[u8]) -> Row {
    segment.extend(MARKER);
    segment.extend([kind.code(), 0, 0, 0]);
    segment.extend((sealed.len() as u32).to_le_bytes());
    segment.extend(name.0);
    let offset = segment.len() as u32;
    segment.extend(sealed);
    Row {
        kind,
        name,
        offset,
        len: sealed.len() as u32,
    }
}

/// What the head of a piece says, if one begins at `at`.
fn piece_at(segment: &[u8], at: usize) -> Option<Row> {
    let head = segment.get(at..at.checked_add(PIECE_HEAD)?)?;
    let rest = head.strip_prefix(MARKER)?;
    let kind = Kind::of_code(rest[0])?;
    let len = u32::from_le_bytes(rest[4..8].try_into().ok()?);
    let offset = at + PIECE_HEAD;
    let end = offset.checked_add(len as usize)?;
    if len as usize > MOST_PIECE || end > segment.len() {
        return None;
    }
    Some(Row {
        kind,
        name: Name(rest[8..].try_into().ok()?),
        offset: u32::try_from(offset).ok()?,
        len,
    })
}

/// Whether a piece would be found where it lies without an index: its head says what it is, and so does that of the
/// segment.
pub fn describes(segment: &[u8], row: &Row) -> bool {
    let at = (row.offset as usize).checked_sub(PIECE_HEAD);
    let told = at.and_then(|at| piece_at(segment, at));
    format_of(segment) == Some(FORMAT) && told == Some(*row)
}

/// The pieces of a segment by its own word. `opens` tells whether a piece is what its head says: behind one that is
/// not, the next head is looked for byte by byte, so that damage costs what it hit and nothing behind it.
pub fn scan(segment: &[u8], opens: impl Fn(&Row, &[u8]) -> bool) -> Vec<Row> {
    let mut found = Vec::new();
    let mut at = HEAD.min(segment.len());
    while at < segment.len() {
        if let Some(row) = piece_at(segment, at) {
            let sealed = &segment[row.offset as usize..][..row.len as usize];
            if opens(&row, sealed) {
                at = row.offset as usize + row.len as usize;
                found.push(row);
                continue;
            }
        }
        // The marker begins with a byte that no text has; noise has it every 256 bytes.
        let behind = &segment[at + 1..];
        match behind.windows(MARKER.len()).position(|four| four == MARKER) {
            Some(next) => at += 1 + next,
            None => break,
        }
    }
    found
}

/// Length of a row in an index: kind 1, name 32, offset 4, length 4.
const ROW: usize = 41;

/// An index as bytes: format, length of its segment in eight, then 41 bytes a row.
pub fn encode(segment_len: u64, rows: &[Row]) -> Vec<u8> {
    let mut bytes = Vec::with_capacity(9 + rows.len() * ROW);
    bytes.push(FORMAT as u8);
    bytes.extend(segment_len.to_le_bytes());
    for row in rows {
        bytes.push(row.kind.code());
        bytes.extend(row.name.0);
        bytes.extend(row.offset.to_le_bytes());
        bytes.extend(row.len.to_le_bytes());
    }
    bytes
}

/// The length of the segment and the rows of an index; nothing if it makes no sense.
pub fn decode(bytes: &[u8]) -> Option<(u64, Vec<Row>)> {
    let (format, rest) = bytes.split_first()?;
    let (segment_len, rows) = rest.split_first_chunk::<8>()?;
    if u16::from(*format) != FORMAT || rows.len() % ROW != 0 {
        return None;
    }
    let segment_len = u64::from_le_bytes(*segment_len);
    let word = |raw: &[u8]| Some(u32::from_le_bytes(raw.try_into().ok()?));
    let rows: Option<Vec<Row>> = rows
        .chunks_exact(ROW)
        .map(|raw| {
            let row = Row {
                kind: Kind::of_code(raw[0])?,
                name: Name(raw[1..33].try_into().ok()?),
                offset: word(&raw[33..37])?,
                len: word(&raw[37..])?,
            };
            let end = u64::from(row.offset) + u64::from(row.len);
            (end <= segment_len).then_some(row)
        })
        .collect();
    Some((segment_len, rows?))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn sample(pieces: usize) -> (Vec<u8>, Vec<Row>) {
        let mut segment = head(7).to_vec();
        let rows = (0..pieces).map(|n| {
            // Bodies that hold the marker themselves.
            let body = [&MARKER[..], &[n as u8; 60], MARKER].concat();
            append(&mut segment, Kind::ALL[n % 4], Name([n as u8; 32]), &body)
        });
        let rows = rows.collect();
        (segment, rows)
    }

    /// Whether a piece is as it was put.
    fn whole(row: &Row, sealed: &[u8]) -> bool {
        let n = row.name.0[0];
        row.name == Name([n; 32])
            && row.kind == Kind::ALL[usize::from(n) % 4]
            && sealed == [&MARKER[..], &[n; 60], MARKER].concat()
    }

    #[test]
    fn a_segment_tells_its_pieces_without_an_index() {
        let (segment, rows) = sample(9);
        assert_eq!(scan(&segment, whole), rows);
        let (len, again) = decode(&encode(segment.len() as u64, &rows)).unwrap();
        assert_eq!((len, again), (segment.len() as u64, rows));
        assert_eq!(format_of(&segment), Some(2));
        assert!(scan(&[], whole).is_empty() && scan(&segment[..HEAD], whole).is_empty());
    }

    #[test]
    fn damage_costs_the_piece_that_it_hit() {
        let (segment, rows) = sample(5);
        for at in HEAD..segment.len() {
            for damage in [1, 0x80] {
                let mut damaged = segment.clone();
                damaged[at] ^= damage;
                let found = scan(&damaged, whole);
                // Bytes that mean nothing may be anything.
                let hit = rows.iter().position(|row| {
                    let head = row.offset as usize - PIECE_HEAD;
                    (head..row.offset as usize + row.len as usize).contains(&at)
                });
                let lost: Vec<_> = rows.iter().filter(|row| !found.contains(row)).collect();
                assert!(lost.len() <= 1, "byte {at}: {lost:?}");
                assert!(lost.iter().all(|row| Some(**row) == hit.map(|n| rows[n])));
            }
        }
        // Cut off anywhere, everything before that is there.
        for len in 0..segment.len() {
            let before = rows
                .iter()
                .filter(|row| (row.offset + row.len) as usize <= len);
            assert!(
                scan(&segment[..len], whole).iter().eq(before),
                "{len} bytes"
            );
        }
    }

    #[test]
    fn an_index_that_makes_no_sense_is_none() {
        let (segment, rows) = sample(3);
        let good = encode(segment.len() as u64, &rows);
        assert!(decode(&[]).is_none() && decode(&good[..good.len() - 1]).is_none());
        assert!(
            decode(&encode(100, &rows)).is_none(),
            "rows behind its segment's end"
        );
        for (at, value) in [(0, 1), (9, 0), (9, 9)] {
            let mut bad = good.clone();
            bad[at] = value;
            assert!(decode(&bad).is_none(), "byte {at} is {value}");
        }
    }
}
