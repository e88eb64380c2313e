//! [`FetchError`]: why a file could not be downloaded.

use std::io;

/// Why a file could not be downloaded.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum FetchError {
    /// The host cannot be reached.
    #[error("{host} cannot be reached ({why})")]
    Unreachable {
        /// The host.
        host: String,
        /// The reason.
        why: String,
    },
    /// It was reached, but then stopped answering, or was too slow.
    #[error("{host} stopped responding")]
    NoAnswer {
        /// The host.
        host: String,
    },
    /// It answered without the file.
    #[error("{host} returned HTTP status {status}")]
    Status {
        /// The host.
        host: String,
        /// The HTTP status.
        status: u16,
    },
    /// It redirects too often.
    #[error("{host} redirects in a loop")]
    Circle {
        /// The host.
        host: String,
    },
    /// It redirects to an address that is neither http nor https.
    #[error("{host} redirects to an address that is not allowed ({why})")]
    LeadsAway {
        /// The host.
        host: String,
        /// What is wrong with the address.
        why: String,
    },
    /// The answer is longer than the file.
    #[error("{host} sent more data than the file size")]
    TooLong {
        /// The host.
        host: String,
    },
    /// The answer is not the file.
    #[error("{host} sent unexpected content ({what})")]
    OtherContent {
        /// The host.
        host: String,
        /// What it looks like.
        what: &'static str,
    },
    /// The server sent a web page, as networks do that require a login first.
    #[error("{host} sent a web page instead (does this network need a login?)")]
    WebPage {
        /// The host.
        host: String,
    },
    /// The connection broke more than once.
    #[error("the connection to {host} was lost ({why})")]
    Broken {
        /// The host.
        host: String,
        /// The reason.
        why: String,
    },
    /// The secure connection cannot be trusted.
    #[error("the secure connection to {host} cannot be trusted ({why})")]
    Tls {
        /// The host.
        host: String,
        /// The reason.
        why: String,
    },
    /// The file cannot be saved.
    #[error("the download cannot be saved ({0})")]
    Disk(String),
    /// The observer stopped the run.
    #[error("stopped")]
    Stopped,
}

/// How reading an answer ended.
pub(super) fn broken(host: &str, error: &io::Error) -> FetchError {
    let host = host.to_owned();
    let inner = error.get_ref().and_then(|e| e.downcast_ref::<ureq::Error>());
    if matches!(inner, Some(ureq::Error::Timeout(_))) {
        return FetchError::NoAnswer { host };
    }
    match error.kind() {
        io::ErrorKind::TimedOut | io::ErrorKind::WouldBlock => FetchError::NoAnswer { host },
        _ => FetchError::Broken { host, why: crate::model::error_words(error) },
    }
}

/// How a request ended.
pub(super) fn failed(host: &str, error: ureq::Error) -> FetchError {
    let host = host.to_owned();
    match error {
        ureq::Error::Timeout(ureq::Timeout::Resolve | ureq::Timeout::Connect) => {
            FetchError::Unreachable { host, why: "no response".into() }
        }
        ureq::Error::Timeout(_) => FetchError::NoAnswer { host },
        ureq::Error::HostNotFound => FetchError::Unreachable { host, why: "host not found".into() },
        ureq::Error::Io(e) if e.kind() == io::ErrorKind::TimedOut => FetchError::NoAnswer { host },
        // The standard library has no kind for this.
        ureq::Error::Io(e) if e.to_string().contains("failed to lookup address") => {
            FetchError::Unreachable { host, why: "name lookup failed: is the network connected?".into() }
        }
        ureq::Error::Io(e) => FetchError::Unreachable { host, why: crate::model::error_words(&e) },
        ureq::Error::Rustls(e) => FetchError::Tls { host, why: e.to_string() },
        ureq::Error::Tls(e) => FetchError::Tls { host, why: e.to_owned() },
        other => FetchError::Unreachable { host, why: other.to_string() },
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_went_wrong_is_told_apart() {
        let told = |error: ureq::Error| failed("quay.example", error).to_string();
        let lookup = io::Error::other("failed to lookup address information: Temporary failure in name resolution");
        assert!(told(ureq::Error::Io(lookup)).contains("name lookup failed: is the network connected?"));
        assert!(told(ureq::Error::HostNotFound).contains("host not found"));
        assert!(told(ureq::Error::Timeout(ureq::Timeout::Connect)).contains("no response"));
        assert!(told(ureq::Error::Timeout(ureq::Timeout::RecvResponse)).contains("stopped responding"));
        assert!(told(ureq::Error::Tls("no certificate")).contains("cannot be trusted"));
        let cut = io::Error::from(io::ErrorKind::ConnectionReset);
        assert!(matches!(broken("quay.example", &cut), FetchError::Broken { .. }));
        let silent = io::Error::from(io::ErrorKind::TimedOut);
        assert!(matches!(broken("quay.example", &silent), FetchError::NoAnswer { .. }));
    }
}
