//! Connections: how many there may be, how long each may stand still, and how all of them end.

use std::convert::Infallible;
use std::io;
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll, ready};
use std::time::Duration;

use axum::Router;
use axum::extract::{Request, State};
use axum::http::header;
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use hyper::body::Incoming;
use hyper::service::{Service, service_fn};
use hyper_util::rt::{TokioExecutor, TokioIo, TokioTimer};
use hyper_util::service::TowerToHyperService;
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::{Semaphore, watch};
use tokio::time::Sleep;
use tokio_rustls::TlsAcceptor;

use crate::admit::Peer;
use crate::app::App;
use crate::error::ApiError;

/// Connections at once; further ones wait to be taken.
const MOST: usize = 400;
/// Requests at once on one connection of HTTP/2, and bytes of a request's head.
const STREAMS: u32 = 64;
const HEADS: u32 = 64 << 10;
/// How often a connection of HTTP/2 that says nothing is asked whether somebody is there.
const PING: Duration = Duration::from_secs(20);
/// How long a request's head may take to arrive, and how long a connection may be idle.
const HEAD: Duration = Duration::from_secs(10);
/// How long a part of a request's body may take to arrive.
pub const BODY: Duration = Duration::from_secs(20);
/// How long an answer may wait for its reader to take the next part.
const UNREAD: Duration = Duration::from_secs(60);
/// How long requests may go on when the service ends.
const DRAIN: Duration = Duration::from_secs(5);
/// How long a long body waits for its turn.
const TURN: Duration = Duration::from_secs(5);
/// How long a stream of events goes on; who still listens asks again, and misses nothing.
pub const STREAM: Duration = Duration::from_secs(600);
/// From here on a body counts as long, in bytes.
const LONG: u64 = 256 << 10;

/// Serves until `end` turns, then lets the requests that are under way end for a few seconds. With `tls` nothing else is
/// spoken.
pub async fn serve(
    listener: TcpListener,
    router: Router,
    tls: Option<TlsAcceptor>,
    mut end: watch::Receiver<bool>,
) {
    let room = Arc::new(Semaphore::new(MOST));
    loop {
        let Ok(permit) = room.clone().acquire_owned().await else {
            return;
        };
        let (stream, peer) = tokio::select! {
            accepted = listener.accept() => match accepted {
                Ok(accepted) => accepted,
                Err(e) => {
                    // Out of descriptors, most of all: those that are open will end.
                    tracing::warn!("a connection could not be taken: {e}");
                    tokio::time::sleep(Duration::from_millis(200)).await;
                    continue;
                }
            },
            _ = end.changed() => {
                drop(permit);
                break;
            }
        };
        let routes = TowerToHyperService::new(router.clone());
        let service = service_fn(move |mut request: hyper::Request<Incoming>| {
            let peer = Peer(peer.ip().to_canonical());
            request.extensions_mut().insert(peer);
            routes.call(request)
        });
        let (tls, ending) = (tls.clone(), end.clone());
        tokio::spawn(async move {
            let _permit = permit;
            let _ = stream.set_nodelay(true);
            let stream = Timed::new(stream);
            let Some(tls) = tls else {
                return talk(Box::new(stream), false, service, ending).await;
            };
            // Who does not finish its greeting holds a place no longer than one who does not ask.
            if let Ok(Ok(stream)) = tokio::time::timeout(HEAD, tls.accept(stream)).await {
                let two = stream.get_ref().1.alpn_protocol() == Some(b"h2");
                talk(Box::new(stream), two, service, ending).await;
            }
        });
    }
    let all = room.acquire_many(MOST as u32);
    if tokio::time::timeout(DRAIN, all).await.is_err() {
        tracing::warn!("some requests did not end in time");
    }
}

/// One form for plain connections and those of TLS: all that answers is compiled once.
trait Line: AsyncRead + AsyncWrite + Unpin + Send {}

impl<T: AsyncRead + AsyncWrite + Unpin + Send> Line for T {}

