//! Everybody whose access is judged, and sets of them.

use std::sync::Arc;

use crate::access::permits;
use crate::account::{Account, Accounts, Gid, Ids, Powers, Uid};
use crate::entry::{Kind, Rights};
use crate::mode::Perm;
use crate::policy::{Context, Right};
use crate::site::{Access, Site, Who};

/// The uid and gid that stand for an account without any tie to a site; no real account has them.
const NOBODY: u32 = u32::MAX - 1;

/// One account whose access is judged.
#[derive(Clone, Debug)]
pub struct Person {
    /// How it is called in a report.
    pub name: String,
    /// Its ids.
    pub ids: Ids,
}

/// The accounts of a site and all others of the host, in a fixed order.
#[derive(Debug)]
pub struct People {
    list: Vec<Person>,
    keeper: usize,
    php: usize,
    web: usize,
    stranger: usize,
    /// Who has access besides.
    access: Vec<Access>,
    /// Their places: of a group, that of a member without other ties.
    access_places: Vec<usize>,
    neighbours: Vec<Neighbour>,
    /// The other sites whose PHP runs as this one's.
    sharing: Vec<Arc<Site>>,
}

/// The account that another site's PHP runs as.
#[derive(Clone, Debug)]
pub struct Neighbour {
    /// The other site's name.
    pub site: String,
    /// The account's place.
    pub place: usize,
}

impl People {
    /// The people of `site` on a host with these accounts, those that only its name service knows, and these other sites.
    /// Root is left out, unless a site's account is root: nothing binds it.
    #[must_use]
    pub fn new(site: &Site, accounts: &Accounts, beyond_files: &[Account], others: &[Arc<Site>]) -> Self {
        let mut list: Vec<Person> = Vec::new();
        let mut role = |account: &Account| {
            list.iter().position(|p| p.ids == account.ids).unwrap_or_else(|| {
                list.push(Person { name: account.user.clone(), ids: account.ids.clone() });
                list.len() - 1
            })
        };
        let (keeper, php, web) = (role(&site.keeper), role(&site.php), role(&site.web));
        let mut access_places = Vec::new();
        for (nobody, access) in (0..NOBODY).rev().zip(&site.access) {
            let place = match &access.who {
                Who::User(account) => role(account),
                Who::Group(_, gid) => {
                    let ids = Ids::new(Uid(nobody), Gid(NOBODY), [*gid]);
                    role(&Account { user: access.who.to_string(), group: String::new(), ids })
                }
            };
            access_places.push(place);
        }
        let roles: Vec<Uid> = list.iter().map(|p| p.ids.uid).collect();
        let stranger = list.len();
        list.push(Person { name: "any account".into(), ids: Ids::new(Uid(NOBODY), Gid(NOBODY), []) });
        let all = accounts.all().into_iter().chain(beyond_files.iter().cloned());
        let all = all.filter(|a| a.ids.uid != Uid::ROOT && !roles.contains(&a.ids.uid));
        list.extend(all.map(|a| Person { name: a.user, ids: a.ids }));
        let mut neighbours = Vec::new();
        let mut sharing = Vec::new();
        for other in others.iter().filter(|other| other.name != site.name && other.php.ids.uid != Uid::ROOT) {
            let account = &other.php;
            if account.ids.uid == site.php.ids.uid {
                sharing.push(Arc::clone(other));
                continue;
            }
            let place = list.iter().position(|p| p.ids.uid == account.ids.uid).unwrap_or_else(|| {
                list.push(Person { name: account.user.clone(), ids: account.ids.clone() });
                list.len() - 1
            });
            neighbours.push(Neighbour { site: other.name.clone(), place });
        }
        let access = site.access.clone();
        Self { list, keeper, php, web, stranger, access, access_places, neighbours, sharing }
    }

    /// The accounts that other sites' PHP runs as, where that is not this site's own.
    #[must_use]
    pub fn neighbours(&self) -> &[Neighbour] {
        &self.neighbours
    }

    /// The other sites whose PHP runs as this one's.
    #[must_use]
    pub fn sharing(&self) -> &[Arc<Site>] {
        &self.sharing
    }

    /// Those of `accounts` who are not among them.
    #[must_use]
    pub fn missing(&self, accounts: Vec<Account>) -> Vec<Account> {
        let known = |account: &Account| self.list.iter().any(|person| person.ids.uid == account.ids.uid);
        accounts.into_iter().filter(|account| account.ids.uid != Uid::ROOT && !known(account)).collect()
    }

    /// The accounts, in order.
    #[must_use]
    pub fn list(&self) -> &[Person] {
        &self.list
    }

    /// The keeper's place.
    #[must_use]
    pub const fn keeper(&self) -> usize {
        self.keeper
    }

