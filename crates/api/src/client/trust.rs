//! Certificates that no authority vouches for: known by their fingerprint, which somebody compared once.

use std::sync::{Arc, Mutex};

use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::{CryptoProvider, ring, verify_tls12_signature, verify_tls13_signature};
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::{ClientConfig, DigitallySignedStruct, Error, RootCertStore, SignatureScheme};

/// The SHA-256 of a certificate, as people compare it.
pub fn fingerprint(certificate: &[u8]) -> String {
    let digest = ::ring::digest::digest(&::ring::digest::SHA256, certificate);
    let pairs = digest.as_ref().iter().map(|byte| format!("{byte:02X}"));
    pairs.collect::<Vec<_>>().join(":")
}

/// Whether what is sent to this address can be read and changed on its way: it is another computer, and TLS is not spoken.
pub fn is_in_the_clear(address: &str) -> bool {
    let Ok(url) = reqwest::Url::parse(address) else {
        return false;
    };
    url.scheme() == "http" && !url.host_str().is_some_and(is_this_computer)
}

/// Whether a host is this computer, by a name or number that leads nowhere else.
pub fn is_this_computer(host: &str) -> bool {
    let host = host.trim_start_matches('[').trim_end_matches(']');
    let name = host.trim_end_matches('.').to_ascii_lowercase();
    name == "localhost"
        || name.ends_with(".localhost")
        || host
            .parse::<std::net::IpAddr>()
            .is_ok_and(|address| address.to_canonical().is_loopback())
}

/// What whoever gave such an address is told.
pub fn in_the_clear(address: &str) -> String {
    format!(
        "{address} is another computer, and over http:// everybody between could read passwords and change what is sent. \
         Nothing was sent. Use https:// (at every address but loopback the service speaks TLS; its log says the \
         fingerprint of its certificate), or a tunnel that ends at 127.0.0.1"
    )
}

/// A fingerprint without what people write between its digits.
fn plain(fingerprint: &str) -> String {
    let digits = fingerprint.chars().filter(char::is_ascii_hexdigit);
    digits.map(|digit| digit.to_ascii_uppercase()).collect()
}

/// Takes the one certificate that has a fingerprint; with none wanted it takes none, and remembers what was shown.
#[derive(Debug)]
struct Known {
    wanted: Option<String>,
    shown: Arc<Mutex<Option<String>>>,
    provider: CryptoProvider,
}

impl ServerCertVerifier for Known {
    fn verify_server_cert(
        &self,
        certificate: &CertificateDer<'_>,
        _: &[CertificateDer<'_>],
        _: &ServerName<'_>,
        _: &[u8],
        _: UnixTime,
    ) -> Result<ServerCertVerified, Error> {
        let shown = fingerprint(certificate);
        let known = self.wanted.as_ref() == Some(&plain(&shown));
        *self.shown.lock().unwrap_or_else(|e| e.into_inner()) = Some(shown);
        match known {
            true => Ok(ServerCertVerified::assertion()),
            false => Err(Error::General(
                "the certificate is another one than was signed in with".into(),
            )),
        }
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        let known = &self.provider.signature_verification_algorithms;
        verify_tls12_signature(message, certificate, signed, known)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        let known = &self.provider.signature_verification_algorithms;
        verify_tls13_signature(message, certificate, signed, known)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.provider
            .signature_verification_algorithms
            .supported_schemes()
    }
}

fn client(
    wanted: Option<&str>,
    shown: &Arc<Mutex<Option<String>>>,
) -> Result<reqwest::Client, reqwest::Error> {
    let known = Known {
        wanted: wanted.map(plain),
        shown: shown.clone(),
        provider: ring::default_provider(),
    };
    let config = ClientConfig::builder()
        .dangerous()
        .with_custom_certificate_verifier(Arc::new(known))
        .with_no_client_auth();
    reqwest::Client::builder()
        .tls_backend_preconfigured(config)
        .build()
}

/// A client of the HTTP library, set up by `set_up`. Where this computer knows no certificate authorities, it is one all the
/// same: loopback and pinned certificates need none, and what does need one fails by itself.
///
/// # Errors
/// What the HTTP library says of the rest.
pub fn http_client(
    set_up: impl Fn(reqwest::ClientBuilder) -> reqwest::ClientBuilder,
) -> Result<reqwest::Client, reqwest::Error> {
    // The HTTP library wants to know whose cryptography to use; only the first call counts.
    let _ = ring::default_provider().install_default();
    set_up(reqwest::Client::builder()).build().or_else(|_| {
        let config = ClientConfig::builder()
            .with_root_certificates(RootCertStore::empty())
            .with_no_client_auth();
        let builder = reqwest::Client::builder().tls_backend_preconfigured(config);
        set_up(builder).build()
    })
}

/// A client for which the certificate with this fingerprint is the service's, and no other.
///
/// # Errors
/// What the HTTP library says.
pub fn pinned(fingerprint: &str) -> Result<reqwest::Client, reqwest::Error> {
    client(Some(fingerprint), &Arc::default())
}

/// The fingerprint of the certificate that an address shows, without anything being asked of it.
pub async fn shown_fingerprint(address: &str) -> Option<String> {
    // The HTTP library wants to know whose cryptography to use; only the first call counts.
    let _ = ring::default_provider().install_default();
    let shown = Arc::default();
    let client = client(None, &shown).ok()?;
    // It is refused while it greets; what it showed is known then.
    let _ = client.get(address).send().await;
    shown.lock().unwrap_or_else(|e| e.into_inner()).take()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_this_computer_is_spoken_to_in_the_clear() {
        for fine in [
            "http://127.0.0.1:7640",
            "http://localhost:7640/",
            "http://[::1]:7640",
            "http://127.9.9.9",
            "https://10.0.0.7:7640",
        ] {
            assert!(!is_in_the_clear(fine), "{fine}");
        }
        for clear in [
            "http://10.0.0.7:7640",
            "HTTP://bench.example",
            "http://127.0.0.1.example",
            "http://localhost.example",
            "http://[2001:db8::1]",
            "http://127.0.0.1@10.0.0.7",
        ] {
            assert!(is_in_the_clear(clear), "{clear}");
        }
    }

    #[test]
    fn fingerprints_are_compared_as_people_write_them() {
        assert!(fingerprint(b"").starts_with("E3:B0:C4:42:98:FC"));
        assert_eq!(plain("e3:b0 C4-42"), "E3B0C442");
    }
}
