//! The solver: turns a row of rights into the narrowest owner, group, mode and, only where bits cannot say
//! it, access list.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Arc;

use crate::account::{Accounts, Gid, Ids, Uid};
use crate::acl::Acl;
use crate::entry::{Kind, Rights};
use crate::mode::{Mode, Perm};
use crate::policy::{Context, Policy, Right};
use crate::site::{Access, Grant, Site, Who};

/// What a path is, as far as its rights depend on it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Shape {
    /// A directory.
    Directory,
    /// A file that is no program.
    File,
    /// A file that begins with `#!` or is an ELF binary, and whose owner may execute it.
    Program,
    /// A symlink: it has an owner and a group, and no mode of its own.
    Symlink,
}

impl Shape {
    /// The shape of a path of this kind.
    #[must_use]
    pub const fn of(kind: Kind, program: bool) -> Self {
        match kind {
            Kind::Directory => Self::Directory,
            Kind::Symlink => Self::Symlink,
            Kind::File if program => Self::Program,
            Kind::File | Kind::Fifo | Kind::Socket | Kind::Device => Self::File,
        }
    }

    const fn is_directory(self) -> bool {
        matches!(self, Self::Directory)
    }
}

/// Turns rows of rights into owners, modes and lists, for the accounts of one site.
#[derive(Debug)]
pub struct Solver {
    keeper: Ids,
    keeper_group: Gid,
    php: Ids,
    web: Ids,
    grant: Grant,
    /// Who has access besides.
    access: Vec<Access>,
    /// What the files that PHP makes do not get.
    umask: u16,
    /// Whether the keeper, who is not root, gives files to no group but their own.
    own_groups_only: bool,
    /// The groups that might carry a right, php's own first, with everyone who is in them.
    groups: Vec<(Gid, BTreeSet<Uid>)>,
}

/// What everyone must get who is not the owner, or may be.
struct Needs {
    users: BTreeMap<Uid, Perm>,
    groups: BTreeMap<Gid, Perm>,
}

/// Who carries the rights that the owner does not have.
struct Carriers {
    group: Gid,
    group_perm: Perm,
    /// Whether the group carries a right beyond that of all others.
    group_carries: bool,
    users: Vec<(Uid, Perm)>,
    groups: Vec<(Gid, Perm)>,
}

impl Solver {
    /// The solver for `site`'s accounts; the groups and their members are those of `accounts`.
    #[must_use]
    pub fn new(site: &Site, accounts: &Accounts) -> Self {
        let roles = [&site.php.ids, &site.web.ids, &site.keeper.ids];
        let own = roles.iter().map(|ids| ids.gid).chain([site.keeper_group]);
        let listed = roles.iter().flat_map(|ids| ids.groups().iter().copied());
        let mut groups: Vec<(Gid, BTreeSet<Uid>)> = Vec::new();
        for gid in own.chain(listed) {
            if groups.iter().all(|(known, _)| *known != gid) {
                let mut members = accounts.members(gid);
                members.extend(roles.iter().filter(|ids| ids.is_in(gid)).map(|ids| ids.uid));
                groups.push((gid, members));
            }
        }
        // Who keeps a site without being root gives files only to groups of their own (chown(2)); a list needs no group. Where
        // php gets to own what it writes, it takes root anyway.
        let keeper = &site.keeper.ids;
        let of_keeper = |(gid, _): &(Gid, BTreeSet<Uid>)| keeper.uid == Uid::ROOT || keeper.is_in(*gid);
        let own_groups_only = keeper.uid != Uid::ROOT
            && match site.grant {
                Grant::Group => false,
                Grant::Acl => true,
                Grant::Owner => site.php_is_keeper(),
            };
        if own_groups_only {
            groups.retain(of_keeper);
        } else if site.grant == Grant::Group {
            groups.sort_by_key(|group| !of_keeper(group));
        }
        let [php, web, keeper] = roles.map(Clone::clone);
        let (keeper_group, grant, access) = (site.keeper_group, site.grant, site.access.clone());
        let umask = site.making.umasks.iter().fold(0, |all, (umask, _)| all | umask);
        Self { keeper, keeper_group, php, web, grant, access, umask, own_groups_only, groups }
    }

