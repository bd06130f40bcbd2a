//! Reading one page of a board, over HTTP/1.1 (RFC 9112), with TLS where its address says so. Boards have
//! certificates that they made themselves: any is taken, and its fingerprint is kept.

use std::net::SocketAddr;
use std::sync::{Arc, Mutex};

use base64::Engine as _;
use base64::prelude::BASE64_STANDARD as BASE64;
use http_body_util::{BodyExt, Full, Limited};
use hyper::Request;
use hyper::body::Bytes;
use hyper::client::conn::http1;
use hyper_util::rt::TokioIo;
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::{CryptoProvider, verify_tls12_signature, verify_tls13_signature};
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::{ClientConfig, DigitallySignedStruct, SignatureScheme};
use time::OffsetDateTime;
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::TcpStream;

use super::PATIENCE;
use super::certificate::{Certificate, certificate};
use crate::locate::Sighting;

/// No page is longer, in bytes; what is longer is cut.
const MOST_PAGE: usize = 256 << 10;

/// A page as it was read.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Page {
    /// HTTP status.
    pub status: u16,
    /// Its text, at most 256 KiB; what is no UTF-8 is replaced.
    pub text: String,
    /// Whether there was more: it was too long, or broke off.
    pub cut: bool,
    /// What the clock of the board says (`Date`, RFC 9110), where it says so.
    pub date: Option<OffsetDateTime>,
    /// The certificate that it was served with.
    pub certificate: Option<Certificate>,
    /// Where it sends on to (`Location` with a status of 300 to 399), at most 200 characters.
    pub sends_to: Option<String>,
}

impl Page {
    /// What it is, where it is no page that can be read: a status, or that it sends on elsewhere.
    pub fn trouble(&self, url: &str) -> Option<String> {
        match (self.status, &self.sends_to) {
            (300..400, Some(place)) => Some(format!("{url} sends on to {place}")),
            (300.., _) => Some(format!("{url} answers with status {}", self.status)),
            _ => None,
        }
    }
}

/// A login that is tried by HTTP's Basic scheme (RFC 7617).
#[derive(Clone, Debug)]
pub struct Login {
    /// User name.
    pub user: String,
    /// Password.
    pub password: String,
}

/// Why a page could not be read.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum PageError {
    /// Its address makes no sense.
    #[error("{0:?} is no address of a page")]
    Address(String),
    /// Nobody answers.
    #[error("nothing answers at {0}")]
    NoAnswer(SocketAddr),
    /// It took too long.
    #[error("{0} took the question and did not answer in time")]
    Slow(SocketAddr),
    /// What answers is no web server, or broke off.
    #[error("what answers at {at} cannot be understood: {why}")]
    Nonsense {
        /// Where.
        at: SocketAddr,
        /// Why.
        why: String,
    },
}

/// An address of a page in its parts.
struct Address {
    tls: bool,
    host: String,
    port: u16,
    rest: String,
}

fn parts(url: &str) -> Option<Address> {
    let uri: hyper::Uri = url.parse().ok()?;
    let tls = match uri.scheme_str()? {
        "http" => false,
        "https" => true,
        _ => return None,
    };
    Some(Address {
        tls,
        host: uri.host()?.to_owned(),
        port: uri.port_u16().unwrap_or(if tls { 443 } else { 80 }),
        rest: uri.path_and_query()?.as_str().to_owned(),
    })
}

/// Port of an address of a page.
pub fn port_of(url: &str) -> Option<u16> {
    parts(url).map(|address| address.port)
}

/// Reads a page of a board where it was seen, whatever its address says about the host; that is only told to it.
///
/// # Errors
/// [`PageError`]; any HTTP status is an answer.
pub async fn read_page(
    board: &Sighting,
    url: &str,
    login: Option<&Login>,
) -> Result<Page, PageError> {
    talk(board, url, Said::Ask(login)).await
}

/// Gives a page of a board something, by POST; the same otherwise.
///
/// # Errors
/// [`PageError`]; any HTTP status is an answer.
pub async fn give_page(
    board: &Sighting,
    url: &str,
    kind: &str,
    body: String,
) -> Result<Page, PageError> {
    talk(board, url, Said::Give(kind, body)).await
}

