//! [`OwnLookup`]: looks up host names without the C library.
//!
//! A static program cannot use glibc's resolver: that loads parts of the running system, which may be damaged or of another
//! version. The system's name servers and hosts (`resolv.conf(5)`, `hosts(5)`) count
//! here too; other methods (`nsswitch.conf(5)`: mDNS, directories) do not.

use std::io;
use std::net::{IpAddr, SocketAddr};

use hickory_resolver::TokioResolver;
use ureq::http::Uri;
use ureq::unversioned::resolver::{ResolvedSocketAddrs, Resolver};
use ureq::unversioned::transport::NextTimeout;

/// Further addresses of one host are not tried.
const MAX_ADDRESSES: usize = 16;

/// Looks up names with the system's name servers.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct OwnLookup;

impl Resolver for OwnLookup {
    fn resolve(
        &self,
        uri: &Uri,
        config: &ureq::config::Config,
        timeout: NextTimeout,
    ) -> Result<ResolvedSocketAddrs, ureq::Error> {
        let (host, port) = host_and_port(uri).ok_or(ureq::Error::HostNotFound)?;
        let all = match host.parse::<IpAddr>() {
            Ok(address) => vec![address],
            Err(_) => looked_up(host, timeout)?,
        };
        let mut addresses = self.empty();
        let all = all.into_iter().map(|ip| SocketAddr::new(ip, port));
        config.ip_family().keep_wanted(all).take(MAX_ADDRESSES).for_each(|address| addresses.push(address));
        if addresses.is_empty() { Err(ureq::Error::HostNotFound) } else { Ok(addresses) }
    }
}

/// A URL's host, without the brackets of an IPv6 address, and its port.
fn host_and_port(uri: &Uri) -> Option<(&str, u16)> {
    let port = uri.port_u16().or_else(|| match uri.scheme_str()? {
        "http" => Some(80),
        "https" => Some(443),
        "socks4" | "socks4a" | "socks5" => Some(1080),
        _ => None,
    })?;
    let host = uri.host()?;
    Some((host.strip_prefix('[').and_then(|h| h.strip_suffix(']')).unwrap_or(host), port))
}

fn looked_up(host: &str, timeout: NextTimeout) -> Result<Vec<IpAddr>, ureq::Error> {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build()?;
    runtime.block_on(async {
        let resolver = TokioResolver::builder_tokio().and_then(|builder| builder.build()).map_err(|e| failed(&e))?;
        let asked = resolver.lookup_ip(host);
        let found = match timeout.not_zero() {
            Some(most) => match tokio::time::timeout(*most, asked).await {
                Ok(found) => found,
                Err(_) => return Err(ureq::Error::Timeout(timeout.reason)),
            },
            None => asked.await,
        };
        match found {
            Ok(found) => Ok(found.iter().collect()),
            Err(e) if e.is_no_records_found() => Err(ureq::Error::HostNotFound),
            Err(e) => Err(failed(&e)),
        }
    })
}

fn failed(error: &dyn std::error::Error) -> ureq::Error {
    // The same error text as the C library's, so that both builds report the same.
    io::Error::other(format!("failed to lookup address information: {error}")).into()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_url_has_a_host_and_a_port() {
        let of = |url: &'static str| {
            let uri = Uri::from_static(url);
            host_and_port(&uri).map(|(host, port)| (host.to_owned(), port))
        };
        assert_eq!(of("http://quay.example/x"), Some(("quay.example".into(), 80)));
        assert_eq!(of("https://quay.example"), Some(("quay.example".into(), 443)));
        assert_eq!(of("http://[::1]:81/"), Some(("::1".into(), 81)));
        assert_eq!(of("ftp://quay.example"), None);
    }

    #[test]
    fn an_address_is_not_asked_for_and_what_is_in_the_systems_own_table_is_found() {
        let of = |url: &'static str| {
            let config = ureq::Agent::config_builder().build();
            OwnLookup.resolve(&Uri::from_static(url), &config, NextTimeout::default()).map(|all| all.to_vec())
        };
        assert_eq!(of("http://127.0.0.1:8080/").unwrap(), ["127.0.0.1:8080".parse().unwrap()]);
        assert_eq!(of("http://[::1]/").unwrap(), ["[::1]:80".parse().unwrap()]);
        // Every system has it in hosts(5), or it is what RFC 6761, 6.3 says it is.
        let local = of("http://localhost:81/").unwrap();
        assert!(!local.is_empty() && local.iter().all(|a| a.ip().is_loopback() && a.port() == 81), "{local:?}");
    }
}