/// Answers on one connection, in HTTP/1.1 or HTTP/2, until it or the service ends. What goes wrong with it is its
/// client's affair.
async fn talk<S>(stream: Box<dyn Line>, two: bool, service: S, mut ending: watch::Receiver<bool>)
where
    S: Service<hyper::Request<Incoming>, Response = Response, Error = Infallible> + Send + 'static,
    S::Future: Send + 'static,
{
    let io = TokioIo::new(stream);
    if two {
        let connection = hyper::server::conn::http2::Builder::new(TokioExecutor::new())
            .timer(TokioTimer::new())
            .max_concurrent_streams(STREAMS)
            .max_header_list_size(HEADS)
            .keep_alive_interval(PING)
            .keep_alive_timeout(HEAD)
            .serve_connection(io, service);
        tokio::pin!(connection);
        tokio::select! {
            _ = connection.as_mut() => {}
            _ = ending.changed() => {
                connection.as_mut().graceful_shutdown();
                let _ = tokio::time::timeout(DRAIN, connection).await;
            }
        }
        return;
    }
    let connection = hyper::server::conn::http1::Builder::new()
        .timer(TokioTimer::new())
        .header_read_timeout(HEAD)
        .max_buf_size(HEADS as usize)
        .serve_connection(io, service)
        // Benches speak another protocol from then on.
        .with_upgrades();
    tokio::pin!(connection);
    tokio::select! {
        _ = connection.as_mut() => {}
        _ = ending.changed() => {
            connection.as_mut().graceful_shutdown();
            let _ = tokio::time::timeout(DRAIN, connection).await;
        }
    }
}

/// Lets only so many long bodies into memory at once.
pub async fn bound_bodies(State(app): State<Arc<App>>, request: Request, next: Next) -> Response {
    let headers = request.headers();
    let len = headers.get(header::CONTENT_LENGTH);
    let len = len.and_then(|len| len.to_str().ok()?.parse::<u64>().ok());
    let long = match len {
        Some(len) => len > LONG,
        None => headers.contains_key(header::TRANSFER_ENCODING),
    };
    let _permit = match long {
        true => match tokio::time::timeout(TURN, app.bodies.acquire()).await {
            Ok(permit) => permit.ok(),
            Err(_) => return ApiError::busy("too many uploads at once").into_response(),
        },
        false => None,
    };
    next.run(request).await
}

/// As many open files as the system lets this service have: each connection and each card's reader
/// takes one.
pub fn raise_open_files() {
    use rustix::process::{Resource, Rlimit, getrlimit, setrlimit};
    let limit = getrlimit(Resource::Nofile);
    let raised = Rlimit {
        current: limit.maximum,
        maximum: limit.maximum,
    };
    if let Err(e) = setrlimit(Resource::Nofile, raised) {
        tracing::debug!("the limit of open files stays: {e}");
    }
}

/// A connection whose other end must take what it is sent.
struct Timed {
    stream: TcpStream,
    /// Runs while a write waits.
    waiting: Option<Pin<Box<Sleep>>>,
}

impl Timed {
    fn new(stream: TcpStream) -> Self {
        Self {
            stream,
            waiting: None,
        }
    }

    fn judge<T>(
        &mut self,
        cx: &mut Context<'_>,
        written: Poll<io::Result<T>>,
    ) -> Poll<io::Result<T>> {
        if written.is_ready() {
            self.waiting = None;
            return written;
        }
        let waiting = self
            .waiting
            .get_or_insert_with(|| Box::pin(tokio::time::sleep(UNREAD)));
        ready!(waiting.as_mut().poll(cx));
        Poll::Ready(Err(io::ErrorKind::TimedOut.into()))
    }
}

impl AsyncRead for Timed {
    fn poll_read(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
        buf: &mut ReadBuf<'_>,
    ) -> Poll<io::Result<()>> {
        Pin::new(&mut self.stream).poll_read(cx, buf)
    }
}

impl AsyncWrite for Timed {
    fn poll_write(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
        buf: &[u8],
    ) -> Poll<io::Result<usize>> {
        let written = Pin::new(&mut self.stream).poll_write(cx, buf);
        self.judge(cx, written)
    }

    fn poll_flush(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        let flushed = Pin::new(&mut self.stream).poll_flush(cx);
        self.judge(cx, flushed)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.stream).poll_shutdown(cx)
    }
}