/// What is said to a page.
enum Said<'a> {
    Ask(Option<&'a Login>),
    /// Kind of the content, and the content.
    Give(&'a str, String),
}

async fn talk(board: &Sighting, url: &str, said: Said<'_>) -> Result<Page, PageError> {
    let address = parts(url).ok_or_else(|| PageError::Address(url.into()))?;
    let at = board.at(address.port);
    let read = async {
        let stream = TcpStream::connect(at)
            .await
            .map_err(|_| PageError::NoAnswer(at))?;
        if !address.tls {
            return ask(at, stream, &address, said).await;
        }
        let (config, seen) = any_certificate();
        let name = ServerName::try_from(address.host.clone())
            .map_err(|_| PageError::Address(url.into()))?;
        let stream = tokio_rustls::TlsConnector::from(config).connect(name, stream);
        let stream = stream.await.map_err(|e| nonsense(at, e))?;
        let mut page = ask(at, stream, &address, said).await?;
        let der = seen.0.lock().unwrap_or_else(|e| e.into_inner()).take();
        page.certificate = der.map(|der| certificate(&der));
        Ok(page)
    };
    match tokio::time::timeout(PATIENCE, read).await {
        Ok(read) => read,
        Err(_) => Err(PageError::Slow(at)),
    }
}

fn nonsense(at: SocketAddr, why: impl std::fmt::Display) -> PageError {
    // What a board makes a library say is foreign too.
    let why = why.to_string().chars().take(200).collect();
    PageError::Nonsense { at, why }
}

async fn ask<S: AsyncRead + AsyncWrite + Unpin + Send + 'static>(
    at: SocketAddr,
    stream: S,
    address: &Address,
    said: Said<'_>,
) -> Result<Page, PageError> {
    let (mut sender, connection) = http1::Builder::new()
        .max_buf_size(64 << 10)
        .handshake(TokioIo::new(stream))
        .await
        .map_err(|e| nonsense(at, e))?;
    let connection = tokio::spawn(connection);
    let host = match address.port {
        80 | 443 => address.host.clone(),
        port => format!("{}:{port}", address.host),
    };
    let mut request = Request::builder()
        .uri(&address.rest)
        .header("host", host)
        .header("accept", "*/*");
    let body = match said {
        Said::Ask(None) => String::new(),
        Said::Ask(Some(Login { user, password })) => {
            request = request.header("authorization", basic(user, password));
            String::new()
        }
        Said::Give(kind, body) => {
            request = request.method("POST").header("content-type", kind);
            body
        }
    };
    let request = request
        .body(Full::new(Bytes::from(body)))
        .map_err(|_| PageError::Address(address.rest.clone()))?;
    let answer = async {
        let answer = sender
            .send_request(request)
            .await
            .map_err(|e| nonsense(at, e))?;
        let status = answer.status().as_u16();
        let date = answer
            .headers()
            .get("date")
            .and_then(|date| date.to_str().ok());
        let date = date.and_then(|date| httpdate::parse_http_date(date).ok());
        let place = answer.headers().get("location");
        let place = place.map(|place| String::from_utf8_lossy(place.as_bytes()).into_owned());
        let plain = |place: String| {
            let shown = place.chars().filter(|c| !c.is_control());
            shown.take(200).collect::<String>()
        };
        let sends_to = place.map(plain).filter(|_| (300..400).contains(&status));
        let mut body = Limited::new(answer.into_body(), MOST_PAGE);
        let (mut bytes, mut cut) = (Vec::new(), false);
        while let Some(frame) = body.frame().await {
            match frame {
                Ok(frame) => bytes.extend(frame.into_data().unwrap_or_default()),
                // A page that is too long, or that breaks off: what came so far is what there is.
                Err(_) => {
                    cut = true;
                    break;
                }
            }
        }
        Ok(Page {
            status,
            text: String::from_utf8_lossy(&bytes).into_owned(),
            cut,
            date: date.map(OffsetDateTime::from),
            certificate: None,
            sends_to,
        })
    };
    let answer = answer.await;
    connection.abort();
    answer
}

fn basic(user: &str, password: &str) -> String {
    format!("Basic {}", BASE64.encode(format!("{user}:{password}")))
}

/// Takes any certificate, and keeps the one that it saw.
#[derive(Debug)]
struct Seen(Mutex<Option<Vec<u8>>>, CryptoProvider);

fn any_certificate() -> (Arc<ClientConfig>, Arc<Seen>) {
    let provider = rustls::crypto::ring::default_provider();
    let seen = Arc::new(Seen(Mutex::default(), provider.clone()));
    let config = ClientConfig::builder_with_provider(Arc::new(provider))
        .with_safe_default_protocol_versions()
        .expect("the provider knows the usual versions")
        .dangerous()
        .with_custom_certificate_verifier(seen.clone())
        .with_no_client_auth();
    (Arc::new(config), seen)
}

impl ServerCertVerifier for Seen {
    fn verify_server_cert(
        &self,
        end_entity: &CertificateDer<'_>,
        _: &[CertificateDer<'_>],
        _: &ServerName<'_>,
        _: &[u8],
        _: UnixTime,
    ) -> Result<ServerCertVerified, rustls::Error> {
        *self.0.lock().unwrap_or_else(|e| e.into_inner()) = Some(end_entity.to_vec());
        Ok(ServerCertVerified::assertion())
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        cert: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        verify_tls12_signature(
            message,
            cert,
            signed,
            &self.1.signature_verification_algorithms,
        )
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        cert: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        verify_tls13_signature(
            message,
            cert,
            signed,
            &self.1.signature_verification_algorithms,
        )
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.1.signature_verification_algorithms.supported_schemes()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn logins_are_told_as_the_standard_writes_them() {
        // The example of RFC 7617.
        assert_eq!(
            basic("Aladdin", "open sesame"),
            "Basic QWxhZGRpbjpvcGVuIHNlc2FtZQ=="
        );
    }

    #[test]
    fn ports_stand_in_addresses() {
        assert_eq!(port_of("http://quay-01/status"), Some(80));
        assert_eq!(port_of("https://quay-01"), Some(443));
        assert_eq!(port_of("http://192.0.2.1:8080/"), Some(8080));
        assert_eq!(port_of("gopher://x/"), None);
        assert_eq!(port_of("nonsense"), None);
    }
}
