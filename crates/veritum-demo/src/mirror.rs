//! A stand-in for an archive's server, on loopback: it serves a folder, and misbehaves when told to.

use std::fs::File;
use std::io::{self, Read as _, Seek as _, Write as _};
use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread::JoinHandle;
use std::time::Duration;

use tiny_http::{Header, Request, Response, Server, StatusCode};

/// How a server misbehaves.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub enum Mischief {
    /// It takes the request and says nothing.
    Silent,
    /// It sends so many bytes of the body and then nothing.
    StallsAfter(usize),
    /// It sends so many bytes of the body and hangs up.
    BreaksAfter(usize),
    /// It leads on to itself, for ever.
    Circle,
    /// It leads elsewhere.
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
    ranges: Vec<String>,
}

/// A server on loopback.
pub struct Mirror {
    url: String,
    book: Arc<Mutex<Book>>,
    stop: Arc<AtomicBool>,
    server: Arc<Server>,
    threads: Vec<JoinHandle<()>>,
}

impl Mirror {
    /// Serves a folder.
    ///
    /// # Errors
    /// When no port of loopback can be had.
    pub fn serve(folder: &Path) -> io::Result<Self> {
        let server = Arc::new(Server::http("127.0.0.1:0").map_err(|e| io::Error::other(e.to_string()))?);
        let url = format!("http://{}", server.server_addr());
        let (book, stop) = (Arc::new(Mutex::new(Book::default())), Arc::new(AtomicBool::new(false)));
        let one = || {
            let (server, book, stop, folder) = (server.clone(), book.clone(), stop.clone(), folder.to_owned());
            std::thread::spawn(move || {
                while let (Ok(request), false) = (server.recv(), stop.load(Ordering::Relaxed)) {
                    // Whoever asked may have hung up.
                    let _ = answer(request, &folder, &book, &stop);
                }
            })
        };
        let threads = (0..4).map(|_| one()).collect();
        Ok(Self { url, book, stop, server, threads })
    }

    /// Its URL, without a slash at the end.
    #[must_use]
    pub fn url(&self) -> &str {
        &self.url
    }

    fn book(&self) -> std::sync::MutexGuard<'_, Book> {
        self.book.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Misbehaves for paths that end so, so many times.
    pub fn misbehave(&self, ending: &str, how: Mischief, times: usize) {
        self.book().rules.push((ending.to_owned(), how, times));
    }

    /// Behaves from now on.
    pub fn behave(&self) {
        self.book().rules.clear();
    }

    /// The paths that were asked for so far.
    #[must_use]
    pub fn asked(&self) -> Vec<String> {
        self.book().asked.clone()
    }

    /// The ranges that were asked for so far.
    #[must_use]
    pub fn ranges(&self) -> Vec<String> {
        self.book().ranges.clone()
    }
}

impl Drop for Mirror {
    fn drop(&mut self) {
        self.stop.store(true, Ordering::Relaxed);
        for _ in 0..=self.threads.len() {
            self.server.unblock();
        }
        self.threads.drain(..).for_each(|t| drop(t.join()));
    }
}

fn header(name: &str, value: &str) -> Option<Header> {
    Header::from_bytes(name, value).ok()
}

fn answer(request: Request, folder: &Path, book: &Mutex<Book>, stop: &AtomicBool) -> io::Result<()> {
    let path = request.url().trim_start_matches('/').to_owned();
    let range = request.headers().iter().find(|h| h.field.equiv("Range")).map(|h| h.value.to_string());
    let mischief = {
        let mut book = book.lock().unwrap_or_else(PoisonError::into_inner);
        book.asked.push(path.clone());
        book.ranges.extend(range.clone());
        let rule = book.rules.iter_mut().find(|(ending, _, left)| path.ends_with(ending) && *left > 0);
        rule.map(|(_, how, left)| {
            *left -= 1;
            how.clone()
        })
    };
    let file = folder.join(&path);
    match mischief {
        None => send(request, &file, range.as_deref()),
        Some(how) => misbehave(request, &file, &how, book, stop),
    }
}

