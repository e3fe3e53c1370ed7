//! A site's pages, asked before and after a change: what worked keeps working.

use std::time::{Duration, Instant};

use super::client::{Client, Reply};
use crate::site::Site;

/// What a page answered.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Page {
    /// Its address.
    pub address: String,
    answer: Result<PageReply, String>,
}

#[derive(Clone, Debug, PartialEq, Eq)]
struct PageReply {
    status: u16,
    /// Where redirects on the same host led.
    address: String,
    is_empty: bool,
}

impl Page {
    /// Whether it answered as pages that work do: with a status below 400 (RFC 9110, section 15).
    #[must_use]
    pub fn works(&self) -> bool {
        self.answer.as_ref().is_ok_and(|answer| answer.status < 400)
    }

    /// What it answered, in words.
    #[must_use]
    pub fn says(&self) -> String {
        match &self.answer {
            Ok(PageReply { status, address, .. }) if *address != self.address => {
                format!("{status}, by way of {address}")
            }
            Ok(PageReply { status, is_empty: true, .. }) => format!("{status}, and nothing in it"),
            Ok(PageReply { status, .. }) => status.to_string(),
            Err(why) => why.clone(),
        }
    }
}

/// Asks each of the site's pages once, no longer than `longest` altogether; none where its file has no `url`, or one that is
/// no address.
#[must_use]
pub fn ask_pages(site: &Site, longest: Duration) -> Vec<Page> {
    let Some(client) = site.url.as_deref().and_then(Client::new) else { return Vec::new() };
    let deadline = Instant::now() + longest;
    let answer = |Reply { status, body, address }: Reply| PageReply { status, address, is_empty: body.is_empty() };
    let ask = |page: &String| {
        let address = client.page(page);
        Page { answer: client.follow(address.clone(), deadline).map(answer), address }
    };
    site.pages.iter().map(ask).collect()
}

/// The pages that worked before and do not any more, or answer with something else: each with what it answered.
#[must_use]
pub fn broken(before: &[Page], after: &[Page]) -> Vec<(Page, Page)> {
    let differs = |page: &Page, was: &PageReply, is: &PageReply| {
        // One that sent visitors on, to an installer, and does not any more, has begun to work.
        let sent_on = was.address == page.address && is.address != page.address;
        is.status >= 400 || sent_on || (is.is_empty && !was.is_empty)
    };
    let broken = |(before, after): &(&Page, &Page)| match (&before.answer, &after.answer) {
        (Ok(was), Ok(is)) => before.works() && differs(before, was, is),
        (Ok(_), Err(_)) => before.works(),
        (Err(_), _) => false,
    };
    let pairs = before.iter().zip(after).filter(broken);
    pairs.map(|(before, after)| (before.clone(), after.clone())).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn page(answer: Result<(u16, &str, bool), &str>) -> Page {
        let answer = answer.map(|(status, address, is_empty)| PageReply { status, address: address.into(), is_empty });
        Page { address: "http://h/".into(), answer: answer.map_err(Into::into) }
    }

    #[rstest]
    #[case::as_before(Ok((200, "http://h/", false)), Ok((200, "http://h/", false)), false)]
    #[case::refused(Ok((200, "http://h/", false)), Ok((403, "http://h/", false)), true)]
    #[case::an_error(Ok((200, "http://h/", false)), Ok((500, "http://h/", true)), true)]
    #[case::the_installer(Ok((200, "http://h/", false)), Ok((200, "http://h/install/", false)), true)]
    #[case::no_installer_any_more(Ok((200, "http://h/install/", false)), Ok((200, "http://h/", false)), false)]
    #[case::a_blank_page(Ok((200, "http://h/", false)), Ok((200, "http://h/", true)), true)]
    #[case::silence(Ok((200, "http://h/", false)), Err("timeout"), true)]
    #[case::broken_before(Ok((500, "http://h/", false)), Ok((403, "http://h/", false)), false)]
    #[case::silent_before(Err("refused"), Ok((500, "http://h/", false)), false)]
    fn what_worked_must_work(
        #[case] before: Result<(u16, &str, bool), &str>,
        #[case] after: Result<(u16, &str, bool), &str>,
        #[case] want: bool,
    ) {
        assert_eq!(!broken(&[page(before)], &[page(after)]).is_empty(), want);
    }
}
