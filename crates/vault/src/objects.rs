//! Where objects lie in the store under the vault.

use std::collections::HashMap;
use std::sync::Arc;

use futures::TryStreamExt;
use object_store::ObjectStore;
use object_store::path::Path;

/// Names a segment of the vault.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct SegmentId(pub(crate) Arc<str>);

impl std::fmt::Display for SegmentId {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.0)
    }
}

impl SegmentId {
    /// The segment of a name, as another service says it.
    pub fn named(name: &str) -> Self {
        Self(name.into())
    }
}

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