fn send(request: Request, file: &Path, range: Option<&str>) -> io::Result<()> {
    let Ok(mut open) = File::open(file) else { return request.respond(Response::empty(404)) };
    let size = open.metadata()?.len();
    if !open.metadata()?.is_file() {
        return request.respond(Response::empty(404));
    }
    let from = range.and_then(|r| r.strip_prefix("bytes=")?.strip_suffix('-')?.parse::<u64>().ok());
    match from {
        Some(from) if from < size => {
            open.seek(io::SeekFrom::Start(from))?;
            let mut response =
                Response::new(StatusCode(206), Vec::new(), open, usize::try_from(size - from).ok(), None);
            response.add_header(
                header("Content-Range", &format!("bytes {from}-{}/{size}", size - 1)).ok_or(io::ErrorKind::Other)?,
            );
            request.respond(response)
        }
        _ => request.respond(Response::from_file(open)),
    }
}

/// Waits until the mirror is closed or behaves again, so that the connection stays open and silent.
fn wait(book: &Mutex<Book>, stop: &AtomicBool) {
    let misbehaves = || !book.lock().unwrap_or_else(PoisonError::into_inner).rules.is_empty();
    while misbehaves() && !stop.load(Ordering::Relaxed) {
        std::thread::sleep(Duration::from_millis(20));
    }
}

fn misbehave(request: Request, file: &Path, how: &Mischief, book: &Mutex<Book>, stop: &AtomicBool) -> io::Result<()> {
    let bytes = whole(file);
    let url = request.url().to_owned();
    let redirect = |to: &str| -> io::Result<Response<io::Empty>> {
        Ok(Response::empty(302).with_header(header("Location", to).ok_or(io::ErrorKind::Other)?))
    };
    match how {
        Mischief::Circle => request.respond(redirect(&url)?),
        Mischief::LeadsTo(to) => request.respond(redirect(to)?),
        Mischief::Status(status) => request.respond(Response::empty(*status)),
        Mischief::LoginPage => {
            let page = "<html><title>Harbour guest network</title>Please log in.</html>";
            let html = header("Content-Type", "text/html; charset=utf-8").ok_or(io::ErrorKind::Other)?;
            request.respond(Response::from_string(page).with_header(html))
        }
        Mischief::OtherBytes => request.respond(Response::from_data(bytes.iter().map(|b| b ^ 1).collect::<Vec<_>>())),
        Mischief::Bytes(bytes) => request.respond(Response::from_data(bytes.clone())),
        raw => {
            let mut to = request.into_writer();
            let length = match raw {
                Mischief::WrongLength => bytes.len() + 1000,
                _ => bytes.len(),
            };
            if *raw == Mischief::Silent {
                wait(book, stop);
                return Ok(());
            }
            if *raw == Mischief::Endless {
                write!(to, "HTTP/1.1 200 OK\r\nConnection: close\r\n\r\n")?;
                while !stop.load(Ordering::Relaxed) {
                    to.write_all(&[b'x'; 65_536])?;
                }
                return Ok(());
            }
            write!(to, "HTTP/1.1 200 OK\r\nContent-Length: {length}\r\nConnection: close\r\n\r\n")?;
            let part = match raw {
                Mischief::StallsAfter(n) | Mischief::BreaksAfter(n) => &bytes[..bytes.len().min(*n)],
                _ => &bytes[..],
            };
            to.write_all(part)?;
            to.flush()?;
            if matches!(raw, Mischief::StallsAfter(_)) {
                wait(book, stop);
            }
            Ok(())
        }
    }
}

fn whole(file: &Path) -> Vec<u8> {
    let mut bytes = Vec::new();
    let read = File::open(file).and_then(|mut f| f.read_to_end(&mut bytes));
    if read.is_err() {
        bytes.clear();
    }
    bytes
}
