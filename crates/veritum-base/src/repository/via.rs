//! Plain HTTP through a proxy, as proxies for repositories expect it (RFC 9112, 3.2.2): requests with absolute URLs. They
//! usually refuse to open a tunnel to the repository's port.

use std::fmt;

use base64::Engine as _;
use ureq::Error;
use ureq::http::Uri;
use ureq::unversioned::resolver::{ResolvedSocketAddrs, Resolver};
use ureq::unversioned::transport::{Buffers, ConnectionDetails, Connector, NextTimeout, TcpConnector, Transport};

/// A proxy that speaks plain HTTP.
#[derive(Debug, Clone)]
pub(super) struct Via {
    uri: Uri,
    /// The credentials that it requires.
    credentials: Option<String>,
}

impl Via {
    /// A proxy by its URL (`http://HOST:PORT`, with or without user and password); `None` for other schemes.
    pub(super) fn for_url(url: &str) -> Option<Self> {
        let whole = if url.contains("://") { url.to_owned() } else { format!("http://{url}") };
        let rest = whole.strip_prefix("http://")?;
        let (user, host) = match rest.rsplit_once('@') {
            Some((user, host)) => (Some(user), host),
            None => (None, rest),
        };
        let uri: Uri = format!("http://{}/", host.trim_end_matches('/')).parse().ok()?;
        let credentials = user.map(|user| base64::engine::general_purpose::STANDARD.encode(user));
        uri.host().filter(|host| !host.is_empty())?;
        Some(Self { uri, credentials })
    }

    /// An agent that sends all requests through it.
    pub(super) fn agent<R: Resolver>(&self, config: ureq::config::Config, lookup: R) -> ureq::Agent {
        let connector = ().chain(TcpConnector::default()).chain(self.clone());
        ureq::Agent::with_parts(config, connector, Lookup { proxy: self.uri.clone(), lookup })
    }
}

/// Looks up the proxy's host name.
#[derive(Debug)]
struct Lookup<R> {
    proxy: Uri,
    lookup: R,
}

impl<R: Resolver> Resolver for Lookup<R> {
    fn resolve(
        &self,
        _: &Uri,
        config: &ureq::config::Config,
        timeout: NextTimeout,
    ) -> Result<ResolvedSocketAddrs, Error> {
        self.lookup.resolve(&self.proxy, config, timeout)
    }
}

impl<In: Transport> Connector<In> for Via {
    type Out = WholeUrls<In>;

    fn connect(&self, details: &ConnectionDetails<'_>, chained: Option<In>) -> Result<Option<Self::Out>, Error> {
        // It is only used for `http:` URLs.
        if details.needs_tls() {
            return Err(Error::Tls("an HTTP proxy cannot be used for this address"));
        }
        let host = details.uri.authority().map(ToString::to_string).unwrap_or_default();
        let host = host.rsplit_once('@').map_or(host.as_str(), |(_, host)| host).to_owned();
        Ok(chained.map(|inner| WholeUrls { inner, host, credentials: self.credentials.clone() }))
    }
}

/// A connection whose requests have absolute URLs.
pub(super) struct WholeUrls<T> {
    inner: T,
    host: String,
    credentials: Option<String>,
}

impl<T> fmt::Debug for WholeUrls<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "WholeUrls({})", self.host)
    }
}

/// A request's bytes with the absolute URL in its first line, followed by the proxy's credentials.
fn whole(request: &[u8], host: &str, credentials: Option<&str>) -> Option<Vec<u8>> {
    let path = request.strip_prefix(b"GET ")?;
    let end = path.windows(2).position(|two| two == b"\r\n")?;
    let mut bytes = format!("GET http://{host}").into_bytes();
    bytes.extend_from_slice(&path[..end + 2]);
    if let Some(credentials) = credentials {
        bytes.extend_from_slice(format!("Proxy-Authorization: Basic {credentials}\r\n").as_bytes());
    }
    bytes.extend_from_slice(&path[end + 2..]);
    Some(bytes).filter(|_| path.starts_with(b"/"))
}

impl<T: Transport> Transport for WholeUrls<T> {
    fn buffers(&mut self) -> &mut dyn Buffers {
        self.inner.buffers()
    }

    fn transmit_output(&mut self, amount: usize, timeout: NextTimeout) -> Result<(), Error> {
        let output = self.inner.buffers().output();
        // Our requests have no body, so everything that begins like a request is one.
        let Some(request) = whole(&output[..amount], &self.host, self.credentials.as_deref()) else {
            return self.inner.transmit_output(amount, timeout);
        };
        match output.get_mut(..request.len()) {
            Some(place) => place.copy_from_slice(&request),
            None => return Err(Error::Other("the request is too long".into())),
        }
        self.inner.transmit_output(request.len(), timeout)
    }

    fn await_input(&mut self, timeout: NextTimeout) -> Result<bool, Error> {
        self.inner.await_input(timeout)
    }

    fn is_open(&mut self) -> bool {
        self.inner.is_open()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_request_gets_its_whole_url_and_nothing_else_changes() {
        let request = b"GET /foreshore/InRelease HTTP/1.1\r\nhost: quay.example\r\n\r\n";
        let plain = whole(request, "quay.example:81", None).unwrap();
        assert_eq!(plain, b"GET http://quay.example:81/foreshore/InRelease HTTP/1.1\r\nhost: quay.example\r\n\r\n");
        let named = String::from_utf8(whole(request, "quay.example", Some("bTpz")).unwrap()).unwrap();
        assert!(named.contains("HTTP/1.1\r\nProxy-Authorization: Basic bTpz\r\nhost:"), "{named}");
        assert!(whole(b"host: quay.example\r\n", "quay.example", None).is_none());
        assert!(whole(b"GET http://quay.example/ HTTP/1.1\r\n", "quay.example", None).is_none());
    }

    #[test]
    fn a_proxy_has_a_url_of_its_own() {
        let of = |url| Via::for_url(url).map(|via| (via.uri.to_string(), via.credentials));
        assert_eq!(
            of("http://m:s@cache.example:3142/"),
            Some(("http://cache.example:3142/".into(), Some("bTpz".into())))
        );
        assert_eq!(of("cache.example:3142"), Some(("http://cache.example:3142/".into(), None)));
        assert!(
            of("https://cache.example").is_none() && of("socks5://cache.example").is_none() && of("http://").is_none()
        );
    }
}