    /// The owner, group, mode and lists of a path in this context: what `set` writes.
    #[must_use]
    pub fn solve(&self, policy: &Policy, context: &Context, shape: Shape) -> Rights {
        let overrides = policy.overrides(context);
        let directory = shape.is_directory();
        let owner = overrides.and_then(|o| o.owner).unwrap_or_else(|| self.owner(context, directory));
        let others = others(context, directory);
        let needs = self.needs(context, directory);
        let fixed_group = overrides.and_then(|o| o.group);
        let mut carriers = self.carriers(context, owner, others, &needs, fixed_group);

        // Who reads a program could run a copy of it; what PHP made is run by nobody but its owner.
        let is_run = shape == Shape::Program && !context.php_always_writes();
        let run = |perm: Perm| if is_run && perm.covers(Perm::R) { perm.or(Perm::X) } else { perm };
        let others = run(others);
        carriers.group_perm = run(carriers.group_perm);
        carriers.users.iter_mut().for_each(|(_, perm)| *perm = run(*perm));
        carriers.groups.iter_mut().for_each(|(_, perm)| *perm = run(*perm));
        let owner_perm = needs.users.get(&owner).copied().unwrap_or_else(|| Right::Write.perm(directory));
        let owner_perm = if shape == Shape::Program { owner_perm.or(Perm::X) } else { owner_perm };
        let php_writes = directory && context.row.php == Right::Write;
        let others_write = directory && context.given(&self.access).any(|(.., right)| right == Right::Write);
        let is_written = php_writes || others_write;
        let special = if is_written && carriers.group_carries { Mode::SET_GID } else { 0 }
            | if php_writes && context.guarded { Mode::STICKY } else { 0 };

        let is_listed = !carriers.users.is_empty() || !carriers.groups.is_empty();
        let acl = is_listed
            .then(|| Acl::with_named(owner_perm, carriers.group_perm, others, &carriers.users, &carriers.groups));
        let default_acl = is_written
            .then(|| self.inherited(context, owner, others, &needs, &carriers, others_write))
            // What several write to must not depend on each one's umask, nor what a group reads on one that takes that.
            .filter(|users| {
                let taken = carriers.group_carries && self.umask & 0o050 != 0;
                others_write || taken || !users.is_empty() || !carriers.groups.is_empty()
            })
            .map(|users| Acl::with_named(Perm::RWX, carriers.group_perm, others, &users, &carriers.groups));
        let mode = match &acl {
            Some(acl) => acl.shown_mode(Mode::of_st_mode(special)),
            None => Mode::of_classes(owner_perm, carriers.group_perm, others).with(special),
        };
        let solved = Rights {
            uid: owner,
            gid: carriers.group,
            mode,
            acl: acl.map(Arc::new),
            default_acl: default_acl.map(Arc::new),
            capabilities: None,
            label: None,
        };
        let spec = overrides.and_then(|o| if directory { o.dir_mode.as_ref() } else { o.file_mode.as_ref() });
        match spec {
            Some(spec) => {
                let mode = spec.apply(solved.mode, directory || shape == Shape::Program);
                Rights { mode, acl: None, default_acl: None, ..solved }
            }
            None => solved,
        }
    }

    /// What a directory outside the site has that is made only to lead to a part.
    #[must_use]
    pub fn way_in(&self) -> Rights {
        let mode = Mode::of_classes(Perm::RWX, Perm::RX, Perm::RX);
        Rights {
            uid: self.keeper.uid,
            gid: self.keeper_group,
            mode,
            acl: None,
            default_acl: None,
            capabilities: None,
            label: None,
        }
    }

    /// keeper; php where it may always write and gets to write as the owner.
    fn owner(&self, context: &Context, directory: bool) -> Uid {
        let guarded = context.guarded && directory;
        let as_owner = self.grant == Grant::Owner || context.in_guarded;
        let phps = context.row.php == Right::Write && context.php_always_writes() && as_owner && !guarded;
        if phps { self.php.uid } else { self.keeper.uid }
    }

    /// What each account of the site must get; one account in two roles gets both's.
    fn needs(&self, context: &Context, directory: bool) -> Needs {
        let passage = context.passage;
        let roles = [
            (self.keeper.uid, context.row.keeper, true),
            (self.php.uid, context.row.php, passage.php),
            (self.web.uid, context.row.web, passage.web),
        ];
        let others = others(context, directory);
        let mut users = BTreeMap::new();
        let mut groups = BTreeMap::new();
        for (uid, right, passes) in roles {
            let pass = if passes && directory && right == Right::None { Perm::X } else { Perm::NONE };
            let need = users.entry(uid).or_insert(others);
            *need = right.perm(directory).or(pass).or(*need);
        }
        let given = context.given(&self.access).map(|(_, access, right)| (access, right.perm(directory)));
        let passing = context.passing(&self.access).filter(|_| directory).map(|access| (access, Perm::X));
        for (access, perm) in given.chain(passing) {
            let need = match &access.who {
                Who::User(account) => users.entry(account.ids.uid).or_insert(others),
                Who::Group(_, gid) => groups.entry(*gid).or_insert(others),
            };
            *need = need.or(perm);
        }
        groups.retain(|_, perm| *perm != others);
        // A named user gets what the name says, and nothing of a group's entry.
        let known = [&self.keeper, &self.web].into_iter();
        let named = self.access.iter().filter_map(|access| match &access.who {
            Who::User(account) => Some(&account.ids),
            Who::Group(..) => None,
        });
        for ids in known.chain(named) {
            let of_groups = groups.iter().filter(|(gid, _)| ids.is_in(**gid)).map(|(_, perm)| *perm);
            if let Some(need) = users.get_mut(&ids.uid) {
                *need = of_groups.fold(*need, Perm::or);
            }
        }
        Needs { users, groups }
    }

