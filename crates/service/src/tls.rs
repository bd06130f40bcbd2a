//! TLS: certificate files of one's own, taken anew when they change, or a certificate that is made at the first start.

use std::fs::{self, File};
use std::io::Write;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use std::sync::{Arc, RwLock};
use std::time::{Duration, SystemTime};

use anyhow::{Context, Result, bail};
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer, PrivatePkcs8KeyDer};
use rustls::server::{ClientHello, ResolvesServerCert};
use rustls::sign::CertifiedKey;
use rustls::{ServerConfig, crypto};
use tokio_rustls::TlsAcceptor;

/// How often the files are looked at.
const EVERY: Duration = Duration::from_secs(5);
/// Names of the files of a certificate that was made here, in the data folder.
const MADE: &str = "tls.der";
const MADE_KEY: &str = "tls.key.der";

/// Where certificate and key are.
#[derive(Clone, Debug)]
pub enum Place {
    /// Files of PEM blocks: the certificate with those that vouch for it, and its key.
    Files(PathBuf, PathBuf),
    /// Made here, in the data folder.
    Made(PathBuf),
}

/// What the service shows of itself.
#[derive(Debug)]
pub struct Certificates {
    place: Place,
    current: RwLock<Arc<CertifiedKey>>,
}

impl ResolvesServerCert for Certificates {
    fn resolve(&self, _: ClientHello<'_>) -> Option<Arc<CertifiedKey>> {
        Some(self.current())
    }
}

fn of_files(certificate: &Path, key: &Path) -> Result<CertifiedKey> {
    let shown = certificate.display();
    let chain = CertificateDer::pem_file_iter(certificate)
        .and_then(|blocks| blocks.collect::<Result<Vec<_>, _>>())
        .with_context(|| format!("{shown} cannot be read as certificates (PEM)"))?;
    if chain.is_empty() {
        bail!("there is no certificate in {shown}");
    }
    let secret = PrivateKeyDer::from_pem_file(key)
        .with_context(|| format!("{} cannot be read as a private key (PEM)", key.display()))?;
    together(chain, secret)
        .with_context(|| format!("the key in {} does not belong to {shown}", key.display()))
}

fn together(
    chain: Vec<CertificateDer<'static>>,
    key: PrivateKeyDer<'static>,
) -> Result<CertifiedKey> {
    Ok(CertifiedKey::from_der(
        chain,
        key,
        &crypto::ring::default_provider(),
    )?)
}

fn keep(path: &Path, bytes: &[u8]) -> Result<()> {
    let written = || -> std::io::Result<()> {
        let mut file = File::options()
            .write(true)
            .create_new(true)
            .mode(0o600)
            .open(path)?;
        file.write_all(bytes)?;
        file.sync_all()
    };
    written().with_context(|| format!("cannot write {}", path.display()))
}

fn made(dir: &Path) -> Result<CertifiedKey> {
    let (certificate, key) = (dir.join(MADE), dir.join(MADE_KEY));
    if !certificate.exists() {
        let host = fs::read_to_string("/etc/hostname").unwrap_or_default();
        let names = ["localhost", host.trim()];
        let names: Vec<_> = names
            .iter()
            .filter(|name| !name.is_empty())
            .map(|name| (*name).to_owned())
            .collect();
        let fresh =
            rcgen::generate_simple_self_signed(names).context("a certificate cannot be made")?;
        // A key without its certificate, left by a start that was cut off, is made anew.
        let _ = fs::remove_file(&key);
        keep(&key, &fresh.signing_key.serialize_der())?;
        keep(&certificate, fresh.cert.der())?;
    }
    let read =
        |path: &Path| fs::read(path).with_context(|| format!("cannot read {}", path.display()));
    let chain = vec![CertificateDer::from(read(&certificate)?)];
    let secret = PrivatePkcs8KeyDer::from(read(&key)?);
    together(chain, secret.into()).with_context(|| {
        format!(
            "{} does not belong to {}",
            key.display(),
            certificate.display()
        )
    })
}

impl Certificates {
    /// Reads them, or makes one.
    pub fn open(place: Place) -> Result<Arc<Self>> {
        let current = match &place {
            Place::Files(certificate, key) => of_files(certificate, key)?,
            Place::Made(dir) => made(dir)?,
        };
        Ok(Arc::new(Self {
            place,
            current: RwLock::new(Arc::new(current)),
        }))
    }

    fn current(&self) -> Arc<CertifiedKey> {
        self.current
            .read()
            .unwrap_or_else(|e| e.into_inner())
            .clone()
    }

    /// The fingerprint of the certificate that is shown.
    pub fn fingerprint(&self) -> String {
        let current = self.current();
        current
            .end_entity_cert()
            .map(|der| api::fingerprint(der))
            .unwrap_or_default()
    }

    /// When the files were last changed.
    fn changed(&self) -> Option<(SystemTime, SystemTime)> {
        let Place::Files(certificate, key) = &self.place else {
            return None;
        };
        let time = |path: &Path| fs::metadata(path).and_then(|found| found.modified()).ok();
        Some((time(certificate)?, time(key)?))
    }

    /// Takes files anew that were changed, until the service ends. What cannot be used leaves the one before.
    pub async fn keep_current(self: Arc<Self>) {
        let mut known = self.changed();
        loop {
            tokio::time::sleep(EVERY).await;
            let now = self.changed();
            let Place::Files(certificate, key) = &self.place else {
                return;
            };
            if now.is_none() || now == known {
                continue;
            }
            match of_files(certificate, key) {
                Ok(fresh) => {
                    *self.current.write().unwrap_or_else(|e| e.into_inner()) = Arc::new(fresh);
                    known = now;
                    tracing::info!(
                        fingerprint = self.fingerprint(),
                        "the certificate was changed"
                    );
                }
                // Half of it may be written yet.
                Err(e) => tracing::warn!("the changed certificate is not used: {e:#}"),
            }
        }
    }

    /// What turns connections into those of TLS.
    pub fn acceptor(self: &Arc<Self>) -> TlsAcceptor {
        let mut config = ServerConfig::builder()
            .with_no_client_auth()
            .with_cert_resolver(self.clone());
        config.alpn_protocols = vec![b"h2".to_vec(), b"http/1.1".to_vec()];
        TlsAcceptor::from(Arc::new(config))
    }
}
