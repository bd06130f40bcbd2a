//! The ring of keys as it lies in the vault: twice, under the short name of the root that opens it.

use object_store::path::Path;
use object_store::{ObjectStore, ObjectStoreExt, PutMode, PutOptions};

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

/// Whether a ring was made: nothing where another service made one at the same moment.
async fn begin(store: &dyn ObjectStore, root: &Root) -> Result<Option<Keys>, VaultError> {
    let ring = Keys::by_chance()?;
    let wrapped = ring.wrap(root)?;
    let [first, copy] = paths(&root.id());
    let only_new = PutOptions::from(PutMode::Create);
    match store
        .put_opts(&first, wrapped.clone().into(), only_new)
        .await
    {
        Ok(_) => {}
        Err(object_store::Error::AlreadyExists { .. }) => return Ok(None),
        // Stores that cannot tell are begun by one service.
        Err(
            object_store::Error::NotImplemented { .. } | object_store::Error::NotSupported { .. },
        ) => {
            store.put(&first, wrapped.clone().into()).await?;
        }
        Err(e) => return Err(e.into()),
    }
    store.put(&copy, wrapped.into()).await?;
    Ok(Some(ring))
}

/// The ring that lies in a vault, if a copy of it opens. One that is gone or damaged is put back.
async fn read(store: &dyn ObjectStore, root: &Root) -> Result<Option<Keys>, VaultError> {
    let (mut ring, mut bad) = (None, Vec::new());
    for path in paths(&root.id()) {
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
    if let Some(ring) = &ring {
        for path in bad {
            tracing::warn!("a copy of the vault's ring of keys was gone or damaged: {path}");
            if let Err(e) = store.put(&path, ring.wrap(root)?.into()).await {
                tracing::warn!("it cannot be put back: {e}");
            }
        }
    }
    Ok(ring)
}

/// Whether a vault that no ring opens is one that nobody has begun. Where something lies in it, that is said.
async fn is_new(store: &dyn ObjectStore, root: &Root) -> Result<bool, VaultError> {
    let id = root.id();
    let others = listed(store, FOLDER).await?;
    let mut theirs: Vec<_> = others
        .keys()
        .map(|name| name.trim_end_matches(COPY).to_owned())
        .collect();
    theirs.sort();
    theirs.dedup();
    if theirs.contains(&id) {
        return Ok(false);
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
    Ok(true)
}

/// Opens the ring of a vault; where there is nothing yet, makes one if it `may_begin`. Services that begin the same vault
/// at the same moment come to the same ring.
pub(crate) async fn open(
    store: &dyn ObjectStore,
    root: &Root,
    may_begin: bool,
) -> Result<Keys, VaultError> {
    if let Some(ring) = read(store, root).await? {
        return Ok(ring);
    }
    if is_new(store, root).await? {
        if !may_begin {
            return Err(VaultError::Empty);
        }
        if let Some(ring) = begin(store, root).await? {
            return Ok(ring);
        }
    }
    // Another service began it after the first look; or what lies there opens no more.
    let ring = read(store, root).await?;
    Ok(ring.ok_or_else(|| KeyError::Ring { id: root.id() })?)
}
