//! Change sets for people.

use std::io::{self, Write};

use ambrik_core::change::{ChangeSet, deployments};
use jiff::tz::TimeZone;

use super::number;
use super::table::{FAINT, ODD, styled, table, write};

pub(crate) fn render(all: &[ChangeSet], site: Option<&str>, out: &mut dyn Write) -> io::Result<()> {
    let sets: Vec<&ChangeSet> = all.iter().filter(|set| site.is_none_or(|site| set.site == site)).collect();
    if sets.is_empty() {
        return writeln!(out, "nothing has been changed yet");
    }
    let stories = deployments(all);
    let mut rows = table(&["id", "when", "site", "command", "changed", "removed", "failed", "deployment", "state"]);
    for &set in &sets {
        let when = set.begun.to_zoned(TimeZone::system()).strftime("%Y-%m-%d %H:%M").to_string();
        let command = set.undoes.map_or_else(|| set.command.to_string(), |id| format!("undo {id}"));
        let count = |n: i64| number(n.unsigned_abs());
        rows.add_row(vec![
            set.id.to_string(),
            when,
            set.site.clone(),
            command,
            match set.recorded {
                0 => count(set.done - set.removed.min(set.done)),
                recorded => format!("up to {}", count(recorded)),
            },
            count(set.removed),
            count(set.failed),
            stories.get(&set.id).map(|began| format!("since {began}")).unwrap_or_default(),
            state(set),
        ]);
    }
    write(&mut rows, &[0, 4, 5, 6], "", out)?;
    let newest = sets.iter().filter(|set| set.undone_by.is_none()).find_map(|set| stories.get(&set.id));
    match newest {
        Some(began) => {
            let line = format!("a whole deployment is taken back by: ambrik undo --since {began}");
            writeln!(out, "\n{}", styled(FAINT, &line))
        }
        None => Ok(()),
    }
}

fn state(set: &ChangeSet) -> String {
    let word = state_word(set);
    let is_odd = set.undone_by.is_none() && (set.ended.is_none() || set.failed > 0);
    if is_odd { styled(ODD, &word) } else { word }
}

/// What became of a change set.
pub(super) fn state_word(set: &ChangeSet) -> String {
    match (set.undone_by, set.ended) {
        (Some(by), _) => format!("taken back by {by}"),
        (None, None) => "stopped in the middle".into(),
        (None, Some(_)) if set.failed > 0 => "done in part".into(),
        (None, Some(_)) => "done".into(),
    }
}
