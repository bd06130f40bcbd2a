//! Pieces: what segments hold. Each carries its kind, its name and its length, and is packed and sealed.

use imagecraft::CHUNK_LEN;

use crate::error::VaultError;
use crate::keys::{Keys, Name};

/// What a piece of the vault is; each kind has names of its own.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Kind {
    /// Bytes of a disk.
    Chunk,
    /// A stretch of a manifest.
    Page,
    /// The root of a manifest.
    Manifest,
    /// What is said of a manifest, for those who find the vault without its records.
    Note,
}

impl Kind {
    /// Every kind.
    pub const ALL: [Self; 4] = [Self::Chunk, Self::Page, Self::Manifest, Self::Note];

    /// How it stands in a segment.
    pub(crate) fn code(self) -> u8 {
        match self {
            Self::Chunk => 1,
            Self::Page => 2,
            Self::Manifest => 3,
            Self::Note => 4,
        }
    }

    pub(crate) fn of_code(code: u8) -> Option<Self> {
        Self::ALL.into_iter().find(|kind| kind.code() == code)
    }

    /// Its word in the derivation of keys for names.
    fn word(self) -> &'static str {
        match self {
            Self::Chunk => "chunks",
            Self::Page => "pages",
            Self::Manifest => "manifests",
            Self::Note => "notes",
        }
    }
}

/// How pieces get their names.
pub(crate) struct Naming([[u8; 32]; Kind::ALL.len()]);

impl Naming {
    pub fn new(keys: &Keys) -> Self {
        Self(Kind::ALL.map(|kind| keys.naming(kind.word())))
    }

    pub fn name(&self, kind: Kind, bytes: &[u8]) -> Name {
        let key = &self.0[usize::from(kind.code() - 1)];
        Name(*blake3::keyed_hash(key, bytes).as_bytes())
    }
}

/// What binds a sealed piece to its kind and name.
fn bound(kind: Kind, name: Name) -> [u8; 33] {
    let mut bound = [kind.code(); 33];
    bound[1..].copy_from_slice(&name.0);
    bound
}

/// Packs and seals a piece.
pub(crate) fn seal(
    keys: &Keys,
    kind: Kind,
    name: Name,
    bytes: &[u8],
    packer: &mut Packer,
) -> Result<Vec<u8>, VaultError> {
    let packed = packer.pack(bytes)?;
    Ok(keys.seal_object(&bound(kind, name), packed)?)
}

/// Opens and unpacks a piece; nothing if any of it is not what was sealed under that name.
pub(crate) fn open(
    keys: &Keys,
    naming: &Naming,
    kind: Kind,
    name: Name,
    sealed: &[u8],
) -> Option<Vec<u8>> {
    let packed = keys.open_object(&bound(kind, name), sealed)?;
    let plain = unpack(&packed)?;
    (naming.name(kind, &plain) == name).then_some(plain)
}

/// Seals a piece anew, as it is packed; nothing if it does not open.
pub(crate) fn reseal(keys: &Keys, kind: Kind, name: Name, sealed: &[u8]) -> Option<Vec<u8>> {
    let packed = keys.open_object(&bound(kind, name), sealed)?;
    keys.seal_object(&bound(kind, name), &packed).ok()
}

/// zstd level: content is packed once and read often.
const LEVEL: i32 = 3;
/// Largest plain piece, a guard against damage: the root of a manifest of a very large disk.
const MOST_PLAIN: usize = 64 << 20;

/// Packs content: one byte for the method, the plain length in four, then the bytes.
#[derive(Default)]
pub(crate) struct Packer {
    zstd: Option<zstd::bulk::Compressor<'static>>,
    out: Vec<u8>,
}

const STORED: u8 = 0;
const ZSTD: u8 = 1;

impl Packer {
    fn pack(&mut self, bytes: &[u8]) -> Result<&[u8], VaultError> {
        let zstd = match &mut self.zstd {
            Some(zstd) => zstd,
            none => none.insert(zstd::bulk::Compressor::new(LEVEL).map_err(VaultError::Pack)?),
        };
        self.out.resize(5 + bytes.len().max(CHUNK_LEN), 0);
        self.out[1..5].copy_from_slice(&(bytes.len() as u32).to_le_bytes());
        // A buffer no longer than the content makes packing fail where it would not pay.
        let len = match zstd.compress_to_buffer(bytes, &mut self.out[5..5 + bytes.len()]) {
            Ok(len) => {
                self.out[0] = ZSTD;
                len
            }
            Err(_) => {
                self.out[0] = STORED;
                self.out[5..5 + bytes.len()].copy_from_slice(bytes);
                bytes.len()
            }
        };
        Ok(&self.out[..5 + len])
    }
}

thread_local! {
    /// Making one takes longer than unpacking a chunk with it.
    static UNPACKER: std::cell::RefCell<Option<zstd::bulk::Decompressor<'static>>> = const { std::cell::RefCell::new(None) };
}

fn unpack(packed: &[u8]) -> Option<Vec<u8>> {
    let (head, body) = packed.split_at_checked(5)?;
    let len = u32::from_le_bytes(head[1..].try_into().ok()?) as usize;
    let plain = match head[0] {
        STORED => body.to_vec(),
        ZSTD if len <= MOST_PLAIN => UNPACKER.with_borrow_mut(|unpacker| {
            let unpacker = match unpacker {
                Some(unpacker) => unpacker,
                none => none.insert(zstd::bulk::Decompressor::new().ok()?),
            };
            unpacker.decompress(body, len).ok()
        })?,
        _ => return None,
    };
    (plain.len() == len).then_some(plain)
}