    /// php's place.
    #[must_use]
    pub const fn php(&self) -> usize {
        self.php
    }

    /// The web server's place.
    #[must_use]
    pub const fn web(&self) -> usize {
        self.web
    }

    /// The place of an account without any tie to the site.
    #[must_use]
    pub const fn stranger(&self) -> usize {
        self.stranger
    }

    /// Who has access besides keeper, php and web, each with its place; those who only pass are left out.
    pub fn access(&self) -> impl Iterator<Item = (&Access, usize)> {
        let placed = self.access.iter().zip(self.access_places.iter().copied());
        placed.filter(|(access, _)| access.may.is_some())
    }

    /// Those who have access to what is of this context, with what they may and their places.
    pub fn given(&self, context: &Context) -> impl Iterator<Item = (&Access, Right, usize)> {
        let at = |(number, access, right): (usize, _, _)| (access, right, self.access_places[number]);
        context.given(&self.access).map(at)
    }

    /// Everyone.
    #[must_use]
    pub fn everyone(&self) -> Set {
        Set::of(&self.list, |_, _| true)
    }

    /// No one.
    #[must_use]
    pub fn no_one(&self) -> Set {
        Set::of(&self.list, |_, _| false)
    }

    /// Those at these places.
    #[must_use]
    pub fn at(&self, places: &[usize]) -> Set {
        Set::of(&self.list, |place, _| places.contains(&place))
    }

    /// Those whom `rights` give all of `want` on something of this kind, reaching the path left aside.
    #[must_use]
    pub fn permitted(&self, kind: Kind, rights: &Rights, want: Perm) -> Set {
        Set::of(&self.list, |_, person| permits(&person.ids, kind, rights, want))
    }

    /// Those who own a path with these rights.
    #[must_use]
    pub fn owners(&self, uid: Uid) -> Set {
        Set::of(&self.list, |_, person| person.ids.uid == uid)
    }

    /// Those who hold these capabilities.
    #[must_use]
    pub fn powerful(&self, powers: Powers) -> Set {
        Set::of(&self.list, |_, person| person.ids.powers.has(powers))
    }

    /// Those whom the site file lets do at least `right` with a path.
    #[must_use]
    pub fn allowed(&self, context: &Context, right: Right) -> Set {
        let row = context.row;
        let roles = [(self.keeper, row.keeper), (self.php, row.php), (self.web, row.web)];
        let php = self.list[self.php].ids.uid;
        let given: Vec<&Access> =
            self.given(context).filter(|(_, has, _)| *has >= right).map(|(access, ..)| access).collect();
        Set::of(&self.list, |_, person| {
            let uid = person.ids.uid;
            row.others >= right
                || uid == Uid::ROOT
                || roles.iter().any(|&(role, has)| self.list[role].ids.uid == uid && has >= right)
                || (uid != php && given.iter().any(|access| access.is_of(&person.ids)))
        })
    }

    /// The names of those in a set, the site's own first; a long list is cut.
    #[must_use]
    pub fn names(&self, set: &Set) -> String {
        const SHOWN: usize = 3;
        let names: Vec<&str> =
            self.list.iter().enumerate().filter(|(n, _)| set.has(*n)).map(|(_, p)| &*p.name).collect();
        match names.len() {
            n if n > SHOWN => format!("{} and {} more", names[..SHOWN].join(", "), n - SHOWN),
            _ => names.join(", "),
        }
    }
}

/// A set of people, by their places.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Set(Box<[u64]>);

impl Set {
    fn of(list: &[Person], is_in: impl Fn(usize, &Person) -> bool) -> Self {
        let mut words = vec![0_u64; list.len().div_ceil(64)];
        for (n, person) in list.iter().enumerate() {
            if is_in(n, person) {
                words[n / 64] |= 1 << (n % 64);
            }
        }
        Self(words.into())
    }

    /// Whether the one at `place` is in it.
    #[must_use]
    pub fn has(&self, place: usize) -> bool {
        self.0.get(place / 64).is_some_and(|word| word & (1 << (place % 64)) != 0)
    }

    /// Whether nobody is in it.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.0.iter().all(|&word| word == 0)
    }

    /// Those in both.
    #[must_use]
    pub fn and(&self, other: &Self) -> Self {
        self.zip(other, |a, b| a & b)
    }

    /// Those in either.
    #[must_use]
    pub fn or(&self, other: &Self) -> Self {
        self.zip(other, |a, b| a | b)
    }

    /// Those in this one who are not in `other`.
    #[must_use]
    pub fn without(&self, other: &Self) -> Self {
        self.zip(other, |a, b| a & !b)
    }

    fn zip(&self, other: &Self, each: impl Fn(u64, u64) -> u64) -> Self {
        Self(self.0.iter().zip(&other.0).map(|(&a, &b)| each(a, b)).collect())
    }
}
