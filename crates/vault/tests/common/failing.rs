//! A store that stops at a moment that is chosen: from then on nothing is put or deleted, as after a power cut or on a
//! full disk.

use std::sync::Arc;
use std::sync::atomic::{AtomicI64, Ordering};

use futures::StreamExt;
use futures::stream::BoxStream;
use object_store::path::Path;
use object_store::{
    CopyOptions, Error, GetOptions, GetResult, ListResult, MultipartUpload, ObjectMeta,
    ObjectStore, PutMultipartOptions, PutOptions, PutPayload, PutResult, Result,
};

#[derive(Clone, Debug)]
pub struct Failing {
    inner: Arc<dyn ObjectStore>,
    /// Changes that still go through.
    left: Arc<AtomicI64>,
}

impl std::fmt::Display for Failing {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("a store that fails")
    }
}

impl Failing {
    pub fn after(inner: Arc<dyn ObjectStore>, changes: i64) -> Self {
        Self {
            inner,
            left: Arc::new(AtomicI64::new(changes)),
        }
    }

    /// Changes that were asked for beyond those that go through, negative; or those that are left.
    pub fn left(&self) -> i64 {
        self.left.load(Ordering::SeqCst)
    }
}

fn failed() -> Error {
    Error::Generic {
        store: "failing",
        source: "no space left".into(),
    }
}

#[async_trait::async_trait]
impl ObjectStore for Failing {
    async fn put_opts(
        &self,
        location: &Path,
        payload: PutPayload,
        opts: PutOptions,
    ) -> Result<PutResult> {
        match self.left.fetch_sub(1, Ordering::SeqCst) > 0 {
            true => self.inner.put_opts(location, payload, opts).await,
            false => Err(failed()),
        }
    }

    async fn put_multipart_opts(
        &self,
        _: &Path,
        _: PutMultipartOptions,
    ) -> Result<Box<dyn MultipartUpload>> {
        Err(failed())
    }

    async fn get_opts(&self, location: &Path, options: GetOptions) -> Result<GetResult> {
        self.inner.get_opts(location, options).await
    }

    fn delete_stream(
        &self,
        locations: BoxStream<'static, Result<Path>>,
    ) -> BoxStream<'static, Result<Path>> {
        let (inner, left) = (self.inner.clone(), self.left.clone());
        locations
            .then(move |location| {
                let (inner, left) = (inner.clone(), left.clone());
                async move {
                    if left.fetch_sub(1, Ordering::SeqCst) <= 0 {
                        return Err(failed());
                    }
                    let one = futures::stream::once(async move { location }).boxed();
                    let mut gone = inner.delete_stream(one);
                    gone.next().await.unwrap_or_else(|| Err(failed()))
                }
            })
            .boxed()
    }

    fn list(&self, prefix: Option<&Path>) -> BoxStream<'static, Result<ObjectMeta>> {
        self.inner.list(prefix)
    }

    async fn list_with_delimiter(&self, prefix: Option<&Path>) -> Result<ListResult> {
        self.inner.list_with_delimiter(prefix).await
    }

    async fn copy_opts(&self, _: &Path, _: &Path, _: CopyOptions) -> Result<()> {
        Err(failed())
    }
}
