//! The site's address, and its pages, as a web server's configuration names them.

use std::path::Path;

use crate::entry::Kind;
use crate::host::{Place, ServedFolder, Services};
use crate::tree::Host;

/// Where the site answers.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SiteAddress {
    /// Its address.
    pub url: String,
    /// The pages to ask: the front page, and the one that the server's index names.
    pub pages: Vec<String>,
    /// The program that serves it.
    pub program: String,
    /// Where that is written.
    pub at: Place,
}

/// Ports that are for TLS wherever they are used.
const TLS: &[u16] = &[443, 8443];

/// The address of what is served from `folder`; nothing where no configuration names it.
pub(super) fn address(host: &Host, services: &Services, folder: &Path) -> Option<SiteAddress> {
    let real = |path: &Path| host.destination(Path::new("/"), path);
    let goal = real(folder);
    let here: Vec<&ServedFolder> = services.configured().filter(|served| real(&served.path) == goal).collect();
    // A document root says more than an alias below another's.
    let served = here.iter().find(|served| served.url_path.is_empty()).or_else(|| here.first())?;
    let (listens, port) = served.listens.iter().find_map(|listen| parse(listen)).unwrap_or((None, 80));
    let name = served.names.iter().map(|name| name.split('/').next().unwrap_or_default());
    let name = name.filter(|name| is_plain(name)).map(str::to_owned).next();
    let name = name.or(listens).unwrap_or_else(|| "127.0.0.1".to_owned());
    let scheme = if TLS.contains(&port) { "https" } else { "http" };
    let port =
        if [("http", 80), ("https", 443)].contains(&(scheme, port)) { String::new() } else { format!(":{port}") };
    let below = served.url_path.trim_matches('/');
    let below = if below.is_empty() { String::new() } else { format!("{below}/") };
    let is_file = |name: &&String| host.resolve(&goal.join(name)).is_ok_and(|found| found.facts.kind == Kind::File);
    let usual = ["index.php", "index.html"].map(str::to_owned);
    let index = if served.index.is_empty() { &usual[..] } else { &served.index[..] };
    let page = index.iter().filter(|name| is_plain(name)).find(is_file).map(|name| format!("/{name}"));
    Some(SiteAddress {
        url: format!("{scheme}://{name}{port}/{below}"),
        pages: std::iter::once("/".to_owned()).chain(page).collect(),
        program: served.program.clone(),
        at: served.at.clone(),
    })
}

/// Whether a name stands for itself, not for several, and is nothing else than a name.
fn is_plain(name: &str) -> bool {
    !name.is_empty() && name.bytes().all(|byte| byte.is_ascii_alphanumeric() || b"-._".contains(&byte))
}

/// The address, where it is one of this host alone, and the port that a server listens on: `80`, `*:80`, `127.0.0.1:8080`,
/// `[::1]:443`.
fn parse(listen: &str) -> Option<(Option<String>, u16)> {
    let (address, port) = listen.rsplit_once(':').unwrap_or(("", listen));
    let port = port.parse().ok()?;
    let is_any = matches!(address, "" | "*" | "0.0.0.0" | "[::]" | "_default_");
    Some(((!is_any).then(|| address.to_owned()), port))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("80", Some((None, 80)))]
    #[case("*:8080", Some((None, 8080)))]
    #[case("[::]:443", Some((None, 443)))]
    #[case("127.0.0.1:8081", Some((Some("127.0.0.1".to_owned()), 8081)))]
    #[case("unix:/run/x.sock", None)]
    fn what_a_server_listens_on(#[case] listen: &str, #[case] want: Option<(Option<String>, u16)>) {
        assert_eq!(parse(listen), want);
    }
}
