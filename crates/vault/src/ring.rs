//! The ring of keys as it lies in the vault: twice, under the short name of the root that opens it.

use object_store::path::Path;
use object_store::{ObjectStore, ObjectStoreExt};

use crate::error::VaultError;
use crate::keys::{KeyError, Keys, Root};
use crate::objects::listed;
use crate::segment;

const FOLDER: &str = "keys";
/// Stands behind the name of the second copy.
const COPY: &str = ".copy";

fn paths(id: &str) -> [Path; 2] {
    [
        Path::from(format!("{FOLDER}/{id}")),
        Path::from(format!("{FOLDER}/{id}{COPY}")),
    ]
}

/// Stores a ring under a root, twice.
pub(crate) async fn put(
    store: &dyn ObjectStore,
    root: &Root,
    ring: &Keys,
) -> Result<(), VaultError> {
    let wrapped = ring.wrap(root)?;
    for path in paths(&root.id()) {
        store.put(&path, wrapped.clone().into()).await?;
    }
    Ok(())
}

/// A ring does not open with this root any more.
pub(crate) async fn forget(store: &dyn ObjectStore, id: &str) -> Result<(), VaultError> {
    for path in paths(id) {
        match store.delete(&path).await {
            Ok(()) | Err(object_store::Error::NotFound { .. }) => {}
            Err(e) => return Err(e.into()),
        }
    }
    Ok(())
}

/// Only the ring of this root stays; gives how many others went.
pub(crate) async fn forget_others(store: &dyn ObjectStore, id: &str) -> Result<usize, VaultError> {
    let mut others: Vec<String> = listed(store, FOLDER)
        .await?
        .into_keys()
        .map(|name| name.trim_end_matches(COPY).to_owned())
        .filter(|other| other != id)
        .collect();
    others.sort();
    others.dedup();
    for other in &others {
        forget(store, other).await?;
    }
    Ok(others.len())
}

/// Opens the ring of a vault; makes one where there is nothing yet. A copy that is gone or damaged is put back.
pub(crate) async fn open(store: &dyn ObjectStore, root: &Root) -> Result<Keys, VaultError> {
    let id = root.id();
    let (mut ring, mut bad) = (None, Vec::new());
    for path in paths(&id) {
        let bytes = match store.get(&path).await {
            Ok(got) => Some(got.bytes().await?),
            Err(object_store::Error::NotFound { .. }) => None,
            Err(e) => return Err(e.into()),
        };
        match bytes.and_then(|bytes| Keys::unwrap(root, &bytes)) {
            Some(found) => ring = Some(found),
            None => bad.push(path),
        }
    }
    if let Some(ring) = ring {
        for path in bad {
            tracing::warn!("a copy of the vault's ring of keys was gone or damaged: {path}");
            if let Err(e) = store.put(&path, ring.wrap(root)?.into()).await {
                tracing::warn!("it cannot be put back: {e}");
            }
        }
        return Ok(ring);
    }
    let others = listed(store, FOLDER).await?;
    let mut theirs: Vec<_> = others
        .keys()
        .map(|name| name.trim_end_matches(COPY).to_owned())
        .collect();
    theirs.sort();
    theirs.dedup();
    if theirs.contains(&id) {
        return Err(KeyError::Ring { id }.into());
    }
    if !theirs.is_empty() {
        let theirs = theirs.join(", ");
        return Err(KeyError::OtherVault { theirs, ours: id }.into());
    }
    let segments = listed(store, "segment").await?;
    if let Some(first) = segments.keys().next() {
        let path = Path::from(format!("segment/{first}"));
        let head = store.get_range(&path, 0..segment::HEAD as u64).await?;
        return Err(match segment::format_of(&head) {
            Some(_) => KeyError::Ring { id }.into(),
            None => VaultError::Format(1),
        });
    }
    let ring = Keys::by_chance()?;
    put(store, root, &ring).await?;
    Ok(ring)
}
