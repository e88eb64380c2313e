//! A repository server for tests, on loopback: it serves a folder, and misbehaves on request.
//!
//! It implements the necessary part of HTTP/1.1 itself: no server library breaks off in the middle of an answer.

use std::fs;
use std::io::{self, BufRead as _, BufReader, Write as _};
use std::net::{TcpListener, TcpStream};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::thread::JoinHandle;
use std::time::Duration;

use veritum_core::repository::Limits;

/// How a server misbehaves.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub enum Mischief {
    /// It accepts the request and never answers.
    NoAnswer,
    /// It sends part of the body, then nothing.
    StallsAfter(usize),
    /// It sends part of the body and closes the connection.
    BreaksAfter(usize),
    /// It redirects to itself, without end.
    Circle,
    /// It redirects elsewhere.
    LeadsTo(String),
    /// It sends an endless body.
    Endless,
    /// It announces a wrong length.
    WrongLength,
    /// It sends the login page of a network.
    LoginPage,
    /// It answers with a status.
    Status(u16),
    /// It sends other bytes of the same length.
    OtherBytes,
    /// It sends these bytes.
    Bytes(Vec<u8>),
}

#[derive(Debug, Default)]
struct Book {
    rules: Vec<(String, Mischief, usize)>,
    asked: Vec<String>,
    sent: Vec<(String, u64)>,
    ranges: Vec<String>,
    whole: usize,
    tunnels: usize,
}

/// A server on loopback.
#[derive(Debug)]
pub struct Mirror {
    url: String,
    shared: Arc<Shared>,
    thread: Option<JoinHandle<()>>,
}

#[derive(Debug)]
struct Shared {
    folder: PathBuf,
    book: Mutex<Book>,
    stop: AtomicBool,
}

impl Mirror {
    /// Serves a folder.
    ///
    /// # Errors
    /// When no port can be opened.
    pub fn serve(folder: &Path) -> io::Result<Self> {
        let listener = TcpListener::bind("127.0.0.1:0")?;
        let url = format!("http://{}", listener.local_addr()?);
        let shared =
            Arc::new(Shared { folder: folder.to_owned(), book: Mutex::default(), stop: AtomicBool::new(false) });
        let at_work = shared.clone();
        let thread = std::thread::spawn(move || {
            for stream in listener.incoming().flatten() {
                if at_work.stop.load(Ordering::Relaxed) {
                    return;
                }
                let shared = at_work.clone();
                // The client may have closed the connection.
                std::thread::spawn(move || drop(shared.answer(stream)));
            }
        });
        Ok(Self { url, shared, thread: Some(thread) })
    }

    /// Its URL, without a trailing slash.
    #[must_use]
    pub fn url(&self) -> &str {
        &self.url
    }

    /// Misbehaves for paths with this suffix, this many times.
    pub fn misbehave(&self, ending: &str, how: Mischief, times: usize) {
        self.shared.book().rules.push((ending.to_owned(), how, times));
    }

    /// The limits of its clients: short only while it does not answer, as a busy machine is slow, too.
    #[must_use]
    pub fn limits(&self) -> Limits {
        let is_silent = |how: &Mischief| matches!(how, Mischief::NoAnswer | Mischief::StallsAfter(_));
        let seconds = if self.shared.book().rules.iter().any(|(_, how, _)| is_silent(how)) { 1 } else { 30 };
        let short = Duration::from_secs(seconds);
        Limits { connect: Duration::from_secs(30), silence: short, patience: short * 2 }
    }

    /// Stops misbehaving.
    pub fn behave(&self) {
        self.shared.book().rules.clear();
    }

    /// The paths requested so far.
    #[must_use]
    pub fn asked(&self) -> Vec<String> {
        self.shared.book().asked.clone()
    }

    /// The bytes of complete answers sent so far for paths with this prefix.
    #[must_use]
    pub fn sent(&self, below: &str) -> u64 {
        self.shared.book().sent.iter().filter(|(path, _)| path.starts_with(below)).map(|(_, bytes)| bytes).sum()
    }

    /// The number of requests to it as a proxy: with absolute URLs, and for tunnels.
    #[must_use]
    pub fn as_proxy(&self) -> (usize, usize) {
        let book = self.shared.book();
        (book.whole, book.tunnels)
    }

    /// The ranges requested so far.
    #[must_use]
    pub fn ranges(&self) -> Vec<String> {
        self.shared.book().ranges.clone()
    }
}