    /// The group and the named users through whom everyone but the owner gets what they need.
    fn carriers(&self, context: &Context, owner: Uid, others: Perm, needs: &Needs, fixed: Option<Gid>) -> Carriers {
        let wanting: BTreeMap<Uid, Perm> = needs
            .users
            .iter()
            .filter(|&(&uid, &need)| uid != owner && uid != Uid::ROOT && need != others)
            .map(|(&uid, &need)| (uid, need))
            .collect();
        let by_list_only =
            |uid: &Uid| self.grant == Grant::Acl && *uid == self.php.uid && context.row.php == Right::Write;
        let carried = |group: &(Gid, BTreeSet<Uid>)| -> Option<(Perm, BTreeSet<Uid>)> {
            let members: BTreeSet<Uid> =
                group.1.iter().copied().filter(|uid| *uid != owner && *uid != Uid::ROOT).collect();
            let wants = members.iter().filter_map(|uid| wanting.get(uid)).copied().collect::<BTreeSet<Perm>>();
            let all_want = members.iter().all(|uid| wanting.contains_key(uid)) || fixed.is_some();
            let perm = *wants.first().filter(|_| wants.len() == 1 && all_want)?;
            if needs.groups.get(&group.0).is_some_and(|of_group| *of_group != perm) {
                return None;
            }
            let served: BTreeSet<Uid> = members.into_iter().filter(|uid| wanting.contains_key(uid)).collect();
            (!served.iter().any(by_list_only)).then_some((perm, served))
        };
        let fixed_group = fixed.map(|gid| {
            let known = self.groups.iter().find(|(known, _)| *known == gid);
            vec![known.cloned().unwrap_or_else(|| (gid, BTreeSet::new()))]
        });
        let candidates = fixed_group.as_ref().unwrap_or(&self.groups);
        let best = candidates
            .iter()
            .filter_map(|group| carried(group).map(|(perm, served)| (group.0, perm, served)))
            // The first of those that serve most: candidates are in order of preference.
            .reduce(|best, next| if next.2.len() > best.2.len() { next } else { best });
        // Else a group that has access by itself, before it takes a list.
        let may_own = |gid: Gid| !self.own_groups_only || self.keeper.is_in(gid);
        let by_itself = || {
            let mut able = needs.groups.iter().map(|(gid, perm)| (*gid, *perm));
            able.find(|(gid, _)| fixed.is_none_or(|fixed| fixed == *gid) && may_own(*gid))
                .map(|(gid, perm)| (gid, perm, BTreeSet::new()))
        };
        let best = best.or_else(by_itself);
        let own_group = if owner == self.php.uid { self.php.gid } else { self.keeper_group };
        let group_carries = best.is_some();
        let (group, group_perm, served) = best.unwrap_or_else(|| (fixed.unwrap_or(own_group), others, BTreeSet::new()));
        let users = wanting.into_iter().filter(|(uid, _)| !served.contains(uid)).collect();
        let of_list = |(gid, _): &(&Gid, &Perm)| !(group_carries && **gid == group);
        let groups = needs.groups.iter().filter(of_list).map(|(gid, perm)| (*gid, *perm)).collect();
        Carriers { group, group_perm, group_carries, users, groups }
    }

    /// The named users of the default list: everyone whom a file that php makes would otherwise shut out.
    ///
    /// A new file is php's, in the directory's group where that carries a right (set-gid); so who gets a right as
    /// the directory's owner, or by name, must be named again.
    fn inherited(
        &self,
        context: &Context,
        owner: Uid,
        others: Perm,
        needs: &Needs,
        carriers: &Carriers,
        others_write: bool,
    ) -> Vec<(Uid, Perm)> {
        let mut users = carriers.users.clone();
        let keeper_by_owning = owner == self.keeper.uid && owner != Uid::ROOT && owner != self.php.uid;
        if keeper_by_owning && context.row.keeper.perm(true) != others {
            users.push((owner, context.row.keeper.perm(true)));
        }
        if others_write && owner == self.php.uid && owner != self.keeper.uid {
            // What others make there is theirs, and php's by name.
            users.extend(needs.users.get(&owner).map(|perm| (owner, *perm)));
        }
        users.retain(|(uid, _)| *uid != self.php.uid || self.grant != Grant::Owner || others_write);
        users
    }
}

/// What everybody gets.
fn others(context: &Context, directory: bool) -> Perm {
    let pass = if directory && context.passage.others { Perm::X } else { Perm::NONE };
    context.row.others.perm(directory).or(pass)
}

/// Solved rights, each row once.
#[derive(Debug, Default)]
pub struct Wants(HashMap<(u32, Shape), Arc<Rights>>);

impl Wants {
    /// What `solver` makes of a context and shape, computed once.
    pub fn get(&mut self, solver: &Solver, policy: &Policy, context: &Context, shape: Shape) -> Arc<Rights> {
        let solved =
            self.0.entry((context.id, shape)).or_insert_with(|| Arc::new(solver.solve(policy, context, shape)));
        Arc::clone(solved)
    }
}

#[cfg(test)]
mod tests;
