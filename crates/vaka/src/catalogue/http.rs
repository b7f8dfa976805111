//! Getting files from web servers, without trust in them.
//!
//! A request is made on a thread of its own, so that Ctrl-C and the time limit work while a server
//! sends nothing. Only the address of the file is sent: no name of the user, of this computer or of a unit.

#![cfg_attr(not(feature = "download"), allow(dead_code))] // no request is made then

use std::sync::atomic::Ordering;
#[cfg(feature = "download")]
use std::sync::mpsc::SyncSender;
use std::sync::mpsc::{self, RecvTimeoutError};
use std::time::{Duration, Instant};

use vaka_base::duration;
use vaka_base::size::Bytes;

use crate::signals;

/// Longest time in which a server sends nothing. Chosen by us.
const MOST_SILENCE: Duration = Duration::from_secs(20);
/// How often the user's wish to stop is looked at.
const LOOK: Duration = Duration::from_millis(100);
/// Most addresses that a server refers to, one after the other. Chosen by us.
#[cfg(feature = "download")]
const MOST_REDIRECTS: usize = 5;
/// Bytes that are passed on at once.
#[cfg(feature = "download")]
const PIECE: usize = 64 * 1024;

/// Why a file was not transferred.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum HttpError {
    /// The program is built without HTTP.
    #[cfg(not(feature = "download"))]
    NotBuilt,
    /// The settings of the system cannot be used.
    #[cfg(feature = "download")]
    Settings(String),
    /// The server does not accept the connection.
    Unreachable(String),
    /// The server answers with this status (RFC 9110, section 15).
    Status(u16),
    /// The server refers to an address that is not followed.
    Redirect(String),
    /// The transfer ended early.
    Cut(String),
    /// The server sent nothing for this time.
    Silent(Duration),
    /// The file has more bytes than this.
    TooLarge(u64),
    /// The user stopped it.
    Stopped,
    /// The bytes cannot be stored.
    Storage(String),
}

impl std::fmt::Display for HttpError {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            #[cfg(not(feature = "download"))]
            Self::NotBuilt => f.write_str("this program was built without the feature 'download'"),
            #[cfg(feature = "download")]
            Self::Settings(reason) => f.write_str(reason),
            Self::Unreachable(reason) => write!(f, "the server cannot be reached: {reason}"),
            Self::Status(404) => f.write_str("the server has no such file (status 404)"),
            Self::Status(status) => write!(f, "the server answers with status {status}"),
            Self::Redirect(to) => write!(f, "the server refers to '{to}', which is not followed"),
            Self::Cut(reason) => write!(f, "the transfer was cut off: {reason}"),
            Self::Silent(time) => write!(f, "the server sent nothing for {}", duration::words(*time)),
            Self::TooLarge(limit) => write!(f, "the server sends more than {}", Bytes(*limit)),
            Self::Stopped => f.write_str("stopped"),
            Self::Storage(reason) => write!(f, "the file cannot be stored: {reason}"),
        }
    }
}

impl HttpError {
    /// Whether the same request may succeed later.
    pub fn is_passing(&self) -> bool {
        matches!(self, Self::Unreachable(_) | Self::Cut(_) | Self::Silent(_) | Self::Status(500..=599))
    }
}

/// A part of a reply.
pub enum Part<'a> {
    /// The place in the file at which the following bytes begin.
    Start(u64),
    Data(&'a [u8]),
}

/// A message of the thread that makes the request.
enum Message {
    Start(u64),
    Data(Vec<u8>),
    End,
    Failed(HttpError),
}

