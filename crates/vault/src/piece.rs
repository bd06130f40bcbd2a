//! Pieces: what segments hold. Each carries its kind, its name and its length, and is packed and sealed.

use imagecraft::packed::{Packer, unpack};

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

    /// Whether it is stored twice, in two segments: what tells of many chunks is small, and its loss would take all of
    /// them along.
    pub(crate) fn lies_twice(self) -> bool {
        self != Self::Chunk
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
pub(crate) struct Naming {
    /// The key of each kind.
    keys: [[u8; 32]; Kind::ALL.len()],
    /// Whether a name is made of the digest of the content.
    of_digest: bool,
}

impl Naming {
    pub fn new(keys: &Keys) -> Self {
        Self {
            keys: Kind::ALL.map(|kind| keys.naming(kind.word())),
            of_digest: keys.names_digests(),
        }
    }

    pub fn name(&self, kind: Kind, bytes: &[u8]) -> Name {
        match self.of_digest {
            true => self.keyed(kind, blake3::hash(bytes).as_bytes()),
            false => self.keyed(kind, bytes),
        }
    }

    /// The name of content of which only the BLAKE3 digest is at hand, in vaults where that tells it.
    pub fn of_digest(&self, kind: Kind, digest: &[u8; 32]) -> Option<Name> {
        self.of_digest.then(|| self.keyed(kind, digest))
    }

    fn keyed(&self, kind: Kind, bytes: &[u8]) -> Name {
        let key = &self.keys[usize::from(kind.code() - 1)];
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
    let packed = packer.pack(bytes).map_err(VaultError::Pack)?;
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
    let plain = unpack_sealed(keys, kind, name, sealed)?;
    (naming.name(kind, &plain) == name).then_some(plain)
}

/// Opens and unpacks a piece that was sealed under that name; whoever takes it holds it against the name.
pub(crate) fn unpack_sealed(keys: &Keys, kind: Kind, name: Name, sealed: &[u8]) -> Option<Vec<u8>> {
    unpack(&open_packed(keys, kind, name, sealed)?, MOST_PLAIN)
}

/// Opens a piece and gives it as it is packed; nothing if it is not what was sealed under that name.
pub(crate) fn open_packed(keys: &Keys, kind: Kind, name: Name, sealed: &[u8]) -> Option<Vec<u8>> {
    keys.open_object(&bound(kind, name), sealed)
}

/// Seals a piece anew, as it is packed; nothing if it does not open.
pub(crate) fn reseal(keys: &Keys, kind: Kind, name: Name, sealed: &[u8]) -> Option<Vec<u8>> {
    let packed = keys.open_object(&bound(kind, name), sealed)?;
    keys.seal_object(&bound(kind, name), &packed).ok()
}

/// Largest plain piece, a guard against damage: the root of a manifest of a very large disk.
const MOST_PLAIN: usize = 64 << 20;

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_sealed_under_the_name_of_other_content_is_no_piece() {
        let keys = Keys::by_chance().unwrap();
        let naming = Naming::new(&keys);
        let name = naming.name(Kind::Chunk, b"high water");
        let mut packer = Packer::default();
        let right = seal(&keys, Kind::Chunk, name, b"high water", &mut packer).unwrap();
        let wrong = seal(&keys, Kind::Chunk, name, b"low water", &mut packer).unwrap();
        let opened = |sealed| open(&keys, &naming, Kind::Chunk, name, sealed);
        assert_eq!(opened(&right).as_deref(), Some(b"high water".as_slice()));
        assert_eq!(opened(&wrong), None);
        // Whoever holds it against the name afterwards gets what was sealed, and only under that name.
        let taken = unpack_sealed(&keys, Kind::Chunk, name, &wrong);
        assert_eq!(taken.as_deref(), Some(b"low water".as_slice()));
        let other = naming.name(Kind::Chunk, b"low water");
        assert_eq!(unpack_sealed(&keys, Kind::Chunk, other, &wrong), None);
        assert_eq!(unpack_sealed(&keys, Kind::Page, name, &wrong), None);
    }
}
