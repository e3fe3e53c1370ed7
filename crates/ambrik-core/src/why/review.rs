//! What was refused, and what is known of it now.

use super::Answer;
use super::advice::{Advice, advice};
use super::denials::Other;
use super::log::{Now, Refusal, Refusals};
use crate::label::boolean::{Boolean, governing};
use crate::tree::Host;

/// An answer, with the account that it is about.
#[derive(Debug)]
pub struct Told {
    /// The account's name.
    pub account: String,
    /// What it can do.
    pub answer: Answer,
}

/// A denial of SELinux that is no matter of a file whose path is known.
#[derive(Debug)]
pub struct NoFile {
    /// What was refused.
    pub other: Other,
    /// The boolean of the policy that governs it, where one does.
    pub switch: Option<Boolean>,
    /// What is to be done about it.
    pub advice: Advice,
}

/// A refusal out of a log, and what is known of it now.
#[derive(Debug)]
pub struct Review {
    /// The refusal.
    pub refusal: Refusal,
    /// Nothing where it is not known whom to ask about.
    pub told: Option<Told>,
    /// Whether it would be refused now, and should be.
    pub now: Now,
    /// The boolean of the policy that governs what SELinux denied, where one does.
    pub switch: Option<Boolean>,
}

/// Puts what somebody has to look at first, then what was refused most often.
pub fn worst_first(reviews: &mut [Review]) {
    reviews.sort_by_key(|review| (review.now, std::cmp::Reverse(review.refusal.count)));
}

/// The denials that are no matter of files whose paths are known.
#[must_use]
pub fn no_files(host: &Host, refusals: &Refusals) -> Vec<NoFile> {
    let others = refusals.others.iter().map(|other| {
        let what = &other.what;
        let switch = governing(host, &what.permission, &what.class, &what.type_name);
        NoFile { other: other.clone(), advice: advice(other, switch.as_ref()), switch }
    });
    others.collect()
}

/// The boolean that governs what SELinux denied of a path, where it was denied and one does.
#[must_use]
pub fn switch_of(host: &Host, refusals: &Refusals, refusal: &Refusal) -> Option<Boolean> {
    let what = refusals.of_files.get(&(refusal.path.clone(), refusal.by))?;
    governing(host, &what.permission, &what.class, &what.type_name)
}
