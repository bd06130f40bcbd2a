//! Chunks that were unpacked a short while ago: what one reader has just read, another one often wants.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use imagecraft::CHUNK;

use crate::keys::Name;

/// Unpacked chunks that are kept, in bytes.
const KEPT: u64 = 32 << 20;

/// Who holds a chunk against its name. That it was sealed under that name is proven either way.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Proof {
    /// Whoever gives it.
    Here,
    /// Whoever takes it, before anything rests on it.
    Later,
}

struct Chunk {
    bytes: Arc<Vec<u8>>,
    /// Whether it was held against its name since.
    proven: AtomicBool,
}

#[derive(Clone)]
struct ByLength;

impl quick_cache::Weighter<Name, Arc<Chunk>> for ByLength {
    fn weight(&self, _: &Name, chunk: &Arc<Chunk>) -> u64 {
        chunk.bytes.len() as u64
    }
}

/// The chunks.
pub(crate) struct Unpacked(quick_cache::sync::Cache<Name, Arc<Chunk>, ByLength>);

impl Unpacked {
    pub fn new() -> Self {
        Self(quick_cache::sync::Cache::with_weighter(
            (KEPT / CHUNK) as usize,
            KEPT,
            ByLength,
        ))
    }

    /// A chunk, if it is there. Where nobody held it against its name yet and that is asked for, `is_named` does; one
    /// that is not what its name says is forgotten.
    pub fn get(
        &self,
        name: Name,
        proof: Proof,
        is_named: impl FnOnce(&[u8]) -> bool,
    ) -> Option<Arc<Vec<u8>>> {
        let chunk = self.0.get(&name)?;
        if proof == Proof::Here && !chunk.proven.load(Ordering::Relaxed) {
            if !is_named(&chunk.bytes) {
                self.0.remove(&name);
                return None;
            }
            chunk.proven.store(true, Ordering::Relaxed);
        }
        Some(chunk.bytes.clone())
    }

    /// Keeps a chunk for those who want it next.
    pub fn keep(&self, name: Name, bytes: &Arc<Vec<u8>>, proof: Proof) {
        let chunk = Chunk {
            bytes: bytes.clone(),
            proven: AtomicBool::new(proof == Proof::Here),
        };
        self.0.insert(name, Arc::new(chunk));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_nobody_proved_is_proven_once_for_whoever_needs_it() {
        let kept = Unpacked::new();
        let (right, wrong) = (Name([1; 32]), Name([2; 32]));
        let bytes = Arc::new(vec![7; 100]);
        kept.keep(right, &bytes, Proof::Later);
        kept.keep(wrong, &bytes, Proof::Later);
        let nobody_asks = |_: &[u8]| panic!("it is not asked for");
        assert_eq!(
            kept.get(right, Proof::Later, nobody_asks),
            Some(bytes.clone())
        );
        assert_eq!(kept.get(right, Proof::Here, |_| true), Some(bytes.clone()));
        assert_eq!(
            kept.get(right, Proof::Here, nobody_asks),
            Some(bytes.clone()),
            "once is enough"
        );
        assert_eq!(kept.get(wrong, Proof::Here, |_| false), None);
        assert_eq!(
            kept.get(wrong, Proof::Later, nobody_asks),
            None,
            "it is forgotten"
        );
        kept.keep(wrong, &bytes, Proof::Here);
        assert_eq!(kept.get(wrong, Proof::Here, nobody_asks), Some(bytes));
    }
}
