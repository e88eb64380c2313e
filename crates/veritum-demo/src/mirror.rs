//! A are-in for a repository's server, on loopback: it serves a folder, and misbehaves when reported to.
//!
//! It speaks just enough HTTP/1.1 for that, by hand: no library for servers breaks off in the middle of an answer.

use std::fs;
use std::io::{self, BufRead as _, BufReader, Write as _};
use std::net::{TcpListener, TcpStream};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::thread::JoinHandle;
use std::time::Duration;

/// How a server misbehaves.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub enum Mischief {
    /// It takes the request and says nothing.
    NoObserver,
    /// It sends so many bytes of the body and then nothing.
    StallsAfter(usize),
    /// It sends so many bytes of the body and hangs up.
    BreaksAfter(usize),
    /// It points on to itself, for ever.
    Circle,
    /// It points elsewhere.
    LeadsTo(String),
    /// It sends a body without end.
    Endless,
    /// It announces another length than it sends.
    WrongLength,
    /// It sends a page to log in to the network.
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
    /// When no port of loopback can be had.
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
                // The caller that asked may have hung up.
                std::thread::spawn(move || drop(shared.answer(stream)));
            }
        });
        Ok(Self { url, shared, thread: Some(thread) })
    }

    /// Its URL, without a slash at the end.
    #[must_use]
    pub fn url(&self) -> &str {
        &self.url
    }

    /// Misbehaves for paths that end so, so many times.
    pub fn misbehave(&self, ending: &str, how: Mischief, times: usize) {
        self.shared.book().rules.push((ending.to_owned(), how, times));
    }

    /// Behaves from now on.
    pub fn behave(&self) {
        self.shared.book().rules.clear();
    }

    /// The paths that were asked for so far.
    #[must_use]
    pub fn asked(&self) -> Vec<String> {
        self.shared.book().asked.clone()
    }

    /// The bytes of files that were sent so far, in whole answers, for paths that begin so.
    #[must_use]
    pub fn sent(&self, below: &str) -> u64 {
        self.shared.book().sent.iter().filter(|(path, _)| path.starts_with(below)).map(|(_, bytes)| bytes).sum()
    }

    /// How often it was asked as a proxy: for whole URLs, and for a way through.
    #[must_use]
    pub fn as_proxy(&self) -> (usize, usize) {
        let book = self.shared.book();
        (book.whole, book.tunnels)
    }

    /// The ranges that were asked for so far.
    #[must_use]
    pub fn ranges(&self) -> Vec<String> {
        self.shared.book().ranges.clone()
    }
}

impl Drop for Mirror {
    fn drop(&mut self) {
        self.shared.stop.store(true, Ordering::Relaxed);
        // The one connection that lets the listener see it.
        let _ = TcpStream::connect(self.url.trim_start_matches("http://"));
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}

/// A request, as far as it matters.
struct Request {
    path: String,
    range: Option<String>,
    /// A way through to another host is asked for (RFC 9110, 9.3.6).
    tunnel: bool,
    /// A whole URL is asked for, as of a proxy.
    whole: bool,
}

fn read_request(stream: &TcpStream) -> io::Result<Request> {
    let mut lines = BufReader::new(stream).lines();
    let first = lines.next().unwrap_or_else(|| Ok(String::new()))?;
    // A proxy is asked for whole URLs.
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
        // Whatever host is meant: it is played by this server as well.
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
            Mischief::NoObserver => self.wait(),
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
