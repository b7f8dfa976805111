//! A web server on loopback with the files of a folder, for demo and tests; it misbehaves as requested.

use std::collections::BTreeMap;
use std::io::{self, BufRead, BufReader, Read, Write};
use std::net::{Ipv4Addr, SocketAddr, TcpListener, TcpStream};
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

/// How a file is served.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub enum Service {
    /// As HTTP/1.1 says, with ranges (RFC 9110, section 14).
    #[default]
    Proper,
    /// Without ranges.
    WithoutRanges,
    /// The connection ends after this many bytes of each reply; ranges work.
    Cut(usize),
    /// The server sends this many bytes, then nothing.
    Silent(usize),
    /// Bytes without an end.
    Endless,
    /// A reply without its last bytes, whose stated length is that of the rest.
    Shortened(usize),
    /// One bit of the file is changed.
    Changed,
    /// Reference to another address.
    Redirect(String),
    /// These bytes, with `Content-Encoding: gzip`.
    Gzip(Vec<u8>),
    /// This status, without a file.
    Status(u16),
}

/// A request: its first line and its headers.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Request {
    /// The path, with its slash.
    pub path: String,
    /// The headers, with names in lower case.
    pub headers: BTreeMap<String, String>,
}

#[derive(Debug, Default)]
struct State {
    folder: PathBuf,
    services: Mutex<BTreeMap<String, Service>>,
    requests: Mutex<Vec<Request>>,
    is_ended: AtomicBool,
}

/// A server, until it is dropped.
#[derive(Debug)]
pub struct WebServer {
    address: SocketAddr,
    state: Arc<State>,
}

impl WebServer {
    /// Serves a folder on a free port of loopback.
    ///
    /// # Errors
    /// No port is free.
    pub fn start(folder: impl Into<PathBuf>) -> io::Result<Self> {
        let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, 0))?;
        let address = listener.local_addr()?;
        let state = Arc::new(State { folder: folder.into(), ..State::default() });
        let shared = Arc::clone(&state);
        std::thread::spawn(move || {
            for stream in listener.incoming().flatten() {
                if shared.is_ended.load(Ordering::SeqCst) {
                    break;
                }
                let state = Arc::clone(&shared);
                // A client that has gone needs no reply.
                std::thread::spawn(move || drop(serve(&state, stream)));
            }
        });
        Ok(Self { address, state })
    }

    /// The address of its folder: `http://127.0.0.1:PORT/`.
    pub fn url(&self) -> String {
        format!("http://{}/", self.address)
    }

    /// How a file is served from now on; `path` begins with a slash.
    pub fn set(&self, path: &str, service: Service) {
        let mut services = self.state.services.lock().unwrap_or_else(PoisonError::into_inner);
        services.insert(path.to_owned(), service);
    }

    /// The requests so far.
    pub fn requests(&self) -> Vec<Request> {
        self.state.requests.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }
}

impl Drop for WebServer {
    fn drop(&mut self) {
        self.state.is_ended.store(true, Ordering::SeqCst);
        // Wakes the thread that accepts connections.
        drop(TcpStream::connect(self.address));
    }
}

fn serve(state: &State, stream: TcpStream) -> io::Result<()> {
    let mut reader = BufReader::new(stream.try_clone()?);
    while let Some(request) = request(&mut reader)? {
        let service = {
            let services = state.services.lock().unwrap_or_else(PoisonError::into_inner);
            services.get(&request.path).cloned().unwrap_or_default()
        };
        state.requests.lock().unwrap_or_else(PoisonError::into_inner).push(request.clone());
        if !reply(state, &request, &service, &stream)? {
            break;
        }
    }
    Ok(())
}

fn request(reader: &mut impl BufRead) -> io::Result<Option<Request>> {
    // A request with more headers than that is not one of a client of ours.
    let mut reader = reader.take(64 * 1024);
    let mut line = String::new();
    reader.read_line(&mut line)?;
    let Some(path) = line.strip_prefix("GET ").and_then(|rest| rest.split(' ').next()).map(str::to_owned) else {
        return Ok(None);
    };
    let mut headers = BTreeMap::new();
    loop {
        line.clear();
        reader.read_line(&mut line)?;
        let Some((name, value)) = line.split_once(':') else { return Ok(Some(Request { path, headers })) };
        headers.insert(name.to_lowercase(), value.trim().to_owned());
    }
}

/// Replies to a request; returns whether the connection stays.
fn reply(state: &State, request: &Request, service: &Service, mut stream: &TcpStream) -> io::Result<bool> {
    let mut head = |status: u16, headers: &str| write!(stream, "HTTP/1.1 {status} -\r\n{headers}\r\n");
    match service {
        Service::Status(status) => {
            head(*status, "Content-Length: 0\r\n")?;
            return Ok(true);
        }
        Service::Redirect(to) => {
            head(302, &format!("Location: {to}\r\nContent-Length: 0\r\n"))?;
            return Ok(true);
        }
        Service::Gzip(bytes) => {
            head(200, &format!("Content-Encoding: gzip\r\nContent-Length: {}\r\n", bytes.len()))?;
            return stream.write_all(bytes).map(|()| true);
        }
        Service::Endless => {
            head(200, "Connection: close\r\n")?;
            loop {
                stream.write_all(&[0x55; 4096])?;
            }
        }
        _ => {}
    }
    let is_inside = request.path.split('/').all(|part| part != "..");
    let file = state.folder.join(request.path.trim_start_matches('/'));
    let Some(mut bytes) = std::fs::read(file).ok().filter(|_| is_inside) else {
        head(404, "Content-Length: 0\r\n")?;
        return Ok(true);
    };
    if *service == Service::Changed {
        let middle = bytes.len() / 2;
        bytes[middle] ^= 1;
    }
    if let Service::Shortened(count) = service {
        bytes.truncate(bytes.len().saturating_sub(*count));
    }
    let range = request.headers.get("range").and_then(|range| range.strip_prefix("bytes=")?.strip_suffix('-'));
    let from = range.and_then(|from| from.parse().ok()).filter(|_| *service != Service::WithoutRanges);
    let (from, total): (usize, usize) = (from.unwrap_or(0), bytes.len());
    if from > 0 && from >= total {
        head(416, &format!("Content-Range: bytes */{total}\r\nContent-Length: 0\r\n"))?;
        return Ok(true);
    }
    let rest = &bytes[from..];
    match from {
        0 => head(200, &format!("Content-Length: {total}\r\n"))?,
        _ => {
            let range = format!("Content-Range: bytes {from}-{}/{total}\r\n", total - 1);
            head(206, &format!("{range}Content-Length: {}\r\n", rest.len()))?;
        }
    }
    match service {
        Service::Cut(count) => stream.write_all(&rest[..rest.len().min(*count)]).map(|()| rest.len() <= *count),
        Service::Silent(count) => {
            stream.write_all(&rest[..rest.len().min(*count)])?;
            wait_for_end(stream)?;
            Ok(false)
        }
        _ => stream.write_all(rest).map(|()| true),
    }
}

/// Sends nothing until the client gives up.
fn wait_for_end(mut stream: &TcpStream) -> io::Result<()> {
    stream.set_read_timeout(Some(Duration::from_secs(120)))?;
    stream.read(&mut [0]).map(drop)
}