impl Drop for Mirror {
    fn drop(&mut self) {
        self.shared.stop.store(true, Ordering::Relaxed);
        // A connection that wakes the listener.
        let _ = TcpStream::connect(self.url.trim_start_matches("http://"));
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}

/// A request, as far as needed.
struct Request {
    path: String,
    range: Option<String>,
    /// A tunnel to another host was requested (RFC 9110, 9.3.6).
    tunnel: bool,
    /// An absolute URL was requested, as from a proxy.
    whole: bool,
}

fn read_request(stream: &TcpStream) -> io::Result<Request> {
    let mut lines = BufReader::new(stream).lines();
    let first = lines.next().unwrap_or_else(|| Ok(String::new()))?;
    // Proxies receive absolute URLs.
    let url = first.split(' ').nth(1).unwrap_or_default().to_owned();
    let tunnel = first.starts_with("CONNECT ");
    let path = url.split_once("://").map_or(url.as_str(), |(_, rest)| rest.split_once('/').map_or("", |(_, p)| p));
    let mut request =
        Request { path: path.trim_start_matches('/').to_owned(), range: None, tunnel, whole: url.contains("://") };
    for line in lines {
        let line = line?;
        if line.is_empty() {
            break;
        }
        if let Some((name, value)) = line.split_once(':')
            && name.eq_ignore_ascii_case("range")
        {
            request.range = Some(value.trim().to_owned());
        }
    }
    Ok(request)
}

impl Shared {
    fn book(&self) -> MutexGuard<'_, Book> {
        self.book.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn answer(&self, mut stream: TcpStream) -> io::Result<()> {
        let mut request = read_request(&stream)?;
        // This server plays every host.
        if request.tunnel {
            write!(stream, "HTTP/1.1 200 OK\r\n\r\n")?;
            request = Request { tunnel: true, ..read_request(&stream)? };
        }
        let mischief = {
            let mut book = self.book();
            book.whole += usize::from(request.whole);
            book.tunnels += usize::from(request.tunnel);
            book.asked.push(request.path.clone());
            book.ranges.extend(request.range.clone());
            let rule = book.rules.iter_mut().find(|(ending, _, left)| request.path.ends_with(ending) && *left > 0);
            rule.map(|(_, how, left)| {
                *left -= 1;
                how.clone()
            })
        };
        let bytes = fs::read(self.folder.join(&request.path));
        match (mischief, bytes) {
            (Some(how), bytes) => self.misbehave(&mut stream, &request, &bytes.unwrap_or_default(), &how),
            (None, Err(_)) => whole(&mut stream, "404 Not Found", "", b""),
            (None, Ok(bytes)) => {
                let from =
                    request.range.as_ref().and_then(|r| r.strip_prefix("bytes=")?.strip_suffix('-')?.parse().ok());
                let begin = from.filter(|from| *from < bytes.len()).unwrap_or(0);
                self.book().sent.push((request.path.clone(), (bytes.len() - begin) as u64));
                match from {
                    Some(from) if from < bytes.len() => {
                        let range = format!("Content-Range: bytes {from}-{}/{}\r\n", bytes.len() - 1, bytes.len());
                        whole(&mut stream, "206 Partial Content", &range, &bytes[from..])
                    }
                    _ => whole(&mut stream, "200 OK", "", &bytes),
                }
            }
        }
    }

    /// Waits until the mirror is closed or behaves again, so that the connection stays open and silent.
    fn wait(&self) {
        while !self.book().rules.is_empty() && !self.stop.load(Ordering::Relaxed) {
            std::thread::sleep(Duration::from_millis(20));
        }
    }

    fn misbehave(&self, to: &mut TcpStream, request: &Request, bytes: &[u8], how: &Mischief) -> io::Result<()> {
        let part = |n: usize| &bytes[..bytes.len().min(n)];
        match how {
            Mischief::NoAnswer => self.wait(),
            Mischief::StallsAfter(n) => {
                begin(to, bytes.len())?;
                to.write_all(part(*n))?;
                self.wait();
            }
            Mischief::BreaksAfter(n) => {
                begin(to, bytes.len())?;
                to.write_all(part(*n))?;
            }
            Mischief::WrongLength => {
                begin(to, bytes.len() + 1000)?;
                to.write_all(bytes)?;
            }
            Mischief::Endless => {
                write!(to, "HTTP/1.1 200 OK\r\nConnection: close\r\n\r\n")?;
                while !self.stop.load(Ordering::Relaxed) {
                    to.write_all(&[b'x'; 65_536])?;
                }
            }
            Mischief::Circle => whole(to, "302 Found", &format!("Location: /{}\r\n", request.path), b"")?,
            Mischief::LeadsTo(place) => whole(to, "302 Found", &format!("Location: {place}\r\n"), b"")?,
            Mischief::Status(status) => whole(to, &format!("{status} No"), "", b"")?,
            Mischief::LoginPage => {
                let page = b"<html><title>Harbour guest network</title>Please log in.</html>";
                whole(to, "200 OK", "Content-Type: text/html; charset=utf-8\r\n", page)?;
            }
            Mischief::OtherBytes => whole(to, "200 OK", "", &bytes.iter().map(|b| b ^ 1).collect::<Vec<_>>())?,
            Mischief::Bytes(other) => whole(to, "200 OK", "", other)?,
        }
        Ok(())
    }
}

fn begin(to: &mut TcpStream, length: usize) -> io::Result<()> {
    write!(to, "HTTP/1.1 200 OK\r\nContent-Length: {length}\r\nConnection: close\r\n\r\n")
}

fn whole(to: &mut TcpStream, status: &str, headers: &str, bytes: &[u8]) -> io::Result<()> {
    let length = bytes.len();
    write!(to, "HTTP/1.1 {status}\r\n{headers}Content-Length: {length}\r\nConnection: close\r\n\r\n")?;
    to.write_all(bytes)
}
