//! Where a vault lies: a folder or a bucket, by its address.

use std::path::PathBuf;
use std::sync::Arc;

use futures::StreamExt;
use futures::stream::BoxStream;
use object_store::local::LocalFileSystem;
use object_store::path::Path;
use object_store::{
    CopyOptions, GetOptions, GetResult, ListResult, MultipartUpload, ObjectMeta, ObjectStore,
    PutMultipartOptions, PutOptions, PutPayload, PutResult, Result,
};

/// A folder. Files whose names no object has, such as those that are not UTF-8, are passed over; the package ends a list
/// at the first of them.
#[derive(Debug)]
struct Folder {
    inner: LocalFileSystem,
    root: PathBuf,
}

impl std::fmt::Display for Folder {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        self.inner.fmt(f)
    }
}

/// The objects that lie in a folder itself.
fn objects_in(folder: &std::path::Path, prefix: &Path) -> std::io::Result<Vec<ObjectMeta>> {
    let entries = match std::fs::read_dir(folder) {
        Ok(entries) => entries,
        Err(e) if e.kind() == std::io::ErrorKind::NotFound => return Ok(Vec::new()),
        Err(e) => return Err(e),
    };
    let mut objects = Vec::new();
    for entry in entries {
        let entry = entry?;
        let name = entry.file_name();
        // What was being put when the computer went off has a name with `#` in it.
        let Some(name) = name.to_str().filter(|name| !name.contains('#')) else {
            continue;
        };
        let metadata = match entry.metadata() {
            Ok(metadata) => metadata,
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => continue,
            Err(e) => return Err(e),
        };
        if metadata.is_file() {
            objects.push(ObjectMeta {
                location: prefix.clone().join(name),
                last_modified: metadata.modified()?.into(),
                size: metadata.len(),
                e_tag: None,
                version: None,
            });
        }
    }
    Ok(objects)
}

#[async_trait::async_trait]
impl ObjectStore for Folder {
    async fn put_opts(
        &self,
        location: &Path,
        payload: PutPayload,
        opts: PutOptions,
    ) -> Result<PutResult> {
        self.inner.put_opts(location, payload, opts).await
    }

    async fn put_multipart_opts(
        &self,
        location: &Path,
        opts: PutMultipartOptions,
    ) -> Result<Box<dyn MultipartUpload>> {
        self.inner.put_multipart_opts(location, opts).await
    }

    async fn get_opts(&self, location: &Path, options: GetOptions) -> Result<GetResult> {
        self.inner.get_opts(location, options).await
    }

    fn delete_stream(
        &self,
        locations: BoxStream<'static, Result<Path>>,
    ) -> BoxStream<'static, Result<Path>> {
        self.inner.delete_stream(locations)
    }

    fn list(&self, prefix: Option<&Path>) -> BoxStream<'static, Result<ObjectMeta>> {
        let prefix = prefix.cloned().unwrap_or_default();
        let folder = self.root.join(prefix.as_ref());
        let listed = async move {
            let objects = tokio::task::spawn_blocking(move || objects_in(&folder, &prefix));
            let objects = match objects.await {
                Ok(Ok(objects)) => objects.into_iter().map(Ok).collect(),
                Ok(Err(e)) => vec![Err(failed(e))],
                Err(e) => vec![Err(failed(e))],
            };
            futures::stream::iter(objects)
        };
        futures::stream::once(listed).flatten().boxed()
    }

    async fn list_with_delimiter(&self, prefix: Option<&Path>) -> Result<ListResult> {
        self.inner.list_with_delimiter(prefix).await
    }

    async fn copy_opts(&self, from: &Path, to: &Path, options: CopyOptions) -> Result<()> {
        self.inner.copy_opts(from, to, options).await
    }
}

fn failed(e: impl std::error::Error + Send + Sync + 'static) -> object_store::Error {
    object_store::Error::Generic {
        store: "folder",
        source: Box::new(e),
    }
}

/// A store by its address: a folder, which is made where there is none, or a bucket such as `s3://bucket/prefix`, with
/// what the environment says of how it is reached.
///
/// # Errors
/// A sentence that says what is wrong with the address.
pub fn store_at(address: &str) -> Result<Arc<dyn ObjectStore>, String> {
    if !address.contains("://") {
        std::fs::create_dir_all(address).map_err(|e| format!("{address}: {e}"))?;
    }
    store_there(address)
}

/// The same, where a folder is not made: one that is not there is said to be missing.
///
/// # Errors
/// A sentence that says what is wrong with the address.
pub fn store_there(address: &str) -> Result<Arc<dyn ObjectStore>, String> {
    if !address.contains("://") {
        let inner = LocalFileSystem::new_with_prefix(address);
        let inner = inner.map_err(|e| format!("{address}: {e}"))?;
        let root = std::fs::canonicalize(address).map_err(|e| format!("{address}: {e}"))?;
        let inner = inner.with_fsync(true);
        return Ok(Arc::new(Folder { inner, root }));
    }
    let url: url::Url = address.parse().map_err(|e| format!("{address}: {e}"))?;
    let from_environment = std::env::vars().filter_map(|(name, value)| {
        let name = name.to_ascii_lowercase();
        name.starts_with("aws_").then_some((name, value))
    });
    let (store, prefix) = object_store::parse_url_opts(&url, from_environment)
        .map_err(|e| format!("{address}: {e}"))?;
    let whole = Path::from("") == prefix;
    Ok(match whole {
        true => Arc::from(store),
        false => Arc::new(object_store::prefix::PrefixStore::new(store, prefix)),
    })
}
