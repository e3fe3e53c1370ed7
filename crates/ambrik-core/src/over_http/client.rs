//! Questions to a web server: short, with limits on time and length, never through a proxy, never to another host.

use std::io::Read as _;
use std::path::Path;
use std::time::{Duration, Instant};

use ureq::http::Uri;

/// What a server answered.
#[derive(Clone, Debug)]
pub(super) struct Reply {
    /// The status (RFC 9110, section 15).
    pub(super) status: u16,
    /// The beginning of the content.
    pub(super) body: Vec<u8>,
    /// What answered: where redirects on the same host led.
    pub(super) address: String,
}

/// Of an answer's content no more is read.
const LONGEST: u64 = 1 << 18;
/// No single answer is waited for longer.
const LONGEST_ANSWER: Duration = Duration::from_secs(10);
/// As many redirects are followed, on the same host.
const REDIRECTS: usize = 5;

/// Asks one site.
#[derive(Debug)]
pub(super) struct Client {
    agent: ureq::Agent,
    /// The site's address, without the last slash.
    base: String,
}

impl Client {
    /// A client for the site at `url`; nothing where that is no address of one.
    pub(super) fn new(url: &str) -> Option<Self> {
        let uri: Uri = url.parse().ok()?;
        if !matches!(uri.scheme_str(), Some("http" | "https")) || uri.host().is_none() {
            return None;
        }
        let tls = ureq::tls::TlsConfig::builder().root_certs(ureq::tls::RootCerts::PlatformVerifier).build();
        let config = ureq::Agent::config_builder()
            .timeout_connect(Some(Duration::from_secs(5)))
            .max_redirects(0)
            .max_redirects_will_error(false)
            .http_status_as_error(false)
            .proxy(None)
            .tls_config(tls)
            .user_agent("ambrik")
            .build();
        Some(Self { agent: config.into(), base: url.trim_end_matches('/').to_owned() })
    }

    /// The address of a path below the served folder.
    pub(super) fn address(&self, path: &Path) -> String {
        format!("{}/{}", self.base, encoded(path))
    }

    /// What the server answers for a path below the served folder, no later than at `deadline`.
    pub(super) fn get(&self, path: &Path, directory: bool, deadline: Instant) -> Result<Reply, String> {
        let end = if directory { "/" } else { "" };
        self.follow(format!("{}{end}", self.address(path)), deadline)
    }

    /// The address of a page, as the site file writes it.
    pub(super) fn page(&self, page: &str) -> String {
        format!("{}/{}", self.base, page.trim_start_matches('/'))
    }

    /// What an address answers, redirects on the same host followed.
    pub(super) fn follow(&self, first: String, deadline: Instant) -> Result<Reply, String> {
        let host: Uri = first.parse().map_err(|_| format!("{first} is no address"))?;
        let mut address = first;
        for _ in 0..=REDIRECTS {
            let left = deadline.saturating_duration_since(Instant::now()).min(LONGEST_ANSWER);
            if left.is_zero() {
                return Err("the time for this site is over".into());
            }
            let request = self.agent.get(&address).config().timeout_global(Some(left)).build();
            let mut response = request.call().map_err(|error| error.to_string())?;
            let status = response.status().as_u16();
            let location = response.headers().get("location").and_then(|to| to.to_str().ok()).map(str::to_owned);
            if let (300..=399, Some(location)) = (status, location) {
                match same_host(&host, &address, &location) {
                    Some(next) => {
                        address = next;
                        continue;
                    }
                    None => return Ok(Reply { status, body: Vec::new(), address }),
                }
            }
            let mut body = Vec::new();
            // What is longer is cut, and what breaks off in between counts as far as it came.
            let _ = response.body_mut().as_reader().take(LONGEST).read_to_end(&mut body);
            return Ok(Reply { status, body, address });
        }
        Ok(Reply { status: 310, body: Vec::new(), address })
    }
}

/// Where a redirect leads, if that is on the same host, by the same scheme and port.
fn same_host(host: &Uri, from: &str, location: &str) -> Option<String> {
    let absolute = if location.contains("://") {
        location.to_owned()
    } else {
        let origin = format!("{}://{}", host.scheme_str()?, host.authority()?);
        let from: Uri = from.parse().ok()?;
        let folder = from.path().rsplit_once('/').map_or("", |(folder, _)| folder);
        if location.starts_with('/') { format!("{origin}{location}") } else { format!("{origin}{folder}/{location}") }
    };
    let to: Uri = absolute.parse().ok()?;
    (to.scheme() == host.scheme() && to.authority() == host.authority()).then_some(absolute)
}

/// A path as it stands in an address (RFC 3986, section 2.1).
fn encoded(path: &Path) -> String {
    use std::fmt::Write as _;
    use std::os::unix::ffi::OsStrExt as _;
    let mut out = String::new();
    for &byte in path.as_os_str().as_bytes() {
        if byte.is_ascii_alphanumeric() || b"-._~/".contains(&byte) {
            out.push(char::from(byte));
        } else {
            // Writing to a text does not fail.
            let _ = write!(out, "%{byte:02X}");
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("a/b c.php", "http://h/x/a/b%20c.php")]
    #[case("q?#%\u{e9}", "http://h/x/q%3F%23%25%C3%A9")]
    fn addresses(#[case] path: &str, #[case] want: &str) {
        assert_eq!(Client::new("http://h/x/").unwrap().address(Path::new(path)), want);
    }

    #[rstest]
    #[case("/y", Some("http://h:80/y"))]
    #[case("y", Some("http://h:80/a/y"))]
    #[case("http://h:80/z", Some("http://h:80/z"))]
    #[case("http://other/z", None)]
    #[case("https://h:80/z", None)]
    #[case("//other/z", None)]
    fn redirects_stay_on_the_host(#[case] location: &str, #[case] want: Option<&str>) {
        let host: Uri = "http://h:80/a/b".parse().unwrap();
        let to = same_host(&host, "http://h:80/a/b", location);
        assert!(to.as_deref() == want || (want.is_none() && to.is_some_and(|to| to.starts_with("http://h:80/"))));
    }

    #[rstest]
    #[case("ftp://h/")]
    #[case("/path")]
    #[case("h")]
    fn what_is_no_address_of_a_site(#[case] url: &str) {
        assert!(Client::new(url).is_none());
    }
}
