//! Where objects lie in the store under the vault.

use std::collections::HashMap;

use futures::TryStreamExt;
use object_store::ObjectStore;
use object_store::path::Path;

/// Where a segment lies.
pub(crate) fn segment_path(id: &str) -> Path {
    Path::from(format!("segment/{id}"))
}

/// Where its index lies.
pub(crate) fn index_path(id: &str) -> Path {
    Path::from(format!("index/{id}"))
}

/// What binds an index to its segment.
pub(crate) fn index_bound(id: &str) -> Vec<u8> {
    format!("index {id}").into_bytes()
}

/// Names and lengths of all objects below a path.
pub(crate) async fn listed(
    store: &dyn ObjectStore,
    below: &str,
) -> Result<HashMap<String, u64>, object_store::Error> {
    let mut found = HashMap::new();
    let prefix = Path::from(below);
    let mut objects = store.list(Some(&prefix));
    while let Some(object) = objects.try_next().await? {
        if let Some(id) = object.location.filename() {
            found.insert(id.to_owned(), object.size);
        }
    }
    Ok(found)
}