/// Gets a file from byte `from` on, or from its start if the server cannot begin in the middle.
///
/// # Errors
/// [`HttpError`], or the error of `take`.
pub fn get(url: &str, from: u64, take: &mut dyn FnMut(Part<'_>) -> Result<(), HttpError>) -> Result<(), HttpError> {
    let (messages, incoming) = mpsc::sync_channel(4);
    let url = url.to_owned();
    // It ends with its connection, or with the process.
    std::thread::spawn(move || request(&url, from, &messages));
    let mut heard = Instant::now();
    loop {
        if signals::flag().load(Ordering::SeqCst) {
            return Err(HttpError::Stopped);
        }
        match incoming.recv_timeout(LOOK) {
            Ok(Message::Start(at)) => take(Part::Start(at))?,
            Ok(Message::Data(data)) => take(Part::Data(&data))?,
            Ok(Message::End) => return Ok(()),
            Ok(Message::Failed(error)) => return Err(error),
            Err(RecvTimeoutError::Timeout) if heard.elapsed() > MOST_SILENCE => {
                return Err(HttpError::Silent(MOST_SILENCE));
            }
            Err(RecvTimeoutError::Timeout) => continue,
            Err(RecvTimeoutError::Disconnected) => return Err(HttpError::Cut("the request ended".to_owned())),
        }
        heard = Instant::now();
    }
}

#[cfg(not(feature = "download"))]
fn request(_: &str, _: u64, messages: &mpsc::SyncSender<Message>) {
    let _ = messages.send(Message::Failed(HttpError::NotBuilt));
}

/// Makes the request. The receiver may have lost interest.
#[cfg(feature = "download")]
fn request(url: &str, from: u64, messages: &SyncSender<Message>) {
    let last = match transfer(url, from, messages) {
        Ok(()) => Message::End,
        Err(error) => Message::Failed(error),
    };
    let _ = messages.send(last);
}

#[cfg(feature = "download")]
fn transfer(url: &str, from: u64, messages: &SyncSender<Message>) -> Result<(), HttpError> {
    use std::io::Read;
    let agent = agent()?;
    let mut reply = followed(&agent, url, from)?;
    if from > 0 && reply.status() == 416 {
        // The server has no such range; the file begins again.
        reply = followed(&agent, url, 0)?;
    }
    let start = match reply.status().as_u16() {
        200 => 0,
        206 => range_start(&reply)
            .filter(|start| *start == from)
            .ok_or_else(|| HttpError::Cut("wrong range".to_owned()))?,
        other => return Err(HttpError::Status(other)),
    };
    let gone = |_| HttpError::Stopped;
    messages.send(Message::Start(start)).map_err(gone)?;
    let mut body = reply.into_body().into_reader();
    let mut piece = vec![0; PIECE];
    loop {
        match body.read(&mut piece) {
            Ok(0) => return Ok(()),
            Ok(count) => messages.send(Message::Data(piece[..count].to_vec())).map_err(gone)?,
            Err(error) => return Err(HttpError::Cut(error.to_string())),
        }
    }
}

/// The place in the file at which a part begins: `Content-Range: bytes 100-199/200` (RFC 9110, section 14.4).
#[cfg(feature = "download")]
fn range_start(reply: &ureq::http::Response<ureq::Body>) -> Option<u64> {
    let range = reply.headers().get("content-range")?.to_str().ok()?;
    // A compressed reply counts other bytes.
    let is_plain = reply.headers().get("content-encoding").is_none_or(|encoding| encoding == "identity");
    range.strip_prefix("bytes ")?.split_once('-')?.0.parse().ok().filter(|_| is_plain)
}

#[cfg(feature = "download")]
fn agent() -> Result<ureq::Agent, HttpError> {
    use ureq::tls::{RootCerts, TlsConfig};
    let mut config = ureq::Agent::config_builder()
        .user_agent("vaka")
        .accept_encoding("identity")
        .max_redirects(0)
        .max_redirects_will_error(false)
        .http_status_as_error(false)
        .timeout_connect(Some(MOST_SILENCE))
        .timeout_recv_response(Some(MOST_SILENCE));
    if let Some(path) = std::env::var_os("SSL_CERT_FILE") {
        let unusable = |reason: &dyn std::fmt::Display| {
            HttpError::Settings(format!("SSL_CERT_FILE ({}): {reason}", path.to_string_lossy()))
        };
        let pem = std::fs::read(&path).map_err(|error| unusable(&error))?;
        let certificates = ureq::tls::parse_pem(&pem).filter_map(|item| match item {
            Ok(ureq::tls::PemItem::Certificate(certificate)) => Some(certificate.to_owned()),
            _ => None,
        });
        let certificates: Vec<_> = certificates.collect();
        if certificates.is_empty() {
            return Err(unusable(&"it has no certificate"));
        }
        config = config.tls_config(TlsConfig::builder().root_certs(RootCerts::from(certificates)).build());
    }
    Ok(config.build().into())
}

/// The reply of the server that has the file. A redirect to another scheme is not followed: it would take away the
/// protection of the first, or reach what the user did not name.
#[cfg(feature = "download")]
fn followed(agent: &ureq::Agent, url: &str, from: u64) -> Result<ureq::http::Response<ureq::Body>, HttpError> {
    let mut url = url.to_owned();
    for _ in 0..=MOST_REDIRECTS {
        let mut request = agent.get(&url);
        if from > 0 {
            request = request.header("range", format!("bytes={from}-"));
        }
        let reply =
            request.call().map_err(|error| HttpError::Unreachable(vaka_base::text::sanitize(&error.to_string())))?;
        if !reply.status().is_redirection() {
            return Ok(reply);
        }
        let to = reply.headers().get("location").and_then(|location| location.to_str().ok());
        let to = to.ok_or_else(|| HttpError::Status(reply.status().as_u16()))?;
        url = joined(&url, to).ok_or_else(|| HttpError::Redirect(vaka_base::text::sanitize(to)))?;
    }
    Err(HttpError::Redirect(vaka_base::text::sanitize(&url)))
}

/// The address that a reference means (RFC 3986, section 5.2), if it has the same scheme.
#[cfg(any(test, feature = "download"))]
fn joined(base: &str, reference: &str) -> Option<String> {
    let (scheme, rest) = base.split_once("://")?;
    if let Some((other, _)) = reference.split_once("://").filter(|(other, _)| !other.contains(['/', '?', '#'])) {
        return other.eq_ignore_ascii_case(scheme).then(|| reference.to_owned());
    }
    if let Some(host_and_path) = reference.strip_prefix("//") {
        return Some(format!("{scheme}://{host_and_path}"));
    }
    let host = rest.split('/').next()?;
    if reference.starts_with('/') {
        return Some(format!("{scheme}://{host}{reference}"));
    }
    let folder = rest.split('?').next()?.rsplit_once('/').map_or(host, |(folder, _)| folder);
    Some(format!("{scheme}://{folder}/{reference}"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn references_are_followed_within_one_scheme() {
        let base = "https://a.example/files/one.vaka";
        for (reference, expected) in [
            ("two.vaka", Some("https://a.example/files/two.vaka")),
            ("/two.vaka", Some("https://a.example/two.vaka")),
            ("//b.example/x", Some("https://b.example/x")),
            ("https://b.example/x", Some("https://b.example/x")),
            ("http://a.example/files/one.vaka", None),
            ("file:///etc/passwd", None),
        ] {
            assert_eq!(joined(base, reference).as_deref(), expected, "{reference}");
        }
    }
}
